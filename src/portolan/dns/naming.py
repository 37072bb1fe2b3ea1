"""A resolver's walk through the zones of the estate (RFC 1034 section 5.3.3).

It starts at the topmost zone of the estate that holds the name, and follows delegations and aliases; what it remembers
it does not ask for. What the estate does not describe is assumed to work, and said.
"""

from collections.abc import Callable
from datetime import datetime
from typing import Any

from portolan.dns import law
from portolan.dns.answer import Answer, Asker
from portolan.dns.servers import Reached, Servers
from portolan.dns.signatures import judged, named_keys
from portolan.dns.versions import Held, remembered_until, same_answer, version_at
from portolan.dns.zone import Below, Cut, Found, Types, ZoneIndex
from portolan.estate.base import IPAddress, is_public
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments
from portolan.estate.machine import Machine
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Copy, Record, Zone
from portolan.evidence.decision import Decision
from portolan.evidence.results import Connection

#: Asks the packet engine: from (a machine, a visitor, or None for an ordinary resolver) to address, port, protocol.
Reach = Callable[[Machine | Vantage | None, IPAddress, int, str], Connection]
#: Whether some described box has the address.
Described = Callable[[IPAddress], bool]

_LONGEST = 253


class Naming:
    """The estate's zones made ready, with what reaches their servers handed in."""

    def __init__(
        self, estate: Estate, now: datetime, reach: Reach, described: Described, shared: dict[Any, Any]
    ) -> None:
        self.estate = estate
        self.now = now
        self.reach = reach
        self.described = described
        self._shared = shared
        #: Zones below which the estate has another.
        self._parents = {above for zone in estate.zones for above in _above(zone)}
        self._ways: dict[tuple[int, IPAddress], Decision | None] = {}
        self._servers = Servers(estate, reach, described, self._addresses_of, self._way_out)

    def index(self, zone: Zone, held: Held | None = None) -> ZoneIndex:
        """The index of a zone, or of a version of it; made once."""
        version = zone if held is None else held
        found = self._shared.get(id(version))
        if found is None:
            found = self._shared[id(version)] = (ZoneIndex(zone.name, version.data), version)
        index: ZoneIndex = found[0]
        return index

    # -- a resolver ----------------------------------------------------------------------------------------------

    def recurse(self, name: str, asker: Asker, answer: Answer) -> None:
        """What a resolver finds for a name: the node that the aliases end at, or the failure."""
        service = asker.service
        label = asker.label
        if service is not None:
            barred = next((each for each in service.refuses if within(name, each)), None)
            if barred is not None:
                said = "that it refuses" if service.refuses_with == "refused" else "that there is no such name"
                answer.fail(
                    service.refuses_with,
                    Decision(law.RESOLVER_REFUSES, (label, name, said), service.place.key("refuses"), service),
                )
                return
        seen = [name]
        while True:
            found = self._node(name, asker, answer)
            if found is None:
                return
            if isinstance(found, Below):
                target = found.renamed(name)
                record = found.record
                step = Decision(law.DNAME_ALIAS, (record.owner, name, target), record.place, record)
            elif "CNAME" in found.types:
                record = found.types["CNAME"][0]
                target = record.data
                step = Decision(law.ALIAS, (name, target), record.place, record)
            else:
                answer.types, answer.name = found.types, name
                return
            if len(target) > _LONGEST:
                answer.fail("resolver-failure", Decision(law.DNAME_LONG, (record.owner, name), record.place, record))
                return
            answer.decisions.append(step)
            answer.aliases.append(target)
            if target in seen:
                chain = " -> ".join([*seen, target])
                answer.fail("resolver-failure", Decision(law.ALIAS_LOOP, (chain,), record.place, record))
                return
            if len(seen) > law.MOST_ALIASES and isinstance(found, Below) and within(str(record.data), record.owner):
                # Measured: Knot DNS and Unbound answer with the endless chain and no address, and no failure.
                answer.fail(
                    "no-address", Decision(law.DNAME_ENDLESS, (record.owner, record.data), record.place, record)
                )
                return
            if len(seen) > law.MOST_ALIASES:
                answer.fail("resolver-failure", Decision(law.ALIAS_LONG, (law.MOST_ALIASES,), record.place, record))
                return
            seen.append(target)
            name = target

    def authoritative(self, name: str, service: Service, client: IPAddress | None, answer: Answer) -> None:
        """What a name server without recursion answers; it follows aliases within its own zones."""
        seen: set[str] = set()
        while True:
            zone = self._holding(name, service)
            if zone is None and not seen:
                answer.fail(
                    "refused", Decision(law.RESOLVER_NOT_RECURSIVE, (service.name, name), service.place, service)
                )
                return
            if zone is None or name in seen:
                facts = (next(iter(seen)), name)
                answer.fail("no-address", Decision(law.OUT_OF_ZONE, facts, service.place, service))
                return
            seen.add(name)
            found = self._look(name, zone, version_at(zone, self.now, client), answer)
            if found is None:
                return
            if isinstance(found, Cut):
                answer.fail("no-address", Decision(law.REFERRED, (name,), found.servers[0].place, service))
                return
            if isinstance(found, Below):
                name = found.renamed(name)
                answer.aliases.append(name)
            elif "CNAME" in found.types:
                record = found.types["CNAME"][0]
                answer.say(law.ALIAS, (name, record.data), record.place, record)
                answer.aliases.append(record.data)
                name = record.data
            else:
                answer.types, answer.name = found.types, name
                return

    # -- one name ------------------------------------------------------------------------------------------------

    def _node(self, name: str, asker: Asker, answer: Answer) -> Found | Below | None:
        """The node that answers for a name, or None after the failure was noted."""
        if asker.since is not None:
            known, kept = self._remembered(name, asker, answer)
            if known:
                return kept
        service, server = asker.service, None
        own = self._holding(name, service) if service is not None and service.zones else None
        if own is not None and service is not None:
            answer.say(law.RESOLVER_HOLDS, (asker.label, own.name), service.place.key("zones"), service)
            zone, held = own, version_at(own, self.now, asker.client)
        elif (empty := next((each for each in (name, *_above(name)) if each in law.EMPTY_ZONES), None)) is not None:
            answer.fail("no-such-name", Decision(law.RESOLVER_EMPTY_ZONE, (name, empty)))
            return None
        elif service is not None and service.forwards_to:
            return self._passed_on(name, asker, answer)
        else:
            top = self._top(name)
            if top is None:
                answer.fail("no-such-name", Decision(law.UNDESCRIBED, (name,)))
                return None
            if not self._registered(top, answer):
                return None
            reached = self._reached(top, None, None, asker, answer)
            if reached is None:
                return None
            zone, (held, server) = top, reached
        secure, parent = True, None
        while True:
            if server is not None and server.service is not None and zone.name in self._parents:
                deeper = self._holding(name, server.service)
                if deeper is not None and deeper is not zone and not isinstance(self.index(zone, held).look(name), Cut):
                    answer.say(law.SERVER_HOLDS_DEEPER, (zone.name, deeper.name, name), deeper.place, deeper)
                    parent = held.data
                    zone, held = deeper, version_at(deeper, self.now, server.client)
            named = named_keys(zone, parent) if secure and asker.validates else ()
            secure = bool(named)
            if named:
                verdict = judged(zone, held.data, named, self.now)
                answer.decisions.append(verdict)
                if verdict.law.stops:
                    answer.detail = "resolver-failure"
                    return None
            found = self._look(name, zone, held, answer)
            if not isinstance(found, Cut):
                return found
            child = self.estate.zones.get(found.name)
            if child is None:
                self._beyond(name, found, zone, held, answer)
                return None
            below = self._reached(child, found, zone, asker, answer)
            if below is None:
                return None
            parent = held.data
            zone, (held, server) = child, below

    def _look(self, name: str, zone: Zone, held: Held, answer: Answer) -> Found | Below | Cut | None:
        """What one version of a zone says about a name; None after the failure was noted."""
        if held.data.defect is not None:
            text, record = held.data.defect
            facts = (zone.name, text, record.text.strip())
            answer.fail("resolver-failure", Decision(law.ZONE_BROKEN, facts, record.place, zone))
            return None
        answer.zone = zone.name
        found = self.index(zone, held).look(name)
        if isinstance(found, Cut):
            servers = ", ".join(record.data for record in found.servers)
            answer.say(law.DELEGATED, (zone.name, found.name, servers), found.servers[0].place, found.servers[0])
            return found
        if isinstance(found, Below):
            return found
        if zone.apex_alias is not None and name == zone.name:
            alias = self._apex_alias(zone, found, answer)
            if alias is not None:
                return alias
        missing = self._undelegated(name, zone)
        if missing is not None:
            answer.say(law.DELEGATION_MISSING, (zone.name, missing.name), zone.place, missing)
        if found is None:
            answer.fail("no-such-name", Decision(law.NO_SUCH_NAME, (zone.name, name), held.place, zone))
            return None
        if found.wildcard is not None:
            record = next(iter(found.types.values()))[0]
            answer.say(law.WILDCARD, (name, found.wildcard), record.place, record)
        self._lately(name, zone, held, found.types, answer)
        return found

    def _beyond(self, name: str, cut: Cut, zone: Zone, held: Held, answer: Answer) -> None:
        """A delegation out of the estate: to servers that cannot be found, or to what nobody describes."""
        servers = [record.data for record in cut.servers]
        if all(within(each, cut.name) and not address_records(held.data.nodes.get(each, {})) for each in servers):
            reasons = "; ".join(f"{each} has no address" for each in servers)
            answer.fail("resolver-failure", Decision(law.SERVERS_FAIL, (cut.name, reasons), cut.servers[0].place, zone))
        else:
            answer.fail("no-such-name", Decision(law.UNDESCRIBED, (name,)))

    def _lately(self, name: str, zone: Zone, held: Held, types: Types, answer: Answer) -> None:
        """Says until when others may still get what stood here before a change."""
        if held is not zone:
            if held in zone.before:
                answer.say(
                    law.BEFORE_ANSWERS, (zone.name, when(zone.before[zone.before.index(held)].until)), held.place, held
                )
            return
        for before in zone.before:
            index = self.index(zone, before)
            old = index.look(name)
            old_types = old.types if isinstance(old, Found) else None
            until = remembered_until(index, old_types, before.until)
            if until > self.now and not same_answer(old_types, types):
                answer.say(law.CHANGED_LATELY, (name, when(before.until), when(until)), before.place, before)
                return

    def _remembered(self, name: str, asker: Asker, answer: Answer) -> tuple[bool, Found | None]:
        """What a cache that was filled earlier still holds: whether it does, and the node (None: it failed)."""
        assert asker.since is not None
        zone = self._top(name)
        if zone is None or asker.since > self.now:
            return False, None
        while True:
            held = version_at(zone, asker.since, asker.client)
            index = self.index(zone, held)
            found = index.look(name)
            child = self.estate.zones.get(found.name) if isinstance(found, Cut) else None
            if child is None:
                break
            zone = child
        if isinstance(found, Cut | Below) or held.data.defect is not None:
            return False, None
        types = found.types if found is not None else None
        until = remembered_until(index, types, asker.since)
        if until <= self.now:
            return False, None
        facts = (asker.label, name, when(asker.since), when(until))
        answer.zone = zone.name
        if found is None:
            answer.fail("no-such-name", Decision(law.REMEMBERED_ABSENT, facts, held.place, zone))
            return True, None
        if not {"A", "AAAA", "CNAME"} & set(found.types):
            answer.fail("no-address", Decision(law.REMEMBERED_ABSENT, facts, held.place, zone))
            return True, None
        record = next(iter(found.types.values()))[0]
        answer.say(law.REMEMBERED, facts, record.place, zone)
        return True, found

    def _apex_alias(self, zone: Zone, found: Found | None, answer: Answer) -> Found | None:
        """The provider's servers look the target up themselves, as an ordinary resolver would."""
        target = str(zone.apex_alias)
        answer.say(law.APEX_ALIAS, (zone.name, target), zone.place.key("apex_alias"), zone)
        if zone.name in answer.aliases:
            return None
        inner = Answer()
        inner.aliases = [*answer.aliases, zone.name]
        self.recurse(target, Asker(f"the servers of {zone.name}"), inner)
        if inner.detail is not None:
            return None
        own = found.types if found is not None else {}
        return Found({**own, **{kind: inner.types[kind] for kind in ("A", "AAAA") if kind in inner.types}})

    def _passed_on(self, name: str, asker: Asker, answer: Answer) -> Found | None:
        """A forwarding resolver: the first of its resolvers that answers, decides."""
        service, machine = asker.service, asker.machine
        assert service is not None
        place = service.place.key("forwards_to")
        key = f"{asker.label}/{service.name}"
        if key in asker.passed:
            answer.fail("resolver-failure", Decision(law.RESOLVERS_IN_CIRCLE, (), place, service))
            return None
        for number, address in enumerate(service.forwards_to):
            answer.say(law.RESOLVER_PASSES_ON, (asker.label, address), place, service)
            inner = Answer()
            self.ask(name, machine or asker.label, address, inner, place, (*asker.passed, key), asker.validates)
            answer.decisions += inner.decisions
            if inner.detail in ("resolver-failure", "resolver-timeout", "refused") and number + 1 < len(
                service.forwards_to
            ):
                continue
            answer.aliases += inner.aliases
            answer.zone = inner.zone
            if inner.detail is not None:
                answer.detail = "resolver-failure" if inner.detail in ("resolver-timeout", "refused") else inner.detail
                return None
            return Found(inner.types)
        return None

    def ask(
        self,
        name: str,
        client: Machine | Vantage | str,
        address: IPAddress,
        answer: Answer,
        place: Any,
        passed: tuple[str, ...] = (),
        validates: bool = False,
        since: datetime | None = None,
    ) -> None:
        """Puts a question to whoever has an address; the packets must reach it."""
        label = client if isinstance(client, str) else client.name
        if is_public(address) and not self.described(address):
            asker = Asker("an ordinary resolver", validates=validates, since=since, passed=passed)
            self.ask_ordinary(name, client, address, asker, place, answer)
            return
        connection = self.reach(None if isinstance(client, str) else client, address, 53, "udp")
        if connection.arrival is None:
            reason = connection.stop.text if connection.stop is not None else "no answer"
            closed = connection.detail == "refused"
            kind = law.RESOLVER_CLOSED if closed else law.RESOLVER_SILENT
            answer.fail(
                "resolver-failure" if closed else "resolver-timeout",
                Decision(kind, (label, address, reason), place, connection.stop),
            )
            return
        machine, service = connection.arrival.machine, connection.arrival.service
        if service.kind == "resolver":
            answer.say(law.RESOLVER_ASKED, (label, address, machine.name), service.place, service)
            source = connection.arrival.source
            asker = Asker(
                machine.name,
                machine,
                service,
                source,
                service.validates or validates,
                service.last_asked or since,
                passed,
            )
            self.recurse(name, asker, answer)
        elif service.kind == "name-server":
            self.authoritative(name, service, connection.arrival.source, answer)
        else:
            facts = (label, address, f"{service.name} on {machine.name} is no DNS server")
            answer.fail("resolver-failure", Decision(law.RESOLVER_CLOSED, facts, place, service))

    def ask_ordinary(
        self, name: str, client: Machine | Vantage | str, address: IPAddress, asker: Asker, place: Any, answer: Answer
    ) -> None:
        """Puts a question to a resolver on the internet that nobody describes; the packets must reach it there and back."""
        label = client if isinstance(client, str) else client.name
        if not isinstance(client, str):
            stopped = self._way_to(client, address)
            if stopped is not None:
                answer.fail(
                    "resolver-timeout",
                    Decision(law.RESOLVER_OUT_OF_REACH, (label, address, stopped.text), place, stopped),
                )
                return
        answer.say(law.RESOLVER_VALIDATING if asker.validates else law.RESOLVER_ORDINARY, (label,), place)
        self.recurse(name, asker, answer)

    def _way_out(self, machine: Machine) -> Decision | None:
        """What keeps a machine's questions from servers on the internet that nobody describes."""
        return self._way_to(machine, ordinary_resolver(machine))

    def _way_to(self, client: Machine | Vantage, address: IPAddress) -> Decision | None:
        """What keeps a device's questions from a resolver on the internet, or its answers; None when they pass."""
        key = (id(client), address)
        if key not in self._ways:
            connection = self.reach(client, address, 53, "udp")
            self._ways[key] = connection.stop if connection.arrival is None else None
        return self._ways[key]

    # -- where zones are -----------------------------------------------------------------------------------------

    def _top(self, name: str) -> Zone | None:
        """The topmost described zone that holds a name."""
        zones, top = self.estate.zones, None
        while name:
            top = zones.get(name, top)
            name = name.partition(".")[2]
        return top

    def _holding(self, name: str, service: Service) -> Zone | None:
        """The closest zone above a name that a service holds."""
        best = max((zone for zone in service.zones if within(name, zone)), key=len, default=None)
        return self.estate.zones[best] if best is not None else None

    def _undelegated(self, name: str, zone: Zone) -> Zone | None:
        """A described zone below this one that holds the name, and to which this one does not delegate."""
        if zone.name not in self._parents:
            return None
        while name != zone.name and name:
            child = self.estate.zones.get(name)
            if child is not None:
                return child
            name = name.partition(".")[2]
        return None

    def _registered(self, zone: Zone, answer: Answer) -> bool:
        """Whether the parent zone still delegates it."""
        if zone.on_hold:
            place = zone.place.key("on_hold")
            answer.fail("no-such-name", Decision(law.REGISTRATION_HELD, (zone.name,), place, zone))
            return False
        if zone.registered_until is not None and self.now >= zone.registered_until:
            place = zone.place.key("registered_until")
            facts = (zone.name, when(zone.registered_until))
            answer.fail("no-such-name", Decision(law.REGISTRATION_LAPSED, facts, place, zone))
            return False
        return True

    def _reached(
        self, zone: Zone, cut: Cut | None, parent: Zone | None, asker: Asker, answer: Answer
    ) -> tuple[Held, Reached] | None:
        """The version with which the zone's servers answer, and how they were reached; None after the failure was noted."""
        reached: Reached = self._servers.reached(zone, cut, parent, asker)
        answer.decisions.extend(reached.decisions)
        if reached.decisions and reached.decisions[-1].law.stops:
            answer.detail = "resolver-failure"
            return None
        if isinstance(reached.copy, Copy):
            return reached.copy, reached
        held = version_at(zone, self.now, reached.client)
        if held is not zone and held in zone.views.values():
            answer.say(law.VIEW_ANSWERS, (reached.client, zone.name, held.name), held.place, held)
        return held, reached

    def _addresses_of(self, name: str, asker: Asker) -> list[IPAddress]:
        """A name server's addresses, resolved as any name."""
        inner = Answer()
        self.recurse(name, asker._replace(since=None), inner)
        return [record.data for record in address_records(inner.types)] if inner.detail is None else []


def ordinary_resolver(client: Machine | Vantage) -> IPAddress:
    """The ordinary resolver that a device asks: by IPv4 where it has such an address."""
    old = any(item.version == 4 for _, held in attachments(client) for item in held)
    return law.ORDINARY_RESOLVERS[0 if old else 1]


def _above(name: str) -> list[str]:
    """The names above a name."""
    found = []
    while "." in name:
        name = name.partition(".")[2]
        found.append(name)
    return found


def address_records(types: Types) -> list[Record]:
    """The address records of a node."""
    return [*types.get("AAAA", ()), *types.get("A", ())]


def within(name: str, zone: str) -> bool:
    """Whether a name is a zone's or lies below it."""
    return name == zone or name.endswith("." + zone) or zone == ""


def when(moment: datetime) -> str:
    """A moment as decisions show it."""
    return f"{moment:%Y-%m-%d %H:%M} UTC"
