"""Outcomes in words; the same words in every view."""

from portolan.estate.client import SWITCHING
from portolan.evidence.outcome import Outcome

_DETAILS = {
    "no-such-name": "no such name",
    "no-address": "the name has no address",
    "resolver-failure": "the resolver fails",
    "resolver-timeout": "the resolver does not answer",
    "refused": "connection refused",
    "timed-out": "no answer; it hangs until it times out",
    "unreachable": "unreachable",
    "reset": "connection reset",
    "stalled": "the connection opens, then nothing comes; it hangs until it times out",
    "cut-off": "the connection opens, then it is reset",
    "no-target": "a redirect without target",
    "not-tls": "no TLS is spoken there",
    "name-mismatch": "the certificate does not cover the name",
    "expired": "the certificate has expired",
    "not-yet-valid": "the certificate is not yet valid",
    "self-signed": "the certificate is signed by itself",
    "unknown-issuer": "the certificate's issuer is not trusted",
    "incomplete-chain": "the certificate's chain is incomplete",
    "other": "the secure connection fails",
    "loop": "redirects without end",
    "too-many": "too many redirects",
    "bad-target": "a redirect that leads nowhere",
    "empty": "an empty answer",
    "garbled": "an answer that is no HTTP",
    "broken-off": "the answer begins and breaks off",
}

STATUS = {
    101: "Switching Protocols",
    200: "OK",
    400: "Bad Request",
    401: "Unauthorized",
    403: "Forbidden",
    404: "Not Found",
    405: "Method Not Allowed",
    410: "Gone",
    421: "Misdirected Request",
    426: "Upgrade Required",
    500: "Internal Server Error",
    502: "Bad Gateway",
    503: "Service Unavailable",
    504: "Gateway Timeout",
}


def counted(number: int, word: str) -> str:
    """A number with its noun."""
    return f"{number:,} {word}" if number == 1 else f"{number:,} {word}s"


def detail_words(kind: str, detail: str | None) -> str:
    """An outcome without a page, in one phrase."""
    if kind == "name-error" and detail == "refused":
        return "the resolver refuses"
    if kind == "name-error" and detail is None:
        return "the name cannot be resolved"
    return _DETAILS.get(detail or "", detail or kind)


def in_words(outcome: Outcome) -> str:
    """What the visitor gets, in one phrase."""
    if outcome.kind == "served":
        if outcome.status == SWITCHING:
            return f"a websocket ({outcome.status}, {'secure' if outcome.secure else 'not secure'})"
        what = f"the page {outcome.page}" if outcome.page is not None else "an answer"
        return f"{what} ({outcome.status}, {'secure' if outcome.secure else 'not secure'})"
    if outcome.kind == "http-error":
        words = STATUS.get(outcome.status or 0, "")
        return f"status {outcome.status}{' ' + words if words else ''}, from {outcome.detail}"
    return detail_words(outcome.kind, outcome.detail)
