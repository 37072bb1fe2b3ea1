"""Faults of time and of several addresses: what is still remembered, an address that moved, one of several that is dead."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import (
    LED_ASTRAY,
    Case,
    Finding,
    Severity,
    fault,
    leads_home,
    origin_of,
    outside_addresses,
    zone_of,
)
from portolan.diagnosis.names import site_addresses
from portolan.diagnosis.proposal import (
    Proposal,
    drop_record,
    remedy,
    remove,
    swap_record,
)
from portolan.diagnosis.resolving import held_at
from portolan.estate.base import IPAddress
from portolan.estate.guesses import machines
from portolan.estate.records import Record
from portolan.estate.service import Resolver, Service
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Zone
from portolan.evidence.kinds import name as name_kinds


class CacheClue(msgspec.Struct, frozen=True):
    """Whose cache it is, until when, and how it is called."""

    until: str
    holder: object
    label: str


class MovedClue(msgspec.Struct, frozen=True):
    """The record with the old address, its zone, and the addresses now."""

    record: Record
    zone: Zone | None
    addresses: list[IPAddress]


class DeadClue(msgspec.Struct, frozen=True):
    """The record whose address is dead, its zone, and the other addresses."""

    record: Record
    zone: Zone | None
    others: tuple[IPAddress, ...]


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
    if not isinstance(stop, name_kinds.RememberedAbsent) or not _mended_since(case):
        return None
    return Finding(
        "name-cached-absent",
        f"{stop.text}; it has been made since, and others get it",
        stop.place,
        clue=CacheClue(until=stop.until, holder=_cache(case), label=stop.cache),
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
    held = case.decision(name_kinds.Remembered)
    if held is None or not _mended_since(case):
        return None
    return Finding(
        "name-cached-old",
        f"{held.text}; the zone says otherwise since, and others get that",
        held.place,
        clue=CacheClue(until=held.until, holder=_cache(case), label=held.cache),
    )


def _mended_since(case: Case) -> bool:
    """Whether the zone answers otherwise now than what is remembered."""
    held = case.decision(name_kinds.Remembered) or case.decision(name_kinds.RememberedAbsent)
    if held is None or not isinstance(held.subject, Zone):
        return False
    name, zone = held.name, held.subject
    now = held_at(case, zone, None, name)
    if isinstance(held, name_kinds.RememberedAbsent):
        return now is not None and bool({held.records, "CNAME"} & set(now))
    origin = origin_of(case)
    if any(isinstance(each, name_kinds.Alias) and each.name == name for each in case.exchange.resolution.decisions):
        return True
    return not isinstance(origin, Record) or origin.data not in {
        record.data for record in (now or {}).get(held.records, ())
    }


def _cache(case: Case) -> object:
    """Whose cache it is: the visitor's own, or a resolver's of the estate."""
    asked = case.decision(name_kinds.ResolverAsked)
    if asked is not None and isinstance(asked.subject, Resolver) and asked.subject.last_asked is not None:
        return asked.subject
    return case.client


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
                if origin.data in [item.ip for item in earlier.facts.get("address", ())]:
                    now = [item.ip for item in interface.address if item.version == origin.data.version]
                    text = (
                        f"{origin.owner} is {origin.data}, which {machine.name} had until {earlier.until:%Y-%m-%d %H:%M} UTC; "
                        f"since then it has {', '.join(map(str, now))}"
                    )
                    clue = MovedClue(origin, zone_of(case.estate, origin.owner), now)
                    return Finding("name-address-changed", text, origin.place, clue=clue)
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
    if not slow and leads_home(case):
        return None
    right = {each for home in case.homes() for each in outside_addresses(case.estate, home.machine)}
    for exchange in case.visit.exchanges if slow else (case.exchange,):
        resolution = exchange.resolution
        led = dict(zip(resolution.addresses, resolution.origins, strict=True))
        said = [each for each in resolution.origins if isinstance(each, Record)]
        #: By type, what is said that the site may be at.
        alive = {
            kind: {each.data for each in said if each.type == kind and (slow or each.data in right)}
            for kind in ("A", "AAAA")
        }
        for attempt in exchange.attempts[:-1] if slow else exchange.attempts:
            record = led.get(attempt.address)
            if not isinstance(record, Record) or (attempt.detail is None and slow):
                continue
            if version is not None and attempt.address.version != version:
                continue
            if not slow and record.data in right:
                continue
            if version is None and not alive.get(record.type, set()) - {record.data}:
                continue
            zone = zone_of(case.estate, record.owner)
            if zone is None:
                continue
            what = attempt.stop.text if attempt.stop is not None else "another site answers there"
            text = f"{record.owner} is {record.data} too, where {'the site is not' if attempt.detail is None else 'nobody answers for it'}: {what}"
            if version == 6:
                text = f"{record.owner} has the IPv6 address {record.data}, which does not serve it: {what}"
            clue = DeadClue(record, zone, tuple(each.data for each in said if each.data != record.data))
            return Finding(code, text, record.place, Severity.WARNING if slow else Severity.ERROR, clue)
    return None


@remedy("name-cached-old", "name-cached-absent")
def empty_cache(_case: Case, clue: CacheClue) -> Iterator[Proposal]:
    """Waits, or empties the cache."""
    holder, until, label = clue.holder, clue.until, clue.label
    if isinstance(holder, Vantage | Service):
        text = f"wait until {until}, or empty the cache of {label} now"
        yield Proposal(text, remove((*holder.place.path, "last_asked")), thought=True)


@remedy("name-address-changed")
def present_address(_case: Case, clue: MovedClue) -> Iterator[Proposal]:
    """Puts the interface's present address into the record."""
    record, zone = clue.record, clue.zone
    if zone is not None:
        for address in clue.addresses:
            text = f"change {record.owner} from {record.data} to the present address {address}"
            yield Proposal(text, swap_record(zone, record, record.type, address))


@remedy("name-v6-dead", "name-one-address-dead")
def drop_dead(case: Case, clue: DeadClue) -> Iterator[Proposal]:
    """Gives the site's own address of the family, or takes the dead one away."""
    record, zone = clue.record, clue.zone
    if zone is None:
        return
    for address in site_addresses(case):
        if address.version == record.data.version and address not in clue.others:
            yield Proposal(
                f"change {record.owner} from {record.data} to {address}",
                swap_record(zone, record, record.type, address),
            )
    if clue.others:
        yield Proposal(f"take the record '{record.owner} {record.type} {record.data}' away", drop_record(zone, record))
