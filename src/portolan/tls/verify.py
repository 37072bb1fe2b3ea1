"""What a visitor checks, in this order: the chain to an anchor, use, the time at its clock, and names."""

from collections.abc import Callable
from datetime import datetime
from ipaddress import ip_address
from typing import Any

from portolan.estate.base import IPAddress
from portolan.estate.certificate import Certificate
from portolan.estate.client import Checks, Client
from portolan.estate.estate import Estate
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.legs import Handshake
from portolan.evidence.outcome import Detail
from portolan.tls.facts import Facts, Shown, authority_facts, shown_by

_MOST_LINKS = 10


def covers(pattern: str, host: str, literal: IPAddress | None) -> bool:
    """Whether a certificate's name covers a host (RFC 9525 section 6.3): exact, or a whole left-most label."""
    if literal is not None:
        try:
            return ip_address(pattern) == literal
        except ValueError:
            return False
    pattern, host = pattern.lower().rstrip("."), host.lower().rstrip(".")
    if pattern.startswith("*."):
        first, dot, rest = host.partition(".")
        return bool(first and dot) and rest == pattern[2:]
    return pattern == host


def verify(
    certificate: Certificate,
    host: str,
    literal: IPAddress | None,
    client: Client,
    now: datetime,
    estate: Estate,
    shared: dict[Any, Any],
) -> Handshake:
    """What a client makes of a server's certificate, for the host that it asked for."""
    decisions: list[Decision] = []
    place = certificate.place
    if client.checks is Checks.NOTHING:
        unchecked = tls_kinds.Unchecked(client.name, place=client.place, subject=certificate)
        return Handshake(None, (unchecked,), certificate)
    shown = shown_by(certificate, estate, shared)
    full = client.checks is Checks.EVERYTHING
    path = _chain(shown, certificate, client, estate, shared, decisions) if full else [shown.leaf]
    if isinstance(path, Detail):
        return Handshake(path, tuple(decisions), certificate, decisions[-1])

    def fail(detail: Detail, kind: Callable[..., Decision], *facts: str) -> Handshake:
        decisions.append(kind(*facts, place=place, subject=certificate))
        return Handshake(detail, tuple(decisions), certificate, decisions[-1])

    # OpenSSL looks at purposes before it looks at the clock.
    for link in path[1:]:
        if not link.may_issue:
            return fail(Detail.OTHER, tls_kinds.WrongUse, link.label, "it is no authority's certificate")
        if link.most_below is not None and _authorities_below(path, link) > link.most_below:
            return fail(
                Detail.OTHER,
                tls_kinds.WrongUse,
                link.label,
                f"at most {link.most_below} authorities may stand below it",
            )
    if full and not shown.leaf.may_serve:
        return fail(Detail.OTHER, tls_kinds.WrongUse, shown.leaf.label, "it is not for servers")
    for link in reversed(path):
        if link.until is not None and now > link.until:
            return fail(Detail.EXPIRED, tls_kinds.Expired, link.label, _when(link.until), _when(now))
        if link.starts is not None and now < link.starts:
            return fail(Detail.NOT_YET_VALID, tls_kinds.NotYetValid, link.label, _when(link.starts), _when(now))
    if shown.leaf.until is not None:
        decisions.append(tls_kinds.Valid(_when(shown.leaf.until), place=place, subject=certificate))
    if not any(covers(name, host, literal) for name in shown.leaf.names):
        return fail(
            Detail.NAME_MISMATCH,
            tls_kinds.NameMismatch,
            certificate.name,
            host,
            ", ".join(shown.leaf.names) or "no name",
        )
    decisions.append(tls_kinds.Covers(host, place=place, subject=certificate))
    return Handshake(None, tuple(decisions), certificate)


def _authorities_below(path: list[Facts], link: Facts) -> int:
    """How many authorities stand between a link and the leaf, those aside that issued themselves (RFC 5280 section 6.1.4)."""
    return sum(each.subject != each.issuer for each in path[1 : path.index(link)])


def _when(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%d %H:%M UTC")


def _chain(
    shown: Shown,
    certificate: Certificate,
    client: Client,
    estate: Estate,
    shared: dict[Any, Any],
    decisions: list[Decision],
) -> list[Facts] | Detail:
    """The path to an anchor, or the failure's detail."""
    anchors, others = _trusted(client, estate, shared)
    leaf = shown.leaf
    place, who = certificate.place, client.name
    path = [leaf]
    while len(path) < _MOST_LINKS:
        current = path[-1]
        anchor = next((each for each in anchors if each.identity == current.identity or each.signed(current)), None)
        if anchor is not None:
            if anchor.identity != current.identity:
                path.append(anchor)
            decisions.append(tls_kinds.Trusted(anchor.label, who, place=place, subject=certificate))
            return path
        if current.self_signed:
            break
        above = next((each for each in shown.chain if each not in path and each.signed(current)), None)
        if above is None:
            break
        path.append(above)
    last = path[-1]
    if last.issuer == "authority:public" and "public" in client.trusts:
        decisions.append(tls_kinds.Trusted("an ordinary public authority", who, place=place, subject=certificate))
        return path
    if leaf.self_signed:
        decisions.append(tls_kinds.SelfSigned(leaf.label, who, place=place, subject=certificate))
        return Detail.SELF_SIGNED
    if last.self_signed:
        decisions.append(tls_kinds.UnknownIssuer(leaf.label, last.label, who, place=place, subject=certificate))
        return Detail.UNKNOWN_ISSUER
    known = next((each for each in others if each.signed(last)), None)
    if known is not None and _leads_to(known, others, anchors):
        decisions.append(tls_kinds.IncompleteChain(last.label, known.label, who, place=place, subject=certificate))
        return Detail.INCOMPLETE_CHAIN
    if known is None and isinstance(last.identity, bytes) and "public" in client.trusts and not estate.authorities:
        decisions.append(tls_kinds.TrustAssumed(last.issuer, who, place=place, subject=certificate))
        return path
    issuer = known.label if known is not None else last.issuer.removeprefix("authority:")
    decisions.append(tls_kinds.UnknownIssuer(leaf.label, issuer, who, place=place, subject=certificate))
    return Detail.UNKNOWN_ISSUER


def _trusted(client: Client, estate: Estate, shared: dict[Any, Any]) -> tuple[list[Facts], list[Facts]]:
    """The visitor's anchors, and every other authority of the estate."""
    anchors, others = [], []
    for authority in estate.authorities.values():
        facts = authority_facts(authority, shared)
        root = facts.self_signed
        if authority.name in client.trusts or (root and authority.public and "public" in client.trusts):
            anchors.append(facts)
        else:
            others.append(facts)
    return anchors, others


def _leads_to(authority: Facts, others: list[Facts], anchors: list[Facts]) -> bool:
    for _ in range(_MOST_LINKS):
        if authority.issuer == "authority:public" or any(anchor.signed(authority) for anchor in anchors):
            return True
        above = next((each for each in others if each is not authority and each.signed(authority)), None)
        if above is None:
            return False
        authority = above
    return False
