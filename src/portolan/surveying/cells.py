"""Addresses and ports cut at every boundary that anything of the way names: within a cell the engine answers the same everywhere."""

from bisect import bisect_right
from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface, IPv6Network

from portolan.estate.base import IPAddress, IPNetwork, PortRange, Stated, is_public_value
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, machines
from portolan.estate.machine import Machine
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.source.value import Value

#: One number behind the last address of each family.
END = {4: 1 << 32, 6: 1 << 128}
#: One number behind the last port.
PORTS_END = 65536
#: Where the address space itself has boundaries: what the internet carries, and what it does not (RFC 6890).
_SPECIAL = [
    IPv4Network(each)
    for each in ("0.0.0.0/8", "10.0.0.0/8", "100.64.0.0/10", "127.0.0.0/8", "169.254.0.0/16", "172.16.0.0/12")
]
_SPECIAL += [IPv4Network(each) for each in ("192.168.0.0/16", "224.0.0.0/3")]
_SPECIAL_6 = IPv6Network("2000::/3")
#: Sections of the estate that no packet meets.
_NOT_ON_THE_WAY = frozenset(("zones", "certificates", "authorities", "edges", "stores", "expected", "place", "include"))


class Range(Value, frozen=True):
    """Addresses of one family, from first to last, both included."""

    version: int
    first: int
    last: int

    @property
    def address(self) -> IPAddress:
        """The first of them."""
        return IPv4Address(self.first) if self.version == 4 else IPv6Address(self.first)

    @property
    def end(self) -> IPAddress:
        """The last of them."""
        return IPv4Address(self.last) if self.version == 4 else IPv6Address(self.last)


class Cuts(Value, frozen=True):
    """Where cells begin: addresses of each family, and ports, in their order."""

    addresses: dict[int, list[int]]
    ports: list[int]
    #: Single addresses that packets are sent to by name: gateways, targets of forwards and the like.
    named: frozenset[IPAddress]

    def ranges(self, version: int, within: Iterable[IPNetwork] | None = None) -> list[Range]:
        """The cells of a family's public addresses, or of those within ranges."""
        if within is None:
            cells = _between(self.addresses[version], 0, END[version])
            return [Range(version, first, end - 1) for first, end in cells if is_public_value(first, version == 6)]
        found = []
        for network in sorted((each for each in within if each.version == version), key=int_of):
            first, end = int_of(network), int(network.broadcast_address) + 1
            found += [Range(version, one, other - 1) for one, other in _between(self.addresses[version], first, end)]
        return found


def int_of(network: IPNetwork) -> int:
    """A range's first address as a number."""
    return int(network.network_address)


def _between(cuts: list[int], first: int, end: int) -> Iterator[tuple[int, int]]:
    """The cells from a number to one behind the last."""
    at = first
    for cut in cuts[bisect_right(cuts, first) :]:
        if cut >= end:
            break
        yield at, cut
        at = cut
    yield at, end


def cuts(estate: Estate) -> Cuts:
    """Every boundary that an estate's networks, machines, groups and vantages name, whatever key it stands under."""
    addresses: dict[int, set[int]] = {4: set(), 6: set()}
    ports: set[int] = {1}
    for each in _SPECIAL:
        addresses[4] |= {int_of(each), int(each.broadcast_address) + 1}
    addresses[6] |= {int_of(_SPECIAL_6), int(_SPECIAL_6.broadcast_address) + 1}
    named: set[IPAddress] = set()
    for name in estate.__struct_fields__:
        if name not in _NOT_ON_THE_WAY:
            _walk(getattr(estate, name), name, addresses, ports, named)
    boxes: list[Machine] = [*machines(estate)]
    everybody: list[Machine | Vantage] = [*boxes, *estate.vantages.values()]
    for box in everybody:
        for _, items in attachments(box):
            for item in items:
                addresses[item.version] |= {int(item.ip), int(item.ip) + 1}
    _through_forwards(boxes, ports)
    return Cuts(
        {version: sorted(each for each in held if each < END[version]) for version, held in addresses.items()},
        sorted(each for each in ports if 0 < each < PORTS_END),
        frozenset(named),
    )


def _walk(value: object, name: str, addresses: dict[int, set[int]], ports: set[int], named: set[IPAddress]) -> None:
    """Gathers the boundaries of a value and of all that it holds."""
    if isinstance(value, IPv4Interface | IPv6Interface):
        addresses[value.version] |= {int(value.ip), int(value.ip) + 1}
        value = value.network
    if isinstance(value, IPv4Network | IPv6Network):
        addresses[value.version] |= {int_of(value), int(value.broadcast_address) + 1}
    elif isinstance(value, IPv4Address | IPv6Address):
        addresses[value.version] |= {int(value), int(value) + 1}
        named.add(value)
    elif isinstance(value, PortRange):
        ports |= {value.first, value.last + 1}
    elif isinstance(value, int) and not isinstance(value, bool) and name.endswith("port") and value < PORTS_END:
        ports |= {value, value + 1}
    elif isinstance(value, Service):
        # What a service answers is no matter of the way to it.
        _walk(value.listens, "listens", addresses, ports, named)
    elif isinstance(value, Stated | Value):
        for field in value.__struct_fields__:
            if field != "place":
                _walk(getattr(value, field), field, addresses, ports, named)
    elif isinstance(value, dict):
        for each in value.values():
            _walk(each, name, addresses, ports, named)
    elif isinstance(value, tuple | frozenset | list):
        for each in value:
            _walk(each, name, addresses, ports, named)


def _through_forwards(boxes: Iterable[Machine], ports: set[int]) -> None:
    """Adds the outside ports that forwards lead to the boundaries inside, through several in turn."""
    forwards = [each for box in boxes for each in getattr(box, "forwards", ())]
    shifted = [(each.outside, each.outside.first - each.port) for each in forwards if each.port is not None]
    for _ in range(4):
        more = {
            port + shift
            for outside, shift in shifted
            for port in ports
            if outside.first <= port + shift <= outside.last + 1
        }
        if more <= ports:
            return
        ports |= more


def joined(ranges: Iterable[Range]) -> list[Range]:
    """Ranges put together where one begins behind another."""
    found: list[Range] = []
    for each in sorted(ranges, key=lambda one: (one.version, one.first)):
        if found and found[-1].version == each.version and found[-1].last + 1 == each.first:
            found[-1] = Range(each.version, found[-1].first, each.last)
        else:
            found.append(each)
    return found


def without(ranges: Iterable[Range], others: Iterable[Range]) -> list[Range]:
    """What of some ranges is in none of the others."""
    taken = joined(others)
    found: list[Range] = []
    for each in joined(ranges):
        at = each.first
        for other in taken:
            if other.version != each.version or other.last < at or other.first > each.last:
                continue
            if other.first > at:
                found.append(Range(each.version, at, other.first - 1))
            at = other.last + 1
        if at <= each.last:
            found.append(Range(each.version, at, each.last))
    return found
