"""Which program owns a socket: binding as Linux does it, wildcards, families, and programs that cannot start.

bind(2), ip(7), ipv6(7); nginx and Apache httpd differ in what `[::]` takes and in addresses under a wildcard.
"""

from collections.abc import Callable, Iterable, Mapping

from portolan.estate.base import IPAddress
from portolan.estate.service import Listener, NameServer, Resolver, Service, WebService, address_in, sites_of
from portolan.evidence.start import StartFailure, Why
from portolan.programs.protocol import WebProgram
from portolan.source.value import Value

#: Ports below this one need a privilege (ip_unprivileged_port_start, ip(7)).
FIRST_OPEN_PORT = 1024


#: Whose ways a web service follows.
Ways = Callable[[WebService], WebProgram]


class Binding(Value, frozen=True):
    """One bound socket: an address (None: the family's wildcard), the families it takes, port and protocol."""

    address: IPAddress | None
    families: tuple[int, ...]
    port: int
    protocol: str
    service: Service
    listener: Listener

    def takes(self, address: IPAddress, port: int, protocol: str) -> bool:
        """Whether a packet to an address of the machine comes here."""
        return (
            self.port == port
            and self.protocol == protocol
            and (self.address == address if self.address is not None else address.version in self.families)
        )


class Failure(Value, frozen=True):
    """A service that runs by the estate and yet does not listen, and why."""

    service: Service
    reason: StartFailure
    rival: Service | None = None


class Sockets(Value, frozen=True):
    """What listens on a machine, what would if it ran, and what failed to start."""

    bindings: tuple[Binding, ...]
    stopped: tuple[Binding, ...]
    failures: dict[str, Failure]
    failed: tuple[Binding, ...]

    def choose(self, address: IPAddress, port: int, protocol: str) -> Binding | None:
        """The socket that takes a packet: the exact address before the wildcard."""
        return _choose(self.bindings, address, port, protocol)

    def would(self, address: IPAddress, port: int, protocol: str) -> tuple[Binding, Failure | None] | None:
        """A socket of a stopped or failed service that would have taken the packet."""
        found = _choose(self.stopped, address, port, protocol)
        if found is not None:
            return found, None
        found = _choose(self.failed, address, port, protocol)
        return (found, self.failures[found.service.name]) if found is not None else None


def _choose(bindings: Iterable[Binding], address: IPAddress, port: int, protocol: str) -> Binding | None:
    wild = None
    for binding in bindings:
        if binding.takes(address, port, protocol):
            if binding.address is not None:
                return binding
            wild = wild or binding
    return wild


def bindings_of(service: Service, ways: Ways) -> list[Binding]:
    """The sockets that a service asks for."""
    protocols = ("udp", "tcp") if isinstance(service, NameServer | Resolver) else ("tcp",)
    found: list[Binding] = []
    for listener in service.listens:
        if _unopened(service, listener, ways):
            found.extend(
                Binding(each, (each.version,), listener.port, "tcp", service, listener)
                for each in _bound_addresses(service, listener)
            )
            continue
        address: IPAddress | None = listener.address
        if address is None:
            families: tuple[int, ...] = (4, 6)
        elif int(address) == 0:
            families = _wild_families(service, listener, ways)
            address = None
        else:
            families = (address.version,)
        found.extend(Binding(address, families, listener.port, protocol, service, listener) for protocol in protocols)
    return found


def _unopened(service: Service, listener: Listener, ways: Ways) -> bool:
    """Whether nginx has no such socket: it opens those that its sites name, and no other (measured)."""
    return (
        isinstance(service, WebService)
        and bool(service.sites)
        and ways(service).opens_only_named
        and not any(
            site.in_force and (not site.listens or listener.key in site.listens) for site in service.sites.values()
        )
    )


def _bound_addresses(service: Service, listener: Listener) -> list[IPAddress]:
    """The single addresses that sites are bound to under a listener that is for all."""
    if listener.address is not None and int(listener.address):
        return []
    found = {
        each: None
        for site in sites_of(service).values()
        if site.in_force
        for each in map(address_in, site.listens)
        if each is not None and each[1] == listener.port and int(each[0])
    }
    return [address for address, _ in found]


def _wild_families(service: Service, listener: Listener, ways: Ways) -> tuple[int, ...]:
    """The families behind `0.0.0.0` or `::`."""
    if listener.address is not None and listener.address.version == 4:
        return (4,)
    if listener.only_v6 is not None:
        return (6,) if listener.only_v6 else (4, 6)
    # nginx sets IPV6_V6ONLY on its sockets; Apache httpd and the kernel's default (ipv6(7)) take IPv4 too.
    return (6,) if isinstance(service, WebService) and ways(service).v6_apart else (4, 6)


def open_sockets(
    services: Iterable[Service],
    local: Mapping[IPAddress, object],
    startup: Callable[[Service], StartFailure | None],
    ways: Ways,
) -> Sockets:
    """Starts the services in the order written; one that cannot bind all it asks for does not run at all."""
    bound: list[Binding] = []
    stopped: list[Binding] = []
    failed: list[Binding] = []
    failures: dict[str, Failure] = {}
    for service in services:
        wanted = bindings_of(service, ways)
        if service.state == "stopped":
            stopped += wanted
            continue
        failure = _conflict(service, wanted, bound, local, ways)
        if failure is None:
            reason = startup(service)
            failure = Failure(service, reason) if reason is not None else None
        if failure is None:
            bound += wanted
        else:
            failures[service.name] = failure
            failed += wanted
    return Sockets(tuple(bound), tuple(stopped), failures, tuple(failed))


def _conflict(
    service: Service, wanted: list[Binding], bound: list[Binding], local: Mapping[IPAddress, object], ways: Ways
) -> Failure | None:
    if not service.privileged:
        low = next((binding.port for binding in wanted if binding.port < FIRST_OPEN_PORT), None)
        if low is not None:
            text = f"it may not open port {low}: it runs without that privilege"
            return Failure(service, StartFailure(Why.NO_PRIVILEGE, text))
    merges = isinstance(service, WebService) and ways(service).merges_wildcards
    for index, binding in enumerate(wanted):
        under_wildcard = (
            merges
            and binding.address is not None
            and any(
                other.address is None
                and other.port == binding.port
                and other.protocol == binding.protocol
                and binding.families[0] in other.families
                for other in wanted
            )
        )
        if under_wildcard:
            continue  # nginx binds the wildcard only and tells addresses apart by itself
        if binding.address is not None and not binding.address.is_loopback and binding.address not in local:
            text = f"the machine does not have the address {binding.address}"
            return Failure(service, StartFailure(Why.ADDRESS_ABSENT, text))
        rival = next((other for other in bound if _overlap(binding, other)), None)
        if rival is not None:
            text = f"{rival.service.name} has port {binding.port} already"
            return Failure(service, StartFailure(Why.ADDRESS_IN_USE, text, rival.service.name), rival.service)
        if not merges:
            own = next((other for other in wanted[:index] if _overlap(binding, other)), None)
            if own is not None:
                text = f"its listeners '{own.listener}' and '{binding.listener}' take the same address"
                return Failure(service, StartFailure(Why.ADDRESS_IN_USE, text))
    return None


def _overlap(one: Binding, other: Binding) -> bool:
    if one.port != other.port or one.protocol != other.protocol:
        return False
    if one.address is not None and other.address is not None:
        return one.address == other.address
    return bool(set(one.families) & set(other.families))
