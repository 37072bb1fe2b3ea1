"""Faults that are the visitor's own memory: what explains a visit by what was, before anything that is set."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, fault, supposing
from portolan.diagnosis.proposal import Proposal, remedy, remove
from portolan.estate.vantage import Vantage
from portolan.evidence.kinds import http as http_kinds


class MemoryClue(msgspec.Struct, frozen=True):
    """The visitor, and the key that says what is remembered."""

    vantage: Vantage
    key: str


@fault(
    "redirect-remembered",
    "A permanent redirect is remembered that no longer exists",
    "the old place, for those who came before",
    "Let the visitor forget it; let the place that it leads to send back what it gets, by a redirect that is not permanent.",
    "*",
    "wrong-page",
    "wrong-final",
    "not-secure",
)
def remembered(case: Case) -> Finding | None:
    """Without that memory the visitor would get what was expected."""
    step = next((each for each in case.visit.decisions if isinstance(each, http_kinds.RedirectRemembered)), None)
    vantage = case.visit.vantage
    if step is None or not without(case, remembers_redirects={}):
        return None
    return Finding(
        "redirect-remembered", step.text, step.place, clue=MemoryClue(vantage=vantage, key="remembers_redirects")
    )


def without(case: Case, **facts: object) -> bool:
    """Whether the expectation would be met by a visitor that remembers less."""
    fresh = msgspec.structs.replace(case.visit.vantage, **facts)
    return supposing(case, msgspec.structs.replace(case.estate, vantages={**case.estate.vantages, fresh.name: fresh}))


@remedy("redirect-remembered", "transport-strict-trap")
def forget(_case: Case, clue: MemoryClue) -> Iterator[Proposal]:
    """Clears the visitor's memory, which only the visitor can."""
    yield Proposal(
        f"let {clue.vantage.name} forget what it remembers (clear the browser's cache)",
        remove((*clue.vantage.place.path, clue.key)),
        thought=True,
    )
    if clue.key == "strict":
        yield Proposal(
            "or give the name a secure address that works: for everybody else who remembers, nothing else helps", []
        )
