"""Faults of caching edges themselves: when their settings are in effect, which names they know, what they hold and refuse."""

from collections.abc import Iterator
from datetime import datetime

import msgspec

from portolan.diagnosis.base import Case, Finding, also, fault, supposing
from portolan.diagnosis.edge_base import MISSED, edge_asked, stated, visit_in, whole, with_edge
from portolan.diagnosis.proposal import Patch, Proposal, append, in_order, item_path, put, remedy, remove
from portolan.estate.edge import Edge, EdgeService
from portolan.estate.guesses import whole_edges
from portolan.estate.site import Access
from portolan.estate.vantage import AsIfVantage
from portolan.evidence.kinds import edge as edge_kinds
from portolan.journey.expectation import misses
from portolan.journey.visit import visit
from portolan.programs.edges import ways_of
from portolan.source.nearest import nearest
from portolan.source.place import pointer
from portolan.tls.facts import shown_by
from portolan.tls.verify import covers


class ErrorPageClue(msgspec.Struct, frozen=True):
    """The edge, the status that it has no page for, the page that is meant, and the status to say with it."""

    edge: EdgeService
    status: int
    page: str
    says: int


class EdgeClue(msgspec.Struct, frozen=True):
    """The edge that is concerned."""

    edge: EdgeService


_HELD = (edge_kinds.EdgeHolds, edge_kinds.EdgeGivesOld)


class TimeClue(msgspec.Struct, frozen=True):
    """The edge, and when it will be otherwise."""

    edge: EdgeService
    moment: datetime | None


class NameClue(msgspec.Struct, frozen=True):
    """The edge, the name that it was not told, and a name that it was told and is spelled nearly so."""

    edge: EdgeService
    name: str
    near: str | None


class AccessClue(msgspec.Struct, frozen=True):
    """An edge's filter, and who asked."""

    edge: EdgeService
    access: Access
    source: object


class MethodClue(msgspec.Struct, frozen=True):
    """The edge, and the method."""

    edge: EdgeService
    method: str


@fault(
    "edge-not-in-effect",
    "The edge's settings are not in effect yet",
    "the old settings, or no such name, until they are",
    "Wait until they are in effect; until then nothing else mends it. Point names at an edge only when it answers.",
    "*",
    *MISSED,
)
def not_in_effect(case: Case) -> Finding | None:
    """Once they are in effect, the visitor gets what is expected, or comes further."""
    world = case.world
    for edge in whole_edges(world.stated):
        if not isinstance(edge, Edge):
            continue
        moment = edge.in_effect_from
        if isinstance(case.visit.vantage, AsIfVantage) and case.visit.vantage.waits == edge.place.path:
            text = f"nobody says whether the settings of {edge.label} are in effect everywhere; where they are not, this comes"
            place = edge.place.key("in_effect_from")
            return Finding("edge-not-in-effect", text, place, clue=TimeClue(edge=edge, moment=None))
        if not isinstance(moment, datetime) or world.now >= moment:
            continue
        after = visit(world.then(moment), case.visit.url, case.visit.vantage)
        if not misses(case.expectation, after) or len(after.exchanges[0].decisions) > len(
            case.visit.exchanges[0].decisions
        ):
            text = f"the settings of {edge.label} are in effect from {moment:%Y-%m-%d %H:%M} UTC on, and not before"
            return Finding(
                "edge-not-in-effect", text, edge.place.key("in_effect_from"), clue=TimeClue(edge=edge, moment=moment)
            )
    return None


@fault(
    "edge-holds-old",
    "The edge still holds an old page, error or redirect",
    "the old answer, until its time is over",
    "Let the edge forget what it holds for that path, or wait; look for shorter times where pages change.",
    "*",
    *MISSED,
)
def holds_old(case: Case) -> Finding | None:
    """Without what it holds, the visitor meets something else."""
    step = next(
        (each for each in case.visit.decisions if isinstance(each, _HELD)),
        None,
    )
    if step is None or not isinstance(step.subject, EdgeService) or key_scheme(case) is not None:
        # What comes back with the next plain visitor is not mended by forgetting it.
        return None
    edge = step.subject
    seen = visit_in(case, with_edge(case.estate, stated(case, edge), holds=(), last_asked=None))
    if seen is None or (seen.outcome == case.visit.outcome and misses(case.expectation, seen)):
        return None
    clue = TimeClue(edge=edge, moment=step.until)
    return Finding("edge-holds-old", step.text, step.place, clue=clue)


@fault(
    "edge-key-scheme",
    "What the edge holds answers for plain and secure requests alike",
    "redirects without end, for whoever asks second",
    "Put the scheme into the key of what is held, or let the edge itself send plain requests to the secure address.",
    "loop",
    "too-many",
)
def key_scheme(case: Case) -> Finding | None:
    """A held redirect to the other scheme answers for both; with the scheme in the key it does not."""
    if case.symptom not in ("loop", "too-many"):
        return None
    for exchange in case.visit.exchanges:
        for each in exchange.tree:
            edge = edge_asked(each)
            response = each.response
            if edge is None or response is None or response.location is None or "scheme" in ways_of(edge).key:
                continue
            held = next(
                (step for one in each.tree for step in one.decisions if isinstance(step, edge_kinds.HELD)), None
            )
            key = ("scheme", *ways_of(edge).key)
            if held is not None and supposing(case, with_edge(case.estate, stated(case, edge), key=key)):
                text = f"{held.text}: plain and secure requests share it, since the scheme is no part of its key"
                place = edge.place.key("key")
                return Finding("edge-key-scheme", text, place, clue=EdgeClue(edge=edge))
    return None


@fault(
    "edge-error-page",
    "The edge has no page for the error that its origin gives, where the addresses of an application are no files",
    "403 or 404 for every address but the first",
    "Give the first page for both 403 and 404, with status 200: a store says 403 to whoever may not list.",
    "key-hidden",
    "key-missing",
    "not-found",
    "answers-error",
    *MISSED,
)
def error_page(case: Case) -> Finding | None:
    """What is expected is the page that the edge gives for another error, or the first page of all."""
    outer = case.visit.exchanges[-1]
    edge, expectation, status = edge_asked(outer), case.expectation, case.visit.outcome.status
    if edge is None or expectation is None or expectation.page is None or status not in (403, 404):
        return None
    wanted = "/" + expectation.page.partition("/")[2]
    pages = [page for page in edge.error_pages.values() if page == wanted]
    if outer.url.path.endswith("/") and f"{outer.url.path}index.html" == wanted:
        # It is the page itself that does not come, and no address within an application.
        return None
    if status in edge.error_pages or outer.url.path == wanted or not (pages or wanted == "/index.html"):
        return None
    says = next((each for each in edge.error_pages_say.values()), 200)
    has = f"has pages for {', '.join(str(each) for each in edge.error_pages)}" if pages else "has no page for errors"
    text = f"{edge.label} {has}, and its origin says {status} to {outer.url.path}"
    place = edge.place.key("error_pages")
    return Finding("edge-error-page", text, place, clue=ErrorPageClue(edge, status, wanted, int(says)))


@fault(
    "edge-name-unknown",
    "The edge was not told this name",
    "403, the provider's own error, or a certificate that does not match",
    "Tell the edge every name that visitors use, with a certificate that covers them.",
    "edge-name-unknown",
    "edge-name-taken",
    "edge-rejects",
    "name-mismatch",
)
def name_unknown(case: Case) -> Finding | None:
    """It answers for other names."""
    edge = edge_asked(case.exchange)
    host = case.host
    if case.exchange.client.saying.host is not None:
        host = case.exchange.client.saying.host.partition(":")[0].lower().rstrip(".")
    taken = edge is not None and host in edge.held_by_others
    if edge is None or (case.world.edge(edge)[1].told(host) is not None and not taken):
        return None
    near = nearest(host, {str(each) for each in edge.names if "*" not in each})
    text = f"{edge.label} was not told the name {host}" + (f"; it was told {near}" if near else "")
    if taken:
        text = f"another customer's edge has the name {host} already, so {edge.label} does not get it"
    place = edge.place.key("held_by_others" if taken else "names")
    return Finding("edge-name-unknown", text, place, clue=NameClue(edge=edge, name=host, near=near))


@also("cert-missing", "name-mismatch")
def certificate_missing(case: Case) -> Finding | None:
    """The provider's certificate covers only the provider's names."""
    edge, step = edge_asked(case.exchange), case.decision(edge_kinds.EdgeShowsProviders)
    if edge is None or step is None or case.world.edge(edge)[1].told(case.host) is None:
        return None
    text = f"{step.text}; that does not cover {case.host}"
    return Finding("cert-missing", text, edge.place, clue=NameClue(edge=edge, name=case.host, near=None))


@fault(
    "edge-filter-blocks",
    "The edge's own filter keeps this client out",
    "403",
    "Let the edge's filter take in where the client comes from.",
    "edge-filters",
)
def filter_blocks(case: Case) -> Finding | None:
    """Its filter decides before anything else."""
    stop = case.stop
    edge = edge_asked(case.exchange)
    if edge is None or not isinstance(stop, edge_kinds.EdgeFilters) or not isinstance(stop.subject, Access):
        return None
    clue = AccessClue(edge=edge, access=stop.subject, source=stop.source)
    return Finding("edge-filter-blocks", stop.text, stop.place, clue=clue)


@fault(
    "edge-methods",
    "The method is not allowed through the edge",
    "403 or 405",
    "Let the edge pass the method on, where the origin does something with it.",
    "edge-method-refused",
    "method-refused",
)
def methods(case: Case) -> Finding | None:
    """It passes on only some methods."""
    edge, stop = edge_asked(case.exchange), case.stop
    method = getattr(stop, "method", None)
    if edge is None or stop is None or method is None:
        return None
    return Finding("edge-methods", stop.text, stop.place, clue=MethodClue(edge=edge, method=method))


@fault(
    "edge-plain-refused",
    "The edge refuses what is asked without encryption",
    "403 for plain addresses",
    "Let the edge send plain requests to the secure address.",
    "edge-refuses-plain",
)
def plain_refused(case: Case) -> Finding | None:
    """Who types no scheme may come plainly first."""
    edge, stop = edge_asked(case.exchange), case.stop
    if edge is None or not isinstance(stop, edge_kinds.EdgeRefusesPlain):
        return None
    return Finding("edge-plain-refused", stop.text, stop.place, clue=EdgeClue(edge=edge))


@also("redirect-missing", "not-secure", "wrong-final")
def serves_plain(case: Case) -> Finding | None:
    """A page came from an edge without encryption."""
    last = case.visit.exchanges[-1]
    edge = edge_asked(last)
    if edge is None or last.handshake is not None or edge.plain != "serve":
        return None
    text = f"{edge.label} serves {last.url} without encryption"
    place = edge.place.key("plain")
    return Finding("redirect-missing", text, place, clue=EdgeClue(edge=edge))


@fault(
    "edge-circle",
    "The edge's origin leads back to the edge itself",
    "502 or 504",
    "Give the origin a name of its own, which does not lead to the edge.",
    "edge-in-circle",
    "passes-in-circle",
)
def circle(case: Case) -> Finding | None:
    """What it passes on comes back."""
    edge = next((each for exchange in case.visit.tree if (each := edge_asked(exchange)) is not None), None)
    if edge is None:
        return None
    text = f"{edge.label} asks {edge.asks.at or 'its origin'}, which leads back to it"
    return Finding("edge-circle", text, edge.place.key("origin"), clue=EdgeClue(edge=edge))


# -- remedies --


@remedy("edge-not-in-effect")
def wait_for_it(_case: Case, clue: TimeClue) -> Iterator[Proposal]:
    """Nothing else helps."""
    edge = clue.edge
    held = [key for key in ("in_effect_from", "before") if edge.place.has(key)]
    until = f"wait until the provider says that the settings of {edge.label} are in effect everywhere"
    if clue.moment is not None:
        until = f"wait until {clue.moment:%Y-%m-%d %H:%M} UTC: then the settings of {edge.label} are in effect"
    yield Proposal(
        until,
        [step for key in held for step in remove((*edge.place.path, key))],
        thought=True,
    )


@remedy("edge-holds-old")
def forget_held(case: Case, clue: TimeClue) -> Iterator[Proposal]:
    """Lets it forget one address, or all, or waits."""
    edge = clue.edge
    place = whole(case, edge).place
    steps = ((each.url, step) for each in case.visit.tree for step in each.decisions)
    address = next(url for url, step in steps if isinstance(step, _HELD))
    or_waits = f"or wait until {clue.moment:%Y-%m-%d %H:%M} UTC, when its time is over"
    purged = [*edge.purged, str(address)]
    yield Proposal(
        f"let {edge.label} forget what it holds for {address}, {or_waits}",
        put(place, "purged", purged),
        thought=True,
    )
    yield Proposal(f"let {edge.label} forget all that it holds, {or_waits}", put(place, "purged", ["*"]), thought=True)


@remedy("edge-key-scheme")
def scheme_into_key(_case: Case, clue: EdgeClue) -> Iterator[Proposal]:
    """The scheme in the key; or the edge itself sends plain requests to secure ones."""
    edge = clue.edge
    key = ["scheme", *ways_of(edge).key]
    yield Proposal(f"put the scheme into the key of {edge.label}", put(edge.place, "key", key))
    if edge.plain == "serve":
        yield Proposal(
            f"let {edge.label} send plain requests to the secure address itself",
            put(edge.place, "plain", "to-secure"),
        )


@remedy("edge-error-page")
def page_for_it(_case: Case, clue: ErrorPageClue) -> Iterator[Proposal]:
    """The same page for that status too."""
    edge, status = clue.edge, clue.status
    pages: Patch = put(edge.place, "error_pages", {str(status): clue.page})
    say: Patch = put(edge.place, "error_pages_say", {str(status): clue.says})
    for key, value, patch in (("error_pages", clue.page, pages), ("error_pages_say", clue.says, say)):
        if edge.place.has(key):
            patch[:] = [{"op": "add", "path": pointer((*edge.place.path, key, str(status))), "value": value}]
    text = f"let {edge.label} give {clue.page} with status {clue.says} where its origin says {status}"
    yield Proposal(text, [*pages, *say])


@remedy("edge-name-unknown")
def tell_name(case: Case, clue: NameClue) -> Iterator[Proposal]:
    """A certificate that covers the name first, then the name: in that order, each state is one that providers save."""
    edge, name = clue.edge, clue.name
    if name in edge.held_by_others:
        yield Proposal(f"ask the provider, or whoever has it, to let go of {name}: it is held by another customer", [])
        return
    told = (f"tell {edge.label} the name {name}", _with_name(edge, name, clue.near))
    for text, patch in _certificates(case, edge, name):
        yield in_order(*(((text, patch),) if patch else ()), told)


def _with_name(edge: EdgeService, name: str, near: str | None) -> Patch:
    """The name beside the others; in the place of one that nobody has."""
    if near is not None and near in edge.names and len(edge.names) == 1:
        return [{"op": "replace", "path": _pointer(edge, near), "value": name}]
    return append(edge.place, "names", name)


def _pointer(edge: EdgeService, name: str) -> str:
    return pointer(item_path(edge.place, "names", [str(each) for each in edge.names].index(name)))


def _certificates(case: Case, edge: EdgeService, name: str) -> Iterator[tuple[str, Patch]]:
    """Ways to have a certificate that covers a name: the one that there is, another of the estate, a new one."""
    shared, own = case.world.shared, case.world.stated.certificates
    held = own.get(edge.certificate or "")

    def covered(certificate: str) -> bool:
        return any(covers(each, name, None) for each in shown_by(own[certificate], case.estate, shared).leaf.names)

    if (held is not None and covered(held.name)) or not _asked_secure(case, edge):
        yield "", []
        return
    for other in own:
        if covered(other):
            yield f"let {edge.label} show the certificate {other}", put(edge.place, "certificate", other)
    if held is not None and held.file is None:
        names = [*held.names, name]
        yield (
            f"get the certificate {held.name} anew for {', '.join(names)}",
            put(held.place, "names", [str(each) for each in names]),
        )
        return
    fresh = next(each for each in (f"{edge.name}-names", f"{edge.name}-names-2", "edge-names") if each not in own)
    names = list(dict.fromkeys([*(str(each) for each in edge.names if "*" not in each), name]))
    patch = [_section_step(case, "certificates", fresh, {"names": names}), *put(edge.place, "certificate", fresh)]
    yield f"get a certificate for {', '.join(names)}, give it to {edge.label}", patch


def _section_step(case: Case, section: str, name: str, value: object) -> dict[str, object]:
    """Adds one entry to a section of the estate, which may not be written yet."""
    if case.world.stated.place.has(section):
        return {"op": "add", "path": f"/{section}/{name}", "value": value}
    return {"op": "add", "path": f"/{section}", "value": {name: value}}


def _asked_secure(case: Case, edge: EdgeService) -> bool:
    """Whether the edge was asked, or sends on, by TLS."""
    return (
        edge.plain == "to-secure"
        or any(each.url.secure and edge_asked(each) is edge for each in case.visit.tree)
        or case.exchange.url.secure
    )


@remedy("cert-missing")
def give_certificate(case: Case, clue: NameClue) -> Iterator[Proposal]:
    """One of the estate's that covers the name, or a new one."""
    for text, patch in _certificates(case, clue.edge, clue.name):
        if patch:
            yield Proposal(text, patch)


@remedy("edge-filter-blocks")
def let_in(_case: Case, clue: AccessClue) -> Iterator[Proposal]:
    """Lets the one who asked in, and nobody else."""
    access, source, edge = clue.access, clue.source, clue.edge
    barring = [each for each in access.not_sources if source in each]
    patch: Patch = []
    if barring:
        kept = [str(each) for each in access.not_sources if source not in each]
        patch += put(access.place, "not_from", kept)
    elif access.sources and not any(source in each for each in access.sources):
        patch += append(access.place, "from", str(source))
    if patch:
        yield Proposal(f"let the filter of {edge.label} take in {source}", patch)
    if access.headers:
        yield Proposal(f"let the client send what the filter of {edge.label} asks for", [])


@remedy("edge-methods")
def take_method(_case: Case, clue: MethodClue) -> Iterator[Proposal]:
    """Passes the method on too."""
    edge = clue.edge
    known = [str(each) for each in edge.methods] or sorted(ways_of(edge).methods)
    yield Proposal(f"let {edge.label} take {clue.method}", put(edge.place, "methods", [*known, clue.method]))


@remedy("edge-plain-refused")
@remedy("redirect-missing")
def to_secure(_case: Case, clue: EdgeClue) -> Iterator[Proposal]:
    """Sends plain requests to the secure address."""
    edge = clue.edge
    text = f"let {edge.label} send plain requests to the secure address"
    yield Proposal(text, put(edge.place, "plain", "to-secure"))


@remedy("edge-circle")
def origin_of_its_own(_case: Case, clue: EdgeClue) -> Iterator[Proposal]:
    """Only whoever knows the origin can say its name."""
    yield Proposal(f"give {clue.edge.label} an origin whose name does not lead back to it", [])
