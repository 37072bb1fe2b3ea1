"""What commands hand to the forms of output: finished results, and how much of them is to be shown."""

from datetime import datetime
from typing import TYPE_CHECKING, Any

from portolan.journey.expectation import Miss
from portolan.journey.parts import Part
from portolan.journey.turns import Turn
from portolan.journey.visit import Visit
from portolan.source.value import Value

if TYPE_CHECKING:
    # What failed is shown by values of that room; an answer in which nothing did does not wait for it.
    from portolan.diagnosis.asking import Answers
    from portolan.diagnosis.base import Fault, Finding
    from portolan.diagnosis.ladder import Ladder
    from portolan.diagnosis.renewals import Renewal
    from portolan.diagnosis.trial import Explanation
    from portolan.estate.estate import Estate
    from portolan.observing.by_hand import ByHand
    from portolan.observing.fault_page import FaultPage
    from portolan.observing.next_check import NextCheck
    from portolan.observing.rests_on import RestsOn
    from portolan.observing.suspects import Doubt
    from portolan.probing.plan import Plan
    from portolan.probing.run import Beside, Probed
    from portolan.rehearsal.run import Rehearsed


class Followed(Value, frozen=True):
    """A visit. `every` step is shown, or the main ones; `zoom` is the leg that is drawn large."""

    visit: Visit
    missed: tuple[Miss, ...]
    expected: bool
    findings: "list[Finding]"
    turns: tuple[Turn, ...] = ()
    parts: tuple[Part, ...] = ()
    every: bool = False
    zoom: str | None = None
    by_hand: "ByHand | None" = None
    rests_on: "RestsOn | None" = None


class Checked(Value, frozen=True):
    """What a check found."""

    estate: "Estate"
    at: datetime
    findings: "list[Finding]"
    answers: "Answers"


class Explained(Value, frozen=True):
    """One explanation, with what else was recognised."""

    explanation: "Explanation"
    findings: "list[Finding]"
    every: bool = False
    zoom: str | None = None
    by_hand: "ByHand | None" = None
    #: By the number of a remedy: who else must do it.
    others: "dict[int, tuple[str, ...]] | None" = None


class Doubted(Value, frozen=True):
    """What is seen otherwise than it is written, what may be wrong, and what to look at next."""

    doubt: "Doubt"
    next: "NextCheck | None"


class Probing(Value, frozen=True):
    """What is asked of the real thing, and what came of it, each exchange leg by leg beside what the estate says; None where it is only listed."""

    plan: "Plan"
    predicted: Visit
    found: "Probed | None" = None
    rows: "tuple[tuple[Beside, ...], ...]" = ()
    doubt: Doubted | None = None

    @property
    def differs(self) -> bool:
        """Whether something is seen otherwise than the estate says."""
        off = self.doubt is not None and not self.doubt.doubt.agrees
        return off or any(each.same is False for rows in self.rows for each in rows)


class AllExplained(Value, frozen=True):
    """Several explanations, one a cause."""

    at: datetime
    answers: "Answers"
    explained: tuple[Explained, ...]


class Climbed(Value, frozen=True):
    """A ladder, and the explanation of its first rung that fails."""

    ladder: "Ladder"
    at: datetime
    broken: Explained | None = None


class Renewed(Value, frozen=True):
    """The next renewals."""

    renewals: "tuple[Renewal, ...]"
    at: datetime


class HeldAgainst(Value, frozen=True):
    """A rehearsal; with the evidence of every question, or of those only that disagree."""

    rehearsed: "Rehearsed"
    every: bool = False


class Faults(Value, frozen=True):
    """Faults: a list of all, or the page of one."""

    faults: "tuple[Fault, ...]"
    listed: bool
    page: "FaultPage | None" = None


class Stories(Value, frozen=True):
    """The shipped stories: name, title, URL and vantage of each."""

    stories: tuple[dict[str, Any], ...]
