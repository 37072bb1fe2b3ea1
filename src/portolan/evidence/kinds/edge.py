"""Decisions of caching edges: which requests they take, what they hold, what becomes of what the origin says."""

from datetime import datetime

from portolan.evidence.decision import Decision
from portolan.evidence.kinds.http import HttpDecision
from portolan.evidence.kinds.name import NameDecision
from portolan.evidence.kinds.tls import TlsDecision


class EdgeAddressAssumed(NameDecision, frozen=True):
    kind = "edge-address-assumed"
    words = "the addresses behind {name} are made up here: nothing states them"
    assumed = True
    unsaid = ("addresses",)

    name: str


class OriginOfRecord(NameDecision, frozen=True):
    kind = "origin-of-record"
    words = "{edge} asks the record's own address for {name}: {data}"
    shown = True

    edge: str
    name: str
    data: object


class OriginKept(NameDecision, frozen=True):
    kind = "origin-kept"
    words = "{edge} took the addresses of {name} at {since:%Y-%m-%d %H:%M} UTC and keeps them"
    shown = True

    edge: str
    name: str
    since: datetime


class OriginNoName(NameDecision, frozen=True):
    kind = "origin-no-name"
    words = "{edge} was told '{typed}' as its origin's name, and that is no name: {why}"
    standard = "RFC 1123 section 2.1"
    stops = True

    edge: str
    typed: str
    why: str


class EdgeShows(TlsDecision, frozen=True):
    kind = "edge-shows"
    words = "{edge} shows the certificate {certificate} for {name}"
    standard = "RFC 6066 section 3"

    edge: str
    certificate: str
    name: str


class EdgeShowsProviders(TlsDecision, frozen=True):
    kind = "edge-shows-providers"
    words = "{edge} shows its provider's own certificate: {why}"
    standard = "RFC 6066 section 3"
    shown = True

    edge: str
    why: str


class EdgeRejects(TlsDecision, frozen=True):
    kind = "edge-rejects"
    words = "{edge} makes no handshake for {name}, which it was not told"
    standard = "RFC 6066 section 3"
    stops = True

    edge: str
    name: str


class EdgeTakes(HttpDecision, frozen=True):
    kind = "edge-takes"
    words = "{edge} was told the name {name}"
    standard = "RFC 9110 section 7.2"
    shown = True

    edge: str
    name: str


class EdgeNameUnknown(HttpDecision, frozen=True):
    kind = "edge-name-unknown"
    words = "{edge} was not told the name {name}, and answers {status}"
    standard = "RFC 9110 section 7.2"
    stops = True

    edge: str
    name: str
    status: int


class EdgeNameTaken(HttpDecision, frozen=True):
    kind = "edge-name-taken"
    words = "another customer's edge has the name {name} already: {edge} does not get it, and {status} is answered"
    stops = True

    edge: str
    name: str
    status: int


class EdgeFilters(HttpDecision, frozen=True):
    kind = "edge-filters"
    words = "the filter of {edge} keeps {source} out"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    edge: str
    source: object


class EdgeRefusesPlain(HttpDecision, frozen=True):
    kind = "edge-refuses-plain"
    words = "{edge} refuses what is asked without encryption"
    standard = "RFC 9110 section 15.5.4"
    stops = True

    edge: str


class EdgeToSecure(HttpDecision, frozen=True):
    kind = "edge-to-secure"
    words = "{edge} sends plain requests to {target} ({status})"
    standard = "RFC 9110 section 15.4"
    shown = True

    edge: str
    target: str
    status: int


class EdgeMethodRefused(HttpDecision, frozen=True):
    kind = "edge-method-refused"
    words = "{edge} does not take {method}"
    standard = "RFC 9110 section 15.5.6"
    stops = True

    edge: str
    method: str


class EdgePart(HttpDecision, frozen=True):
    kind = "edge-part"
    words = "{edge} has rules of its own for {path}"
    shown = True

    edge: str
    path: str


class EdgeIndex(HttpDecision, frozen=True):
    kind = "edge-index"
    words = "{edge} asks for {document} where / is asked"
    shown = True

    edge: str
    document: str


class EdgeHolds(HttpDecision, frozen=True):
    kind = "edge-holds"
    words = (
        "{edge} holds an answer for {key} since {since:%Y-%m-%d %H:%M} UTC, until {until:%Y-%m-%d %H:%M} UTC: {what}"
    )
    standard = "RFC 9111 section 4"
    shown = True
    asks_on = True

    edge: str
    key: str
    since: datetime
    until: datetime
    what: str


class EdgeHoldsNow(HttpDecision, frozen=True):
    kind = "edge-holds-now"
    words = "{edge} holds an answer for {key} from a request just before: {what}"
    standard = "RFC 9111 section 4"
    shown = True

    edge: str
    key: str
    what: str


class EdgeGivesOld(HttpDecision, frozen=True):
    kind = "edge-gives-old"
    words = "the time of what {edge} holds for {key} was over at {until:%Y-%m-%d %H:%M} UTC; it gives it all the same: {why}"
    standard = "RFC 9111 section 4.2.4"
    shown = True
    asks_on = True

    edge: str
    key: str
    until: datetime
    why: str


class EdgeAsks(HttpDecision, frozen=True):
    kind = "edge-asks"
    words = "{edge} asks its origin for {url}"
    standard = "RFC 9110 section 3.7"
    shown = True
    asks_on = True

    edge: str
    url: str


class EdgeFails(HttpDecision, frozen=True):
    kind = "edge-fails"
    words = "{edge} gets no answer from its origin, and says {status}"
    standard = "RFC 9110 section 15.6"
    stops = True

    edge: str
    status: int


class EdgeTooSlow(HttpDecision, frozen=True):
    kind = "edge-too-slow"
    words = "the origin takes {takes} s to answer, and {edge} waits {waits} s: it says {status}"
    standard = "RFC 9110 section 15.6.5"
    stops = True

    takes: int
    edge: str
    waits: int
    status: int


class EdgeInCircle(HttpDecision, frozen=True):
    kind = "edge-in-circle"
    words = "the request comes back to {edge}, which passed it on itself"
    standard = "RFC 8586 section 2"
    stops = True

    edge: str


class EdgeErrorPage(HttpDecision, frozen=True):
    kind = "edge-error-page"
    words = "{edge} gives {page} for {status}, and says {says}"
    shown = True

    edge: str
    page: str
    status: int
    says: int


class EdgeErrorPageFails(HttpDecision, frozen=True):
    kind = "edge-error-page-fails"
    words = "{edge} has {page} for {status}, and the origin does not give it"
    shown = True

    edge: str
    page: str
    status: int


#: What tells that an answer comes out of what an edge holds.
HELD: tuple[type[Decision], ...] = (EdgeHolds, EdgeHoldsNow, EdgeGivesOld)
