"""Resolution: client order, then a resolver's walk through the zones of the estate.

1. a literal address; 2. the hosts file; 3. localhost names (RFC 6761); 4. the resolver. A resolver starts at the
topmost zone of the estate that holds the name, and follows delegations and aliases (RFC 1034 section 5.3.3). What the
estate does not describe is assumed to work, and said.
"""

from collections.abc import Callable
from ipaddress import IPv4Address, IPv6Address
from typing import Any

from portolan.estate.base import IPAddress, is_public
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Record, Zone
from portolan.evidence.decision import Decision
from portolan.evidence.results import Connection, Resolution
from portolan.names import law
from portolan.names.zone import Cut, Found, ZoneIndex

#: Asks the packet engine: from (a machine, a visitor, or None for an ordinary resolver) to address, port, protocol.
Reach = Callable[[Machine | Vantage | None, IPAddress, int, str], Connection]
#: Whether some described box has the address.
Described = Callable[[IPAddress], bool]

_LOOPBACK: tuple[IPAddress, ...] = (IPv6Address("::1"), IPv4Address("127.0.0.1"))


class Answer:
    """What a resolver comes to, gathered while it walks."""

    __slots__ = ("addresses", "aliases", "decisions", "detail", "origins", "zone")

    def __init__(self) -> None:
        self.decisions: list[Decision] = []
        self.addresses: list[IPAddress] = []
        self.origins: list[Any] = []
        self.aliases: list[str] = []
        self.detail: str | None = None
        self.zone: str | None = None

    def fail(self, detail: str, decision: Decision) -> None:
        """Ends it badly."""
        self.detail = detail
        self.decisions.append(decision)


class Naming:
    """The estate's zones made ready, with what reaches their servers handed in."""

    def __init__(self, estate: Estate, reach: Reach, described: Described, shared: dict[Any, Any]) -> None:
        self.estate = estate
        self._reach = reach
        self._described = described
        self._shared = shared
        self._served: dict[tuple[str, int], tuple[Decision, ...]] = {}
        self._walking: set[tuple[str, int]] = set()
        self._servers: dict[str, list[tuple[Machine, Service]]] = {}
        for machine in machines(estate):
            for service in machine.services.values():
                for zone in service.zones:
                    self._servers.setdefault(zone, []).append((machine, service))

    def index(self, zone: Zone) -> ZoneIndex:
        """The zone's index, made once."""
        found = self._shared.get(id(zone))
        if found is None:
            found = self._shared[id(zone)] = (ZoneIndex(zone), zone)
        index: ZoneIndex = found[0]
        return index

    # -- the client ----------------------------------------------------------------------------------------------

    def resolve(self, host: str, literal: IPAddress | None, vantage: Vantage) -> Resolution:
        """A host's addresses as a visitor's device finds them, in no particular order yet."""
        if literal is not None:
            return Resolution(host, (literal,), None, (Decision(law.LITERAL, (host,)),), (None,))
        client = self._client(vantage)
        from_file = self._hosts_file(host, client)
        if from_file is not None:
            return from_file
        name = host.rstrip(".")
        if name == "localhost" or name.endswith(".localhost"):
            return Resolution(host, _LOOPBACK, None, (Decision(law.LOOPBACK_NAME, (host,)),), (None, None))
        answer = Answer()
        label = client.name
        address = client.resolver
        if address is None or (is_public(address) and not self._described(address)):
            answer.decisions.append(Decision(law.RESOLVER_ORDINARY, (label,), client.place))
            self._recurse(name, None, answer)
        else:
            self._ask(name, client, address, answer)
        return Resolution(host, tuple(answer.addresses), answer.detail, tuple(answer.decisions), tuple(answer.origins),
                          tuple(answer.aliases), answer.zone)  # fmt: skip

    def _client(self, vantage: Vantage) -> Machine | Vantage:
        if vantage.host is None:
            return vantage
        return self.estate.hosts.get(vantage.host) or self.estate.routers[vantage.host]

    def _hosts_file(self, host: str, client: Machine | Vantage) -> Resolution | None:
        if client.hosts_file is None:
            return None
        lines = [line for line in client.hosts_file.entries if host in line.names]
        if not lines:
            return None
        decisions = tuple(
            Decision(law.HOSTS_LINE, (client.name, host, line.address), line.place, line) for line in lines
        )
        return Resolution(host, tuple(line.address for line in lines), None, decisions, tuple(lines))

    def _ask(self, name: str, client: Machine | Vantage, address: IPAddress, answer: Answer) -> None:
        """Puts the question to a described resolver; the packets must reach it."""
        connection = self._reach(client, address, 53, "udp")
        place = client.place.key("resolver")
        if connection.arrival is None:
            reason = connection.stop.text if connection.stop is not None else "no answer"
            if connection.detail == "refused":
                answer.fail(
                    "resolver-failure",
                    Decision(law.RESOLVER_CLOSED, (client.name, address, reason), place, connection.stop),
                )
            else:
                answer.fail(
                    "resolver-timeout",
                    Decision(law.RESOLVER_SILENT, (client.name, address, reason), place, connection.stop),
                )
            return
        machine, service = connection.arrival.machine, connection.arrival.service
        if service.kind == "resolver":
            facts = (client.name, address, machine.name)
            answer.decisions.append(Decision(law.RESOLVER_ASKED, facts, service.place, service))
            self._recurse(name, machine, answer)
        elif service.kind == "name-server":
            self._authoritative(name, service, answer)
        else:
            facts = (client.name, address, f"{service.name} on {machine.name} is no DNS server")
            answer.fail("resolver-failure", Decision(law.RESOLVER_CLOSED, facts, place, service))

    def _authoritative(self, name: str, service: Service, answer: Answer) -> None:
        best = max((zone for zone in service.zones if _within(name, zone)), key=len, default=None)
        if best is None:
            answer.fail("refused", Decision(law.RESOLVER_NOT_RECURSIVE, (service.name, name), service.place, service))
            return
        self._follow(name, None, answer, self.estate.zones[best])

    # -- the resolver --------------------------------------------------------------------------------------------

    def _recurse(self, name: str, resolver: Machine | None, answer: Answer) -> None:
        self._follow(name, resolver, answer, None)

    def _follow(self, name: str, resolver: Machine | None, answer: Answer, only: Zone | None) -> None:
        seen = [name]
        while True:
            node = self._node(name, resolver, answer, only)
            if node is None:
                return
            alias = node.types.get("CNAME")
            if alias is None:
                self._addresses(name, node, answer)
                return
            target = alias[0].data
            answer.decisions.append(Decision(law.ALIAS, (name, target), alias[0].place, alias[0]))
            answer.aliases.append(target)
            if target in seen:
                answer.fail(
                    "resolver-failure",
                    Decision(law.ALIAS_LOOP, (" -> ".join([*seen, target]),), alias[0].place, alias[0]),
                )
                return
            if len(seen) > law.MOST_ALIASES:
                answer.fail("resolver-failure", Decision(law.ALIAS_LONG, (law.MOST_ALIASES,), alias[0].place, alias[0]))
                return
            seen.append(target)
            name = target

    def _addresses(self, name: str, node: Found, answer: Answer) -> None:
        for kind in ("AAAA", "A"):
            for record in node.types.get(kind, ()):
                answer.addresses.append(record.data)
                answer.origins.append(record)
                answer.decisions.append(Decision(law.ADDRESS, (name, record.data), record.place, record))
        if not answer.addresses:
            zone = self.estate.zones[answer.zone or ""]
            held = ", ".join(sorted(node.types)) or "only names below it"
            place = next((records[0].place for records in node.types.values()), zone.place)
            answer.fail("no-address", Decision(law.NO_ADDRESS, (name, held), place, zone))

    def _node(self, name: str, resolver: Machine | None, answer: Answer, only: Zone | None) -> Found | None:
        """The node that answers for a name, or None after the failure was noted."""
        zone = only or self._top(name)
        if zone is None:
            answer.fail("no-such-name", Decision(law.UNDESCRIBED, (name,)))
            return None
        if only is None and not self._reachable(zone, None, None, resolver, answer):
            return None
        while True:
            if zone.data.defect is not None:
                text, record = zone.data.defect
                answer.fail(
                    "resolver-failure",
                    Decision(law.ZONE_BROKEN, (zone.name, text, record.text.strip()), record.place, zone),
                )
                return None
            answer.zone = zone.name
            found = self.index(zone).look(name)
            if isinstance(found, Cut):
                child = self.estate.zones.get(found.name)
                servers = ", ".join(record.data for record in found.servers)
                answer.decisions.append(
                    Decision(law.DELEGATED, (zone.name, found.name, servers), found.servers[0].place, found.servers[0])
                )
                if child is None:
                    answer.fail("no-such-name", Decision(law.UNDESCRIBED, (name,)))
                    return None
                if not self._reachable(child, found, zone, resolver, answer):
                    return None
                zone = child
                continue
            missing = self._undelegated(name, zone)
            if missing is not None:
                answer.decisions.append(
                    Decision(law.DELEGATION_MISSING, (zone.name, missing.name), zone.place, missing)
                )
            if found is None:
                answer.fail("no-such-name", Decision(law.NO_SUCH_NAME, (zone.name, name), zone.place, zone))
                return None
            if found.wildcard is not None:
                record = next(iter(found.types.values()))[0]
                answer.decisions.append(Decision(law.WILDCARD, (name, found.wildcard), record.place, record))
            return found

    def _top(self, name: str) -> Zone | None:
        """The topmost described zone that holds a name."""
        parts = name.split(".")
        for start in range(len(parts) - 1, -1, -1):
            zone = self.estate.zones.get(".".join(parts[start:]))
            if zone is not None:
                return zone
        return None

    def _undelegated(self, name: str, zone: Zone) -> Zone | None:
        """A described zone below this one that holds the name, and to which this one does not delegate."""
        while name != zone.name and name:
            child = self.estate.zones.get(name)
            if child is not None:
                return child
            name = name.partition(".")[2]
        return None

    # -- servers -------------------------------------------------------------------------------------------------

    def _reachable(
        self, zone: Zone, cut: Cut | None, parent: Zone | None, resolver: Machine | None, answer: Answer
    ) -> bool:
        """Whether some server of the zone, as the delegation names them, answers the resolver for it."""
        key = (zone.name, id(resolver))
        decisions = self._served.get(key)
        if decisions is None:
            if key in self._walking:
                return True  # a server named inside the zone that it serves: its glue was used
            self._walking.add(key)
            decisions = self._served[key] = tuple(self._try_servers(zone, cut, parent, resolver))
            self._walking.discard(key)
        answer.decisions.extend(decisions)
        if decisions and decisions[-1].law.stops:
            answer.detail = "resolver-failure"
            return False
        return True

    def _try_servers(
        self, zone: Zone, cut: Cut | None, parent: Zone | None, resolver: Machine | None
    ) -> list[Decision]:
        holders = self._servers.get(zone.name, [])
        named = tuple(record.data for record in cut.servers) if cut is not None else zone.delegated_to
        if not holders and not any(
            self._described(each) for name in named for each in self._server_addresses(name, zone, parent, resolver)
        ):
            return [Decision(law.ZONE_ASSUMED, (zone.name,), zone.place, zone)]
        decisions: list[Decision] = []
        if named:
            targets = [
                (name, address) for name in named for address in self._server_addresses(name, zone, parent, resolver)
            ]
            without = [name for name in named if not any(name == each for each, _ in targets)]
        else:
            decisions.append(Decision(law.DELEGATION_ASSUMED, (zone.name,), zone.place, zone))
            targets = [
                (machine.name, address)
                for machine, service in holders
                for address in listening_addresses(machine, service)
            ]
            public = [(name, address) for name, address in targets if is_public(address)]
            targets, without = public or targets, []
        reasons = [f"{name} has no address" for name in without]
        for name, address in targets:
            connection = self._reach(resolver, address, 53, "udp")
            if connection.arrival is None:
                reason = connection.stop.text if connection.stop is not None else "no answer"
                reasons.append(f"{name} ({address}): {reason}")
            elif zone.name not in connection.arrival.service.zones:
                reasons.append(f"{name} ({address}) does not hold the zone")
            else:
                decisions.append(Decision(law.SERVER_ANSWERS, (name, address, zone.name), connection.arrival.service.place,
                                          connection.arrival.service))  # fmt: skip
                return decisions
        place = zone.place.key("delegated_to") if cut is None else cut.servers[0].place
        decisions.append(Decision(law.SERVERS_FAIL, (zone.name, "; ".join(reasons)), place, zone))
        return decisions

    def _server_addresses(
        self, name: str, zone: Zone, parent: Zone | None, resolver: Machine | None
    ) -> list[IPAddress]:
        """A name server's addresses: the parent's glue, the zone's own records, or resolved as any name."""
        if parent is not None and _within(name, parent.name):
            glue = address_records(parent, name)
            if glue or _within(name, zone.name):
                return [record.data for record in glue]
        if _within(name, zone.name):
            return [record.data for record in address_records(zone, name)]
        inner = Answer()
        self._recurse(name, resolver, inner)
        return inner.addresses


def address_records(zone: Zone, name: str) -> list[Record]:
    """The address records that a zone holds at a name."""
    types = zone.data.nodes.get(name, {})
    return [*types.get("A", ()), *types.get("AAAA", ())]


def listening_addresses(machine: Machine, service: Service) -> list[IPAddress]:
    """The addresses of a machine at which a service listens."""
    addresses = [item.ip for interface in machine.interfaces.values() for item in interface.address]
    wanted = {
        listener.address for listener in service.listens if listener.address is not None and int(listener.address)
    }
    return [address for address in addresses if not wanted or address in wanted]


def _within(name: str, zone: str) -> bool:
    return name == zone or name.endswith("." + zone) or zone == ""
