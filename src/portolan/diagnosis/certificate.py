"""Faults of certificates."""

from collections.abc import Iterator
from datetime import timedelta
from ipaddress import ip_address

import msgspec

from portolan.diagnosis.base import Case, Finding, all_homes, fault, listed, supposing
from portolan.diagnosis.proposal import Patch, Proposal, append, in_order, item_path, put, remedy, remove, replace
from portolan.estate.base import is_public
from portolan.estate.certificate import Certificate
from portolan.estate.changing import with_facts
from portolan.estate.client import PassingProgram
from portolan.estate.names import is_exact
from portolan.estate.service import Service, WebService, sites_of
from portolan.estate.url import DEFAULT_PORTS
from portolan.estate.vantage import Vantage
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.start import Why
from portolan.source.place import pointer
from portolan.tls.facts import authority_every, shown_by
from portolan.tls.verify import covers


class CertificateClue(msgspec.Struct, frozen=True):
    """The certificate shown, the name asked for, and the fault's code."""

    certificate: Certificate
    name: str
    code: str


class ClockClue(msgspec.Struct, frozen=True):
    """Whose clock is wrong."""

    vantage: Vantage


def _certificate(case: Case) -> Certificate:
    """The certificate that the visit ended at."""
    assert case.stop is not None
    assert isinstance(case.stop.subject, Certificate)
    return case.stop.subject


def _found(case: Case, code: str) -> Finding | None:
    stop = case.stop
    handshake = case.exchange.handshake
    if stop is None or handshake is None or not isinstance(stop.subject, Certificate):
        return None
    if stop.subject.name not in case.world.stated.certificates:
        # A provider's own: nobody here gets it anew.
        return None
    # What was checked is the name that was sent, which need not be the URL's.
    asked = stop.host if isinstance(stop, tls_kinds.NameMismatch) else case.host
    return Finding(
        code, stop.text, stop.subject.place, clue=CertificateClue(certificate=stop.subject, name=asked, code=code)
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
    "cert-not-reloaded",
    "The certificate was replaced on disk, and the service still shows the old one",
    "the old certificate's fault",
    "Reload the service; let the renewal do that by itself from now on.",
    "expired",
    "not-yet-valid",
    "name-mismatch",
    "self-signed",
    "unknown-issuer",
    "incomplete-chain",
    "wrong-use",
)
def not_reloaded(case: Case) -> Finding | None:
    """What lies on disk would do."""
    certificate = case.stop.subject if case.stop is not None else None
    if not isinstance(certificate, Certificate) or certificate.saved is None or certificate.saved.broken is not None:
        return None
    now = with_facts(certificate, {**certificate.saved.facts, "saved": None})
    certificates = {**case.estate.certificates, certificate.name: now}
    if not supposing(case, msgspec.structs.replace(case.estate, certificates=certificates)):
        return None
    text = f"{certificate.name} was replaced on disk, and the service still shows the one before"
    clue = CertificateClue(certificate=certificate, name=case.host, code="cert-not-reloaded")
    return Finding("cert-not-reloaded", text, certificate.saved.place, clue=clue)


@remedy("cert-not-reloaded")
def reload(_case: Case, clue: CertificateClue) -> Iterator[Proposal]:
    """Puts what is saved in force (RFC 6902 section 4.4: a move replaces)."""
    certificate = clue.certificate
    assert certificate.saved is not None
    saved = certificate.saved.place
    moves: Patch = [
        {"op": "move", "from": pointer((*saved.path, key)), "path": pointer((*certificate.place.path, key))}
        for key in saved.keys
        if key not in ("broken", "read_from")
    ]
    yield Proposal(f"reload what shows the certificate {certificate.name}", [*moves, *remove(saved.path)])


@fault(
    "cert-chain-expired",
    "A certificate above the server's own has expired",
    "expired",
    "Send the issuer's current intermediate in its place; the certificate itself is fine.",
    "expired",
)
def chain_expired(case: Case) -> Finding | None:
    """What is sent along is over, and not the certificate itself."""
    found = _found(case, "cert-chain-expired")
    if found is None:
        return None
    leaf = shown_by(_certificate(case), case.estate, case.world.shared).leaf
    return None if leaf.until is not None and case.world.now > leaf.until else found


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
    "cert-private-name",
    "No public authority gives a certificate for this name",
    "self-signed, or an unknown issuer",
    "Ask by a public name that leads there; or let these visitors trust an authority of your own that issues it.",
    "self-signed",
    "unknown-issuer",
)
def private_name(case: Case) -> Finding | None:
    """A private address, one label, or a name of the house: the factory certificate of an appliance, and the like."""
    asked = case.client.saying.checked_name or case.host
    found = None if is_given_publicly(asked) else _found(case, "cert-private-name")
    if found is None:
        return None
    return found.but(text=f"{found.text}; no public authority gives a certificate for {asked}")


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
)
def issuer_unknown(case: Case) -> Finding | None:
    """No anchor of the visitor's stands behind it."""
    return _found(case, "cert-issuer-unknown")


def _flawed(case: Case, code: str, flaw: str) -> Finding | None:
    return _found(case, code) if isinstance(case.stop, tls_kinds.WrongUse) and case.stop.flaw == flaw else None


@fault(
    "cert-use",
    "The certificate, or one above it, is for another use",
    "not fit for this use",
    "Get one that is for servers, from an authority that may give such.",
    "wrong-use",
)
def wrong_use(case: Case) -> Finding | None:
    """Its stated purposes, or an extension that nobody knows, forbid it."""
    return _flawed(case, "cert-use", "use")


@fault(
    "cert-constraint",
    "An authority above it may not sign such a certificate",
    "not fit for this use",
    "Get one from an authority that may sign for this name, or so far down.",
    "wrong-use",
)
def constrained(case: Case) -> Finding | None:
    """A bound that its authority is under."""
    return _flawed(case, "cert-constraint", "constraint")


@fault(
    "cert-weak",
    "A key or signature in the chain is too weak to count",
    "not fit for this use",
    "Make a key of 2,048 bits or more (or on a curve), and get the certificate anew with SHA-256.",
    "wrong-use",
    "service-failed",
)
def weak(case: Case) -> Finding | None:
    """Its key is short, or it is signed with an old digest: visitors refuse it, and most servers do not start."""
    stop = case.stop
    if isinstance(stop, connect_kinds.ServiceFailed):
        certificate = case.estate.certificates.get(stop.reason.about or "")
        if stop.reason.why is not Why.CERTIFICATE_WEAK or certificate is None:
            return None
        clue = CertificateClue(certificate=certificate, name=case.host, code="cert-weak")
        return Finding("cert-weak", stop.text, certificate.place, clue=clue)
    return _flawed(case, "cert-weak", "weak")


@fault(
    "cert-chain-foreign",
    "The chain that is sent belongs to another certificate",
    "incomplete chain, for some",
    "Install the chain of this certificate's own issuer behind it.",
    "incomplete-chain",
)
def chain_foreign(case: Case) -> Finding | None:
    """Something is sent along, and none of it issued the certificate."""
    found = _found(case, "cert-chain-foreign")
    if found is None:
        return None
    shown = shown_by(_certificate(case), case.estate, case.world.shared)
    known = [each for held in case.estate.authorities.values() for each in authority_every(held, case.world.shared)]
    between = any(
        each.signed(shown.leaf) and any(above.signed(each) for above in shown.chain) for each in known
    )  # what is sent is its own, and the lowest of it is left out
    fits = between or any(each.signed(shown.leaf) for each in shown.chain)
    return found if shown.chain and not fits else None


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

#: What mends a chain, where the certificate itself is fine.
_CHAINS = {
    "cert-chain-incomplete": "install {} with its whole chain",
    "cert-chain-foreign": "install {} with the chain of its own issuer",
    "cert-chain-expired": "install {} with its issuer's current intermediate",
}

#: How long a new certificate is thought to be valid.
_TERM = timedelta(days=90)


def renewed(case: Case, certificate: Certificate, names: list[str], issuer: str | None) -> Patch:
    """The certificate anew: for these names, by an issuer, for as long as one is usually valid."""
    start = case.world.now - timedelta(days=1)
    value = {
        "names": names,
        "issuer": issuer or "public",
        "from": start.strftime("%Y-%m-%dT%H:%M:%SZ"),
        "until": (start + _TERM).strftime("%Y-%m-%dT%H:%M:%SZ"),
    }
    return replace(certificate.place.path, value)


def as_it_should_be(case: Case, certificate: Certificate) -> Patch:
    """What a certificate is meant to be, as far as its file says: one for the name that was asked."""
    held = [each for each in names_of(case, certificate) if "*" not in each.removeprefix("*.")]
    return renewed(case, certificate, list(dict.fromkeys([*held, case.host])), certificate.issuer)


def names_of(case: Case, certificate: Certificate) -> list[str]:
    """The names that a certificate covers; where it cannot be read, those of the sites that show it."""
    if certificate.unknown:
        shown = [home for home in all_homes(case.estate) if home.certificate == certificate.name]
        return [each for home in shown for each in home.names if is_exact(each)]
    return list(shown_by(certificate, case.estate, case.world.shared).leaf.names)


#: Ends of names for which no public authority gives a certificate (RFC 6761, 6762, 8375; the baseline requirements, section 4.2.2).
_INNER = (".local", ".lan", ".internal", ".localhost", ".home.arpa", ".invalid", ".test")


def is_given_publicly(name: str) -> bool:
    """Whether a public authority gives certificates for a name or an address: none of one label, of a house, or private."""
    try:
        return is_public(ip_address(name))
    except ValueError:
        bare = name.removeprefix("*.").rstrip(".").lower()
        return "." in bare and not f".{bare}".endswith(_INNER)


def issuers(case: Case, certificate: Certificate | None, names: list[str]) -> list[str]:
    """Who may issue it for these names: the issuer that it has, as far as it can be declared, then those that the client trusts."""
    known = [certificate.issuer] if certificate is not None and certificate.issuer not in (None, "self") else []
    public = ["public"] if "public" in case.client.trusts else []
    found = list(dict.fromkeys([*(each for each in known if each), *public, *case.client.trusts]))
    given = all(map(is_given_publicly, names))
    return [each for each in found if given or not _is_public(case, each)]


def _is_public(case: Case, issuer: str) -> bool:
    authority = case.estate.authorities.get(issuer)
    return issuer == "public" if authority is None else authority.public


def by_the_house(case: Case, names: list[str]) -> Iterator[Proposal]:
    """What is left where no public authority gives a certificate: an authority of the house, or a public name."""
    inner = [each for each in names if not is_given_publicly(each)]
    if inner:
        yield Proposal(
            f"no public authority gives a certificate for {', '.join(inner)}: ask by a public name that leads there, or let "
            f"{case.client.name} trust an authority of your own that issues it",
            [],
        )


@remedy("cert-private-name")
def trusted_by_the_house(case: Case, clue: CertificateClue) -> Iterator[Proposal]:
    """The visitor trusts the authority of the house that issued it; else one that does issue it, or a public name."""
    vantage, leaf = case.client, shown_by(clue.certificate, case.estate, case.world.shared).leaf
    if isinstance(vantage, Vantage) and vantage.written:
        for authority in case.estate.authorities.values():
            above = [each for each in authority_every(authority, case.world.shared) if each.self_signed]
            if authority.name in vantage.trusts or authority.public or not above:
                continue
            if clue.certificate.issuer == authority.name or any(each.signed(leaf) for each in above):
                yield Proposal(
                    f"let {vantage.name} trust {authority.name}, which issued it",
                    put(vantage.place, "trusts", [*vantage.trusts, authority.name]),
                )
    # What a factory wrote on it is nobody's name here.
    held = [] if leaf.self_signed else names_of(case, clue.certificate)
    names = list(dict.fromkeys([*held, clue.name]))
    for issuer in issuers(case, clue.certificate, names):
        if issuer != clue.certificate.issuer:
            words = f"get a certificate for {', '.join(names)} from {issuer}"
            yield Proposal(words, renewed(case, clue.certificate, names, issuer))
    yield from by_the_house(case, [clue.name])


@remedy("cert-name", "cert-default-served")
def cover(case: Case, clue: CertificateClue) -> Iterator[Proposal]:
    """Uses a certificate of the estate that covers the name; or gets one that covers it too."""
    certificate, name = clue.certificate, clue.name
    response_site = next((home.site for home in case.homes()), None)
    for other in case.estate.certificates.values():
        if other is not certificate and name in names_of(case, other) and response_site is not None:
            yield Proposal(
                f"let {response_site.name} show the certificate {other.name}, which covers {name}",
                put(response_site.place, "certificate", other.name),
            )
    held = names_of(case, certificate)
    yield from _by_a_covered_name(case, held)
    # What no certificate can have any more is left out of the new one.
    kept = [each for each in held if "*" not in each.removeprefix("*.")]
    public = [each for each in kept if is_given_publicly(each)] if is_given_publicly(name) else kept
    names = [*(public if "public" in case.client.trusts else kept), name]
    for issuer in issuers(case, certificate, names):
        yield Proposal(
            f"get the certificate {certificate.name} anew for {', '.join(names)}, and reload",
            renewed(case, certificate, names, issuer),
        )
    yield from by_the_house(case, names)


def _by_a_covered_name(case: Case, names: list[str]) -> Iterator[Proposal]:
    """A program that asks another by its address asks by a name that the certificate covers, which its machine knows."""
    client, url = case.client, case.exchange.url
    if not isinstance(client, PassingProgram) or url.literal is None:
        return
    at = next((number for number, each in enumerate(client.upstream.to) if each.literal == url.literal), None)
    for name in [each for each in names if "*" not in each and not each[0].isdigit()][:2]:
        if at is None:
            return
        machine, member = client.machine, client.upstream.to[at]
        port = "" if member.port == DEFAULT_PORTS[member.scheme] else f":{member.port}"
        there = f"{member.scheme}://{name}{port}{'' if member.path == '/' else member.path}"
        keyed = client.upstream.place.has("to")
        path = item_path(client.upstream.place, "to", at) if keyed else client.upstream.place.path
        known = case.world.resolve(Vantage(name="(a program)", host=machine.name), name, None)
        steps = [(f"let {client.site.name} pass on to {there}", replace(path, there))]
        if url.literal not in known.addresses:
            line = f"{url.literal} {name}"
            held = (
                append(machine.hosts_file.place, "lines", line)
                if machine.hosts_file is not None
                else put(machine.place, "hosts_file", {"lines": [line]})
            )
            steps.insert(0, (f"write '{line}' into the hosts file of {machine.name}", held))
        yield in_order(*steps)


@remedy(
    "cert-self-signed",
    "cert-issuer-unknown",
    "cert-chain-incomplete",
    "cert-chain-foreign",
    "cert-use",
    "cert-constraint",
    "cert-weak",
    "cert-chain-expired",
)
def trusted_one(case: Case, clue: CertificateClue) -> Iterator[Proposal]:
    """Sends the chain, or gets a certificate that the visitor trusts."""
    certificate = clue.certificate
    if certificate.file is None and not certificate.sends_chain:
        yield Proposal(f"install {certificate.name} with its whole chain", put(certificate.place, "sends_chain", True))
    names = names_of(case, certificate) or [case.host]
    if clue.code in _CHAINS and certificate.file is not None:
        # With its chain it leads to whomever the client trusts.
        for issuer in ("public",) if "public" in case.client.trusts else case.client.trusts:
            yield Proposal(_CHAINS[clue.code].format(certificate.name), renewed(case, certificate, names, issuer))
        return
    for issuer in issuers(case, certificate, names):
        whose = "an ordinary public authority" if issuer == "public" else issuer
        if issuer != certificate.issuer:
            yield Proposal(
                f"get a certificate for {', '.join(names)} from {whose}", renewed(case, certificate, names, issuer)
            )
    yield from by_the_house(case, names)


@remedy("clock-wrong")
def set_clock(_case: Case, clue: ClockClue) -> Iterator[Proposal]:
    """Sets the visitor's clock."""
    vantage = clue.vantage
    yield Proposal(f"set the clock of {vantage.name}", remove((*vantage.place.path, "clock")))


def certified(case: Case, service: Service) -> list[tuple[str, Patch]]:
    """What goes with a first secure listener, in words and as a change: without a certificate the whole service would not start."""
    sites = [each for each in sites_of(service).values() if each.in_force]
    if (
        not isinstance(service, WebService)
        or service.certificate
        or (sites and all(each.certificate for each in sites))
    ):
        return [("", [])]
    found = [
        (f", with the certificate {name}", put(service.place, "certificate", name)) for name in covering(case, service)
    ]
    return found or [(f", and {words}", patch) for words, patch in new_certificate(case, service)] or [("", [])]


def covering(case: Case, service: Service) -> list[str]:
    """The certificates of the estate, those first that cover the name asked for, then those that cover a name of the service."""
    names = {str(name) for site in sites_of(service).values() for name in site.names}
    asked = case.client.saying.checked_name or case.host

    def misses(certificate: Certificate) -> tuple[bool, bool]:
        held = shown_by(certificate, case.estate, case.world.shared).leaf.names
        return not any(covers(each, asked, None) for each in held), not any(
            covers(each, name, None) for each in held for name in names
        )

    stated = [each for name, each in case.estate.certificates.items() if name in case.world.stated.certificates]
    return [each.name for each in sorted(stated, key=misses)]


def new_certificate(case: Case, service: Service) -> Iterator[tuple[str, Patch]]:
    """A certificate for the names of a service's sites, from an ordinary public authority where such give one."""
    names = [str(name) for site in sites_of(service).values() if site.in_force for name in site.names if name]
    names = list(dict.fromkeys(names)) or [case.host]
    names = [each for each in names if "*" not in each.removeprefix("*.") and not each.startswith(".")]
    if names and "public" in case.client.trusts and all(map(is_given_publicly, names)):
        key = next(
            each
            for each in (service.name, *(f"{service.name}-{n}" for n in range(2, 99)))
            if each not in case.estate.certificates
        )
        made: Patch = [{"op": "add", "path": pointer(("certificates", key)), "value": {"names": names}}]
        if not case.world.stated.certificates:
            made = [{"op": "add", "path": pointer(("certificates",)), "value": {key: {"names": names}}}]
        yield f"get it a certificate for {listed(names)}", [*made, *put(service.place, "certificate", key)]
