"""Other versions of a thing, one mechanism for all objects: before a moment, saved and not in force, after a boot."""

from collections.abc import Iterator
from datetime import datetime
from typing import Annotated, Any

import msgspec

from portolan.estate.base import Stated, says


class Otherwise(Stated, frozen=True, kw_only=True, eq=False):
    """Some of an object's facts as they are in another version of it; `facts` holds them by field, `owner` its type."""

    facts: dict[str, Any] = {}
    owner: type[Stated] = Stated


class Earlier(Otherwise, frozen=True, kw_only=True, eq=False):
    """What an object was before a change: any of its keys, with what they were."""

    until: Annotated[datetime, says("When it was changed, as an RFC 3339 time.")]


class Saved(Otherwise, frozen=True, kw_only=True, eq=False):
    """What is saved and not in force: any of the object's keys; a reload or the next boot takes it."""

    broken: Annotated[
        str | None,
        says(
            "Why it does not load, as the program's own test says. A reload keeps the old one; the next boot has none.",
            example="unknown directive in line 12",
            kind="prose",
        ),
    ] = None


class AfterBoot(Otherwise, frozen=True, kw_only=True, eq=False):
    """What the next boot makes of an object, beside taking what is saved: any of its keys."""


class Changing(Stated, frozen=True, kw_only=True, eq=False):
    """What an object has that may be otherwise at another moment."""

    before: Annotated[
        tuple[Earlier, ...],
        says("What it was before changes, the latest change first: `until` with any of the keys here."),
    ] = ()
    saved: Annotated[
        Saved | None,
        says(
            "What is saved and not yet in force: any of the keys here, and `broken` where it does not load. Left out: what "
            "is saved is in force."
        ),
    ] = None
    after_boot: Annotated[
        AfterBoot | None,
        says("What the next boot makes otherwise: any of the keys here. Left out: as saved, else as now."),
    ] = None


#: The keys that say other versions; they stand at the object, never inside another version of it.
VERSIONS = ("before", "saved", "after_boot")


def next_boot_says(value: Changing, fact: str) -> Otherwise | None:
    """The version that says a fact for the next boot: what the boot makes otherwise, else what is saved."""
    return next((each for each in (value.after_boot, value.saved) if each is not None and fact in each.facts), None)


def with_facts(value: Any, facts: dict[str, Any]) -> Any:
    """An object with some facts otherwise; itself without any."""
    return msgspec.structs.replace(value, **facts) if facts else value


def at(value: Any, moment: datetime) -> Any:
    """An object as it stood at a moment: the earliest version that had not ended by then, else as it is."""
    for earlier in reversed(value.before):
        if moment < earlier.until:
            return with_facts(value, earlier.facts)
    return value


def reloaded(value: Any) -> Any:
    """An object after it took what is saved; itself where that does not load, or is in force."""
    saved = value.saved
    return value if saved is None or saved.broken is not None else with_facts(value, {**saved.facts, "saved": None})


def booted(value: Any) -> Any:
    """An object after a boot: with what is saved, and what the boot makes otherwise."""
    taken = reloaded(value)
    return taken if taken.after_boot is None else with_facts(taken, {**taken.after_boot.facts, "after_boot": None})


def others(value: Changing) -> list[Otherwise]:
    """Every other version of an object."""
    return [each for each in (*value.before, value.saved, value.after_boot) if each is not None]


def parts_of(value: Stated) -> Iterator[Stated]:
    """The stated values directly below one, other versions of it included."""
    fields = value.__struct_fields__
    held = value.facts.values() if isinstance(value, Otherwise) else [getattr(value, each) for each in fields]
    for inner in held:
        # Most of what an object holds is words and numbers, or nothing: they are passed over first.
        if not inner or inner.__class__ is str:
            continue
        if inner.__class__ is dict:
            yield from (each for each in inner.values() if isinstance(each, Stated))
        elif inner.__class__ is tuple:
            if isinstance(inner[0], Stated):
                yield from inner
        elif isinstance(inner, Stated):
            yield inner


def stated_values(value: Stated) -> Iterator[Stated]:
    """Every stated value below and including one, containers first."""
    held = [value]
    while held:
        each = held.pop()
        yield each
        held += [*parts_of(each)][::-1]
