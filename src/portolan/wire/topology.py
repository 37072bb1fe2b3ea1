"""The estate's boxes made ready for walking: addresses, neighbours and routing tables, each worked out once."""

from collections.abc import Callable
from typing import Any, NamedTuple

from portolan.estate.base import IPAddress, IPInterface, IPNetwork, is_public
from portolan.estate.estate import Estate
from portolan.estate.filter import Filter
from portolan.estate.guesses import (
    INTERNET,
    gateway_candidates,
    machines,
    network_named,
    on_internet,
    prefix_of,
    uplinks,
)
from portolan.estate.machine import Machine, Router
from portolan.estate.network import Interface, Network
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.source.place import Place
from portolan.wire.listeners import Sockets, open_sockets

#: Says why a service does not start for reasons of another room (a certificate without its key, say), or None.
Startup = Callable[[Service], str | None]


class RouteLine(NamedTuple):
    """One line of a routing table; `via` None means that the destination is a neighbour or on the internet."""

    network: int
    mask: int
    length: int
    via: IPAddress | None
    port: "Port"
    place: Place | None

    def __str__(self) -> str:
        return self.port.name if self.via is None else f"{self.port.name}, gateway {self.via}"

    def __format__(self, spec: str) -> str:
        return format(str(self), spec)


class Port:
    """An interface of a device."""

    __slots__ = ("addresses", "device", "groups", "name", "network", "place", "prefixes", "stated")

    def __init__(self, device: "Device", name: str, network: Network, addresses: tuple[IPInterface, ...],
                 stated: Interface | None) -> None:  # fmt: skip
        self.device = device
        self.name = name
        self.network = network
        self.addresses = tuple(address.ip for address in addresses)
        self.prefixes = tuple(prefix_of(address, network) for address in addresses)
        self.groups = stated.groups if stated is not None else None
        self.stated = stated
        self.place = stated.place if stated is not None else device.place

    def source_for(self, target: IPAddress) -> IPAddress | None:
        """The address to send from towards a next hop: one in its range first, else the first of its family."""
        first = None
        for address, prefix in zip(self.addresses, self.prefixes, strict=True):
            if address.version == target.version:
                if prefix is not None and target in prefix:
                    return address
                first = first or address
        return first


class Device:
    """A machine or a visitor's device, with its tables."""

    def __init__(self, topology: "Topology", stated: Machine | Vantage) -> None:
        self.name = stated.name
        self.stated = stated
        self.place = stated.place
        self.is_router = isinstance(stated, Router)
        self.filter: Filter | None = stated.filter
        self.ports: list[Port] = []
        if isinstance(stated, Vantage):
            network = network_named(topology.estate, stated.network or "") or INTERNET
            self.ports.append(Port(self, network.name, network, stated.address, None))
        else:
            for interface in stated.interfaces.values():
                network = network_named(topology.estate, interface.network or interface.name) or INTERNET
                self.ports.append(Port(self, interface.name, network, interface.address, interface))
        self.local: dict[IPAddress, Port] = {address: port for port in self.ports for address in port.addresses}
        self.forwards = stated.forwards if isinstance(stated, Router) else ()
        self.masquerade = stated.masquerade if isinstance(stated, Router) else ()
        self.hairpin = stated.hairpin if isinstance(stated, Router) else "off"
        self.routes: dict[int, list[RouteLine]] = {}
        self._topology = topology
        self._sockets: Sockets | None = None

    @property
    def label(self) -> str:
        """The name for explanations."""
        return f"the visitor ({self.name})" if isinstance(self.stated, Vantage) else self.name

    @property
    def sockets(self) -> Sockets:
        """What listens here."""
        if self._sockets is None:
            services = self.stated.services if isinstance(self.stated, Machine) else {}
            self._sockets = open_sockets(services.values(), self.local, self._topology.startup)
        return self._sockets

    def route(self, target: IPAddress) -> RouteLine | None:
        """The longest prefix that holds the target (RFC 1812 section 5.2.4.3)."""
        lines = self.routes.get(target.version)
        if lines is None:
            lines = self.routes[target.version] = self._table(target.version)
        value = int(target)
        for line in lines:
            if value & line.mask == line.network:
                return line
        return None

    def _table(self, version: int) -> list[RouteLine]:
        estate, stated = self._topology.estate, self.stated
        lines = [
            _line(prefix, None, port, port.place)
            for port in self.ports
            for prefix in port.prefixes
            if prefix is not None and prefix.version == version
        ]
        for route in stated.routes:
            out = self._port_towards(route.via)
            if route.to.version == version and out is not None:
                lines.append(_line(route.to, route.via, out, route.place))
        written = stated.gateway
        everything = 0, 0, 0
        if written == "none":
            pass
        elif written is not None:
            for address in written:
                out = self._port_towards(address)
                if address.version == version and out is not None:
                    lines.append(RouteLine(*everything, address, out, stated.place.key("gateway")))
        elif on_internet(estate, stated, version):
            out = next(port for port in self.ports if port.network.kind == "internet"
                       and any(address.version == version for address in port.addresses))  # fmt: skip
            lines.append(RouteLine(*everything, None, out, out.place))
        else:
            for _, address in gateway_candidates(estate, stated, version)[:1]:
                out = self._port_towards(address)
                if out is not None:
                    lines.append(RouteLine(*everything, address, out, None))
        return sorted(lines, key=lambda line: -line.length)

    def _port_towards(self, neighbour: IPAddress) -> Port | None:
        for port in self.ports:
            if any(prefix is not None and neighbour in prefix for prefix in port.prefixes):
                return port
        return None


class Topology:
    """Every box of an estate, and who is where; `extras` are devices that no file states."""

    def __init__(self, estate: Estate, startup: Startup, extras: tuple[Vantage, ...] = ()) -> None:
        self.estate = estate
        self.startup = startup
        self._devices: dict[Any, Device] = {}
        self.on_link: dict[str, dict[IPAddress, Port]] = {}
        visitors = (each for each in (*estate.vantages.values(), *extras) if each.network)
        boxes: list[Machine | Vantage] = [*machines(estate), *visitors]
        for stated in boxes:
            device = self.device(stated)
            for port in device.ports:
                held = self.on_link.setdefault(port.network.name, {})
                for address in port.addresses:
                    held.setdefault(address, port)
        self._ranges = self._routed_ranges()
        self.members: dict[str, frozenset[IPAddress]] = {
            name: frozenset(address for machine in machines(estate) for interface in machine.interfaces.values()
                            if name in (interface.groups or ()) for address in (item.ip for item in interface.address))
            for name in estate.groups
        }  # fmt: skip

    def device(self, stated: Machine | Vantage) -> Device:
        """The device of a machine or of a visitor."""
        if isinstance(stated, Vantage) and stated.host is not None:
            host = self.estate.hosts.get(stated.host) or self.estate.routers[stated.host]
            return self.device(host)
        found = self._devices.get(id(stated))
        if found is None:
            found = self._devices[id(stated)] = Device(self, stated)
        return found

    def holder(self, address: IPAddress) -> Device | None:
        """The box that has an address, on any network."""
        for ports in self.on_link.values():
            if address in ports:
                return ports[address].device
        return None

    def on_internet(self, address: IPAddress) -> Port | None:
        """Where the internet delivers a public address: its holder, or the router of the segment that it lies in."""
        port = self.on_link.get("internet", {}).get(address)
        if port is None:
            value = int(address)
            for version, network, mask, uplink in self._ranges:
                if version == address.version and value & mask == network:
                    return uplink
        return port

    def _routed_ranges(self) -> list[tuple[int, int, int, Port]]:
        found: list[tuple[int, int, int, Port]] = []
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
                    found.append((subnet.version, int(subnet.network_address), int(subnet.netmask), port))
        return found


def _line(prefix: IPNetwork, via: IPAddress | None, port: Port, place: Place | None) -> RouteLine:
    return RouteLine(int(prefix.network_address), int(prefix.netmask), prefix.prefixlen, via, port, place)
