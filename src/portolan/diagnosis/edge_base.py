"""What the families of edges and stores have in common: which edge and bucket a visit met, and what would be otherwise."""

from typing import Any

import msgspec

from portolan.diagnosis.base import Case
from portolan.diagnosis.proposal import Patch, put
from portolan.estate.base import NOWHERE
from portolan.estate.client import Client, EdgeClient, PassingProgram
from portolan.estate.edge import EdgeService, Origin
from portolan.estate.estate import Estate
from portolan.estate.guesses import whole_edges
from portolan.estate.store import Bucket, Store, StoreDoor
from portolan.estate.url import BadUrlError
from portolan.evidence.legs import Exchange
from portolan.journey.expectation import misses
from portolan.journey.visit import Visit, visit
from portolan.source.place import Place
from portolan.source.problem import EstateError

#: What an expectation misses where a page came, and is not what was expected.
MISSED = ("wrong-page", "not-secure", "wrong-final", "wrong-status")


def edge_of(client: Client) -> EdgeService | None:
    """The edge that a client is; None for every other client."""
    if isinstance(client, EdgeClient):
        return client.service
    held = getattr(client.service, "edge", None) if isinstance(client, PassingProgram) else None
    return held if isinstance(held, EdgeService) else None


def edge_asked(exchange: Exchange) -> EdgeService | None:
    """The edge that an exchange was with."""
    service = exchange.service
    held = service if isinstance(service, EdgeService) else getattr(service, "edge", None)
    return held if isinstance(held, EdgeService) else None


def door_asked(exchange: Exchange) -> StoreDoor | None:
    """The store's address that an exchange was with."""
    return exchange.service if isinstance(exchange.service, StoreDoor) else None


def bucket_asked(case: Case) -> tuple[StoreDoor, Bucket] | None:
    """The bucket that gave the failing exchange its answer."""
    door, response = door_asked(case.exchange), case.exchange.response
    bucket = response.site if response is not None else None
    return (door, bucket) if door is not None and isinstance(bucket, Bucket) else None


def with_edge(estate: Estate, edge: EdgeService, **facts: object) -> Estate:
    """The estate with some facts of one edge otherwise, wherever it stands; of a part of it, those of the part."""
    path = edge.place.path
    if "by_path" in path:
        own = next(each for each in whole_edges(estate) if each.place.path == path[:-2])
        parts = list(own.by_path)
        of_part = {key: value for key, value in facts.items() if hasattr(parts[0], key)}
        parts[int(path[-1])] = msgspec.structs.replace(parts[int(path[-1])], **of_part)
        others = {key: value for key, value in facts.items() if key not in of_part}
        return with_edge(estate, own, **others, by_path=tuple(parts))
    changed = msgspec.structs.replace(edge, **facts)
    if path[0] == "edges":
        return msgspec.structs.replace(estate, edges={**estate.edges, edge.name: changed})
    if path[0] == "zones":
        zone = estate.zones[str(path[1])]
        return msgspec.structs.replace(
            estate, zones={**estate.zones, zone.name: msgspec.structs.replace(zone, edge=changed)}
        )
    section: Any = estate.hosts if path[0] == "hosts" else estate.routers
    machine = section[str(path[1])]
    machine = msgspec.structs.replace(machine, services={**machine.services, edge.name: changed})
    return msgspec.structs.replace(estate, **{str(path[0]): {**section, machine.name: machine}})


def stated(case: Case, edge: EdgeService) -> EdgeService:
    """The edge as the estate states it: what visits meet is put together of it."""
    path = edge.place.path
    return next((each for own in whole_edges(case.world.stated) for each in own.parts if each.place.path == path), edge)


def whole(case: Case, edge: EdgeService) -> EdgeService:
    """The edge of which this may be a part, as the estate states it."""
    path = edge.place.path
    path = path[: path.index("by_path")] if "by_path" in path else path
    return next((each for each in whole_edges(case.world.stated) if each.place.path == path), edge)


def visit_in(case: Case, estate: Estate) -> Visit | None:
    """What the visitor would get in another estate; None where that is no estate, or no URL."""
    try:
        world = case.world.changed(estate)
        return visit(world, case.visit.url, world.there(case.visit.vantage))
    except (EstateError, BadUrlError):
        return None


def onward(case: Case, estate: Estate) -> bool:
    """Whether the visitor would get what is expected in another estate, or at least meet something else."""
    seen = visit_in(case, estate)
    if seen is None:
        return False
    if not misses(case.expectation, seen):
        return True
    old, new = case.visit, seen
    if old.stop is None or new.stop is None:
        return new.outcome != old.outcome and new.stop is None
    return _kinds(new) != _kinds(old) and _status(new) <= _status(old)


def _kinds(seen: Visit) -> list[str]:
    return [each.kind for each in seen.stop.grounds] if seen.stop is not None else []


def _status(seen: Visit) -> int:
    """How bad an outcome is: no answer is worse than any."""
    return seen.outcome.status or 600


def origin_put(edge: EdgeService, **facts: object) -> Patch:
    """The edge's origin with some facts otherwise, whether it is written as its name alone, with keys, or not at all."""
    origin = edge.asks
    if isinstance(edge.origin, Origin) and origin.place.has("at"):
        return [step for key, value in facts.items() for step in put(origin.place, key, value)]
    if edge.place.has("origin") and origin.at is None:
        return [step for key, value in facts.items() for step in put(origin.place, key, value)]
    held = {"at": origin.at, **facts} if origin.at is not None else facts
    return put(edge.place, "origin", held)


def store_at(estate: Estate, host: str) -> tuple[Store, str, str] | None:
    """The store whose name a host name stands under: the store, `pages` or `objects`, and the label before it."""
    for store in estate.stores.values():
        for way in ("pages", "objects"):
            at = getattr(store, f"{way}_at")
            if at is not None and (host == at or host.endswith(f".{at}")):
                return store, way, host[: -len(at)].rstrip(".")
    return None


def own_names(estate: Estate) -> list[str]:
    """The names that the estate's own zones make, without patterns."""
    zones = (zone for zone in estate.zones.values() if zone.provided is None)
    return [owner for zone in zones for owner in zone.data.nodes if "*" not in owner]


def known_origins(estate: Estate) -> list[str]:
    """Names that an origin may mean: buckets at their stores, and names that the estate's zones make."""
    buckets = [
        f"{bucket}.{at}"
        for store in estate.stores.values()
        for at in (store.pages_at, store.objects_at)
        if at is not None
        for bucket in store.buckets
    ]
    return [*buckets, *own_names(estate)]


def origin_place(edge: EdgeService, key: str = "") -> Place:
    """Where the edge says whom it asks, or a fact of it; the edge itself where it says nothing."""
    origin = edge.asks
    place = origin.place if origin.place is not NOWHERE else edge.place
    return place.key(key) if key else place
