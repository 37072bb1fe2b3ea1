"""The name drivers: who plays which name server and resolver, what each is told, and what caches were filled with.

Resolvers run at the estate's moment where time matters: their clocks are shifted, their caches filled by real questions at
the moment that the estate says, and what is still held is left to them.
"""

from collections.abc import Sequence
from datetime import UTC, datetime
from ipaddress import ip_address

from portolan.estate.base import IPAddress
from portolan.estate.machine import Machine
from portolan.estate.records import Record, ServerProgram, ZoneData
from portolan.estate.service import NameServer, Resolver, Service
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Zone
from portolan.rehearsal import name_programs as programs
from portolan.rehearsal.facts import Box, addresses_of, client_of, every_machine, every_service, has, legs, public, runs
from portolan.rehearsal.network import (
    AUTHORITY,
    RESOLVER,
    RESOLVERS_4,
    RESOLVERS_6,
    ROOT_ADDRESS,
    TIER_ADDRESS,
    place_authority,
    place_resolver,
)
from portolan.rehearsal.plan import Plan, Round
from portolan.rehearsal.quoting import UnstageableError, dns_name, plain_words
from portolan.rehearsal.record_text import data_text, record_line, refused_lines
from portolan.rehearsal.signing import SIGNED_TYPES, Signer, signs_itself

#: Tiers of zones that nobody described serves; behind them, the servers of copies.
_FIRST_COPY = 6
#: Where topmost zones are served that the root does not simply delegate: never by the root's own server.
_APART = TIER_ADDRESS.format(5)
_MOST_ALIASES = 8
#: Seconds that are waited at most until what a cache remembers is as old as the estate says.
_LONGEST_WAIT = 60
#: So many resolvers glibc asks.
_MOST_RESOLVERS = 3


class Naming:
    """Plans every name server and resolver that the estate needs or describes."""

    def __init__(self, plan: Plan, now: datetime) -> None:
        self.plan = plan
        self.now = now
        self.estate = plan.estate
        clients: list[Box] = [*every_machine(self.estate), *self.estate.vantages.values()]
        resolvers = [service for _, service in every_service(self.estate) if isinstance(service, Resolver)]
        validates = any(each.checks_signatures for each in resolvers) or any(
            each.resolver == "validating" for each in clients
        )
        filled = [each.last_asked for each in self.estate.vantages.values()] + [each.last_asked for each in resolvers]
        self.signer = Signer(now) if validates else None
        # libfaketime does not go with named (jemalloc): what one of those remembers is waited for.
        self._waits = any(each.program == "named" and each.last_asked is not None for each in resolvers)
        #: Whether clocks count: then every resolver has the estate's moment.
        self.timed = (validates or any(filled)) and not self._waits
        if self._waits:
            self._short_enough(validates, [each for each in filled if each is not None])
        #: Resolvers that nobody describes: (checks signatures, filled when) to number; an address that is stated to when.
        self._ordinary: dict[tuple[bool, datetime | None], int] = {}
        self._stated: dict[IPAddress, datetime | None] = {}
        #: Which resolver is to be filled when: moment to (daemon, space, address).
        self._primed: dict[datetime, list[tuple[str, str, str]]] = {}
        self._resolvers: list[str] = []
        #: Master files by zone, for those rounds, and how their servers read them anew.
        self._files: list[tuple[Zone, str]] = []
        self._reloads: list[list[str]] = []
        self._elsewhere: list[Zone] = []
        self._stood_in: set[IPAddress] = set()

    def _short_enough(self, validates: bool, filled: list[datetime]) -> None:
        """What is waited for cannot be long, and no clock is shifted meanwhile."""
        longest = max((self.now - each).total_seconds() for each in filled)
        if validates or longest > _LONGEST_WAIT or len(set(filled)) > 1:
            what = f"what named remembers for more than {_LONGEST_WAIT} s, or beside other clocks"
            raise UnstageableError(what, f"{longest:.0f} s", None)

    def build(self) -> None:
        """The authoritative servers, and the resolvers that the estate describes."""
        served: dict[str, list[tuple[Machine, Service]]] = {name: [] for name in self.estate.zones}
        for machine, service in every_service(self.estate):
            if isinstance(service, NameServer):
                for held in service.zones:
                    served[held].append((machine, service))
        tiers: dict[int, list[Zone]] = {}
        for zone in self.estate.zones.values():
            if not served[zone.name]:
                tiers.setdefault(self._depth(zone), []).append(zone)
        # The root and the topmost zones may share a server: the root always delegates them. Deeper ones get their own, lest a
        # parent's fault be hidden by a server that knows the child too.
        first = tiers.pop(0, [])
        shared = [zone for zone in first if not (zone.views or zone.delegated_to or self._lapsed(zone))]
        rest = [zone for zone in first if zone not in shared and not self._lapsed(zone)]
        self._elsewhere = rest
        self._root(served, shared)
        if rest:
            self._serve("apart", AUTHORITY, [_APART], rest)
        for depth, zones in tiers.items():
            self._serve(f"tier{depth}", AUTHORITY, [TIER_ADDRESS.format(2 + depth)], zones)
        for number, (machine, service) in enumerate(every_service(self.estate)):
            if not runs(service) or not service.privileged or not isinstance(service, NameServer | Resolver):
                continue
            listen = _sockets(service)
            space = self.plan.space_of(machine)
            if isinstance(service, NameServer):
                zones = [self.estate.zones[name] for name in service.zones]
                self._serve(f"names{number}", space, listen, zones, service.listens[0].port, service.program)
            else:
                self._described_resolver(f"cache{number}", space, listen, service)

    def finish(self, hosts: Sequence[str]) -> None:
        """The resolvers that nobody describes, and the rounds in which caches are filled with what stood earlier."""
        for (validates, since), number in self._ordinary.items():
            addresses = [RESOLVERS_4.format(53 + number), RESOLVERS_6.format(53 + number)]
            self._undescribed(f"ordinary{number}", addresses, validates, since)
        for number, (address, since) in enumerate(self._stated.items()):
            self._undescribed(f"stated{number}", [str(address)], False, since)
        for since in sorted(self._primed):
            files = {path: self.text(zone, since) for zone, path in self._files}
            if self.timed:
                files |= {f"{name}.clock": _offset(since) for name, _, _ in self._primed[since]}
            queries = [[space, address, list(hosts)] for _, space, address in self._primed[since]]
            pause = (self.now - since).total_seconds() if self._waits else 0
            self.plan.rounds.append(Round(files, self._reloads, queries, pause=pause))
        if self._primed:
            filled = {name for held in self._primed.values() for name, _, _ in held}
            files = {path: self.plan.files[path] for _, path in self._files}
            if self.timed:
                files |= {f"{name}.clock": _offset(self.now) for name in self._resolvers}
            self.plan.rounds.append(
                Round(files, self._reloads, [], [name for name in self._resolvers if name not in filled])
            )

    def client_files(self, vantage: Vantage, number: int) -> list[list[str]]:
        """The resolv.conf and hosts file that a visitor's client sees: (file, where it is mounted)."""
        client = client_of(self.estate, vantage)
        return self.box_files(client, vantage.last_asked, f"{self.plan.space_of(client)}-{number}")

    def box_files(self, client: Box, last_asked: datetime | None, name: str) -> list[list[str]]:
        """The same for the programs of any box."""
        plan = self.plan
        stated = client.resolver
        if stated is None or isinstance(stated, str):
            place = self.ordinary(stated == "validating", last_asked)
            old = any(each.version == 4 for _, _, held in legs(self.estate, client) for each in held)
            resolvers = [(RESOLVERS_4 if old else RESOLVERS_6).format(53 + place)]
        else:
            resolvers = [str(each) for each in stated[:_MOST_RESOLVERS]]
            for each in stated[:_MOST_RESOLVERS]:
                if public(each) and not has(self.estate, each):
                    self._nobodys(each, last_asked, client)
        ndots = f" ndots:{client.ndots}" if client.ndots != 1 else ""
        search = (
            f"search {plain_words(list(client.search), 'a search domain', client.place)}\n" if client.search else ""
        )
        plan.files[f"{name}.resolv"] = (
            "".join(f"nameserver {each}\n" for each in resolvers) + f"{search}options timeout:2 attempts:1{ndots}\n"
        )
        lines = ["127.0.0.1 localhost", "::1 localhost"]
        for line in client.hosts_file.entries if client.hosts_file is not None else ():
            lines.append(f"{line.address} {plain_words(list(line.names), 'a name of a hosts file', line.place)}")
        plan.files[f"{name}.hosts"] = "\n".join(lines) + "\n"
        return [[f"{name}.resolv", "/etc/resolv.conf"], [f"{name}.hosts", "/etc/hosts"]]

    def ordinary(self, validates: bool, since: datetime | None) -> int:
        """The number of an ordinary resolver on the internet: one that checks signatures or not, filled at a moment or empty."""
        return self._ordinary.setdefault((validates, since), len(self._ordinary))

    # -- resolvers -----------------------------------------------------------------------------------------------

    def _nobodys(self, address: IPAddress, since: datetime | None, client: Box | None) -> None:
        """An address at which a resolver is stated that nobody describes."""
        held = self._stated.setdefault(address, since)
        if held != since:
            raise UnstageableError(
                "one resolver with what two devices remember", str(address), client.place if client else None
            )

    def _undescribed(self, name: str, addresses: list[str], validates: bool, since: datetime | None) -> None:
        anchor = self.signer.anchor() if validates and self.signer is not None else None
        for address in addresses:
            place_resolver(self.plan, ip_address(address))
        self._resolver(name, RESOLVER, addresses, since, programs.Ways(anchor=anchor))

    def _described_resolver(self, name: str, space: str, listen: list[str], service: Resolver) -> None:
        held: dict[str, str] = {}
        for zone_name in service.zones:
            path = f"{name}/{len(held)}.zone"
            self.plan.files[path] = self.text(self.estate.zones[zone_name])
            held[str(zone_name)] = path
        for each in (*service.forwards_to, *(one for held in service.forwards_zones.values() for one in held)):
            if public(each) and not has(self.estate, each):
                self._nobodys(each, None, None)
        anchor = self.signer.anchor() if service.checks_signatures and self.signer is not None else None
        kind = "always_refuse" if service.refuses_with == "refused" else "always_nxdomain"
        refuses = {str(each): kind for each in service.refuses}
        if service.program == "named" and service.drops_private:
            raise UnstageableError("private addresses that named drops", service.name, service.place)
        ways = programs.Ways(
            {".": service.forwards_to, **{str(each): to for each, to in service.forwards_zones.items()}},
            anchor,
            refuses,
            held,
            service.may_be_private if service.drops_private else None,
            service.serves_expired,
        )
        self._resolver(name, space, listen, service.last_asked, ways, service.program)

    def _resolver(
        self,
        name: str,
        space: str,
        listen: list[str],
        since: datetime | None,
        ways: programs.Ways,
        program: str | None = None,
    ) -> None:
        clock = f"{name}.clock" if self.timed and program != "named" else None
        if clock is not None:
            self.plan.files[clock] = _offset(self.now if since is None else since)
            self._resolvers.append(name)
        start = programs.recursive if program == "named" else programs.unbound
        start(self.plan, name, space, listen, ways, clock)
        if since is not None:
            address = {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(listen[0], listen[0])
            self._primed.setdefault(since, []).append((name, space, address))

    # -- name servers --------------------------------------------------------------------------------------------

    def _lapsed(self, zone: Zone) -> bool:
        return zone.on_hold or (zone.registered_until is not None and self.now >= zone.registered_until)

    def _depth(self, zone: Zone) -> int:
        return sum(zone.name.endswith("." + other) for other in self.estate.zones)

    def _stated_records(self, name: str) -> list[Record] | None:
        """The address records that the estate's zones state for a name, behind its aliases; None where no zone holds it."""
        for _ in range(_MOST_ALIASES):
            zones = [zone for zone in self.estate.zones if name == zone or name.endswith("." + zone)]
            if not zones:
                return None
            types = self.estate.zones[max(zones, key=len)].data.nodes.get(name, {})
            if "CNAME" not in types:
                return [*types.get("A", ()), *types.get("AAAA", ())]
            name = types["CNAME"][0].data
        return []

    def _described(self, zone: Zone) -> bool:
        """Whether the delegation names a box of the estate, or nothing but names that lead nowhere."""
        every = [self._stated_records(name) for name in zone.delegated_to]
        known = [record.data for records in every for record in records or ()]
        return all(records == [] for records in every) or any(
            has(self.estate, each) or not public(each) for each in known
        )

    def _serve(
        self,
        name: str,
        space: str,
        addresses: list[str],
        zones: Sequence[Zone],
        port: int = 53,
        program: ServerProgram | None = None,
    ) -> None:
        """A name server with some zones; named with views where a zone has any, else the program that is said."""
        texts = {}
        for number, zone in enumerate(zones):
            path = f"{name}/z{number}.zone"
            texts[zone.name] = path
            self.plan.files[path] = self.text(zone)
            self._files.append((zone, path))
        if any(zone.views for zone in zones):
            views: dict[tuple[str, ...], dict[str, str]] = {}
            for number, zone in enumerate(zones):
                for order, view in enumerate(zone.views.values()):
                    path = f"{name}/z{number}-{order}.view"
                    self.plan.files[path] = self.text(zone, data=view.data)
                    views.setdefault(tuple(map(str, view.clients)), dict(texts))[zone.name] = path
            programs.named(self.plan, name, space, addresses, texts, views)
        else:
            start = programs.PRIMARIES[program or _as_most(zones)]
            if space == AUTHORITY:
                addresses = [*addresses, *self._stood_in_for(zones)]
            self._reloads.append(start(self.plan, name, space, addresses, texts, port))

    def _stood_in_for(self, zones: Sequence[Zone]) -> list[str]:
        """The addresses that zones which nobody serves state for their own name servers: whoever plays those is there."""
        found = []
        for address in (each for zone in zones for each in _known_addresses(zone)):
            if public(address) and not has(self.estate, address) and address not in self._stood_in:
                self._stood_in.add(address)
                place_authority(self.plan, address)
                found.append(str(address))
        return found

    def _root(self, served: dict[str, list[tuple[Machine, Service]]], shared: Sequence[Zone]) -> None:
        """A root zone that delegates the topmost zones, as their registration says."""
        lines = [". 60 SOA a.root. x.root. 1 60 60 60 60", ". 60 NS a.root.", f"a.root. 60 A {ROOT_ADDRESS}"]
        glue: set[str] = set()
        copies = 0
        for zone in self.estate.zones.values():
            if self._depth(zone) or self._lapsed(zone):
                continue
            owner = dns_name(zone.name, zone.place)
            if self.signer is not None:
                lines += self.signer.ds_lines(zone, None)
            holders = served[zone.name]
            copy = next((each for each in zone.copies.values() if set(each.servers) & set(zone.delegated_to)), None)
            if copy is not None:
                address = TIER_ADDRESS.format(_FIRST_COPY + copies)
                copies += 1
                path = f"copy{copies}/zone"
                self.plan.files[path] = self.text(zone, data=copy.data)
                programs.knot(self.plan, f"copy{copies}", AUTHORITY, [address], {zone.name: path})
                lines.append(f"{owner} 60 NS {dns_name(copy.servers[0])}")
                glue.add(f"{dns_name(copy.servers[0])} 60 A {address}")
            elif zone.delegated_to and (holders or zone.glue or self._described(zone)):
                for name in zone.delegated_to:
                    lines.append(f"{owner} 60 NS {dns_name(name)}")
                    stated = next((held for each, held in zone.glue.items() if each == name), None)
                    if stated is not None:
                        glue |= {_address_line(name, address) for address in stated}
                    elif name == zone.name or name.endswith("." + zone.name):
                        types = zone.data.nodes.get(name, {})
                        glue |= {
                            _address_line(name, record.data) for kind in ("A", "AAAA") for record in types.get(kind, ())
                        }
            elif holders:
                targets = [address for machine, service in holders for address in _addresses_of(machine, service)]
                for number, own in enumerate([each for each in targets if public(each)] or targets):
                    server = f"s{number}.held.{zone.name}"
                    lines.append(f"{owner} 60 NS {dns_name(server)}")
                    glue.add(_address_line(server, own))
            else:
                lines.append(f"{owner} 60 NS {dns_name('assumed.' + zone.name)}")
                glue.add(
                    _address_line(
                        f"assumed.{zone.name}", ip_address(TIER_ADDRESS.format(2) if zone in shared else _APART)
                    )
                )
        text = "\n".join([*lines, *sorted(glue)]) + "\n"
        self.plan.files["root/root.zone"] = text if self.signer is None else self.signer.signed(text, "", None)
        texts = {".": "root/root.zone"}
        for number, zone in enumerate(shared):
            texts[zone.name] = f"root/z{number}.zone"
            self.plan.files[texts[zone.name]] = self.text(zone)
            self._files.append((zone, texts[zone.name]))
        addresses = [ROOT_ADDRESS, *([TIER_ADDRESS.format(2)] if shared else []), *self._stood_in_for(shared)]
        start = programs.PRIMARIES[_as_most(shared)]
        self._reloads.append(start(self.plan, "root", AUTHORITY, addresses, texts))

    def _servers_of(self, zone: Zone, owner: str, assumed: str, tier: str) -> list[str]:
        """The name servers of a zone that does not name any: those that hold it, else the assumed one."""
        held = [
            address
            for machine, service in every_service(self.estate)
            if isinstance(service, NameServer) and zone.name in service.zones
            for address in _addresses_of(machine, service)
        ]
        if not held:
            return [f"{owner} 60 NS {assumed}", f"{assumed} 60 A {tier}"]
        names = [(f"s{number}.held.{zone.name}", address) for number, address in enumerate(held)]
        lines = [f"{owner} 60 NS {dns_name(name)}" for name, _ in names]
        return lines + [_address_line(name, address) for name, address in names]

    # -- what zones hold -----------------------------------------------------------------------------------------

    def text(self, zone: Zone, since: datetime | None = None, data: ZoneData | None = None) -> str:
        """A zone as a master file of absolute names, as it stood or stands at a moment, with what an inline zone leaves out."""
        if data is None:
            moment = self.now if since is None else since
            earlier = [each for each in zone.before if moment < each.until]
            data = min(earlier, key=lambda each: each.until).data if earlier else zone.data
        tier = TIER_ADDRESS.format(2 + self._depth(zone)) if zone not in self._elsewhere else _APART
        owner, assumed = dns_name(zone.name, zone.place), dns_name(f"assumed.{zone.name}", zone.place)
        lines = []
        apex = data.nodes.get(zone.name, {})
        if "SOA" not in apex:
            # An absence that no SOA record limits is not remembered.
            lines.append(f"{owner} 60 SOA {assumed} keeper.{owner} 1 60 60 60 0")
        if "NS" not in apex and "CNAME" not in apex:
            lines += self._servers_of(zone, owner, assumed, tier)
        for types in data.nodes.values():
            for kind, records in types.items():
                if self.signer is None or signs_itself(zone) or (kind not in SIGNED_TYPES and kind != "DS"):
                    lines += map(record_line, records)
        if zone.apex_alias is not None:
            for record in self._stated_records(str(zone.apex_alias)) or ():
                lines.append(f"{owner} 60 {record.type} {data_text(record)}")
        for child in self.estate.zones.values():
            if child.name == zone.name or not child.name.endswith("." + zone.name):
                continue
            # A delegation to servers that nobody describes leads to those that are assumed.
            for record in data.nodes.get(child.name, {}).get("NS", ()):
                held = zone.data.nodes.get(record.data, {})
                if not ({"A", "AAAA"} & set(held)) and record.data.endswith("." + zone.name):
                    lines.append(f"{dns_name(record.data)} 60 A {TIER_ADDRESS.format(2 + self._depth(child))}")
            if self.signer is not None and "NS" in data.nodes.get(child.name, {}):
                lines += self.signer.ds_lines(child, data)
        said = any(
            isinstance(service, NameServer) and service.program is not None and zone.name in service.zones
            for _, service in every_service(self.estate)
        )
        if self.signer is None and (said or data.defect_for(None) is not None):
            lines += refused_lines(data.defects)
        text = "\n".join(lines) + "\n"
        return text if self.signer is None else self.signer.signed(text, zone.name, zone)


def _known_addresses(zone: Zone) -> list[IPAddress]:
    """The IPv4 addresses that a zone states for its own name servers, or the registration where the zone does not."""
    nodes = zone.data.nodes
    servers = [str(record.data) for record in nodes.get(zone.name, {}).get("NS", ())]
    stated = {server: [record.data for record in nodes.get(server, {}).get("A", ())] for server in servers}
    for name, addresses in zone.glue.items():
        own = [record.data for kind in ("A", "AAAA") for record in nodes.get(name, {}).get(kind, ())]
        stated[str(name)] = own or [each for each in addresses if each.version == 4]
    return [address for held in stated.values() for address in held]


def _as_most(zones: Sequence[Zone]) -> ServerProgram:
    """A program that loads some zones, and refuses others, as most programs do; Knot DNS where they are all alike."""
    for program in ("knot", "nsd", "named"):
        every = [held for each in zones for held in (each.data, *(before.data for before in each.before))]
        if all((each.defect_for(program) is None) == (each.defect_for(None) is None) for each in every):
            return program
    return "knot"


def _offset(moment: datetime) -> str:
    """How far a clock that shows a moment is from this machine's, as the clock's file says it."""
    return f"{(moment - datetime.now(UTC)).total_seconds():+.0f}\n"


def _address_line(name: str, address: IPAddress) -> str:
    return f"{dns_name(name)} 60 {'A' if address.version == 4 else 'AAAA'} {address}"


def _sockets(service: Service) -> list[str]:
    """The addresses that a name program listens on, as its configuration names them."""
    found = []
    for listener in service.listens:
        if listener.address is None or (
            int(listener.address) == 0 and listener.address.version == 6 and not listener.only_v6
        ):
            found += ["0.0.0.0", "::"]
        else:
            found.append(str(listener.address))
    return list(dict.fromkeys(found))


def _addresses_of(machine: Machine, service: Service) -> list[IPAddress]:
    """The addresses at which a name server can be asked."""
    named = [each.address for each in service.listens if each.address is not None and int(each.address)]
    return [each for each in addresses_of(machine) if not named or each in named]
