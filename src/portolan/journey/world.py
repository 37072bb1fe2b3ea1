"""An estate made ready for visits: the engines' indexes, wired to each other by functions."""

from collections.abc import Callable, Hashable
from datetime import datetime
from functools import partial
from ipaddress import ip_interface
from typing import TYPE_CHECKING, Any, TypeVar

from portolan.dns.client import resolve
from portolan.dns.law import ORDINARY_RESOLVERS
from portolan.dns.naming import Naming
from portolan.estate.base import IPAddress, is_loopback, is_public
from portolan.estate.certificate import Certificate
from portolan.estate.client import Client, PassingProgram
from portolan.estate.edge import EdgeService
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines, resolvers_named, seat_of
from portolan.estate.machine import Host, Machine
from portolan.estate.network import Interface
from portolan.estate.places import held_addresses, with_places
from portolan.estate.service import Listener, Resolver, Service, WebService
from portolan.estate.site import Upstream
from portolan.estate.vantage import AsIfVantage, Vantage
from portolan.evidence.legs import Connection, Resolution
from portolan.evidence.start import StartFailure, Why
from portolan.http.binding import Table, table_of
from portolan.journey.furnish import furnished
from portolan.journey.moment import all_names, not_in_effect, rebooted, standing
from portolan.net.connect import connect
from portolan.net.echo import Echo, echo
from portolan.net.topology import Topology
from portolan.programs.protocol import EdgeWays, WebProgram
from portolan.programs.registry import resolver_program, web_program
from portolan.source.shared import Shared
from portolan.tls.facts import damaged, key_fits, other_kind, too_weak

if TYPE_CHECKING:
    from portolan.edge.names import Names

_Made = TypeVar("_Made")


def _resolver_at(name: str, *addresses: IPAddress) -> Host:
    """A machine on the internet that nobody describes, with an ordinary resolver."""
    held = tuple(ip_interface(f"{each}/{each.max_prefixlen}") for each in addresses)
    service = Resolver(name="resolver", listens=(Listener(text="53", port=53),))
    return Host(
        name=name,
        interfaces={"internet": Interface(name="internet", network="internet", address=held)},
        services={"resolver": service},
    )


#: Where ordinary resolvers are thought to be.
_ORDINARY = _resolver_at("an ordinary resolver", *ORDINARY_RESOLVERS)


#: How many ways, and names, a world keeps in mind.
_MOST_KEPT = 4096


class World:
    """An estate at a moment, as it is or after a boot of the machines named (`booted`; None: of all). Indexes are made on first use; those of unchanged parts are shared with changed estates."""

    def __init__(
        self,
        estate: Estate,
        now: datetime,
        shared: Shared | None = None,
        booted: frozenset[str] | None = frozenset(),
        people: tuple[Vantage, ...] = (),
    ) -> None:
        #: Who asks beside those whom the estate states; they stay when it changes.
        self.people = people
        estate = with_places(estate, people)
        #: The estate as it is stated, with every version of its objects, and with those people.
        self.stated = estate
        self.shared = Shared() if shared is None else shared
        estate = standing(estate, now, self.shared)
        self.booted = booted
        if booted is None or booted:
            estate = rebooted(estate, all_names(estate) if booted is None else booted)
        estate = furnished(estate, now, self.shared)
        self.estate = estate
        self.now = now
        self._undescribed = {id(_ORDINARY): _ORDINARY, **{id(each): each for each in self._stated_resolvers()}}
        self._starting: set[int] = set()
        #: All that a way, or a name, depends on in this world: devices and clients are of this estate, the moment is fixed.
        self._walked: dict[tuple[int, IPAddress, int, str], Connection] = {}
        self._looked_up: dict[tuple[Client, str], Resolution] = {}
        self._chains: dict[tuple[Vantage, int], Any] = {}
        self.topology = Topology(
            estate, self._why_not_started, self.program, tuple(self._undescribed.values()), self.shared
        )
        self.naming = Naming(estate, now, self._reach, self._described, resolver_program, self.shared)

    def changed(self, estate: Estate) -> "World":
        """The world of a changed estate at the same moment."""
        return World(estate, self.now, self.shared, self.booted, self.people)

    def once(self, what: Hashable, make: Callable[[], _Made]) -> _Made:
        """What is worked out of the whole world; made once for the same estate, moment and boots."""
        return self.shared.of("of the world", self.stated, make, what, self.now, self.booted)

    def with_vantages(self, *more: Vantage) -> "World":
        """The same world with more people in it who ask."""
        return World(self.stated, self.now, self.shared, self.booted, (*self.people, *more))

    def there(self, vantage: Vantage) -> Vantage:
        """A vantage of another world as it is in this one, by its name; itself where nobody is named so."""
        found = self.estate.vantages.get(vantage.name, vantage)
        return vantage.again(found) if isinstance(vantage, AsIfVantage) else found

    def then(self, moment: datetime) -> "World":
        """The same estate at another moment; made once."""
        if moment == self.now:
            return self

        def made() -> World:
            return World(self.stated, moment, self.shared, self.booted, self.people)

        return self.shared.of("then", self.stated, made, moment, self.booted)

    def waiting(self, path: tuple[str | int, ...]) -> "World":
        """The same world in which the settings of an edge, at a place, are not in effect yet."""
        return self.once(("waiting", path), lambda: self.changed(not_in_effect(self.stated, path)))

    def connect(self, origin: Machine | Client, address: IPAddress, port: int, protocol: str = "tcp") -> Connection:
        """Connects from a machine or a client; the same way is walked once."""
        device = self.topology.device(origin.machine if isinstance(origin, PassingProgram) else self.seat(origin))
        key = (id(device), address, port, protocol)
        found = self._walked.get(key)
        if found is None:
            if len(self._walked) >= _MOST_KEPT:
                self._walked.clear()
            found = self._walked[key] = connect(self.topology, device, address, port, protocol)
        return found

    def echo(self, client: Client, address: IPAddress) -> Echo:
        """Pings an address from where a client is."""
        return echo(self.topology, self.topology.device(self.seat(client)), address)

    def followed(self, client: Client, certificate: Certificate, follow: Callable[[], _Made]) -> _Made:
        """Where the chain of a certificate leads for a visitor, whatever name it is shown for; followed once."""
        if not isinstance(client, Vantage):
            return follow()
        key = (client, id(certificate))
        found: _Made | None = self._chains.get(key)
        if found is None:
            if len(self._chains) >= _MOST_KEPT:
                self._chains.clear()
            found = self._chains[key] = follow()
        return found

    def forget(self) -> None:
        """Lets go of the ways walked, the names looked up and the chains followed; they are found again."""
        self._walked.clear()
        self._looked_up.clear()
        self._chains.clear()
        self.naming.forget()

    def resolve(self, client: Client, host: str, literal: IPAddress | None) -> Resolution:
        """A host's addresses as a client finds them; the same name is looked up once."""
        if literal is not None:
            # An address is nobody's to look up: it is the same for every client.
            return resolve(self.naming, host, literal, client)
        key = (client, host)
        found = self._looked_up.get(key)
        if found is None:
            if len(self._looked_up) >= _MOST_KEPT:
                self._looked_up.clear()
            found = self._looked_up[key] = resolve(self.naming, host, literal, client)
        return found

    def seat(self, client: Machine | Client) -> Machine | Vantage:
        """The device that a client asks from: its own, or the machine that it sits at."""
        return client if isinstance(client, Machine) else seat_of(self.estate, client)

    def program(self, service: WebService) -> WebProgram:
        """The program whose ways a web service follows."""
        return self.shared.of("program", service, lambda: web_program(service))

    def unsigned(self, certificate: Certificate) -> bool:
        """Whether a certificate has a key of another kind, with which nothing can be signed for it; worked out once."""
        if certificate.key_pem is None:
            return False
        return self.once(("other kind", id(certificate)), lambda: other_kind(certificate))

    def edge(self, edge: EdgeService) -> "tuple[EdgeWays, Names]":
        """An edge's ways, and its names made ready for choosing."""

        def made() -> "tuple[EdgeWays, Names]":
            from portolan.edge.names import Names
            from portolan.programs.edges import ways_of

            return ways_of(edge), Names(edge)

        return self.shared.of("edge", edge, made)

    def at_path(self, edge: EdgeService, path: str) -> EdgeService:
        """An edge as it is for a path, the same each time."""
        part = edge.part(path) if edge.by_path else None
        return edge if part is None else self.once(("part", id(part)), lambda: edge.with_part(part))

    def source(self, origin: Client, address: IPAddress) -> IPAddress | None:
        """The address that a client sends from towards another; None without a route."""
        device = self.topology.device(self.seat(origin))
        if address in device.local or is_loopback(address):
            return address
        return device.source_for(address)

    def table(self, service: WebService, listener: Listener, address: IPAddress | None = None) -> Table:
        """The sites of a service's listener, for what was asked of one address under it."""
        return table_of(service, listener, self.program(service), self.shared, address)

    def _stated_resolvers(self) -> list[Host]:
        """The resolvers that are stated by public addresses which no box of the estate has."""
        estate = self.estate
        at_machines = self.shared.lately(
            "resolvers named",
            (estate.routers, estate.hosts),
            lambda: tuple(address for _, address in resolvers_named(machines(estate))),
        )
        stated = [*at_machines, *(address for _, address in resolvers_named(estate.vantages.values()))]
        if not stated:
            return []
        held = held_addresses(estate)
        return [
            self.shared.by("resolver", each, partial(_resolver_at, f"the resolver {each}", each))
            for each in dict.fromkeys(stated)
            if is_public(each) and each not in held
        ]

    def _described(self, address: IPAddress) -> bool:
        holder = self.topology.holder(address)
        return holder is not None and id(holder.stated) not in self._undescribed

    def _reach(self, origin: Machine | Vantage | None, address: IPAddress, port: int, protocol: str) -> Connection:
        return self.connect(_ORDINARY if origin is None else origin, address, port, protocol)

    def _why_not_started(self, service: Service) -> StartFailure | None:
        """Why a program does not start, for reasons that are none of its sockets."""
        if service.failing is not None:
            return StartFailure(Why.CONFIGURATION_BROKEN, service.failing)
        if not isinstance(service, WebService):
            return None
        return self._default_failure(service) or self._certificate_failure(service) or self._upstream_failure(service)

    def _default_failure(self, service: WebService) -> StartFailure | None:
        """Two default sites for one listener, or one section twice, which some programs refuse."""
        if not self.program(service).opens_only_named:
            return None
        for site in service.sites.values():
            paths = [(each.exact is None, each.exact or each.path) for each in site.sections if each.pattern is None]
            twice = next((path for number, path in enumerate(paths) if path in paths[:number]), None)
            if twice is not None and site.in_force:
                text = f"its site {site.name} has two sections for {twice[1]}"
                return StartFailure(Why.SECTION_TWICE, text, site.name)
        for listener in service.listens:
            sites = [
                each for each in self.table(service, listener).sites if each.default or listener.key in each.default_on
            ]
            if len(sites) > 1:
                text = f"its sites {sites[0].name} and {sites[1].name} are both the default for {listener}"
                return StartFailure(Why.TWO_DEFAULTS, text, sites[1].name)
        return None

    def _certificate_failure(self, service: WebService) -> StartFailure | None:
        used = {site.certificate or service.certificate for site in service.sites.values() if site.in_force}
        for name in sorted(each for each in used | {service.certificate} if each):
            certificate = self.estate.certificates[name]
            if certificate.requested:
                text = f"the certificate {name} was asked for and is not validated yet: there is none to show"
                return StartFailure(Why.CERTIFICATE_REQUESTED, text, name)
            program = self.program(service)
            misread = certificate.why_misread(program.reads_keys_loosely)
            file = certificate.file if misread is None or certificate.misread is not None else certificate.key
            misread = misread or damaged(certificate)
            if misread is not None:
                text = f"it cannot read {file}, of the certificate {name}: {misread}"
                return StartFailure(Why.FILE_MISREAD, text, name)
            weak = too_weak(certificate) if program.refuses_weak else None
            if weak is not None:
                return StartFailure(Why.CERTIFICATE_WEAK, f"it does not take the certificate {name}: {weak}", name)
            if key_fits(certificate) or (not program.refuses_other_kind and self.unsigned(certificate)):
                continue  # where its key is of another kind, its handshakes fail instead
            if any(key_fits(certificate, at) for at in range(1, len(certificate.pem))):
                text = f"in the file of the certificate {name} another stands before the one that its key belongs to"
                return StartFailure(Why.CERTIFICATE_ORDER, text, name)
            text = f"the key of the certificate {name} does not belong to it"
            return StartFailure(Why.KEY_MISFIT, text, name)
        for listener in service.listens:
            if not listener.tls:
                continue
            if not service.sites:
                if service.certificate is None:
                    return StartFailure(Why.NO_CERTIFICATE, f"it has no certificate for {listener}")
                continue
            table = self.table(service, listener)
            everywhere = self.program(service).certificate_everywhere
            wanting = table.sites if everywhere else [table.default] if table.default else []
            for site in wanting:
                if site.certificate is None and service.certificate is None and not site.rejects_handshake:
                    text = f"its site {site.name} has no certificate for {listener}"
                    return StartFailure(Why.NO_CERTIFICATE, text, site.name)
        return None

    def _upstream_failure(self, service: WebService) -> StartFailure | None:
        """An upstream whose name is not found, for a program that looks names up at its start."""
        named = [
            (site, giving.upstream, member)
            for site in service.sites.values()
            if site.in_force
            for giving in (site, *site.sections)
            if isinstance(giving.upstream, Upstream)
            for member in giving.upstream.members
            if not member.literal
        ]
        rules = self.program(service).passing
        if not named or rules.unknown_name is not None or id(service) in self._starting:
            return None
        machine = next(each for each in machines(self.estate) if service in each.services.values())
        # Whoever answers for the name may run on this machine: it counts as started meanwhile.
        self._starting.add(id(service))
        try:
            for site, upstream, member in named:
                client = PassingProgram(machine, service, site, upstream, rules.checks, rules.sends_server_name)
                if resolve(self.naming, member.host, None, client).detail is not None:
                    text = f"its site {site.name} passes on to {member.host}, and that name is not found"
                    return StartFailure(Why.UPSTREAM_UNKNOWN, text, site.name)
        finally:
            self._starting.discard(id(service))
        return None
