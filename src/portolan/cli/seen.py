"""`portolan explain --seen`: something else is seen than the estate says; which belief is wrong, and what to look at next."""

import argparse
from typing import TYPE_CHECKING

from portolan.cli.asking import asked
from portolan.cli.errors import UsageError
from portolan.cli.streams import complain
from portolan.cli.terminal import put, style_of
from portolan.estate.vantage import Vantage
from portolan.journey.question import UnknownPlaceError, place, question
from portolan.observing.next_check import looked_into
from portolan.observing.observation import ContradictionError, Seen, UnknownSeenError, agreed, read
from portolan.observing.suspects import Checked, most_tried
from portolan.source.nearest import did_you_mean
from portolan.source.plain import one_line
from portolan.views.results import Doubted

if TYPE_CHECKING:
    from portolan.cli.question import Ready
    from portolan.journey.world import World

_EVERY = 1_000_000


def explained_as_seen(arguments: argparse.Namespace, about: "Ready") -> int:
    """Tells what may be wrong; 0 where the estate says what is seen, else 1. Raises UsageError."""
    if arguments.url is None:
        raise UsageError("--seen is about one address", "Name the URL that it was seen at.")
    if not arguments.seen:
        raise UsageError("--checked goes with --seen", "Say what is seen, too: --seen PLACE=WHAT.")
    if arguments.format == "patch" or arguments.zoom is not None or arguments.by_hand:
        raise UsageError(
            "what is seen is no remedy and no way", "Leave --zoom, --by-hand and --format patch out; 'follow' has them."
        )
    checked = [_checked(text) for text in arguments.checked]
    most = _EVERY if arguments.thorough else None
    result = doubted(about, arguments.url, arguments.seen, arguments.vantage, checked, most)
    put("doubt", arguments.format, result, style_of(arguments))
    return 0 if result.doubt.agrees else 1


def doubted(
    about: "Ready", url: str, seen: list[str], usual: str | None, checked: list[Checked], most: int | None = None
) -> Doubted:
    """What may be wrong for what is seen, each as PLACE=WHAT or from the `usual` place. Raises UsageError."""
    _refuse_unknown(about, checked)
    world, told = _told(seen, usual, about.world)
    with asked():
        one = question(world, url, next(iter(told)).name)
        most = most or most_tried(world.estate)
        found, following = looked_into(world, one.url, told, about.apply, most, checked)
    for each in one.assumed:
        complain(f"note: {one_line(each, 400)}")
    return Doubted(found, following)


def _told(every: list[str], usual: str | None, world: "World") -> "tuple[World, dict[Vantage, tuple[Seen, ...]]]":
    """What is seen from where, and the world with everybody in it. Raises UsageError."""
    held: dict[Vantage, tuple[Seen, ...]] = {}
    for text in every:
        where, sign, what = text.partition("=")
        if not sign:
            where, what = "", text
        try:
            seen = read(what)
            world, vantage, assumed = place(world, where.strip() or usual)
        except (UnknownSeenError, UnknownPlaceError) as error:
            raise UsageError(f"--seen: {error}", error.hint) from None
        for each in assumed:
            complain(f"note: {one_line(each, 400)}")
        held[vantage] = (*held.get(vantage, ()), seen)
    for vantage, all_seen in held.items():
        try:
            agreed(vantage.name, all_seen)
        except ContradictionError as error:
            raise UsageError(f"--seen: {error}", "Leave one of them out.") from None
    # A place that came later may have made the world anew.
    return world, {world.there(vantage): all_seen for vantage, all_seen in held.items()}


def _checked(text: str) -> Checked:
    """What was looked at, and whether it is right. Raises UsageError."""
    name, _, verdict = text.rpartition("=")
    if not name or verdict not in ("right", "wrong"):
        message = f"--checked: '{one_line(text)}' does not say what was found"
        raise UsageError(message, "Write OBJECT=right or OBJECT=wrong.")
    return name, verdict == "right"


def _refuse_unknown(about: "Ready", checked: list[Checked]) -> None:
    """What is said of an object that nobody wrote changes nothing. Raises UsageError."""
    from portolan.observing.objects import is_object, objects

    for name, _ in checked:
        if not is_object(about.loaded.estate, name):
            hint = did_you_mean(name, objects(about.loaded.estate)) or "Name it as the suspects are named."
            raise UsageError(f"--checked: nothing here is called '{one_line(name)}'", hint)
