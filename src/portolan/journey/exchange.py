"""One exchange by one client: name, connection, handshake, request, response; and those that the response rests on."""

from collections.abc import Sequence

from portolan.dns import https_record
from portolan.estate.certificate import Certificate
from portolan.estate.client import Client, PassingProgram
from portolan.estate.service import Listener, Site, WebService
from portolan.estate.url import Url
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.legs import Arrival, Connection, Exchange, Handshake, Resolution, Response
from portolan.evidence.outcome import Detail
from portolan.http.respond import Request, no_http, respond
from portolan.journey.race import race
from portolan.journey.world import World
from portolan.tls.verify import verify

#: How many programs may stand behind each other; more are a circle.
_DEEPEST = 12


def exchange(world: World, url: Url, client: Client, passed: tuple[Site, ...] = ()) -> Exchange:
    """One exchange; `passed` are the sites that passed the request on before, outermost first."""
    resolution, attempts = _connected(world, url, client)
    if not attempts or attempts[-1].arrival is None:
        return Exchange(url, client, resolution, attempts)
    arrival = attempts[-1].arrival
    handshake = _handshake(world, url, client, arrival) if url.secure else None
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

    def ask(site: Site, inner: Url) -> Exchange:
        checks, named = program.passing.checks, program.passing.sends_server_name
        return exchange(world, inner, PassingProgram(arrival.machine, service, site, checks, named), (*passed, site))

    answer = respond(arrival, service, Request(url, url.secure), program, ask, world.shared)
    return Exchange(url, client, resolution, attempts, handshake, answer.response, answer.inner)


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


def _handshake(world: World, url: Url, client: Client, arrival: Arrival) -> Handshake:
    service, listener = arrival.service, arrival.listener
    decision: Decision
    if not isinstance(service, WebService):
        decision = tls_kinds.SpeaksNoTls(service.name, listener, place=service.place, subject=service)
        return Handshake(Detail.NOT_TLS, (decision,), None, decision)
    certificate, shown = _certificate(world, url, client, service, listener) if listener.tls else (None, None)
    if certificate is None or shown is None:
        # Also Apache httpd without a site on the listener: its main server speaks plain HTTP there.
        decision = tls_kinds.PlainSpoken(service.name, listener, place=listener.place, subject=service)
        return Handshake(Detail.NOT_TLS, (decision,), None, decision)
    checked = verify(certificate, url.host, url.literal, client, client.clock or world.now, world.estate, world.shared)
    return checked._replace(decisions=(shown, *checked.decisions))


def _certificate(
    world: World, url: Url, client: Client, service: WebService, listener: Listener
) -> tuple[Certificate | None, Decision | None]:
    """The certificate that the server shows for the name asked (RFC 6066 section 3: none is sent for an address)."""
    certificates = world.estate.certificates
    if not service.sites:
        certificate = certificates[service.certificate or ""]
        place = service.place.key("certificate")
        return certificate, tls_kinds.Shows(service.name, certificate.name, service.name, place=place, subject=service)
    table = world.table(service, listener)
    default = table.default
    if default is None:
        return None, None
    by_name = url.literal is None and client.sends_server_name
    chosen = table.choose(url.host) if by_name else None
    site: Site = chosen.site if chosen is not None and chosen.site is not None else default
    name = site.certificate or service.certificate
    own = name is not None
    certificate = certificates[name or default.certificate or ""]
    place = (site if own else default).place.key("certificate")
    if not own:
        return certificate, tls_kinds.ShowsOthers(site.name, service.name, certificate.name, place=place, subject=site)
    if chosen is not None and not chosen.by_name:
        return certificate, tls_kinds.ShowsDefault(
            listener, url.host, site.name, certificate.name, place=place, subject=site
        )
    return certificate, tls_kinds.Shows(service.name, certificate.name, site.name, place=place, subject=site)
