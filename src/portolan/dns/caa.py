"""Which authorities may issue for a name, by the CAA records of the name and of those above it (RFC 8659, RFC 8657)."""

from collections.abc import Callable
from typing import Any

from portolan.dns.naming import Naming
from portolan.dns.rdata import rdata
from portolan.dns.zone import Found
from portolan.estate.certificate import Certificate
from portolan.estate.zone import Zone
from portolan.source.place import Place
from portolan.source.value import Value

#: Tags that authorities know (RFC 8659 section 4, RFC 9495).
_TAGS = (b"issue", b"issuewild", b"iodef", b"issuemail", b"issuevmc", b"contactemail", b"contactphone")


class Refusal(Value, frozen=True):
    """Why none may issue, or not the one that does: in words, with the records, and which name would have to be allowed."""

    text: str
    place: Place
    zone: Zone
    name: str
    tag: str
    wanted: str


def forbidding(
    naming: Naming,
    zone_of: Callable[[str], Zone | None],
    certificate: Certificate,
    covered: str,
    way: str | None = None,
) -> Refusal | None:
    """What keeps the authority of a certificate from issuing for one of its names, by one way to prove it or by any; None where it may."""
    if certificate.issuer == "self":
        return None
    authority = naming.estate.authorities.get(certificate.issuer or "")
    wanted = tuple(map(str, authority.caa_names)) if authority is not None else ()
    renews = certificate.renews
    account = renews.account if renews is not None else None
    name = covered.removeprefix("*.")
    while name:
        zone = zone_of(name)
        types = naming.index(zone).look(name) if zone is not None else None
        records = (types.types if isinstance(types, Found) else {}).get("CAA", ())
        if zone is None or not records:
            name = name.partition(".")[2]
            continue
        read: list[Any] = [rdata("CAA", str(record.data)) for record in records]
        odd = next((each for each in read if each.flags & 128 and each.tag.lower() not in _TAGS), None)
        if odd is not None:
            # RFC 8659 section 4.1: what is critical and not understood forbids everything.
            tag = odd.tag.decode("ascii", "replace")
            text = (
                f"the CAA record {tag} of {name} is critical, and no authority knows it: none may issue for {covered}"
            )
            return Refusal(text, records[0].place, zone, name, "issue", "")
        wild = covered.startswith("*.") and any(each.tag.lower() == b"issuewild" for each in read)
        tag = "issuewild" if wild else "issue"
        values = [each.value.decode("ascii", "replace") for each in read if each.tag.lower() == tag.encode()]
        if not values:
            return None
        allowed = [_read(value) for value in values]
        fitting = [each for each in allowed if each[0] and (not wanted or each[0] in wanted)]
        if not fitting:
            who = ", ".join(each[0] for each in allowed if each[0]) or "nobody"
            by = certificate.issuer or "a public authority"
            text = f"the CAA records of {name} allow {who} to issue for {covered}; the certificate {certificate.name} is by {by}"
            return Refusal(text, records[0].place, zone, name, tag, wanted[0] if wanted else "")
        if any(_permits(each[1], way, account) for each in fitting):
            return None
        bound = ", ".join(f"{key}={value}" for _, held in fitting for key, value in held.items())
        how = f"by {way}" if way is not None else "for this account"
        text = f"the CAA records of {name} allow {fitting[0][0]} to issue with {bound} only, and not {how}"
        return Refusal(text, records[0].place, zone, name, tag, fitting[0][0])
    return None


def _read(value: str) -> tuple[str, dict[str, str]]:
    """A value's authority and its parameters (RFC 8659 section 4.2)."""
    parts = [each.strip() for each in value.split(";")]
    pairs = [each.partition("=") for each in parts[1:] if each]
    return parts[0].lower().rstrip("."), {key.strip().lower(): held.strip() for key, _, held in pairs}


def _permits(held: dict[str, str], way: str | None, account: str | None) -> bool:
    """Whether the parameters let it be proven so, for this account (RFC 8657 sections 3 and 4)."""
    ways = [each.strip() for each in held.get("validationmethods", "").split(",") if each.strip()]
    if "validationmethods" in held and way is not None and way not in ways:
        return False
    return "accounturi" not in held or account is None or held["accounturi"] == account
