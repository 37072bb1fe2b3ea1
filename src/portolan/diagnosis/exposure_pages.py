"""Pages and legs that newly go without encryption, or unverified, where policy lets them."""

from collections.abc import Iterator
from typing import NamedTuple

import msgspec

from portolan.diagnosis.gains import STRANGER, Asked, Gain, Grade
from portolan.estate.base import HeaderName
from portolan.estate.client import EdgeClient, PassingProgram
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.service import Service, WebService
from portolan.estate.site import Giving, Site, Upstream
from portolan.estate.url import BadUrlError, Url, parse
from portolan.estate.vantage import Vantage
from portolan.evidence.legs import Connection, Exchange
from portolan.journey.exchange import exchange
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World

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
            now = visit(after, url, after.estate.vantages.get(vantage.name, vantage))
            if not _plain(now):
                continue
            then = visit(before, url, before.estate.vantages.get(vantage.name, vantage))
            if _plain(then) or _plain(visit(kept, url, kept.estate.vantages.get(vantage.name, vantage))):
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
    found = set()
    for expectation in estate.expected:
        try:
            url = parse(expectation.url)
        except BadUrlError:
            continue
        if not url.secure and not expectation.secure and expectation.status is None:
            found.add(url.host)
    return found


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
    old = services_of(before.estate)
    for path, service in services_of(after.estate).items():
        if isinstance(service, WebService) and old.get(path) is not service:
            hosts += [name for site in service.sites.values() for name in site.names if "*" not in name]
    for host in dict.fromkeys(hosts):
        for scheme in ("http", "https"):
            try:
                found.append(str(parse(f"{scheme}://{host}{url.path if host == url.shown_host else '/'}")))
            except BadUrlError:
                continue
    return list(dict.fromkeys(found))[: MOST_PAGES // 2]


class _Told(NamedTuple):
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
            for site in service.sites.values() if isinstance(service, WebService) and service.edge is None else ():
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
        now = visit(after, text, after.estate.vantages.get(asked.vantage.name, asked.vantage))
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
        able = any(_connects(before, client, each.url._replace(scheme="https", port=port)) for port in ports)
        text = f"{client.name} asks {each.url.host} without encryption, over the internet"
        key = ("opened plain", *map(str, client.place.path))
        yield Gain("unencrypted", key, text, "more" if able or guarded else "beside")


def _over_internet(world: World, connection: Connection) -> bool:
    """Whether a connection leaves its segment for the internet."""
    networks = world.estate.networks
    return any(hop.network in networks and networks[hop.network].kind == "internet" for hop in connection.hops)


def _connects(world: World, client: PassingProgram | EdgeClient, url: Url) -> bool:
    machine = world.estate.hosts.get(client.host) or world.estate.routers.get(client.host)
    if machine is None:
        return False
    connection = exchange(world, url, client._replace(machine=machine)).connection
    return connection is not None and connection.arrival is not None


def _forced(before: World, url: Url, client: PassingProgram | EdgeClient) -> bool:
    """Whether the same plain request, made before, was sent to a secure address."""
    machine = before.estate.hosts.get(client.host) or before.estate.routers.get(client.host)
    if machine is None:
        return False
    response = exchange(before, url, client._replace(machine=machine)).response
    return response is not None and (response.location or "").startswith("https:")


def forcing_gains(before: World, after: World, asked: Asked) -> Iterator[Gain]:
    """Sites that sent whoever asks plainly to a secure address, and now answer plainly: at the machine itself, by name; or to anybody
    who writes a header field that is believed.
    """
    old = services_of(before.estate)
    path = parse(asked.url).path
    for machine in machines(after.estate):
        for service in machine.services.values():
            was = old.get(("machine", machine.name, service.name))
            if was is service or not isinstance(was, WebService) or not isinstance(service, WebService):
                continue
            for name, site in service.sites.items():
                if name not in was.sites or (
                    site.redirects is was.sites[name].redirects and service.program == was.program
                ):
                    continue
                named = next(
                    (str(each) for each in site.names if each and each[0] not in "*." and "*" not in each), None
                )
                at = Vantage(name="(at the machine)", host=machine.name, says_host=named)
                key = ("forcing", machine.name, service.name, name)
                if _forcing_rules(site) < _forcing_rules(was.sites[name]) and not _sent(
                    after, machine.name, service, at, path
                ):
                    text = f"{site.name} has a rule less for plain requests"
                    yield Gain("unencrypted", key, text, "more")
                    continue
                if _sent(before, machine.name, was, at, path) and not _sent(after, machine.name, service, at, path):
                    text = f"{service.name} no longer sends plain requests for {site.name} to a secure address"
                    yield Gain("unencrypted", key, text, "more")
                    continue
                for field in _believed(service, site) - _believed(was, was.sites[name]):
                    pretender = Vantage(
                        name="(pretender)",
                        network="internet",
                        address=STRANGER,
                        says_host=named,
                        headers={HeaderName(field): _PRETENDED},
                    )
                    if _sent(before, machine.name, was, pretender, path) and _given(
                        after, machine.name, service, pretender, path
                    ):
                        text = f"whoever sends {field}: {_PRETENDED} himself gets {site.name} without encryption"
                        yield Gain("unencrypted", (*key, field), text, "more")


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


def _answers(world: World, machine: str, service: WebService, asker: Vantage, path: str) -> Iterator[Exchange]:
    """What an asker gets at each plain listener of a service, at the machine's own addresses."""
    there = world.estate.hosts.get(machine) or world.estate.routers.get(machine)
    if there is None:
        return
    if asker.host is None:
        world = world.changed(
            msgspec.structs.replace(world.stated, vantages={**world.stated.vantages, asker.name: asker})
        )
        asker = world.estate.vantages[asker.name]
    for listener in service.listens:
        bound = listener.address if listener.address and int(listener.address) else None
        for address in (
            (bound,) if bound is not None else there.addresses if asker.host is None else there.addresses[:1]
        ):
            if not listener.tls:
                shown = f"[{address}]" if address.version == 6 else str(address)
                yield visit(world, f"http://{shown}:{listener.port}{path}", asker).exchanges[0]


def _sent(world: World, machine: str, service: WebService, asker: Vantage, path: str) -> bool:
    """Whether a plain request at one of the service's listeners is sent to a secure address."""
    return any(
        each.response is not None and (each.response.location or "").startswith("https:")
        for each in _answers(world, machine, service, asker, path)
    )


def _given(world: World, machine: str, service: WebService, asker: Vantage, path: str) -> bool:
    """Whether a plain request at one of the service's listeners is answered with a page."""
    return any(
        each.response is not None and each.response.status < 300
        for each in _answers(world, machine, service, asker, path)
    )


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
