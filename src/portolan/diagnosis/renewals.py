"""The next renewal of every certificate, rehearsed: would an authority be convinced that the names are ours (RFC 8555, RFC 8737)?

An authority asks from the internet, at every address of a name; what stops it now stops the renewal when its day comes.
"""

from collections.abc import Iterator
from datetime import datetime
from functools import partial
from ipaddress import IPv4Interface, IPv6Interface
from typing import NamedTuple

from portolan.diagnosis.base import Case, Finding, Home, Severity, all_homes, fault, zone_of
from portolan.diagnosis.certificate import (
    CertificateClue,
    by_the_house,
    is_given_publicly,
    issuers,
    names_of,
    renewed,
)
from portolan.diagnosis.proposal import Proposal, put, remedy, remove
from portolan.dns.caa import forbidding
from portolan.estate.base import IPAddress
from portolan.estate.certificate import WAYS, Certificate
from portolan.estate.changing import with_facts
from portolan.estate.client import Checks
from portolan.estate.edge import EdgeService
from portolan.estate.places import anybody
from portolan.estate.service import WebService
from portolan.estate.site import Giving
from portolan.estate.vantage import AsIfVantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import content as content_kinds
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.evidence.legs import Exchange
from portolan.evidence.outcome import Detail, Kind
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.place import Place
from portolan.source.value import Value
from portolan.tls.facts import authority_every, shown_by
from portolan.tls.lifetime import late

#: Where an authority looks (RFC 8555 section 8.3); the last part is what it gave to whoever asked for the certificate.
_FOLDER = "/.well-known/acme-challenge/"
_TOKEN = "portolan-asks"
#: The ports that an authority follows redirects to, and how many redirects it follows (as the large ones do).
_PORTS, _MOST_REDIRECTS = (80, 443), 10
_MOST_ADDRESSES = 8


class Validator(AsIfVantage, frozen=True, kw_only=True, eq=False):
    """An authority that asks whether a name is ours: it looks at no certificate, which need not be valid yet."""

    @property
    def checks(self) -> Checks:
        """Nothing: RFC 8555 section 8.3 wants plain HTTP, and redirects may lead to https."""
        return Checks.NOTHING

    @property
    def most_redirects(self) -> int:
        """As the large authorities do."""
        return _MOST_REDIRECTS


class Challenge(Value, frozen=True):
    """One way to prove a name: why it fails (None where it succeeds), at which of how many addresses, and on what that rests."""

    name: str
    way: str
    why: str | None = None
    place: Place | None = None
    address: IPAddress | None = None
    of: int = 1

    @property
    def words(self) -> str:
        """Why it fails, with the address where only one of several does."""
        return f"at {self.address}, 1 of {self.of} addresses: {self.why}" if self.of > 1 else str(self.why)


class Renewal(Value, frozen=True):
    """The next renewal of a certificate: since when it is tried, by which way, and what each way comes to for each name."""

    certificate: Certificate
    ends: datetime | None
    tried_from: datetime | None
    by: str | None
    challenges: tuple[Challenge, ...]

    @property
    def blocked(self) -> tuple[Challenge, ...]:
        """What keeps it from being renewed: what fails of the way that is stated; else the first way, where all fail for a name."""
        failing = [each for each in self.challenges if each.why is not None]
        if self.by is not None:
            return tuple(each for each in failing if each.way == self.by)
        lost = [
            name
            for name in dict.fromkeys(each.name for each in self.challenges)
            if {each.way for each in failing if each.name == name} == set(WAYS)
        ]
        return tuple(next(each for each in failing if each.name == name) for name in lost)


def renewals(world: World, only: str | None = None, briefly: bool = False) -> tuple[Renewal, ...]:
    """Every certificate of a public authority that a server here shows, with what its renewal comes to; or those of one name.

    Briefly: where nobody says which way, no further way is tried for a name once one succeeds.
    """
    shown = [
        (world.estate.certificates[name], homes)
        for name, homes in _shown(world).items()
        if name in world.stated.certificates and _is_renewed(world, world.estate.certificates[name])
    ]
    if not shown:
        return ()
    world = world.with_vantages(_AUTHORITY)
    found = (_renewal(world, certificate, homes, briefly) for certificate, homes in shown)
    return tuple(
        each
        for each in found
        if only is None or only == each.certificate.name or any(one.name == only for one in each.challenges)
    )


def _of(case: Case, certificate: Certificate) -> Renewal:
    """The renewal of one certificate, with every way."""
    homes = _shown(case.world).get(certificate.name, [])
    return _renewal(case.world.with_vantages(_AUTHORITY), certificate, homes, False)


def _shown(world: World) -> dict[str, list[Home]]:
    """The certificates that servers show, each with where."""
    found: dict[str, list[Home]] = {}
    for home in all_homes(world.estate):
        if home.certificate is not None:
            found.setdefault(home.certificate, []).append(home)
    return found


def _is_renewed(world: World, certificate: Certificate) -> bool:
    """Whether somebody outside has to be convinced: no authority of the house, and not the certificate itself."""
    if certificate.renews is not None:
        return True
    authority = world.estate.authorities.get(certificate.issuer or "")
    if certificate.issuer == "self" or (authority is not None and not authority.public) or certificate.unknown:
        return False
    leaf = shown_by(certificate, world.estate, world.shared).leaf
    own = [each for each in world.estate.authorities.values() if not each.public and each.pem]
    if any(facts.signed(leaf) for each in own for facts in authority_every(each, world.shared)):
        return False
    return not leaf.self_signed and all(map(is_given_publicly, leaf.names))


class _Proving(NamedTuple):
    """A certificate whose names are to be proven: in which world, where it is shown, and on which machines files may be put."""

    world: World
    certificate: Certificate
    homes: list[Home]
    on: frozenset[str]


def _renewal(world: World, certificate: Certificate, homes: list[Home], briefly: bool) -> Renewal:
    leaf = shown_by(certificate, world.estate, world.shared).leaf
    renews = certificate.renews
    stated = renews.by if renews is not None else None
    asks = renews.on if renews is not None else None
    at = _Proving(world, certificate, homes, frozenset([asks] if asks else [each.machine.name for each in homes]))
    ways: tuple[str, ...] = WAYS if stated is None else (stated,)
    challenges = []
    for name in leaf.names:
        tried = []
        # The zone is the quickest to ask.
        for way in sorted(ways, key=lambda each: each != "dns-01") if briefly else ways:
            tried.append(_tried(at, name, way))
            if briefly and tried[-1].why is None:
                break
        challenges += sorted(tried, key=lambda each: WAYS.index(each.way))
    since = None if leaf.until is None else leaf.until - late(leaf.starts, leaf.until)
    return Renewal(certificate, leaf.until, since, stated, tuple(challenges))


def _tried(at: _Proving, name: str, way: str) -> Challenge:
    world, certificate = at.world, at.certificate
    refused = forbidding(world.naming, partial(zone_of, world.estate), certificate, name, way)
    if refused is not None:
        return Challenge(name, way, refused.text, refused.place)
    if name.startswith("*.") and way != "dns-01":
        return Challenge(name, way, "a name with a star is proven by its zone only (dns-01)", certificate.place)
    if way == "dns-01":
        return _by_zone(world, name)
    by_way = _by_file if way == "http-01" else _by_handshake
    resolution = world.resolve(Validator.of(_AUTHORITY), name, None)
    if resolution.stop is not None:
        return Challenge(name, way, resolution.stop.text, resolution.stop.place)
    addresses = resolution.addresses[:_MOST_ADDRESSES]
    failing = []
    for address in addresses:
        failed = by_way(at, name, address)
        if failed is not None:
            failing.append(Challenge(name, way, failed[0], failed[1], address, len(addresses)))
    if not failing:
        return Challenge(name, way)
    return failing[0].but(of=1) if len(failing) == len(addresses) else failing[0]


#: Where it asks from: beside anybody, at addresses of nobody (RFC 2544, RFC 5180).
_ADDRESSES = (IPv4Interface("198.18.99.78/32"), IPv6Interface("2001:2::99:78/128"))
_AUTHORITY = with_facts(anybody(), {"name": "the authority", "address": _ADDRESSES})


#: Why a name is not proven at an address, and where that is written.
_Failed = tuple[str, Place | None]


def _by_file(at: _Proving, name: str, address: IPAddress) -> _Failed | None:
    """http-01 (RFC 8555 section 8.3): the file must come, from the machine that puts it there."""
    found = visit(at.world, f"http://{name}{_FOLDER}{_TOKEN}", Validator.of(_AUTHORITY, (name, address)))
    for number, each in enumerate(found.exchanges):
        if each.url.port not in _PORTS:
            sent = found.exchanges[number - 1].response
            place = sent.decisions[-1].place if sent is not None else None
            return f"it is sent to port {each.url.port}, and follows to 80 and 443 only", place
    last = found.exchanges[-1]
    decided = found.stop or (last.response.decisions[-1] if last.response is not None else None)
    assert decided is not None
    if last.response is None or found.outcome.kind is Kind.REDIRECT_ERROR:
        return decided.text, decided.place
    folder = at.certificate.renews.folder if at.certificate.renews is not None else None
    for each in _with_inner(last):
        looked = _looked_for(each)
        if looked is None or each.attempts[-1].arrival is None:
            continue
        machine = each.attempts[-1].arrival.machine.name
        if machine not in at.on:
            elsewhere = f"the file is looked for on {machine}, and put on {' or '.join(sorted(at.on))}"
            return f"{looked.text}: {elsewhere}", looked.place
        own = looked.subject.folder if isinstance(looked.subject, Giving) else None
        if folder is not None and own is not None and not _same_folder(str(own), folder):
            return f"the file is put into {folder}, and {machine} looks in {own}", looked.place
        return None
    return f"what comes is not the file: {decided.text}", decided.place


def _same_folder(looked: str, put_into: str) -> bool:
    """Whether two folders are one, or one is the other's for challenges."""
    looked, put_into, below = looked.rstrip("/"), put_into.rstrip("/"), _FOLDER.rstrip("/")
    return looked in (put_into, put_into + below) or put_into == looked + below


def _with_inner(exchange: Exchange) -> Iterator[Exchange]:
    yield exchange
    for inner in exchange.inner:
        yield from _with_inner(inner)


def _looked_for(exchange: Exchange) -> Decision | None:
    """The decision by which a program looked for the file, which is not there yet."""
    response = exchange.response
    if response is None:
        return None
    there = (
        content_kinds.NotFound,
        content_kinds.FallbackGiven,
        content_kinds.FallbackMissing,
        content_kinds.PageAssumed,
        content_kinds.Page,
        http_kinds.SiteOnly,
    )
    return next((each for each in response.decisions if isinstance(each, there)), None)


def _by_handshake(at: _Proving, name: str, address: IPAddress) -> _Failed | None:
    """tls-alpn-01 (RFC 8737 section 3): the handshake must end at whoever has the certificate, and can answer there."""
    made = at.world.connect(Validator.of(_AUTHORITY, (name, address)), address, 443)
    if made.arrival is None:
        assert made.stop is not None
        return made.stop.text, made.stop.place
    service, machine = made.arrival.service, made.arrival.machine.name
    if not any(each.service is service for each in at.homes):
        words = f"{machine}'s {service.name} ends TLS, and does not have the certificate {at.certificate.name}"
        return words, service.place
    if not isinstance(service, WebService) or not made.arrival.listener.tls:
        return f"{service.name} on {machine} speaks no TLS on port 443", service.place
    program = at.world.program(service)
    if not program.answers_by_handshake:
        words = (
            f"{machine}'s {service.name} ends a handshake in which nothing but acme-tls/1 is offered ({program.name})"
        )
        return words, service.place
    return None


#: What a name without records is: one where a record can be put.
_EMPTY = (Detail.NO_SUCH_NAME, Detail.NO_ADDRESS)


def _by_zone(world: World, name: str) -> Challenge:
    """dns-01 (RFC 8555 section 8.4): the zone where the record goes must be asked, and answer."""
    owner = f"_acme-challenge.{name.removeprefix('*.')}"
    found = world.resolve(Validator.of(_AUTHORITY), owner, None)
    over = isinstance(found.stop, zone_kinds.RegistrationLapsed | zone_kinds.RegistrationHeld)
    if found.stop is None or (found.detail in _EMPTY and not over):
        return Challenge(name, "dns-01")
    return Challenge(name, "dns-01", found.stop.text, found.stop.place)


# -- what check says --


class RenewalClue(Value, frozen=True):
    """What is renewed, and what failed."""

    renewal: Renewal


@fault(
    "renewal-blocked",
    "The next renewal of the certificate will fail, or the certificate asked for is not given",
    "nothing yet: a warning; then an expired certificate, or none",
    "Let the authority come through: port 80 open to everybody, at every address of the name, and the path "
    "/.well-known/acme-challenge/ led to the folder where the files are put; or prove the name by its zone (dns-01).",
    "service-failed",
    "name-mismatch",
)
def not_validated(case: Case) -> Finding | None:
    """A certificate was asked for, and the authority is not convinced."""
    stop = case.stop
    name = stop.reason.about if isinstance(stop, connect_kinds.ServiceFailed) else None
    shown = case.decision(edge_kinds.EdgeShowsProviders)
    if shown is not None and isinstance(shown.subject, EdgeService):
        name = shown.subject.certificate
    certificate = case.estate.certificates.get(name or "")
    if certificate is None or not certificate.requested:
        return None
    renewal = _of(case, certificate)
    text = f"the certificate {certificate.name} was asked for, and is not validated"
    first = next(iter(renewal.blocked), None)
    if first is not None:
        text += f": {first.way} fails for {first.name}: {first.words}"
    place = first.place if first is not None and first.place is not None else certificate.place.key("requested")
    return Finding("renewal-blocked", text, place, clue=RenewalClue(renewal))


def renewals_blocked(world: World) -> Iterator[Finding]:
    """Certificates whose next renewal fails, by the way that is stated, or by every way that there is."""
    for renewal in renewals(world, briefly=True):
        for each in renewal.blocked[:1]:
            if renewal.by is None and not _is_out(world, each.name):
                continue  # nobody comes to the name at all, which others tell of
            certificate = renewal.certificate
            more = len({one.name for one in renewal.blocked}) - 1
            names = each.name + (f" and {more} more name{'s' if more > 1 else ''}" if more else "")
            way = each.way if renewal.by is not None else "any way"
            text = f"the next renewal of {certificate.name} will fail for {names} by {way}: {each.words}"
            text += _days(renewal, world.now)
            yield Finding(
                "renewal-blocked", text, each.place or certificate.place, Severity.WARNING, RenewalClue(renewal)
            )


def _is_out(world: World, name: str) -> bool:
    """Whether somebody on the internet comes to a name securely."""
    found = visit(world.with_vantages(_AUTHORITY), f"https://{name.removeprefix('*.')}/", Validator.of(_AUTHORITY))
    return found.exchanges[0].handshake is not None


def _days(renewal: Renewal, now: datetime) -> str:
    if renewal.ends is None or renewal.tried_from is None:
        return ""
    since = "has been tried since" if now >= renewal.tried_from else "is tried from"
    ends = "ended" if now > renewal.ends else "ends"
    return f"; it {since} {renewal.tried_from:%Y-%m-%d}, and the certificate {ends} on {renewal.ends:%Y-%m-%d}"


@remedy("cert-expired", "cert-not-yet")
def renew(case: Case, clue: CertificateClue) -> Iterator[Proposal]:
    """Renews it with the same names; where its own way to renew fails, that is said with it."""
    certificate = clue.certificate
    names = names_of(case, certificate) or [case.host]
    words = f"renew the certificate {certificate.name} for {', '.join(names)}, and reload"
    if certificate.renews is not None:
        for each in _of(case, certificate).blocked[:1]:
            words += f"; its own way ({each.way}) fails, which is why it was not: {each.words}"
    for issuer in issuers(case, certificate, names):
        yield Proposal(words, renewed(case, certificate, names, issuer))
    yield from by_the_house(case, names)


@remedy("renewal-blocked")
def another_way(_case: object, clue: RenewalClue) -> Iterator[Proposal]:
    """A way that works for all names; else what must come through."""
    renewal = clue.renewal
    certificate = renewal.certificate
    if certificate.requested:
        validated = remove((*certificate.place.path, "requested"))
        if renewal.blocked:
            yield Proposal(f"mend that, and ask for the certificate {certificate.name} again", [])
        else:
            yield Proposal(f"have {certificate.name} validated: nothing here stands in the way", validated)
        return
    if renewal.by is not None and renewal.by != "dns-01" and certificate.renews is not None:
        yield Proposal(
            f"let {certificate.name} be renewed by its zone (dns-01)", put(certificate.renews.place, "by", "dns-01")
        )
