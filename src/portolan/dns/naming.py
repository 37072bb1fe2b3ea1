"""A resolver's walk through the zones of the estate (RFC 1034 section 5.3.3).

It starts at the topmost zone of the estate that holds the name, and follows delegations and aliases; what it remembers
it does not ask for. What the estate does not describe is assumed to work, and said.
"""

from collections.abc import Callable
from contextlib import suppress
from datetime import datetime
from typing import Any

from portolan.dns import law
from portolan.dns.answer import Answer, Asker
from portolan.dns.forwarding import authoritative, passed_on, passes_to
from portolan.dns.memory import ASKED, ForgottenError, heard_now, remembered, together, when
from portolan.dns.servers import Reached, Servers, holders_of, program_of
from portolan.dns.signatures import judged, named_keys, set_fault, sets_of
from portolan.dns.sizes import comes
from portolan.dns.tree import Tree, above, address_records, within
from portolan.dns.versions import Held, remembered_until, same_answer, version_at
from portolan.dns.zone import Below, Cut, Found, Types, ZoneIndex
from portolan.estate.base import IPAddress, is_public
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, machines
from portolan.estate.machine import Machine
from portolan.estate.records import SERVER_PROGRAMS
from portolan.estate.service import NameServer, Resolver, Service
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Copy, Zone
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.evidence.legs import Connection
from portolan.evidence.outcome import Detail
from portolan.programs.protocol import ResolverProgram
from portolan.source.shared import Shared
from portolan.source.value import Value

#: Asks the packet engine: from (a machine, a visitor, or None for an ordinary resolver) to address, port, protocol.
Reach = Callable[[Machine | Vantage | None, IPAddress, int, str], Connection]
#: Whether some described box has the address.
Described = Callable[[IPAddress], bool]

_LONGEST = 253
#: So many answers of ordinary resolvers are kept.
_MOST_KEPT = 4096

#: What one resolver hears from another, and its client as a failure.


class _Begun(Value, frozen=True):
    """Where a resolver begins: a zone, the version held there, and who answers for it; None: the resolver itself."""

    zone: Zone
    held: Held
    server: Reached | None


def _some_refuse(estate: Estate) -> bool:
    """Whether any resolver of the estate refuses names."""
    services = (each for machine in machines(estate) for each in machine.services.values())
    return any(isinstance(each, Resolver) and bool(each.refuses) for each in services)


class Naming:
    """The estate's zones made ready, with what reaches their servers handed in."""

    def __init__(
        self,
        estate: Estate,
        now: datetime,
        reach: Reach,
        described: Described,
        ways_of: Callable[[Resolver | None], ResolverProgram],
        shared: Shared,
    ) -> None:
        self.estate = estate
        self.now = now
        self.reach = reach
        self.described = described
        self._shared = shared
        #: What resolvers do as their program does it.
        self._ways_of = ways_of
        self.tree = Tree(estate)
        boxes = (estate.routers, estate.hosts)
        self.refusing = shared.lately("refusing", boxes, lambda: _some_refuse(estate))
        self._ways: dict[tuple[int, IPAddress], Connection] = {}
        #: What ordinary resolvers found, by the name and by what they are like.
        self._ordinary: dict[tuple[str, Asker], Answer] = {}
        holders = shared.lately("holders", boxes, lambda: holders_of(estate))
        self._servers = Servers(estate, self.tree, holders, reach, described, self._addresses_of, self._way_out, now)

    def forget(self) -> None:
        """Lets go of what resolvers found; it is found again."""
        self._ordinary.clear()

    def index(self, zone: Zone, held: Held | None = None) -> ZoneIndex:
        """The index of a zone, or of a version of it; made once."""
        version = zone if held is None else held
        return self._shared.of("zone", version, lambda: ZoneIndex(zone.name, version.data))

    # -- a resolver ----------------------------------------------------------------------------------------------

    def recurse(self, name: str, asker: Asker, answer: Answer) -> None:
        """What a resolver finds for a name: the node that the aliases end at, or the failure."""
        if self._barred(name, asker, answer):
            return
        if asker.since is None or asker.since > self._moment(asker):
            self._chase(name, asker, answer, None)
            return
        parts: list[Answer] = []
        for kind in ASKED:
            if self.ways_of(asker).absence_is_of_names and parts and heard_now(parts[-1]):
                parts.append(parts[-1])
                continue
            parts.append(Answer())
            self._chase(name, asker, parts[-1], kind)
        together(parts, answer)

    def _chase(self, name: str, asker: Asker, answer: Answer, kind: str | None) -> None:
        """Follows the aliases from a name, for the records of one type or of all."""
        seen = [name]
        ways = self.ways_of(asker)
        while True:
            found = self._node(name, asker, answer, kind)
            if found is None:
                return
            step: Decision
            if isinstance(found, Below):
                target = found.renamed(name)
                record = found.record
                step = zone_kinds.Dname(record.owner, name, target, place=record.place, subject=record)
            elif "CNAME" in found.types:
                record = found.types["CNAME"][0]
                target = record.data
                step = name_kinds.Alias(name, target, place=record.place, subject=record)
            else:
                answer.types, answer.name = found.types, name
                if kind is not None:
                    answer.types = {kind: found.types[kind]} if kind in found.types else {}
                return
            if len(target) > _LONGEST:
                answer.fail(
                    Detail.RESOLVER_FAILURE,
                    zone_kinds.DnameLong(record.owner, name, place=record.place, subject=record),
                )
                return
            answer.decisions.append(step)
            answer.aliases.append(target)
            if target in seen:
                chain = " -> ".join([*seen, target])
                answer.fail(Detail.RESOLVER_FAILURE, name_kinds.AliasLoop(chain, place=record.place, subject=record))
                return
            if len(seen) > ways.most_aliases and isinstance(found, Below) and within(str(record.data), record.owner):
                # Measured: Unbound answers with the endless chain and no address, and no failure.
                answer.fail(
                    Detail.RESOLVER_FAILURE if ways.fails_on_endless else Detail.NO_ADDRESS,
                    zone_kinds.DnameEndless(record.owner, record.data, place=record.place, subject=record),
                )
                return
            if len(seen) > ways.most_aliases:
                answer.fail(
                    Detail.RESOLVER_FAILURE,
                    name_kinds.AliasLong(ways.most_aliases, place=record.place, subject=record),
                )
                return
            seen.append(target)
            name = target

    def _barred(self, name: str, asker: Asker, answer: Answer) -> bool:
        """Whether the resolver does not look the name up on purpose, which is noted."""
        service = asker.service
        if service is None or not any(within(name, each) for each in service.refuses):
            return False
        said = "that it refuses" if service.refuses_with == "refused" else "that there is no such name"
        stop = name_kinds.ResolverRefuses(asker.label, name, said, place=service.place.key("refuses"), subject=service)
        answer.fail(Detail(service.refuses_with), stop)
        return True

    # -- one name ------------------------------------------------------------------------------------------------

    def _node(self, name: str, asker: Asker, answer: Answer, kind: str | None) -> Found | Below | None:
        """The node that answers for a name, or None after the failure was noted."""
        if kind is not None:
            with suppress(ForgottenError):
                return remembered(self, name, kind, asker, answer)
        return self.fresh(name, asker, answer)

    def fresh(self, name: str, asker: Asker, answer: Answer) -> Found | Below | None:
        """The same, from no memory of the resolver's own."""
        begun = self._begun(name, asker, answer)
        if begun is None:
            return None
        return self._descended(name, begun, asker, answer) if isinstance(begun, _Begun) else begun

    def ways_of(self, asker: Asker) -> ResolverProgram:
        """What a resolver does as its program does it."""
        return self._ways_of(asker.service)

    def _moment(self, asker: Asker) -> datetime:
        return asker.at or self.now

    def _begun(self, name: str, asker: Asker, answer: Answer) -> "_Begun | Found | Below | None":
        """Where a resolver begins; or what the resolvers that it passes on to answered."""
        service, server = asker.service, None
        own = self.tree.holding(name, service) if service is not None and service.zones else None
        if own is not None and service is not None:
            answer.decisions.append(
                name_kinds.ResolverHolds(asker.label, own.name, place=service.place.key("zones"), subject=service)
            )
            zone, held = own, version_at(own, self._moment(asker), asker.client)
        elif (
            empty := next((each for each in (name, *above(name)) if each in self.ways_of(asker).empty_zones), None)
        ) is not None:
            answer.fail(Detail.NO_SUCH_NAME, name_kinds.ResolverEmptyZone(name, empty))
            return None
        elif passes_to(service, name)[0]:
            return passed_on(self, name, asker, answer)
        else:
            top = self.tree.top(name)
            if top is None:
                answer.fail(Detail.NO_SUCH_NAME, zone_kinds.Undescribed(name))
                return None
            if not self._registered(top, self._moment(asker), answer):
                return None
            reached = self._reached(name, top, None, None, asker, answer)
            if reached is None:
                return None
            zone, (held, server) = top, reached
        return _Begun(zone, held, server)

    def _descended(self, name: str, begun: "_Begun", asker: Asker, answer: Answer) -> Found | Below | None:
        """Down the delegations from where the resolver began."""
        zone, held, server = begun.zone, begun.held, begun.server
        secure, parent = True, None
        while True:
            service = server.service if server is not None else None
            deeper = self._stepped(name, zone, held, server, asker)
            if deeper is not None:
                answer.decisions.append(
                    zone_kinds.ServerHoldsDeeper(zone.name, deeper.name, name, place=deeper.place, subject=deeper)
                )
                parent = held.data
                client = server.client if server is not None else None
                zone, held = deeper, version_at(deeper, self._moment(asker), client)
                continue
            named = named_keys(zone, parent) if secure and asker.validates else ()
            secure = bool(named)
            if named:
                slack = self.ways_of(asker).signature_slack
                verdict = judged(zone, held.data, named, self._moment(asker), self._shared, slack)
                answer.decisions.append(verdict)
                if verdict.stops:
                    answer.detail = Detail.RESOLVER_FAILURE
                    return None
            found = self.look(name, zone, held, answer, service)
            if named and found is not None and self._unsigned(name, zone, held, found, asker, answer):
                return None
            if not isinstance(found, Cut):
                return found if comes(self, name, found, server, asker, answer) else None
            child = self.estate.zones.get(found.name)
            if child is None:
                self._beyond(name, found, zone, held, answer)
                return None
            below = self._reached(name, child, found, zone, asker, answer)
            if below is None:
                return None
            parent = held.data
            zone, (held, server) = child, below

    def _unsigned(
        self, name: str, zone: Zone, held: Held, found: Found | Below | Cut, asker: Asker, answer: Answer
    ) -> bool:
        """Whether a set of records that the answer needs has no signature that holds now, which is noted."""
        moment, slack = self._moment(asker), self.ways_of(asker).signature_slack
        for owner, kind, records in sets_of(name, found, held.data):
            fault = set_fault(zone.name, held.data, owner, kind, records, moment, self._shared, slack)
            if fault is not None:
                stop = zone_kinds.SetUnsigned(kind, owner, fault, place=records[0].place, subject=zone)
                answer.fail(Detail.RESOLVER_FAILURE, stop)
                return True
        return False

    def _stepped(self, name: str, zone: Zone, held: Held, server: Reached | None, asker: Asker) -> Zone | None:
        """The next zone down that a server answers from, without a delegation; None where it answers from this one.

        RFC 1034 section 4.3.2, step 2: the nearest zone that a server holds answers. Resolvers ask label by label (RFC 9156),
        so that a delegation on the way leads to whoever it names.
        """
        service = server.service if server is not None else None
        if server is None or not isinstance(service, NameServer | Resolver) or zone.name not in self.tree.parents:
            return None
        if zone.name not in service.zones or self._servers.refuses(zone, service, server.client, asker):
            deepest = self.tree.holding(name, service)
            return deepest if deepest is not zone else None
        index = self.index(zone, held)
        for step in reversed([name, *above(name)]):
            if len(step) > len(zone.name) and within(step, zone.name):
                if step in service.zones:
                    return self.estate.zones[step]
                cut = index.look(step)
                if isinstance(cut, Cut) and cut.name == step:
                    return None
        return None

    def look(
        self, name: str, zone: Zone, held: Held, answer: Answer, server: Service | None
    ) -> Found | Below | Cut | None:
        """What one version of a zone says about a name; None after the failure was noted."""
        if held.data.defects and not self._loads(zone, held, server, answer):
            return None
        answer.zone = zone.name
        found = self.index(zone, held).look(name)
        if isinstance(found, Cut):
            servers = ", ".join(record.data for record in found.servers)
            answer.decisions.append(
                zone_kinds.Delegated(
                    zone.name, found.name, servers, place=found.servers[0].place, subject=found.servers[0]
                )
            )
            return found
        if isinstance(found, Below):
            return found
        if zone.apex_alias is not None and name == zone.name:
            alias = self._apex_alias(zone, found, answer)
            if alias is not None:
                return alias
        missing = self.tree.undelegated(name, zone)
        if missing is not None:
            answer.decisions.append(
                zone_kinds.DelegationMissing(zone.name, missing.name, place=zone.place, subject=missing)
            )
        if found is None:
            answer.fail(Detail.NO_SUCH_NAME, zone_kinds.NoSuchName(zone.name, name, place=held.place, subject=zone))
            return None
        if found.wildcard is not None and found.types:
            record = next(iter(found.types.values()))[0]
            answer.decisions.append(zone_kinds.Wildcard(name, found.wildcard, place=record.place, subject=record))
        self._lately(name, zone, held, found.types, answer)
        return found

    def _loads(self, zone: Zone, held: Held, server: Service | None, answer: Answer) -> bool:
        """Whether the server that answers has loaded its version of a zone; where programs differ, what is assumed is told."""
        program = program_of(server)
        defect = held.data.defect_for(program)
        if defect is not None:
            facts = (zone.name, defect.text, defect.record.text.strip())
            stop = zone_kinds.ZoneBroken(*facts, place=defect.record.place, subject=zone)
            answer.fail(Detail.RESOLVER_FAILURE, stop)
            return False
        doubt = held.data.doubt() if program is None else None
        if doubt is not None:
            told = (zone.name, doubt.text, ", ".join(each for each in SERVER_PROGRAMS if each in doubt.refused_by))
            answer.decisions.append(zone_kinds.LoadAssumed(*told, place=doubt.record.place, subject=zone))
        return True

    def _beyond(self, name: str, cut: Cut, zone: Zone, held: Held, answer: Answer) -> None:
        """A delegation out of the estate: to servers that cannot be found, or to what nobody describes."""
        servers = [record.data for record in cut.servers]
        if all(within(each, cut.name) and not address_records(held.data.nodes.get(each, {})) for each in servers):
            reasons = "; ".join(f"{each} has no address" for each in servers)
            answer.fail(
                Detail.RESOLVER_FAILURE,
                zone_kinds.ServersFail(cut.name, reasons, place=cut.servers[0].place, subject=zone),
            )
        else:
            answer.fail(Detail.NO_SUCH_NAME, zone_kinds.Undescribed(name))

    def _lately(self, name: str, zone: Zone, held: Held, types: Types, answer: Answer) -> None:
        """Says until when others may still get what stood here before a change."""
        if held is not zone:
            if held in zone.before:
                answer.decisions.append(
                    zone_kinds.BeforeAnswers(
                        zone.name, when(zone.before[zone.before.index(held)].until), place=held.place, subject=held
                    )
                )
            return
        for before in zone.before:
            index = self.index(zone, before)
            old = index.look(name)
            old_types = old.types if isinstance(old, Found) else None
            until = remembered_until(index, old_types, before.until, self._ways_of(None))
            if until > self.now and not same_answer(old_types, types):
                answer.decisions.append(
                    zone_kinds.ChangedLately(name, when(before.until), when(until), place=before.place, subject=before)
                )
                return

    def _apex_alias(self, zone: Zone, found: Found | None, answer: Answer) -> Found | None:
        """The provider's servers look the target up themselves, as an ordinary resolver would."""
        target = str(zone.apex_alias)
        answer.decisions.append(
            zone_kinds.ApexAlias(zone.name, target, place=zone.place.key("apex_alias"), subject=zone)
        )
        if zone.name in answer.aliases:
            return None
        inner = Answer()
        inner.aliases = [*answer.aliases, zone.name]
        self.recurse(target, Asker(f"the servers of {zone.name}"), inner)
        if inner.detail is not None:
            return None
        own = found.types if found is not None else {}
        return Found({**own, **{kind: inner.types[kind] for kind in ("A", "AAAA") if kind in inner.types}})

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
        at: datetime | None = None,
    ) -> None:
        """Puts a question to whoever has an address; the packets must reach it."""
        label = client if isinstance(client, str) else client.name
        if is_public(address) and not self.described(address):
            asker = Asker("an ordinary resolver", validates=validates, since=since, at=at, passed=passed)
            self.ask_ordinary(name, client, address, asker, place, answer)
            return
        connection = self.reach(None if isinstance(client, str) else client, address, 53, "udp")
        if connection.arrival is None:
            reason = connection.stop.text if connection.stop is not None else "no answer"
            closed = connection.detail is Detail.REFUSED
            kind = name_kinds.ResolverClosed if closed else name_kinds.ResolverSilent
            answer.fail(
                Detail.RESOLVER_FAILURE if closed else Detail.RESOLVER_TIMEOUT,
                kind(label, address, reason, place=place, subject=connection.stop, beside=connection.decisions),
            )
            return
        machine, service, read = connection.arrival.machine, connection.arrival.service, connection.decisions
        if isinstance(service, Resolver | NameServer):
            facts = (label, address, machine.name)
            answer.decisions.append(name_kinds.ResolverAsked(*facts, place=service.place, subject=service, beside=read))
        if isinstance(service, Resolver):
            source = connection.arrival.source
            asker = Asker(
                machine.name,
                machine,
                service,
                source,
                service.checks_signatures or validates,
                service.last_asked or since,
                at,
                passed,
            )
            self.recurse(name, asker, answer)
            if service.drops_private and answer.detail is None:
                self._without_private(name, service, answer)
        elif isinstance(service, NameServer):
            authoritative(self, name, service, connection.arrival.source, answer)
        else:
            facts = (label, address, f"{service.name} on {machine.name} is no DNS server")
            answer.fail(
                Detail.RESOLVER_FAILURE, name_kinds.ResolverClosed(*facts, place=place, subject=service, beside=read)
            )

    def _without_private(self, name: str, service: Resolver, answer: Answer) -> None:
        """Rebind protection: addresses that the internet does not carry are taken out of what others said."""
        if any(within(name, each) for each in service.may_be_private) or self.tree.holding(name, service) is not None:
            return
        kept = dict(answer.types)
        dropped = []
        for kind in ("A", "AAAA"):
            held = kept.pop(kind, ())
            left = tuple(record for record in held if is_public(record.data))
            dropped += [record for record in held if record not in left]
            if left:
                kept[kind] = left
        if dropped and not address_records(kept):
            record = dropped[0]
            stop = name_kinds.PrivateDropped(
                service.name,
                name,
                record.data,
                place=service.place.key("drops_private"),
                subject=service,
                beside=(record,),
            )
            answer.fail(Detail.NO_ADDRESS, stop)
        answer.types = kept

    def ask_ordinary(
        self, name: str, client: Machine | Vantage | str, address: IPAddress, asker: Asker, place: Any, answer: Answer
    ) -> None:
        """Puts a question to a resolver on the internet that nobody describes; the packets must reach it there and back."""
        label = client if isinstance(client, str) else client.name
        read: tuple[Decision, ...] = ()
        if not isinstance(client, str):
            way = self._way_to(client, address)
            read, lost = way.decisions, _lost(way)
            if lost is not None:
                facts = (label, address, lost.text)
                answer.fail(
                    Detail.RESOLVER_TIMEOUT,
                    name_kinds.ResolverOutOfReach(*facts, place=place, subject=lost, beside=read),
                )
                return
        kind = name_kinds.ResolverValidating if asker.validates else name_kinds.ResolverOrdinary
        answer.decisions.append(kind(label, place=place, beside=read))
        if asker.machine is not None or asker.since is not None:
            self.recurse(name, asker, answer)
            return
        # One that nobody describes finds the same for everybody who asks it.
        key = (name, asker)
        found = self._ordinary.get(key)
        if found is None:
            if len(self._ordinary) >= _MOST_KEPT:
                self._ordinary.clear()
            found = self._ordinary[key] = Answer()
            self.recurse(name, asker, found)
        answer.take(found)

    def _way_out(self, machine: Machine) -> Decision | None:
        """What keeps a machine's questions from servers on the internet that nobody describes."""
        return _lost(self._way_to(machine, ordinary_resolver(machine)))

    def _way_to(self, client: Machine | Vantage, address: IPAddress) -> Connection:
        """How a device's questions come to a resolver on the internet, and its answers back."""
        key = (id(client), address)
        if key not in self._ways:
            self._ways[key] = self.reach(client, address, 53, "udp")
        return self._ways[key]

    # -- where zones are -----------------------------------------------------------------------------------------

    def _registered(self, zone: Zone, moment: datetime, answer: Answer) -> bool:
        """Whether the parent zone still delegates it."""
        if zone.on_hold:
            place = zone.place.key("on_hold")
            answer.fail(Detail.NO_SUCH_NAME, zone_kinds.RegistrationHeld(zone.name, place=place, subject=zone))
            return False
        if zone.registered_until is not None and moment >= zone.registered_until:
            place = zone.place.key("registered_until")
            facts = (zone.name, when(zone.registered_until))
            answer.fail(Detail.NO_SUCH_NAME, zone_kinds.RegistrationLapsed(*facts, place=place, subject=zone))
            return False
        return True

    def _reached(
        self, name: str, zone: Zone, cut: Cut | None, parent: Zone | None, asker: Asker, answer: Answer
    ) -> tuple[Held, Reached] | None:
        """The version with which the zone's servers answer, and how they were reached; None after the failure was noted."""
        reached: Reached = self._servers.reached(zone, cut, parent, asker, self.tree.between(name, zone))
        answer.decisions.extend(reached.decisions)
        if reached.decisions and reached.decisions[-1].stops:
            empty = reached.lame and self.ways_of(asker).referred_is_empty
            answer.detail = Detail.NO_ADDRESS if empty else Detail.RESOLVER_FAILURE
            return None
        if isinstance(reached.copy, Copy):
            return reached.copy, reached
        held = version_at(zone, self._moment(asker), reached.client)
        if held is not zone and held in zone.views.values():
            answer.decisions.append(
                zone_kinds.ViewAnswers(reached.client, zone.name, held.name, place=held.place, subject=held)
            )
        return held, reached

    def _addresses_of(self, name: str, asker: Asker) -> list[IPAddress]:
        """A name server's addresses, resolved as any name."""
        inner = Answer()
        self.recurse(name, asker.but(since=None), inner)
        if inner.aliases and not self.ways_of(asker).server_may_be_alias:
            return []
        return [record.data for record in address_records(inner.types)] if inner.detail is None else []


def ordinary_resolver(client: Machine | Vantage) -> IPAddress:
    """The ordinary resolver that a device asks: by IPv4 where it has such an address."""
    old = any(item.version == 4 for _, held in attachments(client) for item in held)
    return law.ORDINARY_RESOLVERS[0 if old else 1]


def _lost(way: Connection) -> Decision | None:
    """Why a question or its answer does not arrive; None when both do."""
    return way.stop if way.arrival is None else None
