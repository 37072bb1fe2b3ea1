"""The network driver: namespaces, links, addresses, routes. One namespace plays the internet, one holds all bridges."""

from collections.abc import Iterator

from portolan.estate.base import IPAddress
from portolan.estate.machine import Machine
from portolan.estate.vantage import Vantage
from portolan.rehearsal.facts import (
    PRIVATE,
    Box,
    believes_near,
    every_box,
    every_machine,
    legs,
    length_of,
    network_of,
    online_leg,
    passes_packets,
    public,
    router_beside,
    routers_to_internet,
    several,
)
from portolan.rehearsal.plan import BASE, Plan

INTERNET, SWITCHES, AUTHORITY, RESOLVER = "inet", "lans", "auth", "reso"
#: Where undescribed name servers and the ordinary resolver are; benchmarking ranges (RFC 2544, RFC 5180).
ROOT_ADDRESS, TIER_ADDRESS = "198.18.1.1", "198.18.1.{}"
RESOLVERS_4, RESOLVERS_6 = "198.18.0.{}", "2001:2::{}"
_GATE_4, _GATE_6 = "169.254.0.1", "fe80::1"
_QUIET = (
    "cd /proc/sys/net/ipv4; "
    "echo 0 > icmp_ratelimit; echo 0 > icmp_ratemask; echo 0 > conf/all/rp_filter; echo 0 > conf/default/rp_filter; "
    "echo 0 > conf/all/send_redirects; echo 0 > conf/default/send_redirects; echo 0 > conf/all/accept_redirects; echo 3 > tcp_syn_retries; "
    "for d in neigh/*; do echo 1 > $d/mcast_solicit; echo 100 > $d/retrans_time_ms; done; "
    "cd /proc/sys/net/ipv6; echo 0 > icmp/ratelimit; echo 0 > conf/all/accept_ra; echo 0 > conf/default/accept_ra; "
    "for d in conf/*; do echo 0 > $d/accept_dad; echo 1 > $d/addr_gen_mode; done; "
    "echo 0 > conf/all/disable_ipv6; echo 0 > conf/default/disable_ipv6; for d in neigh/*; do echo 1 > $d/mcast_solicit; echo 100 > $d/retrans_time_ms; done; cd "
    + BASE
)


def build_network(plan: Plan) -> None:
    """Every box of the estate with its links, addresses and routes."""
    for space in (INTERNET, SWITCHES, AUTHORITY, RESOLVER):
        plan.spaces[space] = []
    switches = plan.spaces[SWITCHES]
    bridges: dict[str, str] = {}
    switches.append(
        "echo 0 > /proc/sys/net/bridge/bridge-nf-call-iptables 2>/dev/null; echo 0 > /proc/sys/net/bridge/bridge-nf-call-ip6tables 2>/dev/null; "
        "echo 1 > /proc/sys/net/ipv6/conf/all/disable_ipv6; echo 1 > /proc/sys/net/ipv6/conf/default/disable_ipv6"
    )
    for box in every_box(plan.estate):
        _box(plan, box, bridges)
    _internet(plan)


def device_name(box: Box, interface: str) -> str:
    """The kernel's name of an interface: its place among the box's, since estate names may be long."""
    if interface == "lo":
        return interface
    names = list(box.interfaces) if isinstance(box, Machine) else [interface]
    return f"if{names.index(interface)}"


def _box(plan: Plan, box: Box, bridges: dict[str, str]) -> None:
    space = plan.space_of(box)
    script = plan.spaces[space]
    script.append(_QUIET)
    first = box.client_ports.first if isinstance(box, Vantage) else 32768
    # Connections come from the first ports of the range, as is predicted.
    script.append(f"echo {first} {first + 499} > /proc/sys/net/ipv4/ip_local_port_range")
    forwarding = "1" if passes_packets(box) else "0"
    script.append(
        f"echo {forwarding} > /proc/sys/net/ipv4/ip_forward; echo {forwarding} > /proc/sys/net/ipv6/conf/all/forwarding"
    )
    batch = ["link set dev lo up"]
    for interface, network, addresses in legs(plan.estate, box):
        on = network.name
        device = device_name(box, interface)
        outer = f"{space}{device}"
        if network.kind == "internet":
            plan.link(space, device, INTERNET, outer)
            plan.ip(
                INTERNET,
                f"link set {outer} up",
                f"addr add {_GATE_4}/32 dev {outer}",
                f"addr add {_GATE_6}/64 dev {outer} nodad",
            )
            plan.ip(INTERNET, *(f"route add {address.ip}/{address.max_prefixlen} dev {outer}" for address in addresses))
        else:
            bridge = bridges.get(on)
            if bridge is None:
                bridge = bridges[on] = f"br{len(bridges)}"
                plan.ip(SWITCHES, f"link add {bridge} type bridge forward_delay 0", f"link set {bridge} up")
            plan.link(space, device, SWITCHES, outer)
            plan.ip(SWITCHES, f"link set {outer} master {bridge} up")
        batch.append(f"link set dev {device} up")
        for address in addresses:
            length = length_of(address, network)
            batch.append(f"addr add {address.ip}/{length} dev {device}{' nodad' if address.version == 6 else ''}")
        if any(address.version == 6 for address in addresses):
            batch.append(f"addr add fe80::{plan_number(space)}:{device[2:]}/64 dev {device} nodad")
    plan.ip(space, *batch, *_routes(plan, box))


def plan_number(space: str) -> int:
    """A number for a namespace, for its link-local addresses."""
    return int(space[1:]) + (1000 if space[0] == "v" else 1)


def _routes(plan: Plan, box: Box) -> list[str]:
    """The default first: a more particular route may end where the gateway is, and the kernel would refuse it then."""
    found = _default(plan, box)
    for route in box.routes:
        metric = f" metric {route.metric}" if route.metric else ""
        if route.type is not None:
            found.append(f"route add {route.type} {route.to}{metric}")
        elif route.on is not None:
            found.append(f"route add {route.to} dev {device_name(box, route.on)}{metric}")
        else:
            found.append(f"route add {route.to} via {route.via}{metric}")
    return found


def _default(plan: Plan, box: Box) -> list[str]:
    if box.gateway is not None:
        return [] if box.gateway == "none" else [f"route add default via {address}" for address in box.gateway]
    found = []
    for version in (4, 6):
        leg = online_leg(plan.estate, box, version)
        gate = router_beside(plan.estate, box, version)
        if leg is not None:
            far = _GATE_4 if version == 4 else _GATE_6
            found.append(f"route add default via {far} dev {device_name(box, leg)} onlink")
        elif gate is not None and believes_near(plan.estate, box, gate):
            # One that the machine's own mask leaves out is no neighbour, and the kernel does not take it.
            found.append(f"route add default via {gate}")
    return found


def _internet(plan: Plan) -> None:
    """Carries between public addresses, knows no private one, and is silent about what nobody has."""
    script = plan.spaces[INTERNET]
    script.insert(
        0, _QUIET + "; echo 1 > /proc/sys/net/ipv4/ip_forward; echo 1 > /proc/sys/net/ipv6/conf/all/forwarding"
    )
    plan.ip(INTERNET, "link set lo up", "route add blackhole default", "route add blackhole ::/0")
    for network in plan.estate.networks.values():
        ways = routers_to_internet(plan.estate, network)
        if network.kind == "internet" or len(ways) != 1:
            continue
        router, line = ways[0]
        outer = f"{plan.space_of(router)}{device_name(router, line.name)}"
        for subnet in network.subnets:
            via = next((item.ip for item in line.address if item.version == subnet.version), None)
            if public(subnet.network_address) and via is not None:
                plan.ip(INTERNET, f"route add {subnet} via {via} dev {outer} onlink")
    boxes = every_box(plan.estate)
    brought = {
        item.ip
        for box in boxes
        for _, network, held in legs(plan.estate, box)
        for item in held
        if network.kind == "internet"
    }
    blocked = [rule for machine in every_machine(plan.estate) for rule in _line(plan, machine, brought)]
    # The way back of whoever asks with a private source does not exist; neither is it carried forth.
    private = ", ".join(map(str, PRIVATE))
    drops = (
        "\n    ".join(blocked)
        + f"\n    ip saddr {{ {private} }} drop\n    ip daddr {{ {private} }} drop\n    ip6 saddr != 2000::/3 drop\n    ip6 daddr != 2000::/3 drop"
    )
    plan.files["inet.nft"] = (
        f"table inet carry {{\n  chain f {{\n    type filter hook forward priority 0; policy accept;\n    {drops}\n  }}\n"
        "  chain o {\n    type filter hook output priority 0; policy accept;\n    icmpv6 type destination-unreachable drop\n  }\n}\n"
    )
    script.append("nft -f inet.nft")
    for number, space in enumerate((AUTHORITY, RESOLVER)):
        plan.link(space, "wan0", INTERNET, f"n{number}")
        plan.ip(
            INTERNET,
            f"link set n{number} up",
            f"addr add {_GATE_4}/32 dev n{number}",
            f"addr add {_GATE_6}/64 dev n{number} nodad",
        )
        plan.spaces[space].append(_QUIET)
        plan.ip(space, "link set lo up", "link set wan0 up", f"addr add fe80::9{number}/64 dev wan0 nodad")
    plan.ip(
        INTERNET,
        "route add 198.18.1.0/24 dev n0",
    )
    plan.ip(
        AUTHORITY,
        *(f"addr add {TIER_ADDRESS.format(number)}/32 dev wan0" for number in range(1, 9)),
        f"route add default via {_GATE_4} dev wan0 onlink",
    )
    plan.ip(
        RESOLVER, f"route add default via {_GATE_4} dev wan0 onlink", f"route add default via {_GATE_6} dev wan0 onlink"
    )


def _line(plan: Plan, machine: Machine, brought: set[IPAddress]) -> Iterator[str]:
    """What the provider blocks on a machine's lines; addresses that it brings to a router get their routes, the first has them."""
    space = plan.space_of(machine)
    for interface in machine.interfaces.values():
        outer = f"{space}{device_name(machine, interface.name)}"
        if network_of(plan.estate, interface).kind != "internet":
            continue
        if interface.provider_blocks:
            ports = ", ".join(map(str, interface.provider_blocks))
            yield f"oifname {outer} tcp flags & (syn | ack) == syn tcp dport {{ {ports} }} drop"
            yield f"oifname {outer} udp dport {{ {ports} }} drop"
        fixed = [(each.on, each.outside) for each in machine.one_to_one]
        fixed += [(each.on, address) for each in machine.source_nat for address in several(each.to, each.up_to)]
        fixed += [
            (each.on, address)
            for each in machine.forwards
            if each.on is not None and isinstance(each.address, tuple)
            for address in each.address
        ]
        for name, address in fixed:
            via = next((item.ip for item in interface.address if item.version == address.version), None)
            if name == interface.name and via is not None and address not in brought:
                brought.add(address)
                plan.ip(INTERNET, f"route add {address} via {via} dev {outer} onlink")


def place_authority(plan: Plan, address: IPAddress) -> None:
    """Gives the undescribed name servers' namespace an address that the internet carries to it."""
    plan.ip(INTERNET, f"route add {address}/{address.max_prefixlen} dev n0")
    plan.ip(AUTHORITY, f"addr add {address}/{address.max_prefixlen} dev wan0")


def place_resolver(plan: Plan, address: IPAddress) -> None:
    """Gives the resolvers' namespace an address that the internet carries to it."""
    whole = f"{address}/{address.max_prefixlen}"
    plan.ip(INTERNET, f"route add {whole} dev n1")
    plan.ip(RESOLVER, f"addr add {whole} dev wan0{' nodad' if address.version == 6 else ''}")
