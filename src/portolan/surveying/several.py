"""One address from several places, side by side; where it is met from one and missed from another, what differs between the two ways."""

from collections.abc import Iterable

from portolan.estate.places import INTERNET
from portolan.estate.vantage import Vantage
from portolan.journey.expectation import Miss, misses
from portolan.journey.question import Question, question
from portolan.journey.visit import Visit
from portolan.journey.world import World
from portolan.source.value import Value
from portolan.surveying.places import SideBySide, side_by_side


class There(Value, frozen=True):
    """What comes at one place, and what of it is not as expected."""

    visit: Visit
    missed: tuple[Miss, ...]
    expected: bool

    @property
    def vantage(self) -> Vantage:
        """Who asked."""
        return self.visit.vantage


class Several(Value, frozen=True):
    """An address from several places; `parting` holds one that is met beside one that is missed."""

    url: str
    world: World
    places: tuple[There, ...]
    parting: SideBySide | None

    @property
    def missed(self) -> bool:
        """Whether it is missed from any of them."""
        return any(each.missed for each in self.places)


def every_place(world: World) -> tuple[str, ...]:
    """The names that `all` stands for: all that are written, and the internet."""
    written = [name for name, each in world.estate.vantages.items() if each.written]
    return (*written, *(() if INTERNET in written else (INTERNET,)))


def several(world: World, url: str, names: Iterable[str]) -> Several:
    """What comes of an address at each of several places. Raises BadUrlError and UnknownPlaceError."""
    asked: list[tuple[Question, There]] = []
    for name in dict.fromkeys(names):
        one = question(world, url, name)
        found = one.answer()
        asked.append((one, There(found, misses(one.expectation, found), one.expectation is not None)))
    met = next((one for one, there in asked if not there.missed), None)
    lost = next((one for one, there in asked if there.missed), None)
    parting = side_by_side(met, lost) if met is not None and lost is not None else None
    return Several(url, world, tuple(there for _, there in asked), parting)
