"""Faults of a handshake, whatever the certificate: versions, clients' certificates, handshakes that are rejected."""

from collections.abc import Iterator

from portolan.diagnosis.base import Case, Finding, fault
from portolan.diagnosis.proposal import Proposal, put, remedy, remove
from portolan.estate.service import WebService
from portolan.estate.site import Site
from portolan.estate.vantage import Vantage
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.kinds import tls as tls_kinds
from portolan.source.value import Value
from portolan.tls.agreeing import USUAL


class VersionClue(Value, frozen=True):
    """Whose versions count at the server."""

    held: WebService | Site


class SiteClue(Value, frozen=True):
    """The site that decides."""

    site: Site


@fault(
    "tls-version",
    "Visitor and server speak no version of TLS in common",
    "no common version",
    "Let the server speak TLS 1.2 and 1.3 (at nginx: in the default site of the listener); renew a client that speaks neither.",
    "no-common-version",
)
def versions(case: Case) -> Finding | None:
    """The versions of the two are apart."""
    stop = case.stop
    if not isinstance(stop, tls_kinds.NoCommonVersion) or not isinstance(stop.subject, WebService | Site):
        return None
    return Finding("tls-version", stop.text, stop.place, clue=VersionClue(stop.subject))


@remedy("tls-version")
def speak_the_same(case: Case, clue: VersionClue) -> Iterator[Proposal]:
    """The side that lacks the versions of today speaks them; an old visitor before an old version."""
    visitor, held = case.client, clue.held
    theirs = held.tls_versions
    if isinstance(visitor, Vantage) and visitor.written and not set(visitor.tls_versions) & set(USUAL):
        yield Proposal(
            f"renew {visitor.name}'s client: one that speaks TLS 1.2 and 1.3",
            remove((*visitor.place.path, "tls_versions")),
        )
    if not set(USUAL) <= set(theirs):
        more = [*theirs, *(each for each in USUAL if each not in theirs)]
        yield Proposal(f"let {held.name} speak TLS {', '.join(USUAL)} too", put(held.place, "tls_versions", more))


def _at_a_site(case: Case, code: str) -> Finding | None:
    stop = case.stop
    if stop is None or not isinstance(stop.subject, Site):
        return None
    return Finding(code, stop.text, stop.place, clue=SiteClue(stop.subject))


@fault(
    "client-certificate",
    "The site asks visitors for a certificate of their own",
    "the handshake ends, or 400",
    "Give the visitor a certificate of the authority that the site asks for; or ask for none, if everybody is meant to come.",
    "client-certificate-wanted",
    "needs-client-certificate",
    "misdirected-from-certificate",
)
def client_certificate(case: Case) -> Finding | None:
    """None is shown, or another."""
    return _at_a_site(case, "client-certificate")


@remedy("client-certificate")
def show_one(case: Case, clue: SiteClue) -> Iterator[Proposal]:
    """The visitor shows one that is taken; asking for none comes last."""
    visitor = case.client
    if isinstance(case.stop, http_kinds.MisdirectedFromCertificate):
        yield Proposal(f"ask for {case.stop.host} with a handshake for that name", [])
        return
    if isinstance(visitor, Vantage) and visitor.written:
        words = f"give {visitor.name} a certificate that {clue.site.name} takes"
        yield Proposal(words, put(visitor.place, "client_certificate", "good"))
    yield Proposal(
        f"ask visitors of {clue.site.name} for no certificate", remove((*clue.site.place.path, "client_certificates"))
    )


@fault(
    "handshake-rejected",
    "The handshake falls to a site that rejects all",
    "the handshake ends",
    "Bind the name to its site, on this listener; or let the default site show a certificate.",
    "handshake-rejected",
)
def rejected(case: Case) -> Finding | None:
    """The name in the handshake is no other site's."""
    return _at_a_site(case, "handshake-rejected")


@remedy("handshake-rejected")
def bind_the_name(case: Case, clue: SiteClue) -> Iterator[Proposal]:
    """The site that is meant takes the name; the last way is to reject no more."""
    for home in case.homes():
        if isinstance(home.site, Site) and home.site is not clue.site and not home.site.rejects_handshake:
            names = [*map(str, home.site.names), case.host]
            yield Proposal(f"bind {case.host} to the site {home.site.name}", put(home.site.place, "names", names))
    if any(str(name) == case.host for name in clue.site.names):
        yield Proposal(
            f"let {clue.site.name} reject no handshake", remove((*clue.site.place.path, "rejects_handshake"))
        )
