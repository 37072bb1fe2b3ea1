"""Expectations: what was expected for a URL and a vantage, and whether a visit meets it."""

from portolan.estate.estate import Estate
from portolan.estate.url import BadUrlError, parse
from portolan.estate.vantage import Expectation, Vantage
from portolan.journey.visit import Visit


def expectation_for(estate: Estate, url: str, vantage: Vantage) -> Expectation | None:
    """The first expectation about a URL from a vantage."""
    wanted = str(parse(url))
    for expectation in estate.expected:
        if expectation.vantages and vantage.name not in expectation.vantages:
            continue
        if _whole(expectation.url) == wanted:
            return expectation
    return None


def vantages_for(estate: Estate, expectation: Expectation) -> list[Vantage]:
    """The vantages that an expectation is for: those that it names, else all."""
    return [
        vantage for name, vantage in estate.vantages.items() if not expectation.vantages or name in expectation.vantages
    ]


def misses(expectation: Expectation | None, visit: Visit) -> tuple[str, ...]:
    """What of the expectation is not met, in words; without an expectation, that there is no page."""
    outcome = visit.outcome
    found = []
    if expectation is None or expectation.status is None:
        if outcome.kind != "served":
            found.append("no page came")
    elif outcome.status != expectation.status or outcome.kind not in ("served", "http-error"):
        found.append(f"status {expectation.status} was expected")
    if expectation is None:
        return tuple(found)
    if expectation.page is not None and not _same_page(expectation.page, outcome.page):
        found.append(f"the page {expectation.page} was expected")
    if expectation.final is not None and (outcome.final_url is None or outcome.final_url != _whole(expectation.final)):
        found.append(f"the final address {expectation.final} was expected")
    if (
        expectation.secure is not None
        and outcome.kind in ("served", "http-error")
        and outcome.secure != expectation.secure
    ):
        found.append(f"{'a secure' if expectation.secure else 'a plain'} connection was expected")
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
