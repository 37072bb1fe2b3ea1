"""One exchange by one client: name, connection, handshake, request, response; and those that the response rests on."""

from collections.abc import Sequence
from datetime import datetime

from portolan.dns import https_record
from portolan.edge.cache import Just, through_cache
from portolan.edge.names import Names, shown_by_edge
from portolan.edge.respond import AtEdge, respond_at_edge
from portolan.estate.certificate import Certificate
from portolan.estate.client import Checks, Client, EdgeClient, PassingProgram, Saying
from portolan.estate.edge import Edge, EdgeService, SwitchedEdge
from portolan.estate.records import Record
from portolan.estate.service import WebService
from portolan.estate.site import Site, Upstream
from portolan.estate.store import StoreDoor
from portolan.estate.url import Url
from portolan.estate.url import parse as parse_url
from portolan.estate.vantage import AsIfVantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import store as store_kinds
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.legs import Arrival, Connection, Exchange, Handshake, Resolution, Response
from portolan.evidence.outcome import Detail
from portolan.evidence.request import Request, as_asked, request_of
from portolan.http.respond import no_http, respond
from portolan.http.serving import Onward
from portolan.http.upstream import Front, said_there, status_of_failed
from portolan.journey.furnish import asking_boxes, part_of_range, providers_certificate, store_certificate
from portolan.journey.race import race
from portolan.journey.world import World
from portolan.programs.protocol import EdgeWays
from portolan.source.value import Value
from portolan.store.respond import respond_at_store
from portolan.tls.agreeing import disagreement
from portolan.tls.verify import verify

#: How many programs may stand behind each other; more are a circle.
_DEEPEST = 12


class Way(Value, frozen=True):
    """How a request came here: the sites and edges that passed it on, outermost first, and what edges took in this visit."""

    passed: tuple[Site | EdgeService, ...]
    just: Just
    #: The pool of which another member than the first has its turn: its place in the estate, and the member's number.
    turn: tuple[tuple[str | int, ...], int] | None = None

    def members(self, upstream: Upstream) -> tuple[Url, ...]:
        """The members of a pool in the order in which they are asked now."""
        if self.turn is None or upstream.place.path != self.turn[0]:
            return upstream.members
        return upstream.members_from(self.turn[1])

    def behind(self, passer: Site | EdgeService) -> "Way":
        """The way of what is passed on."""
        return self.but(passed=(*self.passed, passer))

    def onward(self, passer: Site | EdgeService, earlier: bool) -> "Way":
        """The same; what was asked `earlier` knows nothing of what edges took in this visit."""
        behind = self.behind(passer)
        return behind.but(just={}) if earlier else behind


#: So many addresses of an origin are asked by an edge that does not go on to the next.
_MOST_ADDRESSES = 8
#: What rules of access answer whom they keep out.
_KEPT_OUT = (401, 403)


def straight(client: Client | None = None) -> Way:
    """A way on which nothing was passed on, and nothing taken; with the turn at which a visitor comes."""
    return Way((), {}, client.turn if isinstance(client, AsIfVantage) else None)


def exchange(world: World, url: Url, client: Client, way: Way | None = None, saying: Saying | None = None) -> Exchange:
    """One exchange. `saying` is what the client says this time, where that is not what it always says."""
    saying = client.saying if saying is None else saying
    way = straight() if way is None else way
    resolution, attempts = _connected(world, url, client)
    if not attempts or attempts[-1].arrival is None:
        return Exchange(url, client, resolution, attempts)
    arrival = attempts[-1].arrival
    handshake = _handshake(world, url, client, arrival, saying) if url.secure else None
    if handshake is not None and handshake.detail is not None:
        return Exchange(url, client, resolution, attempts, handshake)
    if len(way.passed) > _DEEPEST:
        circle = http_kinds.PassesInCircle(
            way.passed[-1].name, len(way.passed), place=way.passed[-1].place.key("upstream"), subject=way.passed[-1]
        )
        # Measured on both servers: the connections run out, and the innermost is dropped. Edges wait for each other.
        waits = isinstance(way.passed[-1], EdgeService)
        protocol = Detail.STALLED if waits else None
        dropped = Response(0 if waits else 502, (circle,), way.passed[-1], protocol=protocol, stop=circle)
        return Exchange(url, client, resolution, attempts, handshake, dropped)
    named = _server_name(url, client, saying) if url.secure else None
    request = request_of(url, url.secure, saying, arrival.source, named)
    response, inner = _answered(world, client, arrival, request, way)
    return Exchange(url, client, resolution, attempts, handshake, response, inner)


def _answered(
    world: World, client: Client, arrival: Arrival, request: Request, way: Way
) -> tuple[Response, tuple[Exchange, ...]]:
    """What the program at the other end answers, by its kind."""
    service = arrival.service
    if isinstance(service, WebService):
        return _from_web(world, arrival, service, request, way)
    if isinstance(service, EdgeService):
        return _from_edge(world, arrival, service, request, way)
    if isinstance(service, StoreDoor):

        def aliases(host: str) -> tuple[str, ...]:
            return world.resolve(client, host, None).aliases

        asker = client.name if isinstance(client, EdgeClient) else ""
        return respond_at_store(arrival, service, request, aliases, world.shared, asker), ()
    return no_http(arrival), ()


def _from_web(
    world: World, arrival: Arrival, service: WebService, request: Request, way: Way
) -> tuple[Response, tuple[Exchange, ...]]:
    edge = service.edge

    def ask(front: Front, inner: Url, said: Saying) -> Exchange:
        passing = _passing(world, arrival, service, front, said)

        def fetch(moment: datetime | None, held: Url | None) -> Exchange:
            then = world if moment is None else world.then(moment)
            asking = passing
            if held is not None:
                asking = passing.but(saying=said_there(front, as_asked(request, held), arrival.port))
            return exchange(then, inner, asking, way.onward(front.site, then is not world))

        if not isinstance(edge, EdgeService) or front.site in way.passed:
            # Who is asked by itself was asked for what it holds already: once for each level would be twice as much each time.
            return fetch(None, None)

        def failing(failed: Exchange) -> int:
            return status_of_failed(world.program(service).passing, failed)

        ways, _ = world.edge(edge)
        cached = through_cache(edge, ways, request, inner.path, world.now, fetch, way.just, passing, failing)
        response = cached.exchange.response
        if not cached.decisions:
            return cached.exchange
        if response is None:
            response = Response(failing(cached.exchange), (), edge, stop=cached.decisions[-1])
        held = response.but(decisions=(*cached.decisions, *response.decisions))
        return cached.exchange.but(response=held)

    answer = respond(arrival, service, request, world.program(service), Onward(ask, way.members), world.shared)
    return answer.response, answer.inner


def _from_edge(
    world: World, arrival: Arrival, edge: EdgeService, request: Request, way: Way
) -> tuple[Response, tuple[Exchange, ...]]:
    ways, names = world.edge(edge)
    client = _edge_client(world, arrival, edge, ways, names, request)

    def ask(url: Url, saying: Saying, moment: datetime | None) -> Exchange:
        then = world if moment is None else world.then(moment)
        asking = client.but(saying=saying)
        onward = way.onward(edge, then is not world)
        found: Exchange | None = None
        # Any address of its ranges may ask: where one is kept out, visitors meet that now and then.
        for name in _asks_from(then, edge, client):
            machine = then.estate.hosts.get(name) or client.machine
            again = _at_each(then, url, asking.but(machine=machine), onward, ways)
            if found is None or _worse(again, found):
                found = again
        assert found is not None
        return found

    at = AtEdge(edge, ways, names, arrival, client, world.now, ask, way.just, edge in way.passed)
    answer = respond_at_edge(at, request)
    return answer.response, answer.inner


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
        ways.says_name,
        trusts=origin.trusts,
        records=records,
        looked_up=origin.looked_up,
    )


def _passing(world: World, arrival: Arrival, service: WebService, front: Front, said: Saying) -> PassingProgram:
    """The program that passes on, as a client."""
    upstream, passing = front.upstream, world.program(service).passing
    checks = Checks.EVERYTHING if upstream.verifies else passing.checks
    named = passing.sends_server_name if upstream.server_name is None else upstream.server_name
    trusts = upstream.trusts if upstream.verifies else ("public",)
    return PassingProgram(arrival.machine, service, front.site, upstream, checks, named, said, trusts)


def _server_name(url: Url, client: Client, saying: Saying) -> str | None:
    """The name that a client sends in the handshake; none for an address (RFC 6066 section 3)."""
    if not client.sends_server_name:
        return None
    if saying.server_name is not None:
        return saying.server_name
    return url.host if url.literal is None else None


def upgraded(world: World, url: Url, client: Client) -> Resolution | None:
    """The resolution that sends a plain URL to https before any packet (RFC 9460 section 9.5), if one does."""
    if url.secure or client.https_records == "ignored" or url.literal is not None:
        return None
    found = https_record.offers(world.naming, url.host, url.port, client)
    if not found.upgrade:
        return None
    last = found.offers[0].decision if found.offers else found.decisions[-1]
    stop = name_kinds.HttpsUpgraded(url.host, place=last.place, subject=last.subject)
    return Resolution(url.host, (), None, (*found.decisions, *_said(found.offers[:1]), stop))


def _said(offers: Sequence[https_record.Offer]) -> list[Decision]:
    return [each.decision for each in offers if not isinstance(each.decision, name_kinds.HttpsAlias)]


def _connected(world: World, url: Url, client: Client) -> tuple[Resolution, tuple[Connection, ...]]:
    """The name's addresses and the attempts to connect; by the offers of HTTPS records first, where the client asks."""
    before: tuple[Decision, ...] = ()
    if url.secure and client.https_records != "ignored" and url.literal is None:
        found = https_record.offers(world.naming, url.host, url.port, client)
        before = found.decisions
        for offer in found.offers:
            resolution = world.resolve(client, offer.target, None)
            if resolution.detail is not None and offer.hints and client.https_records == "all":
                stop = offer.decision
                hint = name_kinds.HttpsHint(offer.target, offer.hints[0], place=stop.place, subject=stop.subject)
                origins = tuple(stop.subject for _ in offer.hints)
                resolution = Resolution(url.host, offer.hints, None, (*resolution.decisions, hint), origins)
            before = (*before, *_said([offer]), *resolution.decisions)
            if resolution.detail is None:
                attempts = race(world, client, resolution.addresses, offer.port)
                if attempts[-1].detail is None:
                    return resolution.but(host=url.host, decisions=before), attempts
    # RFC 9460 section 3: without an offer that works, as if there were none.
    kept = _of_record(world, url, client) or _kept_since(world, url, client)
    resolution = kept or world.resolve(client, url.host, url.literal)
    if before:
        resolution = resolution.but(decisions=(*before, *resolution.decisions))
    if resolution.detail is not None:
        return resolution, ()
    addresses = resolution.addresses
    if isinstance(client, EdgeClient) and client.only is not None:
        addresses = addresses[client.only : client.only + 1]
    return resolution, race(world, client, addresses, url.port)


def _of_record(world: World, url: Url, client: Client) -> Resolution | None:
    """The addresses of the record at which an edge is switched on; None for every other client."""
    if not isinstance(client, EdgeClient) or not client.records:
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


def _kept_since(world: World, url: Url, client: Client) -> Resolution | None:
    """The addresses that an edge took at some time and kept; None for every other client."""
    if not isinstance(client, EdgeClient) or client.looked_up is None or url.literal is not None:
        return None
    found = world.then(client.looked_up).resolve(client, url.host, None)
    step = edge_kinds.OriginKept(
        client.name, url.host, client.looked_up, place=client.origin.place.key("looked_up"), subject=client.service
    )
    return found.but(decisions=(*found.decisions[:-1], step, *found.decisions[-1:]))


def _handshake(world: World, url: Url, client: Client, arrival: Arrival, saying: Saying) -> Handshake:
    service, listener = arrival.service, arrival.listener
    decision: Decision
    if isinstance(service, EdgeService | StoreDoor):
        return _theirs(world, url, client, arrival, service, saying)
    if not isinstance(service, WebService):
        decision = tls_kinds.SpeaksNoTls(service.name, listener, place=service.place, subject=service)
        return Handshake(Detail.NOT_TLS, (decision,), None, decision)
    named = _server_name(url, client, saying)
    table = world.table(service, listener, arrival.address) if listener.tls and service.sites else None
    if not listener.tls or (table is not None and table.default is None):
        # Also Apache httpd without a site on the listener: its main server speaks plain HTTP there.
        decision = tls_kinds.PlainSpoken(service.name, listener, place=listener.place, subject=service)
        return Handshake(Detail.NOT_TLS, (decision,), None, decision)
    program = world.program(service)
    if table is None or table.default is None:
        certificate = world.estate.certificates[service.certificate or ""]
        place = service.place.key("certificate")
        shown: Decision = tls_kinds.Shows(service.name, certificate.name, service.name, place=place, subject=service)
    else:
        chosen = table.choose(named.lower().rstrip(".")) if named is not None else None
        site = chosen.site if chosen is not None and chosen.site is not None else table.default
        ruling = table.default if program.default_rules_versions else site
        disagreed = disagreement(service, site, ruling, client, not program.asks_certificate_late)
        if disagreed is not None:
            return disagreed
        by_name = named is None or chosen is None or chosen.by_name
        certificate, shown = _certificate(world, arrival, site, table.default, None if by_name else named)
    if not program.refuses_other_kind and world.unsigned(certificate):
        unsigned = tls_kinds.KeyOfAnotherKind(
            certificate.name, service.name, place=certificate.place, subject=certificate
        )
        return Handshake(Detail.NO_COMMON_VERSION, (shown, unsigned), certificate, unsigned)
    return _checked(world, url, client, saying, certificate, shown)


def _checked(
    world: World, url: Url, client: Client, saying: Saying, certificate: Certificate, shown: Decision
) -> Handshake:
    """What the client makes of the certificate that it is shown, for the name that it asks for."""
    wanted, literal = (url.host, url.literal) if saying.checked_name is None else (saying.checked_name, None)
    now = client.clock or world.now

    def fetches(address: str) -> bool | None:
        try:
            there = parse_url(address)
        except ValueError:
            return False
        if there.literal is None and world.naming.tree.top(there.host) is None:
            return None
        response = exchange(world, there, client).response
        return response is not None and response.status == 200

    checked = verify(certificate, wanted, literal, client, now, world.estate, world.shared, fetches)
    return checked.but(decisions=(shown, *checked.decisions))


def _theirs(
    world: World, url: Url, client: Client, arrival: Arrival, service: EdgeService | StoreDoor, saying: Saying
) -> Handshake:
    """The handshake with an edge or a store, which have certificates of their providers."""
    listener = arrival.listener
    if not listener.tls:
        plain = tls_kinds.PlainSpoken(service.name, listener, place=service.place, subject=service)
        return Handshake(Detail.NOT_TLS, (plain,), None, plain)
    if isinstance(service, StoreDoor):
        name = store_certificate(service)
        shown: Decision = store_kinds.StoreShows(
            service.store.name, service.at, place=service.place, subject=service.store
        )
    else:
        own = world.estate.certificates.get(service.certificate or "")
        chosen = shown_by_edge(
            world.edge(service)[1],
            _server_name(url, client, saying),
            providers_certificate(service),
            own is not None and own.requested,
        )
        if chosen.certificate is None:
            return Handshake(Detail.OTHER, (chosen.decision,), None, chosen.decision)
        name, shown = chosen.certificate, chosen.decision
    certificate = world.estate.certificates.get(name)
    if certificate is None:
        # A program on a machine of the estate that was given none.
        none = tls_kinds.PlainSpoken(service.name, listener, place=service.place, subject=service)
        return Handshake(Detail.NOT_TLS, (none,), None, none)
    return _checked(world, url, client, saying, certificate, shown)


def _certificate(
    world: World, arrival: Arrival, site: Site, default: Site, unbound: str | None
) -> tuple[Certificate, Decision]:
    """The certificate that a site shows (RFC 6066 section 3); `unbound` is the name that no site has, where the default took it."""
    service, certificates = arrival.service, world.estate.certificates
    assert isinstance(service, WebService)
    own = site.certificate or service.certificate
    certificate = certificates[own or default.certificate or ""]
    if own is None:
        place = default.place.key("certificate")
        return certificate, tls_kinds.ShowsOthers(site.name, service.name, certificate.name, place=place, subject=site)
    place = site.place.key("certificate")
    if unbound is not None:
        return certificate, tls_kinds.ShowsDefault(
            arrival.listener, unbound, site.name, certificate.name, place=place, subject=site
        )
    return certificate, tls_kinds.Shows(service.name, certificate.name, site.name, place=place, subject=site)
