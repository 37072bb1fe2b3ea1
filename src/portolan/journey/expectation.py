"""Expectations: what was expected for a URL and a vantage, and whether a visit meets it."""

from collections.abc import Iterator
from enum import StrEnum

from portolan.estate.estate import Estate
from portolan.estate.places import INTERNET
from portolan.estate.url import BadUrlError, Url, parse
from portolan.estate.vantage import Expectation, Vantage
from portolan.evidence.outcome import Kind
from portolan.journey.visit import Visit
from portolan.source.value import Value

#: Ends at which somebody answered.
_ANSWERED = (Kind.SERVED, Kind.HTTP_ERROR)


def expectation_for(estate: Estate, url: str, vantage: Vantage) -> Expectation | None:
    """The first expectation about a URL from a vantage."""
    wanted = str(parse(url))
    for expectation in estate.expected:
        if expectation.is_for(vantage.name) and _whole(expectation.url) == wanted:
            return expectation
    return None


def expected_urls(estate: Estate) -> Iterator[tuple[Expectation, Url]]:
    """Every expectation with its URL read; nothing of those whose URL is none."""
    for expectation in estate.expected:
        try:
            yield expectation, parse(expectation.url)
        except BadUrlError:
            continue


def vantages_for(estate: Estate, expectation: Expectation) -> list[Vantage]:
    """The vantages that an expectation is for: those that it names, else all that are written, else the internet."""
    every = [vantage for name, vantage in estate.vantages.items() if expectation.is_for(name)]
    if expectation.vantages:
        return every
    return [each for each in every if each.written] or [each for each in every if each.name == INTERNET]


class Missed(StrEnum):
    """In which way an expectation is missed."""

    NO_PAGE = "no-page"
    STATUS = "status"
    PAGE = "page"
    FINAL = "final"
    SECURE = "secure"


class Miss(Value, frozen=True):
    """One thing that is not as expected, and a sentence about it."""

    what: Missed
    text: str


def misses(expectation: Expectation | None, visit: Visit) -> tuple[Miss, ...]:
    """What is not as expected; without an expectation, that there is no page."""
    outcome = visit.outcome
    found = []
    if expectation is None or expectation.status is None:
        if outcome.kind is not Kind.SERVED:
            found.append(Miss(Missed.NO_PAGE, "no page came"))
    elif outcome.status != expectation.status or outcome.kind not in _ANSWERED:
        found.append(Miss(Missed.STATUS, f"status {expectation.status} was expected"))
    if expectation is None:
        return tuple(found)
    bare = expectation.page is None and expectation.status is None and expectation.final is None
    if bare and visit.meant is not None and outcome.kind is Kind.SERVED:
        # A page is expected of the name, and somebody has that name.
        found.append(Miss(Missed.PAGE, f"a page of {visit.meant} was expected, which has the name"))
    if expectation.page is not None and not _same_page(expectation.page, outcome.page):
        found.append(Miss(Missed.PAGE, f"the page {expectation.page} was expected"))
    if expectation.final is not None and outcome.final_url != _whole(expectation.final):
        found.append(Miss(Missed.FINAL, f"the final address {expectation.final} was expected"))
    if expectation.secure is not None and outcome.kind in _ANSWERED and outcome.secure != expectation.secure:
        kind = "a secure" if expectation.secure else "a plain"
        found.append(Miss(Missed.SECURE, f"{kind} connection was expected"))
    return tuple(found)


def _same_page(expected: str, got: str | None) -> bool:
    if got is None:
        return False
    return expected == got or ("/" not in expected.rstrip("/") and got.partition("/")[0] == expected.rstrip("/"))


def _whole(url: str) -> str | None:
    """An expected address as addresses are compared; None where it is none, and nobody ends there."""
    try:
        return str(parse(url))
    except BadUrlError:
        return None
