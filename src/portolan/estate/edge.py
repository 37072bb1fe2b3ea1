"""Caching edges: what stands between visitors and an origin, rented, switched on at a record, or a program of one's own."""

from datetime import datetime
from typing import Annotated, Literal, Self

import msgspec

from portolan.estate.base import (
    AnyStatus,
    HeaderName,
    HostName,
    IPAddress,
    IPNetwork,
    NamePattern,
    Stated,
    Status,
    WebAddress,
    says,
)
from portolan.estate.records import Record
from portolan.estate.service import Service
from portolan.estate.site import Access, Mark, Method

#: What a held page is known by.
KeyPart = Literal["scheme", "name", "path", "normal-path", "query"]
#: The stages at which an edge turns requests away by itself, in the order that it has them.
Stage = Literal["filter", "plain", "method"]
Leg = Literal["plain", "encrypted", "verified"]


class Origin(Stated, frozen=True, kw_only=True, eq=False):
    """Whom an edge asks for what it does not hold. A name alone is its `at`."""

    at: Annotated[
        str | None,
        says(
            "The host name or address asked, as it was typed: a scheme or a path in it is kept and judged. At an edge that is "
            "switched on at a record, left out: the record's own address.",
            example="kestrel-images.pages.depot.example",
        ),
    ] = None
    port: Annotated[int | None, says("The port. Left out: 80 on a plain leg, else 443.")] = None
    prefix: Annotated[str, says("What stands in front of every path asked there.", example="/site")] = ""
    joins: Annotated[
        Literal["literal", "one-slash", "in-place-of-slash"] | None,
        says(
            "How prefix and path become one: written behind each other, with one slash between them, or with the prefix in place "
            "of the path's first slash. Left out: `literal`; nginx: `in-place-of-slash`."
        ),
    ] = None
    leg: Annotated[
        Leg | None,
        says(
            "How it is asked: `plain`, `encrypted` without looking at the certificate, or `verified`: the certificate must be for "
            "the name sent, in time, and from an issuer in `trusts`. Left out: `plain`."
        ),
    ] = None
    trusts: Annotated[
        tuple[str, ...], says("Whom a verified leg trusts, as at a vantage.", refers=("authorities",))
    ] = ("public",)
    host: Annotated[
        Literal["own", "kept"] | NamePattern | None,
        says(
            "The host name sent: the origin's `own`, the visitor's `kept`, or this name. Left out: `own`; at an edge that is "
            "switched on at a record: `kept`."
        ),
    ] = None
    says_name: Annotated[
        bool | HostName | None,
        says(
            "Whether it says in the handshake for which name it asks, or the name that it says where that is not the host name "
            "sent; a verified leg checks the one said. Left out: yes, the host name sent; nginx: no."
        ),
    ] = None
    sends: Annotated[
        dict[HeaderName, str],
        says(
            "Header fields that it adds, such as one by which the origin knows it. Write an invented value; it is never shown.",
            kind="secret",
        ),
    ] = {}
    signs: Annotated[bool, says("Whether it signs its requests, so that an object store knows which edge asks.")] = (
        False
    )
    tries_all: Annotated[
        bool | None, says("Whether further addresses of the origin are tried where one fails. Left out: yes.")
    ] = None
    answer_within: Annotated[int, says("How long it waits for an answer, in seconds.")] = 60
    looked_up: Annotated[
        datetime | None,
        says(
            "When it took the origin's addresses and kept them, whatever their TTL. Left out: it asks as they run out."
        ),
    ] = None
    keeps_ttl: Annotated[
        bool,
        says("Whether it keeps what it took at `looked_up` for the TTL of the records only, and asks again then."),
    ] = False

    @property
    def secure(self) -> bool:
        """Whether it is asked encrypted."""
        return self.leg not in (None, "plain")


class Failures(Stated, frozen=True, kw_only=True, eq=False):
    """The status that visitors get when the origin fails, by what went wrong; 400 to 599."""

    refused: Annotated[int | None, says("The origin refuses the connection. Left out: 502.")] = None
    no_connect: Annotated[int | None, says("No connection in time. Left out: 504.")] = None
    no_answer: Annotated[int | None, says("Connected, and no answer in time. Left out: 504.")] = None
    garbled: Annotated[int | None, says("What came is no HTTP, or broke off. Left out: 502.")] = None
    handshake: Annotated[int | None, says("The handshake fails, or the certificate. Left out: 502.")] = None
    unknown_name: Annotated[int | None, says("The origin's name has no address. Left out: 502.")] = None


class Held(Stated, frozen=True, kw_only=True, eq=False):
    """What an edge holds: an answer that it got at some time, stated, or worked out from the origin as it was then."""

    url: Annotated[
        str,
        says(
            "The address that was asked, with scheme; `*` at its end: all that starts so.",
            example="https://images.kestrel-ridge.example/old.html",
        ),
    ]
    since: Annotated[datetime, says("When it was taken, as an RFC 3339 time.")]
    status: Annotated[
        AnyStatus | None, says("The status. Left out: 200 with `page`, 301 with `to`, else what the origin then gave.")
    ] = None
    to: Annotated[str | None, says("For a redirect: its target.")] = None
    page: Annotated[str | None, says("The page, as SITE/PATH or BUCKET/KEY.")] = None
    keeps: Annotated[int | None, says("For how many seconds. Left out: as the edge keeps such answers.")] = None

    @property
    def stated(self) -> bool:
        """Whether the answer itself is written, and not to be worked out from the origin as it was."""
        return self.status is not None or self.page is not None or self.to is not None


class EdgePart(Stated, frozen=True, kw_only=True, eq=False):
    """What is otherwise for some paths of an edge. What it does not say is as at the edge."""

    path: Annotated[
        str,
        says(
            "The paths that it is for: exact (`/status`), or with `*` at the end for all that starts so. The first that fits "
            "counts; nginx: the longest.",
            example="/api/*",
        ),
    ]
    origin: Annotated[Origin | str | None, says("Whom it asks for them: a name, or keys.")] = None
    methods: Annotated[tuple[Method, ...], says("The methods that it takes there.")] = ()
    caches: Annotated[bool | None, says("Whether it holds anything of them.")] = None
    key: Annotated[tuple[KeyPart, ...], says("What a held page of them is known by.")] = ()
    key_headers: Annotated[tuple[HeaderName, ...] | None, says("Header fields whose values are part of that.")] = None
    keeps: Annotated[dict[AnyStatus, int] | None, says("How long their answers are held, as at the edge.")] = None
    obeys_origin: Annotated[bool | None, says("Whether the origin's word on that counts before `keeps`.")] = None

    def fits(self, path: str) -> bool:
        """Whether a path is one of them."""
        return path.startswith(self.path[:-1]) if self.path.endswith("*") else path == self.path


class EdgeService(Service, frozen=True, kw_only=True, eq=False):
    """A caching edge. What is left out is as rented ones are by themselves; `program: nginx` has nginx's ways exactly."""

    kind: Annotated[Literal["edge"], says("It answers for an origin, and holds what it was given.")] = "edge"
    program: Annotated[
        Literal["nginx"] | None,
        says("The program, where it is one of one's own: nginx with its proxy cache, as one server for every name."),
    ] = None
    names: Annotated[
        tuple[NamePattern, ...],
        says(
            "The names that it was told: exact, or `*.rest`. Its canonical name is one by itself. At a zone: the names that are "
            "switched on; left out: every name with an address or alias.",
            example="images.kestrel-ridge.example",
        ),
    ] = ()
    held_by_others: Annotated[
        tuple[HostName, ...], says("Names that another customer's edge has already, and this one does not get.")
    ] = ()
    certificate: Annotated[
        str | None,
        says(
            "The certificate shown for its names. Left out: the provider's own, which covers only the canonical name; at a zone: "
            "one that covers the zone's name and one label before it.",
            refers=("certificates",),
        ),
    ] = None
    unknown_in_tls: Annotated[
        Literal["provider-certificate", "rejected"],
        says("What a handshake for a name that it was not told gets: the provider's certificate, or no handshake."),
    ] = "provider-certificate"
    refuses_with: Annotated[int, says("The status for a name that it was not told, 400 to 599.")] = 403
    plain: Annotated[
        Literal["serve", "to-secure", "refuse"],
        says("What plain requests get: the page, a redirect to the same address by https, or 403."),
    ] = "serve"
    plain_with: Annotated[Literal[301, 302, 307, 308], says("With `plain: to-secure`: the status.")] = 301
    access: Annotated[
        Access | None, says("Whom its own filter lets in, by where they come from. Left out: everyone.")
    ] = None
    methods: Annotated[
        tuple[Method, ...], says("The methods that it takes; HEAD goes with GET. Left out: GET, HEAD, OPTIONS.")
    ] = ()
    method_refused_with: Annotated[Literal[403, 405], says("The status for any other method.")] = 403
    order: Annotated[
        tuple[Stage, ...],
        says("In which order it turns away by itself. Left out: filter, plain, method; nginx: plain, filter, method."),
    ] = ()
    index_file: Annotated[
        str | None,
        says(
            "What is asked of the origin for `/` of the whole edge, and nowhere else. Left out: `/` itself.",
            example="index.html",
        ),
    ] = None
    caches: Annotated[bool, says("Whether it holds anything.")] = True
    key: Annotated[
        tuple[KeyPart, ...],
        says(
            "What a held page is known by. Left out: name, path, query; at an edge that is switched on at a record: scheme too; "
            "nginx: path, query (neither the visitor's name nor scheme)."
        ),
    ] = ()
    key_headers: Annotated[tuple[HeaderName, ...], says("Header fields whose values are part of the key too.")] = ()
    keeps: Annotated[
        dict[AnyStatus, int],
        says(
            "How long answers are held that do not say so themselves, in seconds by status. Left out: 200 and 301 a day, errors "
            "10 seconds; nginx: nothing."
        ),
    ] = {}
    obeys_origin: Annotated[
        bool, says("Whether the origin's Cache-Control and Expires (RFC 9111) count before `keeps`.")
    ] = True
    counts_age: Annotated[
        bool | None,
        says(
            "Whether the origin's Age shortens the time for which an answer is held (RFC 9111 section 4.2.3). Left out: yes; nginx: no."
        ),
    ] = None
    holds_cookies: Annotated[bool, says("Whether answers that set a cookie are held like others, cookie and all.")] = (
        False
    )
    writes_clear: Annotated[
        bool,
        says(
            "Whether a request by another method, if the origin takes it, clears what is held for its address (RFC 9111 section 4.4)."
        ),
    ] = False
    after_time: Annotated[
        Literal["asks", "old-first", "old-on-error"] | None,
        says(
            "What becomes of a held page when its time is over: the origin is asked; the page is given once more and the origin "
            "asked behind; or it is given only where the origin fails. Left out: `old-on-error`; nginx: `asks`."
        ),
    ] = None
    old_for: Annotated[
        int | None, says("For how many seconds after its time a page is still given so. Left out: any.")
    ] = None
    origin: Annotated[
        Origin | str | None, says("Whom it asks: a name, or keys.", example="kestrel-images.pages.depot.example")
    ] = None
    by_path: Annotated[
        tuple[EdgePart, ...], says("What is otherwise for some paths: another origin, another key, nothing held.")
    ] = ()
    fails_with: Annotated[Failures | None, says("The statuses for an origin that fails.")] = None
    error_pages: Annotated[
        dict[Status, str], says("Pages of its own for errors, by status: paths that it asks its origin for.")
    ] = {}
    error_pages_say: Annotated[
        dict[Status, AnyStatus], says("The status that goes with such a page. Left out: the error's own.")
    ] = {}
    passes_scheme_as: Annotated[
        HeaderName | Literal["nothing"] | None,
        says(
            "The header field in which the origin is told the visitor's scheme (in `Forwarded` as RFC 7239 has it). Left out: X-Forwarded-Proto; nginx: nothing."
        ),
    ] = None
    passes_address_as: Annotated[
        HeaderName | Literal["nothing"] | None,
        says(
            "The header field to which the visitor's address is added for the origin. Left out: X-Forwarded-For; nginx: nothing."
        ),
    ] = None
    passes_upgrades: Annotated[
        bool | None,
        says("Whether requests for websockets are passed on as such (RFC 6455). Left out: yes; nginx: no."),
    ] = None
    recognises_itself: Annotated[
        bool, says("Whether it refuses, with 502, a request that it has passed on itself (RFC 8586).")
    ] = True
    resolver: Annotated[
        IPAddress | Literal["validating"] | None, says("The resolver that it asks for its origin, as for a host.")
    ] = None
    asks_from: Annotated[
        tuple[IPNetwork, ...],
        says(
            "The ranges that it asks its origin from: any address of them may come. Left out: its own addresses.",
            example="192.0.2.128/28",
        ),
    ] = ()
    last_asked: Annotated[
        datetime | None,
        says("When it last took everything from its origin, as the origin was then. Left out: it holds only `holds`."),
    ] = None
    holds: Annotated[tuple[Held, ...], says("What it holds, the first that fits.")] = ()
    purged: Annotated[
        tuple[str, ...],
        says(
            "Addresses, with scheme, for which it was told to forget what it holds; `*` at the end: all that starts so, alone: all.",
            example="https://images.kestrel-ridge.example/old.html",
        ),
    ] = ()
    marks: Annotated[tuple[Mark, ...], says("What remedies must respect, as at a site.")] = ()

    @property
    def label(self) -> str:
        """How it is named in sentences; one at a zone, which has no name of its own, by the zone."""
        return f"the edge {self.name or self.place.path[1]}"

    @property
    def asks(self) -> Origin:
        """Whom it asks; an origin of no name where nothing says so."""
        return self.origin if isinstance(self.origin, Origin) else _NOBODY

    def part(self, path: str) -> EdgePart | None:
        """What is otherwise for a path; None where nothing is."""
        fitting = [each for each in self.by_path if each.fits(path)]
        if self.program == "nginx":
            # An exact location comes before every prefix.
            return max(fitting, key=lambda each: (not each.path.endswith("*"), len(each.path)), default=None)
        return fitting[0] if fitting else None

    def with_part(self, part: EdgePart) -> Self:
        """The edge as it is for the paths of a part."""
        said = {name: value for name in _OF_PARTS if (value := getattr(part, name)) not in (None, ())}
        return msgspec.structs.replace(self, **said, place=part.place, by_path=())

    @property
    def parts(self) -> "tuple[Self, ...]":
        """The edge as it is for each of its parts, and for all other paths, which come first."""
        return (self, *map(self.with_part, self.by_path))

    def stating(self, key: str) -> "tuple[Self, ...]":
        """The edge as it is for each of its parts that says something of a key, and for all other paths, which come first."""
        return (self, *(self.with_part(part) for part in self.by_path if getattr(part, key) not in (None, ())))


_OF_PARTS = ("origin", "methods", "caches", "key", "key_headers", "keeps", "obeys_origin")
_NOBODY = Origin()


class Edge(EdgeService, frozen=True, kw_only=True, eq=False):
    """A rented edge, on machines of its provider."""

    canonical: Annotated[
        HostName | None,
        says(
            "Its canonical name in the provider's zone, to which aliases point; it resolves by itself.",
            example="d1.edges.example",
        ),
    ] = None
    addresses: Annotated[
        tuple[IPAddress, ...],
        says(
            "The addresses behind that name. Left out: made up, of IPv6 too where anybody has it, and said as an assumption."
        ),
    ] = ()
    in_effect_from: Annotated[
        datetime | Literal["unknown"] | None,
        says(
            "When its settings are in effect: until then what `before` says, else there is no such name. `unknown`: they were "
            "changed, and nobody says whether they are in effect everywhere: both answers are told. Left out: they are."
        ),
    ] = None

    def waits(self, now: datetime) -> bool:
        """Whether its settings are not in effect yet at a moment; of what nobody knows, they are."""
        return isinstance(self.in_effect_from, datetime) and now < self.in_effect_from


class SwitchedEdge(Edge, frozen=True, kw_only=True, eq=False):
    """An edge that is switched on at a zone's records: names are answered with its addresses, and it asks the record's own."""

    #: The records whose addresses it asks, by name; filled where the zone's answers are.
    records: dict[str, tuple[Record, ...]] = msgspec.field(default_factory=dict)
    #: The zone that it is switched on at.
    zone: str = ""

    @property
    def asks_record(self) -> bool:
        """Whether it asks the address that the record says."""
        return self.asks.at is None


def url_of(pattern: str) -> WebAddress:
    """The address of what is held or was purged, without its star."""
    return WebAddress(pattern.removesuffix("*"))
