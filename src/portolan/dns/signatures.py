"""What a validating resolver makes of a zone (RFC 4035 section 5): the keys that the parent names, and time."""

from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from typing import Any

from portolan.dns.rdata import rdata
from portolan.dns.zone import Below, Cut, Found
from portolan.estate.records import ZoneData
from portolan.estate.zone import Zone
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import zone as zone_kinds
from portolan.source.shared import Shared


def named_keys(zone: Zone, parent: ZoneData | None) -> tuple[str, ...]:
    """The keys that the parent's DS records name: labels, or DS data as text."""
    held = parent.nodes.get(zone.name, {}).get("DS", ()) if parent is not None else ()
    named = (*zone.ds, *(str(record.data) for record in held))
    # RFC 4035 section 5.2: where nobody can check any of them, the zone counts as unsigned.
    return named if any(map(_checkable, named)) else ()


#: Algorithms and digests that validating resolvers know (RFC 8624 section 3).
_ALGORITHMS, _DIGESTS = frozenset((5, 7, 8, 10, 13, 14, 15, 16)), frozenset((1, 2, 4))


def _checkable(named: str) -> bool:
    """Whether a DS record is of a kind that resolvers check; a label always is."""
    if not _is_data(named):
        return True
    data: Any = rdata("DS", named)
    return data.algorithm in _ALGORITHMS and data.digest_type in _DIGESTS


def _is_data(named: str) -> bool:
    """Whether what is named is DS data, which a load has checked, and no label (labels may have blanks)."""
    return named[:1].isdecimal() and " " in named


#: How long a resolver takes signatures beyond their time, in seconds, at least and at most.
Slack = tuple[int, int]
NO_SLACK: Slack = (0, 0)


def judged(
    zone: Zone, data: ZoneData, named: tuple[str, ...], now: datetime, shared: Shared, slack: Slack = NO_SLACK
) -> Decision:
    """The verdict on a zone whose parent names these keys, by a resolver with some patience about times."""
    place, shown = zone.place.key("ds"), ", ".join(map(_short, named))
    own = data.nodes.get(zone.name, {}).get("DNSKEY", ())
    if not zone.keys and not own:
        return zone_kinds.SignatureMissing(zone.name, shown, place=place, subject=zone)
    if not any(each in zone.keys for each in named) and not any(_fits(each, zone.name, own) for each in named):
        keys = ", ".join(zone.keys) or f"the key {_tags(own)}"
        return zone_kinds.SignatureBroken(zone.name, shown, keys, place=place, subject=zone)
    until = max(_ends(zone, data), default=None)
    if until is not None and now >= until + timedelta(seconds=slack[1]):
        return zone_kinds.SignatureExpired(zone.name, f"{until:%Y-%m-%d %H:%M} UTC", place=zone.place, subject=zone)
    unsigned = keys_fault(zone.name, data, named, now, shared, slack)
    if unsigned is not None:
        return zone_kinds.SetUnsigned("DNSKEY", zone.name, unsigned, place=own[0].place, subject=zone)
    return zone_kinds.Signed(zone.name, place=place, subject=zone)


def sets_of(name: str, found: Found | Below | Cut, data: ZoneData) -> Iterator[tuple[str, str, tuple[Any, ...]]]:
    """The sets of records that an answer needs, with whose they are: addresses and aliases, a DNAME record, a DS set."""
    if isinstance(found, Cut):
        held = data.nodes.get(found.name, {}).get("DS", ())
        if held:
            yield found.name, "DS", held
    elif isinstance(found, Below):
        yield found.record.owner, "DNAME", (found.record,)
    else:
        owner = found.wildcard or name
        for kind in ("CNAME",) if "CNAME" in found.types else ("A", "AAAA"):
            if kind in found.types:
                yield owner, kind, found.types[kind]


def set_fault(
    zone: str,
    data: ZoneData,
    owner: str,
    kind: str,
    records: tuple[Any, ...],
    now: datetime,
    shared: Shared,
    slack: Slack,
) -> str | None:
    """What is wrong with the signatures of a set, where the zone's file has keys (RFC 4035 section 5.3); None where one holds."""
    own = data.nodes.get(zone, {})
    if "DNSKEY" not in own or "RRSIG" not in own:
        return None
    # Whether a signature fits does not change with time; when it holds is asked each time.
    found = shared.of("signed", data, lambda: _fitting(zone, data, owner, kind, records, own["DNSKEY"]), owner, kind)
    return _in_time(found, now, slack)


def keys_fault(
    zone: str, data: ZoneData, named: tuple[str, ...], now: datetime, shared: Shared, slack: Slack
) -> str | None:
    """The same for the zone's keys: one that the parent names must have signed them (RFC 4035 section 5.2)."""
    own = data.nodes.get(zone, {}).get("DNSKEY", ())
    signed = data.nodes.get(zone, {}).get("RRSIG", ())
    if not own or not signed:
        return None

    def made() -> list[_Signature] | None:
        trusted = tuple(each for each in own if any(_fits(one, zone, (each,)) for one in named))
        return _fitting(zone, data, zone, "DNSKEY", own, trusted) if trusted else None

    found = shared.of("signed keys", data, made, named)
    return _in_time(found, now, slack) if found is not None else None


#: A signature of a set: from when and until when, and whether it fits the set by a key that counts.
_Signature = tuple[int, int, bool]


def _fitting(
    zone: str, data: ZoneData, owner: str, kind: str, records: tuple[Any, ...], keys: tuple[Any, ...]
) -> list[_Signature]:
    """The signatures over a set."""
    import dns.dnssec
    import dns.exception
    import dns.name
    import dns.rdataclass
    import dns.rdatatype
    import dns.rrset

    found: list[_Signature] = []
    apex = dns.name.from_text(zone)
    made: list[Any] = [rdata("DNSKEY", str(each.data)) for each in keys]
    for record in data.nodes.get(owner, {}).get("RRSIG", ()):
        signature: Any = rdata("RRSIG", str(record.data))
        if dns.rdatatype.to_text(signature.type_covered) != kind:
            continue
        rrset = dns.rrset.from_rdata_list(
            dns.name.from_text(owner), signature.original_ttl, [rdata(kind, _as_text(kind, each)) for each in records]
        )
        fits = False
        for key in made:
            with suppress(dns.exception.DNSException, ValueError):
                keyring = {apex: dns.rrset.from_rdata_list(apex, 60, [key])}
                dns.dnssec.validate_rrsig(rrset, signature, keyring, now=signature.inception)  # type: ignore[arg-type]
                fits = True
        found.append((signature.inception, signature.expiration, fits))
    return found


def _as_text(kind: str, record: Any) -> str:
    """A record's data as the DNS library reads it: names are whole."""
    return f"{record.data}." if kind in ("CNAME", "DNAME") else str(record.data)


def _in_time(signatures: list[_Signature], now: datetime, slack: Slack) -> str | None:
    """Why none of the signatures holds now; None where one does."""
    if not signatures:
        return "it has no signature"
    fitting = [each for each in signatures if each[2]]
    if not fitting:
        return "no signature fits it"
    moment = now.timestamp()
    for begins, ends, _ in fitting:
        beyond = max(slack[0], min(slack[1], (ends - begins) // 10))
        if begins - beyond <= moment < ends + beyond:
            return None
    latest = max(fitting, key=lambda each: each[1])
    if moment < latest[0]:
        return f"its signature begins on {datetime.fromtimestamp(latest[0], UTC):%Y-%m-%d %H:%M} UTC"
    return f"its signature ended on {datetime.fromtimestamp(latest[1], UTC):%Y-%m-%d %H:%M} UTC"


def signatures_end(zone: Zone, data: ZoneData) -> datetime | None:
    """When the first of the signatures over the zone's apex ends; None when nothing says so."""
    return min(_ends(zone, data), default=None)


def _ends(zone: Zone, data: ZoneData) -> list[datetime]:
    """When each signature over the zone's apex ends, or the zone says that all do; of several one that holds is enough."""
    if zone.signatures_until is not None:
        return [zone.signatures_until]
    held: list[Any] = [rdata("RRSIG", str(each.data)) for each in data.nodes.get(zone.name, {}).get("RRSIG", ())]
    return [datetime.fromtimestamp(each.expiration, UTC) for each in held]


def _fits(named: str, name: str, keys: tuple[Any, ...]) -> bool:
    """Whether DS data belongs to one of the keys (RFC 4034 section 5.1.4)."""
    import dns.dnssec
    import dns.name

    if not _is_data(named):
        return False
    ds: Any = rdata("DS", named)
    owner = dns.name.from_text(name)
    for record in keys:
        key: Any = rdata("DNSKEY", str(record.data))
        made = dns.dnssec.make_ds(owner, key, ds.digest_type, policy=dns.dnssec.allow_all_policy)
        if made == ds:
            return True
    return False


def _tags(keys: tuple[Any, ...]) -> str:
    import dns.dnssec

    held: list[Any] = [rdata("DNSKEY", str(each.data)) for each in keys]
    return ", ".join(str(dns.dnssec.key_id(each)) for each in held)


def _short(named: str) -> str:
    if not _is_data(named):
        return named
    data: Any = rdata("DS", named)
    return str(data.key_tag)
