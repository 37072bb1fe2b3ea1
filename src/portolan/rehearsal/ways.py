"""The routing driver: routes, further tables, rules, marks, proxies, and what interfaces are set to."""

from collections.abc import Iterator

from portolan.estate.base import IPAddress
from portolan.estate.estate import Estate
from portolan.estate.machine import Machine
from portolan.estate.network import Interface, MarkRule, Network, Route, RoutingRule
from portolan.estate.vantage import Vantage
from portolan.rehearsal.facts import (
    Box,
    believes_near,
    every_box,
    legs,
    network_of,
    online_leg,
    passes_packets,
    public,
    router_beside,
)

GATE_6 = "fe80::1"
_PATHS = {"off": 0, "strict": 1, "loose": 2}
#: Marks stand in the upper half, for the lower one tells translations what came from where.
SHIFT = 16


def device_name(box: Box, interface: str) -> str:
    """The kernel's name of an interface: its place among the box's, since estate names may be long."""
    if interface == "lo":
        return interface
    names = list(box.interfaces) if isinstance(box, Machine) else [interface]
    return f"if{names.index(interface)}"


def routes_of(estate: Estate, box: Box) -> list[str]:
    """Lines for `ip`: what leads to gateways, the default, then the rest.

    A more particular route may end where the gateway is, and the kernel would refuse it then.
    """
    plain = [(each, _route(estate, box, each, "")) for each in box.routes]
    found = [text for each, text in plain if each.on is not None and each.via is None]
    found += _default(estate, box)
    found += [text for each, text in plain if each.on is None or each.via is not None]
    if isinstance(box, Machine):
        found += _tables(estate, box)
    return found


def _route(estate: Estate, box: Box, route: Route, table: str) -> str:
    rest = "".join(
        f" {word} {value}"
        for word, value in (
            ("metric", route.metric or None),
            ("src", route.source),
            ("mtu", route.mtu),
            ("table", table or None),
        )
        if value is not None
    )
    if route.type is not None:
        return f"route add {route.type} {route.to}{rest}"
    if route.on is None:
        return f"route add {route.to} {_by(estate, box, route.via)}{rest}"
    device = device_name(box, route.on)
    if _is_line(estate, box, route.on):
        return f"route add {route.to} via {gate_of(device, route.to.version)} dev {device} onlink{rest}"
    if route.via is None:
        return f"route add {route.to} dev {device}{rest}"
    return f"route add {route.to} via {route.via} dev {device} onlink{rest}"


def gate_of(device: str, version: int) -> str:
    """The far end of a line: one of its own for each interface, since IPv4 askers are looked for by their addresses."""
    return f"169.254.0.{int(device[2:]) + 1}" if version == 4 else GATE_6


def _is_line(estate: Estate, box: Box, name: str) -> bool:
    return any(leg == name and network.kind == "internet" for leg, network, _ in legs(estate, box))


def _by(estate: Estate, box: Box, via: IPAddress | None) -> str:
    """The next router of a line that names no interface: the kernel looks for it among what it is linked to."""
    if via is None:
        return ""
    if believes_near(estate, box, via) or any(each.on and each.via is None and via in each.to for each in box.routes):
        return f"via {via}"
    six = [name for name, _, held in legs(estate, box) if any(each.version == 6 for each in held)]
    if via.version == 6 and via.is_link_local and len(six) == 1:
        gate = GATE_6 if _is_line(estate, box, six[0]) else via
        return f"via {gate} dev {device_name(box, six[0])}"
    leg = online_leg(estate, box, via.version)
    if leg is not None and public(via):
        device = device_name(box, leg)
        return f"via {gate_of(device, via.version)} dev {device} onlink"
    return f"via {via}"


def _default(estate: Estate, box: Box) -> list[str]:
    if box.gateway is not None:
        written = [] if box.gateway == "none" else box.gateway
        return [f"route add default {_by(estate, box, address)}" for address in written]
    found = []
    for version in (4, 6):
        leg = online_leg(estate, box, version)
        gate = router_beside(estate, box, version)
        if leg is not None:
            device = device_name(box, leg)
            found.append(f"route add default via {gate_of(device, version)} dev {device} onlink")
        elif gate is not None and believes_near(estate, box, gate):
            # One that the machine's own mask leaves out is no neighbour, and the kernel does not take it.
            found.append(f"route add default via {gate}")
    return found


def _tables(estate: Estate, box: Machine) -> Iterator[str]:
    numbers = _numbers(box)
    for name, table in box.tables.items():
        for route in table.routes:
            yield _route(estate, box, route, str(numbers[name]))
        if table.on is not None and _is_line(estate, box, table.on):
            versions = [table.gateway.version] if table.gateway is not None else [4, 6]
            device = device_name(box, table.on)
            for version in versions:
                yield f"route add default via {gate_of(device, version)} dev {device} onlink table {numbers[name]}"
        elif table.gateway is not None:
            way = (
                f"via {table.gateway} dev {device_name(box, table.on)} onlink"
                if table.on is not None
                else _by(estate, box, table.gateway)
            )
            yield f"route add default {way} table {numbers[name]}"


def rules_of(box: Box) -> list[str]:
    """Routing rules, as commands of a shell: a batch has one IP version."""
    if not isinstance(box, Machine):
        return []
    numbers = _numbers(box)
    return [
        text for number, rule in enumerate(box.routing_rules) for text in _rules(box, rule, 1000 + 10 * number, numbers)
    ]


def _numbers(box: Machine) -> dict[str, int]:
    """The kernel's numbers of tables."""
    return {name: 100 + number for number, name in enumerate(box.tables)}


def _rules(box: Machine, rule: RoutingRule, place: int, numbers: dict[str, int]) -> Iterator[str]:
    """One rule of ours is one of the kernel's for each version and pair of ranges."""
    what = str(rule.type) if rule.type is not None else f"table {numbers.get(rule.table or '', 254)}"
    more = ""
    if rule.entering is not None:
        more += f" iif {device_name(box, rule.entering)}"
    if rule.mark is not None:
        more += f" fwmark {mark_of(box, rule.mark):#x}/0xffff0000"
    if rule.without_default:
        more += " suppress_prefixlength 0"
    for version in (4, 6):
        sources = [each for each in rule.sources if each.version == version]
        targets = [each for each in rule.destinations if each.version == version]
        if (rule.sources and not sources) or (rule.destinations and not targets):
            continue
        for source in [f" from {each}" for each in sources] or [""]:
            for target in [f" to {each}" for each in targets] or [""]:
                ends = source + target
                yield f"ip -{version} rule add{ends}{more} pref {place} {what}"


def mark_of(box: Machine, mark: int) -> int:
    """The kernel's number for a mark: its place among the machine's, in the upper half."""
    return (sorted({each.mark for each in box.packet_marks}).index(mark) + 1) << SHIFT


def clamping(box: Box) -> list[str]:
    """A table that lowers what connections agree on, where a machine does so."""
    if not isinstance(box, Machine) or not box.clamp_mss:
        return []
    chain = "type filter hook forward priority -150; policy accept;"
    return [
        f"table inet clamping {{\n  chain f {{\n    {chain}\n    tcp flags syn tcp option maxseg size set rt mtu\n  }}\n}}"
    ]


def marking(box: Box) -> list[str]:
    """A machine's marks as a table: what a connection keeps first, then the first line that matches."""
    if not isinstance(box, Machine) or not box.packet_marks:
        return []
    kept = "ct mark and 0xffff0000 != 0 meta mark set ct mark and 0xffff0000 accept"
    lines = ["table inet marking {"]
    for name, head, own in (
        ("into", "type filter hook prerouting priority -140", False),
        ("own", "type route hook output priority -140", True),
    ):
        body = [text for each in box.packet_marks if each.own is own for text in _marked(box, each)]
        lines += [
            f"  chain {name} {{",
            f"    {head}; policy accept;",
            f"    {kept}",
            *(f"    {each}" for each in body),
            "  }",
        ]
    return ["\n".join([*lines, "}"])]


def _marked(box: Machine, rule: MarkRule) -> Iterator[str]:
    number = mark_of(box, rule.mark)
    keeps = f"ct mark set ct mark and 0x0000ffff or {number:#x} " if rule.keep else ""
    where = f"iifname {{ {', '.join(device_name(box, each) for each in rule.entering)} }} " if rule.entering else ""
    ports = ""
    for word, held in (("tcp", rule.tcp), ("udp", rule.udp)):
        if held:
            ports = f"{word} dport {{ {', '.join(map(str, held))} }} "
    for version, family in ((4, "ip"), (6, "ip6")):
        sides = ""
        fits = True
        for word, ranges in (("saddr", rule.sources), ("daddr", rule.destinations)):
            mine = [str(each) for each in ranges if each.version == version]
            fits = fits and bool(mine or not ranges)
            sides += f"{family} {word} {{ {', '.join(mine)} }} " if mine else ""
        if fits:
            yield f"meta nfproto ipv{version} {where}{sides}{ports}{keeps}meta mark set {number:#x} accept"


def settings(box: Box) -> list[str]:
    """What a box's kernel is set to beside its addresses, as commands of a shell."""
    if not isinstance(box, Machine):
        return []
    found = []
    conf = "/proc/sys/net/ipv4/conf"
    if box.reverse_path is not None:
        found.append(f"echo {_PATHS[box.reverse_path]} > {conf}/all/rp_filter")
    for interface in box.interfaces.values():
        device = device_name(box, interface.name)
        if interface.reverse_path is not None:
            found.append(f"echo {_PATHS[interface.reverse_path]} > {conf}/{device}/rp_filter")
        if interface.route_localnet:
            found.append(f"echo 1 > {conf}/{device}/route_localnet")
        if interface.proxy_arp:
            found.append(f"echo 1 > {conf}/{device}/proxy_arp")
        if interface.proxy_arp or interface.proxy_for:
            found.append(
                f"echo 0 > /proc/sys/net/ipv4/neigh/{device}/proxy_delay; "
                f"echo 0 > /proc/sys/net/ipv6/neigh/{device}/proxy_delay; "
                f"echo 1 > /proc/sys/net/ipv6/conf/{device}/proxy_ndp"
            )
    return found


def proxied(box: Box) -> list[str]:
    """Further addresses that a machine answers for, as lines for `ip`."""
    if not isinstance(box, Machine):
        return []
    return [
        f"neigh add proxy {address} dev {device_name(box, interface.name)}"
        for interface in box.interfaces.values()
        for address in interface.proxy_for
    ]


def put_down(box: Box) -> list[str]:
    """Interfaces that are down, as lines for `ip`: after everything else is set."""
    held = box.interfaces.values() if isinstance(box, Machine) else ()
    return [f"link set dev {device_name(box, each.name)} down" for each in held if not each.up]


def stated_of(box: Box, name: str) -> Interface | None:
    """An interface as the estate states it; visitors' devices state none."""
    return box.interfaces.get(name) if isinstance(box, Machine) else None


def mtu_of(box: Box, name: str, network: Network) -> int:
    """The largest packet that a box sends by an interface."""
    stated = stated_of(box, name)
    return (stated.mtu if stated is not None else None) or network.mtu or 1500


def unstated_links(estate: Estate, box: Box) -> dict[str, list[IPAddress]]:
    """Link-local addresses of routers that others name as their next router and that nobody states: the only router has them."""
    if isinstance(box, Vantage) or not passes_packets(box):
        return {}
    found: dict[str, list[IPAddress]] = {}
    for interface in box.interfaces.values():
        network = network_of(estate, interface)
        if network.kind == "internet" or any(item.ip.is_link_local for item in interface.address):
            continue
        held = {
            item.ip
            for other in every_box(estate)
            for _, on, items in legs(estate, other)
            if on.name == network.name
            for item in items
        }
        named = [
            via
            for other in every_box(estate)
            if other is not box and any(on.name == network.name for _, on, _ in legs(estate, other))
            for via in _next_routers(other)
            if via.version == 6 and via.is_link_local and via not in held
        ]
        if named:
            found[interface.name] = list(dict.fromkeys(named))
    return found


def _next_routers(box: Box) -> Iterator[IPAddress]:
    if isinstance(box.gateway, tuple):
        yield from box.gateway
    lines = list(box.routes)
    if isinstance(box, Machine):
        for table in box.tables.values():
            lines += table.routes
            if table.gateway is not None:
                yield table.gateway
    for route in lines:
        if route.via is not None:
            yield route.via
