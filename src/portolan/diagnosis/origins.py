"""Faults between an edge and its origin: its name, its path, how it is asked, whether it lets the edge in."""

from collections.abc import Iterator
from typing import Any

import msgspec

from portolan.diagnosis.base import Case, Finding, all_homes, fault
from portolan.diagnosis.edge_base import (
    door_asked,
    edge_asked,
    edge_of,
    known_origins,
    onward,
    origin_place,
    origin_put,
    stated,
    store_at,
    with_edge,
)
from portolan.diagnosis.edge_loops import encrypted, end_loop, forced_by, loop_finding
from portolan.diagnosis.machine import listening
from portolan.diagnosis.proposal import PROPOSERS, Patch, Proposal, append_all, put, remedy, remove
from portolan.edge.origin import typed
from portolan.estate.base import IPAddress
from portolan.estate.edge import EdgeService, Origin
from portolan.estate.service import WebService
from portolan.estate.site import Access, Site
from portolan.estate.store import Bucket
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import content as content_kinds
from portolan.evidence.legs import Exchange
from portolan.evidence.outcome import Detail
from portolan.evidence.start import Why
from portolan.journey.furnish import made_up
from portolan.programs.edges import ways_of
from portolan.source.nearest import nearest
from portolan.source.place import pointer


class OtherClue(msgspec.Struct, frozen=True):
    """The edge, and the facts of its origin that are meant, the likeliest first, each with words for it."""

    edge: EdgeService
    others: tuple[tuple[str, dict[str, object]], ...]


class LegClue(msgspec.Struct, frozen=True):
    """The edge, the exchange with its origin, and what the handshake missed."""

    edge: EdgeService
    exchange: Exchange
    detail: str | None = None


class ClosedClue(msgspec.Struct, frozen=True):
    """The edge, the rule of a site that keeps it out, and where it comes from; or what else keeps it out."""

    edge: EdgeService
    access: Access | None
    source: IPAddress | None
    #: A finding of another family about the way, whose remedies are these.
    within: Finding | None


#: What is met where something else than the key or the page that is meant is asked for.
_NOT_THERE = (
    "key-hidden",
    "key-missing",
    "not-readable",
    "list-denied",
    "not-found",
    "no-index-file",
    "folder-missing",
    "bucket-missing",
    "bucket-unsaid",
    "web-off",
)


def leads_on(case: Case, edge: EdgeService, **facts: object) -> bool:
    """Whether the visitor meets what is expected, or something further, with an origin that is otherwise."""
    own = stated(case, edge)
    origin = msgspec.structs.replace(own.asks, **facts)
    return onward(case, with_edge(case.estate, own, origin=origin))


# -- the name --


@fault(
    "edge-origin-name",
    "The edge's origin has a scheme or a path in its name, is mistyped, or does not resolve",
    "502",
    "Write the origin's host name alone; how it is asked, and the path, have settings of their own.",
    "origin-no-name",
    "no-such-name",
    "no-address",
    "undescribed",
    "resolver-empty-zone",
    "internet-unknown",
    "internet-private",
    "bucket-missing",
    "service-failed",
    *_NOT_THERE[:7],
)
def origin_name(case: Case) -> Finding | None:
    """What was typed is no name, or nobody's."""
    edge = edge_of(case.client) or edge_asked(case.exchange) or _not_started(case)
    if edge is None or edge.asks.at is None or case.stop is None:
        return None
    origin = edge.asks
    parts, place = typed(origin), origin_place(edge)
    if parts.scheme is not None:
        others = _without_scheme(origin)
        text = f"the origin of {edge.label} is '{origin.at}': '{parts.scheme}://' does not belong into a name"
        return Finding("edge-origin-name", text, place, clue=OtherClue(edge=edge, others=others))
    if edge_of(case.client) is None and _not_started(case) is None:
        return None
    if parts.path and leads_on(case, edge, at=parts.name):
        text = f"the origin of {edge.label} is '{origin.at}': the path {parts.path} does not belong into a name"
        words = f"let {edge.label} ask {parts.name}, without a path"
        return Finding(
            "edge-origin-name", text, place, clue=OtherClue(edge=edge, others=((words, {"at": parts.name}),))
        )
    if case.symptom in _NOT_THERE and case.symptom != "bucket-missing":
        return None
    near = nearest(parts.name.lower(), set(known_origins(case.estate)) - {parts.name})
    names = [near] if near is not None else []
    names += [each for each in _of_expected(case) if each not in names and each != parts.name]
    others = tuple((f"let {edge.label} ask {each}", {"at": each}) for each in names[:4])
    text = f"the origin of {edge.label}, {parts.name}, leads nowhere: {case.stop.text}"
    text += f"; did you mean {near}?" if near is not None else ""
    return Finding("edge-origin-name", text, place, clue=OtherClue(edge=edge, others=others))


def _not_started(case: Case) -> EdgeService | None:
    """The edge of one's own that does not start, since its origin's name is none."""
    stop = case.stop
    if not isinstance(stop, connect_kinds.ServiceFailed) or not isinstance(stop.subject, WebService):
        return None
    edge = stop.subject.edge
    told = stop.reason.why in (Why.UPSTREAM_UNKNOWN, Why.CONFIGURATION_BROKEN)
    return edge if told and isinstance(edge, EdgeService) else None


def _without_scheme(origin: Origin) -> tuple[tuple[str, dict[str, object]], ...]:
    """The same name with what was typed around it where it belongs."""
    parts = typed(origin)
    facts: dict[str, object] = {"at": parts.name}
    plain: list[tuple[str, dict[str, object]]] = [(f"write the origin as {parts.name}", facts)]
    if parts.scheme == "https" and not origin.secure:
        plain.append(
            (f"write the origin as {parts.name}, and ask it encrypted and verified", {**facts, "leg": "verified"})
        )
    return tuple(plain)


def _of_expected(case: Case) -> list[str]:
    """Where the page expected is: its bucket at its store, or the machine of its site by a name of the estate."""
    found = []
    for store in case.estate.stores.values():
        if case.site_name in store.buckets:
            bucket = store.buckets[case.site_name]
            ways = (store.pages_at, store.objects_at) if bucket.web else (store.objects_at, store.pages_at)
            found += [f"{bucket.name}.{at}" for at in ways if at is not None]
    names = known_origins(case.estate)
    for home in all_homes(case.estate):
        if home.site.name == case.site_name and isinstance(home.site, Site):
            addresses = set(home.machine.addresses)
            found += [each for each in names if addresses & set(_addresses(case, each))]
    return list(dict.fromkeys(found))


def _addresses(case: Case, name: str) -> list[Any]:
    return [
        record.data
        for zone in case.estate.zones.values()
        for kind in ("A", "AAAA")
        for record in zone.data.nodes.get(name, {}).get(kind, ())
    ]


# -- the address of the store that is meant --


@fault(
    "edge-origin-address",
    "The store's objects' address is the origin where its pages' address is meant, or the reverse",
    "403 or 404 on folders; 403",
    "Index files and error pages exist at the pages' address only; who asks is known at the objects' address only.",
    *_NOT_THERE,
    "sealed",
)
def origin_address(case: Case) -> Finding | None:
    """The other address of the same store leads further."""
    edge, door = edge_of(case.client), door_asked(case.exchange)
    host = case.exchange.url.host
    found = store_at(case.estate, host)
    if edge is None or door is None or found is None or case.stop is None:
        return None
    store, way, label = found
    bucket = store.buckets.get(label)
    other = store.objects_at if way == "pages" else store.pages_at
    if bucket is None or other is None:
        return None
    if way == "objects" and not bucket.web:
        return None
    if way == "pages" and not _signs(edge, bucket) and (bucket.web or edge.index_file is None):
        return None
    name = f"{label}.{other}"
    facts: dict[str, object] = {"at": name}
    if way == "objects" and edge.asks.secure and not store.pages_tls:
        facts["leg"] = "plain"
    if not leads_on(case, edge, **facts):
        return None
    there = "pages'" if way == "objects" else "objects'"
    here = "objects'" if way == "objects" else "pages'"
    why = "knows no index files" if way == "objects" else "does not know who asks"
    text = f"{edge.label} asks {store.name}'s {here} address, which {why}; its {there} address is meant: {name}"
    clue = OtherClue(edge=edge, others=((f"let {edge.label} ask {name}", facts),))
    return Finding("edge-origin-address", text, origin_place(edge), clue=clue)


def _signs(edge: EdgeService, bucket: Bucket) -> bool:
    """Whether a bucket's grants are for the edge, which is known at the objects' address only."""
    return edge.asks.signs or any(grant.to_edge is not None for grant in bucket.grants)


# -- the path --


@fault(
    "edge-origin-path",
    "The path in front of what the edge asks for is wrong: a file, or a folder that is not there",
    "404 or 403",
    "Correct the origin's path prefix: the folder in which the pages lie, or none.",
    *_NOT_THERE[:6],
    "folder-missing",
)
def origin_path(case: Case) -> Finding | None:
    """Another prefix leads further: none, a folder spelled nearly so, or the one in which everything was put."""
    edge = edge_of(case.client)
    if edge is None or case.stop is None:
        return None
    held, prefix = _paths(case), edge.asks.prefix
    folders = {"/" + each.rsplit("/", 1)[0] for each in held if "/" in each}
    ideas: list[str] = []
    if prefix:
        near = nearest(prefix.rstrip("/"), folders)
        ideas += [near] if near is not None else []
        ideas += [prefix.rpartition("/")[0], ""] if "." in prefix.rpartition("/")[2] else [""]
        ideas += [prefix.rstrip("/")] if prefix.endswith("/") else []
    wanted = (case.expectation.page or "").partition("/")[2] if case.expectation is not None else ""
    asked = case.visit.exchanges[-1].url.path.rstrip("/")
    if wanted and wanted.endswith(asked.lstrip("/")) and len(wanted) > len(asked):
        ideas.append("/" + wanted[: len(wanted) - len(asked)].strip("/").rpartition("/")[0].strip("/"))
    ideas += sorted(folders, key=lambda each: (each.count("/"), each))[:3]
    for idea in dict.fromkeys("/" + each.strip("/") if each.strip("/") else "" for each in ideas):
        if idea != prefix and leads_on(case, edge, prefix=idea):
            words = (
                f"let {edge.label} put {idea} in front of what it asks for"
                if idea
                else f"let {edge.label} put nothing in front of what it asks for"
            )
            said = (
                f"{edge.label} puts {prefix} in front of what it asks for"
                if prefix
                else f"{edge.label} asks for paths as they are"
            )
            text = f"{said}: {case.stop.text}" + (f"; what is meant lies under {idea}" if idea else "")
            place = origin_place(edge, "prefix")
            clue = OtherClue(edge=edge, others=((words, {"prefix": idea}),))
            return Finding("edge-origin-path", text, place, clue=clue)
    return None


def _paths(case: Case) -> list[str]:
    """What the origin is known to have, by path."""
    response = case.exchange.response
    site = response.site if response is not None else None
    if isinstance(site, Bucket):
        return list(site.objects or ())
    return list(site.files or ()) if isinstance(site, Site) else []


@fault(
    "edge-index-missing",
    "The edge has no index file, or another than lies there, and an objects' address behind it",
    "403 at /",
    "Give the edge its index file, as it lies there: at an objects' address nothing else makes / a page.",
    "list-denied",
    "bucket-unsaid",
    "key-hidden",
    "key-missing",
    "not-readable",
    "wrong-page",
)
def default_missing(case: Case) -> Finding | None:
    """Asked for `/`, the store has its list and no page."""
    edge, door = edge_of(case.client), door_asked(case.exchange)
    asked = case.visit.exchanges[-1].url.path
    if edge is None or door is None or door.way != "objects" or asked != "/":
        return None
    found = store_at(case.estate, case.exchange.url.host)
    bucket = door.store.buckets.get(found[2]) if found is not None else None
    wanted = (case.expectation.page or "").partition("/")[2] if case.expectation is not None else ""
    if wanted and "/" not in wanted:
        document = wanted
    else:
        document = bucket.index_file if bucket is not None else "index.html"
    own = stated(case, edge)
    if document == edge.index_file:
        return None
    if not onward(case, with_edge(case.estate, own, index_file=document)):
        return None
    has = "has no index file, and" if edge.index_file is None else f"has the index file {edge.index_file}, and"
    text = f"{edge.label} {has} asks {door.store.name}'s objects' address for /"
    clue = OtherClue(
        edge=edge, others=((f"let {edge.label} ask for {document} where / is asked", {"default": document}),)
    )
    return Finding("edge-index-missing", text, edge.place, clue=clue)


@remedy("edge-origin-name", "edge-origin-address", "edge-origin-path", "edge-index-missing")
def other_origin(_case: Case, clue: OtherClue) -> Iterator[Proposal]:
    """Says the origin as it is meant."""
    edge = clue.edge
    for text, facts in clue.others:
        if "default" in facts:
            yield Proposal(text, put(edge.place, "index_file", facts["default"]))
        elif facts.get("prefix") == "" and edge.asks.place.has("prefix"):
            yield Proposal(text, remove((*edge.asks.place.path, "prefix")))
        else:
            yield Proposal(text, origin_put(edge, **facts))
    if not clue.others:
        yield Proposal(f"say under which name the origin of {edge.label} is found", [])


# -- the leg --


@fault(
    "edge-leg-mismatch",
    "The leg to the origin is encrypted and the origin plain, or the reverse",
    "502, 504 or 400; redirects without end where the origin forces secure",
    "Ask the origin as it listens: encrypted and verified where it has a certificate, plain where it has none.",
    "plain-spoken",
    "speaks-no-tls",
    "plain-on-tls",
    "nothing-listens",
    "service-stopped",
    "bucket-missing",
    "loop",
    "too-many",
)
def leg_mismatch(case: Case) -> Finding | None:
    """Asked the other way, the origin answers."""
    edge, stop = edge_of(case.client), case.stop
    if case.symptom in ("loop", "too-many"):
        forced = forced_by(case)
        if forced is None:
            return None
        exchange, edge, _ = forced
        text = f"{edge.label} asks its origin plainly ({exchange.url}), and the origin wants to be asked by https"
        return Finding("edge-leg-mismatch", text, origin_place(edge), clue=LegClue(edge=edge, exchange=exchange))
    if edge is None or stop is None:
        return None
    encrypted = edge.asks.leg in ("encrypted", "verified")
    if (
        isinstance(stop, connect_kinds.NothingListens)
        and not encrypted
        and edge.asks.port is None
        and not _listens_tls(case)
    ):
        return None
    ways = ["plain"] if encrypted else ["verified", "encrypted"]
    if not any(leads_on(case, edge, leg=each) for each in ways):
        return None
    how = "encrypted" if encrypted else "plainly"
    text = f"{edge.label} asks its origin {how}: {stop.text}"
    place = origin_place(edge, "leg")
    return Finding("edge-leg-mismatch", text, place, clue=LegClue(edge=edge, exchange=case.exchange))


def _listens_tls(case: Case) -> bool:
    reached = case.exchange.connection.reached if case.exchange.connection is not None else None
    return reached is not None and any(
        listener.tls for service in reached.services.values() for listener in service.listens
    )


@fault(
    "edge-leg-unverified",
    "The leg to the origin is verified, and meets a certificate that does not verify",
    "502",
    "Let the edge send the name that the certificate is for, or give the origin a certificate for the name that is sent.",
    "name-mismatch",
    "expired",
    "not-yet-valid",
    "self-signed",
    "unknown-issuer",
    "incomplete-chain",
    "wrong-use",
)
def leg_unverified(case: Case) -> Finding | None:
    """The edge checks, and what it finds does not hold."""
    edge, handshake = edge_of(case.client), case.exchange.handshake
    if edge is None or handshake is None or case.stop is None or edge.asks.leg != "verified":
        return None
    text = f"{edge.label} checks its origin's certificate: {case.stop.text}"
    clue = LegClue(edge=edge, exchange=case.exchange, detail=handshake.detail)
    return Finding("edge-leg-unverified", text, origin_place(edge, "leg"), clue=clue)


@remedy("edge-leg-mismatch")
def other_leg(case: Case, clue: LegClue) -> Iterator[Proposal]:
    """Lets the origin listen as it is asked; asks as it listens: verified before unverified before plain."""
    edge = clue.edge
    if edge.asks.leg in ("encrypted", "verified"):
        connection = clue.exchange.connection
        if connection is not None and connection.reached is not None:
            for service in connection.reached.services.values():
                if isinstance(service, WebService) and service.state == "running":
                    yield from listening(case, service, connection.port, True)
        yield Proposal(f"let {edge.label} ask its origin plainly", origin_put(edge, leg="plain"))
        return
    yield from encrypted(edge, None)
    finding = loop_finding(case)
    if finding is not None:
        yield from end_loop(case, finding.clue)


@remedy("edge-leg-unverified")
def verifiable(case: Case, clue: LegClue) -> Iterator[Proposal]:
    """The name that the certificate is for; what mends the certificate itself; last, no checking."""
    edge = clue.edge
    own = stated(case, edge)
    if clue.detail == Detail.NAME_MISMATCH:
        if ways_of(edge).host == "own" and edge.asks.host in (None, "own"):
            yield Proposal(f"let {edge.label} send the visitor's host name to its origin", origin_put(own, host="kept"))
        handshake = clue.exchange.handshake
        certificate = handshake.certificate if handshake is not None else None
        for name in [str(each) for each in (certificate.names if certificate is not None else ()) if "*" not in each]:
            yield Proposal(f"let {edge.label} send the host name {name} to its origin", origin_put(own, host=name))
    for code in (
        "cert-name",
        "cert-expired",
        "cert-not-yet",
        "cert-self-signed",
        "cert-issuer-unknown",
        "cert-chain-incomplete",
    ):
        finding = _of_code(case, code)
        if finding is not None:
            for propose in PROPOSERS.get(code, ()):
                yield from propose(case, finding.clue)
    authority = getattr(getattr(clue.exchange.handshake, "certificate", None), "issuer", None)
    if clue.detail == Detail.UNKNOWN_ISSUER and authority in case.estate.authorities:
        trusts = [*edge.asks.trusts, str(authority)]
        yield Proposal(f"let {edge.label} trust {authority} on the way to its origin", origin_put(own, trusts=trusts))
    yield Proposal(f"let {edge.label} no longer check the certificate of its origin", origin_put(own, leg="encrypted"))


def _of_code(case: Case, code: str) -> Finding | None:
    """What the recognisers of another family say of the same exchange."""
    from portolan.diagnosis.registry import RECOGNISERS  # the registry knows this family, too

    others = (each for each in RECOGNISERS if each.code == code and case.symptom in each.symptoms)
    return next((found for each in others if (found := each.recognise(case)) is not None), None)


# -- the origin's own filter --

_KEPT_OUT = (
    "filter-drops",
    "filter-rejects",
    "group-drops",
    "list-drops",
)


@fault(
    "edge-origin-closed",
    "The origin does not let the edge in",
    "504, 502 or 403",
    "Let the edge's ranges in, all of them and nobody else; or let the edge send what the origin wants to see.",
    *_KEPT_OUT,
    "access-denied",
    "header-wanted",
)
def origin_closed(case: Case) -> Finding | None:
    """A filter, group, list or rule of the origin keeps it out."""
    edge, stop = edge_of(case.client), case.stop
    if edge is None or stop is None:
        return None
    connection = case.exchange.connection
    access = stop.subject if isinstance(stop.subject, Access) else None
    source = connection.arrival.source if connection is not None and connection.arrival is not None else None
    within = None
    if access is None:
        if connection is None or connection.detail is None:
            return None
        within = _within(case)
    text = f"the origin of {edge.label} does not let it in: {stop.text}"
    clue = ClosedClue(edge=edge, access=access, source=source, within=within)
    return Finding("edge-origin-closed", text, stop.place, clue=clue)


def _within(case: Case) -> Finding | None:
    codes = (
        "filter-order",
        "group-wrong-source",
        "group-not-attached",
        "group-missing-port",
        "list-blocks-inbound",
        "list-blocks-replies",
        "filter-drops",
        "filter-rejects",
    )
    return next((found for code in codes if (found := _of_code(case, code)) is not None), None)


def _copied(edge: EdgeService, access: Access) -> Patch:
    """The header fields that a site wants, copied to what the edge sends: no change shows their values."""
    origin, path = edge.asks, (*edge.place.path, "origin")
    wanted = (*access.place.path, "headers")
    keyed = isinstance(edge.origin, Origin) and (origin.place.has("at") or origin.at is None)
    patch: Patch = [] if keyed else put(edge.place, "origin", {"at": origin.at})
    if not origin.sends:
        return [*patch, {"op": "copy", "from": pointer(wanted), "path": pointer((*path, "sends"))}]
    node = next(value for name, value in access.place.node.value if name.value == "headers")
    return patch + [
        {"op": "copy", "from": pointer((*wanted, name.value)), "path": pointer((*path, "sends", name.value))}
        for name, _ in node.value
    ]


@remedy("edge-origin-closed")
def open_to_edge(case: Case, clue: ClosedClue) -> Iterator[Proposal]:
    """Lets its ranges in, or sends the header that is wanted."""
    edge, access = clue.edge, clue.access
    ranges = [str(each) for each in edge.asks_from] or [str(clue.source)]
    unknown = not edge.asks_from and clue.source is not None and made_up(clue.source)
    if access is not None and isinstance(case.stop, content_kinds.HeaderWanted):
        text = f"let {edge.label} send the header field that the origin wants"
        yield Proposal(text, _copied(stated(case, edge), access))
        return
    if unknown:
        text = f"say from which addresses {edge.label} asks (its provider lists them), and let those in at the origin"
        yield Proposal(text, [])
        return
    if access is not None:
        patch: Patch = []
        known = [str(each) for each in access.sources]
        missing = [each for each in ranges if each not in known]
        if access.sources and missing:
            patch = append_all(access.place, "from", missing)
        if patch:
            yield Proposal(f"let {', '.join(missing)} in at the origin, from which {edge.label} asks", patch)
        kept = [str(each) for each in access.not_sources if clue.source not in each]
        if len(kept) < len(access.not_sources):
            yield Proposal(f"no longer keep {edge.label} out at the origin", put(access.place, "not_from", kept))
        return
    if clue.within is not None:
        for propose in PROPOSERS.get(clue.within.code, ()):
            yield from propose(case, clue.within.clue)
        return
    yield Proposal(f"let {', '.join(ranges)} in at the origin, from which {edge.label} asks", [])
