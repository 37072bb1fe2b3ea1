"""Signed zones for a rehearsal: keys of our own, one for each key label of the estate."""

from datetime import UTC, datetime, timedelta
from typing import Any

from portolan.estate.zone import Zone, ZoneData
from portolan.names import law
from portolan.names.signatures import judged, named_keys

#: What a signed zone's own records are; they are made anew.
SIGNED_TYPES = frozenset(("DNSKEY", "RRSIG", "NSEC", "NSEC3", "NSEC3PARAM", "CDS", "CDNSKEY"))
_OWN, _STRAY = "its own", "another"


class Signer:
    """Makes keys and signs zone texts."""

    def __init__(self, moment: datetime) -> None:
        self.moment = moment
        self._keys: dict[tuple[str, str], Any] = {}

    def labels(self, zone: Zone) -> tuple[str, ...]:
        """The labels of the keys that a zone is signed with; empty for an unsigned one."""
        if zone.keys:
            return zone.keys
        return (_OWN,) if "DNSKEY" in zone.data.nodes.get(zone.name, {}) else ()

    def ds_lines(self, zone: Zone, parent: ZoneData | None) -> list[str]:
        """The DS records that the parent holds, as master file lines."""
        import dns.dnssec
        import dns.name

        named = named_keys(zone, parent)
        found = []
        for label in dict.fromkeys(_label(zone, each, self.moment) for each in named):
            key = self._key(zone.name, label)[1]
            ds = dns.dnssec.make_ds(dns.name.from_text(zone.name), key, "SHA256")
            found.append(f"{zone.name}. 60 DS {ds.to_text()}")
        return found

    def anchor(self) -> str:
        """The DS record of the root's key."""
        import dns.dnssec
        import dns.name

        return f". DS {dns.dnssec.make_ds(dns.name.root, self._key('', _OWN)[1], 'SHA256').to_text()}"

    def signed(self, text: str, name: str, zone: Zone | None) -> str:
        """A zone's text with keys and signatures, which have ended where the estate's have."""
        import dns.dnssec
        import dns.name
        import dns.zone

        labels = (_OWN,) if zone is None else self.labels(zone)
        if not labels:
            return text
        now = datetime.now(UTC)
        expired = zone is not None and _expired(zone, self.moment)
        begin, end = (
            (now - timedelta(days=9), now - timedelta(days=1))
            if expired
            else (now - timedelta(days=1), now + timedelta(days=2))
        )
        made = dns.zone.from_text(text, origin=dns.name.from_text(name or "."), relativize=False, check_origin=False)
        keys = [self._key(name, label) for label in labels]
        dns.dnssec.sign_zone(made, keys=keys, inception=begin, expiration=end, dnskey_ttl=60)
        signed: str = made.to_text(relativize=False)
        return signed

    def _key(self, name: str, label: str) -> Any:
        import dns.dnssec
        from cryptography.hazmat.primitives.asymmetric import ec

        held = self._keys.get((name, label))
        if held is None:
            private = ec.generate_private_key(ec.SECP256R1())
            public = dns.dnssec.make_dnskey(private.public_key(), "ECDSAP256SHA256", flags=257)
            held = self._keys[name, label] = (private, public)
        return held


def _label(zone: Zone, named: str, moment: datetime) -> str:
    """The label of a key that a DS record names; DS data is one's own key or another, as it fits."""
    if " " not in named:
        return named
    alone = judged(zone, zone.data, (named,), moment)
    return _STRAY if alone.law in (law.SIGNATURE_BROKEN, law.SIGNATURE_MISSING) else _OWN


def _expired(zone: Zone, moment: datetime) -> bool:
    from portolan.names.signatures import signatures_end

    until = signatures_end(zone, zone.data)
    return until is not None and moment >= until
