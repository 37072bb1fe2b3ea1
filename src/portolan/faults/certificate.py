"""Faults of certificates."""

from portolan.estate.certificate import Certificate
from portolan.faults.base import Case, Finding, fault


def _found(case: Case, code: str) -> Finding | None:
    stop = case.stop
    handshake = case.last.handshake
    if stop is None or handshake is None or not isinstance(stop.subject, Certificate):
        return None
    return Finding(code, stop.text, stop.subject.place, hints={"certificate": stop.subject, "name": case.host})


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
    vantage = case.visit.vantage
    if vantage.clock is None:
        return None
    text = f"{vantage.name}'s clock says {vantage.clock:%Y-%m-%d}; it is {case.world.now:%Y-%m-%d}"
    return Finding("clock-wrong", text, vantage.place.key("clock"), hints={"vantage": vantage})


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
    """Another certificate of the estate that covers the name is bound to the promised site of this service."""
    return None if case.decision("shows-others") is None else _found(case, "cert-default-served")


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
    "issuer-unknown",
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
    "chain-incomplete",
)
def chain_incomplete(case: Case) -> Finding | None:
    """The link between certificate and root is missing."""
    return _found(case, "cert-chain-incomplete")
