"""Pages and legs that newly go without encryption, or unverified, where policy lets them."""

from collections.abc import Iterator

from portolan.diagnosis.gains import STRANGER, Asked, Gain, Grade
from portolan.estate.base import HeaderName, at_port
from portolan.estate.client import EdgeClient, PassingProgram
from portolan.estate.estate import Estate
from portolan.estate.guesses import changed_machines, machine_called, machines, touched_machines
from portolan.estate.service import Service, WebService, sites_of
from portolan.estate.site import Giving, Site, Upstream
from portolan.estate.url import BadUrlError, Url, parse
from portolan.estate.vantage import Vantage
from portolan.evidence.legs import Connection, Exchange
from portolan.journey.exchange import exchange
from portolan.journey.expectation import expected_urls
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.value import Value

#: How many pages are compared at most for one change.
MOST_PAGES = 60
#: What somebody writes who wants to be taken for one that came by https.
_PRETENDED = "https"


def page_gains(before: World, after: World, kept: World, asked: Asked) -> Iterator[Gain]:
    """Pages that came encrypted, or not at all, and now come plain."""
    vantages = [asked.vantage, *(each for each in after.estate.vantages.values() if each.name != asked.vantage.name)]
    urls = _urls(before, after, asked)
    plainly = _plainly_expected(after.estate)
    for url in urls:
        for vantage in vantages[: max(1, MOST_PAGES // len(urls))]:
            now = visit(after, url, after.there(vantage))
            if not _plain(now):
                continue
            then = visit(before, url, before.there(vantage))
            if _plain(then) or _plain(visit(kept, url, kept.there(vantage))):
                continue
            answered = then.exchanges[-1].response
            refused = answered is not None and answered.status >= 400
            if "takes-payments" not in asked.marks and refused and _arrival(then) == _arrival(now):
                # Plain requests were taken there already: what is new is the page.
                continue
            key = ("plain", url, vantage.name)
            page = now.outcome.page or url
            if any(each.handshake is not None or each.url.secure for each in then.exchanges):
                text = f"{vantage.name} gets {page} without encryption, where the way was encrypted before"
                yield Gain("unencrypted", key, text, "more")
                continue
            grade: Grade = "beside"
            if parse(url).host == parse(asked.url).host:
                guarded = asked.marks & {"takes-payments", "private"} or (
                    asked.expectation is not None and asked.expectation.secure and parse(asked.url).host not in plainly
                )
                grade = "more" if guarded else "needed" if str(parse(asked.url)) == url else "beside"
            yield Gain("plain", key, f"{vantage.name} newly gets {page} without encryption", grade)


def _plainly_expected(estate: Estate) -> set[str]:
    """The hosts of which something is expected plainly."""
    return {
        url.host
        for expectation, url in expected_urls(estate)
        if not url.secure and not expectation.secure and expectation.status is None
    }


def _plain(seen: Visit) -> bool:
    """Whether a page came without encryption."""
    return seen.outcome.kind == "served" and not seen.outcome.secure


def _arrival(seen: Visit) -> tuple[tuple[str | int, ...], int] | None:
    """Where a visit arrived last, and at which port."""
    connection = seen.exchanges[-1].connection
    arrival = connection.arrival if connection is not None else None
    return (arrival.service.place.path, arrival.listener.port) if arrival is not None else None


def _urls(before: World, after: World, asked: Asked) -> list[str]:
    """The URL asked, the same in the other scheme, and both of every name of a service that the change is about."""
    url = parse(asked.url)
    found = [str(url)]
    hosts = [url.shown_host]
    # What a program gives lies in the folders of its machine too.
    for _, machine in touched_machines(before.estate, after.estate):
        for service in machine.services.values():
            hosts += [name for site in sites_of(service).values() for name in site.names if "*" not in name]
    for host in dict.fromkeys(hosts):
        for scheme in ("http", "https"):
            try:
                found.append(str(parse(f"{scheme}://{host}{url.path if host == url.shown_host else '/'}")))
            except BadUrlError:
                continue
    return list(dict.fromkeys(found))[: MOST_PAGES // 2]


class _Told(Value, frozen=True):
    """What a program or an edge is told of those whom it asks."""

    secure: bool
    verified: bool
    name: str


def leg_gains(before: World, after: World, kept: World | None, asked: Asked, seen: Visit) -> Iterator[Gain]:
    """Legs between programs that are told to go plain, or unverified, and were told otherwise: whether anybody asked or not."""
    old = dict(_upstreams(before.estate))
    for path, told in _upstreams(after.estate):
        was = old.get(path)
        key = ("leg", *map(str, path))
        if was is not None and was.secure and not told.secure:
            yield Gain("unencrypted", key, f"{told.name} no longer asks encrypted what it passes on to", "more")
        elif was is not None and was.verified and not told.verified:
            yield Gain("unverified", key, f"{told.name} no longer checks whom it passes on to", "more")
    if kept is not None:
        yield from _let_plain(before, after, asked)
        yield from _opened_plain(before, after, kept, asked, seen)


def _upstreams(estate: Estate) -> Iterator[tuple[tuple[object, ...], _Told]]:
    for machine in machines(estate):
        for service in machine.services.values():
            # A program that is an edge is looked at as an edge.
            if isinstance(service, WebService) and service.edge is not None:
                continue
            for site in sites_of(service).values():
                giving: tuple[Giving, ...] = (site, *site.sections)
                for number, each in enumerate(giving):
                    if isinstance(each.upstream, Upstream):
                        secure = all(member.secure for member in each.upstream.to)
                        path = (machine.name, service.name, site.name, number)
                        yield path, _Told(secure, secure and each.upstream.verifies, site.name)


def _let_plain(before: World, after: World, asked: Asked) -> Iterator[Gain]:
    """Plain legs over the internet that are answered with what the same request was sent to a secure address for."""
    url = parse(asked.url)
    for scheme in ("http", "https"):
        try:
            text = str(parse(f"{scheme}://{url.shown_host}{url.path}")) if scheme != url.scheme else asked.url
        except BadUrlError:
            continue
        now = visit(after, text, after.there(asked.vantage))
        for each in now.tree:
            client, response, connection = each.client, each.response, each.connection
            if not isinstance(client, PassingProgram | EdgeClient) or each.url.secure:
                continue
            if response is None or connection is None or not 200 <= response.status < 300:
                continue
            if _over_internet(after, connection) and _forced(before, each.url, client):
                words = f"{client.name} gets what it asks of {each.url.host} without encryption, over the internet"
                yield Gain("unencrypted", ("let plain", *map(str, client.place.path)), words, "more")


def _opened_plain(before: World, after: World, kept: World, asked: Asked, seen: Visit) -> Iterator[Gain]:
    """Plain legs over the internet that policy newly lets through, for pages that visitors get encrypted; an encrypted way may be open."""
    guarded = bool(asked.marks & {"takes-payments", "private"})
    for each in seen.tree:
        client, connection = each.client, each.connection
        if not isinstance(client, PassingProgram | EdgeClient) or each.url.secure or not seen.outcome.secure:
            continue
        if connection is None or connection.arrival is None or not _over_internet(after, connection):
            continue
        if any(_connects(world, client, each.url) for world in (before, kept)):
            continue
        ports = [listener.port for listener in connection.arrival.service.listens if listener.tls]
        able = any(_connects(before, client, each.url.but(scheme="https", port=port)) for port in ports)
        text = f"{client.name} asks {each.url.host} without encryption, over the internet"
        key = ("opened plain", *map(str, client.place.path))
        yield Gain("unencrypted", key, text, "more" if able or guarded else "beside")


def _over_internet(world: World, connection: Connection) -> bool:
    """Whether a connection leaves its segment for the internet."""
    networks = world.estate.networks
    return any(hop.network in networks and networks[hop.network].kind == "internet" for hop in connection.hops)


def _asks(world: World, url: Url, client: PassingProgram | EdgeClient) -> Exchange | None:
    """What a program or an edge of another world gets in this one; None where its machine is not there."""
    machine = machine_called(world.estate, client.host)
    return exchange(world, url, client.but(machine=machine)) if machine is not None else None


def _connects(world: World, client: PassingProgram | EdgeClient, url: Url) -> bool:
    found = _asks(world, url, client)
    return found is not None and found.service is not None


def _forced(before: World, url: Url, client: PassingProgram | EdgeClient) -> bool:
    """Whether the same plain request, made before, was sent to a secure address."""
    found = _asks(before, url, client)
    return found is not None and _to_secure(found)


def _to_secure(found: Exchange) -> bool:
    """Whether an answer sends to a secure address."""
    return found.response is not None and (found.response.location or "").startswith("https:")


def forcing_gains(before: World, after: World, asked: Asked) -> Iterator[Gain]:
    """Sites that sent whoever asks plainly to a secure address, and now answer plainly: at the machine itself, by name; or to anybody
    who writes a header field that is believed.
    """
    path = parse(asked.url).path
    for earlier, machine in changed_machines(before.estate, after.estate):
        for service in machine.services.values():
            was = earlier.services.get(service.name)
            if was is service or not isinstance(was, WebService) or not isinstance(service, WebService):
                continue
            then, now = _Program(before, machine.name, was), _Program(after, machine.name, service)
            for name, site in service.sites.items():
                old = was.sites.get(name)
                if old is not None and (site.redirects is not old.redirects or service.program != was.program):
                    yield from _no_longer_forced(then, now, old, site, path)


def _no_longer_forced(then: "_Program", now: "_Program", old: Site, site: Site, path: str) -> Iterator[Gain]:
    service, named = now.service, next((str(each) for each in site.names if _is_one_name(each)), None)
    at = Vantage(name="(at the machine)", host=now.machine, says_host=named)
    key = ("forcing", now.machine, service.name, site.name)
    sent = now.sends(at, path)
    if _forcing_rules(site) < _forcing_rules(old) and not sent:
        yield Gain("unencrypted", key, f"{site.name} has a rule less for plain requests", "more")
    elif not sent and then.sends(at, path):
        text = f"{service.name} no longer sends plain requests for {site.name} to a secure address"
        yield Gain("unencrypted", key, text, "more")
    else:
        for field in _believed(service, site) - _believed(then.service, old):
            said = {HeaderName(field): _PRETENDED}
            pretender = Vantage(name="(pretender)", network="internet", address=STRANGER, says_host=named, headers=said)
            if then.sends(pretender, path) and now.gives(pretender, path):
                text = f"whoever sends {field}: {_PRETENDED} himself gets {site.name} without encryption"
                yield Gain("unencrypted", (*key, field), text, "more")


def _is_one_name(name: str) -> bool:
    """Whether a site's name is a name, and no pattern."""
    return bool(name) and name[0] not in "*." and "*" not in name


def _forcing_rules(site: Site) -> int:
    """How many of a site's redirects are for plain requests."""
    rules = (*site.redirects, *(each for section in site.sections for each in section.redirects))
    return sum(rule.when is not None and rule.when.scheme == "http" for rule in rules)


def _believed(service: WebService, site: Site) -> set[str]:
    """The header fields that decide what a site takes for the visitor's scheme, or lets in."""
    found = {getattr(service.program, "believes_scheme", None)}
    for rule in (*site.redirects, *(each for section in site.sections for each in section.redirects)):
        if rule.when is not None:
            found |= {*rule.when.header, *rule.when.not_header}
    return {str(each) for each in found if each is not None}


class _Program(Value, frozen=True):
    """A web server of a machine, to be asked plainly at the machine's own addresses."""

    world: World
    machine: str
    service: WebService

    def sends(self, asker: Vantage, path: str) -> bool:
        """Whether a plain request at one of its listeners is sent to a secure address."""
        return any(map(_to_secure, self._answers(asker, path)))

    def gives(self, asker: Vantage, path: str) -> bool:
        """Whether a plain request at one of its listeners is answered with a page."""
        return any(each.response is not None and each.response.status < 300 for each in self._answers(asker, path))

    def _answers(self, asker: Vantage, path: str) -> Iterator[Exchange]:
        there, world = machine_called(self.world.estate, self.machine), self.world
        if there is None:
            return
        if asker.host is None:
            world = world.with_vantages(asker)
            asker = world.there(asker)
        every = there.addresses if asker.host is None else there.addresses[:1]
        for listener in self.service.listens:
            bound = listener.address if listener.address and int(listener.address) else None
            for address in (bound,) if bound is not None else every:
                if not listener.tls:
                    yield visit(world, f"http://{at_port(address, listener.port)}{path}", asker).exchanges[0]


def listener_gains(before: Estate, after: Estate) -> Iterator[Gain]:
    """Listeners that spoke TLS and do not any more."""
    earlier = services_of(before)
    for path, service in services_of(after).items():
        old = earlier.get(path)
        secure = {each.key for each in old.listens if each.tls} if old is not None else set()
        for listener in service.listens:
            if listener.key in secure and not listener.tls:
                text = f"{service.name} on {path[1]} no longer encrypts what is said on {listener}"
                yield Gain("unencrypted", ("listener", *map(str, path), listener.key), text, "more")


def services_of(estate: Estate) -> dict[tuple[str, ...], Service]:
    """Every service, by its machine's name and its own."""
    return {
        ("machine", machine.name, name): service
        for machine in machines(estate)
        for name, service in machine.services.items()
    }
