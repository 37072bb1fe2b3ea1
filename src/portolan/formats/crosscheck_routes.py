"""Cross-checks of routing: next routers, tables, the rules that lead to them, marks, and which addresses packets leave from."""

from collections.abc import Callable, Collection, Iterable

from portolan.estate.base import IPAddress
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, leg_towards, prefix_of
from portolan.estate.machine import Machine
from portolan.estate.network import MAIN_TABLE, Interface, Network, Route, RoutingTable
from portolan.estate.vantage import Vantage
from portolan.source.nearest import did_you_mean
from portolan.source.place import Place
from portolan.source.plain import one_line

Note = Callable[..., None]


def there(names: Iterable[str], interfaces: Collection[str], place: Place, note: Note) -> None:
    """Interfaces that are named: the machine has them."""
    for name in names:
        if name not in interfaces:
            note(place, f"no interface is named '{one_line(name)}' on this machine", did_you_mean(name, interfaces))


def neighbour(estate: Estate, machine: Machine | Vantage, via: IPAddress, place: Place, note: Note) -> None:
    """A next router: it must be found by one of the machine's interfaces."""
    if leg_towards(estate, machine, via) is not None:
        return
    if via.is_link_local:
        hint = "Say by which interface it is reached: {to: '::/0', via: " + str(via) + ", on: ...} under 'routes'."
        note(place, f"'{one_line(machine.name)}' has several interfaces with IPv6, or none: {via} may be on any", hint)
        return
    held = [
        prefix
        for name, addresses in attachments(machine)
        for address in addresses
        if (prefix := prefix_of(address, estate.networks.get(name))) is not None and prefix.version == via.version
    ]
    ranges = ", ".join(map(str, held)) or "none"
    note(
        place,
        f"{via} is on no network of '{one_line(machine.name)}' (its ranges: {ranges})",
        f"If it is reached all the same, say by which interface: {{to: {via}/{via.max_prefixlen}, on: ...}} under 'routes'.",
    )


def _table_of(estate: Estate, machine: Machine, table: RoutingTable, note: Note) -> None:
    """A further routing table."""
    if table.name == MAIN_TABLE:
        note(table.place, f"'{MAIN_TABLE}' is the machine's own table", "Write its routes under 'routes'.")
    if table.on is not None and table.on not in machine.interfaces:
        there([table.on], machine.interfaces, table.place.key("on"), note)
    elif table.gateway is not None and table.on is None:
        neighbour(estate, machine, table.gateway, table.place.key("gateway"), note)
    elif table.on is not None and table.gateway is None:
        network = estate.networks.get(machine.interfaces[table.on].network)
        if network is None or network.kind != "internet":
            note(table.place.key("on"), f"{one_line(table.on)} is no line to the internet", "Add its 'gateway'.")
    if table.gateway is None and table.on is None and not table.routes:
        note(table.place, "nothing is in this table", "Write for example: {gateway: 10.20.0.2}.")


def ruled(estate: Estate, machine: Machine, note: Note) -> None:
    """Further tables, the rules that lead to them, and marks."""
    for table in machine.tables.values():
        _table_of(estate, machine, table, note)
        _route_lines(estate, machine, table.routes, note)
    known = (*machine.tables, MAIN_TABLE)
    marks = {each.mark for each in machine.packet_marks}
    for rule in machine.routing_rules:
        if (rule.table is None) == (rule.type is None):
            note(
                rule.place,
                "a routing rule has exactly one of 'table' and 'type'",
                "Write for example: {table: second}.",
            )
        if rule.table is not None and rule.table not in known:
            note(
                rule.place.key("table"),
                f"no table of this machine is named '{one_line(rule.table)}'",
                did_you_mean(rule.table, known) or "Add it under 'tables'.",
            )
        if rule.entering not in (None, "lo"):
            there([str(rule.entering)], machine.interfaces, rule.place.key("in"), note)
        if rule.mark is not None and rule.mark not in marks:
            note(
                rule.place.key("mark"),
                f"nothing on this machine gives packets the mark {rule.mark}",
                "Add it under 'packet_marks'.",
            )
    for mark in machine.packet_marks:
        if not 0 < mark.mark < 1 << 32:
            note(mark.place.key("mark"), f"expected a mark, 1 to 4294967295, found {mark.mark}")
        if mark.own and mark.entering:
            note(
                mark.place.key("in"),
                "what the machine itself sends came in by no interface",
                "Take 'in' or 'own' away.",
            )
        if mark.tcp and mark.udp:
            note(mark.place, "a mark is narrowed by 'tcp' or by 'udp'", "Write a line for each.")
        there(mark.entering, machine.interfaces, mark.place.key("in"), note)


def routes(estate: Estate, machine: Machine | Vantage, note: Note) -> None:
    """A machine's own routes."""
    _route_lines(estate, machine, machine.routes, note)


def _route_lines(estate: Estate, machine: Machine | Vantage, routes: tuple[Route, ...], note: Note) -> None:
    names = tuple(machine.interfaces) if isinstance(machine, Machine) else (machine.network or "",)
    for route in routes:
        if (route.type is None) == (route.via is None and route.on is None):
            note(
                route.place,
                "a route has 'via', 'on' or both, or else 'type'",
                "Write for example: {to: 10.30.0.0/24, via: 10.20.0.1}.",
            )
        if route.via is not None:
            if route.on is None:
                neighbour(estate, machine, route.via, route.place.key("via"), note)
            if route.via.version != route.to.version:
                note(route.place, "'to' and 'via' are of different IP versions")
        if route.on is not None:
            there([route.on], names, route.place.key("on"), note)
        _source_of(machine, route, note)
        mtu(route.mtu, route.place, note)


def _source_of(machine: Machine | Vantage, route: Route, note: Note) -> None:
    if route.source is None:
        return
    held = machine.addresses if isinstance(machine, Machine) else tuple(item.ip for item in machine.address)
    if route.source not in held:
        near = did_you_mean(str(route.source), [str(each) for each in held])
        note(route.place.key("source"), f"{route.source} is no address of '{one_line(machine.name)}'", near)
    elif route.source.version != route.to.version:
        note(route.place, "'to' and 'source' are of different IP versions")


#: The smallest MTU of IPv4 links (RFC 791), and the largest packet there is.
_MTUS = (68, 65535)
_LEAST_V6 = 1280
#: RES_MAXNDOTS of glibc.
_MOST_DOTS = 15


def mtu(octets: int | None, place: Place, note: Note) -> None:
    """A size of packets."""
    if octets is not None and not _MTUS[0] <= octets <= _MTUS[1]:
        note(place.key("mtu"), f"expected {_MTUS[0]} to {_MTUS[1]} octets, found {octets}")


def sized(interface: Interface, network: Network, note: Note) -> None:
    """An interface's MTU: IPv6 needs 1,280 octets of every link (RFC 8200 section 5)."""
    mtu(interface.mtu, interface.place, note)
    least = min(interface.mtu or 65535, network.mtu or 65535)
    if least < _LEAST_V6 and any(item.version == 6 for item in interface.address):
        of = interface if (interface.mtu or 65535) == least else network
        note(
            of.place.key("mtu"), f"IPv6 needs {_LEAST_V6} octets of every link, and {interface.name} has IPv6 addresses"
        )


def dots(owner: Machine | Vantage, note: Note) -> None:
    """How many dots a name must have: as resolver files take it."""
    if not 0 <= owner.ndots <= _MOST_DOTS:
        note(owner.place.key("ndots"), f"expected 0 to {_MOST_DOTS} dots, found {owner.ndots}")


def kinds_of(interface: Interface, note: Note) -> None:
    """What is said of an interface's addresses: that they are old, or made for a time."""
    held = {item.ip for item in interface.address}
    for key, listed in (("deprecated", interface.deprecated), ("temporary", interface.temporary)):
        for address in listed:
            if address not in held:
                near = did_you_mean(str(address), [str(each) for each in held])
                note(interface.place.key(key), f"{address} is no address of this interface", near)
            elif address.version == 4:
                note(interface.place.key(key), f"{address} is an IPv4 address; only those of IPv6 are chosen among so")
