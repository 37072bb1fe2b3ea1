"""Faults of sites that pass everything on: where the site says that its upstream is."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, addresses_of, fault
from portolan.diagnosis.edge_base import edge_of
from portolan.diagnosis.proposal import Patch, Proposal, item_path, put, remedy, remove, replace
from portolan.estate.base import IPAddress
from portolan.estate.client import EdgeClient, PassingProgram
from portolan.estate.edge import EdgeService
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.names import is_exact
from portolan.estate.service import Listener, Service, WebService
from portolan.estate.site import Site, Upstream
from portolan.estate.url import Url
from portolan.estate.vantage import AsIfVantage
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.outcome import Kind
from portolan.evidence.start import Why

#: The statuses after which programs can go on to the next member.
_TOLD_APART = frozenset((403, 404, 429, 500, 502, 503, 504))


class UpstreamClue(msgspec.Struct, frozen=True):
    """The site whose upstream is wrong, and what else it may mean, the likeliest first."""

    site: Site
    upstream: Upstream
    others: tuple[Url, ...]


@fault(
    "upstream-wrong-address",
    "A site passes requests on to where no program is: another machine's address, a wrong port, a name that is unknown there",
    "502, or 503",
    "Correct the upstream: the address and port at which the program behind listens, as seen from this machine.",
    "nothing-listens",
    "neighbour-missing",
    "internet-unknown",
    "internet-private",
    "no-such-name",
    "no-address",
    "undescribed",
    "resolver-empty-zone",
    "service-failed",
)
def upstream_wrong(case: Case) -> Finding | None:
    """The program that passes on found nobody there; or did not start, since the name is unknown."""
    client, stop = case.client, case.stop
    if isinstance(stop, connect_kinds.ServiceFailed) and isinstance(stop.subject, WebService):
        site = stop.subject.sites.get(stop.reason.about or "")
        if stop.reason.why is not Why.UPSTREAM_UNKNOWN or site is None:
            return None
        named = [each for each in upstreams_of(site) if any(member.host in stop.reason.text for member in each.members)]
        return Finding("upstream-wrong-address", stop.text, named[0].place, clue=_clue(case, site, named[0]))
    if not isinstance(client, PassingProgram) or stop is None or isinstance(stop, connect_kinds.ServiceFailed):
        return None
    if edge_of(client) is not None:
        # An edge of one's own: what it says of its origin is mended there.
        return None
    text = f"{client.site.name} passes on to {case.exchange.url}, and no program is there: {stop.text}"
    return Finding("upstream-wrong-address", text, client.place, clue=_clue(case, client.site, client.upstream))


class MemberClue(msgspec.Struct, frozen=True):
    """A pool, and the number of the member that answers otherwise."""

    site: Site
    upstream: Upstream
    number: int


@fault(
    "upstream-member-differs",
    "One member of a pool fails or answers otherwise than the others",
    "now and then an error, or another page",
    "Mend that member, or take it out of the pool until it is; where the front can tell by the status, let it go on to the next.",
    "*",
    "wrong-page",
)
def member_differs(case: Case) -> Finding | None:
    """What is missed is missed only when one of the pool's further members has its turn."""
    vantage = case.visit.vantage
    turn = vantage.turn if isinstance(vantage, AsIfVantage) else None
    if turn is None:
        return None
    for exchange in case.visit.exchanges[-1].tree:
        client = exchange.client
        if isinstance(client, PassingProgram) and client.upstream.place.path == turn[0]:
            why = case.visit.stop.text if case.visit.stop is not None else "another page comes from there"
            member = client.upstream.to[turn[1]]
            text = f"the member {member} of the pool of {client.site.name} answers otherwise than the others: {why}"
            clue = MemberClue(client.site, client.upstream, turn[1])
            return Finding("upstream-member-differs", text, client.upstream.place, clue=clue)
    return None


class DownClue(msgspec.Struct, frozen=True):
    """The program behind, and the site that passes on to it."""

    service: Service
    site: Site


class WaitClue(msgspec.Struct, frozen=True):
    """The upstream, and how long the program behind takes."""

    upstream: Upstream
    site: Site
    takes: int


class HostClue(msgspec.Struct, frozen=True):
    """The upstream, and the name that the site behind answers to."""

    upstream: Upstream
    site: Site
    name: str | None


class UpgradeClue(msgspec.Struct, frozen=True):
    """Who passes on, and by what."""

    edge: EdgeService | None
    upstream: Upstream | None
    name: str


@fault(
    "upstream-down",
    "The program behind does not run, or breaks off",
    "502, or 503",
    "Start the program behind; a page of the front's own can say so meanwhile, if it does not come from that program.",
    "service-stopped",
    "service-failed",
    "not-answered",
)
def upstream_down(case: Case) -> Finding | None:
    """Who passes on is refused, or cut off."""
    client, stop = case.client, case.stop
    if not isinstance(client, PassingProgram) or stop is None:
        return None
    service = stop.subject
    if not isinstance(service, Service) or (
        isinstance(stop, http_kinds.NotAnswered) and getattr(service, "when_asked", "") == "silent"
    ):
        return None
    if isinstance(stop, connect_kinds.ServiceFailed) and stop.reason.why is Why.UPSTREAM_UNKNOWN:
        return None
    text = f"{client.site.name} passes on to {client.upstream.to[0]}: {stop.text}"
    clue = DownClue(service=service, site=client.site)
    return Finding("upstream-down", text, service.place, clue=clue)


@fault(
    "upstream-silent",
    "The program behind does not answer in time",
    "504, or 502",
    "Look why it takes so long; where that is meant, let the front wait longer.",
    "takes-too-long",
    "not-answered",
)
def upstream_silent(case: Case) -> Finding | None:
    """Who passes on gives up waiting."""
    stop = case.stop
    client = next(
        (each.client for each in reversed([*case.visit.exchanges[-1].tree]) if isinstance(each.client, PassingProgram)),
        None,
    )
    if client is None or stop is None:
        return None
    if isinstance(stop, http_kinds.TakesTooLong):
        clue = WaitClue(upstream=client.upstream, site=client.site, takes=stop.takes)
        return Finding("upstream-silent", stop.text, client.upstream.place, clue=clue)
    if isinstance(stop, http_kinds.NotAnswered) and getattr(stop.subject, "when_asked", "") == "silent":
        return Finding("upstream-silent", stop.text, stop.place, clue=WaitClue(client.upstream, client.site, 0))
    return None


@fault(
    "upstream-name-lost",
    "The program behind is asked under a name that it does not know, and its default site answers",
    "another page",
    "Pass the visitor's host name on, or say the name that the site behind answers to.",
    "wrong-page",
    "not-found",
    "no-index-file",
    "answers-error",
    "name-refused",
    "main-server",
    "host-refused",
)
def upstream_name_lost(case: Case) -> Finding | None:
    """The name sent selects no site, and the visitor's, or the expected site's own, would."""
    exchange = case.exchange
    client = exchange.client
    arrival = exchange.connection.arrival if exchange.connection is not None else None
    if not isinstance(client, PassingProgram) or arrival is None or not isinstance(arrival.service, WebService):
        return None
    service = arrival.service
    table = case.world.table(service, arrival.listener, arrival.address)
    sent = client.saying.host if client.saying.host is not None else exchange.url.host
    if table.choose(sent.partition(":")[0].lower()).by_name:
        return None
    asked = case.visit.exchanges[-1].url.host.rstrip(".")
    kept = table.choose(asked)
    expected = service.sites.get(case.site_name or "")
    meant = kept.site if kept.by_name else expected
    took = exchange.response.site if exchange.response is not None else None
    if meant is None or meant is took or (case.site_name is not None and meant.name != case.site_name):
        return None
    name = next(filter(is_exact, meant.names), None)
    text = f"{client.site.name} asks {exchange.url} for {sent}, which no site of {service.name} is named; {meant.name} answers to {name or asked}"
    clue = HostClue(upstream=client.upstream, site=client.site, name=None if kept.by_name else name)
    return Finding("upstream-name-lost", text, client.upstream.place, clue=clue)


@fault(
    "upgrade-lost",
    "Who stands in between does not pass the request for a websocket on",
    "426, 400, or a page in its place",
    "Let it pass upgrades on, on the paths at which websockets are taken.",
    "socket-wanted",
    "*",
)
def upgrade_lost(case: Case) -> Finding | None:
    """A front or an edge on the way says it without what it is about."""
    last = case.visit.exchanges[-1]
    if not last.url.socket or case.visit.outcome.kind is Kind.SERVED:
        return None
    for each in last.tree:
        client = each.client
        if isinstance(client, PassingProgram | EdgeClient) and not client.saying.upgrades:
            name = client.site.name if isinstance(client, PassingProgram) else client.name
            text = f"{name} asks {each.url} without the request for a websocket that it was sent"
            clue = UpgradeClue(edge=edge_of(client), upstream=getattr(client, "upstream", None), name=name)
            return Finding("upgrade-lost", text, client.place, clue=clue)
    return None


@remedy("upgrade-lost")
def pass_upgrades(_case: Case, clue: UpgradeClue) -> Iterator[Proposal]:
    """On the leg that lost it."""
    text = f"let {clue.name} pass requests for websockets on"
    if clue.edge is not None:
        yield Proposal(text, put(clue.edge.place, "passes_upgrades", True))
    elif clue.upstream is not None:
        yield Proposal(text, with_facts(clue.upstream, upgrades=True))


def _clue(case: Case, site: Site, passing: Upstream) -> UpstreamClue:
    """Other places for the upstream: on the box that has the address, else where the expected site is, else on any other box."""
    upstream = passing.to[0]
    own = str(site.place.path[1])
    held = [
        (machine, service)
        for machine in machines(case.estate)
        if machine.name != own
        for service in machine.services.values()
        if isinstance(service, WebService) and service.state == "running"
    ]
    there = [pair for pair in held if upstream.literal in addresses_of(pair[0])]
    expected = [pair for pair in held if case.site_name in pair[1].sites]
    found = [url for machine, service in there or expected or held for url in _urls(machine, service, upstream)]
    return UpstreamClue(site, passing, tuple(each for each in dict.fromkeys(found) if each != upstream))


def _urls(machine: Machine, service: WebService, upstream: Url) -> Iterator[Url]:
    """Where a service may be asked: the address or name that was written, where it is the machine's, else its own addresses."""
    addresses = addresses_of(machine)
    known = upstream.literal is None or upstream.literal in addresses
    for listener in service.listens:
        if listener.tls == upstream.secure and not _inside(listener):
            if known:
                yield upstream.but(port=listener.port)
            for address in addresses:
                if listener.address in (None, address) or (listener.address and not int(listener.address)):
                    yield upstream.but(host=str(address), literal=address, port=listener.port)


def upstreams_of(site: Site) -> list[Upstream]:
    """The programs behind a site and its sections."""
    held = (site, *site.sections)
    return [each.upstream for each in held if isinstance(each.upstream, Upstream)]


def target_path(upstream: Upstream, index: int) -> tuple[str | int, ...]:
    """Where an upstream's address is written: alone, or as its `to`."""
    return item_path(upstream.place, "to", index) if upstream.place.has("to") else upstream.place.path


def with_facts(upstream: Upstream, **facts: object) -> Patch:
    """The upstream with some facts otherwise, whether it is written as its address alone or with keys."""
    if upstream.place.has("to"):
        return [step for key, value in facts.items() for step in put(upstream.place, key, value)]
    held = {"to": str(upstream.to[0]), **facts}
    return replace(upstream.place.path, held)


def _inside(listener: Listener) -> bool:
    address: IPAddress | None = listener.address
    return address is not None and address.is_loopback


@remedy("upstream-wrong-address")
def correct_upstream(_case: Case, clue: UpstreamClue) -> Iterator[Proposal]:
    """Passes on to where a program listens."""
    for url in clue.others[:4]:
        text = f"let {clue.site.name} pass on to {url}"
        yield Proposal(text, replace(target_path(clue.upstream, 0), str(url)))
    yield Proposal(f"or let a program listen where {clue.site.name} passes on to", [])


@remedy("upstream-member-differs")
def leave_member_out(case: Case, clue: MemberClue) -> Iterator[Proposal]:
    """Asks the others only, or goes on to the next."""
    upstream, member = clue.upstream, clue.upstream.to[clue.number]
    yield Proposal(f"take {member} out of the pool of {clue.site.name}", remove(target_path(upstream, clue.number)))
    status = case.visit.outcome.status
    if status in _TOLD_APART and status not in upstream.next_on:
        text = f"let {clue.site.name} go on to the next member after a {status}"
        yield Proposal(text, with_facts(upstream, next_on=[*upstream.next_on, status]))


@remedy("upstream-down")
def start_upstream(_case: Case, clue: DownClue) -> Iterator[Proposal]:
    """Starts it."""
    service = clue.service
    if service.state == "stopped":
        yield Proposal(f"start {service.name} on {service.place.path[1]}", put(service.place, "state", "running"))
    elif getattr(service, "when_asked", "greets") != "greets":
        yield Proposal(f"mend {service.name}: it does not answer as HTTP has it", [])
    else:
        yield Proposal(f"let {service.name} start: its own log says what keeps it", [])


@remedy("upstream-silent")
def wait_longer(_case: Case, clue: WaitClue) -> Iterator[Proposal]:
    """Lets the front wait as long as it takes."""
    if clue.takes:
        text = f"let {clue.site.name} wait {clue.takes} s for an answer"
        yield Proposal(text, with_facts(clue.upstream, answer_within=clue.takes))
    yield Proposal("look why the program behind takes so long, and start it anew", [])


@remedy("upstream-name-lost")
def keep_name(_case: Case, clue: HostClue) -> Iterator[Proposal]:
    """Passes the visitor's name on, or says the one that is known."""
    if clue.name is not None:
        yield Proposal(f"let {clue.site.name} ask for {clue.name}", with_facts(clue.upstream, host=clue.name))
    yield Proposal(f"let {clue.site.name} pass the visitor's host name on", with_facts(clue.upstream, host="kept"))
