"""Remedies for how names are resolved."""

from collections.abc import Iterator

from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Copy, Record, Version, View, Zone
from portolan.faults.base import Case, Finding, addresses_of
from portolan.remedies.base import (
    Patch,
    Proposal,
    add_record,
    append,
    drop_record,
    item_path,
    owner_in,
    put,
    remedy,
    remove,
    replace,
    swap_record,
)
from portolan.remedies.names import site_addresses


@remedy("name-delegation-lame")
def ask_registrar(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Leaves the delegation to whoever holds it, and shows what it would do."""
    zone = finding.hints["zone"]
    if isinstance(zone, Zone):
        if zone.delegated_to:
            text = f"have the registration of {zone.name} name the servers that hold it"
            yield Proposal(text, remove((*zone.place.path, "delegated_to")))
        yield Proposal(f"ask whoever keeps the parent zone to delegate {zone.name} to servers that answer for it", [])


@remedy("name-registration-lapsed")
def renew(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Leaves it to the registrar, and shows what it would do."""
    zone = finding.hints["zone"]
    if not isinstance(zone, Zone):
        return
    if zone.on_hold:
        text = f"ask the company that {zone.name} is registered at to take the hold off; they say what it waits for"
        yield Proposal(text, remove((*zone.place.path, "on_hold")))
    else:
        text = f"renew the registration of {zone.name} at once, before somebody else takes the name"
        yield Proposal(text, remove((*zone.place.path, "registered_until")))


@remedy("name-zone-elsewhere")
def ask_the_right_zone(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Leads the world to the zone that was edited, or makes the record where the world asks."""
    zone, name = finding.hints["zone"], str(finding.hints["name"])
    if not isinstance(zone, Zone):
        return
    copy = finding.hints.get("copy")
    if isinstance(copy, Copy):
        text = f"have the registration of {zone.name} name the servers that hold the new records, instead of {', '.join(copy.servers)}"
        yield Proposal(text, remove((*zone.place.path, "delegated_to")))
        yield from _into(case, zone, copy, name, f"at {copy.name}, whose servers the world asks")
        return
    parent = case.estate.zones.get(str(finding.hints.get("parent")))
    if parent is None:
        return
    for server in zone.data.nodes.get(zone.name, {}).get("NS", ()):
        text = f"delegate {zone.name} in the zone {parent.name}, to {server.data}"
        yield Proposal(text, append(parent.place, "records", f"{owner_in(parent, zone.name)} 3600 NS {server.data}."))
    for address in site_addresses(case):
        kind = "A" if address.version == 4 else "AAAA"
        yield Proposal(
            f"make the record '{name} {kind} {address}' in the zone {parent.name}, which the world asks",
            add_record(parent, name, kind, address),
        )


@remedy("name-view-split")
def put_in_view(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Gives the view its own record."""
    zone, view = finding.hints["zone"], finding.hints["view"]
    if isinstance(zone, Zone) and isinstance(view, View):
        yield from _into(case, zone, view, str(finding.hints["name"]), f"in the view {view.name}")


def _into(case: Case, zone: Zone, version: Version, name: str, where: str) -> Iterator[Proposal]:
    """Records with the site's addresses, in a version of a zone, in place of what it holds there."""
    inside = [each for home in case.homes() for each in addresses_of(home.machine)]
    patch = _cleared(zone, version, name)
    for address in dict.fromkeys([*inside, *site_addresses(case)]):
        kind = "A" if address.version == 4 else "AAAA"
        line = f"{owner_in(zone, name)} 3600 {kind} {address}"
        kept = [each for each in version.records if not _is_for(each, zone, name)]
        records: Patch = put(version.place, "records", [*kept, line])
        yield Proposal(f"make the record '{name} {kind} {address}' {where}", [*patch, *records])


def _cleared(zone: Zone, version: Version, name: str) -> Patch:
    kept = [each for each in version.without if not _is_for(each, zone, name)]
    if len(kept) == len(version.without):
        return []
    return put(version.place, "without", kept) if kept else remove((*version.place.path, "without"))


def _is_for(line: str, zone: Zone, name: str) -> bool:
    return line.split()[0].lower() in (owner_in(zone, name), f"{name}.", "@" if name == zone.name else name + ".")


@remedy("name-glue-wrong")
def correct_glue(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Gives the server its address."""
    zone, server, own = finding.hints["zone"], str(finding.hints["server"]), str(finding.hints["own"])
    if not isinstance(zone, Zone):
        return
    if server in zone.glue:
        text = f"have the registration of {zone.name} give {server} the address {own}"
        yield Proposal(text, replace((*zone.place.path, "glue", server), own))
        return
    for parent in case.estate.zones.values():
        if zone.name.endswith("." + parent.name):
            text = f"give {server} the address {own} in the zone {parent.name} too"
            patch: Patch = []
            for record in parent.data.nodes.get(server, {}).get("A", ()):
                patch += drop_record(parent, record)
            yield Proposal(text, [*patch, *add_record(parent, server, "AAAA" if ":" in own else "A", own)])


@remedy("name-cached-old", "name-cached-absent")
def empty_cache(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Waits, or empties the cache."""
    holder, until, label = finding.hints["holder"], finding.hints["until"], finding.hints["label"]
    if isinstance(holder, Vantage | Service):
        text = f"wait until {until}, or empty the cache of {label} now"
        yield Proposal(text, remove((*holder.place.path, "last_asked")))


@remedy("name-signature-broken")
def fit_keys(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Makes the parent name the key in use, or signs anew."""
    zone, kind = finding.hints["zone"], finding.hints["kind"]
    if not isinstance(zone, Zone):
        return
    if kind == "signature-expired" and zone.signatures_until is not None:
        text = f"sign {zone.name} again, and let its servers do so by themselves before the signatures end"
        yield Proposal(text, remove((*zone.place.path, "signatures_until")))
    if kind == "signature-broken" and zone.keys and zone.place.has("ds"):
        text = f"have the registration of {zone.name} hold the DS record of the key in use ({', '.join(zone.keys)})"
        yield Proposal(text, put(zone.place, "ds", list(zone.keys)))
    if kind == "signature-missing" and zone.ds and not any(" " in each for each in zone.ds):
        yield Proposal(
            f"sign {zone.name} with the key that its parent names ({', '.join(zone.ds)})",
            put(zone.place, "keys", list(zone.ds)),
        )
    if zone.place.has("ds"):
        text = f"or have the DS record of {zone.name} taken away: then nobody checks its signatures"
        yield Proposal(text, remove((*zone.place.path, "ds")))
    else:
        yield Proposal(f"ask whoever signs {zone.name} and whoever keeps its parent zone to agree on the key", [])


@remedy("name-resolver-refuses")
def unblock(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Takes the name off the list."""
    service, barred = finding.hints["service"], finding.hints["barred"]
    if isinstance(service, Service) and barred in service.refuses:
        text = f"take {barred} off the list of names that {service.name} on {service.place.path[1]} does not look up"
        yield Proposal(text, remove(item_path(service.place, "refuses", service.refuses.index(barred))))
    yield Proposal("or ask another resolver meanwhile", [])


@remedy("name-local-only")
def ask_in_full(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Names the full name."""
    near = finding.hints["near"]
    yield Proposal(f"ask for {near}" if near else "ask for the site's full public name", [])


@remedy("name-address-changed")
def present_address(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Puts the interface's present address into the record."""
    record, zone = finding.hints["record"], finding.hints["zone"]
    if isinstance(zone, Zone) and isinstance(record, Record):
        for address in finding.hints["addresses"]:
            text = f"change {record.owner} from {record.data} to the present address {address}"
            yield Proposal(text, swap_record(zone, record, record.type, address))


@remedy("name-v6-dead", "name-one-address-dead")
def drop_dead(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Gives the site's own address of the family, or takes the dead one away."""
    record, zone = finding.hints["record"], finding.hints["zone"]
    if not isinstance(zone, Zone) or not isinstance(record, Record):
        return
    for address in site_addresses(case):
        if address.version == record.data.version and address not in finding.hints["others"]:
            yield Proposal(
                f"change {record.owner} from {record.data} to {address}",
                swap_record(zone, record, record.type, address),
            )
    if finding.hints["others"]:
        yield Proposal(f"take the record '{record.owner} {record.type} {record.data}' away", drop_record(zone, record))


@remedy("name-caa-forbids")
def allow_authority(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Allows the authority, or takes another."""
    zone, allowed = finding.hints["zone"], finding.hints["wanted"]
    if isinstance(zone, Zone) and allowed:
        text = f"add the record '{finding.hints['owner']} CAA 0 {finding.hints['tag']} \"{allowed}\"'"
        value = f'{owner_in(zone, str(finding.hints["owner"]))} 3600 CAA 0 {finding.hints["tag"]} "{allowed}"'
        yield Proposal(text, append(zone.place, "records", value))
    yield Proposal("or get the certificate from an authority that the CAA records allow", [])
