"""The estate's boxes made ready for walking: addresses, neighbours and routing tables, each worked out once."""

from collections.abc import Callable
from functools import cached_property
from ipaddress import IPv6Address
from typing import Any
from zlib import crc32

from portolan.estate.base import IPAddress, IPInterface, is_public
from portolan.estate.estate import Estate
from portolan.estate.filter import OneFilter
from portolan.estate.guesses import Gateways, passes_on, prefix_of, uplinks
from portolan.estate.machine import Forward, Machine, Router
from portolan.estate.network import USUAL_MTU, Interface, Network
from portolan.estate.rules_here import rules_here
from portolan.estate.service import Service
from portolan.estate.vantage import AsIfVantage, Vantage
from portolan.evidence.start import StartFailure
from portolan.net.facing import Gathered, Leg, facing, gathered
from portolan.net.listeners import Sockets, Ways, open_sockets
from portolan.net.routes import Asking, RouteLine, Tables
from portolan.net.rules import Rules
from portolan.net.sources import source_by
from portolan.source.shared import Shared

#: By IP version, by an address's number: who has it on a network.
_Near = tuple[dict[int, "Port | Leg"], dict[int, "Port | Leg"]]
#: Says why a service does not start for reasons of another room (a certificate without its key, say), or None.
Startup = Callable[[Service], StartFailure | None]


class Port:
    """An interface of a device."""

    __slots__ = (
        "addresses",
        "blocks",
        "carried",
        "device",
        "groups",
        "guarded",
        "lists",
        "mtu",
        "name",
        "near",
        "network",
        "picky",
        "place",
        "prefixes",
        "reverse_path",
        "stated",
        "up",
        "values",
    )

    def __init__(
        self,
        device: "Device",
        name: str,
        network: Network,
        addresses: tuple[IPInterface, ...],
        stated: Interface | None,
    ) -> None:
        self.device = device
        self.name = name
        self.network = network
        self.addresses = tuple(address.ip for address in addresses)
        self.prefixes = tuple(prefix_of(address, network) for address in addresses)
        self.groups = stated.groups if stated is not None else None
        self.blocks = stated.provider_blocks if stated is not None else ()
        #: Whether packets between the network and this router pass an access list.
        self.lists = isinstance(device.stated, Router) and network.access_list is not None
        self.guarded = self.lists or self.groups is not None or device.arriving
        #: Who is on the network, by IP version (False: 4) and the address's number; from the topology, which is asked for it.
        self.near: _Near = ({}, {})
        self.stated = stated
        self.place = stated.place if stated is not None else device.place
        self.up = stated is None or stated.up
        #: The largest packet that it sends.
        self.mtu = (stated.mtu if stated is not None else None) or network.mtu or USUAL_MTU
        #: The largest packet that arrives by it: the link may carry less than it sends.
        self.carried = min(self.mtu, network.mtu or self.mtu)
        #: What becomes of packets for whose source there is another way: of two settings Linux takes the higher number.
        said = (
            device.stated.reverse_path if isinstance(device.stated, Machine) else None,
            stated and stated.reverse_path,
        )
        #: The numbers of its addresses, and whether it drops what has another way back.
        self.values = frozenset(map(int, self.addresses))
        self.reverse_path: str | None = next((each for each in ("loose", "strict", "off") if each in said), None)
        self.picky = self.reverse_path in ("loose", "strict")


class Device:
    """A machine or a visitor's device, with its tables."""

    def __init__(self, topology: "Topology", stated: Machine | Vantage) -> None:
        self.name = stated.name
        self.stated = stated
        self.place = stated.place
        self.is_router = passes_on(stated)
        #: What is asked of packets, one after the other; the first of them is the machine's filter.
        self.filters = topology.filters_of(stated) if stated.filter is not None else ()
        self.filter: OneFilter | None = self.filters[0] if self.filters else None
        #: Whether a chain is asked about everything that arrives.
        self.arriving = any(each.arriving is not None for each in self.filters)
        self.label = f"the visitor ({stated.name})" if isinstance(stated, Vantage) else stated.name
        #: Whose its addresses are.
        self.seat = facing(stated, topology.shared).seat
        self.ports: list[Port] = []
        if isinstance(stated, Vantage):
            network = topology.estate.networks[stated.network or "internet"]
            self.ports.append(Port(self, network.name, network, stated.address, None))
        else:
            for interface in stated.interfaces.values():
                network = topology.estate.networks[interface.network]
                self.ports.append(Port(self, interface.name, network, interface.address, interface))
        self.local: dict[IPAddress, Port] = {address: port for port in self.ports for address in port.addresses}
        #: The same by number: for IPv4, for IPv6.
        self.own: tuple[dict[int, Port], dict[int, Port]] = ({}, {})
        for address, port in self.local.items():
            # Linux takes the IPv6 addresses of an interface away that goes down, and keeps the IPv4 ones.
            if port.up or address.version == 4:
                self.own[address.version == 6][int(address)] = port
        machine = self.machine = stated if isinstance(stated, Machine) else None
        #: Whether lines of its filter or of its own settings could not be read.
        self.unread = any(each is not None and bool(each.unread) for each in (self.filter, machine))
        self.translates = machine is not None and bool(machine.forwards or machine.one_to_one)
        #: Whether a forward takes connections that the machine makes itself.
        self.translates_own = machine is not None and any(each.own_connections for each in machine.forwards)
        self.renames = machine is not None and bool(machine.translates)
        self._asks_each: bool | None = None
        self._tables: dict[bool, Tables] = {}
        #: Whether which way a packet goes depends on more than where it goes.
        self.ruled = machine is not None and bool(machine.routing_rules)
        self._topology = topology
        #: By protocol and port, those for one port; then those for ranges; each with its number in the order.
        self._forwards: tuple[dict[tuple[str, int], list[tuple[int, Forward]]], list[tuple[int, Forward]]] | None = None
        self._sockets: Sockets | None = None

    def forwards_at(self, protocol: str, port: int) -> list[Forward]:
        """The forwards that are switched on for a port, in their order; those for one port are found by it."""
        if self._forwards is None:
            self._forwards = {}, []
            for number, forward in enumerate(self.machine.forwards if self.machine is not None else ()):
                outside = forward.outside
                if forward.enabled and outside.first == outside.last:
                    self._forwards[0].setdefault((forward.protocol, outside.first), []).append((number, forward))
                elif forward.enabled:
                    self._forwards[1].append((number, forward))
        single, wide = self._forwards
        found = single.get((protocol, port), [])
        if wide:
            found = sorted(
                [*found, *(each for each in wide if each[1].protocol == protocol and port in each[1].outside)]
            )
        return [forward for _, forward in found]

    @property
    def asks_each(self) -> bool:
        """Whether its filter's rules decide about later packets of a connection, or would where the basics are unsaid."""
        if self._asks_each is None:
            self._asks_each = any(map(self._asks_of_each, self.filters))
        return self._asks_each

    def _asks_of_each(self, held: OneFilter) -> bool:
        if held.states("known-connections") and held.passes("known-connections"):
            return False
        chains = (held.inbound, held.forward, held.outbound)
        return not held.passes("known-connections") or any(
            chain is not None and self.prepared(chain).asks_state for chain in chains
        )

    def prepared(self, chain: Any) -> Rules:
        """A chain's rules ready for packets; made once for each chain."""
        return self._topology.shared.of("rules", chain, lambda: Rules(chain.rules))

    @property
    def sockets(self) -> Sockets:
        """What listens here."""
        if self._sockets is None:
            services = self.stated.services if isinstance(self.stated, Machine) else {}
            self._sockets = open_sockets(services.values(), self.local, self._topology.startup, self._topology.ways)
        return self._sockets

    def route(self, target: IPAddress) -> RouteLine | None:
        """The longest prefix that holds the target, as the machine finds it for a packet without a source yet."""
        return self.route_to(int(target), target.version == 6)

    def route_to(self, value: int, v6: bool, asking: Asking | None = None) -> RouteLine | None:
        """The same for an address's number; `asking` is what routing rules look at, where the device has any."""
        tables = self._tables.get(v6)
        if tables is None:
            tables = self._tables[v6] = Tables(self._topology, self, 6 if v6 else 4)
        if self.ruled:
            return tables.find(value, asking or Asking(0, value, v6))
        for line in tables.main:
            if value & line.mask == line.network:
                return line
        return None

    def source_for(self, target: IPAddress) -> IPAddress | None:
        """The address that it sends from towards another; None without a route or without an address."""
        line = self.route(target)
        return source_by(self, line, target) if line is not None else None


class Topology:
    """Every box of an estate, and who is where; `extras` are devices that no file states."""

    def __init__(
        self,
        estate: Estate,
        startup: Startup,
        ways: Ways,
        extras: tuple[Machine, ...] = (),
        shared: Shared | None = None,
    ) -> None:
        self.estate = estate
        self._gateways: Gateways | None = None
        self.startup = startup
        self.ways = ways
        self.shared = Shared() if shared is None else shared
        self._devices: dict[int, Device] = {}
        visitors = (each for each in estate.vantages.values() if each.network)
        boxes = Gathered((*visitors, *extras), self.shared, gathered(estate, self.shared))
        self._faces = boxes.faces
        #: By network, by IP version (False: 4), by an address's number: who has it; a leg until its device is made.
        self._near: dict[str, _Near] = boxes.near  # type: ignore[assignment]
        for _, face in boxes.special:
            for leg in face.answering:
                if estate.networks[leg.network].kind != "internet":
                    for value in face.own:
                        self._near[leg.network][False].setdefault(value, leg)
        #: Addresses that several boxes of a network have: network, whether IPv6, number.
        self.twice: dict[tuple[str, bool, int], tuple[Port, ...]] = {
            key: tuple(map(self._port, legs)) for key, legs in boxes.twice.items()
        }
        #: By network: the interfaces at which a machine answers for addresses of others.
        self.proxies: dict[str, list[Port]] = {}
        for _, face in boxes.special:
            for leg in face.proxies:
                self.proxies.setdefault(leg.network, []).append(self._port(leg))
        #: Whether anything says how large packets may be.
        self.sized = any(each.mtu for each in estate.networks.values()) or any(face.sized for _, face in boxes.special)
        self._internet = self._near.get("internet", ({}, {}))
        self._ranges = self._routed_ranges(boxes)
        groups: dict[str, list[IPAddress]] = {name: [] for name in estate.groups}
        for stated, face in boxes.special:
            for name, addresses in face.groups:
                if name in groups and stated.name in (estate.hosts, estate.routers)[isinstance(stated, Router)]:
                    groups[name] += addresses
        self.members: dict[str, frozenset[IPAddress]] = {name: frozenset(held) for name, held in groups.items()}

    def _port(self, leg: Leg) -> Port:
        """The interface of a leg."""
        return self.device(leg.stated).ports[leg.number]

    def _held(self, near: "dict[int, Port | Leg]", value: int) -> Port | None:
        """Who has an address, by its number, among those on a network; its device is made when it is first asked for."""
        held = near.get(value)
        if type(held) is Leg:
            held = near[value] = self._port(held)
        return held  # type: ignore[return-value]

    def neighbour(self, port: Port, value: int, v6: bool) -> Port | None:
        """Who has an address on an interface's network, or answers for it."""
        return self._held(port.near[v6], value)

    def on_link(self, network: str) -> list[Port]:
        """Every interface on a network, in the order written."""
        legs = (leg for face in self._faces.values() for leg in face.legs if leg.network == network)
        return [self._port(leg) for leg in legs if leg.addresses]

    def holders(self, address: IPAddress) -> list[Port]:
        """On each network, who has an address: the first that is written."""
        # Whoever only answers for it, by another of its interfaces, does not have it there.
        found = (self._held(near[address.version == 6], int(address)) for near in self._near.values())
        return [port for port in found if port is not None and address in port.addresses]

    @cached_property
    def addresses(self) -> frozenset[IPAddress]:
        """Every address that a box has."""
        return frozenset(each for face in self._faces.values() for leg in face.legs for each in leg.addresses)

    @property
    def gateways(self) -> Gateways:
        """Who passes packets on, for machines that name no gateway."""
        if self._gateways is None:
            self._gateways = Gateways(self.estate)
        return self._gateways

    def device(self, stated: Machine | Vantage) -> Device:
        """The device of a machine or of a visitor."""
        if isinstance(stated, Vantage) and stated.host is not None:
            host = self.estate.hosts.get(stated.host) or self.estate.routers[stated.host]
            return self.device(host)
        if isinstance(stated, AsIfVantage):
            # Whoever takes a name for another address sits where it sat before.
            stated = self.estate.vantages.get(stated.name, stated)
        found = self._devices.get(id(stated))
        if found is None:
            found = self._devices[id(stated)] = Device(self, stated)
            if id(stated) in self._faces:
                for port in found.ports:
                    port.near = self._near[port.network.name]
        return found

    def filters_of(self, stated: Machine | Vantage) -> tuple[OneFilter, ...]:
        """A device's filters as rules that depend on nothing else; made once while what they depend on is the same."""
        assert stated.filter is not None
        if isinstance(stated, Vantage):
            names: tuple[str, ...] = (stated.network or "internet",)
            held = tuple(item.ip for item in stated.address)
        else:
            names = tuple(stated.interfaces)
            held = stated.addresses
        held = (*held, link_local(stated.name))
        every = stated.filter.every
        return self.shared.of(
            "filter", stated.filter, lambda: tuple(rules_here(each, names, held) for each in every), names, held
        )

    def holder(self, address: IPAddress) -> Device | None:
        """The box that has an address, on any network."""
        held = self.holders(address)
        return held[0].device if held else None

    def on_internet(self, value: int, v6: bool) -> Port | None:
        """Where the internet delivers a public address: its holder, or the router that it or its range is routed to."""
        port = self._held(self._internet[v6], value)
        if port is None:
            for six, network, mask, uplink in self._ranges:
                if six is v6 and value & mask == network:
                    return uplink
        return port

    def _routed_ranges(self, boxes: Gathered) -> list[tuple[bool, int, int, Port]]:
        found: list[tuple[bool, int, int, Port]] = []
        for stated, face in boxes.special:
            for name, address in face.routed:
                line = next((port for port in self.device(stated).ports if port.name == name), None)
                if line is not None and line.network.kind == "internet":
                    whole = (1 << (128 if address.version == 6 else 32)) - 1
                    found.append((address.version == 6, int(address), whole, line))
        for network in self.estate.networks.values():
            if network.kind == "internet":
                continue
            names = uplinks(self.estate, network)
            if len(names) != 1:
                continue
            device = self.device(self.estate.routers[names[0]])
            port = next(port for port in device.ports if port.network.kind == "internet")
            for subnet in network.subnets:
                if is_public(subnet.network_address):
                    found.append((subnet.version == 6, int(subnet.network_address), int(subnet.netmask), port))
        return found


def link_local(name: str) -> IPAddress:
    """A device's link-local address (RFC 4291 section 2.5.6): some number of its own, for nothing states it."""
    return IPv6Address(0xFE80 << 112 | 1 << 32 | crc32(name.encode()))
