"""The filter driver: forwards, masquerading, hairpin, filters and security groups as nf_tables rules."""

from collections.abc import Callable, Iterable, Iterator
from ipaddress import IPv4Network, IPv6Network

from portolan.estate.base import IPNetwork, PortRange
from portolan.estate.estate import Estate
from portolan.estate.filter import Area, Chain, FilterRule, OneFilter
from portolan.estate.machine import Machine, Router
from portolan.estate.network import GroupRule, Interface, ListRule
from portolan.rehearsal.facts import Box, area_ports, every_box, every_machine, network_of, protocol_of
from portolan.rehearsal.plan import Plan
from portolan.rehearsal.quoting import rules
from portolan.rehearsal.translations import addressed, translation
from portolan.rehearsal.ways import clamping, device_name, marking

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


#: Another way to load a box's filter and translations than as nf_tables: puts its commands into the plan.
Loader = Callable[[Plan, Box], None]


def build_filters(plan: Plan, loader: Loader | None = None) -> None:
    """Rules for every box that has any."""
    for box in every_box(plan.estate):
        tables = [*_groups(box, plan.estate), *_lists(box, plan.estate), *marking(box), *clamping(box)]
        if loader is not None:
            loader(plan, box)
        else:
            tables = [*translation(box), *_filter(box), *tables]
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


def _ports(ranges: tuple[PortRange, ...], protocol: str, word: str, negated: str = "") -> str:
    return f"{protocol} {word} {negated}{{ {', '.join(map(str, ranges))} }}" if ranges else ""


def _protocol(protocol: str) -> str:
    return {
        "tcp": "meta l4proto tcp",
        "udp": "meta l4proto udp",
        "icmp": "meta l4proto { icmp, ipv6-icmp }",
        "any": "",
    }[protocol]


#: Messages of ICMP by the name that rules have for them; None where a version has no such message.
_MESSAGES: dict[str, tuple[str | None, str]] = {
    "echo-request": ("echo-request", "echo-request"),
    "echo-reply": ("echo-reply", "echo-reply"),
    "destination-unreachable": ("destination-unreachable", "destination-unreachable"),
    "packet-too-big": (None, "packet-too-big"),
    "time-exceeded": ("time-exceeded", "time-exceeded"),
    "parameter-problem": ("parameter-problem", "parameter-problem"),
    "router-solicitation": ("router-solicitation", "nd-router-solicit"),
    "router-advertisement": ("router-advertisement", "nd-router-advert"),
    "neighbour-solicitation": (None, "nd-neighbor-solicit"),
    "neighbour-advertisement": (None, "nd-neighbor-advert"),
}


def devices(box: Box, names: tuple[str, ...]) -> list[str]:
    """The kernel's names of interfaces that a rule names, by name or by beginning."""
    own = [*(box.interfaces if isinstance(box, Machine) else [box.network or "internet"]), "lo"]
    return [
        device_name(box, each)
        for each in own
        if any((name[-1:] == "*" and each.startswith(name[:-1])) or each == name for name in names)
    ]


def _legs_asked(rule: FilterRule, box: Box) -> list[str] | None:
    """What a rule asks of interfaces; None where no interface fits."""
    found = []
    for key, names, others in (
        ("iifname", rule.entering, rule.not_entering),
        ("oifname", rule.leaving, rule.not_leaving),
    ):
        if names:
            held = devices(box, names)
            if not held:
                return None
            found.append(f"{key} {{ {', '.join(held)} }}")
        if others and devices(box, others):
            found.append(f"{key} != {{ {', '.join(devices(box, others))} }}")
    return found


def _states(rule: FilterRule) -> list[str]:
    found = [f"ct state {{ {', '.join(rule.state)} }}"] if rule.state else []
    # `!=` and a set of states are read as bits there; each state that is left is named instead.
    if rule.not_state:
        rest = [
            each for each in ("new", "established", "related", "invalid", "untracked") if each not in rule.not_state
        ]
        found.append(f"ct state {{ {', '.join(rest)} }}" if rest else "ct state { new } ct state { invalid }")
    return found


def _by_version(rule: FilterRule) -> Iterator[list[str]]:
    """A rule's addresses and messages: one list of matches a version where there are any, else one for both."""
    if not (rule.sources or rule.not_sources or rule.destinations or rule.not_destinations or rule.icmp_types):
        yield []
        return
    for version in (4, 6):
        found = addressed(rule, version)
        if found is None:
            continue
        messages = [_MESSAGES[each][version == 6] for each in rule.icmp_types]
        held = [each for each in messages if each is not None]
        if rule.icmp_types:
            if not held:
                continue
            found.append(f"{'icmp' if version == 4 else 'icmpv6'} type {{ {', '.join(held)} }}")
        yield [f"meta nfproto ipv{version}", *found]


def _rule(rule: FilterRule, box: Box, chains: list[str]) -> Iterator[str]:
    legs = _legs_asked(rule, box)
    if legs is None:
        return
    # A message's type says its protocol too.
    common = ["" if rule.icmp_types else _protocol(protocol_of(rule)), *legs]
    for word, held, negated in (
        ("sport", rule.source_ports, ""),
        ("sport", rule.not_source_ports, "!= "),
        ("dport", rule.ports, ""),
        ("dport", rule.not_ports, "!= "),
    ):
        common.append(_ports(held, protocol_of(rule), word, negated))
    common += _states(rule)
    for side, own in (("saddr", rule.from_own), ("daddr", rule.to_own)):
        if own is not None:
            common.append(f"fib {side} type {'' if own else '!= '}local")
    if rule.forwarded is not None:
        common.append("ct status dnat" if rule.forwarded else "ct status & 0x20 == 0")
    if rule.next is not None:
        verdicts = [f"{'jump' if rule.jump else 'goto'} c{chains.index(rule.next)}"]
    else:
        verdicts = _verdicts(rule.verdict, rule.answer)
    for sides in _by_version(rule):
        for verdict in verdicts:
            yield " ".join(part for part in (*common, *sides, "counter", verdict) if part)


def _verdicts(verdict: str, answer: str | None) -> list[str]:
    if verdict != "reject":
        return [{"allow": "accept", "drop": "drop", "return": "return"}[verdict]]
    kind = answer or "port-unreachable"
    if kind in _ONE_VERSION:
        four, six = _ONE_VERSION[kind]
        return [f"meta nfproto ipv4 reject with icmp type {four}", f"meta nfproto ipv6 reject with icmpv6 type {six}"]
    return [_ANSWERS[kind]]


def _filter(box: Box) -> list[str]:
    """A box's filters, each as a table of its own, asked in their order."""
    if box.filter is None:
        return []
    found = []
    for number, filtering in enumerate((box.filter, *box.filter.then)):
        names = list(filtering.chains)
        chains = [
            "\n".join(
                [
                    f"  chain c{chain} {{",
                    *(f"    {text}" for rule in held.rules for text in _rule(rule, box, names)),
                    "  }",
                ]
            )
            for chain, held in enumerate(filtering.chains.values())
        ]
        if filtering.areas:
            chains += _areas(filtering, box, number)
        hooks = (("input", filtering.inbound), ("forward", filtering.forward), ("output", filtering.outbound))
        for hook, chain in (*hooks, ("prerouting", filtering.arriving)):
            if chain is not None:
                chains.append(_chain(hook, chain, filtering, box, number))
        found += [f"table inet box{number or ''} {{", *chains, "}"]
    return found


def _areas(filtering: OneFilter, box: Box, place: int) -> list[str]:
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
    body = [f"type filter hook input priority {place}; policy drop;", *_basics("input", filtering), *jumps]
    return [
        *(f"  chain a{number} {{\n    {lines}\n  }}" for number, lines in enumerate(map(_area, areas))),
        "\n    ".join(["  chain input_areas {", *body]) + "\n  }",
    ]


def _area(area: Area) -> str:
    lines = [
        f"{protocol} dport {ports} counter accept" for text in area.services for protocol, ports in area_ports(text)
    ]
    return "\n    ".join(
        [*lines, *(f"counter {verdict}" for verdict in _verdicts(area.otherwise, area.answer or "admin-prohibited"))]
    )


def _basics(hook: str, filtering: OneFilter) -> Iterator[str]:
    """What passes before the rules: as it is written, else everything of the kind; nothing before connection tracking."""
    if hook == "prerouting":
        return
    said = filtering.basics
    if hook != "forward" and (said is None or "loopback" in said):
        yield f'{"iifname" if hook == "input" else "oifname"} "lo" accept'
    if said is None or "neighbour-discovery" in said:
        yield _NEIGHBOURS
    if "known-connections" in said if said is not None else filtering.stateful:
        yield "ct state { established, related } accept"


def _chain(hook: str, chain: Chain, filtering: OneFilter, box: Box, place: int) -> str:
    names = list(filtering.chains)
    # A chain of its own, so that `return` leads to the default.
    rules = [
        f"  chain {hook}_rules {{",
        *(f"    {text}" for rule in chain.rules for text in _rule(rule, box, names)),
        "  }",
    ]
    priority = place - 300 if hook == "prerouting" else place
    lines = [*rules, f"  chain {hook}_box {{", f"    type filter hook {hook} priority {priority}; policy accept;"]
    lines += [f"    {text}" for text in _basics(hook, filtering)]
    lines.append(f"    jump {hook}_rules")
    lines += [f"    counter {verdict}" for verdict in _verdicts(chain.default, None)]
    return "\n".join([*lines, "  }"])


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
        "\n".join(["  chain into {", "    type filter hook prerouting priority -310; policy accept;", *into, "  }"]),
        "\n".join(["  chain out {", "    type filter hook postrouting priority 300; policy accept;", *out, "  }"]),
        "}",
    ]


def _list_lines(rules: tuple[ListRule, ...]) -> Iterator[str]:
    yield _NEIGHBOURS
    for rule in rules:
        ports = _ports(rule.ports, protocol_of(rule), "dport")
        for source in _sides(rule.sources, "saddr"):
            for destination in _sides(rule.destinations, "daddr"):
                if {source[:3], destination[:3]} != {"ip ", "ip6"}:
                    parts = (
                        _protocol(protocol_of(rule)),
                        ports,
                        source,
                        destination,
                        "counter",
                        "accept" if rule.allow else "drop",
                    )
                    yield " ".join(part for part in parts if part)
    yield "counter drop"


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
            stated = rule.sources if inbound else rule.destinations
            for each in stated:
                peers += _members(estate, each) if isinstance(each, str) else [each]
            if stated and not peers:
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
