"""Asks every expectation of an estate from every vantage that it is for, and groups those that are missed by their first cause."""

from portolan.diagnosis.base import Case, Finding
from portolan.diagnosis.registry import recognise
from portolan.diagnosis.search import explain
from portolan.diagnosis.smallest import MOST_IN_CHECK
from portolan.diagnosis.trial import Apply
from portolan.estate.estate import Estate
from portolan.estate.url import BadUrlError
from portolan.estate.vantage import Expectation, Vantage
from portolan.journey.expectation import Miss, misses, vantages_for
from portolan.journey.turns import Turn, missed_turns
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.value import Value

#: How many questions are asked; a larger estate's are taken from all over it, always the same ones.
MOST_QUESTIONS = 2000
#: For so many groups, in estates of so many questions, the cause is proven by mending it; else it is the first that fits.
_MOST_PROVEN, _SMALL = 8, 300


class Missed(Value, frozen=True):
    """An expectation that is missed from a vantage."""

    expectation: Expectation
    vantage: Vantage
    visit: Visit
    misses: tuple[Miss, ...]
    #: Where that is so at one of several addresses of the name only.
    turn: Turn | None = None


class Group(Value, frozen=True):
    """Missed expectations with one first cause; None where no known fault explains them."""

    cause: Finding | None
    missed: tuple[Missed, ...]


class Answers(Value, frozen=True):
    """How many questions were asked and left out, and what is broken."""

    asked: int
    left: int
    groups: tuple[Group, ...]


def questions(estate: Estate) -> tuple[list[tuple[Expectation, Vantage]], int]:
    """Every expectation with every vantage that it is for, and how many of those are left out."""
    every = [(expectation, vantage) for expectation in estate.expected for vantage in vantages_for(estate, expectation)]
    if len(every) <= MOST_QUESTIONS:
        return every, 0
    chosen = [every[number * len(every) // MOST_QUESTIONS] for number in range(MOST_QUESTIONS)]
    return chosen, len(every) - len(chosen)


def missed_at(world: World, expectation: Expectation, vantage: Vantage) -> tuple[Visit, list[Missed]]:
    """What comes from a vantage, and in which ways it misses what is expected: always, or when it is another's turn. Raises BadUrlError."""
    found = visit(world, expectation.url, vantage)
    missing = misses(expectation, found)
    missed = [Missed(expectation, vantage, found, missing)] if missing else []
    for turn in missed_turns(world, found, expectation):
        missed.append(Missed(expectation, turn.visit.vantage, turn.visit, turn.misses, turn))
    return found, missed


def answers(world: World, apply: Apply) -> Answers:
    """Asks them all."""
    chosen, left = questions(world.estate)
    missed = []
    for expectation, vantage in chosen:
        try:
            missed += missed_at(world, expectation, vantage)[1]
        except BadUrlError:
            continue  # a finding of its own says that no client would ask for it
    return Answers(len(chosen), left, _grouped(world, missed, apply, len(chosen) <= _SMALL))


def _grouped(world: World, missed: list[Missed], apply: Apply, small: bool) -> tuple[Group, ...]:
    groups: dict[tuple[str, str], tuple[Finding | None, list[Missed]]] = {}
    for each in missed:
        cause = next(iter(recognise(Case(world, each.visit, each.expectation))), None)
        groups.setdefault(_key(cause, each), (cause, []))[1].append(each)
    if not small or len(groups) > _MOST_PROVEN:
        return tuple(Group(cause, tuple(held)) for cause, held in groups.values())
    proven: dict[tuple[str, str], tuple[Finding | None, list[Missed]]] = {}
    for cause, held in groups.values():
        first = held[0]
        causes = explain(world, first.expectation.url, first.vantage, apply, MOST_IN_CHECK).causes
        better = causes[0] if causes else cause
        proven.setdefault(_key(better, first), (better, []))[1].extend(held)
    return tuple(Group(cause, tuple(held)) for cause, held in proven.values())


def _key(cause: Finding | None, missed: Missed) -> tuple[str, str]:
    if cause is not None:
        return cause.code, cause.object
    stop = missed.visit.stop
    return "", stop.text if stop is not None else missed.misses[0].text
