"""A machine from what it says itself: interfaces, routes, filter, listening programs, hosts file, web servers and their folders."""

import re
from collections.abc import Iterable
from ipaddress import ip_interface
from typing import Any

from portolan.estate.base import is_public
from portolan.estate.names import is_exact
from portolan.estate.network import USUAL_MTU
from portolan.transcribing import addresses as told
from portolan.transcribing import routing
from portolan.transcribing.assembling import Transcript, add_web, pem_blocks, transcript
from portolan.transcribing.certificates import from_server
from portolan.transcribing.collecting import ANSWERS, Here, listing
from portolan.transcribing.filtering import Filters, filters
from portolan.transcribing.part import Part, Spot, items
from portolan.transcribing.registry import every_web
from portolan.transcribing.sources import Source, SourceError
from portolan.transcribing.web import Gathered, unused

#: So many resolvers glibc asks.
_MOST_RESOLVERS = 3
#: Programs by the names that they run under.
_WEB = {"nginx": "nginx", "apache2": "apache", "httpd": "apache"}
_DNS = frozenset(("systemd-resolve", "named", "unbound", "dnsmasq", "nsd", "knotd"))


def machine(source: Source, name: str) -> Transcript:
    """A machine as its answers say. Raises SourceError."""
    if not any(path.startswith(ANSWERS + "/") for path in source.paths()) and not any(
        path.startswith("/etc/") for path in source.paths()
    ):
        raise SourceError(
            "nothing here says what a machine is",
            "Make an archive there with what 'portolan transcribe script' prints.",
        )
    reading = _Reading(source, name)
    reading.whole()
    return transcript(name, reading.part, reading.certificates, reading.copies, reading.networks, reading.guesses)


class _Reading:
    def __init__(self, source: Source, name: str) -> None:
        self.source = source
        self.name = name
        self.part = Part(Spot(f"{ANSWERS.lstrip('/')}/addresses", 1))
        self.networks: dict[str, Any] = {}
        self.certificates: dict[str, Any] = {}
        self.copies: dict[str, bytes] = {}
        self.guesses: list[str] = []
        #: The network that each interface is on.
        self.on: dict[str, str] = {}

    def answer(self, name: str) -> tuple[str, str] | None:
        """A command's answer and where it lies; None where it was not given."""
        path = f"{ANSWERS}/{name}"
        data = self.source.read(path)
        return None if data is None else (data.decode("utf-8", "replace"), path.lstrip("/"))

    def whole(self) -> None:
        """Everything, in the order in which the estate has it."""
        self._interfaces()
        self._routes()
        self._names()
        self._filter()
        sockets = self._sockets()
        self._programs(sockets)
        self._folders()

    # -- the way --

    def _interfaces(self) -> None:
        given = self.answer("addresses")
        if given is None:
            return
        by_name: dict[str, list[told.Held]] = {}
        for each in told.addresses(*given):
            if not told.is_link_local(each.address):
                by_name.setdefault(each.interface, []).append(each)
        interfaces: dict[str, Part] = {}
        for name, held in by_name.items():
            key = unused(name, interfaces)
            part = Part(held[0].spot)
            ours = [ip_interface(each.address) for each in held]
            v4 = [each for each in ours if each.version == 4]
            outside = any(is_public(each.ip) for each in (v4 or ours))
            network = "internet" if outside else key
            self.on[name] = network
            part.say("network", network)
            for each in held if outside else ():
                if not is_public(ip_interface(each.address).ip):
                    self.part.lose(each.spot, f"{name}: {each.address} beside an address of the internet")
            ours = [each for each in ours if not outside or is_public(each.ip)]
            written = [str(each.ip) if outside else str(each) for each in ours]
            part.say("address", written[0] if len(written) == 1 else written)
            if any(each.leased and ":" not in each.address for each in held):
                part.say("leased", True)
            for age in ("deprecated", "temporary"):
                aged = [str(ip_interface(each.address).ip) for each in held if each.age == age]
                if aged and not outside:
                    part.say(age, aged)
            interfaces[key] = part
            if not outside:
                ranges = dict.fromkeys(
                    str(each.network) for each in ours if each.network.prefixlen < each.max_prefixlen
                )
                self.networks[network] = {"subnets": list(ranges)} if ranges else {}
        for link in told.links(*given):
            if link.name in interfaces and not link.up:
                interfaces[link.name].say("up", False)
            if link.name in interfaces and link.mtu != USUAL_MTU:
                interfaces[link.name].say("mtu", link.mtu)
        routing.set_interfaces(self.part, interfaces, self.answer("settings"))
        if interfaces:
            self.part.say("interfaces", interfaces)

    def _routes(self) -> None:
        gateways: list[str] = []
        spot: Spot | None = None
        routes: list[Part] = []
        for name in ("routes", "routes-v6"):
            given = self.answer(name)
            for each in told.routes(*given) if given is not None else ():
                if self._passed_over(each):
                    continue
                plain = each.source is None and each.mtu is None and not each.onlink
                if each.to in ("0.0.0.0/0", "::/0") and each.via is not None and plain:
                    if self.on.get(each.device or "") == "internet":
                        continue
                    if not each.via.startswith("fe80"):
                        gateways.append(each.via)
                        spot = spot or each.spot
                        continue
                part = routing.route_of(each)
                if part is not None:
                    routes.append(part)
        if gateways:
            self.part.say("gateway", gateways[0] if len(gateways) == 1 else gateways, spot)
        if routes:
            self.part.say("routes", routes)
        self._tables()

    def _passed_over(self, way: told.Way) -> bool:
        """Whether a line says nothing of the estate: of links alone, or of interfaces that it has not."""
        if way.to.startswith(("fe80", "ff00")):
            return True
        return way.device is not None and way.device not in self.on and way.kind is None

    def _tables(self) -> None:
        """Further tables, and the rules that lead to them; a rule that says more than can be kept is told."""
        given = [each for each in (self.answer("tables"), self.answer("tables-v6")) if each is not None]
        made: dict[str, Part] = {}
        for name, ways in routing.tables(given).items():
            part = Part(ways[0].spot if ways else Spot(given[0][1], 1))
            lines = [held for way in ways if not self._passed_over(way) and (held := routing.route_of(way)) is not None]
            if lines:
                part.say("routes", lines)
                made[routing.table_name(name)] = part
        rules: list[Part] = []
        for answer in ("rules", "rules-v6"):
            said = self.answer(answer)
            for number, row in enumerate(said[0].splitlines() if said is not None else (), 1):
                if routing.usual(row):
                    continue
                spot = Spot(said[1] if said is not None else "", number)
                rule = routing.rule_of(row, spot)
                table = rule.facts.get("table") if rule is not None else None
                if rule is None or (table is not None and table not in (*made, "main")):
                    self.part.lose(spot, f"ip rule {row.strip()}")
                elif not any(rule.facts == each.facts for each in rules):
                    rules.append(rule)
        if made and rules:
            self.part.say("tables", made)
        if rules:
            self.part.say("routing_rules", rules)

    def _names(self) -> None:
        data = self.source.read("/etc/hosts")
        if data is not None:
            spot, lines = Spot("etc/hosts", 1), []
            for number, row in enumerate(data.decode("utf-8", "replace").splitlines(), 1):
                text = " ".join(row.partition("#")[0].split())
                words = text.split()
                if len(words) > 1 and not set(words[1:]) <= _USUAL_HOSTS:
                    lines.append(text)
                    spot = Spot("etc/hosts", number) if len(lines) == 1 else spot
            if lines:
                part = Part(spot)
                part.say("lines", lines)
                self.part.say("hosts_file", part)
        data = self.source.read("/etc/resolv.conf")
        servers: list[str] = []
        for number, row in enumerate(data.decode("utf-8", "replace").splitlines() if data is not None else (), 1):
            words = row.partition("#")[0].split()
            spot = Spot("etc/resolv.conf", number)
            if words[:1] == ["nameserver"] and len(words) > 1:
                if not words[1].startswith("127.") and len(servers) < _MOST_RESOLVERS:
                    servers.append(words[1].partition("%")[0])
                    self.part.say("resolver", servers[0] if len(servers) == 1 else servers, spot)
            elif words[:1] == ["options"]:
                dots = next((each[6:] for each in words if re.fullmatch(r"ndots:\d+", each)), None)
                if dots not in (None, "1"):
                    self.part.say("ndots", int(str(dots)), spot)
            elif words[:1] in (["search"], ["domain"]) and len(words) > 1 and words[1] != ".":
                self.part.say("search", words[1:], spot)

    # -- the filter --

    def _filter(self) -> None:
        given = self.answer("forwarding")
        onward = given is None or given[0].strip() != "0"
        found = filters(
            [
                each
                for each in (self.answer("iptables"), self.answer("ip6tables"), self.answer("nft"))
                if each is not None
            ]
        )
        if not onward:
            _without_forward(found)
        found.into(self.part, self.networks)
        routing.without_unknown_marks(self.part, list(found.marks))
        self.guesses += [found.doubt] if found.doubt is not None else []
        now = found.filter.data() if found.filter is not None else None
        kept = [
            (data.decode("utf-8", "replace"), path.lstrip("/"))
            for path in (
                "/etc/iptables/rules.v4",
                "/etc/iptables/rules.v6",
                "/etc/sysconfig/iptables",
                "/etc/sysconfig/ip6tables",
            )
            if (data := self.source.read(path)) is not None
        ]
        boot_rules = self.answer("nft-boot")
        if not kept and boot_rules is not None and self._starts("nftables.service"):
            kept = [boot_rules]
        if kept and (self.answer("iptables") is not None or now is not None):
            restored = filters(kept)
            if not onward:
                _without_forward(restored)
            later = restored.filter
            if _meant(later.data() if later is not None else None) != _meant(now):
                boot = Part(Spot(kept[0][1], 1))
                boot.say("filter", later if later is not None else {})
                self.part.say("after_boot", boot)
        if given is not None and given[0].strip() in ("0", "1"):
            self.part.say("passes_on", given[0].strip() == "1", Spot(given[1], 1))

    # -- programs --

    def _sockets(self) -> list[told.Socket]:
        given = self.answer("sockets")
        return told.sockets(*given) if given is not None else []

    def _programs(self, sockets: list[told.Socket]) -> None:
        services: dict[str, Part] = {}
        self.part.say("services", services)
        running = {_WEB.get(each.program, each.program) for each in sockets if each.protocol == "tcp"}
        host = self.answer("name")
        asked: set[int] = set()
        for gathered in every_web(self.source, host[0].strip() if host is not None else None):
            found, copies = add_web(self.part, gathered, self.source, self.name)
            self.certificates.update(found)
            self.copies.update(copies)
            asked |= _ports_behind(gathered)
            if sockets and gathered.program not in running:
                gathered.service.say("state", "stopped", sockets[0].spot)
            self._loaded(gathered)
            self._enabled(gathered)
            if isinstance(self.source, Here) and gathered.program in running:
                self._shown(gathered)
        by_program: dict[str, list[told.Socket]] = {}
        for each in sockets:
            if each.protocol == "tcp" and each.program not in _WEB and each.program not in _DNS:
                by_program.setdefault(each.program or f"port-{each.port}", []).append(each)
        for program, held in by_program.items():
            part = Part(held[0].spot)
            if not any(each.port in asked for each in held):
                part.say("kind", "other")
            listens = [
                ("" if each.address == "*" else f"[{each.address}]:" if ":" in each.address else f"{each.address}:")
                + str(each.port)
                for each in held
            ]
            part.say("listens", list(dict.fromkeys(listens)))
            services[unused(program, services)] = part

    def _loaded(self, gathered: Gathered) -> None:
        """Sites in files that were written after the program's last start or reload are not in force yet."""
        since = self._since(gathered.program)
        if since is None:
            return
        newer: dict[str, None] = {}
        for site in gathered.sites.values():
            written = self.source.changed("/" + site.spot.file)
            if written is not None and written > since + 1:
                site.say("loaded", False)
                newer[site.spot.file] = None
        if newer:
            self.guesses.append(
                f"{gathered.program} was last started or reloaded before {', '.join(newer)} was written: its sites count as not in force"
            )

    def _shown(self, gathered: Gathered) -> None:
        """What the listeners of this machine show: a certificate that was renewed on disk counts once it is loaded."""
        listens = [str(each) for each in gathered.service.facts.get("listens", [])]
        port = next((each.partition(" ")[0].rpartition(":")[2] for each in listens if " tls" in each), None)
        for path, (name, spot) in gathered.certificates.items() if port is not None else ():
            hosts = (
                host
                for site in gathered.sites.values()
                if site.facts.get("certificate") == name
                for host in site.facts.get("names", [])
            )
            host = next(filter(is_exact, hosts), None)
            disk = pem_blocks(self.source.read(path), path)
            if host is None or not disk:
                continue
            try:
                shown = from_server(f"127.0.0.1:{port}", host)
            except SourceError:
                continue
            part = self.certificates[name]
            if "".join(shown.pem[0].decode().split()) != "".join(disk[0].decode().split()):
                later = Part(spot)
                later.say("file", part.facts["file"])
                part.say("saved", later)
                file = f"{self.name}/{name}-shown.pem"
                part.say("file", file, shown.spot)
                self.copies[file] = b"\n".join(shown.pem) + b"\n"
                self.guesses.append(
                    f"{gathered.program} shows another certificate for {host} than {path} holds: that one counts after a reload"
                )

    def _starts(self, unit: str) -> bool:
        """Whether the next boot starts a unit."""
        given = self.answer("enabled")
        rows = (row.split() for row in given[0].splitlines()) if given is not None else ()
        return any(row[:2] == [unit, "enabled"] for row in rows)

    def _enabled(self, gathered: Gathered) -> None:
        """Whether the next boot starts the program, as the system's own manager has it."""
        given = self.answer("enabled")
        units = {f"{unit}.service" for unit, program in _WEB.items() if program == gathered.program}
        for number, row in enumerate(given[0].splitlines() if given is not None else (), 1):
            words = row.split()
            if len(words) > 1 and words[0] in units and words[1] in ("disabled", "masked"):
                later = Part(Spot(given[1] if given is not None else "", number))
                later.say("state", "stopped")
                gathered.service.say("after_boot", later)

    def _since(self, program: str) -> float | None:
        """When the program's workers started, in seconds since 1970: a reload starts new ones."""
        processes, moment = self.answer("processes"), self.answer("moment")
        if processes is None or moment is None or not moment[0].strip().isdecimal():
            return None
        rows = [row.split(None, 3) for row in processes[0].splitlines()]
        held = [row for row in rows if len(row) == 4 and _WEB.get(row[3].strip()) == program and row[2].isdecimal()]
        pids = {row[0] for row in held}
        workers = [int(row[2]) for row in held if row[1] in pids] or [int(row[2]) for row in held]
        return int(moment[0]) - min(workers) if workers else None

    def _folders(self) -> None:
        """What lies in the folders of websites, where that was listed."""
        wanted = dict.fromkeys(_folders_of(self.part.facts.get("services", {}).values()))
        given = self.answer("folders")
        text = given[0] if given is not None else ""
        if isinstance(self.source, Here):
            text = "".join(listing(folder) for folder in wanted)
        if not text:
            return
        listed = {row.split(" ", 3)[3].partition(" -> ")[0] for row in text.splitlines() if row.count(" ") >= 3}
        kept = [folder for folder in wanted if folder in listed]
        if not kept:
            return
        rows = dict.fromkeys(row for row in text.splitlines() if row.isprintable())
        self.copies[f"{self.name}/folders.txt"] = ("\n".join(rows) + "\n").encode()
        folders: dict[str, Part] = {}
        for folder in kept:
            part = folders[folder] = Part(Spot(f"{ANSWERS.lstrip('/')}/folders", 1))
            part.say("inventory", f"{self.name}/folders.txt")
        self.part.say("folders", folders)


_USUAL_HOSTS = frozenset(
    [
        "localhost",
        "localhost.localdomain",
        "localhost4",
        "localhost6",
        "ip6-localhost",
        "ip6-loopback",
        "ip6-allnodes",
        "ip6-allrouters",
        "ip6-localnet",
        "ip6-mcastprefix",
        "broadcasthost",
        "localhost4.localdomain4",
        "localhost6.localdomain6",
    ]
)


def _without_forward(found: Filters) -> None:
    """Takes out what is about packets that are passed on, at a machine that passes none on."""
    if found.filter is not None:
        found.filter.facts.pop("forward", None)


def _meant(data: Any) -> Any:
    """What a filter says, without where it was read."""
    if isinstance(data, dict):
        return {key: _meant(value) for key, value in data.items() if key not in ("read_from", "unread")}
    return [_meant(each) for each in data] if isinstance(data, list) else data


def _ports_behind(gathered: Gathered) -> set[int]:
    """The ports of this machine that a web server passes requests on to."""
    found: set[int] = set()
    parts: list[Any] = list(gathered.sites.values())
    while parts:
        part = parts.pop()
        parts += part.facts.get("sections", [])
        upstream = part.facts.get("upstream")
        for each in items(upstream.facts["to"]) if isinstance(upstream, Part) else ():
            match = re.match(r"https?://(?:127\.\d+\.\d+\.\d+|localhost|\[::1\]):(\d+)", each)
            if match is not None:
                found.add(int(match[1]))
    return found


def _folders_of(services: Iterable[Any]) -> Iterable[str]:
    for service in services:
        for site in service.facts.get("sites", {}).values():
            for part in (site, *site.facts.get("sections", [])):
                if "folder" in part.facts:
                    yield str(part.facts["folder"])
