"""The order in which a client tries several addresses (RFC 6724 section 6, the rules that do not need a history), by the older table."""

from collections.abc import Callable, Sequence
from ipaddress import IPv4Address, ip_network

from portolan.estate.base import IPAddress

#: The table of RFC 3484 section 2.1 with later labels, as glibc and browsers have it (measured): local IPv6 addresses come before
#: IPv4. Prefix, precedence, label.
_POLICY = tuple(
    (ip_network(net), precedence, label)
    for net, precedence, label in (
        ("::1/128", 50, 0),
        ("::ffff:0:0/96", 10, 4),
        ("::/96", 20, 3),
        ("2002::/16", 30, 2),
        ("2001::/32", 40, 7),
        ("fec0::/10", 40, 5),
        ("fc00::/7", 40, 6),
    )
)


def _policy(address: IPAddress) -> tuple[int, int]:
    if isinstance(address, IPv4Address):
        return 10, 4
    return next(((precedence, label) for net, precedence, label in _POLICY if address in net), (40, 1))


def _scope(address: IPAddress) -> int:
    """RFC 6724 section 3.1 and 3.2."""
    return 2 if address.is_link_local or address.is_loopback else 14


def ordered(addresses: Sequence[IPAddress], source: Callable[[IPAddress], IPAddress | None]) -> list[int]:
    """The indexes of the addresses in the order of trial; `source` is the sender's choice, None without a route."""
    if len(addresses) < 2:
        return list(range(len(addresses)))

    def rank(index: int) -> tuple[bool, bool, bool, int, int, int]:
        address = addresses[index]
        sender = source(address)
        precedence, label = _policy(address)
        if sender is None:
            return True, True, True, -precedence, 0, 0
        scope = _scope(address)
        # Rule 9, of IPv6 addresses alone: the longer prefix in common with the sender first.
        apart = (int(address) ^ int(sender)).bit_length() if address.version == 6 else 0
        return False, scope != _scope(sender), label != _policy(sender)[1], -precedence, scope, apart

    return sorted(range(len(addresses)), key=rank)
