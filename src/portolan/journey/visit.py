"""One visit: exchanges one after the other until there is an outcome; redirects followed, loops found."""

import re
from collections.abc import Iterator
from datetime import datetime

from portolan.estate.client import CLOSED_PORTS, SWITCHING, Saying, opening
from portolan.estate.guesses import machines
from portolan.estate.names import ByName
from portolan.estate.service import WebService, sites_of
from portolan.estate.site import Site
from portolan.estate.store import StoreDoor
from portolan.estate.url import DEFAULT_PORTS, BadUrlError, Url, join, parse
from portolan.estate.vantage import AsIfVantage, Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Exchange, Resolution
from portolan.evidence.outcome import Detail, Kind, Outcome
from portolan.journey.exchange import exchange, straight, upgraded
from portolan.journey.memory import recalled
from portolan.journey.world import World
from portolan.source.value import Value

_REDIRECTS = frozenset((301, 302, 303, 307, 308))
#: Statuses after which clients ask by GET what they had posted (RFC 9110 section 15.4, measured on both).
_TURN_TO_GET = frozenset((301, 302, 303))


class Visit(Value, frozen=True):
    """A finished visit. `stop` is the decision that ended it badly, None when it went well."""

    url: str
    vantage: Vantage
    at: datetime
    exchanges: tuple[Exchange, ...]
    outcome: Outcome
    stop: Decision | None
    #: The machines that had just booted; None: all.
    booted: frozenset[str] | None = frozenset()
    #: Where the page came from a site that nobody named for the host: the site that is named so, somewhere in the estate.
    meant: str | None = None

    @property
    def tree(self) -> Iterator[Exchange]:
        """Every exchange, those that programs made by themselves too."""
        for each in self.exchanges:
            yield from each.tree

    @property
    def decisions(self) -> tuple[Decision, ...]:
        """Every decision in order."""
        return tuple(decision for each in self.tree for decision in each.decisions)

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
    if isinstance(vantage, AsIfVantage) and vantage.waits is not None:
        world = world.waiting(vantage.waits)
    exchanges, seen = list[Exchange](), set[tuple[Url, str]]()
    saying = vantage.saying if not url.socket else opening(vantage.saying)
    # What edges take is held for the rest of the visit.
    typed, first, way = text, url, straight(vantage)

    def ended(detail: Detail, stop: Decision) -> Visit:
        lost = _redirected_nowhere(exchanges[-1], detail)
        return Visit(text, vantage, world.now, tuple(exchanges), lost, stop, world.booted)

    def round_again(at: Url, rests: Decision) -> Visit:
        return ended(Detail.LOOP, http_kinds.Loop(at, place=rests.place, subject=rests.subject))

    while True:
        remembered = recalled(vantage, url, saying.method)
        if remembered is not None and (url, saying.method) not in seen:
            seen.add((url, saying.method))
            exchanges.append(Exchange(url, vantage, remembered[0]))
            url = remembered[1]
            if (url, saying.method) in seen:
                return round_again(url, remembered[0].decisions[-1])
            continue
        seen.add((url, saying.method))
        secure_first = upgraded(world, url, vantage)
        if secure_first is not None:
            exchanges.append(Exchange(url, vantage, secure_first))
            url = url.upgraded
            if (url, saying.method) in seen:
                return round_again(url, secure_first.decisions[-1])
            seen.add((url, saying.method))
        closed = _closed(vantage, url)
        if closed is not None:
            exchanges.append(Exchange(url, vantage, Resolution(url.host, (), None, (closed,))))
            outcome = Outcome(Kind.CONNECT_ERROR, Detail.REFUSED, None, None, str(url), False, None)
            return Visit(text, vantage, world.now, tuple(exchanges), outcome, closed, world.booted)
        exchanges.append(exchange(world, url, vantage, way, _as_typed(_there(saying, first, url), typed, url, vantage)))
        response = exchanges[-1].response
        if response is None or response.status not in _REDIRECTS or response.location is None or url.socket:
            # Who opens a websocket fails at every other answer (RFC 6455 section 4.1).
            break
        rests = response.decisions[-1]
        typed = response.location
        try:
            following = join(url, typed, vantage.like or "curl")
        except BadUrlError as error:
            stop = http_kinds.BadTarget(str(error), place=rests.place, subject=rests.subject)
            return ended(Detail.BAD_TARGET, stop)
        saying = _turned(saying, response.status, url, following)
        if (following, saying.method) in seen:
            return round_again(following, rests)
        if len(exchanges) > vantage.most_redirects:
            count, limit = len(exchanges), vantage.most_redirects
            return ended(Detail.TOO_MANY, http_kinds.TooMany(count, limit, place=rests.place, subject=rests.subject))
        url = following
    last = exchanges[-1]
    return Visit(text, vantage, world.now, tuple(exchanges), *_outcome(last), world.booted, _meant(world, last))


def _redirected_nowhere(last: Exchange, detail: Detail) -> Outcome:
    status = last.response.status if last.response is not None else None
    return Outcome(Kind.REDIRECT_ERROR, detail, status, None, str(last.url), False, _address(last))


def _meant(world: World, last: Exchange) -> str | None:
    """The site that is named for the host, where another gave the page because no name fitted there."""
    response = last.response
    if response is None or last.url.literal is not None or not isinstance(response.site, Site):
        return None
    if not any(isinstance(each, http_kinds.SiteDefault | http_kinds.SiteFirst) for each in response.decisions):
        return None
    host = last.url.host.rstrip(".")
    found = _named_sites(world).of(host)
    return next(iter(found)) if len(found) == 1 and response.site.name not in found else None


def _named_sites(world: World) -> ByName[str]:
    """The sites that answer to each name, whether they are switched on or not."""
    estate = world.estate

    def gathered() -> ByName[str]:
        found = ByName[str]()
        for machine in machines(estate):
            for service in machine.services.values():
                for site in sites_of(service).values():
                    for name in site.names:
                        found.add(str(name), site.name)
        return found

    return world.shared.lately("sites by name", (estate.routers, estate.hosts), gathered)


def _closed(vantage: Vantage, url: Url) -> Decision | None:
    """Why a browser does not ask at all: the port is one that browsers keep from."""
    if vantage.like != "chromium" or url.port not in CLOSED_PORTS:
        return None
    return http_kinds.PortClosed(vantage.name, url.port, place=vantage.place.key("like"), subject=vantage)


_TYPED = re.compile(r"[A-Za-z]+://(?:[^@/?#]*@)?([^/:?#\[\]]+)(:[0-9]+)?")


def _as_typed(saying: Saying, typed: str, url: Url, vantage: Vantage) -> Saying:
    """What a client says for an address as it was written: curl keeps capital letters in the host name (measured), browsers do not."""
    match = _TYPED.match(typed)
    if match is None or saying.host is not None or saying.without_host or vantage.like == "chromium":
        return saying
    written = match[1]
    if written == url.host or written.lower() != url.host:
        return saying
    port = "" if url.port == DEFAULT_PORTS[url.scheme] else f":{url.port}"
    return saying.but(host=f"{written}{port}")


def _turned(saying: Saying, status: int, url: Url, following: Url) -> Saying:
    """What a client says behind a redirect: what it posted it asks for (RFC 9110 section 15.4), and a password that leads to another
    port or scheme is forgotten for good (measured).
    """
    if (url.scheme, url.port) != (following.scheme, following.port):
        saying = saying.but(password=False)
    if (saying.method == "POST" and status in _TURN_TO_GET) or (status == 303 and saying.method != "HEAD"):
        return saying.but(method="GET", body=0)
    return saying


def _there(saying: Saying, first: Url, url: Url) -> Saying:
    """What a client says at an address that it was sent to: a host name or password that it was told to say is for the first host."""
    if url.host != first.host and (saying.host is not None or saying.without_host or saying.password):
        return saying.but(host=None, without_host=False, password=False)
    return saying


def _address(last: Exchange) -> str | None:
    return str(last.connection.address) if last.connection is not None else None


def _outcome(last: Exchange) -> tuple[Outcome, Decision | None]:
    """The outcome of the exchange that no redirect follows, and the decision that ended it badly."""
    url, address, stop = str(last.url), _address(last), last.stop

    def failed(kind: Kind, detail: str | None, secure: bool = False) -> tuple[Outcome, Decision | None]:
        return Outcome(kind, detail, None, None, url, secure, address), stop

    response, secure = last.response, last.handshake is not None
    if response is None:
        if last.resolution.detail is not None:
            return failed(Kind.NAME_ERROR, last.resolution.detail)
        kind = Kind.CONNECT_ERROR if last.handshake is None else Kind.TLS_ERROR
        return failed(kind, last.detail)
    if response.protocol is Detail.BROKEN_OFF and getattr(last.client, "like", None) == "chromium":
        # A browser shows what came (measured); curl says that the rest is missing.
        doubt = stop.text if stop is not None else None
        return Outcome(Kind.SERVED, None, response.status, None, url, secure, address, doubt), stop
    if response.protocol in (Detail.STALLED, Detail.CUT_OFF):
        return failed(Kind.CONNECT_ERROR, response.protocol, secure)
    if response.protocol is not None:
        return failed(Kind.PROTOCOL_ERROR, response.protocol, secure)
    status = response.status
    if last.url.socket and status == SWITCHING:
        return Outcome(Kind.SERVED, None, status, None, url, secure, address), stop
    if last.url.socket:
        return Outcome(Kind.HTTP_ERROR, _answering(last), status, None, url, secure, address), stop
    if 200 <= status < 300:
        doubt = _doubt(last.url, last)
        return Outcome(Kind.SERVED, None, status, response.page, url, secure, address, doubt), stop
    if status in _REDIRECTS:
        stop = http_kinds.NoTarget(status, place=response.decisions[-1].place, subject=response.site)
        return Outcome(Kind.REDIRECT_ERROR, Detail.NO_TARGET, status, None, url, secure, address), stop
    return Outcome(Kind.HTTP_ERROR, _answering(last), status, None, url, secure, address), stop


def _answering(last: Exchange) -> str | None:
    """Who answered: the program whose status it is, behind all that passed it on; who gives up on another answers itself."""
    at = last
    while at.inner and at.response is not None:
        behind = at.inner[-1].response
        # What an edge holds was given earlier, or by itself: nobody behind it answers now.
        if behind is None or behind.status != at.response.status or at.inner[-1].service is None:
            break
        at = at.inner[-1]
    return at.service.name if at.service is not None else None


def _doubt(url: Url, last: Exchange) -> str | None:
    """What makes it likely that the page is not what was meant: a site that nobody named for the host gave it."""
    response = last.response
    assert response is not None
    service, innermost = last.service, last.innermost
    inner = innermost.response
    if inner is not None and isinstance(innermost.service, StoreDoor):
        from portolan.evidence.kinds import store as store_kinds

        for decision in inner.decisions:
            if isinstance(decision, store_kinds.StrangersBucket):
                return decision.text
    for decision in response.decisions:
        if isinstance(decision, http_kinds.UpstreamGarbled):
            return decision.text
        if url.literal is None and isinstance(decision, http_kinds.SiteDefault | http_kinds.SiteFirst):
            sites = service.sites.values() if isinstance(service, WebService) else ()
            if isinstance(response.site, Site) and any(site.in_force and site.names for site in sites):
                return decision.text
    return None
