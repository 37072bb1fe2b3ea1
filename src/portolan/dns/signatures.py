"""What a validating resolver makes of a zone (RFC 4035 section 5): the keys that the parent names, and time."""

from datetime import UTC, datetime
from typing import Any

from portolan.dns.rdata import rdata
from portolan.estate.records import ZoneData
from portolan.estate.zone import Zone
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import zone as zone_kinds


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


def judged(zone: Zone, data: ZoneData, named: tuple[str, ...], now: datetime) -> Decision:
    """The verdict on a zone whose parent names these keys."""
    place, shown = zone.place.key("ds"), ", ".join(map(_short, named))
    own = data.nodes.get(zone.name, {}).get("DNSKEY", ())
    if not zone.keys and not own:
        return zone_kinds.SignatureMissing(zone.name, shown, place=place, subject=zone)
    if not any(each in zone.keys for each in named) and not any(_fits(each, zone.name, own) for each in named):
        keys = ", ".join(zone.keys) or f"the key {_tags(own)}"
        return zone_kinds.SignatureBroken(zone.name, shown, keys, place=place, subject=zone)
    until = signatures_end(zone, data)
    if until is not None and now >= until:
        return zone_kinds.SignatureExpired(zone.name, f"{until:%Y-%m-%d %H:%M} UTC", place=zone.place, subject=zone)
    return zone_kinds.Signed(zone.name, place=place, subject=zone)


def signatures_end(zone: Zone, data: ZoneData) -> datetime | None:
    """When the signatures over the zone's apex end; None when nothing says so."""
    if zone.signatures_until is not None:
        return zone.signatures_until
    held: list[Any] = [rdata("RRSIG", str(each.data)) for each in data.nodes.get(zone.name, {}).get("RRSIG", ())]
    return min((datetime.fromtimestamp(each.expiration, UTC) for each in held), default=None)


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
