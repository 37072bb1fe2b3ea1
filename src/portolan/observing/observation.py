"""What somebody saw, as people say it: a status, `time-out`, a browser's or curl's code; and whether an answer is that."""

import re
from collections.abc import Iterable

from portolan.estate.url import BadUrlError, parse
from portolan.evidence.outcome import DETAILS, Detail, Kind, Outcome
from portolan.journey.visit import Visit
from portolan.source.nearest import nearest
from portolan.source.plain import one_line
from portolan.source.value import Value

Ending = tuple[Kind, Detail | None]


class UnknownSeenError(ValueError):
    """Words for what was seen that nobody here knows; `hint` says which are near."""

    def __init__(self, text: str, hint: str) -> None:
        super().__init__(f"'{one_line(text)}' is nothing that is known to be seen")
        self.hint = hint


class ContradictionError(ValueError):
    """Two things that cannot both be seen from one place."""


class Seen(Value, frozen=True):
    """What was seen: how it ended (one of `endings`; any where there are none), and what more is known of it.

    `words` are those that were typed. `page` is a page by name (SITE/PATH); `other` says that it is another page than the expected
    one; `slow` that it took long.
    """

    words: str
    endings: frozenset[Ending] = frozenset()
    status: int | None = None
    page: str | None = None
    other: bool = False
    plain: bool = False
    slow: bool = False
    #: Where it ended, where somebody saw that, and it was sent on.
    final: str = ""

    def fits(self, seen: Visit, predicted: Outcome) -> bool:
        """Whether a visit gives what was seen; `predicted` is what the estate says as it stands."""
        outcome = seen.outcome
        if self.endings and not any(
            kind == outcome.kind and (detail is None or detail == outcome.detail) for kind, detail in self.endings
        ):
            return False
        if self.status is not None and outcome.status != self.status:
            return False
        if self.final and _host(self.final) != _host(outcome.final_url):
            return False
        if self.page is not None and not _same_page(self.page, outcome.page):
            return False
        if self.other and (outcome.kind is not Kind.SERVED or outcome.page == predicted.page):
            return False
        # Who says that it works, where a page should come, means that page: else they would say what else came.
        meant = self.page is None and not self.other and outcome.kind is predicted.kind is Kind.SERVED
        if meant and (Kind.SERVED, None) in self.endings and outcome.page != predicted.page:
            return False
        if self.plain and (outcome.kind is not Kind.SERVED or outcome.secure):
            return False
        return not self.slow or any(
            len(each.attempts) > 1 or any(one.kind == "resolver-silent" for one in each.resolution.decisions)
            for each in seen.tree
        )

    def excludes(self, other: "Seen") -> bool:
        """Whether both cannot be seen by one visitor."""
        if self.endings and other.endings and not any(_agree(a, b) for a in self.endings for b in other.endings):
            return True
        return None not in (self.status, other.status) and self.status != other.status


def _host(text: str) -> str:
    try:
        return parse(text).host
    except BadUrlError:
        return text


def _agree(one: Ending, other: Ending) -> bool:
    return one[0] is other[0] and (one[1] == other[1] or None in (one[1], other[1]))


def _same_page(named: str, got: str | None) -> bool:
    return got is not None and (got == named or got.partition("/")[0] == named.rstrip("/"))


def _of(kind: Kind, *details: Detail) -> frozenset[Ending]:
    return frozenset((kind, each) for each in details) or frozenset({(kind, None)})


_SERVED = _of(Kind.SERVED)
_NO_NAME = _of(Kind.NAME_ERROR)
_TIMED_OUT = _of(Kind.CONNECT_ERROR, Detail.TIMED_OUT, Detail.STALLED)
_REFUSED = _of(Kind.CONNECT_ERROR, Detail.REFUSED)
_UNREACHABLE = _of(Kind.CONNECT_ERROR, Detail.UNREACHABLE)
_RESET = _of(Kind.CONNECT_ERROR, Detail.RESET, Detail.CUT_OFF)
_NO_ANSWER = _REFUSED | _UNREACHABLE | _of(Kind.CONNECT_ERROR, Detail.RESET)
_TLS = _of(Kind.TLS_ERROR)
_ENDLESS = _of(Kind.REDIRECT_ERROR, Detail.LOOP, Detail.TOO_MANY)
_ISSUER = _of(Kind.TLS_ERROR, Detail.SELF_SIGNED, Detail.UNKNOWN_ISSUER, Detail.INCOMPLETE_CHAIN)
_DATE = _of(Kind.TLS_ERROR, Detail.EXPIRED, Detail.NOT_YET_VALID)
_NAME = _of(Kind.TLS_ERROR, Detail.NAME_MISMATCH)
_CERTIFICATE = _ISSUER | _DATE | _NAME | _of(Kind.TLS_ERROR, Detail.OTHER)
_NOT_TLS = _of(Kind.TLS_ERROR, Detail.NOT_TLS)
_VERSION = _of(Kind.TLS_ERROR, Detail.NO_COMMON_VERSION)
_CLIENT = _of(Kind.TLS_ERROR, Detail.CLIENT_CERTIFICATE)
_EMPTY = _of(Kind.PROTOCOL_ERROR, Detail.EMPTY) | _of(Kind.CONNECT_ERROR, Detail.CUT_OFF)
_GARBLED = _of(Kind.PROTOCOL_ERROR, Detail.GARBLED, Detail.BAD_HEADER)
_BROKEN_OFF = _of(Kind.PROTOCOL_ERROR, Detail.BROKEN_OFF)

#: By words as people say them. A detail of an outcome is one, too.
WORDS: dict[str, frozenset[Ending]] = {
    **{
        str(detail).replace("-", " "): frozenset({(kind, detail)})
        for kind, details in DETAILS.items()
        for detail in details
    },
    "page": _SERVED,
    "works": _SERVED,
    "time-out": _TIMED_OUT,
    "hangs": _TIMED_OUT,
    "refused": _REFUSED,
    "unreachable": _UNREACHABLE,
    "reset": _RESET,
    "no such name": _of(Kind.NAME_ERROR, Detail.NO_SUCH_NAME, Detail.NO_ADDRESS),
    "no address": _of(Kind.NAME_ERROR, Detail.NO_ADDRESS, Detail.NO_SUCH_NAME),
    "resolver fails": _of(Kind.NAME_ERROR, Detail.RESOLVER_FAILURE, Detail.RESOLVER_TIMEOUT, Detail.REFUSED),
    "certificate": _CERTIFICATE,
    "redirects without end": _ENDLESS,
    "empty answer": _EMPTY,
}
WORDS["timed out"] = WORDS["timeout"] = WORDS["time out"] = _TIMED_OUT

#: What curl exits with (its manual's list of exit codes).
_CURL = {
    6: _NO_NAME,
    7: _NO_ANSWER,
    28: _TIMED_OUT | _of(Kind.NAME_ERROR, Detail.RESOLVER_TIMEOUT),
    35: _NOT_TLS | _VERSION | _CLIENT | _RESET | _of(Kind.TLS_ERROR, Detail.OTHER),
    47: _ENDLESS,
    51: _NAME,
    52: _EMPTY,
    56: _RESET | _CLIENT | _GARBLED,
    60: _CERTIFICATE,
    1: _GARBLED | _of(Kind.REDIRECT_ERROR, Detail.BAD_TARGET),
    3: _of(Kind.REDIRECT_ERROR, Detail.BAD_TARGET),
    18: _BROKEN_OFF,
    92: _BROKEN_OFF,
}

#: What browsers show, without what comes before it (`net::`, the engine's name).
_BROWSER = {
    "ERR_NAME_NOT_RESOLVED": _NO_NAME,
    "DNS_PROBE_FINISHED_NXDOMAIN": _of(Kind.NAME_ERROR, Detail.NO_SUCH_NAME, Detail.NO_ADDRESS),
    "DNS_PROBE_POSSIBLE": _NO_NAME,
    "ERR_NAME_RESOLUTION_FAILED": _NO_NAME,
    "ERR_CONNECTION_TIMED_OUT": _TIMED_OUT,
    "ERR_TIMED_OUT": _TIMED_OUT,
    "ERR_CONNECTION_REFUSED": _REFUSED,
    "ERR_ADDRESS_UNREACHABLE": _UNREACHABLE,
    "ERR_INTERNET_DISCONNECTED": _UNREACHABLE,
    "ERR_CONNECTION_RESET": _RESET,
    "ERR_CONNECTION_CLOSED": _RESET | _EMPTY,
    "ERR_CONNECTION_FAILED": _NO_ANSWER,
    "ERR_CERT_COMMON_NAME_INVALID": _NAME,
    "ERR_CERT_DATE_INVALID": _DATE,
    "ERR_CERT_AUTHORITY_INVALID": _ISSUER,
    "ERR_CERT_INVALID": _CERTIFICATE,
    "ERR_SSL_PROTOCOL_ERROR": _NOT_TLS | _of(Kind.TLS_ERROR, Detail.OTHER),
    "ERR_SSL_VERSION_OR_CIPHER_MISMATCH": _VERSION,
    "ERR_BAD_SSL_CLIENT_AUTH_CERT": _CLIENT,
    "ERR_SSL_CLIENT_AUTH_CERT_NEEDED": _CLIENT,
    "ERR_TOO_MANY_REDIRECTS": _ENDLESS,
    "ERR_INVALID_REDIRECT": _of(Kind.REDIRECT_ERROR, Detail.BAD_TARGET),
    "ERR_UNSAFE_PORT": _REFUSED,
    "ERR_EMPTY_RESPONSE": _EMPTY,
    "ERR_INVALID_HTTP_RESPONSE": _GARBLED,
    "ERR_RESPONSE_HEADERS_TRUNCATED": _GARBLED,
    "ERR_INCOMPLETE_CHUNKED_ENCODING": _BROKEN_OFF,
    "ERR_CONTENT_LENGTH_MISMATCH": _BROKEN_OFF,
    "ERR_HTTP_RESPONSE_CODE_FAILURE": _of(Kind.HTTP_ERROR),
    "SSL_ERROR_BAD_CERT_DOMAIN": _NAME,
    "SEC_ERROR_EXPIRED_CERTIFICATE": _of(Kind.TLS_ERROR, Detail.EXPIRED),
    "SEC_ERROR_EXPIRED_ISSUER_CERTIFICATE": _of(Kind.TLS_ERROR, Detail.EXPIRED),
    "SEC_ERROR_UNKNOWN_ISSUER": _ISSUER,
    "PKIX_ERROR_SELF_SIGNED_CERT": _of(Kind.TLS_ERROR, Detail.SELF_SIGNED),
    "PKIX_ERROR_NOT_YET_VALID_CERTIFICATE": _of(Kind.TLS_ERROR, Detail.NOT_YET_VALID),
    "SSL_ERROR_RX_RECORD_TOO_LONG": _NOT_TLS,
    "SSL_ERROR_UNSUPPORTED_VERSION": _VERSION,
    "SSL_ERROR_PROTOCOL_VERSION_ALERT": _VERSION,
    "SSL_ERROR_NO_CYPHER_OVERLAP": _VERSION,
    "PR_CONNECT_RESET_ERROR": _RESET,
    "PR_END_OF_FILE_ERROR": _EMPTY | _RESET,
}

_STATUS = re.compile(r"(?:http[ /\d.]*|status |error )?([1-5]\d\d)(?: [a-z' -]*)?", re.IGNORECASE)
_CURLS = re.compile(r"curl(?:\s*:)?\s*\(?(\d{1,2})\)?(?:\s.*)?", re.IGNORECASE | re.DOTALL)
_CODE = re.compile(r"[A-Za-z]+(?:_[A-Za-z]+)+")
_SLOW = re.compile(r"slow(?:ly)?(?: \d+(?:\.\d+)? ?(?:s|seconds?)?)?", re.IGNORECASE)
_PAGE = re.compile(r"(?:the )?page ([^\s/]+(?:/\S*)?)", re.IGNORECASE)


def kind_of(status: int) -> Kind:
    """How a final answer with a status ends a visit (RFC 9110 section 15)."""
    return Kind.HTTP_ERROR if status >= _ERRORS else Kind.SERVED


_ERRORS = 400


def read(text: str) -> Seen:
    """What words say that somebody saw. Raises UnknownSeenError."""
    said = " ".join(text.split())
    plain = said.lower().replace("-", " ").replace("_", " ")
    for word, endings in WORDS.items():
        if word.replace("-", " ") == plain:
            return Seen(said, endings)
    if match := _STATUS.fullmatch(said):
        status = int(match[1])
        # A redirect that is seen is one that nobody followed.
        return Seen(said, frozenset() if 300 <= status < 400 else _of(kind_of(status)), status)
    if match := _CURLS.fullmatch(said):
        if int(match[1]) not in _CURL:
            held = ", ".join(str(each) for each in sorted(_CURL))
            raise UnknownSeenError(text, f"Of curl's codes these are known: {held}.")
        return Seen(said, _narrowed(_CURL[int(match[1])], plain))
    for code in _CODE.findall(said):
        for known, endings in _BROWSER.items():
            if code.upper().endswith(known):
                return Seen(said, endings)
    if plain in ("wrong page", "another page", "other page", "old page"):
        return Seen(said, _SERVED, other=True)
    if plain in ("plain", "not secure", "insecure"):
        return Seen(said, _SERVED, plain=True)
    if _SLOW.fullmatch(said):
        return Seen(said, frozenset(), slow=True)
    if match := _PAGE.fullmatch(said):
        return Seen(said, _SERVED, page=match[1])
    raise UnknownSeenError(text, _near(plain, said))


#: What people may say beside a status: for the hint, and for `--help`.
SAID = (
    "200",
    "404",
    "502",
    "time-out",
    "refused",
    "unreachable",
    "reset",
    "no such name",
    "no address",
    "resolver fails",
    "certificate",
    "expired",
    "wrong page",
    "old page",
    "page SITE/PATH",
    "redirects without end",
    "plain",
    "slow 10",
    "empty answer",
    "garbled",
    "page",
    "curl 28",
    "ERR_CONNECTION_TIMED_OUT",
)


def _near(plain: str, said: str) -> str:
    known = [*WORDS, "wrong page", "old page", "plain", "slow"]
    near = nearest(said.upper(), _BROWSER) if _CODE.search(said) else nearest(plain, known)
    near = near or nearest(plain.partition(" ")[0], known)
    listed = ", ".join(SAID)
    return (f"Did you mean '{near}'? " if near is not None else "") + f"Known are, among others: {listed}."


#: What curl says in words, where its code alone leaves several.
_SAYS = (
    ("connection refused", _REFUSED),
    ("no route to host", _UNREACHABLE),
    ("network is unreachable", _UNREACHABLE),
    ("reset by peer", _RESET),
    ("wrong version number", _NOT_TLS),
    ("protocol version", _VERSION),
    ("resolving timed out", _of(Kind.NAME_ERROR, Detail.RESOLVER_TIMEOUT)),
    ("certificate has expired", _of(Kind.TLS_ERROR, Detail.EXPIRED)),
    ("not yet valid", _of(Kind.TLS_ERROR, Detail.NOT_YET_VALID)),
    ("no alternative certificate subject", _NAME),
    ("self signed certificate", _ISSUER),
    ("unable to get local issuer", _ISSUER),
    ("certificate required", _CLIENT),
)


def _narrowed(endings: frozenset[Ending], words: str) -> frozenset[Ending]:
    for said, only in _SAYS:
        if said in words and endings & only:
            return endings & only
    return endings


def of(outcome: Outcome) -> Seen:
    """What somebody sees who gets an outcome."""
    detail = next((each for each in DETAILS[outcome.kind] if each == outcome.detail), None)
    return Seen(_typed(outcome), frozenset({(outcome.kind, detail)}), outcome.status, outcome.page)


def _typed(outcome: Outcome) -> str:
    """The words that `read` takes for an outcome."""
    if outcome.page is not None:
        return f"page {outcome.page}"
    if outcome.kind in (Kind.SERVED, Kind.HTTP_ERROR):
        return str(outcome.status)
    if outcome.kind is Kind.NAME_ERROR and outcome.detail == Detail.REFUSED:
        return "resolver fails"
    return (outcome.detail or outcome.kind).replace("-", " ")


def agreed(place: str, seen: Iterable[Seen]) -> None:
    """Whether all that was seen from a place can be. Raises ContradictionError."""
    held = [*seen]
    for number, one in enumerate(held):
        for other in held[number + 1 :]:
            if one.excludes(other):
                raise ContradictionError(
                    f"from {place} '{one_line(one.words)}' and '{one_line(other.words)}' contradict each other"
                )
