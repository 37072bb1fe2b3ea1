"""The network driver: namespaces, links, addresses, routes. One namespace plays the internet, one holds all bridges."""

from collections.abc import Iterator

from portolan.estate.base import IPAddress
from portolan.estate.machine import Machine, Router
from portolan.estate.vantage import Vantage
from portolan.rehearsal.facts import (
    PRIVATE,
    Box,
    every_box,
    every_machine,
    legs,
    length_of,
    network_of,
    passes_packets,
    public,
    routers_to_internet,
    several,
)
from portolan.rehearsal.plan import BASE, Plan
from portolan.rehearsal.ways import (
    GATE_6,
    device_name,
    gate_of,
    mtu_of,
    proxied,
    put_down,
    routes_of,
    rules_of,
    settings,
    stated_of,
    unstated_links,
)

INTERNET, SWITCHES, AUTHORITY, RESOLVER = "inet", "lans", "auth", "reso"
#: Where undescribed name servers and the ordinary resolver are; benchmarking ranges (RFC 2544, RFC 5180).
ROOT_ADDRESS, TIER_ADDRESS = "198.18.1.1", "198.18.1.{}"
RESOLVERS_4, RESOLVERS_6 = "198.18.0.{}", "2001:2::{}"
#: The far end of lines that no box of the estate has.
_FAR_4 = "169.254.0.1"
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
    batch, near = ["link set dev lo up"], list[str]()
    links = unstated_links(plan.estate, box)
    for interface, network, addresses in legs(plan.estate, box):
        on = network.name
        stated = stated_of(box, interface)
        device = device_name(box, interface)
        outer = f"{space}{device}"
        if network.kind == "internet":
            plan.link(space, device, INTERNET, outer)
            plan.ip(
                INTERNET,
                f"link set {outer} mtu {mtu_of(box, interface, network)} up",
                f"addr add {gate_of(device, 4)}/32 dev {outer}",
                *([f"addr add {GATE_6}/64 dev {outer} nodad"] if any(each.version == 6 for each in addresses) else []),
            )
            near.append(f"route add {gate_of(device, 4)}/32 dev {device}")
            plan.ip(INTERNET, *(f"route add {address.ip}/{address.max_prefixlen} dev {outer}" for address in addresses))
        else:
            bridge = bridges.get(on)
            if bridge is None:
                bridge = bridges[on] = f"br{len(bridges)}"
                plan.ip(SWITCHES, f"link add {bridge} type bridge forward_delay 0", f"link set {bridge} up")
            plan.link(space, device, SWITCHES, outer)
            plan.ip(SWITCHES, f"link set {outer} mtu {network.mtu or 1500} master {bridge} up")
            if network.isolated and not isinstance(box, Router):
                plan.ip(SWITCHES, f"link set dev {outer} type bridge_slave isolated on")
        batch.append(f"link set dev {device} mtu {mtu_of(box, interface, network)} gso_max_segs 1 up")
        for address in addresses:
            length = length_of(address, network)
            old = " preferred_lft 0" if stated is not None and address.ip in stated.deprecated else ""
            batch.append(f"addr add {address.ip}/{length} dev {device}{' nodad' if address.version == 6 else ''}{old}")
        if any(address.version == 6 for address in addresses):
            batch.append(f"addr add fe80::{plan_number(space)}:{device[2:]}/64 dev {device} nodad")
        batch += [f"addr add {each}/64 dev {device} nodad" for each in links.get(interface, ())]
    plan.ip(space, *batch, *near, *routes_of(plan.estate, box), *proxied(box), *put_down(box))
    script += [*settings(box), *rules_of(box)]


def plan_number(space: str) -> int:
    """A number for a namespace, for its link-local addresses."""
    return int(space[1:]) + (1000 if space[0] == "v" else 1)


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
        "  chain o {\n    type filter hook output priority 0; policy accept;\n    icmpv6 type destination-unreachable drop\n    icmp type destination-unreachable icmp code host-unreachable drop\n  }\n}\n"
    )
    script.append("nft -f inet.nft")
    for number, space in enumerate((AUTHORITY, RESOLVER)):
        plan.link(space, "wan0", INTERNET, f"n{number}")
        plan.ip(
            INTERNET,
            f"link set n{number} up",
            f"addr add {_FAR_4}/32 dev n{number}",
            f"addr add {GATE_6}/64 dev n{number} nodad",
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
        f"route add default via {_FAR_4} dev wan0 onlink",
    )
    plan.ip(
        RESOLVER, f"route add default via {_FAR_4} dev wan0 onlink", f"route add default via {GATE_6} dev wan0 onlink"
    )


def _line(plan: Plan, machine: Machine, brought: set[IPAddress]) -> Iterator[str]:
    """What the provider blocks on a machine's lines; addresses that it brings to a router get their routes, the first has them."""
    space = plan.space_of(machine)
    for interface in machine.interfaces.values():
        outer = f"{space}{device_name(machine, interface.name)}"
        if network_of(plan.estate, interface).kind != "internet":
            continue
        if interface.provider_checks_source:
            mine = [item.ip for item in interface.address]
            mine += [address for name, address in _fixed(machine) if name == interface.name]
            for family, version in (("ip", 4), ("ip6", 6)):
                held = [str(each) for each in mine if each.version == version]
                held += [
                    str(subnet)
                    for network in plan.estate.networks.values()
                    for router, line in routers_to_internet(plan.estate, network)
                    if router is machine and line is interface
                    for subnet in network.subnets
                    if subnet.version == version and public(subnet.network_address)
                ]
                if held:
                    yield f"iifname {outer} {family} saddr != {{ {', '.join(held)} }} drop"
        if interface.provider_blocks:
            ports = ", ".join(map(str, interface.provider_blocks))
            yield f"oifname {outer} tcp flags & (syn | ack) == syn tcp dport {{ {ports} }} drop"
            yield f"oifname {outer} udp dport {{ {ports} }} drop"
        for name, address in _fixed(machine):
            via = next((item.ip for item in interface.address if item.version == address.version), None)
            if name == interface.name and via is not None and address not in brought:
                brought.add(address)
                plan.ip(INTERNET, f"route add {address} via {via} dev {outer} onlink")


def _fixed(machine: Machine) -> list[tuple[str, IPAddress]]:
    """Addresses that a line brings to a machine without its having them."""
    found = [(each.on, each.outside) for each in machine.one_to_one]
    found += [(each.on, address) for each in machine.source_nat for address in several(each.to, each.up_to)]
    found += [
        (each.on, address)
        for each in machine.forwards
        if each.on is not None and isinstance(each.address, tuple)
        for address in each.address
    ]
    return found


def place_authority(plan: Plan, address: IPAddress) -> None:
    """Gives the undescribed name servers' namespace an address that the internet carries to it."""
    plan.ip(INTERNET, f"route add {address}/{address.max_prefixlen} dev n0")
    plan.ip(AUTHORITY, f"addr add {address}/{address.max_prefixlen} dev wan0")


def place_resolver(plan: Plan, address: IPAddress) -> None:
    """Gives the resolvers' namespace an address that the internet carries to it."""
    whole = f"{address}/{address.max_prefixlen}"
    plan.ip(INTERNET, f"route add {whole} dev n1")
    plan.ip(RESOLVER, f"addr add {whole} dev wan0{' nodad' if address.version == 6 else ''}")
