"""What a visitor checks, in this order: the chain to an anchor, use, the time at its clock, and names."""

from collections.abc import Callable
from datetime import datetime
from ipaddress import ip_address
from typing import Any

from portolan.estate.base import IPAddress, is_address
from portolan.estate.certificate import Certificate
from portolan.estate.client import Checks, Client
from portolan.estate.estate import Estate
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.legs import Handshake
from portolan.evidence.outcome import Detail
from portolan.tls.facts import Facts, Shown, authority_every, shown_by

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
        # A star needs two labels below it, at every client that was asked.
        first, dot, rest = host.partition(".")
        return bool(first and dot) and rest == pattern[2:] and "." in rest
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
    path = _chain(shown, certificate, client, estate, shared, decisions, now) if full else [shown.leaf]
    if isinstance(path, Detail):
        return Handshake(path, tuple(decisions), certificate, decisions[-1])

    def fail(detail: Detail, kind: Callable[..., Decision], *facts: str) -> Handshake:
        decisions.append(kind(*facts, place=place, subject=certificate))
        return Handshake(detail, tuple(decisions), certificate, decisions[-1])

    flaw = _flaw(path, now, full)
    if flaw is not None:
        return fail(*flaw)
    if shown.leaf.until is not None:
        decisions.append(tls_kinds.Valid(_when(shown.leaf.until), place=place, subject=certificate))
    names = shown.leaf.names
    if shown.leaf.common is not None and not (isinstance(client, Vantage) and client.like == "chromium"):
        names = (shown.leaf.common,)
    if not any(covers(name, host, literal) for name in names):
        return fail(
            Detail.NAME_MISMATCH,
            tls_kinds.NameMismatch,
            certificate.name,
            host,
            ", ".join(shown.leaf.names) or "no name",
        )
    decisions.append(tls_kinds.Covers(host, place=place, subject=certificate))
    return Handshake(None, tuple(decisions), certificate)


_Flaw = tuple[Any, ...]


def _flaw(path: list[Facts], now: datetime, full: bool) -> _Flaw | None:
    """What is wrong with a path: the detail, the kind of decision and its facts; the first that OpenSSL would tell.

    In its order: what must be understood, purposes, how many may stand below, strength, the clock, what an authority may sign.
    """
    found = _unfit(path) if full else None
    if found is not None:
        return (Detail.OTHER, tls_kinds.WrongUse, *found)
    for link in reversed(path):
        if link.until is not None and now > link.until:
            return Detail.EXPIRED, tls_kinds.Expired, link.label, _when(link.until), _when(now)
        if link.starts is not None and now < link.starts:
            return Detail.NOT_YET_VALID, tls_kinds.NotYetValid, link.label, _when(link.starts), _when(now)
    beyond = _beyond(path) if full else None
    return (Detail.OTHER, tls_kinds.WrongUse, beyond[0].label, beyond[1], "constraint") if beyond is not None else None


def _unfit(path: list[Facts]) -> tuple[str, ...] | None:
    """A certificate of a path that is not fit for its part in it: which, why, and what is at fault."""
    for link in path:
        if link.critical is not None:
            return link.label, f"it has a critical extension ({link.critical}) that nobody knows"
    for link in path[1:]:
        if not link.may_issue:
            return link.label, "it is no authority's certificate"
        if not link.for_servers:
            return link.label, "it is not for servers' authorities"
        if link.most_below is not None and _authorities_below(path, link) > link.most_below:
            return link.label, f"at most {link.most_below} authorities may stand below it", "constraint"
    if not path[0].may_serve:
        return path[0].label, "it is not for servers"
    for link in path:
        # A root is trusted as it stands, however it is signed.
        if link.weak is not None and not (link.self_signed and link is path[-1] and len(path) > 1):
            return link.label, link.weak, "weak"
    return None


def _beyond(path: list[Facts]) -> tuple[Facts, str] | None:
    """The authority that may not sign one of the leaf's names, and which (RFC 5280 section 4.2.1.10)."""
    leaf = path[0]
    names = [each for each in (*leaf.names, *((leaf.common,) if leaf.common else ())) if not is_address(each)]
    for link in path[1:]:
        for name in names:
            bare = name.removeprefix("*.")
            if link.permitted is not None and not any(_below(bare, each) for each in link.permitted):
                return link, f"it may sign for {', '.join(link.permitted)} only, not for {name}"
            if any(_below(bare, each) for each in link.excluded):
                return link, f"it may not sign for {name}"
    return None


def _below(name: str, zone: str) -> bool:
    return not zone or name == zone or name.endswith(f".{zone}")


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
    now: datetime,
) -> list[Facts] | Detail:
    """The path to an anchor, or the failure's detail. Of several that lead on, one that is in time comes first."""
    anchors, others = _trusted(client, estate, shared)
    leaf = shown.leaf
    place, who = certificate.place, client.name
    path = [leaf]
    while len(path) < _MOST_LINKS:
        current = path[-1]
        standing = [each for each in anchors if each.identity == current.identity or each.signed(current)]
        anchor = min(standing, key=lambda each: _out_of_time(each, now), default=None)
        if anchor is not None:
            if anchor.identity != current.identity:
                path.append(anchor)
            decisions.append(tls_kinds.Trusted(anchor.label, who, place=place, subject=certificate))
            return path
        if current.self_signed:
            break
        above = min(
            (each for each in shown.chain if each not in path and each.signed(current)),
            key=lambda each: _out_of_time(each, now),
            default=None,
        )
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
    if known is None and isinstance(last.identity, bytes) and "public" in client.trusts:
        if len(path) > 1:
            decisions.append(tls_kinds.TrustAssumed(last.issuer, who, place=place, subject=certificate))
            return path
        if not estate.authorities:
            # No root signs a server's certificate itself: what stands between is not sent.
            decisions.append(tls_kinds.IncompleteChain(last.label, last.issuer, who, place=place, subject=certificate))
            return Detail.INCOMPLETE_CHAIN
    issuer = known.label if known is not None else last.issuer.removeprefix("authority:")
    decisions.append(tls_kinds.UnknownIssuer(leaf.label, issuer, who, place=place, subject=certificate))
    return Detail.UNKNOWN_ISSUER


def _trusted(client: Client, estate: Estate, shared: dict[Any, Any]) -> tuple[list[Facts], list[Facts]]:
    """The visitor's anchors, and every other authority of the estate."""
    anchors, others = [], []
    for authority in estate.authorities.values():
        for facts in authority_every(authority, shared):
            root = facts.self_signed
            if authority.name in client.trusts or (root and authority.public and "public" in client.trusts):
                anchors.append(facts)
            else:
                others.append(facts)
    return anchors, others


def _out_of_time(facts: Facts, now: datetime) -> bool:
    return (facts.until is not None and now > facts.until) or (facts.starts is not None and now < facts.starts)


def _leads_to(authority: Facts, others: list[Facts], anchors: list[Facts]) -> bool:
    for _ in range(_MOST_LINKS):
        if authority.issuer == "authority:public" or any(anchor.signed(authority) for anchor in anchors):
            return True
        above = next((each for each in others if each is not authority and each.signed(authority)), None)
        if above is None:
            return False
        authority = above
    return False
