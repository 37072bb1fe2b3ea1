"""Remedies for names."""

from collections.abc import Iterator

from portolan.estate.base import IPAddress, is_public
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Record, Zone
from portolan.faults.base import Case, Finding, all_homes, outside_addresses
from portolan.remedies.base import Proposal, add_record, drop_record, item_path, remedy, remove, swap_record


def site_addresses(case: Case) -> list[IPAddress]:
    """Addresses at which the site may be reached, the likeliest first."""
    homes = case.homes() or [home for home in all_homes(case.estate) if case.site_name is None]
    found: list[IPAddress] = []
    for home in homes:
        found += [address for address in outside_addresses(case.estate, home.machine) if address not in found]
    version = {address.version for address in visitor_addresses(case.visit.vantage, case)}
    return [address for address in found if not version or address.version in version]


def visitor_addresses(vantage: Vantage, case: Case) -> list[IPAddress]:
    return list(case.world.topology.device(vantage).local)


@remedy("name-missing", "name-wrong-type", "name-wildcard-hides")
def make_record(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Makes the record, with the address at which the site is reached."""
    zone = finding.hints.get("zone")
    name = str(finding.hints["name"])
    if isinstance(zone, Zone):
        for address in site_addresses(case):
            kind = "A" if address.version == 4 else "AAAA"
            text = f"add the record '{name} {kind} {address}' to the zone {zone.name}"
            yield Proposal(text, add_record(zone, name, kind, address))
    near = finding.hints.get("near")
    if near:
        yield Proposal(f"or ask for {near}, which exists", [])
    if zone is None:
        yield Proposal(f"add the zone that holds {name} to the estate, or correct the name asked for", [])


@remedy("name-wrong-address", "name-private-address")
def correct_address(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Gives the record the address at which the site is reached."""
    record, zone = finding.hints["record"], finding.hints["zone"]
    if not isinstance(zone, Zone) or not isinstance(record, Record):
        return
    others = [address for address in _siblings(zone, record) if address not in site_addresses(case)]
    for address in [*site_addresses(case), *others]:
        if address != record.data and address.version == record.data.version:
            text = f"change {record.owner} from {record.data} to {address}"
            yield Proposal(text, swap_record(zone, record, record.type, address))


def _siblings(zone: Zone, record: Record) -> list[IPAddress]:
    found: list[IPAddress] = []
    for types in zone.data.nodes.values():
        found += [each.data for each in types.get(record.type, ()) if each.data not in found and is_public(each.data)]
    return found


@remedy("name-doubled-origin")
def mend_dot(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Gives the record the name that was meant."""
    record, zone = finding.hints["record"], finding.hints["zone"]
    name = str(finding.hints["name"])
    data = f"{record.data}." if record.type == "CNAME" else record.data
    patch = [*drop_record(zone, record), *add_record(zone, name, record.type, data, record.ttl)]
    yield Proposal(f"name the record '{name}.' with its final dot", patch)


@remedy("name-alias-dangling", "name-alias-loop", "name-alias-at-apex")
def replace_alias(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Puts an address record in the alias's place."""
    record, zone = finding.hints["record"], finding.hints["zone"]
    if not isinstance(zone, Zone) or not isinstance(record, Record):
        return
    for address in site_addresses(case):
        kind = "A" if address.version == 4 else "AAAA"
        text = f"replace the alias {record.owner} by the record '{kind} {address}'"
        yield Proposal(text, swap_record(zone, record, kind, address))
    if finding.code == "name-alias-at-apex":
        yield Proposal(f"take the alias at {record.owner} away", drop_record(zone, record))


@remedy("name-hosts-override")
def drop_hosts_line(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Takes the line out of the hosts file."""
    line = finding.hints["line"]
    client = case.world.topology.device(case.visit.vantage).stated
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
def ask_rightly(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Says which address was probably meant."""
    near = finding.hints.get("near")
    yield Proposal(f"ask for {near}" if near else "ask for an address that a box has", [])
