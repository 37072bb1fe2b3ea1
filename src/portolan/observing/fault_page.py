"""A fault's page: how one gets there and how it is prevented, the smallest estate that shows it, and how it is seen there by hand."""

from portolan.formats.estate_file import Loaded, load
from portolan.formats.files import MemoryFiles
from portolan.formats.yaml_nodes import compose, plain_data
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.observing.by_hand import HandCheck, by_hand
from portolan.source.value import Value


class Beside(Value, frozen=True):
    """A file that an example's estates name: what it holds, in words, and its text."""

    name: str
    holds: str
    text: str


class Example(Value, frozen=True):
    """An estate that shows a fault, what is asked there from where, and the same estate without it; `good` is empty where no change here mends it.

    Where nothing is asked (`visit` is None), `check` finds it.
    """

    url: str
    vantage: str
    bad: str
    good: str
    visit: Visit | None
    checks: tuple[HandCheck, ...]
    files: tuple[Beside, ...] = ()

    def read(self, text: str) -> Loaded:
        """One of its estates, with the files beside it."""
        return load(MemoryFiles({"estate.yaml": text, **{each.name: each.text for each in self.files}}), "estate.yaml")


class FaultPage(Value, frozen=True):
    """What a fault's file says beside its recogniser."""

    comes: str
    prevent: str
    example: Example


def fault_page(name: str, data: bytes) -> FaultPage:
    """A page from its file. Raises EstateError where the file is none."""
    said = plain_data(compose(name, data))
    beside = tuple(Beside(each, held["holds"], held["text"]) for each, held in said.get("files", {}).items())
    example = Example("", "", said["bad"], said.get("good", ""), None, (), beside)
    if "ask" in said:
        example = _asked(example.but(url=said["ask"], vantage=said["from"]))
    return FaultPage(said["comes"], said["prevent"], example)


def _asked(example: Example) -> Example:
    """The same with what its visitor gets, and how that shows by hand."""
    estate = example.read(example.bad).estate
    assert estate.at is not None
    world = World(estate, estate.at)
    found = visit(world, example.url, world.estate.vantages[example.vantage])
    return example.but(visit=found, checks=_shown_by(world, found))


def _shown_by(world: World, found: Visit) -> tuple[HandCheck, ...]:
    """The checks at which the fault shows: the visitor's last one, and what shows on the machine behind."""
    checks = by_hand(world, found).checks
    visitors = [each for each in checks if not each.inner]
    behind = [each for each in checks if each.inner and each.exchange == len(found.exchanges) - 1]
    return (*visitors[-1:], *behind[:1])
