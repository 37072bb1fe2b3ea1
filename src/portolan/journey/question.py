"""A question: an address as somebody types it, and the place that it is asked from; the same for every command and for programs."""

import re

from portolan.estate.places import INTERNET, anybody, unwritten, unwritten_names
from portolan.estate.vantage import Expectation, Vantage
from portolan.journey.expectation import expectation_for
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.nearest import did_you_mean
from portolan.source.plain import one_line
from portolan.source.value import Value

_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*:(?!\d)")


class UnknownPlaceError(LookupError):
    """A place that is neither written nor one of those that nobody has to write; `hint` says what is near."""

    def __init__(self, name: str, hint: str) -> None:
        super().__init__(f"no place to ask from is named '{one_line(name)}'")
        self.hint = hint


class Question(Value, frozen=True):
    """A URL, who asks for it in which world, and what is expected; `assumed` says what nobody said of it."""

    world: World
    url: str
    vantage: Vantage
    expectation: Expectation | None
    assumed: tuple[str, ...] = ()

    def answer(self) -> Visit:
        """What the visitor gets."""
        return visit(self.world, self.url, self.vantage)


def question(world: World, text: str, name: str | None = None) -> Question:
    """A question in a world. Raises BadUrlError and UnknownPlaceError."""
    world, vantage, where = place(world, name)
    url, how = typed(text, vantage)
    return Question(world, url, vantage, expectation_for(world.estate, url, vantage), (*where, *how))


def place(world: World, name: str | None) -> tuple[World, Vantage, tuple[str, ...]]:
    """The place of a name, the world with it in, and what is assumed: with no name the default, the only one that is written, else the internet."""
    written = {key: each for key, each in world.estate.vantages.items() if each.written}
    if name is None:
        chosen = [each for each in written.values() if each.default] or list(written.values())
        if len(chosen) == 1:
            return world, chosen[0], ()
        others = f"; written are {', '.join(list(written)[:12])}" if written else ""
        assumed = (f"asked from {INTERNET}, since nobody says from where{others}",)
        return *_standing(world, anybody()), assumed
    found = world.estate.vantages.get(name) or unwritten(world.stated, name)
    if found is None:
        known = [*written, *unwritten_names(world.stated)]
        raise UnknownPlaceError(name, did_you_mean(name, known) or f"Known here: {', '.join(known[:12])}.")
    return *_standing(world, found), ()


def _standing(world: World, vantage: Vantage) -> tuple[World, Vantage]:
    """The world with somebody in it who asks."""
    held = world.estate.vantages.get(vantage.name)
    return (world, held) if held is not None else (world.with_vantages(vantage), vantage)


def typed(text: str, vantage: Vantage) -> tuple[str, tuple[str, ...]]:
    """An address as the visitor's client takes it: with no scheme curl asks plainly, a browser securely first."""
    bare = text.strip()
    if not bare or "://" in bare or bare.startswith("/") or _SCHEME.match(bare):
        return text, ()
    scheme, who = ("https", "browsers ask first") if vantage.like == "chromium" else ("http", "curl asks")
    return f"{scheme}://{bare}", (f"no scheme is given; {scheme}:// is what {who}",)
