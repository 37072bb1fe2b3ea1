"""What edges answer: where they ask, by which address, and what they hold."""

from collections.abc import Callable
from datetime import datetime, timedelta

from portolan.edge.cache import through_cache
from portolan.edge.names import Names
from portolan.edge.respond import AtEdge, respond_at_edge
from portolan.estate.client import Checks, EdgeClient, PassingProgram, Saying
from portolan.estate.edge import Edge, EdgeService, SwitchedEdge
from portolan.estate.records import Record
from portolan.estate.url import Url
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.legs import Arrival, Exchange, Resolution, Response
from portolan.evidence.request import Request
from portolan.journey.exchange import Way, exchange
from portolan.journey.furnish import asking_boxes, part_of_range
from portolan.journey.world import World
from portolan.programs.protocol import EdgeWays

#: So many addresses of an origin are asked by an edge that does not go on to the next.
_MOST_ADDRESSES = 8
#: What rules of access answer whom they keep out.
_KEPT_OUT = (401, 403)


def held_by_nginx(
    world: World,
    edge: EdgeService,
    request: Request,
    path: str,
    fetch: Callable[[datetime | None, Url | None], Exchange],
    way: Way,
    passing: PassingProgram,
    failing: Callable[[Exchange], int],
) -> Exchange:
    """What nginx holds of what it is to pass on, or what comes when it fetches it; `failing` gives the status of a failure."""
    ways, _ = world.edge(edge)
    cached = through_cache(edge, ways, request, path, world.now, fetch, way.just, passing, failing)
    response = cached.exchange.response
    if not cached.decisions:
        return cached.exchange
    if response is None:
        response = Response(failing(cached.exchange), (), edge, stop=cached.decisions[-1])
    held = response.but(decisions=(*cached.decisions, *response.decisions))
    return cached.exchange.but(response=held)


def from_edge(
    world: World, arrival: Arrival, edge: EdgeService, request: Request, way: Way
) -> tuple[Response, tuple[Exchange, ...]]:
    """What an edge answers, and what it asked for that."""
    names = world.edge(edge)[1]

    def at_path(path: str) -> AtEdge:
        return _at(world, arrival, edge, world.at_path(edge, path), names, request, way, at_path)

    answer = respond_at_edge(at_path(request.url.path), request)
    return answer.response, answer.inner


def _at(
    world: World,
    arrival: Arrival,
    edge: EdgeService,
    here: EdgeService,
    names: Names,
    request: Request,
    way: Way,
    at_path: Callable[[str], AtEdge],
) -> AtEdge:
    """An edge that is asked for a path: as it is `here`."""
    ways = world.edge(here)[0]
    client = _edge_client(world, arrival, here, ways, names, request)

    def ask(url: Url, saying: Saying, moment: datetime | None) -> Exchange:
        then = world if moment is None else world.then(moment)
        asking = client.but(saying=saying)
        onward = way.onward(edge, then is not world)
        found: Exchange | None = None
        # Any address of its ranges may ask: where one is kept out, visitors meet that now and then.
        for name in _asks_from(then, here, client):
            machine = then.estate.hosts.get(name) or client.machine
            again = _at_each(then, url, asking.but(machine=machine), onward, ways)
            if found is None or _worse(again, found):
                found = again
        assert found is not None
        return found

    return AtEdge(here, edge, ways, names, arrival, client, world.now, ask, at_path, way.just, edge in way.passed)


def _at_each(world: World, url: Url, client: EdgeClient, way: Way, ways: EdgeWays) -> Exchange:
    """What the origin says; the worst of its addresses where the edge does not go on to the next: any of them may be asked."""
    found = exchange(world, url, client if ways.tries_all else client.but(only=0), way)
    for number in range(1, 0 if ways.tries_all else min(len(found.resolution.addresses), _MOST_ADDRESSES)):
        again = exchange(world, url, client.but(only=number), way)
        found = again if _worse(again, found) else found
    return found


def _asks_from(world: World, edge: EdgeService, client: EdgeClient) -> tuple[str, ...]:
    """The machines from which an edge may ask."""
    found: list[str] = []
    for box in asking_boxes(edge) if isinstance(edge, Edge) else (client.machine.name,):
        part, number = box, 1
        while part in world.estate.hosts:
            found.append(part)
            number += 1
            part = part_of_range(box, number)
    return tuple(found) or (client.machine.name,)


def _worse(one: Exchange, other: Exchange) -> bool:
    """Whether one exchange fails and the other does not, or fails earlier: without an answer, or with a refusal."""
    if one.response is None or other.response is None:
        return one.response is None and other.response is not None
    return one.response.status in _KEPT_OUT and other.response.status < 400


def _edge_client(
    world: World, arrival: Arrival, edge: EdgeService, ways: EdgeWays, names: Names, request: Request
) -> EdgeClient:
    """An edge as a client of its origin."""
    origin = edge.asks
    checks = Checks.EVERYTHING if origin.leg == "verified" else Checks.NOTHING
    records: tuple[Record, ...] = ()
    if isinstance(edge, SwitchedEdge) and edge.asks_record:
        records = edge.records.get(names.told(request.host) or "", ())
    machine = world.estate.hosts.get(asking_boxes(edge)[0]) if isinstance(edge, Edge) else None
    return EdgeClient(
        machine or arrival.machine,
        edge,
        origin,
        checks,
        bool(ways.says_name),
        trusts=origin.trusts,
        records=records,
        looked_up=origin.looked_up,
    )


def of_record(world: World, url: Url, client: EdgeClient) -> Resolution | None:
    """The addresses of the record at which an edge is switched on; None where it asks otherwise."""
    if not client.records:
        return None
    last = client.records[-1]
    edge, found = client.name, Resolution(url.host, (), None, ())
    if last.type == "CNAME":
        found = world.resolve(client, str(last.data), None)
    else:
        found = found.but(addresses=tuple(each.data for each in client.records), origins=client.records)
    steps = tuple(
        edge_kinds.OriginOfRecord(edge, url.host, each.data, place=each.place, subject=each) for each in client.records
    )
    return found.but(host=url.host, decisions=(*steps, *found.decisions))


def kept_since(world: World, url: Url, client: EdgeClient) -> Resolution | None:
    """The addresses that an edge took at some time and kept; None where it looks them up."""
    if client.looked_up is None or url.literal is not None:
        return None
    then = world.then(client.looked_up)
    if client.host not in then.estate.hosts and client.host not in then.estate.routers:
        # It asked from elsewhere then: whoever asks from here learned the same of today's servers.
        then = world
    found = then.resolve(client, url.host, None)
    if client.origin.keeps_ttl:
        # RFC 1035 section 3.2.1: the shortest of what the address rests on.
        lives = [each.subject.ttl for each in found.decisions if isinstance(each.subject, Record)]
        if lives and world.now >= client.looked_up + timedelta(seconds=min(lives)):
            return None
    step = edge_kinds.OriginKept(
        client.name, url.host, client.looked_up, place=client.origin.place.key("looked_up"), subject=client.service
    )
    return found.but(decisions=(*found.decisions[:-1], step, *found.decisions[-1:]))
