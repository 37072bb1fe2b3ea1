"""What rented edges and stores bring along on the stage: their boxes, their providers' names and certificates.

Worked out from the facts by itself; the engines have a way of their own for this, and where the two differ a rehearsal is to show it.
"""

from datetime import datetime
from ipaddress import IPv4Address, IPv6Address, ip_interface
from typing import Any, NamedTuple

import msgspec

from portolan.estate.base import HostName, IPAddress
from portolan.estate.certificate import Certificate
from portolan.estate.edge import Edge, SwitchedEdge
from portolan.estate.estate import Estate
from portolan.estate.machine import Host
from portolan.estate.network import Interface
from portolan.estate.records import Record, ZoneData
from portolan.estate.store import Store
from portolan.estate.zone import Zone
from portolan.rehearsal.facts import every_box, legs

#: Where boxes stand whose addresses nobody states (RFC 2544, RFC 5180); the stage's own servers have the lower half.
_FREE_4, _FREE_6 = int(IPv4Address("198.19.0.0")), int(IPv6Address("2001:2:0:1::"))
_TTL = 60


class Played(NamedTuple):
    """A box that a stand-in plays: an edge, or one address of a store; by which certificate, and from which addresses it asks."""

    host: str
    what: Edge | tuple[Store, str]
    certificate: str
    #: By range, the address of each family that it asks from; nothing: its own.
    sources: tuple[tuple[IPAddress, ...], ...] = ()
    records: dict[str, tuple[Record, ...]] = {}


def asked_by(edge: Edge | SwitchedEdge) -> tuple[IPAddress, ...] | str | None:
    """Whom an edge asks for its origin, as machines state it."""
    return edge.resolver if edge.resolver is None or isinstance(edge.resolver, str) else (edge.resolver,)


class _Extended:
    """An estate in the making."""

    def __init__(self, estate: Estate) -> None:
        self.estate = estate
        self.hosts = dict(estate.hosts)
        self.zones = dict(estate.zones)
        self.certificates = dict(estate.certificates)
        self.played: list[Played] = []
        self.six = any(
            item.version == 6 for box in every_box(estate) for _, _, held in legs(estate, box) for item in held
        )
        self._taken: dict[str, int] = {}

    def free(self) -> tuple[IPAddress, ...]:
        """Addresses that nobody has."""
        number = len(self.hosts) + 1
        first = IPv4Address(_FREE_4 + number)
        return (first, IPv6Address(_FREE_6 + number)) if self.six else (first,)

    def box(self, name: str, addresses: tuple[IPAddress, ...], of: Any, **facts: Any) -> None:
        """A machine on the internet."""
        held = tuple(ip_interface(f"{each}/{each.max_prefixlen}") for each in addresses)
        line = Interface(place=of.place, name="line", network="internet", address=held)
        self.hosts[name] = Host(place=of.place, name=name, interfaces={"line": line}, **facts)

    def certificate(self, names: tuple[str, ...], of: Any) -> str:
        """A certificate that everybody trusts."""
        name = f"(of {'/'.join(map(str, of.place.path))}, {len(self.certificates)})"
        self.certificates[name] = Certificate(place=of.place, name=name, names=names)  # type: ignore[arg-type]
        return name

    def name(self, name: HostName | None, addresses: tuple[IPAddress, ...], of: Any, below: bool) -> None:
        """A provider's name, and all below it, unless a zone of the estate has it."""
        if name is None or any(name == each or name.endswith(f".{each}") for each in self.estate.zones):
            return
        owners = (str(name), f"*.{name}") if below else (str(name),)
        nodes = {owner: records_of(owner, addresses) for owner in owners}
        self.zones[str(name)] = Zone(place=of.place, name=str(name), data=ZoneData(nodes))

    def sources(self, edge: Edge) -> tuple[tuple[IPAddress, ...], ...]:
        """Addresses from all over each range, which no other edge asks from: any of them may ask."""
        found: list[tuple[IPAddress, ...]] = []
        for network in edge.asks_from:
            number = self._taken[str(network)] = self._taken.get(str(network), 0) + 1
            size = network.num_addresses
            offsets = {min(at + number, size - 1) for at in (0, size // 4, size // 2, 3 * size // 4)}
            found += [(network.network_address + each,) for each in sorted(offsets)]
        return tuple(found)


def records_of(owner: str, addresses: tuple[IPAddress, ...]) -> dict[str, tuple[Record, ...]]:
    """Address records."""
    found: dict[str, tuple[Record, ...]] = {}
    for address in addresses:
        kind = "A" if address.version == 4 else "AAAA"
        record = Record(owner, kind, _TTL, address, "(stage)", 1, f"{owner} {_TTL} {kind} {address}")
        found[kind] = (*found.get(kind, ()), record)
    return found


def provided(estate: Estate, now: datetime) -> tuple[Estate, tuple[Played, ...]]:
    """The estate with all that providers bring along, and what is to be played on it."""
    made = _Extended(estate)
    for edge in estate.edges.values():
        if not edge.waits(now):
            _edge(made, edge)
    for store in estate.stores.values():
        _store(made, store)
    for zone in estate.zones.values():
        if zone.edge is not None and not zone.edge.waits(now):
            _switched(made, zone, zone.edge)
    if not made.played:
        return estate, ()
    extended = msgspec.structs.replace(estate, hosts=made.hosts, zones=made.zones, certificates=made.certificates)
    return extended, tuple(made.played)


def _edge(made: _Extended, edge: Edge) -> None:
    addresses = edge.addresses or made.free()
    names = (str(edge.canonical),) if edge.canonical is not None else tuple(map(str, addresses))
    certificate = made.certificate(names, edge)
    sources = made.sources(edge)
    host = f"edge {edge.name}"
    every = (*addresses, *(each for pair in sources for each in pair))
    made.box(host, tuple(dict.fromkeys(every)), edge, resolver=asked_by(edge))
    made.name(edge.canonical, addresses, edge, below=False)
    made.played.append(Played(host, edge, certificate, sources))


def _store(made: _Extended, store: Store) -> None:
    for way in ("pages", "objects"):
        at: HostName | None = getattr(store, f"{way}_at")
        if at is None:
            continue
        addresses = getattr(store, f"{way}_addresses") or made.free()
        host = f"store {store.name} {way}"
        certificate = made.certificate((str(at), f"*.{at}"), store) if way == "objects" or store.pages_tls else ""
        made.box(host, addresses, store)
        made.name(at, addresses, store, below=True)
        made.played.append(Played(host, (store, way), certificate))


def _switched(made: _Extended, zone: Zone, edge: SwitchedEdge) -> None:
    addresses = edge.addresses or made.free()
    wanted = {str(each) for each in edge.names}
    kinds = ("A", "AAAA", "CNAME")
    records = {
        owner: tuple(record for kind in kinds for record in types.get(kind, ()))
        for owner, types in zone.data.nodes.items()
        if any(kind in types for kind in kinds) and (not wanted or owner in wanted)
    }

    def turned(data: ZoneData) -> ZoneData:
        nodes = {
            owner: {
                **{kind: held for kind, held in types.items() if kind not in (*kinds, "HTTPS")},
                **records_of(owner, addresses),
            }
            if owner in records and any(kind in types for kind in (*kinds, "HTTPS"))
            else types
            for owner, types in data.nodes.items()
        }
        return data.but(nodes=nodes)

    host = f"edge at {zone.name}"
    sources = made.sources(edge)
    made.box(host, (*addresses, *(each for pair in sources for each in pair)), edge, resolver=asked_by(edge))
    made.zones[zone.name] = msgspec.structs.replace(
        zone,
        data=turned(zone.data),
        before=tuple(msgspec.structs.replace(each, data=turned(each.data)) for each in zone.before),
        views={name: msgspec.structs.replace(each, data=turned(each.data)) for name, each in zone.views.items()},
    )
    certificate = made.certificate((zone.name, f"*.{zone.name}"), edge)
    told = msgspec.structs.replace(edge, name=zone.name, names=tuple(records))
    made.played.append(Played(host, told, certificate, sources, records))
