"""Places to ask from that nobody wrote: anybody on the internet, every machine, and a neighbour on each network."""

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv4Interface, IPv6Address, IPv6Interface, ip_interface

import msgspec

from portolan.estate.base import IPAddress, IPNetwork
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, machines
from portolan.estate.machine import Machine
from portolan.estate.network import Network
from portolan.estate.vantage import Vantage

INTERNET, NEAR = "internet", "near:"
#: Addresses of nobody: benchmarking ranges (RFC 2544, RFC 5180), which no estate has.
_NOBODYS = (IPv4Interface("198.18.99.77/32"), IPv6Interface("2001:2::99:77/128"))


def anybody() -> Vantage:
    """Somebody on the internet, whoever it be."""
    return Vantage(name=INTERNET, network=INTERNET, address=_NOBODYS)


def unwritten(estate: Estate, name: str) -> Vantage | None:
    """The place of a name that is no written vantage; None where there is none."""
    if name == INTERNET:
        return anybody()
    if name in estate.hosts or name in estate.routers:
        return Vantage(name=name, host=name)
    network = estate.networks.get(name.removeprefix(NEAR)) if name.startswith(NEAR) else None
    return neighbour(name, network, held_addresses(estate)) if network is not None else None


def neighbour(name: str, network: Network, held: frozenset[IPAddress]) -> Vantage | None:
    """Somebody on a network, at addresses that nobody has there; None on the internet, and where the network states no ranges."""
    free = [(next(free_addresses(subnet, held, last=True), None), subnet) for subnet in network.subnets]
    address = tuple(ip_interface(f"{each}/{subnet.prefixlen}") for each, subnet in free if each is not None)
    if not address or network.kind == "internet":
        return None
    return Vantage(name=name, network=network.name, address=address)


def unwritten_names(estate: Estate) -> Iterator[str]:
    """The names of all such places."""
    yield INTERNET
    yield from (each.name for each in machines(estate))
    yield from (f"{NEAR}{name}" for name, each in estate.networks.items() if each.subnets and each.kind != "internet")


def with_places(estate: Estate, more: Iterable[Vantage] = ()) -> Estate:
    """An estate with more people who ask, and with the unwritten places that expectations name; the internet where nobody is written."""
    people = dict(estate.vantages)
    wanted = {name for each in estate.expected for name in each.vantages} - people.keys()
    for name in (*sorted(wanted), *(() if people else (INTERNET,))):
        vantage = unwritten(estate, name)
        if vantage is not None:
            people[name] = vantage
    for each in more:
        if each.host is None or each.host in estate.hosts or each.host in estate.routers:
            people[each.name] = each
    return estate if people == estate.vantages else msgspec.structs.replace(estate, vantages=people)


def held_addresses(estate: Estate) -> frozenset[IPAddress]:
    """The addresses that something described has."""
    boxes: list[Machine | Vantage] = [*machines(estate), *estate.vantages.values()]
    return frozenset(item.ip for box in boxes for _, addresses in attachments(box) for item in addresses)


def free_addresses(network: IPNetwork, held: frozenset[IPAddress], last: bool = False) -> Iterator[IPAddress]:
    """Some addresses of a range that nobody has, looked for from both ends; the last ones first where that is asked."""
    samples = list(_samples(network))
    return (each for each in (samples[::-1] if last else samples) if each not in held)


def _samples(network: IPNetwork) -> Iterator[IPAddress]:
    """Some addresses of a range, from both ends; those that mean the whole range only where it has no others (RFC 919, RFC 3021)."""
    first, final = int(network.network_address), int(network.broadcast_address)
    kind = IPv4Address if network.version == 4 else IPv6Address
    for offset in (1, 2, 3, 5, 77) if final - first > 1 else (0,):
        for value in (first + offset, final - offset):
            if first < value < final or not offset:
                yield kind(value)
