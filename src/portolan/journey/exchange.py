"""One exchange by one client: name, connection, handshake, request, response; and those that the response rests on."""

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from portolan.dns import https_record
from portolan.estate.client import Checks, Client, EdgeClient, PassingProgram, Saying
from portolan.estate.edge import EdgeService
from portolan.estate.service import WebService
from portolan.estate.site import Site, Upstream
from portolan.estate.store import StoreDoor
from portolan.estate.url import Url
from portolan.estate.vantage import AsIfVantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.legs import Arrival, Connection, Exchange, Resolution, Response
from portolan.evidence.outcome import Detail
from portolan.evidence.request import Request, as_asked, request_of
from portolan.http.respond import no_http, respond
from portolan.http.upstream import Front, Onward, said_there, status_of_failed
from portolan.journey.race import race
from portolan.journey.world import World
from portolan.source.value import Value

if TYPE_CHECKING:
    from portolan.edge.cache import Just

#: How many programs may stand behind each other; more are a circle.
_DEEPEST = 12


class Way(Value, frozen=True):
    """How a request came here: the sites and edges that passed it on, outermost first, and what edges took in this visit."""

    passed: tuple[Site | EdgeService, ...]
    just: "Just"
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
    arrival, secure = attempts[-1].arrival, url.secure
    handshake = None
    if secure:
        from portolan.journey.handshake import handshake as shaken

        handshake = shaken(world, url, client, arrival, saying)
        if attempts[-1].fits is not None:
            from portolan.journey.large import handshake_stalls

            last, unsaid = handshake_stalls(attempts[-1], handshake.certificate)
            attempts = (*attempts[:-1], last)
            if last.detail is not None:
                return Exchange(url, client, resolution, attempts)
            if unsaid is not None:
                handshake = handshake.but(decisions=(*handshake.decisions, unsaid))
        if handshake.detail is not None:
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
    named = server_name(url, client, saying) if secure else None
    request = request_of(url, secure, saying, arrival.source, named)
    response, inner = _answered(world, client, arrival, request, way)
    if world.topology.sized:
        from portolan.journey.large import with_size

        response = with_size(response, inner, attempts[-1].fits, arrival.machine)
    return Exchange(url, client, resolution, attempts, handshake, response, inner)


def _answered(
    world: World, client: Client, arrival: Arrival, request: Request, way: Way
) -> tuple[Response, tuple[Exchange, ...]]:
    """What the program at the other end answers, by its kind."""
    service = arrival.service
    if isinstance(service, WebService):
        return _from_web(world, arrival, service, request, way)
    # Rooms that few visits come through are loaded where one does.
    if isinstance(service, EdgeService):
        from portolan.journey.at_edge import from_edge

        return from_edge(world, arrival, service, request, way)
    if isinstance(service, StoreDoor):
        from portolan.store.respond import respond_at_store

        def aliases(host: str) -> tuple[str, ...]:
            return world.resolve(client, host, None).aliases

        asker = client.name if isinstance(client, EdgeClient) else ""
        return respond_at_store(arrival, service, request, aliases, world.shared, asker), ()
    return no_http(arrival, request), ()


def _from_web(
    world: World, arrival: Arrival, service: WebService, request: Request, way: Way
) -> tuple[Response, tuple[Exchange, ...]]:
    edge, program = service.edge, world.program(service)
    here = world.at_path(edge, request.url.path) if isinstance(edge, EdgeService) else None

    def ask(front: Front, inner: Url, said: Saying) -> Exchange:
        if here is not None and here.caches and said.method == "HEAD":
            # What is held for HEAD is held for GET, so that nginx asks for it so (proxy_cache_convert_head; measured).
            said = said.but(method="GET")
        passing = _passing(arrival, service, front, said)

        def fetch(moment: datetime | None, held: Url | None) -> Exchange:
            then = world if moment is None else world.then(moment)
            asking = passing
            if held is not None:
                asking = passing.but(saying=said_there(front, as_asked(request, held), arrival.port))
            return exchange(then, inner, asking, way.onward(front.site, then is not world))

        if here is None or front.site in way.passed:
            # Who is asked by itself was asked for what it holds already: once for each level would be twice as much each time.
            return fetch(None, None)

        def failing(failed: Exchange) -> int:
            return status_of_failed(program.passing, failed)

        from portolan.journey.at_edge import held_by_nginx

        return held_by_nginx(world, here, request, inner.path, fetch, way, passing, failing)

    answer = respond(arrival, service, request, program, Onward(ask, way.members), world.shared)
    return answer.response, answer.inner


def _passing(arrival: Arrival, service: WebService, front: Front, said: Saying) -> PassingProgram:
    """The program that passes on, as a client."""
    upstream, passing = front.upstream, front.program.passing
    checks = Checks.EVERYTHING if upstream.verifies else passing.checks
    named = passing.sends_server_name if upstream.server_name is None else upstream.server_name
    if not isinstance(named, bool):
        said = said.but(server_name=str(named), checked_name=str(named))
    trusts = upstream.trusts if upstream.verifies else ("public",)
    return PassingProgram(arrival.machine, service, front.site, upstream, checks, bool(named), said, trusts)


def server_name(url: Url, client: Client, saying: Saying) -> str | None:
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
    kept = _kept_by_edge(world, url, client) if isinstance(client, EdgeClient) else None
    resolution = kept or world.resolve(client, url.host, url.literal)
    if before:
        resolution = resolution.but(decisions=(*before, *resolution.decisions))
    if resolution.detail is not None:
        return resolution, ()
    addresses = resolution.addresses
    if isinstance(client, EdgeClient) and client.only is not None:
        addresses = addresses[client.only : client.only + 1]
    return resolution, race(world, client, addresses, url.port)


def _kept_by_edge(world: World, url: Url, client: EdgeClient) -> Resolution | None:
    """The addresses that an edge has of its origin without a question now, if it has them."""
    from portolan.journey.at_edge import kept_since, of_record

    return of_record(world, url, client) or kept_since(world, url, client)
