"""The network driver: namespaces, links, addresses, routes. One namespace plays the internet, one holds all bridges."""

from collections.abc import Iterator
from ipaddress import ip_network

from portolan.estate.base import IPAddress, is_public
from portolan.estate.guesses import (
    attachments,
    gateway_candidates,
    machines,
    network_name,
    network_named,
    on_internet,
    prefix_of,
    routed_to,
    uplinks,
)
from portolan.estate.machine import Machine, Router
from portolan.estate.vantage import Vantage
from portolan.rehearsal.plan import BASE, Plan

INTERNET, SWITCHES, AUTHORITY, RESOLVER = "inet", "lans", "auth", "reso"
#: Where undescribed name servers and the ordinary resolver are; benchmarking ranges (RFC 2544, RFC 5180).
ROOT_ADDRESS, TIER_ADDRESS = "198.18.1.1", "198.18.1.{}"
RESOLVER_ADDRESS, RESOLVER_ADDRESS_6 = "198.18.0.53", "2001:2::53"
_GATE_4, _GATE_6 = "169.254.0.1", "fe80::1"
_PRIVATE = (
    "0.0.0.0/8",
    "10.0.0.0/8",
    "100.64.0.0/10",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "172.16.0.0/12",
    "192.168.0.0/16",
    "224.0.0.0/3",
)

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
    switches.append("echo 0 > /proc/sys/net/bridge/bridge-nf-call-iptables 2>/dev/null; echo 0 > /proc/sys/net/bridge/bridge-nf-call-ip6tables 2>/dev/null; "
                    "echo 1 > /proc/sys/net/ipv6/conf/all/disable_ipv6; echo 1 > /proc/sys/net/ipv6/conf/default/disable_ipv6")  # fmt: skip
    boxes: list[Machine | Vantage] = [
        *machines(plan.estate),
        *(each for each in plan.estate.vantages.values() if each.network),
    ]
    for box in boxes:
        _box(plan, box, bridges)
    _internet(plan)


def device_name(box: Machine | Vantage, interface: str) -> str:
    """The kernel's name of an interface: its place among the box's, since estate names may be long."""
    names = list(box.interfaces) if isinstance(box, Machine) else [interface]
    return f"if{names.index(interface)}"


def _box(plan: Plan, box: Machine | Vantage, bridges: dict[str, str]) -> None:
    space = plan.space_of(box)
    script = plan.spaces[space]
    script.append(_QUIET)
    first = box.client_ports.first if isinstance(box, Vantage) else 32768
    # Connections come from the first ports of the range, as is predicted.
    script.append(f"echo {first} {first + 499} > /proc/sys/net/ipv4/ip_local_port_range")
    forwarding = "1" if isinstance(box, Router) else "0"
    script.append(
        f"echo {forwarding} > /proc/sys/net/ipv4/ip_forward; echo {forwarding} > /proc/sys/net/ipv6/conf/all/forwarding"
    )
    batch = ["link set dev lo up"]
    held = [(box.network or "", box.network or "", box.address)] if isinstance(box, Vantage) else [
        (each.name, each.network or each.name, each.address) for each in box.interfaces.values()
    ]  # fmt: skip
    routes: list[str] = []
    for interface, on, addresses in held:
        network = network_named(plan.estate, on)
        assert network is not None
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
            prefix = prefix_of(address, network)
            length = prefix.prefixlen if prefix is not None else address.max_prefixlen
            batch.append(f"addr add {address.ip}/{length} dev {device}{' nodad' if address.version == 6 else ''}")
        if any(address.version == 6 for address in addresses):
            batch.append(f"addr add fe80::{plan_number(space)}:{device[2:]}/64 dev {device} nodad")
    routes += _routes(plan, box)
    plan.ip(space, *batch, *routes)


def plan_number(space: str) -> int:
    """A number for a namespace, for its link-local addresses."""
    return int(space[1:]) + (1000 if space[0] == "v" else 1)


def _routes(plan: Plan, box: Machine | Vantage) -> list[str]:
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


def _default(plan: Plan, box: Machine | Vantage) -> list[str]:
    if box.gateway is not None:
        return [] if box.gateway == "none" else [f"route add default via {address}" for address in box.gateway]
    found = []
    for version in (4, 6):
        if on_internet(plan.estate, box, version):
            device = "if0"
            if isinstance(box, Machine):
                device = next(device_name(box, each.name) for each in box.interfaces.values()
                              if (network := network_named(plan.estate, each.network or each.name)) is not None and network.kind == "internet"
                              and any(item.version == version for item in each.address))  # fmt: skip
            gate = _GATE_4 if version == 4 else _GATE_6
            found.append(f"route add default via {gate} dev {device} onlink")
        else:
            # One that the machine's own mask leaves out is no neighbour, and the kernel does not take it.
            near = [
                prefix_of(address, network_named(plan.estate, name))
                for name, held in attachments(box)
                for address in held
            ]
            found += [f"route add default via {address}" for _, address in gateway_candidates(plan.estate, box, version)[:1]
                      if any(prefix is not None and address in prefix for prefix in near)]  # fmt: skip
    return found


def _internet(plan: Plan) -> None:
    """Carries between public addresses, knows no private one, and is silent about what nobody has."""
    script = plan.spaces[INTERNET]
    script.insert(
        0, _QUIET + "; echo 1 > /proc/sys/net/ipv4/ip_forward; echo 1 > /proc/sys/net/ipv6/conf/all/forwarding"
    )
    plan.ip(INTERNET, "link set lo up", "route add blackhole default", "route add blackhole ::/0")
    for network in plan.estate.networks.values():
        names = uplinks(plan.estate, network)
        if network.kind == "internet" or len(names) != 1:
            continue
        router = plan.estate.routers[names[0]]
        space = plan.space_of(router)
        for subnet in network.subnets:
            if not is_public(subnet.network_address):
                continue
            for interface in router.interfaces.values():
                if (interface.network or interface.name) == "internet":
                    via = next((item.ip for item in interface.address if item.version == subnet.version), None)
                    if via is not None:
                        outer = f"{space}{device_name(router, interface.name)}"
                        plan.ip(INTERNET, f"route add {subnet} via {via} dev {outer} onlink")
                        break
    boxes: list[Machine | Vantage] = [*machines(plan.estate), *plan.estate.vantages.values()]
    brought = {item.ip for box in boxes for name, held in attachments(box) for item in held if name == "internet"}
    blocked = [rule for machine in machines(plan.estate) for rule in _line(plan, machine, brought)]
    # The way back of whoever asks with a private source does not exist; neither is it carried forth.
    drops = (
        "\n    ".join(blocked)
        + f"\n    ip saddr {{ {', '.join(_PRIVATE)} }} drop\n    ip daddr {{ {', '.join(_PRIVATE)} }} drop\n    ip6 saddr != 2000::/3 drop\n    ip6 daddr != 2000::/3 drop"
    )
    plan.files["inet.nft"] = (
        f"table inet carry {{\n  chain f {{\n    type filter hook forward priority 0; policy accept;\n    {drops}\n  }}\n}}\n"
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
        f"route add {RESOLVER_ADDRESS}/32 dev n1",
        f"route add {RESOLVER_ADDRESS_6}/128 dev n1",
    )
    plan.ip(
        AUTHORITY,
        *(f"addr add {TIER_ADDRESS.format(number)}/32 dev wan0" for number in range(1, 9)),
        f"route add default via {_GATE_4} dev wan0 onlink",
    )
    plan.ip(RESOLVER, f"addr add {RESOLVER_ADDRESS}/32 dev wan0", f"addr add {RESOLVER_ADDRESS_6}/128 dev wan0 nodad",
            f"route add default via {_GATE_4} dev wan0 onlink", f"route add default via {_GATE_6} dev wan0 onlink")  # fmt: skip


def _line(plan: Plan, machine: Machine, brought: set[IPAddress]) -> Iterator[str]:
    """What the provider blocks on a machine's lines; addresses that it brings to a router get their routes, the first has them."""
    space = plan.space_of(machine)
    for interface in machine.interfaces.values():
        outer = f"{space}{device_name(machine, interface.name)}"
        network = network_named(plan.estate, network_name(interface))
        if network is None or network.kind != "internet":
            continue
        if interface.provider_blocks:
            ports = ", ".join(map(str, interface.provider_blocks))
            yield f"oifname {outer} tcp flags & (syn | ack) == syn tcp dport {{ {ports} }} drop"
            yield f"oifname {outer} udp dport {{ {ports} }} drop"
        for name, address in routed_to(machine) if isinstance(machine, Router) else ():
            via = next((item.ip for item in interface.address if item.version == address.version), None)
            if name == interface.name and via is not None and address not in brought:
                brought.add(address)
                plan.ip(INTERNET, f"route add {address} via {via} dev {outer} onlink")


def join_resolver(plan: Plan, box: Machine | Vantage, number: int) -> str:
    """A link of its own from a client to the ordinary resolver, which every client is assumed to reach; its address."""
    space = plan.space_of(box)
    near, far = (str(each) for each in list(ip_network(f"198.18.{8 + number // 64}.{number % 64 * 4}/30").hosts())[:2])
    plan.link(space, "res0", RESOLVER, f"c{number}")
    plan.ip(space, "link set res0 up", f"addr add {near}/30 dev res0")
    plan.ip(RESOLVER, f"link set c{number} up", f"addr add {far}/30 dev c{number}")
    return far
