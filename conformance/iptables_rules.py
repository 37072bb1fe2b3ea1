"""A box's filter and translations as text for iptables-restore: written anew, from the estate's facts alone."""

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Network, IPv6Network
from itertools import product

from portolan.estate.areas import service_ports
from portolan.estate.base import IPNetwork, PortRange
from portolan.estate.filter import Area, Chain, Filter, FilterRule
from portolan.estate.machine import Forward, Machine, SourceNat
from portolan.rehearsal.facts import Box, runs
from portolan.rehearsal.plan import Plan
from portolan.rehearsal.ways import device_name

_STATES = {
    "new": "NEW",
    "established": "ESTABLISHED",
    "related": "RELATED",
    "invalid": "INVALID",
    "untracked": "UNTRACKED",
}
_REJECT_4 = {
    "tcp-reset": "tcp-reset",
    "port-unreachable": "icmp-port-unreachable",
    "host-unreachable": "icmp-host-unreachable",
    "net-unreachable": "icmp-net-unreachable",
    "host-prohibited": "icmp-host-prohibited",
    "net-prohibited": "icmp-net-prohibited",
    "admin-prohibited": "icmp-admin-prohibited",
    "protocol-unreachable": "icmp-proto-unreachable",
    "policy-fail": "icmp-admin-prohibited",
}
_REJECT_6 = {
    "tcp-reset": "tcp-reset",
    "port-unreachable": "icmp6-port-unreachable",
    "host-unreachable": "icmp6-addr-unreachable",
    "net-unreachable": "icmp6-no-route",
    "host-prohibited": "icmp6-adm-prohibited",
    "net-prohibited": "icmp6-adm-prohibited",
    "admin-prohibited": "icmp6-adm-prohibited",
    "protocol-unreachable": "icmp6-adm-prohibited",
    "policy-fail": "icmp6-policy-fail",
}
_TYPES_4 = {
    "echo-request": "8", "echo-reply": "0", "destination-unreachable": "3", "time-exceeded": "11",
    "parameter-problem": "12", "router-solicitation": "10", "router-advertisement": "9",
}  # fmt: skip
_TYPES_6 = {
    "echo-request": "128", "echo-reply": "129", "destination-unreachable": "1", "packet-too-big": "2",
    "time-exceeded": "3", "parameter-problem": "4", "router-solicitation": "133", "router-advertisement": "134",
    "neighbour-solicitation": "135", "neighbour-advertisement": "136",
}  # fmt: skip


def iptables(plan: Plan, box: Box) -> None:
    """Loads a box's filter and translations by iptables-restore and ip6tables-restore."""
    space = plan.space_of(box)
    for version, command in ((4, "iptables-restore"), (6, "ip6tables-restore")):
        text = "".join(Tables(box, version).text())
        if text:
            name = f"{space}.rules{version}"
            plan.files[name] = text
            plan.spaces[space].append(f"{command} < {name}")


class Tables:
    """The tables of one IP version."""

    def __init__(self, box: Box, version: int) -> None:
        self.box = box
        self.version = version
        names = [*(box.interfaces if isinstance(box, Machine) else [box.network or "internet"]), "lo"]
        self.devices = {name: device_name(box, name) for name in names}

    def text(self) -> Iterator[str]:
        """Every table that holds anything."""
        held = self.box.filter
        if held is not None:
            yield from self.filter(held)
            if held.arriving is not None:
                yield from self.raw(held, held.arriving)
        if isinstance(self.box, Machine) and self.box.translates:
            yield from self.nat(self.box)

    # -- the filter ----------------------------------------------------------------------------------------------

    def named(self, held: Filter) -> Iterator[str]:
        """The named chains, declared and filled."""
        for number, _ in enumerate(held.chains):
            yield f":c{number} - [0:0]\n"
        for number, chain in enumerate(held.chains.values()):
            for rule in chain.rules:
                yield from self.rule(f"c{number}", rule, list(held.chains))

    def filter(self, held: Filter) -> Iterator[str]:
        """The table `filter`."""
        yield "*filter\n"
        for hook, chain in (("INPUT", held.inbound), ("FORWARD", held.forward), ("OUTPUT", held.outbound)):
            yield f":{hook} ACCEPT [0:0]\n"
            if chain is not None:
                yield f":own{hook} - [0:0]\n"
        yield from self.named(held)
        for hook, chain in (("INPUT", held.inbound), ("FORWARD", held.forward), ("OUTPUT", held.outbound)):
            if chain is not None:
                yield from self.basics(hook, held)
                yield f"-A {hook} -j own{hook}\n"
                yield from self.final(hook, chain.default, None)
                for rule in chain.rules:
                    yield from self.rule(f"own{hook}", rule, list(held.chains))
        if held.areas:
            yield from self.basics("INPUT", held)
            yield from self.areas(list(held.areas.values()))
        yield "COMMIT\n"

    def basics(self, hook: str, held: Filter) -> Iterator[str]:
        """What passes before the rules."""
        said = held.basics
        if said is None:
            said = ("loopback", "neighbour-discovery", *(("known-connections",) if held.stateful else ()))
        if "loopback" in said and hook != "FORWARD":
            yield f"-A {hook} {'-i' if hook == 'INPUT' else '-o'} lo -j ACCEPT\n"
        if "neighbour-discovery" in said and self.version == 6:
            yield from (
                f"-A {hook} -p icmpv6 -m icmp6 --icmpv6-type {number} -j ACCEPT\n" for number in (133, 134, 135, 136)
            )
        if "known-connections" in said:
            yield f"-A {hook} -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT\n"

    def final(self, chain: str, verdict: str, answer: str | None) -> Iterator[str]:
        """What happens to the rest."""
        yield f"-A {chain} {self.target(verdict, answer)}\n"

    def target(self, verdict: str, answer: str | None) -> str:
        """A verdict as a target."""
        if verdict == "reject":
            return f"-j REJECT --reject-with {(_REJECT_4 if self.version == 4 else _REJECT_6)[answer or 'port-unreachable']}"
        return {"allow": "-j ACCEPT", "drop": "-j DROP", "return": "-j RETURN"}[verdict]

    def areas(self, areas: list[Area]) -> Iterator[str]:
        """Areas as chains that are gone to."""
        for number, _ in enumerate(areas):
            yield f":a{number} - [0:0]\n"
        for number, area in enumerate(areas):
            yield from (f"-A INPUT -s {each} -g a{number}\n" for each in self.mine(area.sources))
        for number, area in enumerate(areas):
            yield from (f"-A INPUT -i {self.devices[each]} -g a{number}\n" for each in area.interfaces)
        yield from (f"-A INPUT -g a{number}\n" for number, area in enumerate(areas) if area.default)
        yield "-A INPUT -j DROP\n"
        for number, area in enumerate(areas):
            for text in area.services:
                for protocol, ports in service_ports(text):
                    yield f"-A a{number} -p {protocol} --dport {ports.first}:{ports.last} -j ACCEPT\n"
            yield from self.final(f"a{number}", area.otherwise, area.answer or "admin-prohibited")

    def raw(self, held: Filter, chain: Chain) -> Iterator[str]:
        """The table `raw`."""
        yield "*raw\n:PREROUTING ACCEPT [0:0]\n:own - [0:0]\n"
        # Chains that only the others lead to are empty here: they may ask what this table does not know.
        led = {rule.next for rule in chain.rules if rule.next}
        for number, name in enumerate(held.chains):
            yield f":c{number} - [0:0]\n"
            if name in led:
                for rule in held.chains[name].rules:
                    yield from self.rule(f"c{number}", rule, list(held.chains))
        yield "-A PREROUTING -j own\n"
        yield from self.final("PREROUTING", chain.default, None)
        for rule in chain.rules:
            yield from self.rule("own", rule, list(held.chains))
        yield "COMMIT\n"

    def rule(self, chain: str, rule: FilterRule, chains: list[str]) -> Iterator[str]:
        """A rule: several where one cannot say it."""
        sources, destinations = self.sides(rule.sources, "-s"), self.sides(rule.destinations, "-d")
        legs = [*self.legs("-i", rule.entering, rule.not_entering)], [*self.legs("-o", rule.leaving, rule.not_leaving)]
        kinds = self.kinds(rule)
        rest = "".join(self.common(rule))
        target = (
            f"-{'j' if rule.jump else 'g'} c{chains.index(rule.next)}"
            if rule.next is not None
            else self.target(rule.verdict, rule.answer)
        )
        for parts in product(legs[0], legs[1], sources, destinations, kinds):
            yield f"-A {chain} {''.join(parts)}{rest}{target}\n"

    def mine(self, ranges: Iterable[IPNetwork]) -> list[IPNetwork]:
        """The ranges of this version."""
        kind = IPv4Network if self.version == 4 else IPv6Network
        return [each for each in ranges if isinstance(each, kind)]

    def sides(self, ranges: tuple[IPNetwork, ...], word: str) -> list[str]:
        """Matches on ranges, one of which must fit; none at all where only the other version has any."""
        return [f"{word} {each} " for each in self.mine(ranges)] if ranges else [""]

    def legs(self, word: str, names: tuple[str, ...], others: tuple[str, ...]) -> Iterator[str]:
        """Matches on interfaces, one of which must fit."""

        def fits(name: str, held: tuple[str, ...]) -> bool:
            return any(name == each or (each[-1:] == "*" and name.startswith(each[:-1])) for each in held)

        if not names and not others:
            yield ""
            return
        for name, device in self.devices.items():
            if (not names or fits(name, names)) and not fits(name, others):
                yield f"{word} {device} "

    def kinds(self, rule: FilterRule) -> list[str]:
        """Matches on the protocol and its messages."""
        if rule.protocol != "icmp":
            return ["" if rule.protocol == "any" else f"-p {rule.protocol} "]
        name, held, word = ("icmp", _TYPES_4, "icmp") if self.version == 4 else ("icmpv6", _TYPES_6, "icmp6")
        if not rule.icmp_types:
            return [f"-p {name} "]
        return [f"-p {name} -m {word} --{name}-type {held[each]} " for each in rule.icmp_types if each in held]

    def common(self, rule: FilterRule) -> Iterator[str]:
        """What one match can say."""
        for negated, word, held in (
            ("", "--dports", rule.ports),
            ("! ", "--dports", rule.not_ports),
            ("", "--sports", rule.source_ports),
            ("! ", "--sports", rule.not_source_ports),
        ):
            if held:
                yield f"-m multiport {negated}{word} {_ports(held)} "
        for word, ranges in (("--src-range", rule.not_sources), ("--dst-range", rule.not_destinations)):
            yield from (f"-m iprange ! {word} {_first_to_last(each)} " for each in self.mine(ranges))
        for word, own in (("--src-type", rule.from_own), ("--dst-type", rule.to_own)):
            if own is not None:
                yield f"-m addrtype {'' if own else '! '}{word} LOCAL "
        if rule.state:
            yield f"-m conntrack --ctstate {','.join(_STATES[each] for each in rule.state)} "
        if rule.not_state:
            yield f"-m conntrack ! --ctstate {','.join(_STATES[each] for each in rule.not_state)} "
        if rule.forwarded is not None:
            yield f"-m conntrack {'' if rule.forwarded else '! '}--ctstate DNAT "

    # -- translations --------------------------------------------------------------------------------------------

    def nat(self, box: Machine) -> Iterator[str]:
        """The table `nat`, and the marks by which it tells what came from where."""
        turns = box.hairpin == "full" or any(each.hairpin == "full" for each in box.forwards)
        if turns:
            yield "*mangle\n:PREROUTING ACCEPT [0:0]\n"
            for number, name in enumerate(box.interfaces, 1):
                yield f"-A PREROUTING -i {self.devices[name]} -m conntrack --ctstate NEW -j CONNMARK --set-mark {number}\n"
            yield "COMMIT\n"
        yield "*nat\n:PREROUTING ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n"
        yield from self.own_first(box)
        for forward in box.forwards:
            if forward.enabled:
                yield from self.forward(box, forward, turns)
        if turns:
            for number, name in enumerate(box.interfaces, 1):
                yield f"-A POSTROUTING -o {self.devices[name]} -m connmark --mark {number} -m conntrack --ctstate DNAT -j MASQUERADE\n"
        for pair in box.one_to_one:
            if pair.outside.version == self.version:
                device = self.devices[pair.on]
                leg = f"-i {device} " if box.hairpin == "off" else ""
                if turns and box.hairpin != "full":
                    yield f"-A PREROUTING {leg}-d {pair.outside} -j CONNMARK --set-mark 0\n"
                yield f"-A PREROUTING {leg}-d {pair.outside} -j DNAT --to-destination {pair.inside}\n"
                yield f"-A POSTROUTING -o {device} -s {pair.inside} -j SNAT --to-source {pair.outside}\n"
        for rule in box.source_nat:
            yield from self.source_nat(rule)
        if self.version == 4:
            yield from (f"-A POSTROUTING -o {self.devices[name]} -j MASQUERADE\n" for name in box.masquerade)
        yield "COMMIT\n"

    def own_first(self, box: Machine) -> Iterator[str]:
        """What the machine's own services take first."""
        if not box.own_services_first:
            return
        own = [item.ip for each in box.interfaces.values() for item in each.address if item.version == self.version]
        for service in box.services.values():
            for listener in service.listens if runs(service) else ():
                everywhere = listener.address is None or int(listener.address) == 0
                for each in own:
                    if everywhere or each == listener.address:
                        yield f"-A PREROUTING -d {each} -p tcp --dport {listener.port} -j RETURN\n"

    def forward(self, box: Machine, forward: Forward, turns: bool) -> Iterator[str]:
        """A forward, for what arrives and for the machine's own connections."""
        if forward.to is not None and forward.to.version != self.version:
            return
        if forward.address == "own":
            asked = ["-m addrtype --dst-type LOCAL "]
        else:
            held = [] if forward.address is None else list(forward.address)
            if forward.address is None:
                names = list(box.interfaces) if forward.on is None else [forward.on]
                held = [item.ip for name in names for item in box.interfaces[name].address]
            asked = [f"-d {each} " for each in held if each.version == self.version]
        how = forward.hairpin or box.hairpin
        only = (forward.on,) if forward.on is not None and how == "off" else ()
        legs = list(self.legs("-i", only, forward.not_on))
        unmarked = turns and how != "full"
        for chain, where in (("PREROUTING", legs), ("OUTPUT", [""] if forward.own_connections else [])):
            for leg, address, source in product(where, asked, self.sides(forward.sources, "-s")):
                narrowed = "".join(
                    f"-m iprange ! --src-range {_first_to_last(each)} " for each in self.mine(forward.not_sources)
                )
                for ports, target in self.targets(forward):
                    match = f"-A {chain} {leg}{address}{source}{narrowed}-p {forward.protocol} --dport {ports} "
                    if unmarked and chain == "PREROUTING":
                        yield f"{match}-j CONNMARK --set-mark 0\n"
                    yield f"{match}{target}\n"

    def targets(self, forward: Forward) -> Iterator[tuple[str, str]]:
        """Ports, and what is done with each."""
        outside = forward.outside
        host = f"[{forward.to}]" if self.version == 6 else str(forward.to)
        if forward.port is None:
            yield f"{outside.first}:{outside.last}", f"-j DNAT --to-destination {forward.to}"
            return
        for port in range(outside.first, outside.last + 1):
            inner = forward.port + port - outside.first
            redirect = f"-j REDIRECT --to-ports {inner}"
            yield str(port), redirect if forward.to is None else f"-j DNAT --to-destination {host}:{inner}"

    def source_nat(self, rule: SourceNat) -> Iterator[str]:
        """Source NAT and masquerading by the line."""
        versions = {each.version for each in (*rule.sources, *rule.destinations)} or {4}
        if (rule.to.version != self.version) if rule.to is not None else (self.version not in versions):
            return
        narrowed = "".join(
            f"-m iprange ! {word} {_first_to_last(each)} "
            for word, held in (("--src-range", rule.not_sources), ("--dst-range", rule.not_destinations))
            for each in self.mine(held)
        )
        protocol = "tcp" if rule.tcp else "udp"
        ports = f"-p {protocol} -m multiport --dports {_ports(rule.tcp or rule.udp)} " if rule.tcp or rule.udp else ""
        target = "-j MASQUERADE" if rule.to is None else f"-j SNAT --to-source {rule.to}"
        for source, towards in product(self.sides(rule.sources, "-s"), self.sides(rule.destinations, "-d")):
            yield f"-A POSTROUTING -o {self.devices[rule.on]} {source}{towards}{narrowed}{ports}{target}\n"


def _ports(held: tuple[PortRange, ...]) -> str:
    return ",".join(f"{each.first}:{each.last}" if each.first != each.last else str(each.first) for each in held)


def _first_to_last(net: IPNetwork) -> str:
    return f"{net.network_address}-{net.broadcast_address}"
