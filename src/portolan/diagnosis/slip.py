"""The fault that no recogniser knows: something written is near to what would make everything come true."""

from collections.abc import Iterator

from portolan.diagnosis.base import Case, Finding, fault
from portolan.diagnosis.proposal import Proposal, remedy
from portolan.source.place import Place

CODE = "differs-by-a-slip"


def slip(wrong: str, place: Place | None) -> Finding:
    """The finding for a change that was found by trying what might have been meant (repair.py)."""
    return Finding(CODE, wrong, place)


@fault(
    CODE,
    "What is written is near to what would make everything come true",
    "Anything but what was expected: whatever the slip leads to.",
    "Compare the line that is named with the machine itself, or with whoever gave you the value. It was found by trying what "
    "might have been meant (a digit, a letter, a neighbour's value, a line too much or too few) and asking everything again; "
    "what would explain it as well is listed beside it.",
)
def recognise_slip(_case: Case) -> Finding | None:
    """Nothing shows it by itself: it is found by the search for the smallest change."""
    return None


@remedy(CODE)
def correct(_case: Case, clue: object) -> Iterator[Proposal]:  # noqa: ARG001
    """Its remedy is the change by which it was found."""
    yield from ()
