"""The name drivers: who plays which name server and resolver, what each is told, and what caches were filled with."""

from collections.abc import Sequence
from datetime import datetime, timedelta

from portolan.estate.base import IPAddress, is_public
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Zone, ZoneData
from portolan.journey.world import World
from portolan.names.answer import Answer, Asker
from portolan.names.naming import address_records
from portolan.names.servers import listening_addresses
from portolan.names.versions import remembered_until, version_at
from portolan.names.zone import ZoneIndex
from portolan.rehearsal import name_programs as programs
from portolan.rehearsal.network import (
    AUTHORITY,
    RESOLVER,
    RESOLVER_ADDRESS,
    RESOLVER_ADDRESS_6,
    ROOT_ADDRESS,
    TIER_ADDRESS,
    join_resolver,
)
from portolan.rehearsal.plan import BASE, Plan, Round
from portolan.rehearsal.record_text import data_text
from portolan.rehearsal.signing import SIGNED_TYPES, Signer
from portolan.wire.listeners import bindings_of

#: Tiers of zones that nobody described serves; behind them, the servers of copies.
_FIRST_COPY = 6
#: Where topmost zones are served that the root does not simply delegate: never by the root's own server.
_APART = TIER_ADDRESS.format(5)


class Naming:
    """Plans every name server and resolver that the estate needs or describes."""

    def __init__(self, plan: Plan, world: World) -> None:
        self.plan = plan
        self.world = world
        self.estate = world.estate
        every = [service for machine in machines(self.estate) for service in machine.services.values()]
        clients: list[Machine | Vantage] = [*machines(self.estate), *self.estate.vantages.values()]
        validates = any(service.validates for service in every) or any(
            each.resolver == "validating" for each in clients
        )
        self.signer = Signer(world.now) if validates else None
        self._ordinary: dict[tuple[bool, datetime | None], list[str]] = {}
        #: Which resolver is to be filled when: moment to (space, address) pairs.
        self._primed: dict[datetime, list[tuple[str, str]]] = {}
        #: Master files by zone, for those rounds, and how their servers read them anew.
        self._files: list[tuple[Zone, str]] = []
        self._reloads: list[list[str]] = []
        self._elsewhere: list[Zone] = []

    def build(self) -> None:
        """The authoritative servers, and the resolvers that the estate describes."""
        served: dict[str, list[tuple[Machine, Service]]] = {name: [] for name in self.estate.zones}
        for machine in machines(self.estate):
            for service in machine.services.values():
                if service.kind == "name-server":
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
        for number, machine, service in self._running():
            bound = [binding for binding in bindings_of(service) if binding.protocol == "udp"]
            listen = [address for binding in bound for address in _listen(binding.address, binding.families)]
            space = self.plan.space_of(machine)
            if service.kind == "name-server":
                zones = [self.estate.zones[name] for name in service.zones]
                self._serve(f"names{number}", space, listen, zones, service.listens[0].port)
            else:
                self._described_resolver(f"cache{number}", space, listen, service)

    def finish(self, hosts: Sequence[str]) -> None:
        """The ordinary resolvers, and the rounds in which caches are filled with what stood earlier."""
        self._ordinary.setdefault((False, None), [])
        for number, ((validates, since), addresses) in enumerate(self._ordinary.items()):
            if number == 0 or (validates, since) == (False, None):
                addresses = (
                    [*addresses, RESOLVER_ADDRESS, RESOLVER_ADDRESS_6]
                    if (validates, since) == (False, None)
                    else addresses
                )
            anchor = self.signer.anchor() if validates and self.signer is not None else None
            programs.unbound(self.plan, f"ordinary{number}", RESOLVER, addresses, anchor=anchor)
            if since is not None:
                self._primed.setdefault(since, []).append((RESOLVER, addresses[0]))
        for since in sorted(self._primed):
            files = {path: self.text(zone, since) for zone, path in self._files}
            queries = [[space, address, list(hosts)] for space, address in self._primed[since]]
            self.plan.rounds.append(Round(files, self._reloads, queries))
        if self._primed:
            self.plan.rounds.append(Round({path: self.plan.files[path] for _, path in self._files}, self._reloads, []))

    def client_files(self, vantage: Vantage, number: int) -> list[list[str]]:
        """The resolv.conf and hosts file that a visitor's client sees: (file, where it is mounted)."""
        plan = self.plan
        client: Machine | Vantage = vantage
        if vantage.host is not None:
            client = self.estate.hosts.get(vantage.host) or self.estate.routers[vantage.host]
        name = f"{plan.space_of(client)}-{number}" if vantage.last_asked else plan.space_of(client)
        if f"{name}.resolv" not in plan.files:
            stated = client.resolver
            resolver: object = stated
            if isinstance(stated, str) or stated is None or (is_public(stated) and not self._described(stated)):
                resolver = join_resolver(plan, client, number)
                key = (stated == "validating", vantage.last_asked)
                self._ordinary.setdefault(key, []).append(str(resolver))
            search = f"search {' '.join(client.search)}\n" if client.search else ""
            plan.files[f"{name}.resolv"] = f"nameserver {resolver}\n{search}options timeout:2 attempts:1\n"
            lines = ["127.0.0.1 localhost", "::1 localhost"]
            if client.hosts_file is not None:
                lines += [f"{line.address} {' '.join(line.names)}" for line in client.hosts_file.entries]
            plan.files[f"{name}.hosts"] = "\n".join(lines) + "\n"
        return [[f"{BASE}/{name}.resolv", "/etc/resolv.conf"], [f"{BASE}/{name}.hosts", "/etc/hosts"]]

    def _leads_to_described(self, zone: Zone) -> bool:
        """Whether the delegation names a server that some box of the estate is."""
        for name in zone.delegated_to:
            answer = Answer()
            self.world.naming.recurse(name, Asker("the root"), answer)
            if any(self._described(record.data) for record in address_records(answer.types)):
                return True
        return False

    def _lapsed(self, zone: Zone) -> bool:
        return zone.on_hold or (zone.registered_until is not None and self.world.now >= zone.registered_until)

    def _running(self) -> list[tuple[int, Machine, Service]]:
        every = [(machine, service) for machine in machines(self.estate) for service in machine.services.values()]
        return [(number, machine, service) for number, (machine, service) in enumerate(every)
                if service.state == "running" and service.privileged and service.failing is None and service.kind in ("name-server", "resolver")]  # fmt: skip

    def _described_resolver(self, name: str, space: str, listen: list[str], service: Service) -> None:
        held: dict[str, str] = {}
        for zone_name in service.zones:
            path = f"{name}/{len(held)}.zone"
            self.plan.files[path] = self.text(self.estate.zones[zone_name])
            held[str(zone_name)] = path
        forwards = [
            str(each) if not is_public(each) or self._described(each) else RESOLVER_ADDRESS
            for each in service.forwards_to
        ]
        anchor = self.signer.anchor() if service.validates and self.signer is not None else None
        refuses = {
            str(each): "always_refuse" if service.refuses_with == "refused" else "always_nxdomain"
            for each in service.refuses
        }
        programs.unbound(self.plan, name, space, listen, forwards, anchor, refuses, held)
        if service.last_asked is not None:
            address = {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(listen[0], listen[0])
            self._primed.setdefault(service.last_asked, []).append((space, address))

    def _described(self, address: IPAddress) -> bool:
        return any(
            address == item.ip
            for machine in machines(self.estate)
            for interface in machine.interfaces.values()
            for item in interface.address
        )

    def _depth(self, zone: Zone) -> int:
        return sum(zone.name.endswith("." + other) for other in self.estate.zones)

    def _serve(self, name: str, space: str, addresses: list[str], zones: Sequence[Zone], port: int = 53) -> None:
        """A name server with some zones; one with views where a zone has any."""
        texts = {}
        for number, zone in enumerate(zones):
            path = f"{name}/z{number}.zone"
            texts[zone.name] = path
            self.plan.files[path] = self.text(zone)
            self._files.append((zone, path))
        if any(zone.views for zone in zones):
            views: dict[tuple[str, ...], dict[str, str]] = {}
            for zone in zones:
                for view in zone.views.values():
                    path = f"{name}/{zone.name}-{list(zone.views).index(view.name)}.view"
                    self.plan.files[path] = self.text(zone, data=view.data)
                    views.setdefault(tuple(map(str, view.clients)), dict(texts))[zone.name] = path
            programs.named(self.plan, name, space, addresses, texts, views)
        else:
            self._reloads.append(programs.knot(self.plan, name, space, addresses, texts, port))

    # -- what zones hold -----------------------------------------------------------------------------------------

    def _root(self, served: dict[str, list[tuple[Machine, Service]]], shared: Sequence[Zone]) -> None:
        """A root zone that delegates the topmost zones, as their registration says."""
        lines = [". 60 SOA a.root. x.root. 1 60 60 60 60", ". 60 NS a.root.", f"a.root. 60 A {ROOT_ADDRESS}"]
        glue: set[str] = set()
        copies = 0
        for zone in self.estate.zones.values():
            if self._depth(zone) or self._lapsed(zone):
                continue
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
                lines.append(f"{zone.name}. 60 NS {copy.servers[0]}.")
                glue.add(f"{copy.servers[0]}. 60 A {address}")
            elif zone.delegated_to and (holders or zone.glue or self._leads_to_described(zone)):
                for name in zone.delegated_to:
                    lines.append(f"{zone.name}. 60 NS {name}.")
                    if name in zone.glue:
                        key = next(each for each in zone.glue if each == name)
                        glue |= {f"{name}. 60 {_kind(address)} {address}" for address in zone.glue[key]}
                    elif name == zone.name or name.endswith("." + zone.name):
                        held = address_records(zone.data.nodes.get(name, {}))
                        glue |= {f"{name}. 60 {record.type} {record.data}" for record in held}
            elif holders:
                targets = [(address, number) for machine, service in holders
                           for number, address in enumerate(listening_addresses(machine, service))]  # fmt: skip
                public = [each for each in targets if is_public(each[0])]
                for number, (stated, _) in enumerate(public or targets):
                    server = f"s{number}.held.{zone.name}."
                    lines.append(f"{zone.name}. 60 NS {server}")
                    glue.add(f"{server} 60 {_kind(stated)} {stated}")
            else:
                lines.append(f"{zone.name}. 60 NS assumed.{zone.name}.")
                glue.add(f"assumed.{zone.name}. 60 A {TIER_ADDRESS.format(2) if zone in shared else _APART}")
        text = "\n".join([*lines, *sorted(glue)]) + "\n"
        self.plan.files["root/root.zone"] = text if self.signer is None else self.signer.signed(text, "", None)
        texts = {".": "root/root.zone"}
        for number, zone in enumerate(shared):
            texts[zone.name] = f"root/z{number}.zone"
            self.plan.files[texts[zone.name]] = self.text(zone)
            self._files.append((zone, texts[zone.name]))
        addresses = [ROOT_ADDRESS, *([TIER_ADDRESS.format(2)] if shared else [])]
        self._reloads.append(programs.knot(self.plan, "root", AUTHORITY, addresses, texts))

    def text(self, zone: Zone, since: datetime | None = None, data: ZoneData | None = None) -> str:
        """A zone as a master file of absolute names, with what an inline zone leaves out.

        `since` gives what stood at that moment, with what is left of its TTLs now.
        """
        now = self.world.now
        if data is None:
            data = version_at(zone, since or now, None).data
        index = ZoneIndex(zone.name, data)
        tier = TIER_ADDRESS.format(2 + self._depth(zone)) if zone not in self._elsewhere else _APART
        lines = []
        apex = data.nodes.get(zone.name, {})
        if "SOA" not in apex:
            # An absence that no SOA record limits is not remembered.
            lines.append(
                f"{zone.name}. 60 SOA assumed.{zone.name}. keeper.{zone.name}. 1 60 60 60 {60 if since is None else 0}"
            )
        if "NS" not in apex and "CNAME" not in apex:
            lines.append(f"{zone.name}. 60 NS assumed.{zone.name}.")
            lines.append(f"assumed.{zone.name}. 60 A {tier}")
        for owner, types in data.nodes.items():
            for kind, records in types.items():
                if self.signer is not None and (kind in SIGNED_TYPES or kind == "DS"):
                    continue
                for record in records:
                    ttl = record.ttl
                    if since is not None:
                        ttl = _left(remembered_until(index, types, since), now)
                        if kind == "SOA":
                            rest = _left(since + timedelta(seconds=index.negative_ttl()), now)
                            ttl, record = rest, record._replace(data=record.data._replace(minimum=rest))
                    lines.append(f"{owner}. {ttl} {kind} {data_text(record)}")
        if zone.apex_alias is not None:
            answer = Answer()
            self.world.naming.recurse(str(zone.apex_alias), Asker("the provider"), answer)
            found = address_records(answer.types) if answer.detail is None else []
            lines += [f"{zone.name}. 60 {record.type} {record.data}" for record in found]
        for child in self.estate.zones.values():
            if child.name == zone.name or not child.name.endswith("." + zone.name):
                continue
            # A delegation to servers that nobody describes leads to those that are assumed.
            for record in data.nodes.get(child.name, {}).get("NS", ()):
                if not address_records(zone.data.nodes.get(record.data, {})) and record.data.endswith("." + zone.name):
                    lines.append(f"{record.data}. 60 A {TIER_ADDRESS.format(2 + self._depth(child))}")
            if self.signer is not None and "NS" in data.nodes.get(child.name, {}):
                lines += self.signer.ds_lines(child, data)
        text = "\n".join(lines) + "\n"
        return text if self.signer is None else self.signer.signed(text, zone.name, zone)


def _left(until: datetime, now: datetime) -> int:
    return max(0, int((until - now).total_seconds()))


def _kind(address: IPAddress) -> str:
    return "A" if address.version == 4 else "AAAA"


def _listen(address: IPAddress | None, families: tuple[int, ...]) -> list[str]:
    if address is not None:
        return [str(address)]
    return [{4: "0.0.0.0", 6: "::"}[family] for family in families]
