"""What of a box others on its networks meet: worked out once for each box, and for all machines together, and shared with changed estates.

A world of a thousand boxes in which one is otherwise is made of these; devices with their tables are made where a packet comes.
"""

from collections.abc import Iterable
from typing import NamedTuple

from portolan.estate.base import IPAddress
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, machines, routed_to
from portolan.estate.machine import Machine
from portolan.estate.vantage import Vantage
from portolan.source.shared import Shared


class Leg:
    """A box on one of its networks: which of its interfaces, and the addresses there, also as numbers with whether they are IPv6."""

    __slots__ = ("addresses", "network", "number", "stated", "values")

    def __init__(self, stated: Machine | Vantage, number: int, network: str, addresses: tuple[IPAddress, ...]) -> None:
        self.stated = stated
        self.number = number
        self.network = network
        self.addresses = addresses
        self.values = tuple((each.version == 6, int(each)) for each in addresses)


class Facing(NamedTuple):
    """A box as others meet it."""

    legs: tuple[Leg, ...]
    #: Whose the addresses are. Two vantages that differ only in what they ask are one visitor's device.
    seat: object
    #: Of a box with several interfaces: those that answer for its IPv4 addresses on any of them, and the numbers of these.
    #: RFC 1122 section 3.3.4.2 (weak end system model): Linux answers ARP by any interface for any of its addresses.
    answering: tuple[Leg, ...]
    own: tuple[int, ...]
    #: The interfaces at which it answers for addresses of others.
    proxies: tuple[Leg, ...]
    #: Whether anything of it says how large packets may be.
    sized: bool
    #: Public addresses that the internet brings to it without its having them: interface and address.
    routed: tuple[tuple[str, IPAddress], ...]
    #: The groups that its interfaces are in, with their addresses.
    groups: tuple[tuple[str, tuple[IPAddress, ...]], ...]


def facing(stated: Machine | Vantage, shared: Shared) -> Facing:
    """A box as others meet it; made once."""
    return shared.of("facing", stated, lambda: _made(stated))


class Gathered:
    """Boxes together, in the order written: who has which address on which network."""

    def __init__(self, boxes: Iterable[Machine | Vantage], shared: Shared, before: "Gathered | None" = None) -> None:
        #: By the identity of what is stated.
        self.faces: dict[int, Facing] = {}
        #: By a network's name, by IP version (False: 4), by an address's number: the first that has it.
        self.near: dict[str, tuple[dict[int, Leg], dict[int, Leg]]] = {}
        #: All that have an address which several boxes of a network have: network, whether IPv6, number.
        self.twice: dict[tuple[str, bool, int], tuple[Leg, ...]] = {}
        #: Those of which more counts than who has an address.
        self.special: list[tuple[Machine | Vantage, Facing]] = []
        if before is not None:
            self.faces = before.faces.copy()
            self.near = {network: (four.copy(), six.copy()) for network, (four, six) in before.near.items()}
            self.twice, self.special = before.twice.copy(), before.special.copy()
        for stated in boxes:
            self._add(stated, facing(stated, shared))

    def _add(self, stated: Machine | Vantage, face: Facing) -> None:
        self.faces[id(stated)] = face
        for leg in face.legs:
            near = self.near.get(leg.network)
            if near is None:
                near = self.near[leg.network] = ({}, {})
            for v6, value in leg.values:
                first = near[v6].setdefault(value, leg)
                if first is not leg and self.faces[id(first.stated)].seat != face.seat:
                    key = (leg.network, v6, value)
                    self.twice[key] = (*self.twice.get(key, (first,)), leg)
        if face.answering or face.proxies or face.sized or face.routed or face.groups:
            self.special.append((stated, face))


def gathered(estate: Estate, shared: Shared) -> Gathered:
    """The machines of an estate; made once for the same machines, whatever else is otherwise."""
    return shared.lately("gathered", (estate.routers, estate.hosts), lambda: Gathered(machines(estate), shared))


def _made(stated: Machine | Vantage) -> Facing:
    legs = tuple(
        Leg(stated, number, network, tuple(each.ip for each in addresses))
        for number, (network, addresses) in enumerate(attachments(stated))
    )
    sized = any(route.mtu for route in stated.routes)
    if isinstance(stated, Vantage):
        seat = (stated.network, stated.address, stated.gateway) if stated.filter is None else id(stated)
        return Facing(legs, seat, (), (), (), sized, (), ())
    interfaces = tuple(stated.interfaces.values())
    up = [(leg, interface) for leg, interface in zip(legs, interfaces, strict=True) if interface.up]
    sized |= any(each.mtu for each in interfaces)
    sized |= any(route.mtu for table in stated.tables.values() for route in table.routes)
    return Facing(
        legs,
        id(stated),
        tuple(leg for leg, _ in up) if len(legs) > 1 else (),
        tuple(value for leg in legs for v6, value in leg.values if not v6),
        tuple(leg for leg, interface in up if interface.proxy_arp or interface.proxy_for),
        sized,
        tuple(routed_to(stated)),
        tuple(
            (group, leg.addresses) for leg, each in zip(legs, interfaces, strict=True) for group in each.groups or ()
        ),
    )
