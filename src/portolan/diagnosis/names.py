"""Faults of names."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import (
    Case,
    Finding,
    all_homes,
    asked_name,
    fault,
    inside_addresses,
    leads_home,
    origin_of,
    outside_addresses,
    zone_asked,
    zone_of,
)
from portolan.diagnosis.proposal import (
    Proposal,
    add_record,
    drop_record,
    item_path,
    owner_in,
    remedy,
    remove,
    swap_record,
)
from portolan.dns.tree import within
from portolan.estate.base import IPAddress, is_public
from portolan.estate.guesses import machines
from portolan.estate.machine import HostsLine, Router
from portolan.estate.records import Record
from portolan.estate.service import zones_of
from portolan.estate.zone import Zone
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.source.nearest import nearest


class MissingClue(msgspec.Struct, frozen=True):
    """The name that is wanted, its zone, and one that is spelled nearly so."""

    zone: Zone | None
    name: str
    near: str | None = None


class RecordClue(msgspec.Struct, frozen=True):
    """The record that is wrong, and its zone."""

    record: Record
    zone: Zone | None


class DoubledClue(msgspec.Struct, frozen=True):
    """The record whose name is wrong, its zone, and the name that was meant."""

    record: Record
    zone: Zone
    name: str


class LineClue(msgspec.Struct, frozen=True):
    """A line of a hosts file."""

    line: HostsLine


class TypedClue(msgspec.Struct, frozen=True):
    """What was meant, and the address typed."""

    near: str | None
    literal: IPAddress


@fault(
    "name-doubled-origin",
    "A final dot is missing, and the name became NAME.ZONE.ZONE",
    "no such name",
    "In a master file a name without a final dot gets the zone's name appended. Write the dot, or the short name.",
    "no-such-name",
)
def doubledorigin_of(case: Case) -> Finding | None:
    """The zone holds the name with the zone's own name appended once more."""
    zone = zone_asked(case)
    if zone is None:
        return None
    doubled = f"{asked_name(case)}.{zone.name}"
    held = zone.data.nodes.get(doubled)
    if held is None:
        return None
    record = next(iter(held.values()))[0]
    text = f"the record made for {asked_name(case)} is named {doubled}: its final dot is missing"
    return Finding(
        "name-doubled-origin", text, zone.place, clue=DoubledClue(record=record, zone=zone, name=asked_name(case))
    )


@fault(
    "name-alias-dangling",
    "The alias leads to a name that does not exist",
    "no such name",
    "Point the alias at a name that exists, or make the name that it leads to.",
    "no-such-name",
    "undescribed",
)
def alias_dangling(case: Case) -> Finding | None:
    """The name exists, as an alias of one that does not."""
    aliases = case.exchange.resolution.aliases
    link = case.decision(name_kinds.Alias)
    if not aliases or link is None or not isinstance(link.subject, Record):
        return None
    record = link.subject
    text = f"{record.owner} is an alias of {record.data}, which does not exist"
    return Finding("name-alias-dangling", text, record.place, clue=_about(case, record))


@fault(
    "name-missing",
    "No record makes this name",
    "no such name",
    'Make the record in the zone that the world asks, or ask for the name that exists. The answer "no such name" is '
    "remembered by resolvers for the time that the zone's SOA record says.",
    "no-such-name",
    "undescribed",
)
def missing(case: Case) -> Finding | None:
    """Nothing in the zone has the name."""
    asked = asked_name(case)
    zone = zone_asked(case)
    if zone is None:
        close = nearest(asked.split(".", 1)[-1], case.estate.zones) or nearest(asked, case.estate.zones)
        near = f"; the estate has the zone {close}" if close else ""
        return Finding(
            "name-missing", f"no zone of the estate holds {asked}{near}", None, clue=MissingClue(zone=None, name=asked)
        )
    owners = [owner for owner, types in zone.data.nodes.items() if {"A", "AAAA", "CNAME"} & set(types)]
    close = nearest(asked, owners) or _namesake(case, asked, zone)
    near = f"; {close} exists" if close else ""
    return Finding(
        "name-missing",
        f"the zone {zone.name} has no record named {asked}{near}",
        zone.place,
        clue=MissingClue(zone=zone, name=asked, near=close),
    )


def _namesake(case: Case, asked: str, zone: Zone) -> str | None:
    """The same name in another zone of the estate."""
    first = asked.removesuffix(zone.name)
    for other in case.estate.zones.values():
        if other is not zone and {"A", "AAAA", "CNAME"} & set(other.data.nodes.get(first + other.name, ())):
            return first + other.name
    return None


@fault(
    "name-wildcard-hides",
    "A wildcard answers for a name that was never made, or a name that exists stops the wildcard",
    "another site, or no such name",
    "Make the record: a wildcard stands only where neither the name nor anything below it exists.",
    "no-such-name",
    "no-address",
    "wrong-page",
    "not-found",
    "no-index-file",
    "name-mismatch",
    "nothing-listens",
    "internet-unknown",
    "neighbour-missing",
    "answers-error",
)
def wildcard_hides(case: Case) -> Finding | None:
    """The answer came from a wildcard and leads elsewhere; or the zone has a wildcard that does not reach the name."""
    zone, name = zone_asked(case), asked_name(case)
    if zone is None:
        return None
    expanded = case.decision(zone_kinds.Wildcard)
    clue = MissingClue(zone=zone, name=name)
    if expanded is not None:
        if leads_home(case) or not case.homes() or case.decision(connect_kinds.Forwarded) is not None:
            return None
        text = f"{name} was never made in the zone {zone.name}: the wildcard {expanded.wildcard} answers for it"
        return Finding("name-wildcard-hides", text, expanded.place, clue=clue)
    if case.stop is None or not isinstance(case.stop, zone_kinds.NoSuchName | zone_kinds.NoAddress):
        return None
    above = name
    while above != zone.name and above:
        if "." not in above:
            break
        above = above.partition(".")[2]
        types = zone.data.nodes.get(f"*.{above}", {})
        if {"A", "AAAA", "CNAME"} & set(types):
            record = next(iter(types.values()))[0]
            text = f"the wildcard *.{above} does not answer for {name}: {_stops(zone, name, above)} exists"
            return Finding("name-wildcard-hides", text, record.place, clue=clue)
    return None


def _stops(zone: Zone, name: str, above: str) -> str:
    """The name that exists between a wildcard and the name asked for (RFC 4592 section 3.3.1)."""
    while name != above:
        if name in zone.data.nodes or any(each.endswith("." + name) for each in zone.data.nodes):
            return name
        name = name.partition(".")[2]
    return name


@fault(
    "name-wrong-type",
    "The name has records, and none gives an address",
    "no address",
    "Add an A or AAAA record for the name.",
    "no-address",
    "no-source",
    "no-route",
)
def wrong_type(case: Case) -> Finding | None:
    """The name exists without an address, or without one of the IP version that the visitor has."""
    zone = zone_asked(case)
    stop = case.stop
    if stop is not None and not isinstance(stop, zone_kinds.NoAddress):
        origin, own = origin_of(case), {each.version for each in case.device.local}
        if not isinstance(origin, Record) or not own or origin.data.version in own:
            return None
        if any(each.version in own for each in case.exchange.resolution.addresses):
            return None
        text = f"{origin.owner} has an IPv{origin.data.version} address only, and {case.client.name} has IPv{min(own)} only"
        return Finding("name-wrong-type", text, origin.place, clue=MissingClue(zone=zone, name=origin.owner))
    text = stop.text if stop is not None else ""
    return Finding(
        "name-wrong-type", text, stop.place if stop else None, clue=MissingClue(zone=zone, name=asked_name(case))
    )


@fault(
    "name-alias-loop",
    "Aliases go in a circle, or their chain is too long",
    "the resolver fails",
    "Give the last name of the chain an address.",
    "alias-loop",
    "alias-long",
    "dname-endless",
)
def alias_loop(case: Case) -> Finding | None:
    """The resolver gave up on the aliases."""
    stop = case.stop
    if stop is None or not isinstance(stop.subject, Record):
        return None
    record = stop.subject
    return Finding("name-alias-loop", stop.text, record.place, clue=_about(case, record))


def _about(case: Case, record: Record) -> RecordClue:
    return RecordClue(record=record, zone=zone_of(case.estate, record.owner))


@fault(
    "name-alias-at-apex",
    "An alias stands where other records must stand, and the zone does not load",
    "the resolver fails",
    "Replace the alias by address records.",
    "zone-broken",
)
def alias_at_apex(case: Case) -> Finding | None:
    """A CNAME beside other data."""
    stop, record = case.stop, _refused_record(case)
    if stop is None or record is None or record.type != "CNAME" or not isinstance(stop.subject, Zone):
        return None
    return Finding("name-alias-at-apex", stop.text, stop.place, clue=RecordClue(record=record, zone=stop.subject))


def _refused_record(case: Case) -> Record | None:
    """The record for which a zone is not loaded."""
    node = case.stop.place.node if case.stop is not None and case.stop.place is not None else None
    return node if isinstance(node, Record) else None


@fault(
    "name-zone-refused",
    "The zone's servers refuse to load it",
    "the resolver fails, for every name of the zone",
    "Mend the record that the server's log names; check a zone before it is loaded.",
    "zone-broken",
)
def zone_refused(case: Case) -> Finding | None:
    """Something else than an alias beside other data."""
    stop, record = case.stop, _refused_record(case)
    if stop is None or record is None or record.type == "CNAME" or not isinstance(stop.subject, Zone):
        return None
    return Finding("name-zone-refused", stop.text, stop.place, clue=RecordClue(record=record, zone=stop.subject))


@fault(
    "name-hosts-override",
    "A line left behind in a hosts file",
    "another address, on one machine only",
    "Take the line out of that machine's hosts file.",
    "internet-unknown",
    "internet-private",
    "neighbour-missing",
    "nothing-listens",
    "wrong-page",
    "no-route",
    "name-mismatch",
)
def hosts_override(case: Case) -> Finding | None:
    """The address came from a hosts file, and the resolver would say another."""
    origin = origin_of(case)
    if not isinstance(origin, HostsLine) or leads_home(case):
        return None
    text = f"the hosts file says that {case.host} is {origin.address}, before any resolver is asked"
    return Finding("name-hosts-override", text, origin.place, clue=LineClue(line=origin))


@fault(
    "name-private-address",
    "A private address in the public zone",
    "works inside, hangs outside",
    "Give the name the public address; serve the private one to the inside only.",
    "internet-private",
    "neighbour-missing",
    "no-route",
)
def private_address(case: Case) -> Finding | None:
    """The record's address is not public, and the visitor is elsewhere."""
    origin = origin_of(case)
    if not isinstance(origin, Record) or is_public(origin.data):
        return None
    asker = case.device
    if any(origin.data in subnet for port in asker.ports for subnet in port.network.subnets):
        return None  # the asker is inside, where the address works
    if (
        case.stop is not None
        and isinstance(case.stop, connect_kinds.NeighbourMissing)
        and case.world.topology.holder(origin.data) is None
    ):
        return None
    text = f"{origin.owner} is {origin.data} in the public zone, which no packet from outside reaches"
    return Finding("name-private-address", text, origin.place, clue=_about(case, origin))


@fault(
    "name-wrong-address",
    "The name's address is not where the site is",
    "a time-out, a refusal, or another site",
    "Correct the record. Resolvers that remember the old address keep it until its TTL ends.",
    "internet-unknown",
    "neighbour-missing",
    "nothing-listens",
    "service-stopped",
    "wrong-page",
    "name-mismatch",
    "not-found",
    "no-index-file",
    "filter-drops",
    "filter-rejects",
    "group-drops",
    "internet-private",
    "plain-spoken",
)
def wrong_address(case: Case) -> Finding | None:
    """The record leads to a box that is not the site's, or to none."""
    origin = origin_of(case)
    if not isinstance(origin, Record) or case.decision(connect_kinds.Forwarded) is not None:
        return None
    homes = case.homes()
    right = {address for home in homes for address in outside_addresses(case.estate, home.machine)}
    if homes and (origin.data in right or leads_home(case)):
        return None
    holder = case.world.topology.holder(origin.data)
    symptom = case.symptom
    if not homes and (
        holder is not None or symptom not in ("internet-unknown", "neighbour-missing", "internet-private")
    ):
        return None
    if holder is None:
        where = "which no box of the estate has"
    else:
        where = (
            f"which is {holder.label}'s, not that of {homes[0].machine.name}, where the site {homes[0].site.name} is"
        )
        if isinstance(holder.stated, Router) and any(
            forward.to in inside_addresses(case) for forward in holder.stated.forwards
        ):
            return None
    text = f"{origin.owner} is {origin.data}, {where}"
    return Finding("name-wrong-address", text, origin.place, clue=_about(case, origin))


@fault(
    "address-typed-wrong",
    "The address asked for belongs to no box",
    "a time-out, or unreachable",
    "Ask for the address that the box has.",
    "internet-unknown",
    "internet-private",
    "neighbour-missing",
    "no-route",
    "not-a-router",
)
def typed_wrong(case: Case) -> Finding | None:
    """A literal address that nobody has, near one that somebody has."""
    literal = case.exchange.url.literal
    if (
        literal is None
        or case.world.topology.holder(literal) is not None
        or case.decision(connect_kinds.Forwarded) is not None
    ):
        return None
    known = set(map(str, case.world.topology.addresses))
    close = nearest(str(literal), known)
    near = f"; {close} is one slip away" if close else ""
    return Finding(
        "address-typed-wrong",
        f"no box of the estate has the address {literal}{near}",
        None,
        clue=TypedClue(near=close, literal=literal),
    )


# -- remedies --


def site_addresses(case: Case) -> list[IPAddress]:
    """Addresses at which the site may be reached, the likeliest first."""
    homes = case.homes() or [home for home in all_homes(case.estate) if case.site_name is None]
    found: list[IPAddress] = []
    for home in homes:
        found += [address for address in outside_addresses(case.estate, home.machine) if address not in found]
    version = {address.version for address in case.device.local}
    return [address for address in found if not version or address.version in version]


@remedy("name-missing", "name-wrong-type", "name-wildcard-hides")
def make_record(case: Case, clue: MissingClue) -> Iterator[Proposal]:
    """Makes the record, with the address at which the site is reached."""
    zone, name, near = clue.zone, clue.name, clue.near
    if zone is not None:
        for address in site_addresses(case):
            kind = "A" if address.version == 4 else "AAAA"
            text = f"add the record '{name} {kind} {address}' to the zone {zone.name}"
            yield Proposal(text, add_record(zone, name, kind, address))
    if near:
        yield Proposal(f"or ask for {near}, which exists", [])
    edge = next((each for each in case.world.stated.edges.values() if each.canonical == name), None)
    if edge is not None:
        own = {each.version for each in case.device.local}
        yield Proposal(f"let the edge {edge.name} have addresses of IPv{min(own, default=4)} too", [])
    elif zone is None:
        yield Proposal(f"add the zone that holds {name} to the estate, or correct the name asked for", [])


@remedy("name-wrong-address", "name-private-address")
def correct_address(case: Case, clue: RecordClue) -> Iterator[Proposal]:
    """Gives the record the address at which the site is reached."""
    record, zone = clue.record, clue.zone
    if zone is None:
        return
    wanted = [each for each in site_addresses(case) if each.version == record.data.version and each != record.data]
    others = [each for each in _siblings(zone, record) if each != record.data and each not in set(wanted)]
    for address in _leading_home(case, [*wanted, *others]) or (wanted or others)[:_MOST_BLIND]:
        text = f"change {record.owner} from {record.data} to {address}"
        yield Proposal(text, swap_record(zone, record, record.type, address))


#: How many addresses are tried that lead to no site: another fault may keep them from it.
_MOST_BLIND = 3


def _leading_home(case: Case, addresses: list[IPAddress]) -> list[IPAddress]:
    """The addresses that lead to the site now."""
    homes = {id(home.service) for home in case.homes()}
    port = case.exchange.url.port
    found = []
    for address in addresses:
        arrival = case.world.connect(case.client, address, port).arrival
        if arrival is not None and id(arrival.service) in homes:
            found.append(address)
    return found


def _siblings(zone: Zone, record: Record) -> list[IPAddress]:
    """The public addresses of a zone's other records, each once."""
    every = (each.data for types in zone.data.nodes.values() for each in types.get(record.type, ()))
    return [address for address in dict.fromkeys(every) if is_public(address)]


@remedy("name-doubled-origin")
def mend_dot(_case: Case, clue: DoubledClue) -> Iterator[Proposal]:
    """Gives the record the name that was meant."""
    record, zone, name = clue.record, clue.zone, clue.name
    data = f"{record.data}." if record.type == "CNAME" else record.data
    patch = [*drop_record(zone, record), *add_record(zone, name, record.type, data, record.ttl)]
    yield Proposal(f"name the record '{name}.' with its final dot", patch)


@remedy("name-alias-dangling", "name-alias-loop", "name-alias-at-apex")
def replace_alias(case: Case, clue: RecordClue) -> Iterator[Proposal]:
    """Puts an address record in the alias's place."""
    record, zone = clue.record, clue.zone
    if zone is None:
        return
    for address in site_addresses(case):
        kind = "A" if address.version == 4 else "AAAA"
        text = f"replace the alias {record.owner} by the record '{kind} {address}'"
        yield Proposal(text, swap_record(zone, record, kind, address))
    if record.owner == zone.name:
        yield Proposal(f"take the alias at {record.owner} away", drop_record(zone, record))


@remedy("name-zone-refused")
def mend_zone(case: Case, clue: RecordClue) -> Iterator[Proposal]:
    """Gives the zone's own server an address, or takes the record away."""
    zone, record = clue.zone, clue.record
    if zone is None:
        return
    if record.type == "NS" and within(str(record.data), zone.name):
        for machine in machines(case.estate):
            if any(zone.name in zones_of(each) for each in machine.services.values()):
                for address in outside_addresses(case.estate, machine):
                    kind = "A" if address.version == 4 else "AAAA"
                    text = f"add the record '{owner_in(zone, str(record.data))} {kind} {address}' ({machine.name})"
                    yield Proposal(text, add_record(zone, str(record.data), kind, address))
    if record.type:
        yield Proposal(f"take the record '{record.text.strip()}' out of the zone", drop_record(zone, record))
    else:
        yield Proposal(f"mend the line '{record.text.strip()}' of the zone's file", [])


@remedy("name-hosts-override")
def drop_hosts_line(case: Case, clue: LineClue) -> Iterator[Proposal]:
    """Takes the line out of the hosts file."""
    line = clue.line
    client = case.device.stated
    held = client.hosts_file
    if held is None:
        return
    for index, text in enumerate(held.lines):
        if str(line.address) in text.split() and case.host in text.lower().split():
            path = item_path(held.place, "lines", index)
            if len(held.lines) == 1 and held.file is None:
                path = held.place.path
            yield Proposal(f"take the line '{text}' out of the hosts file", remove(path))
    yield Proposal(f"take the line that names {case.host} out of the hosts file of {client.name}", [])


@remedy("address-typed-wrong")
def ask_rightly(_case: Case, clue: TypedClue) -> Iterator[Proposal]:
    """Says which address was probably meant."""
    near = clue.near
    yield Proposal(f"ask for {near}" if near else "ask for an address that a box has", [])
