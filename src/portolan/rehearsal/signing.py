"""Signed zones for a rehearsal: keys of our own, one for each key label of the estate.

Whether the keys fit and the signatures are in time is left to the real resolver: it runs at the estate's moment, and gets
the DS records that the parent is said to hold and signatures that end when the estate says.
"""

from datetime import UTC, datetime, timedelta
from typing import Any

from portolan.estate.records import ZoneData
from portolan.estate.zone import Zone
from portolan.rehearsal.quoting import UnstageableError

#: What a signed zone's own records are; they are made anew.
SIGNED_TYPES = frozenset(("DNSKEY", "RRSIG", "NSEC", "NSEC3", "NSEC3PARAM", "CDS", "CDNSKEY"))
_OWN, _STRAY = "its own", "another"
_LONG = timedelta(days=3000)


def _is_data(named: str) -> bool:
    """Whether a DS record is stated as data, which a load has checked; labels do not begin with a number and a blank."""
    return " " in named and named[0].isdecimal()


def signs_itself(zone: Zone) -> bool:
    """Whether a zone's file has its keys and signatures: it is staged as it is, and so is what its parent holds."""
    apex = zone.data.nodes.get(zone.name, {})
    return not zone.keys and "DNSKEY" in apex and "RRSIG" in apex


class Signer:
    """Makes keys and signs zone texts, for resolvers whose clocks show the estate's moment."""

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

        held = parent.nodes.get(zone.name, {}).get("DS", ()) if parent is not None else ()
        named = [*zone.ds, *(str(record.data) for record in held)]
        found: list[str] = []
        if signs_itself(zone):
            return [f"{dns.name.from_text(zone.name)} 60 DS {each}" for each in dict.fromkeys(named)]
        for label in dict.fromkeys(self._label(zone, each) for each in named):
            if _is_data(label):  # DS data that no resolver can check is kept as it is
                found.append(f"{dns.name.from_text(zone.name)} 60 DS {label}")
                continue
            key = self._key(zone.name, label)[1]
            ds = dns.dnssec.make_ds(dns.name.from_text(zone.name), key, "SHA256")
            found.append(f"{dns.name.from_text(zone.name)} 60 DS {ds.to_text()}")
        return found

    def anchor(self) -> str:
        """The DS record of the root's key."""
        import dns.dnssec
        import dns.name

        return f". DS {dns.dnssec.make_ds(dns.name.root, self._key('', _OWN)[1], 'SHA256').to_text()}"

    def signed(self, text: str, name: str, zone: Zone | None) -> str:
        """A zone's text with keys and signatures, which end when the estate's do."""
        import dns.dnssec
        import dns.exception
        import dns.name
        import dns.zone

        labels = (_OWN,) if zone is None else self.labels(zone)
        if not labels or (zone is not None and signs_itself(zone)):
            return text
        until = _signatures_until(zone) if zone is not None else None
        end = self.moment + _LONG if until is None else until
        begin = min(self.moment, end) - _LONG
        try:
            made = dns.zone.from_text(
                text, origin=dns.name.from_text(name or "."), relativize=False, check_origin=False
            )
        except (dns.exception.DNSException, ValueError) as error:
            raise UnstageableError(
                f"the signed zone {name} ({error})", name, zone.place if zone is not None else None
            ) from None
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

    def _label(self, zone: Zone, named: str) -> str:
        """The label of the key that a DS record names; DS data is one's own key, another's, or of an unknown kind."""
        import dns.dnssec
        import dns.name
        import dns.rdata

        if not _is_data(named):
            return named
        ds: Any = dns.rdata.from_text("IN", "DS", named)
        if ds.digest_type not in (1, 2, 4) or ds.algorithm not in (5, 7, 8, 10, 13, 14, 15, 16):
            return str(ds.to_text())
        for record in zone.data.nodes.get(zone.name, {}).get("DNSKEY", ()):
            key: Any = dns.rdata.from_text("IN", "DNSKEY", str(record.data))
            if (
                dns.dnssec.make_ds(
                    dns.name.from_text(zone.name), key, ds.digest_type, policy=dns.dnssec.allow_all_policy
                )
                == ds
            ):
                return _OWN
        return _STRAY


def _signatures_until(zone: Zone) -> datetime | None:
    """When the signatures over the zone's apex end, as it says or as its RRSIG records do (RFC 4034 section 3.1.5)."""
    if zone.signatures_until is not None:
        return zone.signatures_until
    texts = [str(record.data).split()[4] for record in zone.data.nodes.get(zone.name, {}).get("RRSIG", ())]
    return min((datetime.strptime(text, "%Y%m%d%H%M%S").replace(tzinfo=UTC) for text in texts), default=None)
