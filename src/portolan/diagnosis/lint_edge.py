"""What can be found about edges and stores without being asked: ways round an edge, what everybody can read, what waits."""

from collections.abc import Iterator
from ipaddress import ip_interface

from portolan.diagnosis.base import Case, Finding, Severity, warned
from portolan.diagnosis.edge_base import store_at
from portolan.diagnosis.exposure_edge import looks_secret, readable_keys
from portolan.diagnosis.gains import STRANGER
from portolan.diagnosis.proposal import Proposal, remedy
from portolan.edge.origin import typed
from portolan.estate.edge import Edge, EdgeService, SwitchedEdge
from portolan.estate.guesses import every_origin, whole_edges
from portolan.estate.store import Bucket, Store
from portolan.estate.url import BadUrlError, parse
from portolan.estate.vantage import Vantage
from portolan.evidence.outcome import Kind
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.nearest import nearest
from portolan.source.place import Place
from portolan.store.buckets import fits_object, right
from portolan.tls.facts import shown_by
from portolan.tls.verify import covers

warned(
    "edge-bypassed",
    "The origin answers visitors directly, past the edge",
    "nothing bad: a way round the edge's filter, its cache and its encryption: a warning",
    "Let only the edge's ranges in at the origin, or only requests with a header field that the edge adds; let a store know "
    "who asks, and grant the edge alone.",
    __name__,
)
warned(
    "bucket-exposed",
    "Everybody can read what is private, or the list of what a bucket holds",
    "nothing bad: an exposure: a warning",
    "Seal the bucket, and grant the edge alone; keep keys, dumps and configuration out of buckets that everybody can read.",
    __name__,
)
_MOST_NAMED = 3


@remedy("edge-bypassed", "bucket-exposed")
def close_it(_case: Case, _clue: object) -> Iterator[Proposal]:
    """What closes it depends on what else the origin is for."""
    yield Proposal("let only the edge in at the origin", [])


def ways_round_edges(world: World) -> Iterator[Finding]:
    """Origins that give a stranger their pages."""
    # Of zones, edges as they answer: with their records.
    ways = [(edge, list(_past(edge))) for edge in every_origin(world.estate)]
    hosts = dict.fromkeys(host for _, past in ways for _, host in past)
    if not hosts:
        return
    strangers = {host: _stranger(host, number) for number, host in enumerate(hosts)}
    with_strangers = world.with_vantages(*strangers.values())
    for edge, past in ways:
        for url, host in past:
            if store_at(world.estate, parse(url).host) is not None and not (
                edge.access is not None or edge.asks.signs or edge.marks
            ):
                # Whoever is let in at such an edge may read the bucket anyway.
                continue
            seen = visit(with_strangers, url, strangers[host])
            first = seen.exchanges[0].response
            sent = first is not None and first.location is not None
            if seen.outcome.kind is Kind.SERVED or (
                sent and first is not None and first.status < 400 and host is not None
            ):
                text = f"{url} answers everybody, past {edge.label}: {seen.outcome.page or 'it is reached directly'}"
                place = edge.asks.place if edge.asks.at is not None else edge.place
                yield Finding("edge-bypassed", text, place, Severity.WARNING)
                break


def _stranger(host: str | None, number: int) -> Vantage:
    """Somebody on the internet, at an address of his own, who knows the host name to say."""
    address = tuple(ip_interface(each.ip + number) for each in STRANGER)
    return Vantage(name=f"(anybody {number})", network="internet", address=address, says_host=host)


def _past(edge: EdgeService) -> Iterator[tuple[str, str | None]]:
    """Where a stranger finds the origin, and the host name that it wants to hear."""
    origin = edge.asks
    scheme = "https" if origin.secure else "http"
    port = f":{origin.port}" if origin.port is not None else ""
    path = "/" + (edge.index_file or "").lstrip("/")
    if isinstance(edge, SwitchedEdge) and edge.asks_record:
        for name, records in edge.records.items():
            for record in records:
                if record.type in ("A", "AAAA"):
                    shown = f"[{record.data}]" if record.type == "AAAA" else str(record.data)
                    yield f"http://{shown}{port}{path}", name
        return
    parts = typed(origin)
    if origin.at is None or parts.scheme is not None:
        return
    host = str(origin.host) if origin.host not in (None, "own", "kept") else None
    if origin.host == "kept":
        host = next((str(each) for each in edge.names if "*" not in each), None)
    try:
        parse(f"{scheme}://{parts.name}{port}/")
    except BadUrlError:
        return
    yield f"{scheme}://{parts.name}{port}{parts.path}{origin.prefix}{path}", host


def what_everybody_reads(world: World) -> Iterator[Finding]:
    """Private buckets that everybody can read, secrets among public objects, lists that are open."""
    for store in world.estate.stores.values():
        for bucket in store.buckets.values():
            yield from _exposed(store, bucket)


def _exposed(store: Store, bucket: Bucket) -> Iterator[Finding]:
    keys = readable_keys(store, bucket, "")
    grant = right(store, bucket, "read", next(iter(sorted(keys)), ""), "").grant
    place = grant.place if grant is not None else bucket.place
    if keys and "private" in bucket.marks:
        text = f"everybody can read the bucket {bucket.name}, which is marked as private"
        yield Finding("bucket-exposed", text, place, Severity.WARNING)
    secret = sorted(key for key in keys if looks_secret(key))
    if secret:
        named = ", ".join(secret[:_MOST_NAMED]) + (
            f" and {len(secret) - _MOST_NAMED} more" if len(secret) > _MOST_NAMED else ""
        )
        text = f"everybody can read what looks secret in the bucket {bucket.name}: {named}"
        yield Finding("bucket-exposed", text, place, Severity.WARNING)
    listed = right(store, bucket, "list", None, "")
    if listed.allowed and listed.grant is not None:
        text = f"everybody can read the list of the bucket {bucket.name}"
        yield Finding("bucket-exposed", text, listed.grant.place, Severity.WARNING)


def grants_fit(world: World) -> Iterator[Finding]:
    """Grants that name no object of their bucket, or an edge that there is none of."""
    edges = {edge.name for edge in whole_edges(world.stated) if edge.name}
    for store in world.estate.stores.values():
        for bucket in store.buckets.values():
            for grant in bucket.grants:
                yield from _unfit(bucket, grant.place, grant.on, grant.may)
                if grant.to_edge is not None and grant.to_edge not in edges:
                    near = nearest(grant.to_edge, edges)
                    text = f"a grant of the bucket {bucket.name} names the edge {grant.to_edge}, and there is none"
                    text += f"; did you mean {near}?" if near is not None else ""
                    yield Finding("bucket-grant-scope", text, grant.place.key("to_edge"), Severity.WARNING)


def _unfit(bucket: Bucket, place: Place, on: tuple[str, ...], may: tuple[str, ...]) -> Iterator[Finding]:
    where = place.key("on")
    for typed_on in on:
        name, slash, _ = typed_on.partition("/")
        if name != bucket.name and not fits_object(name, bucket.name):
            text = f"a grant of the bucket {bucket.name} is on '{typed_on}', which is none of its objects"
            yield Finding("bucket-grant-scope", text, where, Severity.WARNING)
        elif not slash and "read" in may and len(on) == 1 and not fits_object(typed_on, f"{bucket.name}/x"):
            text = f"a grant to read is on the bucket {bucket.name} itself, which is on none of its objects; is /* missing?"
            yield Finding("bucket-grant-scope", text, where, Severity.WARNING)


def names_and_certificates(world: World) -> Iterator[Finding]:
    """Names that an edge was told and its certificate does not cover; aliases to an edge that was not told the name."""
    own = world.stated.certificates
    for edge in world.stated.edges.values():
        held = own.get(edge.certificate or "")
        names = shown_by(held, world.estate, world.shared).leaf.names if held is not None else ()
        for wanted in edge.names:
            if (
                held is not None
                and not held.unknown
                and "*" not in wanted
                and not any(covers(each, str(wanted), None) for each in names)
            ):
                text = f"the certificate {held.name} of {edge.label} does not cover {wanted}"
                yield Finding("cert-name", text, held.place)
        if held is None and edge.names and edge.program is None:
            text = f"{edge.label} has no certificate for its names, and shows its provider's own"
            yield Finding("cert-missing", text, edge.place, Severity.WARNING)
        yield from _untold(world, edge)


def _untold(world: World, edge: Edge) -> Iterator[Finding]:
    told = world.edge(edge)[1]
    for zone in world.estate.zones.values():
        for owner, types in zone.data.nodes.items():
            for record in types.get("CNAME", ()):
                leads = edge.canonical is not None and record.data == edge.canonical and "*" not in owner
                if leads and told.told(owner) is None:
                    text = f"{owner} points at {edge.label}, which was not told that name"
                    yield Finding("edge-name-unknown", text, record.place)


def origins_typed(world: World) -> Iterator[Finding]:
    """Schemes that were typed into an origin's name."""
    for edge in every_origin(world.stated):
        parts = typed(edge.asks)
        if parts.scheme is not None:
            text = f"the origin of {edge.label} is '{edge.asks.at}': '{parts.scheme}://' does not belong into a name"
            yield Finding("edge-origin-name", text, edge.asks.place)


def error_documents_exist(world: World) -> Iterator[Finding]:
    """Error documents that are not in their bucket."""
    for store in world.estate.stores.values():
        for bucket in store.buckets.values():
            named = [bucket.error_document, *bucket.error_documents.values()]
            for key in dict.fromkeys(each for each in named if each is not None):
                if (
                    bucket.told
                    and key not in (bucket.objects or ())
                    and not any("*" in each for each in bucket.objects or ())
                ):
                    text = f"the error document {key} is not in the bucket {bucket.name}"
                    yield Finding("bucket-error-missing", text, bucket.place.key("error_document"), Severity.WARNING)


EDGE_LINTS = (
    ways_round_edges,
    what_everybody_reads,
    grants_fit,
    names_and_certificates,
    origins_typed,
    error_documents_exist,
)
