"""What a reader of an estate would guess where nothing is written: one place for every such rule."""

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Network, IPv6Network
from operator import itemgetter

from portolan.estate.base import Alone4, Alone6, IPAddress, IPInterface, IPNetwork, is_public
from portolan.estate.client import Client
from portolan.estate.edge import Edge, EdgeService
from portolan.estate.estate import Estate
from portolan.estate.machine import Forward, Host, Machine, Router
from portolan.estate.network import Network
from portolan.estate.service import Resolver, sites_of
from portolan.estate.vantage import Vantage
from portolan.source.place import Place

_Held = tuple[int, Machine, IPAddress]

#: The network that exists in every estate.
INTERNET = Network(name="internet", kind="internet")
#: The range of every link (RFC 4291 section 2.5.6).
LINK = IPv6Network("fe80::/64")


def seat_of(estate: Estate, client: Client) -> Machine | Vantage:
    """The device that a client asks from: its own, or the machine that it sits at."""
    if client.host is not None:
        return estate.hosts.get(client.host) or estate.routers[client.host]
    assert isinstance(client, Vantage)
    return client


def machines(estate: Estate) -> Iterator[Machine]:
    """Every router and host, routers first, in the order written."""
    yield from estate.routers.values()
    yield from estate.hosts.values()


def machine_called(estate: Estate, name: str | None) -> Machine | None:
    """The host or router of a name."""
    return estate.hosts.get(name or "") or estate.routers.get(name or "")


def changed_machines(before: Estate, after: Estate) -> Iterator[tuple[Machine, Machine]]:
    """The machines that two estates have and that are not the same in both: as they were, and as they are."""
    return ((was, machine) for was, machine in touched_machines(before, after) if was is not None)


def touched_machines(before: Estate, after: Estate) -> Iterator[tuple[Machine | None, Machine]]:
    """The machines that an estate has and another does not, or not so: as they were, None where they are new, and as they are."""
    for machine in machines(after):
        was = (before.hosts if isinstance(machine, Host) else before.routers).get(machine.name)
        if was is not machine:
            yield was, machine


def every_origin(estate: Estate) -> Iterator[EdgeService]:
    """Every edge that is stated, once for each origin that it has."""
    for edge in whole_edges(estate):
        yield from edge.stating("origin")


def whole_edges(estate: Estate) -> Iterator[EdgeService]:
    """Every edge that is stated, once: rented, switched on at a zone, or a program on a machine."""
    yield from estate.edges.values()
    for zone in estate.zones.values():
        if zone.edge is not None:
            yield zone.edge
    for machine in machines(estate):
        for service in machine.services.values():
            if isinstance(service, EdgeService) and not isinstance(service, Edge):
                yield service


def rented_edges(estate: Estate) -> Iterator[EdgeService]:
    """Every edge that is none of the estate's own programs."""
    return (edge for edge in whole_edges(estate) if edge.place.path[0] in ("edges", "zones"))


def stated_sources(estate: Estate) -> set[IPNetwork]:
    """Every source range that a rule of the estate names: of filters, groups, lists, forwards and rules of access."""
    found: set[IPNetwork] = set()
    for group in estate.groups.values():
        found.update(each for rule in group.inbound for each in rule.peers if not isinstance(each, str))
    for network in estate.networks.values():
        for rules in (network.access_list.inbound, network.access_list.outbound) if network.access_list else ():
            found.update(each for rule in rules or () for each in rule.sources)
    for machine in machines(estate):
        for forward in machine.forwards:
            found.update((*forward.sources, *forward.not_sources))
        for filtering in machine.filter.every if machine.filter is not None else ():
            chains = [filtering.inbound, filtering.forward, filtering.arriving, *filtering.chains.values()]
            rules_of = (rule for chain in chains if chain is not None for rule in chain.rules)
            found.update(each for rule in rules_of for each in (*rule.sources, *rule.not_sources))
            found.update(each for area in filtering.areas.values() for each in area.sources)
            found.update(each for held in filtering.sets.values() for each in held.addresses)
        for service in machine.services.values():
            for site in sites_of(service).values():
                accesses = [
                    site.access,
                    *(each.access for each in site.sections),
                    *(each.access for each in site.rule_files),
                ]
                found.update(each for held in accesses if held for each in (*held.sources, *held.not_sources))
    return {each for each in found if isinstance(each, IPv4Network | IPv6Network)}


def passes_on(machine: Machine | Vantage) -> bool:
    """Whether a device passes packets between its networks: routers do, and hosts that say so or could not translate else."""
    if not isinstance(machine, Machine):
        return False
    if machine.passes_on is not None:
        return machine.passes_on
    if isinstance(machine, Router):
        return True
    away = any(forward.to is not None and forward.to not in machine.addresses for forward in machine.forwards)
    return away or bool(machine.one_to_one or machine.source_nat or machine.masquerade)


def prefix_of(address: IPInterface, network: Network | None) -> IPNetwork | None:
    """The range that a machine believes to be its neighbours.

    The written prefix length, else the network's subnet that holds the address; None on the internet, which has no
    neighbours, and where no subnet fits. Every link has its link-local range (RFC 4291 section 2.5.6).
    """
    if network is None or network.kind == "internet":
        return None
    if isinstance(address, Alone4 | Alone6) or address.network.prefixlen < address.max_prefixlen:
        return address.network
    if address.version == 6 and address.ip.is_link_local:
        return LINK
    return next((subnet for subnet in network.subnets if address.ip in subnet), None)


def leg_towards(estate: Estate, machine: Machine | Vantage, neighbour: IPAddress) -> str | None:
    """The interface by which a machine finds a next router: one whose range holds it, else one that a route leads to it by.

    A link-local address is found by the only interface that has IPv6, and a provider's router by the only line to the internet
    that has the family. None where none is.
    """
    held = _by_interface(machine)
    for name, (network, addresses) in held.items():
        for address in addresses:
            prefix = prefix_of(address, estate.networks.get(network))
            if prefix is not None and neighbour in prefix:
                return name
    leading = [each for each in machine.routes if each.via is None and each.on in held and neighbour in each.to]
    if leading:
        return max(leading, key=lambda each: each.to.prefixlen).on
    having = {
        name: network
        for name, (network, addresses) in held.items()
        if any(each.version == neighbour.version for each in addresses)
    }
    if neighbour.version == 6 and neighbour.is_link_local:
        return next(iter(having)) if len(having) == 1 else None
    lines = [name for name, network in having.items() if network == INTERNET.name]
    return lines[0] if len(lines) == 1 and is_public(neighbour) else None


def _by_interface(machine: Machine | Vantage) -> dict[str, tuple[str, tuple[IPInterface, ...]]]:
    if isinstance(machine, Vantage):
        return {machine.network or INTERNET.name: (machine.network or INTERNET.name, machine.address)}
    return {each.name: (each.network, each.address) for each in machine.interfaces.values()}


def resolvers_named(clients: Iterable[Machine | Vantage]) -> Iterator[tuple[Place, IPAddress]]:
    """Every address at which machines, their resolvers or visitors ask for names, with where that is said."""
    for client in clients:
        for address in client.resolver if isinstance(client.resolver, tuple) else ():
            yield client.place.key("resolver"), address
        for service in client.services.values() if isinstance(client, Machine) else ():
            if isinstance(service, Resolver):
                for address in service.forwards_to:
                    yield service.place.key("forwards_to"), address
                for held in service.forwards_zones.values():
                    for address in held:
                        yield service.place.key("forwards_zones"), address


def attachments(machine: Machine | Vantage) -> list[tuple[str, tuple[IPInterface, ...]]]:
    """The networks that a machine or a visitor's device is on, with its addresses there."""
    if isinstance(machine, Vantage):
        return [(machine.network, machine.address)] if machine.network else []
    return [(interface.network, interface.address) for interface in machine.interfaces.values()]


class Gateways:
    """The boxes of an estate that pass packets on, by their networks: gathered once, and asked for each machine."""

    def __init__(self, estate: Estate) -> None:
        self._estate = estate
        #: Of routers, and of hosts that pass packets on: by network, every address there, with its place in the order written.
        self._held: tuple[dict[str, list[_Held]], ...] = ({}, {})
        order = 0
        for held, boxes in zip(
            self._held, (estate.routers.values(), filter(passes_on, estate.hosts.values())), strict=True
        ):
            for box in boxes:
                for interface in box.interfaces.values():
                    for item in interface.address:
                        order += 1
                        held.setdefault(interface.network, []).append((order, box, item.ip))

    def candidates(self, machine: Machine | Vantage, version: int) -> list[tuple[str, IPAddress]]:
        """The routers that share a segment with a machine, with their addresses of a family there.

        Where there is none, the hosts that pass packets on, such as the host of containers.
        """
        mine = {
            name
            for name, addresses in attachments(machine)
            if any(item.version == version for item in addresses)
            and (network := self._estate.networks.get(name)) is not None
            and network.kind != "host-only"
        }
        for held in self._held:
            near = sorted((each for name in mine for each in held.get(name, ())), key=itemgetter(0))
            found = [(box.name, ip) for _, box, ip in near if box is not machine and ip.version == version]
            if found:
                return found
        return []


def on_internet(estate: Estate, machine: Machine | Vantage, version: int) -> bool:
    """Whether a machine has an address of a family on the public internet."""
    for name, addresses in attachments(machine):
        network = estate.networks.get(name)
        if network is not None and network.kind == "internet" and any(item.version == version for item in addresses):
            return True
    return False


def routed_to(machine: Machine) -> Iterator[tuple[str, IPAddress]]:
    """Public addresses that the internet brings to a machine without its having them: interface and address."""
    for pair in machine.one_to_one:
        yield pair.on, pair.outside
    for rule in machine.source_nat:
        for address in spread(rule.to, rule.up_to):
            yield rule.on, address
    for forward in machine.forwards:
        if forward.on is not None and isinstance(forward.address, tuple):
            for address in forward.address:
                yield forward.on, address


def asked_by(machine: Machine, forward: Forward) -> tuple[IPAddress, ...]:
    """The addresses that a forward is for, loopback left aside."""
    if isinstance(forward.address, tuple):
        return forward.address
    if forward.on is None or forward.address == "own":
        return machine.addresses
    on = machine.interfaces.get(forward.on)
    return tuple(item.ip for item in on.address) if on is not None else ()


#: A range of addresses that connections are spread over has so many at most.
MOST_SPREAD = 256


def spread(first: IPAddress | None, last: IPAddress | None) -> tuple[IPAddress, ...]:
    """The addresses from one to another, both included; the first alone where there is no last."""
    if first is None:
        return ()
    if last is None:
        return (first,)
    return tuple(first + step for step in range(min(int(last) - int(first) + 1, MOST_SPREAD)))


def uplinks(estate: Estate, network: Network) -> list[str]:
    """The routers that are both on the internet and on a segment."""
    found = []
    for router in estate.routers.values():
        names = {interface.network for interface in router.interfaces.values()}
        if network.name in names and any(
            (other := estate.networks.get(name)) is not None and other.kind == "internet" for name in names
        ):
            found.append(router.name)
    return found
