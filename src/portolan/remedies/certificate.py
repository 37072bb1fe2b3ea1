"""Remedies for certificates: a new one is declared in the place of the old; the real one must then be got."""

from collections.abc import Iterator
from datetime import timedelta

from portolan.estate.certificate import Certificate
from portolan.faults.base import Case, Finding
from portolan.remedies.base import Patch, Proposal, put, remedy, remove, replace
from portolan.tls.facts import shown_by

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
    trusted = [name for name in case.visit.vantage.trusts if name != "public"]
    public = ["public"] if "public" in case.visit.vantage.trusts else []
    return list(dict.fromkeys([*(each for each in known if each), *public, *trusted]))


@remedy("cert-expired", "cert-not-yet")
def renew(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Renews it with the same names."""
    certificate = finding.hints["certificate"]
    names = _names(case, certificate) or [case.host]
    for issuer in _issuers(case, certificate):
        yield Proposal(
            f"renew the certificate {certificate.name} for {', '.join(names)}, and reload",
            _renewed(case, certificate, names, issuer),
        )


@remedy("cert-name", "cert-default-served")
def cover(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Uses a certificate of the estate that covers the name; or gets one that covers it too."""
    certificate, name = finding.hints["certificate"], str(finding.hints["name"])
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
def trusted_one(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Sends the chain, or gets a certificate that the visitor trusts."""
    certificate = finding.hints["certificate"]
    if certificate.file is None and not certificate.sends_chain:
        yield Proposal(f"install {certificate.name} with its whole chain", put(certificate.place, "sends_chain", True))
    names = _names(case, certificate) or [case.host]
    if finding.code == "cert-chain-incomplete" and certificate.file is not None:
        yield Proposal(f"install {certificate.name} with its whole chain", _renewed(case, certificate, names, "public"))
        return
    for issuer in _issuers(case, certificate):
        whose = "an ordinary public authority" if issuer == "public" else issuer
        if issuer != certificate.issuer:
            yield Proposal(
                f"get a certificate for {', '.join(names)} from {whose}", _renewed(case, certificate, names, issuer)
            )


@remedy("clock-wrong")
def set_clock(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Sets the visitor's clock."""
    vantage = finding.hints["vantage"]
    yield Proposal(f"set the clock of {vantage.name}", remove((*vantage.place.path, "clock")))
