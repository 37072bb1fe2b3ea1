"""Random zones, servers, delegations and caches, and random questions: what the engine says against real name programs.

Zones come as lines of the estate and as master files (escapes, `$INCLUDE` with `$TTL`, `$GENERATE`); they are served by
nobody described, or by named, NSD or Knot DNS, several of them or a dead one; delegations have right, wrong, private or no
glue, lead in circles or nowhere; two resolvers (Unbound, named) are asked, empty or filled at a moment around which TTLs end.
"""

import json
import random
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from portolan.dns.answer import Answer
from portolan.dns.tree import address_records
from portolan.estate.estate import Estate
from portolan.estate.service import NameServer
from portolan.estate.zone import Zone
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World
from portolan.rehearsal.naming import Naming
from portolan.rehearsal.network import build_network
from portolan.rehearsal.plan import Plan, Probe
from portolan.rehearsal.run import carry_out

ZONES = ("kestrel-ridge.example", "other.example", "sub.kestrel-ridge.example", "deep.sub.kestrel-ridge.example")
PROGRAMS = ("named", "nsd", "knot", None)
RESOLVERS = {"unbound": "192.0.2.201", "named": "192.0.2.202"}
_NOW = datetime(2026, 3, 14, 20, tzinfo=UTC)
_STARS = ("*", "\\*", "\\042")
_LABELS = ("a", "b", "c", "sub", "deep", "www", "x", "a\\046b", "\\097", "x\\032y", "h1")
_TTLS = (60, 300, 1200, 3600, 7200, 20000, 100000)
#: TTLs around a time that can be waited for, in seconds.
_SHORT, _WAIT = (2, 3, 9, 12, 60), 6
Result = tuple[str, tuple[str, ...]]


class Draw:
    """One random estate."""

    def __init__(self, seed: int) -> None:
        self.rng = random.Random(seed)
        self.files: dict[str, str] = {}
        self.held = ["kestrel-ridge.example", *(zone for zone in ZONES[1:] if self.maybe(0.6))]
        #: Every name that some version of a zone has, to fill caches with.
        self.owners: set[str] = set()
        #: The address that a zone's file states for its name server: a described one's, else one of its own.
        self.servers: dict[str, str] = {}
        #: Whether caches are filled before: by shifted clocks, or by waiting, as named needs it.
        self.filled = self.rng.choice(("", "", "", "shifted", "waited"))
        self.timed = bool(self.filled)
        self.serves = self.maybe(0.6) and not self.filled
        self.ttls = _SHORT if self.filled == "waited" else _TTLS
        age = _WAIT if self.filled == "waited" else self.rng.choice(_TTLS) + self.rng.choice((-45, 45))
        self.since = _NOW - timedelta(seconds=age)

    def maybe(self, chance: float) -> bool:
        """Whether something happens."""
        return self.rng.random() < chance

    def estate(self) -> dict[str, Any]:
        """The whole as plain data (JSON is YAML)."""
        zones = {zone: self.zone(zone) for zone in self.held}
        hosts: dict[str, Any] = {}
        for program, address in RESOLVERS.items():
            cache: dict[str, Any] = {"kind": "resolver", "program": program, "validates": False}
            if self.timed and not (self.filled == "shifted" and program == "named"):
                cache["last_asked"] = self.since.strftime("%Y-%m-%dT%H:%M:%SZ")
            hosts[f"cache-{program}"] = {"interfaces": {"internet": {"address": address}}, "services": {"cache": cache}}
        if self.serves:
            self.served(zones, hosts)
        if not self.timed and self.maybe(0.5):
            self.vary(zones, hosts)
        for name, address in self.servers.items():
            self.files[f"{name}.zone"] = self.files[f"{name}.zone"].replace("SERVER", address)
        return {
            "portolan": 1,
            "at": _NOW.strftime("%Y-%m-%dT%H:%M:%SZ"),
            "zones": zones,
            "hosts": hosts,
            "vantages": {"street": {"network": "internet", "address": "198.51.100.77"}},
        }

    def vary(self, zones: dict[str, Any], hosts: dict[str, Any]) -> None:
        """What few have: many records at a name, servers without TCP, resolvers that pass on by zone, private addresses."""
        lines = next((zone["records"] for zone in zones.values() if "records" in zone), None)
        if lines is not None and self.maybe(0.5):
            count = self.rng.choice((20, 60, 72, 73, 74, 75, 90, 100, 101, 110))
            lines += [f"many 300 A 203.0.113.{number}" for number in range(1, count + 1)]
            zone = next(name for name, zone in zones.items() if zone.get("records") is lines)
            self.owners.add(f"many.{zone}")
        serving = [host for name, host in hosts.items() if name.startswith("s")]
        for host in serving:
            if self.maybe(0.4):
                rules = self.rng.choice(
                    ([{"allow": "udp", "ports": 53}], [{"allow": "any", "from": "192.0.2.201/32"}, {"allow": "udp"}])
                )
                host["filter"] = {"inbound": {"default": "drop", "rules": rules}}
        if self.maybe(0.6):
            open_one = {"kind": "resolver", "program": "unbound", "validates": False}
            if self.maybe(0.4):
                open_one["refuses"] = [self.name()]
            hosts["open"] = {"interfaces": {"internet": {"address": "192.0.2.203"}}, "services": {"cache": open_one}}
            ways = ["192.0.2.203", *(host["interfaces"]["internet"]["address"] for host in serving)]
            for program in RESOLVERS:
                cache = hosts[f"cache-{program}"]["services"]["cache"]
                if self.maybe(0.5):
                    count = self.rng.choice((1, 2)) if len(ways) > 1 else 1
                    cache["forwards_zones"] = {self.rng.choice([*zones]): self.rng.sample(ways, count)}
                if self.maybe(0.3):
                    # Of servers of one zone a forwarder takes which it likes; of these the first has an answer of its own.
                    cache["forwards_to"] = self.rng.sample(ways, 1)
        if lines is not None and self.maybe(0.3):
            lines += ["inner 300 A 10.9.9.9", "both 300 A 10.9.9.9", "both 300 A 192.0.2.9"]
            zone = next(name for name, zone in zones.items() if zone.get("records") is lines)
            self.owners |= {f"inner.{zone}", f"both.{zone}"}
            cache = hosts["cache-unbound"]["services"]["cache"]
            cache["drops_private"] = True
            if self.maybe(0.3):
                cache["may_be_private"] = [self.rng.choice([*zones])]

    # -- who serves ----------------------------------------------------------------------------------------------

    def served(self, zones: dict[str, Any], hosts: dict[str, Any]) -> None:
        """One to three servers, each with some zones; and how the topmost zones are delegated to them."""
        addresses = [f"192.0.2.{21 + number}" for number in range(self.rng.choice((1, 2, 2, 3)))]
        # Servers of one zone hold the same zones, and load the same: which of several is asked is a resolver's own choice, and
        # named asks those that the zone itself names.
        one = [zone for zone in zones if self.maybe(0.7)]
        parts = [one, [zone for zone in zones if zone not in one]]
        programs = (self.rng.choice(PROGRAMS), self.rng.choice(PROGRAMS))
        for number, address in enumerate(addresses):
            dns: dict[str, Any] = {"kind": "name-server", "zones": parts[0 if number == 0 or self.maybe(0.6) else 1]}
            program = programs[0 if dns["zones"] is parts[0] else 1]
            if program is not None:
                dns["program"] = program
            if self.maybe(0.1):
                dns["state"] = "stopped"
            if dns["zones"]:
                hosts[f"s{number}"] = {"interfaces": {"internet": {"address": address}}, "services": {"dns": dns}}
        for name in zones:
            own = [
                host["interfaces"]["internet"]["address"]
                for host in hosts.values()
                if name in host["services"].get("dns", {}).get("zones", ()) and "state" not in host["services"]["dns"]
            ]
            if own and name in self.servers:
                self.servers[name] = own[0]
        for name, zone in zones.items():
            if any(name.endswith("." + other) for other in zones) or not self.maybe(0.7):
                continue
            others = [other for other in zones if other != name]
            servers = self.rng.sample([f"ns{number}.{name}" for number in range(3)], self.rng.choice((1, 1, 2)))
            if others and self.maybe(0.4):
                other = self.rng.choice(others)
                servers[0] = f"ns1.{other}"
                if self.maybe(0.6) and not any(other.endswith("." + each) for each in zones):
                    # What that other zone's registration says of the server is a hint to this one: it may be old.
                    held = zones[other].setdefault("delegated_to", [])
                    if servers[0] not in held:
                        held.append(servers[0])
                    zones[other].setdefault("glue", {})[servers[0]] = self.rng.choice((*addresses, "192.0.2.99"))
            elif self.maybe(0.1):
                servers[0] = "ns.elsewhere.example"
            zone["delegated_to"] = [*servers, *(each for each in zone.get("delegated_to", ()) if each not in servers)]
            glue = {
                server: self.rng.choice((*addresses, *addresses, "10.9.9.9", "192.0.2.99"))
                for server in servers
                if server.endswith(name) and self.maybe(0.8)
            }
            if glue:
                zone["glue"] = {**glue, **zone.get("glue", {})}
            lines = zone.get("records")
            for number, address in enumerate(addresses):
                if lines is not None and self.maybe(0.8):
                    lines.append(f"ns{number} 300 A {address}")

    # -- what zones hold -----------------------------------------------------------------------------------------

    def zone(self, zone: str) -> dict[str, Any]:
        """A zone: lines of the estate, or a file; now and then it was otherwise before."""
        made: dict[str, Any] = {}
        lines = [f"@ 300 SOA ns m 1 60 60 60 {self.rng.choice(self.ttls)}"]
        lines += self.records(zone, self.rng.randint(1, 14), 0.02)
        for child in self.held:
            if child.endswith("." + zone) and self.maybe(0.9):
                lines.append(f"{child}. 300 NS ns.{child}.")
        if self.maybe(0.3):
            path = f"{zone}.zone"
            made["file"] = path
            self.files[path] = self.file(zone, lines)
        else:
            made["records"] = lines
        if self.timed and self.maybe(0.8):
            before: dict[str, Any] = {
                "until": (self.since + timedelta(seconds=1 if self.filled == "waited" else 20)).strftime(
                    "%Y-%m-%dT%H:%M:%SZ"
                )
            }
            before["records"] = self.records(zone, self.rng.randint(1, 6), 0, simple=True)
            made["before"] = [before]
        return made

    def records(self, zone: str, count: int, clash: float, simple: bool = False) -> list[str]:
        """Records that point at each other, with slips."""
        lines = []
        taken: dict[str, set[str]] = {"@": {"SOA"}}
        for _ in range(count):
            owner, kind, data = self.record(zone, simple)
            kinds = taken.setdefault(owner.replace("\\097", "a"), set())
            # Now and then an alias stands beside other data, and the zone does not load.
            if kinds and ("CNAME" in (kind, *kinds) or "DNAME" in (kind, *kinds)) and not self.maybe(clash):
                continue
            kinds.add(kind)
            self.owners.add(zone if owner == "@" else f"{owner}.{zone}")
            lines.append(f"{owner} {self.ttl(owner + kind)} {kind} {data}")
        return lines

    def ttl(self, of: str) -> int:
        """One for each set of records, else which one counts is each program's own choice."""
        for written, meant in (("\\*", "*"), ("\\042", "*"), ("\\097", "a")):
            of = of.replace(written, meant)
        return random.Random(of + str(self.since)).choice(self.ttls)

    def record(self, zone: str, simple: bool) -> tuple[str, str, str]:
        """An owner, a type and data."""
        rng = self.rng
        labels = [rng.choice(_LABELS) for _ in range(rng.choice((0, 1, 1, 1, 2, 2, 3)))]
        if rng.random() < 0.2:
            labels.insert(0, rng.choice(("*", *_STARS)))
        owner = ".".join(labels) or "@"
        kind = rng.choice(("A", "A", "A", "AAAA", "TXT", "CNAME", "CNAME", "DNAME", "MX", "NS"))
        # An alias for every name of a zone would be one for its name servers too, which named refuses to ask then.
        if kind in ("CNAME", "DNAME") and (owner == "@" or (len(labels) == 1 and labels[0] in _STARS)):
            kind = "A"
        if kind == "NS":
            if simple or owner == "@" or "*" in owner or "042" in owner or rng.random() > 0.2:
                kind = "TXT"
            else:
                return owner, kind, f"ns.{owner}"
        data = {
            "A": f"192.0.2.{rng.randint(1, 20)}",
            "AAAA": f"2001:db8::{rng.randint(1, 999):x}",
            "TXT": rng.choice(("x", '"a;b" c', "a\\;b", "\\200")),
            "MX": "10 a",
        }.get(kind)
        return owner, kind, data or self.name(zone) + "."

    def file(self, zone: str, lines: list[str]) -> str:
        """A master file: as it comes, parts of it included, TTLs from `$TTL`."""
        text = [f"$TTL {self.rng.choice(self.ttls)}", lines[0], "@ 300 NS ns", "ns 300 A SERVER"]
        self.servers[zone] = f"192.0.2.{101 + ZONES.index(zone)}"
        rest = lines[1:]
        if rest and self.maybe(0.6):
            half = len(rest) // 2
            part = rest[half:]
            if self.maybe(0.5):
                part = [f"$TTL {self.rng.choice(self.ttls)}", *part, "inc A 192.0.2.7"]
            self.files[f"{zone}.inc"] = "\n".join(part) + "\n"
            rest = [*rest[:half], f"$INCLUDE {zone}.inc", "late A 192.0.2.8"]
            self.owners |= {f"inc.{zone}", f"late.{zone}"}
        text += rest
        if self.maybe(0.2):
            text.append("$GENERATE 1-3 h$ 300 A 192.0.2.$")
        if self.maybe(0.1):
            text.append("o_k 300 A 192.0.2.9")
        return "\n".join(text) + "\n"

    def name(self, zone: str | None = None) -> str:
        """A name that may or may not exist."""
        rng = self.rng
        labels = [rng.choice(_LABELS) for _ in range(rng.choice((0, 1, 1, 2, 2, 3, 4)))]
        base = zone if zone is not None and rng.random() < 0.7 else rng.choice(ZONES)
        return ".".join([*labels, base])

    def questions(self, count: int) -> list[str]:
        """Names to ask for."""
        plain = {self.name().replace("\\097", "a") for _ in range(count)}
        own = [
            each.replace("\\097", "a").replace("\\*", "q").replace("*", "q").replace("\\042", "q")
            for each in self.owners
        ]
        return sorted({*plain, *own, *(f"h2.{zone}" for zone in self.held)})[:count]


def comparable(estate: Estate, zone: Zone) -> bool:
    """Whether what a resolver hears of a zone depends on no choice of its own.

    Servers that cannot load a zone anew go on with the old one: what was, and what is, both load or both do not. Of servers
    that refuse a zone, or are wrongly named for it, and hold a zone below, resolvers ask on as their patience lasts.
    """
    if len({each.data.defect_for(None) is None for each in (zone, *zone.before)}) > 1:
        return False
    # A DNAME record at a delegation goes with NSD as long as there is no glue below it, which a stand-in needs.
    if any("DNAME" in types and "NS" in types for types in zone.data.nodes.values()):
        return False
    below = {name for name in estate.zones if name.endswith("." + zone.name)}
    services = [each.services["dns"] for each in estate.hosts.values() if "dns" in each.services]
    held = [each for each in services if isinstance(each, NameServer)]
    refused = any(zone.data.defect_for(each.program) is not None for each in held if zone.name in each.zones)
    astray = any(zone.name not in each.zones and below & set(each.zones) for each in held)
    return not (below and (refused or (zone.delegated_to and astray)))


def contradicted(zone: Zone) -> bool:
    """Whether the registration gives other addresses for a server than the zone itself."""
    for name, addresses in zone.glue.items():
        own = {str(record.data) for record in address_records(zone.data.nodes.get(name, {}))}
        if own and own != set(map(str, addresses)):
            return True
    return False


def predicted(world: World, asked: str, resolver: str) -> Result:
    """What the engine says that a resolver answers."""
    answer = Answer()
    street = world.estate.vantages["street"]
    world.naming.ask(asked, street, ip_address(resolver), answer, street.place)
    if answer.detail is not None:
        return answer.detail, ()
    found = tuple(sorted({str(record.data) for record in address_records(answer.types)}))
    return ("addresses", found) if found else ("no-address", ())


def observed(
    world: World, names: list[str], filled: list[str], own: list[str]
) -> tuple[dict[str, list[Result]], list[str]]:
    """What the resolvers answer."""
    plan = Plan(world.estate)
    build_network(plan)
    naming = Naming(plan, world.now)
    naming.build()
    naming.finish(filled)
    plan.files["names.txt"] = "\n".join(names)
    plan.files["ask_names.py"] = Path(__file__).with_name("ask_names.py").read_text("utf-8")
    street = plan.space_of(world.estate.vantages["street"])
    for address in RESOLVERS.values():
        plan.probes.append(Probe(street, ["python3", "-I", "-S", "ask_names.py", "names.txt", address], [], 200))
    result = carry_out(plan.data(), own)
    found: dict[str, list[Result]] = {}
    troubles = list(result["troubles"])
    for (program, _), answer in zip(RESOLVERS.items(), result["results"], strict=True):
        if answer["out"]:
            found[program] = [(kind, tuple(each)) for kind, each in json.loads(answer["out"])]
        else:
            found[program] = [("nothing", ())] * len(names)
            troubles.append(answer["err"])
    return found, troubles


def compared(seed: int, questions: int, own: list[str]) -> tuple[str, list[tuple[str, Result, Result]], int]:
    """One random estate and its questions: the estate's text, what disagrees, how many were asked."""
    draw = Draw(seed)
    data = draw.estate()
    files = {"estate.yaml": json.dumps(data, indent=1), **draw.files}
    estate = load(MemoryFiles(files), "estate.yaml").estate
    assert estate.at is not None
    if not all(comparable(estate, zone) for zone in estate.zones.values()):
        return "", [], 0
    world = World(estate, estate.at)
    names = draw.questions(questions)
    filled = (
        sorted({*names, *(each.replace("\\097", "a") for each in draw.owners if "*" not in each)}) if draw.timed else []
    )
    seen, troubles = observed(world, names, filled, own)
    wrong = []
    # Where a registration's glue is not what the zone says, named goes by the zone.
    if any(map(contradicted, estate.zones.values())):
        del seen["named"]
    for program, answers in seen.items():
        for asked, real in zip(names, answers, strict=True):
            # named asks for the names above a name too, and hears that they are gone.
            if program == "named" and draw.timed and any(other.endswith("." + asked) for other in names):
                continue
            said = predicted(world, asked, RESOLVERS[program])
            # A resolver that fails after a while is heard of or not, as long as its client waits.
            if said != real and (said[0], real[0]) != ("resolver-failure", "resolver-timeout"):
                wrong.append((f"{asked} by {program}", said, real))
    if wrong and troubles:
        wrong.append(("; ".join(troubles), ("", ()), ("", ())))
    return "\n".join(f"--- {name}\n{text}" for name, text in files.items()), wrong, len(names) * len(seen)
