"""Random topologies, and random connections in them: what the engine says against the kernel.

One to five boxes beside the visitors: routers in a row or side by side, hosts on segments; translations, filters,
groups, access lists, routes, both IP versions. A connection is compared with its error, with the service that answered,
and with the address that the service saw.
"""

import json
import random
from collections.abc import Iterator
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from conformance.iptables_rules import iptables
from portolan.estate.guesses import machines
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.outcome import Detail
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World
from portolan.rehearsal.filters import build_filters
from portolan.rehearsal.network import build_network
from portolan.rehearsal.plan import Daemon, Plan, Probe
from portolan.rehearsal.run import carry_out

PORTS = (80, 443, 8080, 22)
ANSWERS = (
    "tcp-reset",
    "port-unreachable",
    "host-unreachable",
    "net-unreachable",
    "host-prohibited",
    "net-prohibited",
    "admin-prohibited",
    "protocol-unreachable",
    "policy-fail",
)
MESSAGES = (
    "echo-request",
    "destination-unreachable",
    "time-exceeded",
    "neighbour-solicitation",
    "neighbour-advertisement",
)
BASICS = ("loopback", "neighbour-discovery", "known-connections")
Question = tuple[str, str, int]


class Draw:
    """One random estate, written out as it grows."""

    def __init__(self, seed: int, varied: bool = True) -> None:
        self.rng = random.Random(seed)
        #: Whether boxes have what few have: iptables has no word for filters one behind the other.
        self.varied = varied
        self.six = self.rng.random() < 0.4
        self.segments = ["one", "two", "three"][: self.rng.choice((1, 1, 2, 2, 3))]
        #: Addresses of every box by segment, for rules, forwards and questions.
        self.known: list[str] = ["203.0.113.40", "10.1.0.99", "192.0.2.99"]
        #: Whether rules may name the sets of their filter.
        self.sets = False
        self.groups = ["a", "b"] if self.rng.random() < 0.4 else []
        self.routers: dict[str, dict[str, list[str]]] = {}

    def maybe(self, chance: float) -> bool:
        """Whether something happens."""
        return self.rng.random() < chance

    def addresses(self, segment: str, last: int) -> list[str]:
        """A box's addresses on a segment."""
        number = self.segments.index(segment) + 1
        found = [f"10.{number}.0.{last}"]
        if self.six:
            found.append(f"2001:db8:{number}::{last:x}")
        self.known += found
        return found

    def estate(self) -> dict[str, Any]:
        """The whole as plain data (JSON is YAML)."""
        networks: dict[str, Any] = {}
        for number, name in enumerate(self.segments, 1):
            networks[name] = {"subnets": [f"10.{number}.0.0/24", *([f"2001:db8:{number}::/64"] if self.six else [])]}
            if self.maybe(0.2):
                networks[name]["access_list"] = {
                    way: self.lines() for way in ("inbound", "outbound") if self.maybe(0.7)
                }
        routers = dict(self.every_router())
        hosts = {f"host{number}": self.host(number) for number in range(self.rng.choice((1, 1, 2, 3)))}
        vantages = {
            "street": {"network": "internet", "address": ["198.51.100.77", *(["2001:db8:77::7"] if self.six else [])]}
        }
        for name in self.segments:
            vantages[f"at-{name}"] = {
                "network": name,
                "address": self.masked(self.addresses(name, 50)),
                **self.way_out(name),
            }
        for name in hosts:
            if self.maybe(0.6):
                vantages[f"on-{name}"] = {"host": name}
        if self.maybe(0.3):
            vantages["on-router0"] = {"host": "router0"}
        if self.maybe(0.15):
            vantages["street"]["filter"] = self.filtered(("inbound", "outbound"), [])
        groups = {name: self.group() for name in self.groups}
        if self.varied and self.maybe(0.4):
            for box in (*routers.values(), *hosts.values()):
                self.vary(box)
            for network in networks.values():
                if self.maybe(0.12):
                    network["isolated"] = True
        return {
            "portolan": 1,
            "at": "2026-03-14T20:00:00Z",
            "networks": networks,
            "routers": routers,
            "hosts": hosts,
            "groups": groups,
            "vantages": vantages,
        }

    def vary(self, box: dict[str, Any]) -> None:
        """What few boxes have: settings of interfaces, further tables, marks, filters behind the filter."""
        names = list(box["interfaces"])
        for interface in box["interfaces"].values():
            for key, chance, values in (
                ("up", 0.05, [False]),
                ("reverse_path", 0.1, ["strict", "loose", "off"]),
                ("route_localnet", 0.1, [True]),
                ("proxy_arp", 0.08, [True]),
            ):
                # A public range behind an interface that is down goes round between its router and the internet.
                if self.maybe(chance) and not (key == "up" and self.six):
                    interface[key] = self.rng.choice(values)
            if self.maybe(0.06):
                interface["proxy_for"] = [self.rng.choice(self.plain())]
            elif self.six and self.maybe(0.2):
                old = [each for each in interface["address"] if ":" in each and "/" not in each]
                interface["deprecated"] = old[:1]
        if self.maybe(0.15):
            box["reverse_path"] = self.rng.choice(("strict", "loose", "off"))
        if self.maybe(0.08):
            box["passes_on"] = self.maybe(0.5)
        if self.maybe(0.3):
            self.table(box, names)
        if "filter" in box and self.maybe(0.3):
            held = box["filter"]
            chains = tuple(each for each in ("inbound", "forward", "outbound") if each in held) or ("inbound",)
            more = self.filtered(chains, names)
            if "chains" not in held or "chains" not in more:
                held["then"] = [more]

    def plain(self) -> list[str]:
        """Known addresses, or one that nobody has."""
        return [each for each in self.known if ":" not in each] or ["10.1.0.98"]

    def table(self, box: dict[str, Any], names: list[str]) -> None:
        """A further table by one of the box's networks, with rules and perhaps marks that lead to it."""
        segment = self.rng.choice(names)
        last = self.rng.choice((1, 2, 3))
        if segment == "line":
            box["tables"] = {"second": {"on": "line"}}
        elif segment in self.segments:
            box["tables"] = {"second": {"gateway": f"10.{self.segments.index(segment) + 1}.0.{last}"}}
        else:
            return
        if self.maybe(0.2):
            box["tables"]["second"].pop("gateway", None)
            box["tables"]["second"].pop("on", None)
            box["tables"]["second"]["routes"] = [
                {"to": "10.2.0.0/24", "type": self.rng.choice(("unreachable", "blackhole"))}
            ]
        rules: list[dict[str, Any]] = []
        for _ in range(self.rng.choice((1, 1, 2))):
            rule: dict[str, Any] = {"table": self.rng.choice(("second", "second", "second", "main"))}
            if self.maybe(0.5):
                rule["from"] = [self.plain_net()]
            if self.maybe(0.2):
                rule["to"] = [self.plain_net()]
            if self.maybe(0.2):
                rule["in"] = self.rng.choice([*names, "lo"])
            if self.maybe(0.4):
                rule["mark"] = 2
            if rule["table"] == "main":
                rule["without_default"] = self.maybe(0.7)
            rules.append(rule)
        box["routing_rules"] = rules
        mark: dict[str, Any] = {"mark": 2, "keep": self.maybe(0.7)}
        if self.maybe(0.3):
            mark["own"] = True
        elif self.maybe(0.6):
            mark["in"] = [self.rng.choice(names)]
        if self.maybe(0.4):
            mark["tcp"] = self.rng.choice(PORTS)
        if self.maybe(0.3):
            mark["from"] = [self.plain_net()]
        box["packet_marks"] = [mark]

    def plain_net(self) -> str:
        """A range, never a set's name."""
        held, self.sets = self.sets, False
        found = next(each for each in iter(self.net, None) if "-" not in each)
        self.sets = held
        return found

    def every_router(self) -> Iterator[tuple[str, dict[str, Any]]]:
        """The first on the internet; others between segments, or on the internet too."""
        count = 1 if len(self.segments) == 1 else len(self.segments) - self.rng.choice((0, 1))
        for number in range(max(1, count)):
            name = f"router{number}"
            interfaces: dict[str, Any] = {}
            if number == 0 or self.maybe(0.25):
                line = [f"203.0.113.{40 + number}", *([f"2001:db8:40::{number + 1:x}"] if self.six else [])]
                self.known += line
                interfaces["line"] = {"network": "internet", "address": line}
                if self.maybe(0.1):
                    interfaces["line"]["provider_blocks"] = [self.rng.choice(PORTS)]
            inner = (
                self.segments[number : number + 2]
                if "line" not in interfaces or self.maybe(0.3)
                else self.segments[number : number + 1]
            )
            for segment in inner:
                interfaces[segment] = {"address": self.addresses(segment, 1 + number)}
                self.routers.setdefault(segment, {})[name] = interfaces[segment]["address"]
            yield name, self.router(interfaces)

    def router(self, interfaces: dict[str, Any]) -> dict[str, Any]:
        """One router with some of what routers have."""
        names = list(interfaces)
        made: dict[str, Any] = {"interfaces": interfaces}
        first = names[0]
        if "line" not in interfaces:
            above = self.routers.get(first, {})
            ways = [
                address
                for addresses in above.values()
                for address in addresses
                if address not in interfaces[first]["address"]
            ]
            made["gateway"] = self.pick_gateway(ways)
        if self.maybe(0.75):
            made["masquerade"] = self.rng.choice(([first], [first], names, names[-1:]))
        if self.maybe(0.5):
            made["hairpin"] = self.rng.choice(("full", "full", "destination-only"))
        made["forwards"] = [self.forward(first, names) for _ in range(self.rng.choice((0, 1, 2, 3)))]
        inside = [each for each in self.known if each.startswith(("10.", "2001:db8:1:"))]
        if self.maybe(0.2):
            outside = self.rng.choice(("203.0.113.60", "203.0.113.61"))
            made["one_to_one"] = [
                {
                    "on": first,
                    "outside": outside,
                    "inside": self.rng.choice([each for each in inside if ":" not in each]),
                }
            ]
            self.known.append(outside)
        if self.maybe(0.15):
            made["source_nat"] = [self.source_nat(names)]
        if self.maybe(0.3):
            made["services"] = {"admin": {"kind": "other", "listens": [self.rng.choice(PORTS)]}}
            made["own_services_first"] = self.maybe(0.5)
        if self.maybe(0.35):
            made["filter"] = self.filtered(("inbound", "forward", "outbound"), names)
        if self.maybe(0.15):
            made["routes"] = [self.route()]
        return made

    def route(self) -> dict[str, Any]:
        """A route that leads nowhere."""
        to = self.rng.choice(("10.1.0.15/32", "10.2.0.0/25", "198.51.100.0/24", "0.0.0.0/1", "2001:db8:1::/65"))
        return {"to": to, "type": self.rng.choice(("unreachable", "blackhole", "prohibit"))}

    def source_nat(self, names: list[str]) -> dict[str, Any]:
        """A line of source NAT."""
        made: dict[str, Any] = {"on": self.rng.choice(names)}
        made["from"] = self.rng.choice(("10.1.0.0/24", "10.1.0.0/25", "0.0.0.0/0"))
        if self.maybe(0.7):
            made["to"] = "203.0.113.70"
        if self.maybe(0.3):
            made["towards"] = self.rng.choice(("198.51.100.0/24", "10.0.0.0/8", "10.1.0.15"))
        if self.maybe(0.2):
            made[self.rng.choice(("not_from", "not_towards"))] = self.rng.choice(("10.1.0.15", "10.1.0.0/28"))
        if self.maybe(0.3):
            made["tcp"] = self.rng.choice((80, [80, 443], "0-1023"))
        return made

    def forward(self, on: str, names: list[str]) -> dict[str, Any]:
        """A port forward."""
        port = self.rng.choice(PORTS)
        made: dict[str, Any] = {
            "on": on,
            "tcp": port,
            "to": self.rng.choice(("10.1.0.15", "10.1.0.15", "10.1.0.16", "10.1.0.2", "10.2.0.15", "10.1.0.99")),
        }
        if self.six and self.maybe(0.3):
            made["to"] = "2001:db8:1::f"
        if self.maybe(0.2):
            made["tcp"] = f"{port}-{port + 3}"
        if self.maybe(0.3):
            made["port"] = self.rng.choice(PORTS)
        if self.maybe(0.15):
            del made["to"]
            made["port"] = self.rng.choice(PORTS)
        if self.maybe(0.1):
            made["enabled"] = False
        if self.maybe(0.15):
            made["from"] = self.rng.choice(("198.51.100.0/24", "10.0.0.0/8", "192.0.2.0/24"))
        if self.maybe(0.1):
            made["not_from"] = self.rng.choice(("198.51.100.0/24", "10.1.0.50", "10.1.0.0/28"))
        if self.maybe(0.2):
            del made["on"]
            if self.maybe(0.4):
                made["not_on"] = [self.rng.choice(names)]
        if self.maybe(0.2):
            choices = ["own", ["203.0.113.40"], ["10.1.0.1", "203.0.113.99"]]
            made["address"] = self.rng.choice(choices)
        if self.maybe(0.3):
            made["own_connections"] = True
        if self.maybe(0.15):
            made["hairpin"] = self.rng.choice(("off", "destination-only", "full"))
        return made

    def way_out(self, segment: str) -> dict[str, Any]:
        """A gateway where there is a choice, now and then a strange one or a route that ends."""
        ways = [address for addresses in self.routers.get(segment, {}).values() for address in addresses]
        made: dict[str, Any] = (
            {"gateway": self.pick_gateway(ways)} if len(self.routers.get(segment, {})) != 1 or self.maybe(0.1) else {}
        )
        if self.maybe(0.08):
            made["routes"] = [self.route()]
        return made

    def pick_gateway(self, ways: list[str]) -> list[str] | str:
        """One of each IP version, or none."""
        if not ways or self.maybe(0.07):
            return "none"
        found = [self.rng.choice([each for each in ways if ":" not in each])]
        sixes = [each for each in ways if ":" in each]
        return [*found, *([self.rng.choice(sixes)] if sixes else [])]

    def masked(self, addresses: list[str]) -> list[str]:
        """The addresses, now and then with another mask than the network's."""
        if self.maybe(0.1):
            return [f"{each}/{self.rng.choice((16, 26, 28))}" if ":" not in each else each for each in addresses]
        return addresses

    def host(self, number: int) -> dict[str, Any]:
        """A host on a segment with a few listeners."""
        segment = self.segments[0] if number == 0 else self.rng.choice(self.segments)
        addresses = self.addresses(segment, 15 + number)
        made: dict[str, Any] = {"interfaces": {segment: {"address": self.masked(addresses)}}, **self.way_out(segment)}
        if self.groups and self.maybe(0.5):
            made["interfaces"][segment]["groups"] = self.rng.choice((["a"], ["b"], ["a", "b"], []))
        listens = []
        for port in self.rng.sample(PORTS, self.rng.choice((1, 2, 2, 3))):
            where = self.rng.choice(("", "", "", "0.0.0.0:", "[::]:", f"{addresses[0]}:", "127.0.0.1:"))
            listens.append(f"{where}{port}")
        made["services"] = {"page": {"kind": "other", "listens": listens}}
        others = [each for each in self.segments if each != segment]
        if others and self.maybe(0.2):
            made["interfaces"][others[0]] = {"address": self.addresses(others[0], 35 + number)}
            if "gateway" not in made:
                made["gateway"] = "none"
        if self.maybe(0.25):
            names = list(made["interfaces"])
            made["forwards"] = [self.forward(segment, names) for _ in range(self.rng.choice((1, 2)))]
            if self.maybe(0.3):
                made["source_nat"] = [self.source_nat(names)]
            if self.maybe(0.3):
                made["hairpin"] = "full"
        if self.maybe(0.4):
            made["filter"] = self.filtered(("inbound", "outbound"), [segment])
        return made

    def ports(self) -> dict[str, Any]:
        """Ports of a rule, or none."""
        return self.rng.choice(
            (
                {},
                {"ports": 80},
                {"ports": ["web"] if self.sets else [80, 443]},
                {"ports": "79-443"},
                {"ports": 22},
                {"ports": "0-1023"},
                {"ports": "32768-60999"},
            )
        )

    def net(self) -> str:
        """A range."""
        plain = [
            "198.51.100.0/24",
            "10.1.0.0/24",
            "10.0.0.0/8",
            "10.1.0.15/32",
            "203.0.113.40/32",
            "0.0.0.0/0",
            "10.1.0.1/32",
        ]
        if self.sets and self.maybe(0.3):
            return "inside"
        plain.append("10.1.0.14-10.1.0.17")
        return self.rng.choice([*plain, "2001:db8:1::/64", "::/0"] if self.six else plain)

    def rule(self, chain: str, names: list[str], jumps: list[str]) -> dict[str, Any]:
        """A filter's rule."""
        protocol = self.rng.choice(("tcp", "tcp", "any", "icmp"))
        verdicts = ["allow", "allow", "allow", "drop", "return", *(["jump", "goto"] if jumps else [])]
        word = self.rng.choice([*verdicts, *(["reject"] if chain not in ("arriving", "before") else [])])
        made: dict[str, Any] = {word: protocol}
        if word in ("jump", "goto"):
            made = {word: self.rng.choice(jumps), "protocol": protocol}
        if protocol == "tcp":
            made |= self.ports()
            if self.maybe(0.1):
                made["source_ports"] = self.rng.choice(("1-1023", "32768-60999", 80))
            if self.maybe(0.1):
                made[self.rng.choice(("not_ports", "not_source_ports"))] = self.rng.choice(
                    (80, [80, 22], "32768-60999")
                )
        if protocol == "icmp" and self.maybe(0.5):
            made["icmp_types"] = self.rng.sample(MESSAGES, self.rng.choice((1, 2, 4)))
        if word == "reject":
            answer = self.rng.choice(ANSWERS)
            if answer != "tcp-reset" or protocol == "tcp":
                made["answer"] = answer
        for key in ("from", "to"):
            if self.maybe(0.3):
                made[key] = [self.net() for _ in range(self.rng.choice((1, 1, 2)))]
            if self.maybe(0.08):
                made[f"not_{key}"] = [self.net() for _ in range(self.rng.choice((1, 2)))]
            if self.maybe(0.08):
                made[f"{key}_own"] = self.maybe(0.6)
        if chain not in ("arriving", "before"):
            if self.maybe(0.15):
                made["state"] = self.rng.choice((["new"], ["established", "related"], ["invalid"], ["untracked"]))
            elif self.maybe(0.08):
                made["not_state"] = self.rng.choice((["new"], ["established", "related"], ["invalid", "new"]))
            if chain == "forward" and self.maybe(0.15):
                made["forwarded"] = self.maybe(0.5)
        every = [*names, "lo", *([f"{names[0][:2]}*", "*"] if names else [])]
        if chain in ("inbound", "forward", "arriving") and self.maybe(0.2):
            made[self.rng.choice(("in", "in", "not_in"))] = self.rng.sample(
                every, min(len(every), self.rng.choice((1, 1, 2)))
            )
        if chain in ("outbound", "forward") and self.maybe(0.2):
            made[self.rng.choice(("out", "out", "not_out"))] = self.rng.sample(
                every, min(len(every), self.rng.choice((1, 1, 2)))
            )
        return made

    def filtered(self, chains: tuple[str, ...], names: list[str]) -> dict[str, Any]:
        """A filter."""
        made: dict[str, Any] = {}
        if self.maybe(0.5):
            made["basics"] = self.rng.choice(
                (
                    [],
                    [],
                    ["known-connections"],
                    ["loopback", "known-connections"],
                    ["neighbour-discovery"],
                    list(BASICS),
                )
            )
        elif self.maybe(0.15):
            made["stateful"] = False
        if self.maybe(0.3):
            made["sets"] = {"inside": {"addresses": [self.net(), "10.1.0.10-10.1.0.40"]}, "web": {"ports": [80, 443]}}
        self.sets = "sets" in made
        jumps: list[str] = []
        if self.maybe(0.3):
            own = [self.rule("own", [], []) for _ in range(self.rng.choice((1, 2)))]
            made["chains"] = {"own": {"rules": own}}
            jumps = ["own"]
            if self.maybe(0.3):
                more = [self.rule("own", [], jumps) for _ in range(self.rng.choice((1, 2)))]
                made["chains"]["more"] = {"rules": more}
                jumps = ["more", "own"]
        for chain in chains:
            if self.maybe(0.6):
                rules = [self.rule(chain, names, jumps) for _ in range(self.rng.choice((0, 1, 2, 3, 12)))]
                made[chain] = {"default": self.rng.choice(("allow", "allow", "drop", "reject")), "rules": rules}
        if self.maybe(0.12):
            rules = [self.rule("arriving", names, []) for _ in range(self.rng.choice((1, 2)))]
            made["arriving"] = {"default": "allow" if self.maybe(0.8) else "drop", "rules": rules}
        if "inbound" not in made and self.maybe(0.3):
            made["areas"] = {
                "inside": {
                    "from": [self.net()],
                    "services": [self.rng.choice(("http", "https", "22/tcp", "80-443/tcp"))],
                    "otherwise": self.rng.choice(("reject", "drop", "allow")),
                },
                "outside": {"default": True, "services": ["http"] if self.maybe(0.5) else []},
            }
        self.sets = False
        return made

    def lines(self) -> list[dict[str, Any]]:
        """An access list's lines."""
        found = []
        for _ in range(self.rng.choice((1, 2, 3))):
            protocol = self.rng.choice(("tcp", "tcp", "any"))
            line: dict[str, Any] = {self.rng.choice(("allow", "allow", "allow", "drop")): protocol}
            if protocol == "tcp":
                line |= self.rng.choice(
                    ({}, {"ports": [80, 443]}, {"ports": "1024-65535"}, {"ports": "49152-65535"}, {"ports": "1-33999"})
                )
            for key in ("from", "to"):
                if self.maybe(0.25):
                    line[key] = self.net()
            found.append(line)
        return found

    def group(self) -> dict[str, Any]:
        """A security group."""
        made: dict[str, Any] = {"inbound": [self.allowance("from") for _ in range(self.rng.choice((0, 1, 1, 2)))]}
        if self.maybe(0.2):
            made["outbound"] = [self.allowance("to") for _ in range(self.rng.choice((0, 1)))]
        return made

    def allowance(self, key: str) -> dict[str, Any]:
        """One line of a group."""
        made: dict[str, Any] = {"allow": self.rng.choice(("tcp", "tcp", "any"))}
        if made["allow"] == "tcp":
            made |= self.ports()
        if self.maybe(0.5):
            made[key] = [self.rng.choice((self.net(), self.rng.choice(self.groups)))]
        return made

    def questions(self, vantages: dict[str, Any], each: int) -> list[Question]:
        """Who asks for what."""
        places = [*dict.fromkeys(self.known), "127.0.0.1"]
        if self.six:
            places += ["::1", "2001:db8:1::99"]
        found: dict[Question, None] = {}
        for name in vantages:
            for _ in range(each):
                found[name, self.rng.choice(places), self.rng.choice(PORTS)] = None
        return list(found)


def compared(seed: int, each: int, own: list[str], tables: str = "nft") -> tuple[str, list[str], int]:
    """One random topology and its connections: the estate's text, what disagrees in words, how many were made."""
    draw = Draw(seed, tables == "nft")
    data = draw.estate()
    text = json.dumps(data, indent=1)
    wrong: list[str] = []
    count = 0
    for questions in batches(data, draw.questions(data["vantages"], each)):
        differing, number = asked(text, questions, own, tables)
        wrong += differing.values()
        count += number
    return text, wrong, count


#: Questions over IPv6 that are each asked of boxes started anew, where neighbours may not find each other.
MOST_ALONE = 4


def batches(data: dict[str, Any], questions: list[Question]) -> list[list[Question]]:
    """Questions that can be asked one after the other: where discovery may be stopped, what is known from an earlier one counts."""
    boxes = [*data["routers"].values(), *data["hosts"].values(), *data["vantages"].values()]
    filters = [box["filter"] for box in boxes if "filter" in box]
    if not any("neighbour-discovery" not in each.get("basics", BASICS) or "arriving" in each for each in filters):
        return [questions]
    six = [each for each in questions if ":" in each[1]]
    return [[each for each in questions if ":" not in each[1]], *([each] for each in six[:MOST_ALONE])]


#: A kernel sends a visitor five errors about missing routes at once, then one a second (ip_rt_error_burst, which is no
#: namespace's own). A SYN sent again asks for another.
MOST_ERRORS = 2


def borne(world: World, questions: list[Question]) -> list[Question]:
    """The questions without those for which a router would have to send one visitor too many errors at once."""
    sent: dict[tuple[str, str], int] = {}
    found = []
    for vantage, address, port in questions:
        connection = world.connect(world.estate.vantages[vantage], ip_address(address), port)
        errors = [
            (vantage, each.box)
            for each in connection.decisions
            if isinstance(each, connect_kinds.NoRoute | connect_kinds.RouteEnds)
        ]
        for key in errors:
            sent[key] = sent.get(key, 0) + 1
        if all(sent[key] <= MOST_ERRORS for key in errors):
            found.append((vantage, address, port))
    return found


def asked(
    text: str, questions: list[Question], own: list[str], tables: str = "nft"
) -> tuple[dict[Question | None, str], int]:
    """The connections of an estate, both ways: what disagrees in words (None: something else went wrong), how many."""
    estate = load(MemoryFiles({"estate.yaml": text}), "estate.yaml").estate
    assert estate.at is not None
    world = World(estate, estate.at)
    questions = borne(world, questions)
    plan = Plan(estate)
    build_network(plan)
    build_filters(plan, iptables if tables == "iptables" else None)
    for name in ("answerer.py", "caller.py"):
        plan.files[name] = Path(__file__).with_name(name).read_text("utf-8")
    for machine in machines(estate):
        sockets = [
            [str(each.address or ""), each.port, service.name]
            for service in machine.services.values()
            for each in service.listens
        ]
        if sockets:
            space = plan.space_of(machine)
            plan.files[f"{space}d/own.json"] = json.dumps(sockets)
            plan.owned.append([f"{space}d", "server"])
            command = ["python3", "-I", "-S", "answerer.py", f"{space}d/own.json"]
            plan.daemons.append(Daemon(f"{space}d", space, command, [["file", f"{space}d/own.json.ready"]]))
    by_vantage: dict[str, list[tuple[str, int]]] = {}
    for vantage, address, port in questions:
        by_vantage.setdefault(vantage, []).append((address, port))
    for number, (vantage, places) in enumerate(by_vantage.items()):
        plan.files[f"ask{number}.json"] = json.dumps(places)
        command = ["python3", "-I", "-S", "caller.py", f"ask{number}.json"]
        plan.probes.append(Probe(plan.space_of(estate.vantages[vantage]), command, [], 25))
    result = carry_out(plan.data(), own)
    wrong: dict[Question | None, str] = {}
    if result["troubles"]:
        wrong[None] = f"trouble: {'; '.join(result['troubles'])}"
    for (vantage, places), answer in zip(by_vantage.items(), result["results"], strict=True):
        if not answer["out"]:
            wrong[None] = f"no answers from {vantage}: {answer['err'][-300:]}"
            continue
        for (address, port), (how, words) in zip(places, json.loads(answer["out"]), strict=True):
            connection = world.connect(estate.vantages[vantage], ip_address(address), port)
            arrival = connection.arrival
            said = (
                connection.detail or "open",
                f"{arrival.service.name} {arrival.source}" if arrival is not None else "",
            )
            stops = [*connection.stop.grounds] if connection.stop is not None else []
            if connection.detail in (Detail.STALLED, Detail.CUT_OFF) and any(
                isinstance(each, connect_kinds.FilterRejects) for each in stops
            ):
                continue  # who rejects an open connection is heard by a client that looks in time, and by no other
            if said != (how, words):
                stop = connection.stop.kind if connection.stop is not None else ""
                words_of = f"{vantage} to {address} port {port}: predicted {said} {stop}, observed {(how, words)}"
                wrong[vantage, address, port] = words_of
    return wrong, len(questions)
