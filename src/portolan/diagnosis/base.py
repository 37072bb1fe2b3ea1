"""What a recogniser is given, what it returns, and the registry that holds them all."""

from collections.abc import Callable, Iterable, Iterator
from enum import StrEnum
from typing import TypeVar

import msgspec

from portolan.estate.base import IPAddress, is_public
from portolan.estate.client import Client
from portolan.estate.edge import EdgeService, SwitchedEdge
from portolan.estate.estate import Estate
from portolan.estate.guesses import asked_by, attachments, machine_called, machines, rented_edges
from portolan.estate.machine import Forward, Machine
from portolan.estate.names import ByName, answers_to
from portolan.estate.service import Service, WebService
from portolan.estate.site import Site, Upstream
from portolan.estate.vantage import Expectation, Vantage
from portolan.estate.zone import Zone
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.evidence.legs import Exchange
from portolan.evidence.packet import Seen
from portolan.evidence.start import Why
from portolan.journey.expectation import Missed, misses
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.net.topology import Device
from portolan.source.nearest import nearest
from portolan.source.place import Place
from portolan.source.value import Value

ADecision = TypeVar("ADecision", bound=Decision)


class Severity(StrEnum):
    """How bad a finding is."""

    ERROR = "error"
    WARNING = "warning"


class Finding(Value, frozen=True):
    """One cause: its code, the estate's value that must change, and why in a sentence.

    `clue` carries what the recogniser learned on the way to the remedies: a value of a type beside the recogniser.
    """

    code: str
    text: str
    place: Place | None
    severity: Severity = Severity.ERROR
    clue: object = None
    #: The case that it was recognised in, where that is an earlier attempt than the last.
    seen: "Case | None" = None

    @property
    def object(self) -> str:
        """The dotted path of the value that must change."""
        return self.place.object if self.place is not None else ""


#: What happens to an answer that took the wrong way: the way is the cause, not its end.
_ASTRAY = (
    "source-private",
    "internet-private",
    "internet-unknown",
    "neighbour-missing",
    "not-a-router",
    "reply-stranger",
)


#: What stops a visit that was led to a wrong address.
LED_ASTRAY = (
    "internet-unknown",
    "internet-private",
    "neighbour-missing",
    "no-route",
    "nothing-listens",
    "service-stopped",
    "wrong-page",
    "name-mismatch",
    "not-found",
    "no-index-file",
    "filter-drops",
    "filter-rejects",
    "group-drops",
    "plain-spoken",
)


#: So many attempts of one visit are looked at.
_MOST_ATTEMPTS = 16
#: A resolver or name server that could not be asked; the subject is what kept the question or its answer away.
_UNANSWERED = (name_kinds.ResolverSilent, name_kinds.ResolverOutOfReach, zone_kinds.ServersFail)


class Case(Value, frozen=True):
    """A visit that did not get what was expected."""

    world: World
    visit: Visit
    expectation: Expectation | None

    @property
    def estate(self) -> Estate:
        """The estate asked about."""
        return self.world.estate

    @property
    def exchange(self) -> Exchange:
        """The exchange that failed, whoever made it; for a page that came and is not what is expected, the one that gave it."""
        last = self.visit.exchanges[-1]
        if not last.inner:
            return last
        if self.visit.stop is None:
            return last.innermost if self.symptom == "wrong-page" else last
        ends = [*self.visit.stop.grounds]
        # What a program asks for again, such as its page for the error, fails by the very same decision: the first counts.
        first = next((each for each in last.tree if any(ends[-1] is one for one in each.decisions)), None)
        if first is not None and first is not last:
            return first
        return next(
            (each for each in reversed([*last.tree]) if any(end is one for one in each.decisions for end in ends)), last
        )

    def earlier_attempts(self) -> Iterator["Case"]:
        """The same case as if it had ended at each of the earlier attempts to connect, the latest first: each failed for a reason of its own.

        Of a name with very many addresses the latest are enough.
        """
        last = self.visit.exchanges[-1]
        if (
            self.visit.stop is None
            or self.exchange is not last
            or last.response is not None
            or last.handshake is not None
        ):
            return
        for count in range(len(last.attempts) - 1, max(0, len(last.attempts) - _MOST_ATTEMPTS), -1):
            stop = last.attempts[count - 1].stop
            if stop is not None:
                ended = last.but(attempts=last.attempts[:count])
                yield self.but(visit=self.visit.but(exchanges=(*self.visit.exchanges[:-1], ended), stop=stop))

    @property
    def client(self) -> Client:
        """Whoever made the exchange that failed: the visitor, or a program that passed the request on."""
        return self.exchange.client

    @property
    def device(self) -> Device:
        """The device that it was made from."""
        return self.world.topology.device(self.world.seat(self.client))

    @property
    def host(self) -> str:
        """The name asked for in the last exchange."""
        return self.exchange.url.host.rstrip(".")

    @property
    def symptom(self) -> str:
        """The kind of the decision that ended it, or for a page that came: what of the expectation it misses."""
        stop = self.stop
        if stop is not None:
            return stop.kind
        expectation, outcome = self.expectation, self.visit.outcome
        if expectation is not None:
            if self.missing_in(Missed.PAGE):
                return "wrong-page"
            if expectation.secure and not outcome.secure:
                return "not-secure"
            if self.missing_in(Missed.FINAL):
                return "wrong-final"
            if self.missing_in(Missed.STATUS):
                return "wrong-status"
        return "slow" if any(len(each.attempts) > 1 for each in self.visit.tree) else "none"

    def missing_in(self, what: Missed) -> bool:
        """Whether the expectation is missed in one way."""
        return any(miss.what is what for miss in misses(self.expectation, self.visit))

    @property
    def ended(self) -> Decision | None:
        """The decision that ended the exchange that failed: what its own client met, and not what others made of it."""
        stop = self.visit.stop
        passed = http_kinds.UpstreamFails | http_kinds.UpstreamGarbled | edge_kinds.EdgeFails
        while isinstance(stop, passed) and isinstance(stop.subject, Decision):
            stop = stop.subject
        return stop

    @property
    def stop(self) -> Decision | None:
        """The decision that ended it; for what was lost on the way back or to a resolver, the one that kept it away."""
        stop = self.ended
        if isinstance(stop, _UNANSWERED) and isinstance(stop.subject, Decision):
            stop = stop.subject
        while stop is not None and isinstance(stop.subject, Decision) and stop.subject.kind not in _ASTRAY:
            stop = stop.subject
        return stop

    def decision(self, kind: type[ADecision]) -> ADecision | None:
        """The last decision of a kind in the exchange that counts."""
        return next((each for each in reversed(self.exchange.decisions) if isinstance(each, kind)), None)

    @property
    def asked_port(self) -> int:
        """The destination port at the box that decided: after a forward, the inside one."""
        if self.met is not None:
            return self.met.dport
        taken, connection = self.decision(connect_kinds.Forwarded), self.exchange.connection
        return taken.to_port if taken is not None else connection.port if connection is not None else 0

    @property
    def asked_address(self) -> IPAddress | None:
        """The destination address at the box that decided: after every translation, the inside one."""
        if self.met is not None:
            return self.met.dst
        taken, paired = self.decision(connect_kinds.Forwarded), self.decision(connect_kinds.OneToOne)
        connection = self.exchange.connection
        if taken is not None:
            return taken.to
        if paired is not None:
            return paired.inside
        return connection.address if connection is not None else None

    @property
    def met(self) -> Seen | None:
        """The packet as the rule saw it that ended the visit on its way there."""
        stop = self.stop
        if stop is None or not self.ended_on_its_way:
            return None
        packet = getattr(stop, "packet", None)
        return packet if isinstance(packet, Seen) and packet.protocol == self.asked_protocol else None

    @property
    def ended_on_its_way(self) -> bool:
        """Whether what ended the visit met the question, a resolver's included, and not an answer."""
        stop, ended = self.stop, self.ended
        return (
            stop is not None
            and ended is not None
            and (stop is ended or (isinstance(ended, _UNANSWERED) and ended.subject is stop))
        )

    @property
    def answer_lost(self) -> bool:
        """Whether an answer, or what follows it, was lost on its way back."""
        lost = connect_kinds.ReplyLost | connect_kinds.LaterLost | connect_kinds.LaterRejected
        return self.ended is not None and any(isinstance(each, lost) for each in self.ended.grounds)

    @property
    def asked_protocol(self) -> str:
        """The protocol of what was kept away: a question to a resolver goes by UDP (RFC 1035 section 4.2.1)."""
        ended = self.ended
        return "udp" if ended is not None and isinstance(ended, _UNANSWERED) else "tcp"

    @property
    def site_name(self) -> str | None:
        """The site that was expected; of an expectation that names none, the one that has the name, where another answered."""
        if self.expectation is None:
            return None
        return self.expectation.site or (self.visit.meant if self.missing_in(Missed.PAGE) else None)

    @property
    def sites(self) -> "Sites":
        """Every site of the estate, by its own name and by the names that it answers to."""
        return self.world.once("sites", lambda: Sites(self.estate))

    def homes(self) -> list["Home"]:
        """Where the visitor is meant to arrive: the expected site, else those that answer to the name, else the one whose name is nearest;
        in front of them the sites that pass on to others under that name. None where a rented edge was told the name: visitors arrive there.
        """
        wanted, host, url = self.site_name, self.host, self.exchange.url
        index = self.sites
        found = index.of_site(wanted) if wanted is not None else index.of_name(host)
        if not isinstance(self.client, Vantage):
            return found
        if not found and wanted is None:
            near = nearest(host, [each for home in index.every for each in home.names])
            found = [home for home in index.every if near in home.names]
        if any(_told(edge, host) for edge in rented_edges(self.estate)):
            return []
        inside = {address for home in found for address in home.machine.addresses}
        passing = [home for home in index.passing if home.takes(host, inside)]
        if not passing or any(home in passing for home in found):
            return found
        # A program behind is asked by visitors too where it speaks as they do.
        direct = [
            home
            for home in found
            if any(each.port == url.port and each.tls == url.secure for each in home.service.listens)
            and not any(home.machine is each.machine for each in passing)
        ]
        return [*passing, *direct]


def _told(edge: EdgeService, host: str) -> bool:
    """Whether an edge answers to a host name."""
    records = edge.records if isinstance(edge, SwitchedEdge) else {}
    return host in records or any(answers_to(str(each), host) for each in edge.names)


class Home(Value, frozen=True):
    """A site (or a service without sites), and where it lives."""

    machine: Machine
    service: WebService
    site: Site | WebService

    @property
    def names(self) -> tuple[str, ...]:
        """The names that its site answers to."""
        return tuple(map(str, self.site.names)) if isinstance(self.site, Site) else ()

    @property
    def certificate(self) -> str | None:
        """The certificate that it shows: its site's own, else the service's."""
        return self.site.certificate or self.service.certificate

    @property
    def passes_on(self) -> bool:
        """Whether its site, or a section of it, passes on to another program."""
        site = self.site
        return isinstance(site, Site) and any(each.upstream is not None for each in (site, *site.sections))

    def takes(self, host: str, inside: set[IPAddress]) -> bool:
        """Whether its site is bound to a host name; or, bound to none, passes on to one of these addresses."""
        site = self.site
        if not isinstance(site, Site) or site.names:
            return isinstance(site, Site) and any(answers_to(str(each), host) for each in site.names)
        upstreams = [each.upstream for each in (site, *site.sections) if isinstance(each.upstream, Upstream)]
        return any(member.literal in inside for each in upstreams for member in each.members)


class Sites:
    """Every site of an estate, ready to be asked for by its own name, and by the names that it answers to."""

    def __init__(self, estate: Estate) -> None:
        self.every = list(all_homes(estate))
        self.passing = [home for home in self.every if home.passes_on]
        self._sites: dict[str, list[Home]] = {}
        #: The numbers of the homes that answer to names.
        self._named = ByName[int]()
        for number, home in enumerate(self.every):
            self._sites.setdefault(home.site.name, []).append(home)
            for name in home.names:
                self._named.add(name, number)

    def of_site(self, name: str) -> list[Home]:
        """The sites that are called so."""
        return list(self._sites.get(name, ()))

    def of_name(self, host: str) -> list[Home]:
        """The sites that answer to a host name, in the order in which they are written."""
        return [self.every[number] for number in sorted(self._named.of(host))]


def all_homes(estate: Estate) -> Iterable[Home]:
    """Every site of the estate."""
    for machine in machines(estate):
        for service in machine.services.values():
            if isinstance(service, WebService):
                for site in service.sites.values():
                    yield Home(machine, service, site)
                if not service.sites:
                    yield Home(machine, service, service)


def addresses_of(machine: Machine) -> list[IPAddress]:
    """A machine's addresses."""
    return list(machine.addresses)


def kind_missing_on_its_line(case: Case, device: Machine | Vantage) -> int | None:
    """The IP version of what cannot be reached, where a machine is on the internet without any address of that kind."""
    connection = case.exchange.connection
    if connection is None or not isinstance(device, Machine):
        return None
    kind = connection.address.version
    lines = [each.address for each in device.interfaces.values() if each.network == "internet"]
    return kind if lines and not any(item.version == kind for held in lines for item in held) else None


def target_of(forward: Forward) -> str:
    """Where a forward leads, in words."""
    if forward.to is None:
        return f"the machine's own port {forward.port}"
    return str(forward.to) if forward.up_to is None else f"{forward.to}-{forward.up_to}"


def outside_addresses(estate: Estate, machine: Machine) -> list[IPAddress]:
    """The public addresses by which a machine is meant to be reached, for each kind: its own, else those that lead to it."""
    own = [address for address in addresses_of(machine) if is_public(address)]
    kinds = {address.version for address in own}
    return [*own, *(each for each in _leading_to(estate, machine) if each.version not in kinds)]


def _leading_to(estate: Estate, machine: Machine) -> list[IPAddress]:
    """The public addresses at which somebody passes on to a machine, over however many boxes; else those of the routers towards it."""
    inside = set(addresses_of(machine))
    found: dict[IPAddress, None] = {}
    grown = True
    while grown:
        asked = [
            *(pair.outside for router in machines(estate) for pair in router.one_to_one if pair.inside in inside),
            *(
                each
                for router in machines(estate)
                for forward in router.forwards
                if forward.to in inside
                for each in asked_by(router, forward)
            ),
        ]
        grown = bool(set(asked) - inside)
        inside.update(asked)
        found.update(dict.fromkeys(each for each in asked if is_public(each)))
    return list(found) or _routers_towards(estate, machine)


def _routers_towards(estate: Estate, machine: Machine) -> list[IPAddress]:
    """The public IPv4 addresses of the routers on a machine's networks; where they have none, of those on the networks behind them."""
    mine = {interface.network for interface in machine.interfaces.values()}
    left = list(estate.routers.values())
    while True:
        near = [each for each in left if mine & {interface.network for interface in each.interfaces.values()}]
        every = [address for each in near for address in addresses_of(each)]
        found: list[IPAddress] = [each for each in every if is_public(each) and each.version == 4]
        if found or not near:
            return found
        left = [each for each in left if each not in near]
        mine.update(interface.network for each in near for interface in each.interfaces.values())


Recogniser = Callable[[Case], Finding | None]


class Fault(Value, frozen=True):
    """A fault: its code, what is wrong, what the visitor gets, how it is mended, and who recognises it."""

    code: str
    title: str
    visitor_gets: str
    help: str
    symptoms: tuple[str, ...]
    recognise: Recogniser
    family: str


#: Every fault in the order in which they are tried for a symptom: the more particular first.
FAULTS: list[Fault] = []


def fault(
    code: str, title: str, visitor_gets: str, help_text: str, *symptoms: str
) -> Callable[[Recogniser], Recogniser]:
    """Registers a recogniser for the symptoms (kinds of the decision that stopped the visit) that it looks at."""

    def register(recognise: Recogniser) -> Recogniser:
        FAULTS.append(Fault(code, title, visitor_gets, help_text, symptoms, recognise, recognise.__module__))
        return recognise

    return register


#: Further recognisers of faults that other families define, by code: what they look at, who recognises, in which family.
ALSO: list[tuple[str, tuple[str, ...], Recogniser, str]] = []


def also(code: str, *symptoms: str) -> Callable[[Recogniser], Recogniser]:
    """Registers a further recogniser of a fault that another family defines, for objects of its own."""

    def register(recognise: Recogniser) -> Recogniser:
        ALSO.append((code, symptoms, recognise, recognise.__module__))
        return recognise

    return register


def warned(code: str, title: str, visitor_gets: str, help_text: str, family: str) -> None:
    """Registers a fault that no visit shows: only the checks of an estate find it."""
    FAULTS.append(Fault(code, title, visitor_gets, help_text, (), lambda _case: None, family))


def listed(names: Iterable[str]) -> str:
    """Names in a sentence."""
    held = list(names)
    return ", ".join(held[:4]) + (f" and {len(held) - 4} more" if len(held) > 4 else "")


def asked_name(case: Case) -> str:
    """The name that a record is wanted for: the end of the aliases, else the name asked for."""
    aliases = case.exchange.resolution.aliases
    return aliases[-1] if aliases else case.host


def zone_asked(case: Case) -> Zone | None:
    """The zone that answered last."""
    name = case.exchange.resolution.zone
    if name is not None:
        found = case.estate.zones.get(name)
        return found if found is not None and found.provided is None else None
    return zone_of(case.estate, asked_name(case))


def zone_of(estate: Estate, name: str) -> Zone | None:
    """The closest zone of the estate that holds a name; those that providers have are nobody's here to change."""
    while name:
        if name in estate.zones and estate.zones[name].provided is None:
            return estate.zones[name]
        name = name.partition(".")[2]
    return None


def origin_of(case: Case) -> object:
    """What states the address that the visit used."""
    resolution, connection = case.exchange.resolution, case.exchange.connection
    if connection is None:
        return None
    for address, origin in zip(resolution.addresses, resolution.origins, strict=True):
        if address == connection.address:
            return origin
    return None


def inside_addresses(case: Case) -> set[object]:
    """The addresses of the machines that hold the site."""
    return {
        item.ip for home in case.homes() for interface in home.machine.interfaces.values() for item in interface.address
    }


def leads_home(case: Case) -> bool:
    """Whether the visit was delivered to a machine that holds the site."""
    connection = case.exchange.connection
    return connection is not None and any(home.machine is connection.reached for home in case.homes())


def reached_by(case: Case) -> object:
    """The machine at which the visit ended: where it was delivered, or whose rule or table ended it."""
    connection = case.exchange.connection
    if connection is not None and connection.reached is not None:
        return connection.reached
    stop = case.stop
    if stop is None or stop.place is None:
        return None
    path = stop.place.path
    if len(path) >= 2 and path[0] in ("routers", "hosts"):
        return (case.estate.routers if path[0] == "routers" else case.estate.hosts).get(str(path[1]))
    return None


def on_internet(estate: Estate, vantage: Vantage) -> bool:
    """Whether a vantage is on the internet, or at a machine that is."""
    box = vantage if vantage.host is None else machine_called(estate, vantage.host)
    networks = [name for name, _ in attachments(box)] if box is not None else []
    return any(
        name == "internet" or (name in estate.networks and estate.networks[name].kind == "internet")
        for name in networks
    )


def supposing(case: Case, estate: Estate) -> bool:
    """Whether the expectation would be met in another estate."""
    world = case.world.changed(estate)
    return not misses(case.expectation, visit(world, case.visit.url, world.there(case.visit.vantage)))


class ServiceClue(msgspec.Struct, frozen=True):
    """The service that is concerned."""

    service: Service


def not_started(case: Case, why: Why) -> tuple[connect_kinds.ServiceFailed, Service] | None:
    """The decision that a service does not start for one reason, where that ended it, and the service."""
    stop = case.stop
    if not isinstance(stop, connect_kinds.ServiceFailed) or not isinstance(stop.subject, Service):
        return None
    return (stop, stop.subject) if stop.reason.why is why else None
