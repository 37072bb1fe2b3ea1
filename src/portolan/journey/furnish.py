"""Edges and stores as boxes on the internet: an estate with their machines, the names of their providers, their certificates.

Nobody writes these down; they follow from what is written. Made anew for every changed estate, what is unchanged is shared.
"""

from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Sequence
from datetime import datetime
from functools import partial
from ipaddress import IPv4Address, IPv6Address, ip_interface
from typing import Any, Literal, TypeVar

import msgspec

from portolan.estate.base import HostName, IPAddress, IPNetwork
from portolan.estate.certificate import Certificate
from portolan.estate.edge import Edge, EdgeService, SwitchedEdge
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, stated_sources
from portolan.estate.machine import Host, Machine
from portolan.estate.network import Interface
from portolan.estate.records import Record, ZoneData
from portolan.estate.service import Listener, Service
from portolan.estate.store import Store, StoreDoor, Way
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Zone
from portolan.journey.moment import each_of, with_fields
from portolan.source.place import Place
from portolan.source.shared import Shared
from portolan.source.value import Value

_AMachine = TypeVar("_AMachine", bound=Machine)

#: Addresses that nobody states are taken from here (RFC 2544, RFC 5180): no estate has them for its own.
_MADE_UP_4, _MADE_UP_6 = int(IPv4Address("198.18.0.0")), int(IPv6Address("2001:2::"))
_EDGES, _PAGES, _OBJECTS, _SWITCHED = 1, 2, 3, 4
#: How many of each kind have addresses of their own before the next kind's begin.
_ROOM = 4096
_PLAIN, _SECURE = Listener(text="80", port=80), Listener(text="443 tls", port=443, tls=True)
#: So many parts of one range are told apart.
_MOST_PARTS = 15
#: How long providers let their names be kept, in seconds.
_TTL = 60


def furnished(estate: Estate, now: datetime, shared: Shared) -> Estate:
    """The estate with what edges and stores bring along; itself where there are none."""
    estate = with_programs(estate, shared)
    switched = [zone for zone in estate.zones.values() if zone.edge is not None]
    if not estate.edges and not estate.stores and not switched:
        return estate
    ranged = any(edge.asks_from for edge in (*estate.edges.values(), *(zone.edge for zone in switched if zone.edge)))
    sources = sorted(stated_sources(estate), key=_start) if ranged else []
    made = _Made(
        dict(estate.hosts), dict(estate.zones), dict(estate.certificates), _speaks_six(estate), sources, Counter()
    )
    for number, edge in enumerate(estate.edges.values()):
        if _in_effect(edge, now):
            _add_edge(made, edge, number, shared)
    for number, store in enumerate(estate.stores.values()):
        _add_store(made, store, number, shared)
    for number, zone in enumerate(switched):
        assert zone.edge is not None
        if _in_effect(zone.edge, now):
            machines, certificate, answering = shared.of(
                "furnished", zone, partial(_switched, zone, number, made.six), (number, made.six)
            )
            made.hosts.update(machines)
            _add_ranges(made, zone.edge, shared)
            made.certificates[certificate.name] = certificate
            made.zones[zone.name] = answering
    return msgspec.structs.replace(estate, hosts=made.hosts, zones=made.zones, certificates=made.certificates)


def with_programs(estate: Estate, shared: Shared) -> Estate:
    """The estate with nginx in the place of edges that are said to be it, on machines of the estate."""

    def change(machine: _AMachine) -> _AMachine:
        found = {name: each for name, each in machine.services.items() if _is_nginx(each)}
        if not found:
            return machine

        def make() -> _AMachine:
            from portolan.journey.nginx_edge import as_web_service

            turned = {name: as_web_service(each) for name, each in found.items() if isinstance(each, EdgeService)}
            return msgspec.structs.replace(machine, services={**machine.services, **turned})

        made: _AMachine = shared.of("programs", machine, make)
        return made

    def all_changed(machines: dict[str, _AMachine]) -> dict[str, _AMachine]:
        return shared.lately("programs", (machines,), lambda: each_of(machines, change))

    return with_fields(estate, hosts=all_changed(estate.hosts), routers=all_changed(estate.routers))


def _is_nginx(service: Service) -> bool:
    return isinstance(service, EdgeService) and service.program == "nginx"


class _Made(Value, frozen=True):
    """What an estate has, and what is added to it."""

    hosts: dict[str, Host]
    zones: dict[str, Zone]
    certificates: dict[str, Certificate]
    six: bool
    #: The ranges that rules name, by version and first address.
    sources: list[IPNetwork]
    #: How many machines ask from each range: one for each kind of resolver that edges ask.
    asking: Counter[IPNetwork]


def _start(network: IPNetwork) -> tuple[Literal[4, 6], int]:
    return network.version, int(network.network_address)


def _add_edge(made: _Made, edge: Edge, number: int, shared: Shared) -> None:
    machines, certificate, addresses = shared.of(
        "furnished", edge, partial(_edge_boxes, edge, number, made.six), (number, made.six)
    )
    made.hosts.update(machines)
    _add_ranges(made, edge, shared)
    made.certificates[certificate.name] = certificate
    place = edge.place.key("canonical")
    _add_zone(made.zones, edge.canonical, place, addresses, stated=bool(edge.addresses))


def _add_store(made: _Made, store: Store, number: int, shared: Shared) -> None:
    ways: tuple[Way, ...] = ("pages", "objects")
    for way in ways:
        name: HostName | None = getattr(store, f"{way}_at")
        if name is not None:
            host, certificate, addresses = shared.of(
                "furnished", store, partial(_store_box, store, number, way, made.six), (number, way, made.six)
            )
            made.hosts[host.name] = host
            made.certificates[certificate.name] = certificate
            stated = bool(getattr(store, f"{way}_addresses"))
            _add_zone(made.zones, name, store.place.key(f"{way}_at"), addresses, stated=stated, below=True)


def _in_effect(edge: Edge, now: datetime) -> bool:
    """Whether an edge answers: its settings are in effect, or others were before."""
    return not edge.waits(now)


def providers_certificate(edge: EdgeService) -> str:
    """The name of the certificate that an edge's provider has for itself."""
    return f"(the provider's, of {edge.name})"


def store_certificate(door: StoreDoor) -> str:
    """The name of a store's own certificate."""
    return f"(the store's, for {door.at})"


# -- boxes --


def _made_up(kind: int, number: int, six: bool) -> tuple[IPAddress, ...]:
    step = kind * _ROOM + number + 1
    first = IPv4Address(_MADE_UP_4 + step)
    return (first, IPv6Address(_MADE_UP_6 + step)) if six else (first,)


def _speaks_six(estate: Estate) -> bool:
    """Whether anybody has an IPv6 address: only then providers have made-up ones, too."""
    boxes: list[Machine | Vantage] = [*estate.vantages.values(), *estate.hosts.values(), *estate.routers.values()]
    return any(item.version == 6 for box in boxes for _, held in attachments(box) for item in held)


def _box(name: str, place: Place, addresses: tuple[IPAddress, ...], *services: Service, **facts: Any) -> Host:
    held = tuple(ip_interface(f"{each}/{each.max_prefixlen}") for each in addresses)
    line = Interface(place=place, name="internet", network="internet", address=held)
    return Host(
        place=place,
        name=name,
        interfaces={"internet": line},
        services={each.name: each for each in services},  # type: ignore[misc]
        **facts,
    )


def box_of(edge: EdgeService) -> str:
    """The name of the machine that a rented edge answers on."""
    return f"the edge at {edge.zone}" if isinstance(edge, SwitchedEdge) and edge.zone else f"the edge {edge.name}"


def _asked(edge: EdgeService) -> tuple[IPAddress, ...] | Literal["validating"] | None:
    """An edge's resolver, as machines state theirs."""
    return edge.resolver if edge.resolver is None or isinstance(edge.resolver, str) else (edge.resolver,)


def asking_boxes(edge: EdgeService) -> tuple[str, ...]:
    """The names of the machines that a rented edge asks its origin from: one for each range, else the one that it answers on."""
    asking = f", asking {edge.resolver}" if edge.resolver is not None else ""
    return tuple(f"the edges' range {each}{asking}" for each in edge.asks_from) or (box_of(edge),)


def _edge_boxes(edge: Edge, number: int, six: bool) -> tuple[dict[str, Host], Certificate, tuple[IPAddress, ...]]:
    addresses = edge.addresses or _made_up(_EDGES, number, six)
    covered = (str(edge.canonical),) if edge.canonical is not None else tuple(map(str, addresses))
    certificate = Certificate(place=edge.place, name=providers_certificate(edge), names=covered)  # type: ignore[arg-type]
    return _boxes(edge, addresses), certificate, addresses


def _boxes(edge: Edge, addresses: tuple[IPAddress, ...]) -> dict[str, Host]:
    service: Service = edge
    if _is_nginx(edge):
        from portolan.journey.nginx_edge import as_web_service

        service = as_web_service(edge)
    answering = _box(box_of(edge), edge.place, addresses, service, resolver=_asked(edge))
    return {answering.name: answering}


def _add_ranges(made: _Made, edge: Edge, shared: Shared) -> None:
    """One machine for each range that edges ask from, which they share; one more where they ask other resolvers, and one for every part
    of a range that some rule tells from the rest: any address of it may ask.
    """
    for network, name in zip(edge.asks_from, asking_boxes(edge), strict=False):
        if name in made.hosts:
            continue
        taken = made.asking[network]
        made.asking[network] += 1
        address = network.network_address + min(taken + 1, network.num_addresses - 1)
        for number, each in enumerate((address, *_other_parts(network, address, made.sources)), 1):
            part = name if number == 1 else part_of_range(name, number)
            made.hosts[part] = shared.of(
                "furnished", edge, partial(_range_box, edge, part, each), ("range", part, each)
            )


def part_of_range(name: str, number: int) -> str:
    """The name of the machine that asks from a further part of a range, from 2 on."""
    return f"{name}, part {number}"


def _other_parts(network: IPNetwork, first: IPAddress, sources: Sequence[IPNetwork]) -> list[IPAddress]:
    """An address of every part of a range that rules tell apart, but the part of the first address."""
    low, high = int(network.network_address), int(network.broadcast_address)
    start = bisect_left(sources, (network.version, low), key=_start)
    end = bisect_right(sources, (network.version, high), key=_start)
    cuts = {each for each in sources[start:end] if each != network and int(each.broadcast_address) <= high}
    if not cuts:
        return []

    def part(address: IPAddress) -> frozenset[IPNetwork]:
        return frozenset(cut for cut in cuts if address in cut)

    ends = [network, *sorted(cuts, key=str)]
    near = [int(each.network_address) + step for each in ends for step in (0, 1, -1)]
    near += [int(each.broadcast_address) + step for each in ends for step in (0, -1, 1)]
    found = {part(first): first}
    for value in near:
        if low <= value <= high:
            address = type(first)(value)
            found.setdefault(part(address), address)
    return [each for each in found.values() if each != first][:_MOST_PARTS]


def _range_box(edge: Edge, name: str, address: IPAddress) -> Host:
    return _box(name, edge.place.key("asks_from"), (address,), resolver=_asked(edge))


def _store_box(store: Store, number: int, way: Way, six: bool) -> tuple[Host, Certificate, tuple[IPAddress, ...]]:
    name = HostName(getattr(store, f"{way}_at"))
    addresses = getattr(store, f"{way}_addresses") or _made_up(_PAGES if way == "pages" else _OBJECTS, number, six)
    secure = way == "objects" or store.pages_tls
    listens = (_PLAIN, _SECURE) if secure else (_PLAIN,)
    label = f"the {way} of {store.name}"
    door = StoreDoor(place=store.place, name=label, listens=listens, store=store, way=way, at=name)
    certificate = Certificate(place=store.place, name=store_certificate(door), names=(name, f"*.{name}"))  # type: ignore[arg-type]
    return _box(label, store.place, addresses, door), certificate, addresses


# -- names --


def _records(owner: str, addresses: tuple[IPAddress, ...], place: Place) -> dict[str, tuple[Record, ...]]:
    """Address records that stand at a line of the estate."""
    span = place.span
    found: dict[str, tuple[Record, ...]] = {}
    for address in addresses:
        kind = "A" if address.version == 4 else "AAAA"
        record = Record(owner, kind, _TTL, address, span.file, span.line, f"{owner} {kind} {address}")
        found[kind] = (*found.get(kind, ()), record)
    return found


def _add_zone(
    zones: dict[str, Zone],
    name: HostName | None,
    place: Place,
    addresses: tuple[IPAddress, ...],
    *,
    stated: bool,
    below: bool = False,
) -> None:
    """A provider's zone with one name, and with every name below it; not where a zone of the estate has the name."""
    theirs = (each for each, zone in zones.items() if zone.provided is None)
    if name is None or any(name == each or name.endswith("." + each) for each in theirs):
        return
    nodes = {str(name): _records(name, addresses, place)}
    if below:
        nodes[f"*.{name}"] = _records(f"*.{name}", addresses, place)
    provided: Literal["stated", "made-up"] = "stated" if stated else "made-up"
    zones[str(name)] = Zone(place=place, name=str(name), data=ZoneData(nodes), provided=provided)


_SWITCHED_TYPES = frozenset(("A", "AAAA", "CNAME", "HTTPS"))


def _switched(zone: Zone, number: int, six: bool) -> tuple[dict[str, Host], Certificate, Zone]:
    """A zone that answers with its edge's addresses, the edge's machines, and the certificate of the zone's provider."""
    stated = zone.edge
    assert stated is not None
    addresses = stated.addresses or _made_up(_SWITCHED, number, six)
    named = {str(each) for each in stated.names}
    records: dict[str, tuple[Record, ...]] = {}
    for owner, types in zone.data.nodes.items():
        held = tuple(record for kind in ("A", "AAAA", "CNAME") for record in types.get(kind, ()))
        if held and (owner in named or not named):
            records[owner] = held
    names = tuple(records)
    edge = msgspec.structs.replace(stated, name=zone.name, names=names, records=records, zone=zone.name)
    covered = (zone.name, f"*.{zone.name}")
    certificate = Certificate(place=stated.place, name=providers_certificate(edge), names=covered)  # type: ignore[arg-type]
    before = tuple(
        msgspec.structs.replace(each, data=_answering(each.data, names, addresses, stated)) for each in zone.before
    )
    views = {
        name: msgspec.structs.replace(each, data=_answering(each.data, names, addresses, stated))
        for name, each in zone.views.items()
    }
    answering = msgspec.structs.replace(
        zone, edge=edge, data=_answering(zone.data, names, addresses, stated), before=before, views=views
    )
    return _boxes(edge, addresses), certificate, answering


def _answering(
    data: ZoneData, names: tuple[str, ...], addresses: tuple[IPAddress, ...], edge: SwitchedEdge
) -> ZoneData:
    nodes = dict(data.nodes)
    for name in names:
        if name in nodes and _SWITCHED_TYPES & nodes[name].keys():
            kept = {kind: held for kind, held in nodes[name].items() if kind not in _SWITCHED_TYPES}
            nodes[name] = {**kept, **_records(name, addresses, edge.place)}
    return data.but(nodes=nodes)


def made_up(address: IPAddress) -> bool:
    """Whether an address was made up here."""
    first = _MADE_UP_4 if address.version == 4 else _MADE_UP_6
    return first < int(address) <= first + _ROOM * (_SWITCHED + 1)
