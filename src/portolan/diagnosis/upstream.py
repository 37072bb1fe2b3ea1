"""Faults of sites that pass everything on: where the site says that its upstream is."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, addresses_of, fault
from portolan.diagnosis.proposal import Proposal, item_path, remedy, replace
from portolan.estate.base import IPAddress
from portolan.estate.client import PassingProgram
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.service import Listener, WebService
from portolan.estate.site import Site, Upstream
from portolan.estate.url import Url
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.start import Why


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
        named = [each for each in upstreams_of(site) if any(member.host in stop.reason.text for member in each.to)]
        return Finding("upstream-wrong-address", stop.text, named[0].place, clue=_clue(case, site, named[0]))
    if not isinstance(client, PassingProgram) or stop is None or isinstance(stop, connect_kinds.ServiceFailed):
        return None
    text = f"{client.site.name} passes on to {case.exchange.url}, and no program is there: {stop.text}"
    return Finding("upstream-wrong-address", text, client.place, clue=_clue(case, client.site, client.upstream))


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
                yield upstream._replace(port=listener.port)
            for address in addresses:
                if listener.address in (None, address) or (listener.address and not int(listener.address)):
                    yield upstream._replace(host=str(address), literal=address, port=listener.port)


def upstreams_of(site: Site) -> list[Upstream]:
    """The programs behind a site and its sections."""
    held = (site, *site.sections)
    return [each.upstream for each in held if isinstance(each.upstream, Upstream)]


def target_path(upstream: Upstream, index: int) -> tuple[str | int, ...]:
    """Where an upstream's address is written: alone, or as its `to`."""
    return item_path(upstream.place, "to", index) if upstream.place.has("to") else upstream.place.path


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
