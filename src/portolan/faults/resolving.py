"""Faults of how names are resolved: who is asked, what is remembered, which version of a zone answers."""

from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.service import Service
from portolan.estate.zone import Copy, Record, View, Zone
from portolan.faults.base import (
    LED_ASTRAY,
    Case,
    Finding,
    asked_name,
    fault,
    leads_home,
    origin_of,
    outside_addresses,
    record_hints,
    zone_of,
)
from portolan.names.naming import within
from portolan.names.versions import same_answer
from portolan.names.zone import Found, Types
from portolan.source.nearest import nearest


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
    return Finding("name-registration-lapsed", stop.text, stop.place, hints={"zone": stop.subject})


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
    asked, name = case.decision("copy-answers"), asked_name(case)
    if asked is not None and isinstance(asked.subject, Copy):
        copy, zone = asked.subject, case.estate.zones[str(asked.facts[1])]
        held, own = _held(case, zone, copy, name), _held(case, zone, None, name)
        if own is None or same_answer(held, own):
            return None
        text = f"the world asks {', '.join(copy.servers)} for {zone.name}, and there {_differs(name, held)}"
        return Finding(
            "name-zone-elsewhere",
            text,
            zone.place.key("delegated_to"),
            hints={"zone": zone, "copy": copy, "name": name},
        )
    missing = case.decision("delegation-missing")
    if missing is None or not isinstance(missing.subject, Zone):
        return None
    child = missing.subject
    if _held(case, child, None, name) is None:
        return None
    parent = str(missing.facts[0])
    text = f"{name} stands in the zone {child.name}, to which the zone {parent} does not delegate"
    return Finding("name-zone-elsewhere", text, child.place, hints={"zone": child, "parent": parent, "name": name})


def _held(case: Case, zone: Zone, version: Copy | View | None, name: str) -> Types | None:
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
    return Finding("name-glue-wrong", text, place, hints={"zone": zone, "server": server, "own": own})


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
    return Finding("name-delegation-lame", stop.text, stop.place, hints={"zone": stop.subject}) if stop else None


@fault(
    "name-cached-absent",
    '"No such name" is still remembered',
    "no such name, for a while",
    "Wait until it is forgotten, or empty the resolver's cache; others than its users are not concerned.",
    "remembered-absent",
)
def cached_absent(case: Case) -> Finding | None:
    """A cache holds the absence of a name that has been made since."""
    stop = case.stop
    if stop is None or not _mended_since(case):
        return None
    return Finding(
        "name-cached-absent",
        f"{stop.text}; it has been made since, and others get it",
        stop.place,
        hints={"until": stop.facts[3], "holder": _cache(case), "label": stop.facts[0]},
    )


@fault(
    "name-cached-old",
    "The old answer is still remembered",
    "the old place, for a while",
    "Wait until it is forgotten, or empty the resolver's cache; others than its users are not concerned. Before a planned "
    "change lower the TTL.",
    *LED_ASTRAY,
)
def cached_old(case: Case) -> Finding | None:
    """A cache holds an address that the zone does not state any more."""
    held = case.decision("remembered")
    if held is None or not _mended_since(case):
        return None
    return Finding(
        "name-cached-old",
        f"{held.text}; the zone says otherwise since, and others get that",
        held.place,
        hints={"until": held.facts[3], "holder": _cache(case), "label": held.facts[0]},
    )


def _mended_since(case: Case) -> bool:
    """Whether the zone answers otherwise now than what is remembered."""
    held = case.decision("remembered") or case.decision("remembered-absent")
    if held is None or not isinstance(held.subject, Zone):
        return False
    name, zone = str(held.facts[1]), held.subject
    old: Types | None = None
    if held.kind == "remembered":
        origin = origin_of(case)
        aliases = {each.subject.owner for each in case.last.resolution.decisions if each.kind == "alias"}
        if name in aliases:
            return True
        old = {origin.type: (origin,)} if isinstance(origin, Record) else None
    return not same_answer(old, _held(case, zone, None, name))


def _cache(case: Case) -> object:
    """Whose cache it is: the visitor's own, or a resolver's of the estate."""
    asked = case.decision("resolver-asked")
    if asked is not None and isinstance(asked.subject, Service) and asked.subject.last_asked is not None:
        return asked.subject
    return case.visit.vantage


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
    answered = case.decision("view-answers")
    if answered is None or not isinstance(answered.subject, View) or leads_home(case):
        return None
    view, zone, name = answered.subject, case.estate.zones[str(answered.facts[1])], asked_name(case)
    held, own = _held(case, zone, view, name), _held(case, zone, None, name)
    if own is None or same_answer(held, own):
        return None
    text = f"the view {view.name} of {zone.name}, for {answered.facts[0]}, says that there {_differs(name, held)}; others get another answer"
    return Finding("name-view-split", text, view.place, hints={"zone": zone, "view": view, "name": name})


@fault(
    "name-signature-broken",
    "The key that the parent zone names and the zone's signatures do not fit",
    "the resolver fails, where signatures are checked",
    "Have the registration hold the DS record of the key in use, and sign the zone again before its signatures end. Visitors "
    "whose resolver does not check see nothing.",
    "signature-broken",
    "signature-missing",
    "signature-expired",
)
def signature_broken(case: Case) -> Finding | None:
    """A validating resolver threw the answer away."""
    stop = case.stop
    if stop is None or not isinstance(stop.subject, Zone):
        return None
    return Finding("name-signature-broken", stop.text, stop.place, hints={"zone": stop.subject, "kind": stop.kind})


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
    if stop is None or not isinstance(stop.subject, Service):
        return None
    barred = next((each for each in stop.subject.refuses if within(str(stop.facts[1]), each)), None)
    return Finding("name-resolver-refuses", stop.text, stop.place, hints={"service": stop.subject, "barred": barred})


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
    if stop is None or (stop.kind == "undescribed" and "." in host):
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
        for site in service.sites.values()
        for name in site.names
        if "*" not in name
    ]
    why = (
        stop.text
        if stop.kind == "local-only"
        else f"{host} has no dot: only a search list would complete it, and {case.visit.vantage.name} has none that does"
    )
    place = holder.place.key("local_name") if holder is not None else stop.place
    return Finding("name-local-only", why, place, hints={"near": names[0] if names else None})


@fault(
    "name-address-changed",
    "The public address changed since the record was made",
    "a time-out, or a stranger",
    "Put the present address into the record; let the line's router report its address, or ask the provider for one that stays.",
    *LED_ASTRAY,
)
def address_changed(case: Case) -> Finding | None:
    """The record holds an address that some interface had before."""
    origin = origin_of(case)
    if not isinstance(origin, Record) or leads_home(case):
        return None
    for machine in machines(case.estate):
        for interface in machine.interfaces.values():
            for earlier in interface.before:
                if origin.data in [item.ip for item in earlier.address]:
                    now = [item.ip for item in interface.address if item.version == origin.data.version]
                    text = (
                        f"{origin.owner} is {origin.data}, which {machine.name} had until {earlier.until:%Y-%m-%d %H:%M} UTC; "
                        f"since then it has {', '.join(map(str, now))}"
                    )
                    return Finding(
                        "name-address-changed",
                        text,
                        origin.place,
                        hints={**record_hints(case, origin), "addresses": now},
                    )
    return None


@fault(
    "name-v6-dead",
    "The name's IPv6 address leads to a host or service without IPv6",
    "slow, or fails for visitors with IPv6 only",
    "Take the AAAA record away, or serve the site over IPv6 too.",
    "slow",
    *LED_ASTRAY,
)
def v6_dead(case: Case) -> Finding | None:
    """An attempt over IPv6 failed at a box that is not the site's, or at none."""
    return _dead(case, "name-v6-dead", 6)


@fault(
    "name-one-address-dead",
    "One of the name's addresses does not serve the site",
    "fails now and then",
    "Take the address out of the record, or bring its server up.",
    "slow",
    *LED_ASTRAY,
)
def one_address_dead(case: Case) -> Finding | None:
    """One of several addresses of a family is not where the site is."""
    return _dead(case, "name-one-address-dead", None)


def _dead(case: Case, code: str, version: int | None) -> Finding | None:
    slow = case.symptom == "slow"
    right = {each for home in case.homes() for each in outside_addresses(case.estate, home.machine)}
    for exchange in case.visit.exchanges if slow else (case.last,):
        resolution = exchange.resolution
        tried = exchange.attempts[:-1] if slow else exchange.attempts
        for attempt in tried:
            at = resolution.addresses.index(attempt.address) if attempt.address in resolution.addresses else -1
            record = resolution.origins[at] if at >= 0 else None
            if not isinstance(record, Record) or (attempt.detail is None and slow):
                continue
            if version is not None and attempt.address.version != version:
                continue
            if not slow and (record.data in right or leads_home(case)):
                continue
            others = [each for each in resolution.origins if isinstance(each, Record) and each.data != record.data]
            if version is None and not any(
                each.type == record.type and (slow or each.data in right) for each in others
            ):
                continue
            what = attempt.stop.text if attempt.stop is not None else "another site answers there"
            text = f"{record.owner} is {record.data} too, where {'the site is not' if attempt.detail is None else 'nobody answers for it'}: {what}"
            if version == 6:
                text = f"{record.owner} has the IPv6 address {record.data}, which does not serve it: {what}"
            hints = {**record_hints(case, record), "others": tuple(each.data for each in others)}
            return Finding(code, text, record.place, "warning" if slow else "error", hints)
    return None
