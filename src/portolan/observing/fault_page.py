"""A fault's page: how one gets there and how it is prevented, the smallest estate that shows it, and how it is seen there by hand."""

from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.formats.yaml_nodes import compose, plain_data
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.observing.by_hand import HandCheck, by_hand
from portolan.source.value import Value


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


class FaultPage(Value, frozen=True):
    """What a fault's file says beside its recogniser."""

    comes: str
    prevent: str
    example: Example | None


def fault_page(name: str, data: bytes) -> FaultPage:
    """A page from its file. Raises EstateError where the file is none."""
    said = plain_data(compose(name, data))
    good, example = said.get("good", ""), None
    if "ask" in said:
        example = _example(said["ask"], said["from"], said["bad"], good)
    elif "bad" in said:
        example = Example("", "", said["bad"], good, None, ())
    return FaultPage(said["comes"], said["prevent"], example)


def _example(url: str, vantage: str, bad: str, good: str) -> Example:
    estate = load(MemoryFiles({"estate.yaml": bad}), "estate.yaml").estate
    assert estate.at is not None
    world = World(estate, estate.at)
    found = visit(world, url, world.estate.vantages[vantage])
    return Example(url, vantage, bad, good, found, _shown_by(world, found))


def _shown_by(world: World, found: Visit) -> tuple[HandCheck, ...]:
    """The checks at which the fault shows: the visitor's last one, and what shows on the machine behind."""
    checks = by_hand(world, found).checks
    visitors = [each for each in checks if not each.inner]
    behind = [each for each in checks if each.inner and each.exchange == len(found.exchanges) - 1]
    return (*visitors[-1:], *behind[:1])
