"""Faults of how names are resolved: who is asked, what is remembered, which version of a zone answers."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import (
    LED_ASTRAY,
    Case,
    Finding,
    addresses_of,
    asked_name,
    fault,
    leads_home,
    zone_of,
)
from portolan.diagnosis.names import site_addresses
from portolan.diagnosis.proposal import (
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
)
from portolan.dns.tree import within
from portolan.dns.versions import same_answer
from portolan.dns.zone import Found, Types
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.service import Resolver, sites_of
from portolan.estate.zone import Copy, Version, View, Zone
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.source.nearest import nearest


class ZoneClue(msgspec.Struct, frozen=True):
    """The zone that is concerned."""

    zone: object


class ElsewhereClue(msgspec.Struct, frozen=True):
    """The zone, the name, and the copy or the parent that lacks it."""

    zone: Zone
    name: str
    copy: Copy | None = None
    parent: str | None = None


class GlueClue(msgspec.Struct, frozen=True):
    """The zone, its server, and the address that the zone itself states."""

    zone: Zone
    server: str
    own: str


class ViewClue(msgspec.Struct, frozen=True):
    """The zone, its view, and the name."""

    zone: Zone
    view: View
    name: str


class SignatureClue(msgspec.Struct, frozen=True):
    """The zone, and what is wrong with its signatures."""

    zone: object
    kind: str


class RefusedClue(msgspec.Struct, frozen=True):
    """The resolver, and what it does not look up."""

    service: Resolver
    barred: str | None


class NearClue(msgspec.Struct, frozen=True):
    """A name that would do."""

    near: str | None


class CaaClue(msgspec.Struct, frozen=True):
    """The zone, where the record goes, its tag, and the authority to allow."""

    zone: Zone
    owner: str
    tag: str
    wanted: str


@fault(
    "name-registration-lapsed",
    "The registration of the name has ended, or is on hold",
    "no such name",
    "Renew it with the company that it is registered at, or ask them why it is on hold; meanwhile nothing else helps.",
    "registration-lapsed",
    "registration-held",
)
def registration_lapsed(case: Case) -> Finding | None:
    """The parent zone does not hold the name any more."""
    stop = case.stop
    if stop is None or not isinstance(stop.subject, Zone):
        return None
    return Finding("name-registration-lapsed", stop.text, stop.place, clue=ZoneClue(zone=stop.subject))


@fault(
    "name-zone-elsewhere",
    "The record was made in a zone that nobody asks: the delegation names other servers",
    "no such name, or an old answer",
    "Have the registration name the servers that hold the records, or make the records where the world asks.",
    "no-such-name",
    "no-address",
    "undescribed",
    *LED_ASTRAY,
)
def zone_elsewhere(case: Case) -> Finding | None:
    """Other servers' copy of the zone answered otherwise; or a zone that its parent does not delegate has the name."""
    asked, name = case.decision(zone_kinds.CopyAnswers), asked_name(case)
    if asked is not None and isinstance(asked.subject, Copy):
        copy, zone = asked.subject, case.estate.zones[asked.zone]
        held, own = held_at(case, zone, copy, name), held_at(case, zone, None, name)
        if own is None or same_answer(held, own):
            return None
        text = f"the world asks {', '.join(copy.servers)} for {zone.name}, and there {_differs(name, held)}"
        return Finding(
            "name-zone-elsewhere",
            text,
            zone.place.key("delegated_to"),
            clue=ElsewhereClue(zone=zone, copy=copy, name=name),
        )
    missing = case.decision(zone_kinds.DelegationMissing)
    if missing is None or not isinstance(missing.subject, Zone):
        return None
    child = missing.subject
    if held_at(case, child, None, name) is None:
        return None
    parent = missing.zone
    text = f"{name} stands in the zone {child.name}, to which the zone {parent} does not delegate"
    return Finding("name-zone-elsewhere", text, child.place, clue=ElsewhereClue(zone=child, parent=parent, name=name))


def held_at(case: Case, zone: Zone, version: Copy | View | None, name: str) -> Types | None:
    """What a version of a zone holds at a name; None without it."""
    found = case.world.naming.index(zone, version).look(name)
    return found.types if isinstance(found, Found) else None


def _differs(name: str, held: Types | None) -> str:
    if not held:
        return f"is no {name}"
    return f"{name} is {', '.join(str(each.data) for kind in ('A', 'AAAA', 'CNAME') for each in held.get(kind, ())) or 'without address'}"


@fault(
    "name-glue-wrong",
    "The addresses that the registration gives for the zone's own servers are missing or old",
    "the resolver fails",
    "Correct the glue: the addresses of the servers at the registration, or in the parent zone.",
    "servers-fail",
)
def glue_wrong(case: Case) -> Finding | None:
    """Glue differs from what the zone itself says about its servers."""
    stop = case.stop
    if stop is None or not isinstance(stop.subject, Zone):
        return None
    zone = stop.subject
    wrong = wrong_glue(case.estate, zone)
    if wrong is None:
        return None
    server, glue, own = wrong
    text = f"the glue of {server} is {glue or 'missing'}, and the zone {zone.name} itself says {own}"
    place = zone.place.key("glue") if server in zone.glue else zone.place
    return Finding("name-glue-wrong", text, place, clue=GlueClue(zone=zone, server=server, own=own))


def wrong_glue(estate: Estate, zone: Zone) -> tuple[str, str, str] | None:
    """A server in the zone whose glue is not its address: its name, the glue, the address."""
    for server in zone.glue:
        own = _addresses(zone, server)
        given = sorted(map(str, zone.glue[server]))
        if own and not set(own) & set(given):
            return server, ", ".join(given), own[0]
    parent = zone_of(estate, zone.name.partition(".")[2])
    for record in parent.data.nodes.get(zone.name, {}).get("NS", ()) if parent is not None else ():
        if within(record.data, zone.name):
            assert parent is not None
            own, given = _addresses(zone, record.data), _addresses(parent, record.data)
            if own and not set(own) & set(given):
                return record.data, ", ".join(given), own[0]
    return None


def _addresses(zone: Zone, name: str) -> list[str]:
    types = zone.data.nodes.get(name, {})
    return [str(record.data) for kind in ("A", "AAAA") for record in types.get(kind, ())]


@fault(
    "name-delegation-lame",
    "The zone is delegated to servers that do not answer for it",
    "the resolver fails",
    "Name the servers that hold the zone at the registration or in the parent zone, or make those that are named "
    "serve it.",
    "servers-fail",
)
def delegation_lame(case: Case) -> Finding | None:
    """None of the delegated servers answers."""
    stop = case.stop
    return Finding("name-delegation-lame", stop.text, stop.place, clue=ZoneClue(zone=stop.subject)) if stop else None


@fault(
    "name-view-split",
    "The view for the asker lacks the name, or gives another answer",
    "differs inside and outside",
    "Put the record into the view too, with the address that its askers reach.",
    "no-such-name",
    "no-address",
    *LED_ASTRAY,
)
def view_split(case: Case) -> Finding | None:
    """A view answered, and the zone's own records say otherwise."""
    answered = case.decision(zone_kinds.ViewAnswers)
    if answered is None or not isinstance(answered.subject, View) or leads_home(case):
        return None
    view, zone, name = answered.subject, case.estate.zones[answered.zone], asked_name(case)
    held, own = held_at(case, zone, view, name), held_at(case, zone, None, name)
    if own is None or same_answer(held, own):
        return None
    text = f"the view {view.name} of {zone.name}, for {answered.asker}, says that there {_differs(name, held)}; others get another answer"
    return Finding("name-view-split", text, view.place, clue=ViewClue(zone=zone, view=view, name=name))


@fault(
    "name-signature-broken",
    "The key that the parent zone names and the zone's signatures do not fit",
    "the resolver fails, where signatures are checked",
    "Have the registration hold the DS record of the key in use, and sign the zone again before its signatures end. Visitors "
    "whose resolver does not check see nothing.",
    "signature-broken",
    "signature-missing",
    "signature-expired",
    "set-unsigned",
)
def signature_broken(case: Case) -> Finding | None:
    """A validating resolver threw the answer away."""
    stop = case.stop
    if stop is None or not isinstance(stop.subject, Zone):
        return None
    return Finding(
        "name-signature-broken", stop.text, stop.place, clue=SignatureClue(zone=stop.subject, kind=stop.kind)
    )


@fault(
    "name-resolver-refuses",
    "That resolver blocks the name",
    "refused or no such name, for its users",
    "Take the name off the resolver's list, or ask whoever keeps it to; meanwhile another resolver helps.",
    "resolver-refuses",
)
def resolver_refuses(case: Case) -> Finding | None:
    """The resolver does not look it up on purpose."""
    stop = case.stop
    if not isinstance(stop, name_kinds.ResolverRefuses) or not isinstance(stop.subject, Resolver):
        return None
    barred = next((each for each in stop.subject.refuses if within(stop.name, each)), None)
    return Finding(
        "name-resolver-refuses", stop.text, stop.place, clue=RefusedClue(service=stop.subject, barred=barred)
    )


@fault(
    "name-local-only",
    "A name that only its own network knows is asked from elsewhere",
    "no such name",
    "Ask for the full public name; a name under .local or without a dot means something on its own network only.",
    "local-only",
    "undescribed",
)
def local_only(case: Case) -> Finding | None:
    """A name under .local, or one without a dot."""
    stop, host = case.stop, case.host
    if stop is None or (isinstance(stop, zone_kinds.Undescribed) and "." in host):
        return None
    holder = next((each for each in machines(case.estate) if each.local_name == host), None)
    full = [
        name
        for zone in case.estate.zones.values()
        for name in zone.data.nodes
        if name.partition(".")[0] == host.partition(".")[0]
    ]
    if holder is None and not full and not host.endswith(".local"):
        near = nearest(
            host, {name.partition(".")[0] for zone in case.estate.zones.values() for name in zone.data.nodes}
        )
        full = [near] if near else []
    names = full or [
        name
        for service in (holder.services.values() if holder is not None else ())
        for site in sites_of(service).values()
        for name in site.names
        if "*" not in name
    ]
    why = (
        stop.text
        if isinstance(stop, name_kinds.LocalOnly)
        else f"{host} has no dot: only a search list would complete it, and {case.client.name} has none that does"
    )
    place = holder.place.key("local_name") if holder is not None else stop.place
    return Finding("name-local-only", why, place, clue=NearClue(near=names[0] if names else None))


# -- remedies --


@remedy("name-delegation-lame")
def ask_registrar(_case: Case, clue: ZoneClue) -> Iterator[Proposal]:
    """Leaves the delegation to whoever holds it, and shows what it would do."""
    zone = clue.zone
    if isinstance(zone, Zone):
        if zone.delegated_to:
            text = f"have the registration of {zone.name} name the servers that hold it"
            yield Proposal(text, remove((*zone.place.path, "delegated_to")))
        yield Proposal(f"ask whoever keeps the parent zone to delegate {zone.name} to servers that answer for it", [])


@remedy("name-registration-lapsed")
def renew(_case: Case, clue: ZoneClue) -> Iterator[Proposal]:
    """Leaves it to the registrar, and shows what it would do."""
    zone = clue.zone
    if not isinstance(zone, Zone):
        return
    if zone.on_hold:
        text = f"ask the company that {zone.name} is registered at to take the hold off; they say what it waits for"
        yield Proposal(text, remove((*zone.place.path, "on_hold")))
    else:
        text = f"renew the registration of {zone.name} at once, before somebody else takes the name"
        yield Proposal(text, remove((*zone.place.path, "registered_until")))


@remedy("name-zone-elsewhere")
def ask_the_right_zone(case: Case, clue: ElsewhereClue) -> Iterator[Proposal]:
    """Leads the world to the zone that was edited, or makes the record where the world asks."""
    zone, name = clue.zone, clue.name
    copy = clue.copy
    if copy is not None:
        text = f"have the registration of {zone.name} name the servers that hold the new records, instead of {', '.join(copy.servers)}"
        yield Proposal(text, remove((*zone.place.path, "delegated_to")))
        yield from _into(case, zone, copy, name, f"at {copy.name}, whose servers the world asks")
        return
    parent = case.estate.zones.get(clue.parent or "")
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
def put_in_view(case: Case, clue: ViewClue) -> Iterator[Proposal]:
    """Gives the view its own record."""
    zone, view = clue.zone, clue.view
    yield from _into(case, zone, view, clue.name, f"in the view {view.name}")


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
def correct_glue(case: Case, clue: GlueClue) -> Iterator[Proposal]:
    """Gives the server its address."""
    zone, server, own = clue.zone, clue.server, clue.own
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


@remedy("name-signature-broken")
def fit_keys(_case: Case, clue: SignatureClue) -> Iterator[Proposal]:
    """Makes the parent name the key in use, or signs anew."""
    zone, kind = clue.zone, clue.kind
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
def unblock(_case: Case, clue: RefusedClue) -> Iterator[Proposal]:
    """Takes the name off the list."""
    service, barred = clue.service, clue.barred
    if barred in service.refuses:
        text = f"take {barred} off the list of names that {service.name} on {service.place.path[1]} does not look up"
        yield Proposal(text, remove(item_path(service.place, "refuses", service.refuses.index(barred))))
    yield Proposal("or ask another resolver meanwhile", [])


@remedy("name-local-only")
def ask_in_full(_case: Case, clue: NearClue) -> Iterator[Proposal]:
    """Names the full name."""
    near = clue.near
    yield Proposal(f"ask for {near}" if near else "ask for the site's full public name", [])


@remedy("name-caa-forbids")
def allow_authority(_case: Case, clue: CaaClue) -> Iterator[Proposal]:
    """Allows the authority, or takes another."""
    zone, allowed = clue.zone, clue.wanted
    if allowed:
        text = f"add the record '{clue.owner} CAA 0 {clue.tag} \"{allowed}\"'"
        value = f'{owner_in(zone, clue.owner)} 3600 CAA 0 {clue.tag} "{allowed}"'
        yield Proposal(text, append(zone.place, "records", value))
    yield Proposal("or get the certificate from an authority that the CAA records allow", [])
