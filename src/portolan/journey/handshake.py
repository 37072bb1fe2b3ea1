"""The handshake of an exchange: with a site, an edge or a store, and what the client says of the certificate that it is shown."""

from portolan.estate.certificate import Certificate
from portolan.estate.client import Client, Saying
from portolan.estate.edge import EdgeService
from portolan.estate.service import WebService
from portolan.estate.site import Site
from portolan.estate.store import StoreDoor
from portolan.estate.url import Url
from portolan.estate.url import parse as parse_url
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.legs import Arrival, Handshake
from portolan.evidence.outcome import Detail
from portolan.journey.exchange import exchange, server_name
from portolan.journey.furnish import providers_certificate, store_certificate
from portolan.journey.world import World
from portolan.tls.agreeing import disagreement
from portolan.tls.verify import verify


def handshake(world: World, url: Url, client: Client, arrival: Arrival, saying: Saying) -> Handshake:
    """The handshake with whatever answers, and what the client makes of what it is shown."""
    service, listener = arrival.service, arrival.listener
    decision: Decision
    if isinstance(service, EdgeService | StoreDoor):
        return _theirs(world, url, client, arrival, service, saying)
    if not isinstance(service, WebService):
        decision = tls_kinds.SpeaksNoTls(service.name, listener, place=service.place, subject=service)
        return Handshake(Detail.NOT_TLS, (decision,), None, decision)
    named = server_name(url, client, saying)
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

    checked = verify(certificate, wanted, literal, client, now, world.estate, world.shared, fetches, world.followed)
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
        from portolan.evidence.kinds import store as store_kinds

        shown: Decision = store_kinds.StoreShows(
            service.store.name, service.at, place=service.place, subject=service.store
        )
    else:
        from portolan.edge.names import shown_by_edge

        own = world.estate.certificates.get(service.certificate or "")
        chosen = shown_by_edge(
            world.edge(service)[1],
            server_name(url, client, saying),
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
