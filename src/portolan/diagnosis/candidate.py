"""A small change that might have been meant, and what is looked for where such changes are thought of."""

from typing import Any

from portolan.diagnosis.base import Finding
from portolan.diagnosis.proposal import Patch
from portolan.source.place import Place
from portolan.source.value import Value

#: What it costs that something was left out, or stands in the way; of one fact so many slips are tried.
ADDED, TAKEN, MOST_SLIPS = 2.0, 2.4, 8


class Candidate(Value, frozen=True):
    """One small change: where, what, and how far from what is written; in words what is wrong, and what to do."""

    place: Place
    patch: Patch
    cost: float
    wrong: str
    text: str
    #: The recogniser's, whose proposal it is.
    finding: Finding | None = None
    #: Whether it is thought of only where it mends by itself: no way leads on from it.
    alone: bool = False


class Wanted(Value, frozen=True):
    """What the questions that are missed ask for: host names, and ports with whether they are secure; first of all those `missed`."""

    hosts: tuple[str, ...]
    ports: tuple[tuple[int, bool], ...]
    #: The ports of the addresses that are missed, and of those asked behind them, in order.
    missed: tuple[int, ...]
    #: Where the programs listen that give the pages which are expected: the machine, and the URL.
    homes: tuple[tuple[str, str], ...]
    #: What was looked for and found nowhere: addresses and names.
    absent: frozenset[str]
    #: Where the site stands that answered the visitor, and the redirect by which it would send to what is expected elsewhere.
    answered: tuple[str | int, ...]
    sends: dict[str, Any] | None
    #: Where the end of the visit rests directly: on who asked last and how, who answered, what stopped it.
    end: frozenset[tuple[str | int, ...]] = frozenset()
