"""Promises: what was promised for a URL and a vantage, and whether a visit keeps it."""

from portolan.estate.estate import Estate
from portolan.estate.url import BadUrlError, parse
from portolan.estate.vantage import Promise, Vantage
from portolan.journey.visit import Visit


def promise_for(estate: Estate, url: str, vantage: Vantage) -> Promise | None:
    """The first promise about a URL from a vantage."""
    wanted = str(parse(url))
    for promise in estate.promises:
        if promise.vantages and vantage.name not in promise.vantages:
            continue
        if _whole(promise.url) == wanted:
            return promise
    return None


def vantages_for(estate: Estate, promise: Promise) -> list[Vantage]:
    """The vantages that a promise is for: those that it names, else all."""
    return [vantage for name, vantage in estate.vantages.items() if not promise.vantages or name in promise.vantages]


def breaches(promise: Promise | None, visit: Visit) -> tuple[str, ...]:
    """What of the promise is not kept, in words; without a promise, that there is no page."""
    outcome = visit.outcome
    found = []
    if promise is None or promise.status is None:
        if outcome.kind != "served":
            found.append("no page came")
    elif outcome.status != promise.status or outcome.kind not in ("served", "http-error"):
        found.append(f"status {promise.status} was promised")
    if promise is None:
        return tuple(found)
    if promise.page is not None and not _same_page(promise.page, outcome.page):
        found.append(f"the page {promise.page} was promised")
    if promise.final is not None and (outcome.final_url is None or outcome.final_url != _whole(promise.final)):
        found.append(f"the final address {promise.final} was promised")
    if promise.secure is not None and outcome.kind in ("served", "http-error") and outcome.secure != promise.secure:
        found.append(f"{'a secure' if promise.secure else 'a plain'} connection was promised")
    return tuple(found)


def _same_page(promised: str, got: str | None) -> bool:
    if got is None:
        return False
    return promised == got or ("/" not in promised.rstrip("/") and got.partition("/")[0] == promised.rstrip("/"))


def _whole(url: str) -> str | None:
    """A promised address as addresses are compared; None where it is none, and nobody ends there."""
    try:
        return str(parse(url))
    except BadUrlError:
        return None
