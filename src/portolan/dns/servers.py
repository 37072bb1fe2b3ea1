"""A zone's servers: whom the delegation names, where they are, and whether they answer for the zone."""

from collections.abc import Callable
from datetime import datetime
from typing import Any

from portolan.dns import law
from portolan.dns.answer import Asker
from portolan.dns.tree import Tree, within
from portolan.dns.versions import version_at
from portolan.dns.zone import Cut
from portolan.estate.base import HostName, IPAddress, is_public
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.records import Record, ServerProgram
from portolan.estate.service import NameServer, Resolver, Service
from portolan.estate.zone import Copy, Zone
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.evidence.legs import Connection
from portolan.source.value import Value

#: What the estate itself puts between a question and a server.
_BARRED = (
    connect_kinds.FilterDrops,
    connect_kinds.FilterRejects,
    connect_kinds.GroupDrops,
    connect_kinds.ListDrops,
    connect_kinds.NeighbourUnheard,
)


class Reached(Value, frozen=True):
    """The way to a zone's servers: what was decided, the version that they hold, the asker as they see it, and who answers."""

    decisions: tuple[Decision, ...]
    copy: Copy | None = None
    client: IPAddress | None = None
    service: NameServer | Resolver | None = None
    #: Where the zone's servers are.
    targets: tuple[IPAddress, ...] = ()
    #: Whether all that answered hold the zone above alone, and refer to themselves.
    lame: bool = False


#: All that decides which server answers: the zone, the delegation that leads to it, its parent, and who asks.
_Key = tuple[object, ...]


#: By a zone's name: the machines whose name servers hold it.
Holders = dict[str, list[tuple[Machine, Service]]]


def _key_of(zone: Zone, cut: Cut | None, parent: Zone | None, asker: Asker) -> _Key:
    named = tuple(map(id, cut.servers)) if cut is not None else None
    above = parent.name if parent is not None else None
    # What is remembered of the asked name does not count where servers are looked for.
    return (zone.name, named, above, asker.label, asker.machine, asker.service, asker.client, asker.validates, asker.at)


def holders_of(estate: Estate) -> Holders:
    """Who holds each zone."""
    found: Holders = {}
    for machine in machines(estate):
        for service in machine.services.values():
            if isinstance(service, NameServer):
                for zone in service.zones:
                    found.setdefault(zone, []).append((machine, service))
    return found


class Servers:
    """Finds a server for a zone; each zone is tried once for each asker."""

    def __init__(
        self,
        estate: Estate,
        tree: Tree,
        holders: Holders,
        reach: Callable[[Any, IPAddress, int, str], Connection],
        described: Callable[[IPAddress], bool],
        resolve: Callable[[str, Asker], list[IPAddress]],
        way_out: Callable[[Machine], Decision | None],
        now: datetime,
    ) -> None:
        self._estate = estate
        self._tree = tree
        self._now = now
        self._reach = reach
        self._described = described
        self._resolve = resolve
        self._way_out = way_out
        self._known: dict[_Key, Reached] = {}
        self._walking: set[_Key] = set()
        #: Whether a zone was met again while its own servers were looked for.
        self._in_circle = False
        self._holders = holders

    def reached(
        self, zone: Zone, cut: Cut | None, parent: Zone | None, asker: Asker, below: tuple[str, ...] = ()
    ) -> Reached:
        """Whether some server of the zone, as the delegation names them, answers the asker for it.

        `below` names the zones further down that hold the name asked for: a server of one of those answers too.
        """
        key = (*_key_of(zone, cut, parent, asker), below)
        found = self._known.get(key)
        if found is None:
            if key in self._walking:
                # RFC 9471: without glue nobody gets in where every zone's servers are named in another that needs them.
                self._in_circle = True
                facts = (zone.name, "its servers are named in zones whose servers are named in it")
                return Reached((zone_kinds.ServersFail(*facts, place=zone.place, subject=zone),))
            self._walking.add(key)
            found = self._try(zone, cut, parent, asker, below)
            self._walking.discard(key)
            if not self._walking:
                self._in_circle = False
            if not self._in_circle:  # what was found inside a circle holds for where it was entered only
                self._known[key] = found
        return found

    def _try(self, zone: Zone, cut: Cut | None, parent: Zone | None, asker: Asker, below: tuple[str, ...]) -> Reached:
        holders = self._holders.get(zone.name, [])
        named = tuple(record.data for record in cut.servers) if cut is not None else zone.delegated_to
        addresses = {name: self._addresses(name, zone, parent, asker) for name in named}
        copy = next((each for each in zone.copies.values() if set(named) & set(each.servers)), None)
        if copy is not None and not any(
            self._described(each) for name in copy.servers for each in addresses.get(name, ())
        ):
            server = next(name for name in named if name in copy.servers)
            decision = zone_kinds.CopyAnswers(server, zone.name, copy.name, place=copy.place, subject=copy)
            return Reached((decision,), copy, self._seen_as(zone, asker))
        if not holders and not any(self._described(each) for found in addresses.values() for each in found):
            nobody = self._undescribed(zone, cut, asker, addresses)
            if nobody is not None:
                return nobody
        decisions: list[Decision] = []
        if named:
            targets = [(name, address) for name in named for address in addresses[name]]
            reasons = [f"{name} has no address" for name in named if not addresses[name]]
        else:
            decisions.append(zone_kinds.DelegationAssumed(zone.name, place=zone.place, subject=zone))
            every = [
                (machine.name, address)
                for machine, service in holders
                for address in listening_addresses(machine, service)
            ]
            targets = [each for each in every if is_public(each[1])] or every
            reasons = []
        return self._asked(zone, cut, asker, targets, (decisions, reasons), below)

    def _undescribed(
        self, zone: Zone, cut: Cut | None, asker: Asker, addresses: dict[HostName, list[IPAddress]]
    ) -> Reached | None:
        """A zone that no described box serves: assumed to be served, unless all that its delegation names leads nowhere.

        None where the registration gives addresses that the zone itself contradicts: those are asked, in vain.
        """
        named = list(addresses)
        astray = [name for name in named if name in zone.glue and not self._right_glue(name, zone)]
        # An address that the internet does not carry leads nowhere too (RFC 1918 section 3). What a parent zone of the
        # estate says without glue is taken for an omission of the estate's.
        nowhere = [
            name
            for name in named
            if not any(map(is_public, addresses[name]))
            and (addresses[name] or (self._tree.top(name) and (cut is None or not within(name, zone.name))))
        ]
        if named and len(nowhere) == len(named):
            missing = "; ".join(f"no public address is found for {name}" for name in nowhere)
            place = zone.place.key("delegated_to") if cut is None else cut.servers[0].place
            return Reached((zone_kinds.ServersFail(zone.name, missing, place=place, subject=zone),))
        if named and len({*astray, *nowhere}) == len(named):
            return None
        closed = self._way_out(asker.machine) if asker.machine is not None else None
        if closed is not None:
            facts = (zone.name, f"{asker.label} gets no question out to the internet: {closed.text}")
            return Reached((zone_kinds.ServersFail(*facts, place=zone.place, subject=closed, beside=(zone,)),))
        if zone.provided is not None:
            from portolan.evidence.kinds import edge as edge_kinds

            made_up = edge_kinds.EdgeAddressAssumed(zone.name, place=zone.place, subject=zone)
            return Reached((made_up,) if zone.provided == "made-up" else (), None, self._seen_as(zone, asker))
        assumed = zone_kinds.ZoneAssumed(zone.name, place=zone.place, subject=zone)
        return Reached((assumed,), None, self._seen_as(zone, asker))

    def _asked(
        self,
        zone: Zone,
        cut: Cut | None,
        asker: Asker,
        targets: list[tuple[str, IPAddress]],
        noted: tuple[list[Decision], list[str]],
        below: tuple[str, ...],
    ) -> Reached:
        """The first server that answers for the zone, of names and addresses; else why none does."""
        decisions, reasons = noted
        refusing: Reached | None = None
        barred: Decision | None = None
        # That a box of the estate holds the zone decides that nobody else is assumed to.
        read: list[object] = [service for _, service in self._holders.get(zone.name, [])]
        heard = lame = 0
        for name, address in targets:
            connection = self._reach(asker.machine, address, 53, "udp")
            if connection.arrival is None:
                barred = barred or (connection.stop if isinstance(connection.stop, _BARRED) else None)
                reason = connection.stop.text if connection.stop is not None else "no answer"
                reasons.append(f"{name} ({address}): {reason}")
                read += connection.decisions
            elif not isinstance(connection.arrival.service, NameServer | Resolver) or not (
                {zone.name, *below} & set(connection.arrival.service.zones)
            ):
                reasons.append(f"{name} ({address}) does not hold the zone")
                heard += 1
                lame += _holds_above(zone, connection.arrival.service)
                read += (*connection.decisions, connection.arrival.service)
            else:
                service, source = connection.arrival.service, connection.arrival.source
                answers = zone_kinds.ServerAnswers(
                    name,
                    address,
                    zone.name,
                    place=service.place,
                    subject=service,
                    beside=(zone, *read, *connection.decisions),
                )
                every = tuple(each for _, each in targets)
                reached = Reached((*decisions, answers), None, source, service, every)
                # RFC 2308 section 7.1: a server that has not loaded the zone says that it fails; others are asked.
                deeper = bool(set(below) & set(service.zones))
                if deeper or zone.name not in service.zones or not self.refuses(zone, service, source, asker):
                    return reached
                refusing = refusing or reached
        if refusing is not None:
            return refusing
        place = zone.place.key("delegated_to") if cut is None else cut.servers[0].place
        facts = (zone.name, "; ".join(reasons))
        decisions.append(zone_kinds.ServersFail(*facts, place=place, subject=barred or zone, beside=(zone, *read)))
        return Reached(tuple(decisions), lame=0 < heard == lame)

    def refuses(self, zone: Zone, service: Service, source: IPAddress | None, asker: Asker) -> bool:
        """Whether a server has not loaded the version of a zone that it would answer with."""
        held = version_at(zone, asker.at or self._now, source).data
        return bool(held.defects) and held.defect_for(program_of(service)) is not None

    def _right_glue(self, name: str, zone: Zone) -> bool:
        own = {record.data for record in _records(zone, name)}
        return not own or bool(own & set(zone.glue[_key(zone, name)]))

    def _addresses(self, name: str, zone: Zone, parent: Zone | None, asker: Asker) -> list[IPAddress]:
        """A name server's addresses: the parent's glue, the zone's own records, or resolved as any name.

        What is said of a server outside of the zone beside the zone's delegation is a hint (RFC 2181 section 5.4.1): where it does not
        lead there, resolvers look the name up.
        """
        if name in zone.glue:
            return list(zone.glue[_key(zone, name)])
        sibling = self._sibling_glue(name) if parent is None else None
        if sibling is not None:
            return self._and_looked_up(sibling, name, asker)
        if parent is not None and within(name, parent.name):
            glue = [record.data for record in _records(parent, name)]
            if within(name, zone.name):
                return glue
            if glue:
                return self._and_looked_up(glue, name, asker)
        if within(name, zone.name):
            return [record.data for record in _records(zone, name)]
        return self._resolve(name, asker)

    def _and_looked_up(self, hinted: list[IPAddress], name: str, asker: Asker) -> list[IPAddress]:
        return list(dict.fromkeys([*hinted, *self._resolve(name, asker)]))

    def _sibling_glue(self, name: str) -> list[IPAddress] | None:
        """What the registration of another zone gives for a server: the servers above hand it out too (RFC 9471 section 3.2)."""
        for zone in self._estate.zones.values():
            if name in zone.glue and self._tree.top(zone.name) is zone:
                return list(zone.glue[_key(zone, name)])
        return None

    def _seen_as(self, zone: Zone, asker: Asker) -> IPAddress | None:
        """The asker's address as servers on the internet see it; only zones with views make a difference of it."""
        if not zone.views or asker.machine is None:
            return None
        return self._reach(asker.machine, law.SOMEWHERE, 53, "udp").seen_from


def _holds_above(zone: Zone, service: Service) -> bool:
    """Whether a server holds a zone above this one: it answers with the delegation to itself."""
    return isinstance(service, NameServer) and any(within(zone.name, each) for each in service.zones)


def _key(zone: Zone, name: str) -> Any:
    return next(each for each in zone.glue if each == name)


def _records(zone: Zone, name: str) -> list[Record]:
    types = zone.data.nodes.get(name, {})
    return [*types.get("A", ()), *types.get("AAAA", ())]


def program_of(service: Service | None) -> ServerProgram | None:
    """The program that a name server is said to run."""
    return service.program if isinstance(service, NameServer) else None


def listening_addresses(machine: Machine, service: Service) -> list[IPAddress]:
    """The addresses of a machine at which a service listens."""
    wanted = {
        listener.address for listener in service.listens if listener.address is not None and int(listener.address)
    }
    return [address for address in machine.addresses if not wanted or address in wanted]
