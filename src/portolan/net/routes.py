"""Routing tables: which line takes a packet, and in which order tables are asked (RFC 1812 section 5.2.4.3)."""

from typing import TYPE_CHECKING

from portolan.estate.base import IPAddress, IPNetwork
from portolan.estate.guesses import leg_towards, on_internet
from portolan.estate.machine import Machine
from portolan.estate.network import MAIN_TABLE, Route, RoutingRule, RoutingTable
from portolan.net.rules import within
from portolan.source.place import Place
from portolan.source.value import Value

if TYPE_CHECKING:
    from portolan.net.topology import Device, Port, Topology

_EVERYTHING = 0, 0, 0


class RouteLine(Value, frozen=True):
    """One line of a routing table; `via` None means that the destination is a neighbour or on the internet."""

    network: int
    mask: int
    length: int
    via: IPAddress | None
    port: "Port"
    place: Place | None
    #: "unreachable", "blackhole" or "prohibit" where packets go nowhere.
    ends: str | None = None
    metric: int = 0
    #: Whether nothing states the gateway.
    assumed: bool = False
    #: What the machine itself sends from by this line, and the largest packet that it sends by it.
    source: IPAddress | None = None
    mtu: int | None = None
    #: The rule that led to this line's table.
    rule: RoutingRule | None = None

    @property
    def carries(self) -> int:
        """The largest packet that is sent by it."""
        return self.mtu or self.port.mtu

    def __str__(self) -> str:
        table = f", table {self.rule.table}" if self.rule is not None and self.rule.table else ""
        return (self.port.name if self.via is None else f"{self.port.name}, gateway {self.via}") + table

    def __format__(self, spec: str) -> str:
        return format(str(self), spec)


class Asking(Value, frozen=True):
    """What routing rules ask of a packet: its addresses as numbers, 0 for a source that is not chosen yet; mark and interface."""

    source: int
    target: int
    v6: bool
    mark: int = 0
    entering: str = "lo"


class Tables:
    """The routing tables of a device for one IP version, each sorted once."""

    def __init__(self, topology: "Topology", device: "Device", version: int) -> None:
        self._topology, self._device, self._version = topology, device, version
        stated = device.stated
        self.main = self._sorted([*self._connected(), *self._routes(stated.routes), *self._default()])
        self._rules: list[tuple[RoutingRule, list[RouteLine]]] = []
        if isinstance(stated, Machine):
            for rule in stated.routing_rules:
                self._rules.append((rule, self._led_to(rule, stated)))

    def find(self, target: int, asking: Asking | None = None) -> RouteLine | None:
        """The line that takes a packet: of the first table that rules lead to and that has one, else of the machine's own."""
        if asking is not None:
            for rule, lines in self._rules:
                if _is_for(rule, asking):
                    line = _longest(lines, target)
                    if line is not None:
                        return line
        return _longest(self.main, target)

    def _led_to(self, rule: RoutingRule, stated: Machine) -> list[RouteLine]:
        """The lines that a rule leads to, each knowing the rule."""
        if rule.type is not None:
            port = self._device.ports[0]
            return [RouteLine(*_EVERYTHING, None, port, rule.place, ends=rule.type, rule=rule)]
        if rule.table == MAIN_TABLE:
            lines = self.main
        else:
            table = stated.tables[rule.table or ""]
            lines = self._sorted([*self._routes(table.routes), *self._gateway_of(table)])
        return [line.but(rule=rule) for line in lines if line.length or not rule.without_default]

    def _sorted(self, lines: list[RouteLine]) -> list[RouteLine]:
        return sorted(lines, key=lambda line: (-line.length, line.metric))

    def _connected(self) -> list[RouteLine]:
        return [
            _line(prefix, None, port, port.place)
            for port in self._device.ports
            if port.up
            for prefix in port.prefixes
            if prefix is not None and prefix.version == self._version
        ]

    def _routes(self, routes: tuple[Route, ...]) -> list[RouteLine]:
        found = []
        for route in routes:
            out = self._port(route.on)
            if out is None and route.via is not None:
                out = self._towards(route.via)
            elif out is None and route.on is None:
                out = next(iter(self._device.ports), None)
            if route.to.version == self._version and out is not None and (out.up or route.type is not None):
                via = None if out.network.kind == "internet" else route.via
                line = _line(route.to, via, out, route.place)
                found.append(line.but(ends=route.type, metric=route.metric, source=route.source, mtu=route.mtu))
        return found

    def _gateway_of(self, table: RoutingTable) -> list[RouteLine]:
        """A further table's line for everything."""
        out = self._port(table.on)
        if table.gateway is not None:
            out = out or self._towards(table.gateway)
            if table.gateway.version != self._version:
                return []
        if out is None or not out.up:
            return []
        via = None if out.network.kind == "internet" else table.gateway
        place = table.place.key("gateway" if table.gateway is not None else "on")
        return [RouteLine(*_EVERYTHING, via, out, place)]

    def _default(self) -> list[RouteLine]:
        estate, stated = self._topology.estate, self._device.stated
        written = stated.gateway
        if written == "none":
            return []
        if written is not None:
            ways = [(address, self._towards(address)) for address in written if address.version == self._version]
            return [
                RouteLine(
                    *_EVERYTHING, None if out.network.kind == "internet" else address, out, stated.place.key("gateway")
                )
                for address, out in ways
                if out is not None and out.up
            ]
        if on_internet(estate, stated, self._version):
            lines = (
                port
                for port in self._device.ports
                if port.network.kind == "internet" and any(each.version == self._version for each in port.addresses)
            )
            first = next(lines)
            return [RouteLine(*_EVERYTHING, None, first, first.place)] if first.up else []
        for _, address in self._topology.gateways.candidates(stated, self._version)[:1]:
            near = self._towards(address)
            if near is not None and near.up:
                return [RouteLine(*_EVERYTHING, address, near, None, assumed=True)]
        return []

    def _towards(self, neighbour: IPAddress) -> "Port | None":
        return self._port(leg_towards(self._topology.estate, self._device.stated, neighbour))

    def _port(self, name: str | None) -> "Port | None":
        return next((port for port in self._device.ports if port.name == name), None) if name is not None else None


def _longest(lines: list[RouteLine], target: int) -> RouteLine | None:
    for line in lines:
        if target & line.mask == line.network:
            return line
    return None


def _is_for(rule: RoutingRule, asking: Asking) -> bool:
    """Whether a rule takes a packet; each thing that it asks for must be so."""
    return (
        (rule.mark is None or rule.mark == asking.mark)
        and (rule.entering is None or rule.entering == asking.entering)
        and (not rule.sources or within(asking.source, asking.v6, rule.sources))
        and (not rule.destinations or within(asking.target, asking.v6, rule.destinations))
    )


def _line(prefix: IPNetwork, via: IPAddress | None, port: "Port", place: Place | None) -> RouteLine:
    return RouteLine(int(prefix.network_address), int(prefix.netmask), prefix.prefixlen, via, port, place)
