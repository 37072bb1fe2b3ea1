"""Which of its addresses a machine sends from: Linux's way for IPv4, RFC 6724 section 5 for IPv6."""

from collections.abc import Iterable
from ipaddress import ip_network
from typing import TYPE_CHECKING

from portolan.estate.base import IPAddress

if TYPE_CHECKING:
    from portolan.net.routes import RouteLine
    from portolan.net.topology import Device, Port

#: RFC 6724 section 2.1: prefixes with their labels, as Linux has them.
_LABELS = tuple(
    (ip_network(net), label)
    for net, label in (
        ("::1/128", 0),
        ("::ffff:0:0/96", 4),
        ("::/96", 3),
        ("2001::/32", 6),
        ("2001:10::/28", 7),
        ("2002::/16", 2),
        ("fc00::/7", 5),
    )
)


def source_by(device: "Device", line: "RouteLine", target: IPAddress) -> IPAddress | None:
    """The address that a device sends from towards a target by a line of its tables; None where it has none of the family."""
    if line.source is not None:
        return line.source
    if target.version == 6:
        return _best(device, line.port, target)
    found = source_at(line.port, line.via or target)
    return found or next((each for each in device.local if each.version == 4), None)


def source_at(port: "Port", hop: IPAddress, target: IPAddress | None = None) -> IPAddress | None:
    """The address of an interface that is used towards a next hop, as masquerading takes it.

    IPv4: one in the hop's range first, else the first; IPv6: by RFC 6724, for the packet's target.
    """
    if hop.version == 6:
        return _best(port.device, port, target or hop, alone=True)
    first = None
    for address, prefix in zip(port.addresses, port.prefixes, strict=True):
        if address.version == 4:
            if prefix is not None and hop in prefix:
                return address
            first = first or address
    return first


def _best(device: "Device", out: "Port", target: IPAddress, alone: bool = False) -> IPAddress | None:
    """The best of a device's IPv6 addresses: of equals on one interface the last written, of interfaces the first."""
    ports: Iterable[Port] = [out] if alone or _scope(target) == _LINK else [port for port in device.ports if port.up]
    best: tuple[tuple[object, ...], IPAddress] | None = None
    for port in ports:
        for address, prefix in reversed(list(zip(port.addresses, port.prefixes, strict=True))):
            if address.version == 6:
                length = prefix.prefixlen if prefix is not None else 128
                rank = _rank(port, address, length, target, port is out)
                if best is None or rank > best[0]:
                    best = rank, address
    return best[1] if best is not None else None


def _rank(port: "Port", address: IPAddress, length: int, target: IPAddress, leaves: bool) -> tuple[object, ...]:
    """The rules of RFC 6724 section 5 in their order; the higher tuple wins."""
    scope, asked = _scope(address), _scope(target)
    stated = port.stated
    return (
        address == target,
        # Rule 2: the smallest scope that is large enough, else the largest of the others.
        (1, -scope) if scope >= asked else (0, scope),
        stated is None or address not in stated.deprecated,
        leaves,
        label_of(address) == label_of(target),
        stated is not None and address in stated.temporary,
        min(_common(int(address), int(target)), length),
    )


_LINK = 2


def _scope(address: IPAddress) -> int:
    """RFC 6724 section 3.1: link-local 2, site-local 5, the rest global."""
    if address.is_link_local or address.is_loopback:
        return _LINK
    return 5 if address.version == 6 and int(address) >> 118 == 0x3FB else 14


def label_of(address: IPAddress) -> int:
    """The label of an address by Linux's table."""
    return next((label for net, label in _LABELS if address in net), 1)


def _common(one: int, other: int) -> int:
    """How many leading bits two IPv6 addresses have in common."""
    return 128 - (one ^ other).bit_length()
