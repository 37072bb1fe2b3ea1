"""On what a working answer hangs alone: each fact that it rests on is taken away in turn. What must not be touched tonight."""

from portolan.diagnosis.trial import Apply, Trial
from portolan.evidence.outcome import Outcome
from portolan.journey.expectation import misses
from portolan.journey.question import Question
from portolan.journey.visit import Visit
from portolan.observing.ways import ways_under
from portolan.source.place import Place
from portolan.source.value import Value


class Hold(Value, frozen=True):
    """A fact on which the answer hangs: without it the visitor gets `outcome`."""

    fact: Place
    outcome: Outcome


class RestsOn(Value, frozen=True):
    """An answer, and what it hangs on, in the order of the way; `tried` facts were taken away."""

    visit: Visit
    holds: tuple[Hold, ...]
    tried: int


def rests_on(asked: Question, found: Visit, apply: Apply) -> RestsOn:
    """What a visit that is met hangs on alone; of one that is missed, nothing."""
    if misses(asked.expectation, found):
        return RestsOn(found, (), 0)
    trial = Trial(asked.world, asked.url, asked.vantage, apply)
    tried, holds = 0, dict[tuple[object, ...], Hold]()
    for way in ways_under(asked.world, found, asked.expectation)[0]:
        key = (way.belief.path, way.belief.span)
        if key in holds or not _takes_away(way.patch, way.belief):
            continue
        tried += 1
        made = trial.changed(way.patch)
        if made is not None and misses(asked.expectation, made[1]):
            holds[key] = Hold(way.belief, made[1].outcome)
    # Where one of a list is needed, the list as a whole says nothing more.
    inner = {each.fact.path[:end] for each in holds.values() for end in range(1, len(each.fact.path))}
    order = _order(found)
    told = sorted(
        (each for each in holds.values() if each.fact.path not in inner), key=lambda each: _rank(each.fact, order)
    )
    return RestsOn(found, tuple(told), tried)


def _takes_away(patch: list[dict[str, object]], belief: Place) -> bool:
    """Whether a change takes the fact away as a whole."""
    step = patch[0]
    if len(patch) != 1:
        return False
    if step["op"] == "remove":
        return str(step["path"]) == belief.pointer
    return step["op"] == "add" and str(step["path"]).rstrip("-/0123456789").endswith("/without")


def _order(found: Visit) -> dict[tuple[object, ...], int]:
    """When each object is first rested on."""
    order: dict[tuple[object, ...], int] = {}
    for number, decision in enumerate(found.decisions):
        for each in decision.read():
            place = getattr(each, "place", None)
            if isinstance(place, Place):
                for end in range(len(place.path), 1, -1):
                    order.setdefault(place.path[:end], number)
    return order


def _rank(place: Place, order: dict[tuple[object, ...], int]) -> tuple[int, str]:
    ends = range(len(place.path), 1, -1)
    first = next((order[place.path[:end]] for end in ends if place.path[:end] in order), len(order))
    return (first, place.object)
