"""The filter driver: forwards, masquerading, hairpin, filters and security groups as nf_tables rules."""

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Network, IPv6Network

from portolan.estate.areas import service_ports
from portolan.estate.base import IPAddress, IPNetwork, PortRange
from portolan.estate.estate import Estate
from portolan.estate.filter import Area, Chain, Filter, FilterRule
from portolan.estate.machine import Machine, Router
from portolan.estate.network import GroupRule, Interface, ListRule
from portolan.estate.service import NameServer, Resolver
from portolan.rehearsal.facts import Box, every_box, every_machine, network_of, runs
from portolan.rehearsal.network import device_name
from portolan.rehearsal.plan import Plan
from portolan.rehearsal.quoting import rules

_NEIGHBOURS = "icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert, nd-router-solicit, nd-router-advert } accept"
_ANSWERS = {
    "tcp-reset": "reject with tcp reset",
    "port-unreachable": "reject with icmpx type port-unreachable",
    "host-unreachable": "reject with icmpx type host-unreachable",
    "admin-prohibited": "reject with icmpx type admin-prohibited",
    "net-unreachable": "reject with icmpx type no-route",
}
#: Kinds of ICMP that one IP version has, each with what stands for it in the other.
_ONE_VERSION = {
    "host-prohibited": ("host-prohibited", "admin-prohibited"),
    "net-prohibited": ("net-prohibited", "admin-prohibited"),
    "protocol-unreachable": ("prot-unreachable", "admin-prohibited"),
    "policy-fail": ("admin-prohibited", "policy-fail"),
}


def build_filters(plan: Plan) -> None:
    """Rules for every box that has any."""
    for box in every_box(plan.estate):
        tables = [*_translation(box), *_filter(box), *_groups(box, plan.estate), *_lists(box, plan.estate)]
        if tables:
            space = plan.space_of(box)
            plan.files[f"{space}.nft"] = rules("\n".join(tables) + "\n")
            plan.spaces[space].append(f"nft -f {space}.nft")


def _sides(addresses: Iterable[IPNetwork], word: str) -> list[str]:
    """Matches on source or destination ranges: one for each IP version that is named."""
    held = list(addresses)
    found = []
    v4 = [str(each) for each in held if isinstance(each, IPv4Network)]
    v6 = [str(each) for each in held if isinstance(each, IPv6Network)]
    if v4:
        found.append(f"ip {word} {{ {', '.join(v4)} }}")
    if v6:
        found.append(f"ip6 {word} {{ {', '.join(v6)} }}")
    return found or [""]


def _ports(ranges: tuple[PortRange, ...], protocol: str, word: str) -> str:
    return f"{protocol} {word} {{ {', '.join(map(str, ranges))} }}" if ranges else ""


def _protocol(protocol: str) -> str:
    return {
        "tcp": "meta l4proto tcp",
        "udp": "meta l4proto udp",
        "icmp": "meta l4proto { icmp, ipv6-icmp }",
        "any": "",
    }[protocol]


def _rule(rule: FilterRule, box: Box, chains: list[str]) -> Iterator[str]:
    common = [_protocol(rule.protocol)]
    for key, names in (("iifname", rule.entering), ("oifname", rule.leaving)):
        if names:
            common.append(f"{key} {{ {', '.join(device_name(box, name) for name in names)} }}")
    common += [_ports(rule.source_ports, rule.protocol, "sport"), _ports(rule.ports, rule.protocol, "dport")]
    if rule.state:
        common.append(f"ct state {{ {', '.join(rule.state)} }}")
    if rule.forwarded is not None:
        common.append("ct status dnat" if rule.forwarded else "ct status & 0x20 == 0")
    for source in _sides(rule.sources, "saddr"):
        for destination in _sides(rule.destinations, "daddr"):
            if {source[:3], destination[:3]} == {"ip ", "ip6"}:
                continue
            verdicts = [f"jump c{chains.index(rule.jump)}"] if rule.jump else _verdicts(rule.verdict, rule.answer)
            for verdict in verdicts:
                yield " ".join(part for part in (*common, source, destination, "counter", verdict) if part)


def _verdicts(verdict: str, answer: str | None) -> list[str]:
    if verdict != "reject":
        return [{"allow": "accept", "drop": "drop", "return": "return"}[verdict]]
    kind = answer or "port-unreachable"
    if kind in _ONE_VERSION:
        four, six = _ONE_VERSION[kind]
        return [f"meta nfproto ipv4 reject with icmp type {four}", f"meta nfproto ipv6 reject with icmpv6 type {six}"]
    return [_ANSWERS[kind]]


def _filter(box: Box) -> list[str]:
    if box.filter is None:
        return []
    filtering = box.filter
    names = list(filtering.chains)
    chains = [
        "\n".join(
            [
                f"  chain c{number} {{",
                *(f"    {text}" for rule in held.rules for text in _rule(rule, box, names)),
                "  }",
            ]
        )
        for number, held in enumerate(filtering.chains.values())
    ]
    if filtering.areas:
        chains += _areas(filtering, box)
    for hook, chain in (("input", filtering.inbound), ("forward", filtering.forward), ("output", filtering.outbound)):
        if chain is not None:
            chains.append(_chain(hook, chain, filtering, box))
    return ["table inet box {", *chains, "}"]


def _areas(filtering: Filter, box: Box) -> list[str]:
    """Areas: a packet's is the first whose ranges hold its source, else the first with its interface, else the default one.

    What belongs to none is dropped.
    """
    areas = list(filtering.areas.values())
    jumps = [
        f"{side} goto a{number}"
        for number, area in enumerate(areas)
        if area.sources
        for side in _sides(area.sources, "saddr")
    ]
    jumps += [
        f"iifname {{ {', '.join(device_name(box, each) for each in area.interfaces)} }} goto a{number}"
        for number, area in enumerate(areas)
        if area.interfaces
    ]
    jumps += [f"goto a{number}" for number, area in enumerate(areas) if area.default]
    known = ["ct state { established, related } accept"] if filtering.stateful else []
    body = ["type filter hook input priority 0; policy drop;", 'iifname "lo" accept', _NEIGHBOURS, *known, *jumps]
    return [
        *(f"  chain a{number} {{\n    {lines}\n  }}" for number, lines in enumerate(map(_area, areas))),
        "\n    ".join(["  chain input_areas {", *body]) + "\n  }",
    ]


def _area(area: Area) -> str:
    lines = [
        f"{protocol} dport {ports} counter accept" for text in area.services for protocol, ports in service_ports(text)
    ]
    return "\n    ".join([*lines, *(f"counter {verdict}" for verdict in _verdicts(area.otherwise, area.answer))])


def _chain(hook: str, chain: Chain, filtering: Filter, box: Box) -> str:
    names = list(filtering.chains)
    # A chain of its own, so that `return` leads to the default.
    rules = [
        f"  chain {hook}_rules {{",
        *(f"    {text}" for rule in chain.rules for text in _rule(rule, box, names)),
        "  }",
    ]
    lines = [*rules, f"  chain {hook}_box {{", f"    type filter hook {hook} priority 0; policy accept;"]
    if hook != "forward":
        side = "iifname" if hook == "input" else "oifname"
        lines.append(f'    {side} "lo" accept')
    lines.append(f"    {_NEIGHBOURS}")
    if filtering.stateful:
        lines.append("    ct state { established, related } accept")
    lines.append(f"    jump {hook}_rules")
    lines += [f"    counter {verdict}" for verdict in _verdicts(chain.default, None)]
    return "\n".join([*lines, "  }"])


def _translation(box: Box) -> list[str]:
    if not isinstance(box, Router) or not (box.forwards or box.masquerade or box.one_to_one or box.source_nat):
        return []
    tables = []
    for family, version in (("ip", 4), ("ip6", 6)):
        into, out = list(_own_first(box, family, version)), []
        for forward in box.forwards:
            own = [item.ip for item in box.interfaces[forward.on].address if item.version == version]
            if not forward.enabled or forward.to.version != version or not own:
                continue
            match = [] if box.hairpin != "off" else [f"iifname {device_name(box, forward.on)}"]
            match.append(f"{family} daddr {{ {', '.join(map(str, own))} }}")
            sources = [str(each) for each in forward.sources if each.version == version]
            if forward.sources and not sources:
                continue
            if sources:
                match.append(f"{family} saddr {{ {', '.join(sources)} }}")
            into += [
                f"    {' '.join(match)} {forward.protocol} dport {ports} counter dnat to {target}"
                for ports, target in _targets(forward.outside, forward.to, forward.port)
            ]
        if box.hairpin == "full":
            for interface in box.interfaces.values():
                device = device_name(box, interface.name)
                mark = int(device[2:]) + 1
                out.append(f"    ct mark {mark} oifname {device} ct status dnat counter masquerade")
        for pair in box.one_to_one:
            if pair.outside.version == version:
                where = "" if box.hairpin != "off" else f"iifname {device_name(box, pair.on)} "
                into.append(f"    {where}{family} daddr {pair.outside} counter dnat to {pair.inside}")
                out.append(
                    f"    oifname {device_name(box, pair.on)} {family} saddr {pair.inside} counter snat to {pair.outside}"
                )
        for rule in box.source_nat:
            held = [str(each) for each in rule.sources if each.version == version]
            if rule.to.version == version and (held or not rule.sources):
                side = f"{family} saddr {{ {', '.join(held)} }} " if held else ""
                out.append(f"    oifname {device_name(box, rule.on)} {side}counter snat to {rule.to}")
        if version == 4:
            out += [f"    oifname {device_name(box, name)} counter masquerade" for name in box.masquerade]
        if into or out:
            tables.append(_table_of(box, family, into, out))
    return tables


def _table_of(box: Router, family: str, into: list[str], out: list[str]) -> str:
    """A family's translations as one table; where inside packets are turned round, with the marks that tell them."""
    lines = [
        f"table {family} translate {{",
        "  chain into {",
        "    type nat hook prerouting priority -100; policy accept;",
    ]
    lines += [*into, "  }", "  chain out {", "    type nat hook postrouting priority 100; policy accept;", *out, "  }"]
    if box.hairpin == "full":
        lines += ["  chain marks {", "    type filter hook prerouting priority -150; policy accept;"]
        for name in box.interfaces:
            device = device_name(box, name)
            lines.append(f"    iifname {device} ct state new ct mark set {int(device[2:]) + 1}")
        lines.append("  }")
    return "\n".join([*lines, "}"])


def _own_first(box: Router, family: str, version: int) -> Iterator[str]:
    """Where the router's own services come first: what they take is not translated."""
    if not box.own_services_first:
        return
    own = [item.ip for interface in box.interfaces.values() for item in interface.address if item.ip.version == version]
    for service in box.services.values():
        if not runs(service):
            continue
        for listener in service.listens:
            everywhere = listener.address is None or int(listener.address) == 0
            taken = [str(each) for each in own if everywhere or each == listener.address]
            if taken:
                protocols = "{ tcp, udp }" if isinstance(service, NameServer | Resolver) else "tcp"
                yield f"    {family} daddr {{ {', '.join(taken)} }} meta l4proto {protocols} th dport {listener.port} counter return"


def _lists(box: Box, estate: Estate) -> list[str]:
    """The access lists of a router's networks: before connection tracking, and behind every translation."""
    into, out = [], []
    for interface in box.interfaces.values() if isinstance(box, Router) else ():
        held = network_of(estate, interface).access_list
        if held is None:
            continue
        device = device_name(box, interface.name)
        if held.outbound is not None:
            into += [f"    iifname {device} {text}" for text in _list_lines(held.outbound)]
        if held.inbound is not None:
            out += [f"    oifname {device} {text}" for text in _list_lines(held.inbound)]
    if not into and not out:
        return []
    return [
        "table inet lists {",
        "\n".join(["  chain into {", "    type filter hook prerouting priority -300; policy accept;", *into, "  }"]),
        "\n".join(["  chain out {", "    type filter hook postrouting priority 300; policy accept;", *out, "  }"]),
        "}",
    ]


def _list_lines(rules: tuple[ListRule, ...]) -> Iterator[str]:
    yield _NEIGHBOURS
    for rule in sorted(rules, key=lambda each: each.number):
        ports = _ports(rule.ports, rule.protocol, "dport")
        for source in _sides(rule.sources, "saddr"):
            for destination in _sides(rule.destinations, "daddr"):
                if {source[:3], destination[:3]} != {"ip ", "ip6"}:
                    parts = (
                        _protocol(rule.protocol),
                        ports,
                        source,
                        destination,
                        "counter",
                        "accept" if rule.allow else "drop",
                    )
                    yield " ".join(part for part in parts if part)
    yield "counter drop"


def _targets(outside: PortRange, to: IPAddress, port: int | None) -> Iterator[tuple[str, str]]:
    """Ports and the target of each; a shifted range goes port by port."""
    host = f"[{to}]" if to.version == 6 else str(to)
    if port is None:
        yield str(outside), str(to)
        return
    for number in range(outside.first, outside.last + 1):
        yield str(number), f"{host}:{port + number - outside.first}"


def _groups(box: Box, estate: Estate) -> list[str]:
    if not isinstance(box, Machine) or all(each.groups is None for each in box.interfaces.values()):
        return []
    into, out = [], []
    for interface in box.interfaces.values():
        if interface.groups is None:
            continue
        device = device_name(box, interface.name)
        into += [f"    iifname {device} {text}" for text in _allowances(interface, estate, True)]
        out += [f"    oifname {device} {text}" for text in _allowances(interface, estate, False)]
    return [
        "table inet groups {",
        "\n".join(["  chain into {", "    type filter hook prerouting priority -110; policy accept;", *into, "  }"]),
        "\n".join(["  chain out {", "    type filter hook postrouting priority 110; policy accept;", *out, "  }"]),
        "}",
    ]


def _allowances(interface: Interface, estate: Estate, inbound: bool) -> Iterator[str]:
    yield _NEIGHBOURS
    yield "ct state { established, related } accept"
    for name in interface.groups or ():
        group = estate.groups[name]
        rules = group.inbound if inbound else group.outbound
        if rules is None:
            yield "accept"
            return
        for rule in rules:
            peers: list[IPNetwork] = []
            for each in rule.peers:
                peers += _members(estate, each) if isinstance(each, str) else [each]
            if rule.peers and not peers:
                continue
            yield from _allowance(rule, peers, inbound)
    yield "counter drop"


def _allowance(rule: GroupRule, peers: list[IPNetwork], inbound: bool) -> Iterator[str]:
    for side in _sides(peers, "saddr" if inbound else "daddr"):
        yield " ".join(
            part
            for part in (
                _protocol(rule.allow),
                _ports(rule.ports, rule.allow, "dport") if rule.allow in ("tcp", "udp") else "",
                side,
                "counter accept",
            )
            if part
        )


def _members(estate: Estate, group: str) -> list[IPNetwork]:
    return [
        type(item.network)(item.ip)
        for machine in every_machine(estate)
        for interface in machine.interfaces.values()
        if group in (interface.groups or ())
        for item in interface.address
    ]
