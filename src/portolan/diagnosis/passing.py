"""Which services stand behind fronts and edges: whom programs pass on to, and who of them is asked by visitors too."""

from collections.abc import Iterator

from portolan.edge.origin import server_of, typed
from portolan.estate.base import IPAddress
from portolan.estate.edge import SwitchedEdge
from portolan.estate.estate import Estate
from portolan.estate.guesses import every_origin, machine_called, machines, whole_edges
from portolan.estate.service import sites_of
from portolan.estate.site import Upstream
from portolan.estate.url import DEFAULT_PORTS, BadUrlError, parse
from portolan.estate.vantage import Vantage
from portolan.journey.expectation import expected_urls, vantages_for
from portolan.journey.furnish import asking_boxes
from portolan.journey.world import World

#: From so many vantages a name is looked up.
_MOST_ASKING = 4
#: Where the estate states a service.
Path = tuple[str | int, ...]
#: Where a program asks: the machine's name, the host name or address, the port, and addresses that are asked whatever the name is.
_Asks = tuple[str, str, int, tuple[IPAddress, ...]]


def passed_to(world: World) -> dict[Path, frozenset[str]]:
    """The services that fronts and edges pass requests on to, with the machines that ask them; worked out once a world."""
    return world.once("passed to", lambda: _passed_to(world))


def _passed_to(world: World) -> dict[Path, frozenset[str]]:
    held: dict[Path, set[str]] = {}
    for name, host, port, addresses in (*_fronts(world.estate), *_edges(world.estate)):
        if machine_called(world.estate, name) is None:
            continue
        asker = Vantage(name="(a program)", host=name)
        for address in addresses or _resolved(world, asker, host):
            arrival = world.connect(asker, address, port).arrival
            if arrival is not None:
                held.setdefault(arrival.service.place.path, set()).add(name)
    return {path: frozenset(each) for path, each in held.items()}


def _resolved(world: World, asker: Vantage, host: str) -> tuple[IPAddress, ...]:
    try:
        literal = parse(f"http://{host}/").literal
    except BadUrlError:
        return ()
    return (literal,) if literal is not None else world.resolve(asker, host, None).addresses


def _fronts(estate: Estate) -> Iterator[_Asks]:
    for machine in machines(estate):
        for service in machine.services.values():
            for site in sites_of(service).values():
                for giving in (site, *site.sections):
                    for member in giving.upstream.members if isinstance(giving.upstream, Upstream) else ():
                        yield machine.name, member.shown_host, member.port, ()


def _edges(estate: Estate) -> Iterator[_Asks]:
    for edge in every_origin(estate):
        path = edge.place.path
        boxes = (str(path[1]),) if path[0] in ("hosts", "routers") else asking_boxes(edge)
        port = edge.asks.port or DEFAULT_PORTS["https" if edge.asks.secure else "http"]
        if isinstance(edge, SwitchedEdge) and edge.asks.at is None:
            held = [each.data for records in edge.records.values() for each in records if each.type in ("A", "AAAA")]
            for box in boxes:
                yield box, "", port, tuple(held)
            continue
        try:
            url = server_of(edge.asks, typed(edge.asks).name)
        except BadUrlError:
            continue
        for box in boxes:
            yield box, url.shown_host, url.port, ()


def asked_directly(world: World) -> frozenset[Path]:
    """Those of them that visitors are expected to ask too: at an address or a name of their own, or where they speak as they are asked."""
    behind = passed_to(world)
    if not behind:
        return frozenset()
    told = _told(world.estate)
    urls = _expected(world)
    found = set()
    for machine in machines(world.estate):
        own = set(machine.addresses)
        for service in machine.services.values():
            path = service.place.path
            if path not in behind:
                continue
            names = {str(each) for site in sites_of(service).values() for each in site.names} - told
            spoken = {(each.port, each.tls) for each in service.listens}
            if any(
                host in names or literal in own or (own & addresses and (port, secure) in spoken)
                for host, literal, port, secure, addresses in urls
            ):
                found.add(path)
    return frozenset(found)


def _expected(world: World) -> list[tuple[str, IPAddress | None, int, bool, set[IPAddress]]]:
    """What is expected, by host: its address where it is one, port and scheme, and the addresses that vantages find for it."""
    found: dict[tuple[str, int, bool], tuple[IPAddress | None, set[IPAddress]]] = {}
    for expectation, url in expected_urls(world.estate):
        key = (url.host.rstrip("."), url.port, url.secure)
        if key in found:
            continue
        addresses: set[IPAddress] = set()
        for vantage in vantages_for(world.estate, expectation)[:_MOST_ASKING] if url.literal is None else ():
            addresses |= set(world.resolve(vantage, url.host, None).addresses)
        found[key] = (url.literal, addresses)
    return [(host, literal, port, secure, held) for (host, port, secure), (literal, held) in found.items()]


def _told(estate: Estate) -> set[str]:
    """The names that fronts and edges answer to."""
    found = {str(name) for edge in whole_edges(estate) for name in edge.names}
    for zone in estate.zones.values():
        found |= set(zone.edge.records) if zone.edge is not None else set()
    for machine in machines(estate):
        for service in machine.services.values():
            for site in sites_of(service).values():
                if any(giving.upstream is not None for giving in (site, *site.sections)):
                    found |= {str(name) for name in site.names}
    return found
