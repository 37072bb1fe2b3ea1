"""The next renewal of every certificate, rehearsed: would an authority be convinced that the names are ours (RFC 8555, RFC 8737)?

An authority asks from the internet, at every address of a name; what stops it now stops the renewal when its day comes.
"""

from collections.abc import Iterator
from datetime import datetime
from functools import partial
from ipaddress import IPv4Interface, IPv6Interface

from portolan.diagnosis.base import Case, Finding, Severity, all_homes, fault, zone_of
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
from portolan.estate.certificate import Certificate
from portolan.estate.changing import with_facts
from portolan.estate.client import Checks
from portolan.estate.edge import EdgeService
from portolan.estate.places import anybody
from portolan.estate.service import Service, WebService
from portolan.estate.site import Giving
from portolan.estate.vantage import AsIfVantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import content as content_kinds
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Exchange
from portolan.evidence.outcome import Detail, Kind
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.place import Place
from portolan.source.value import Value
from portolan.tls.facts import authority_every, shown_by
from portolan.tls.lifetime import late

WAYS = ("http-01", "dns-01", "tls-alpn-01")
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
    shown: dict[str, list[tuple[str, Service]]] = {}
    for home in all_homes(world.estate):
        name = getattr(home.site, "certificate", None) or home.service.certificate
        if name is not None:
            shown.setdefault(name, []).append((home.machine.name, home.service))
    found = []
    wanted = [
        (name, holders)
        for name, holders in shown.items()
        if name in world.stated.certificates and _is_renewed(world, world.estate.certificates[name])
    ]
    if wanted:
        world = world.with_vantages(_AUTHORITY)
    for name, holders in wanted:
        renewal = _renewal(world, world.estate.certificates[name], holders, briefly)
        if only is None or only == name or any(each.name == only for each in renewal.challenges):
            found.append(renewal)
    return tuple(found)


def _holders(world: World, name: str) -> list[tuple[str, Service]]:
    """The machines and services that show a certificate."""
    return [
        (home.machine.name, home.service)
        for home in all_homes(world.estate)
        if (getattr(home.site, "certificate", None) or home.service.certificate) == name
    ]


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


def _renewal(world: World, certificate: Certificate, holders: list[tuple[str, Service]], briefly: bool) -> Renewal:
    leaf = shown_by(certificate, world.estate, world.shared).leaf
    names = leaf.names or tuple(certificate.names)
    renews = certificate.renews
    stated = renews.by if renews is not None else None
    on = {renews.on} if renews is not None and renews.on is not None else {machine for machine, _ in holders}
    challenges = []
    for name in names:
        ways = WAYS if stated is None else (stated,)
        tried = []
        # The zone is the quickest to ask.
        for way in sorted(ways, key=lambda each: each != "dns-01") if briefly else ways:
            tried.append(_tried(world, certificate, name, way, frozenset(on), holders))
            if briefly and tried[-1].why is None:
                break
        challenges += sorted(tried, key=lambda each: WAYS.index(each.way))
    since = None if leaf.until is None else leaf.until - late(leaf.starts, leaf.until)
    return Renewal(certificate, leaf.until, since, stated, tuple(challenges))


def _tried(
    world: World, certificate: Certificate, name: str, way: str, on: frozenset[str], holders: list[tuple[str, Service]]
) -> Challenge:
    refused = forbidding(world.naming, partial(zone_of, world.estate), world.estate, certificate, name, way)
    if refused is not None:
        return Challenge(name, way, refused.text, refused.place)
    if name.startswith("*.") and way != "dns-01":
        return Challenge(name, way, "a name with a star is proven by its zone only (dns-01)", certificate.place)
    if way == "dns-01":
        return _by_zone(world, name)
    by_way = _by_file if way == "http-01" else _by_handshake
    first = visit(world, f"http://{name}/", _validator(None, None))
    resolution = first.exchanges[0].resolution
    if resolution.detail is not None:
        return Challenge(name, way, _why(first), _place(first))
    addresses = resolution.addresses[:_MOST_ADDRESSES]
    failing = []
    for address in addresses:
        failed = by_way(world, certificate, name, address, on, holders)
        if failed is not None:
            failing.append(Challenge(name, way, failed[0], failed[1], address, len(addresses)))
    if not failing:
        return Challenge(name, way)
    return failing[0].but(of=1) if len(failing) == len(addresses) else failing[0]


#: Where it asks from: beside anybody, at addresses of nobody (RFC 2544, RFC 5180).
_ADDRESSES = (IPv4Interface("198.18.99.78/32"), IPv6Interface("2001:2::99:78/128"))
_AUTHORITY = with_facts(anybody(), {"name": "the authority", "address": _ADDRESSES})


def _validator(name: str | None, address: IPAddress | None) -> Validator:
    facts = {field: getattr(_AUTHORITY, field) for field in _AUTHORITY.__struct_fields__}
    return Validator(**facts, takes=None if name is None or address is None else (name, address))


Failed = tuple[str, Place | None]


def _by_file(
    world: World, certificate: Certificate, name: str, address: IPAddress, on: frozenset[str], _holders: object
) -> Failed | None:
    """http-01 (RFC 8555 section 8.3): the file must come, from the machine that puts it there."""
    found = visit(world, f"http://{name}{_FOLDER}{_TOKEN}", _validator(name, address))
    odd = next((each.url for each in found.exchanges if each.url.port not in _PORTS), None)
    if odd is not None:
        return f"it is sent to port {odd.port}, and follows to 80 and 443 only", _redirecting(found)
    last = found.exchanges[-1]
    if last.response is None or found.outcome.kind is Kind.REDIRECT_ERROR:
        return _why(found), _place(found)
    folder = certificate.renews.folder if certificate.renews is not None else None
    for each in _with_inner(last):
        looked = _looked_for(each)
        if looked is None or each.attempts[-1].arrival is None:
            continue
        machine = each.attempts[-1].arrival.machine.name
        if machine not in on:
            return (
                f"{looked.text}: the file is looked for on {machine}, and put on {' or '.join(sorted(on))}",
                looked.place,
            )
        own = looked.subject.folder if isinstance(looked.subject, Giving) else None
        if folder is not None and own is not None and not _same_folder(str(own), folder):
            return f"the file is put into {folder}, and {machine} looks in {own}", looked.place
        return None
    return f"what comes is not the file: {_why(found)}", _place(found)


def _same_folder(looked: str, put_into: str) -> bool:
    looked, put_into = looked.rstrip("/"), put_into.rstrip("/")
    return (
        looked == put_into
        or looked == f"{put_into}{_FOLDER.rstrip('/')}"
        or put_into == f"{looked}{_FOLDER.rstrip('/')}"
    )


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


def _by_handshake(
    world: World,
    certificate: Certificate,
    name: str,
    address: IPAddress,
    _on: object,
    holders: list[tuple[str, Service]],
) -> Failed | None:
    """tls-alpn-01 (RFC 8737 section 3): the handshake must end at whoever has the certificate, and can answer there."""
    made = world.connect(_validator(name, address), address, 443)
    if made.arrival is None:
        stop = made.stop
        return (stop.text, stop.place) if stop is not None else ("nothing answers on port 443", certificate.place)
    service, machine = made.arrival.service, made.arrival.machine.name
    if not any(each is service for _, each in holders):
        return (
            f"{machine}'s {service.name} ends TLS, and does not have the certificate {certificate.name}",
            service.place,
        )
    if not isinstance(service, WebService) or not made.arrival.listener.tls:
        return f"{service.name} on {machine} speaks no TLS on port 443", service.place
    if not world.program(service).answers_by_handshake:
        words = f"{machine}'s {service.name} ends a handshake in which nothing but acme-tls/1 is offered"
        return f"{words} ({world.program(service).name})", service.place
    return None


def _by_zone(world: World, name: str) -> Challenge:
    """dns-01 (RFC 8555 section 8.4): the zone where the record goes must be asked, and answer."""
    owner = f"_acme-challenge.{name.removeprefix('*.')}"
    found = world.resolve(_validator(None, None), owner, None)
    if found.detail not in (None, Detail.NO_SUCH_NAME, Detail.NO_ADDRESS):
        stop = found.stop
        return Challenge(
            name,
            "dns-01",
            stop.text if stop is not None else "the zone does not answer",
            stop.place if stop is not None else None,
        )
    target = found.aliases[-1] if found.aliases else owner
    last = found.decisions[-1] if found.decisions else None
    if (
        zone_of(world.estate, target) is not None
        and last is not None
        and last.kind in ("registration-lapsed", "registration-held")
    ):
        return Challenge(name, "dns-01", last.text, last.place)
    return Challenge(name, "dns-01")


def _why(found: Visit) -> str:
    if found.stop is not None:
        return found.stop.text
    response = found.exchanges[-1].response
    return response.decisions[-1].text if response is not None and response.decisions else str(found.outcome.kind)


def _place(found: Visit) -> Place | None:
    if found.stop is not None:
        return found.stop.place
    response = found.exchanges[-1].response
    return response.decisions[-1].place if response is not None and response.decisions else None


def _redirecting(found: Visit) -> Place | None:
    response = found.exchanges[-2].response if len(found.exchanges) > 1 else None
    return response.decisions[-1].place if response is not None and response.decisions else None


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
    holders = _holders(case.world, certificate.name)
    renewal = _renewal(case.world.with_vantages(_AUTHORITY), certificate, holders, False)
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
    found = visit(world.with_vantages(_AUTHORITY), f"https://{name.removeprefix('*.')}/", _validator(None, None))
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
        holders = _holders(case.world, certificate.name)
        found = _renewal(case.world.with_vantages(_AUTHORITY), certificate, holders, False)
        for each in found.blocked[:1]:
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
