"""Faults of certificates."""

from collections.abc import Iterator
from datetime import timedelta

import msgspec

from portolan.diagnosis.base import Case, Finding, fault
from portolan.diagnosis.proposal import Patch, Proposal, put, remedy, remove, replace
from portolan.estate.certificate import Certificate
from portolan.estate.vantage import Vantage
from portolan.evidence.kinds import tls as tls_kinds
from portolan.tls.facts import shown_by


class CertificateClue(msgspec.Struct, frozen=True):
    """The certificate shown, the name asked for, and the fault's code."""

    certificate: Certificate
    name: str
    code: str


class ClockClue(msgspec.Struct, frozen=True):
    """Whose clock is wrong."""

    vantage: Vantage


def _found(case: Case, code: str) -> Finding | None:
    stop = case.stop
    handshake = case.exchange.handshake
    if stop is None or handshake is None or not isinstance(stop.subject, Certificate):
        return None
    if stop.subject.name not in case.world.stated.certificates:
        # A provider's own: nobody here gets it anew.
        return None
    return Finding(
        code, stop.text, stop.subject.place, clue=CertificateClue(certificate=stop.subject, name=case.host, code=code)
    )


@fault(
    "clock-wrong",
    "The visitor's clock is wrong",
    "expired or not yet valid, there only",
    "Set that machine's clock.",
    "expired",
    "not-yet-valid",
)
def clock_wrong(case: Case) -> Finding | None:
    """By the estate's moment the certificate is valid."""
    vantage = case.client
    if not isinstance(vantage, Vantage) or vantage.clock is None:
        return None
    text = f"{vantage.name}'s clock says {vantage.clock:%Y-%m-%d}; it is {case.world.now:%Y-%m-%d}"
    return Finding("clock-wrong", text, vantage.place.key("clock"), clue=ClockClue(vantage=vantage))


@fault(
    "cert-expired",
    "The certificate has expired",
    "expired",
    "Renew it, install it, reload the service; and make the renewal run by itself.",
    "expired",
)
def expired(case: Case) -> Finding | None:
    """Its time is over."""
    return _found(case, "cert-expired")


@fault(
    "cert-not-yet",
    "The certificate is not yet valid",
    "not yet valid",
    "Wait, or install one that is valid now; look at the issuer's clock.",
    "not-yet-valid",
)
def not_yet(case: Case) -> Finding | None:
    """Its time has not begun."""
    return _found(case, "cert-not-yet")


@fault(
    "cert-default-served",
    "The name selects no site, and the default site's certificate shows",
    "the name does not match",
    "Bind the name to its site, whose certificate covers it.",
    "name-mismatch",
)
def default_served(case: Case) -> Finding | None:
    """The site has no certificate of its own, and the default site's was shown."""
    return None if case.decision(tls_kinds.ShowsOthers) is None else _found(case, "cert-default-served")


@fault(
    "cert-name",
    "The certificate does not cover the name",
    "the name does not match",
    "Get a certificate that covers every name that visitors type, apex and www both.",
    "name-mismatch",
)
def name(case: Case) -> Finding | None:
    """The name is not on it."""
    return _found(case, "cert-name")


@fault(
    "cert-self-signed",
    "The certificate is signed by itself",
    "self-signed",
    "Get one from an authority that visitors trust.",
    "self-signed",
)
def self_signed(case: Case) -> Finding | None:
    """No authority stands behind it."""
    return _found(case, "cert-self-signed")


@fault(
    "cert-issuer-unknown",
    "The visitor does not trust the issuer",
    "unknown issuer",
    "Get one from an authority that visitors trust, or give this visitor the authority's root.",
    "unknown-issuer",
    "wrong-use",
)
def issuer_unknown(case: Case) -> Finding | None:
    """No anchor of the visitor's stands behind it."""
    return _found(case, "cert-issuer-unknown")


@fault(
    "cert-chain-incomplete",
    "The intermediate certificate is not sent",
    "incomplete chain, for some",
    "Install the certificate with its whole chain.",
    "incomplete-chain",
)
def chain_incomplete(case: Case) -> Finding | None:
    """The link between certificate and root is missing."""
    return _found(case, "cert-chain-incomplete")


# -- remedies --

#: How long a new certificate is thought to be valid.
_TERM = timedelta(days=90)


def _renewed(case: Case, certificate: Certificate, names: list[str], issuer: str | None) -> Patch:
    start = case.world.now - timedelta(days=1)
    value = {
        "names": names,
        "issuer": issuer or "public",
        "from": start.strftime("%Y-%m-%dT%H:%M:%SZ"),
        "until": (start + _TERM).strftime("%Y-%m-%dT%H:%M:%SZ"),
    }
    return replace(certificate.place.path, value)


def _names(case: Case, certificate: Certificate) -> list[str]:
    return list(shown_by(certificate, case.estate, case.world.shared).leaf.names)


def _issuers(case: Case, certificate: Certificate) -> list[str]:
    """The issuer that it has, as far as it can be declared, then those that the visitor trusts."""
    known = [certificate.issuer] if certificate.issuer not in (None, "self") else []
    trusted = [name for name in case.client.trusts if name != "public"]
    public = ["public"] if "public" in case.client.trusts else []
    return list(dict.fromkeys([*(each for each in known if each), *public, *trusted]))


@remedy("cert-expired", "cert-not-yet")
def renew(case: Case, clue: CertificateClue) -> Iterator[Proposal]:
    """Renews it with the same names."""
    certificate = clue.certificate
    names = _names(case, certificate) or [case.host]
    for issuer in _issuers(case, certificate):
        yield Proposal(
            f"renew the certificate {certificate.name} for {', '.join(names)}, and reload",
            _renewed(case, certificate, names, issuer),
        )


@remedy("cert-name", "cert-default-served")
def cover(case: Case, clue: CertificateClue) -> Iterator[Proposal]:
    """Uses a certificate of the estate that covers the name; or gets one that covers it too."""
    certificate, name = clue.certificate, clue.name
    response_site = next((home.site for home in case.homes()), None)
    for other in case.estate.certificates.values():
        if other is not certificate and name in _names(case, other) and response_site is not None:
            yield Proposal(
                f"let {response_site.name} show the certificate {other.name}, which covers {name}",
                put(response_site.place, "certificate", other.name),
            )
    names = [*_names(case, certificate), name]
    for issuer in _issuers(case, certificate):
        yield Proposal(
            f"get the certificate {certificate.name} anew for {', '.join(names)}, and reload",
            _renewed(case, certificate, names, issuer),
        )


@remedy("cert-self-signed", "cert-issuer-unknown", "cert-chain-incomplete")
def trusted_one(case: Case, clue: CertificateClue) -> Iterator[Proposal]:
    """Sends the chain, or gets a certificate that the visitor trusts."""
    certificate = clue.certificate
    if certificate.file is None and not certificate.sends_chain:
        yield Proposal(f"install {certificate.name} with its whole chain", put(certificate.place, "sends_chain", True))
    names = _names(case, certificate) or [case.host]
    if clue.code == "cert-chain-incomplete" and certificate.file is not None:
        yield Proposal(f"install {certificate.name} with its whole chain", _renewed(case, certificate, names, "public"))
        return
    for issuer in _issuers(case, certificate):
        whose = "an ordinary public authority" if issuer == "public" else issuer
        if issuer != certificate.issuer:
            yield Proposal(
                f"get a certificate for {', '.join(names)} from {whose}", _renewed(case, certificate, names, issuer)
            )


@remedy("clock-wrong")
def set_clock(_case: Case, clue: ClockClue) -> Iterator[Proposal]:
    """Sets the visitor's clock."""
    vantage = clue.vantage
    yield Proposal(f"set the clock of {vantage.name}", remove((*vantage.place.path, "clock")))
