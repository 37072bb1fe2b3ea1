"""One visit: exchanges (name, way, secure leg, answer) until there is an outcome; redirects followed, loops found."""

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple

from portolan.dns import https_record
from portolan.dns.client import resolve
from portolan.estate.certificate import Certificate
from portolan.estate.service import Site
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.results import Arrival, Connection, Handshake, Resolution, Response
from portolan.http.binding import table_of
from portolan.http.respond import Request, respond
from portolan.http.url import BadUrlError, Url, join, parse
from portolan.journey.race import race
from portolan.journey.world import World
from portolan.tls.verify import verify

_REDIRECTS = frozenset((301, 302, 303, 307, 308))


class Exchange(NamedTuple):
    """One URL asked: each leg as far as it came. `attempts` holds every address tried, the last one counts."""

    url: Url
    resolution: Resolution
    attempts: tuple[Connection, ...] = ()
    handshake: Handshake | None = None
    response: Response | None = None

    @property
    def connection(self) -> Connection | None:
        """The attempt that counts."""
        return self.attempts[-1] if self.attempts else None

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """Every decision in order."""
        found = [*self.resolution.decisions]
        for attempt in self.attempts:
            found += attempt.decisions
        found += self.handshake.decisions if self.handshake is not None else ()
        found += self.response.decisions if self.response is not None else ()
        return tuple(found)


class Outcome(NamedTuple):
    """What the visitor gets; kinds and details as docs/outcomes.md lists them."""

    kind: str
    detail: str | None
    status: int | None
    page: str | None
    final_url: str
    secure: bool
    address: str | None


class Visit(NamedTuple):
    """A finished visit. `stop` is the decision that ended it badly, None when it went well."""

    url: str
    vantage: Vantage
    at: datetime
    exchanges: tuple[Exchange, ...]
    outcome: Outcome
    stop: Decision | None
    #: The machines that had just booted; None: all.
    booted: frozenset[str] | None = frozenset()

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """Every decision in order."""
        return tuple(decision for exchange in self.exchanges for decision in exchange.decisions)

    @property
    def assumptions(self) -> tuple[Decision, ...]:
        """What the answer rests on that no line states, each once."""
        found: dict[str, Decision] = {}
        for decision in self.decisions:
            if decision.assumed:
                found.setdefault(decision.text, decision)
        return tuple(found.values())


def visit(world: World, text: str, vantage: Vantage) -> Visit:
    """What a visitor gets who asks for a URL. Raises BadUrlError when the URL itself is none."""
    url = parse(text)
    exchanges: list[Exchange] = []
    seen: set[Url] = set()
    while True:
        seen.add(url)
        upgraded = _upgraded(world, url, vantage)
        if upgraded is not None:
            exchanges.append(Exchange(url, upgraded))
            url = parse(f"https{str(url).removeprefix('http')}")
            if url in seen:
                return _ended(
                    world,
                    text,
                    vantage,
                    exchanges,
                    "loop",
                    http_kinds.Loop(url, place=upgraded.decisions[-1].place, subject=upgraded.decisions[-1].subject),
                )
            seen.add(url)
        exchange = _exchange(world, url, vantage)
        exchanges.append(exchange)
        response = exchange.response
        if response is None or response.status not in _REDIRECTS or response.location is None:
            break
        rests = response.decisions[-1]
        try:
            following = join(url, response.location)
        except BadUrlError as error:
            return _ended(
                world,
                text,
                vantage,
                exchanges,
                "bad-target",
                http_kinds.BadTarget(str(error), place=rests.place, subject=rests.subject),
            )
        if following in seen:
            return _ended(
                world,
                text,
                vantage,
                exchanges,
                "loop",
                http_kinds.Loop(following, place=rests.place, subject=rests.subject),
            )
        if len(exchanges) > vantage.redirect_limit:
            stop = http_kinds.TooMany(len(exchanges), vantage.redirect_limit, place=rests.place, subject=rests.subject)
            return _ended(world, text, vantage, exchanges, "too-many", stop)
        url = following
    outcome, reason = _outcome(exchanges[-1])
    return Visit(text, vantage, world.now, tuple(exchanges), outcome, reason, world.booted)


def _upgraded(world: World, url: Url, vantage: Vantage) -> Resolution | None:
    """The resolution that sends a plain URL to https before any packet (RFC 9460 section 9.5), if one does."""
    if url.secure or vantage.https_records == "ignored" or url.literal is not None:
        return None
    found = https_record.offers(world.naming, url.host, url.port, vantage)
    if not found.upgrade:
        return None
    last = found.offers[0].decision if found.offers else found.decisions[-1]
    stop = name_kinds.HttpsUpgraded(url.host, place=last.place, subject=last.subject)
    return Resolution(url.host, (), None, (*found.decisions, *_said(found.offers[:1]), stop))


def _said(offers: Sequence[https_record.Offer]) -> list[Decision]:
    return [each.decision for each in offers if not isinstance(each.decision, name_kinds.HttpsAlias)]


def _exchange(world: World, url: Url, vantage: Vantage) -> Exchange:
    resolution, attempts = _connected(world, url, vantage)
    if not attempts or attempts[-1].arrival is None:
        return Exchange(url, resolution, attempts)
    arrival = attempts[-1].arrival
    handshake = _handshake(world, url, vantage, arrival) if url.secure else None
    if handshake is not None and handshake.detail is not None:
        return Exchange(url, resolution, attempts, handshake)
    response = respond(arrival, Request(url, url.secure), world.shared)
    return Exchange(url, resolution, attempts, handshake, response)


def _connected(world: World, url: Url, vantage: Vantage) -> tuple[Resolution, tuple[Connection, ...]]:
    """The name's addresses and the attempts to connect; by the offers of HTTPS records first, where the client asks."""
    before: tuple[Decision, ...] = ()
    if url.secure and vantage.https_records != "ignored" and url.literal is None:
        found = https_record.offers(world.naming, url.host, url.port, vantage)
        before = found.decisions
        for offer in found.offers:
            resolution = resolve(world.naming, offer.target, None, vantage)
            if resolution.detail is not None and offer.hints and vantage.https_records == "all":
                stop = offer.decision
                hint = name_kinds.HttpsHint(offer.target, offer.hints[0], place=stop.place, subject=stop.subject)
                resolution = Resolution(
                    url.host, offer.hints, None, (*resolution.decisions, hint), tuple(stop.subject for _ in offer.hints)
                )
            before = (*before, *_said([offer]), *resolution.decisions)
            if resolution.detail is None:
                attempts = race(world, vantage, resolution.addresses, offer.port)
                if attempts[-1].detail is None:
                    return resolution._replace(host=url.host, decisions=before), attempts
    # RFC 9460 section 3: without an offer that works, as if there were none.
    resolution = resolve(world.naming, url.host, url.literal, vantage)
    if before:
        resolution = resolution._replace(decisions=(*before, *resolution.decisions))
    if resolution.detail is not None:
        return resolution, ()
    return resolution, race(world, vantage, resolution.addresses, url.port)


def _handshake(world: World, url: Url, vantage: Vantage, arrival: Arrival) -> Handshake:
    service, listener = arrival.service, arrival.listener
    decision: Decision | None
    if service.kind != "web":
        decision = tls_kinds.SpeaksNoTls(service.name, listener, place=service.place, subject=service)
        return Handshake("not-tls", (decision,), None, decision)
    if not listener.tls:
        decision = tls_kinds.PlainSpoken(service.name, listener, place=listener.place, subject=service)
        return Handshake("not-tls", (decision,), None, decision)
    certificate, shown = _certificate(world, url, arrival)
    if certificate is None:
        # Apache httpd without a site on the listener: its main server speaks plain HTTP there.
        decision = tls_kinds.PlainSpoken(service.name, listener, place=listener.place, subject=service)
        return Handshake("not-tls", (decision,), None, decision)
    checked = verify(
        certificate, url.host, url.literal, vantage, vantage.clock or world.now, world.estate, world.shared
    )
    return checked._replace(decisions=(shown, *checked.decisions))


def _certificate(world: World, url: Url, arrival: Arrival) -> tuple[Certificate | None, Decision]:
    """The certificate that the server shows for the name asked (RFC 6066 section 3: none is sent for an address)."""
    service, listener = arrival.service, arrival.listener
    certificates = world.estate.certificates
    if not service.sites:
        certificate = certificates[service.certificate or ""]
        return certificate, tls_kinds.Shows(
            service.name, certificate.name, service.name, place=service.place.key("certificate"), subject=service
        )
    table = table_of(service, listener, world.shared)
    default = table.default
    if default is None:
        return None, tls_kinds.PlainSpoken(service.name, listener, place=listener.place, subject=service)
    by_name = url.literal is None
    chosen = table.choose(url.host) if by_name else None
    site: Site = chosen.site if chosen is not None and chosen.site is not None else default
    name = site.certificate or service.certificate
    own = name is not None
    name = name or default.certificate
    certificate = certificates[name or ""]
    place = (site if own else default).place.key("certificate")
    if not own:
        return certificate, tls_kinds.ShowsOthers(site.name, service.name, certificate.name, place=place, subject=site)
    if chosen is not None and not chosen.by_name:
        return certificate, tls_kinds.ShowsDefault(
            listener, url.host, site.name, certificate.name, place=place, subject=site
        )
    return certificate, tls_kinds.Shows(service.name, certificate.name, site.name, place=place, subject=site)


def _ended(world: World, text: str, vantage: Vantage, exchanges: list[Exchange], detail: str, stop: Decision) -> Visit:
    last = exchanges[-1]
    status = last.response.status if last.response is not None else None
    outcome = Outcome("redirect-error", detail, status, None, str(last.url), False, _address(last))
    return Visit(text, vantage, world.now, tuple(exchanges), outcome, stop, world.booted)


def _address(exchange: Exchange) -> str | None:
    return str(exchange.connection.address) if exchange.connection is not None else None


def _outcome(last: Exchange) -> tuple[Outcome, Decision | None]:
    url, address = str(last.url), _address(last)
    if last.resolution.detail is not None:
        return Outcome("name-error", last.resolution.detail, None, None, url, False, None), last.resolution.stop
    connection = last.connection
    assert connection is not None
    if connection.detail is not None:
        return Outcome("connect-error", connection.detail, None, None, url, False, address), connection.stop
    if last.handshake is not None and last.handshake.detail is not None:
        return Outcome("tls-error", last.handshake.detail, None, None, url, False, address), last.handshake.stop
    response = last.response
    assert response is not None
    secure = last.handshake is not None
    if response.protocol is not None:
        return Outcome("protocol-error", response.protocol, None, None, url, secure, address), response.stop
    if 200 <= response.status < 300:
        return Outcome("served", None, response.status, response.page, url, secure, address), None
    who = connection.arrival.service.name if connection.arrival is not None else None
    return Outcome("http-error", who, response.status, None, url, secure, address), response.stop
