"""One exchange by one client: name, connection, handshake, request, response; and those that the response rests on."""

from collections.abc import Sequence

from portolan.dns import https_record
from portolan.estate.certificate import Certificate
from portolan.estate.client import Checks, Client, PassingProgram, Saying
from portolan.estate.service import WebService
from portolan.estate.site import Site
from portolan.estate.url import Url
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.legs import Arrival, Connection, Exchange, Handshake, Resolution, Response
from portolan.evidence.outcome import Detail
from portolan.http.request import request_of
from portolan.http.respond import no_http, respond
from portolan.http.upstream import Front
from portolan.journey.race import race
from portolan.journey.world import World
from portolan.tls.verify import verify

#: How many programs may stand behind each other; more are a circle.
_DEEPEST = 12


def exchange(
    world: World, url: Url, client: Client, passed: tuple[Site, ...] = (), saying: Saying | None = None
) -> Exchange:
    """One exchange; `passed` are the sites that passed the request on before, outermost first.

    `saying` is what the client says this time, where that is not what it always says.
    """
    saying = client.saying if saying is None else saying
    resolution, attempts = _connected(world, url, client)
    if not attempts or attempts[-1].arrival is None:
        return Exchange(url, client, resolution, attempts)
    arrival = attempts[-1].arrival
    handshake = _handshake(world, url, client, arrival, saying) if url.secure else None
    if handshake is not None and handshake.detail is not None:
        return Exchange(url, client, resolution, attempts, handshake)
    if len(passed) > _DEEPEST:
        circle = http_kinds.PassesInCircle(
            passed[-1].name, len(passed), place=passed[-1].place.key("upstream"), subject=passed[-1]
        )
        # Measured on both: the connections run out, and the innermost is dropped.
        dropped = Response(502, (circle,), passed[-1], stop=circle)
        return Exchange(url, client, resolution, attempts, handshake, dropped)

    service = arrival.service
    if not isinstance(service, WebService):
        return Exchange(url, client, resolution, attempts, handshake, no_http(arrival))
    program = world.program(service)

    def ask(front: Front, inner: Url, said: Saying) -> Exchange:
        passing = _passing(world, arrival, service, front, said)
        return exchange(world, inner, passing, (*passed, front.site))

    named = _server_name(url, client, saying) if url.secure else None
    request = request_of(url, url.secure, saying, arrival.source, named)
    answer = respond(arrival, service, request, program, ask, world.shared)
    return Exchange(url, client, resolution, attempts, handshake, answer.response, answer.inner)


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
                    return resolution._replace(host=url.host, decisions=before), attempts
    # RFC 9460 section 3: without an offer that works, as if there were none.
    resolution = world.resolve(client, url.host, url.literal)
    if before:
        resolution = resolution._replace(decisions=(*before, *resolution.decisions))
    if resolution.detail is not None:
        return resolution, ()
    return resolution, race(world, client, resolution.addresses, url.port)


def _handshake(world: World, url: Url, client: Client, arrival: Arrival, saying: Saying) -> Handshake:
    service, listener = arrival.service, arrival.listener
    decision: Decision
    if not isinstance(service, WebService):
        decision = tls_kinds.SpeaksNoTls(service.name, listener, place=service.place, subject=service)
        return Handshake(Detail.NOT_TLS, (decision,), None, decision)
    named = _server_name(url, client, saying)
    certificate, shown = _certificate(world, named, service, arrival) if listener.tls else (None, None)
    if certificate is None or shown is None:
        # Also Apache httpd without a site on the listener: its main server speaks plain HTTP there.
        decision = tls_kinds.PlainSpoken(service.name, listener, place=listener.place, subject=service)
        return Handshake(Detail.NOT_TLS, (decision,), None, decision)
    wanted, literal = (url.host, url.literal) if saying.checked_name is None else (saying.checked_name, None)
    checked = verify(certificate, wanted, literal, client, client.clock or world.now, world.estate, world.shared)
    return checked._replace(decisions=(shown, *checked.decisions))


def _certificate(
    world: World, named: str | None, service: WebService, arrival: Arrival
) -> tuple[Certificate | None, Decision | None]:
    """The certificate that the server shows for the name in the handshake (RFC 6066 section 3)."""
    listener, certificates = arrival.listener, world.estate.certificates
    if not service.sites:
        certificate = certificates[service.certificate or ""]
        place = service.place.key("certificate")
        return certificate, tls_kinds.Shows(service.name, certificate.name, service.name, place=place, subject=service)
    table = world.table(service, listener, arrival.address)
    default = table.default
    if default is None:
        return None, None
    chosen = table.choose(named.lower().rstrip(".")) if named is not None else None
    site: Site = chosen.site if chosen is not None and chosen.site is not None else default
    name = site.certificate or service.certificate
    own = name is not None
    certificate = certificates[name or default.certificate or ""]
    place = (site if own else default).place.key("certificate")
    if not own:
        return certificate, tls_kinds.ShowsOthers(site.name, service.name, certificate.name, place=place, subject=site)
    if chosen is not None and not chosen.by_name:
        return certificate, tls_kinds.ShowsDefault(
            listener, named or "", site.name, certificate.name, place=place, subject=site
        )
    return certificate, tls_kinds.Shows(service.name, certificate.name, site.name, place=place, subject=site)
