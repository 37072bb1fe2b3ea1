"""Several addresses: in which order a client tries them, and which one wins (RFC 6724, RFC 8305).

The addresses of the preferred family are tried one after the other; those of the other family start a moment later,
beside them. An address that is refused or unreachable costs no time; one that is silent costs its family a time-out.
"""

from collections.abc import Sequence

from portolan.dns.order import ordered
from portolan.estate.base import IPAddress
from portolan.estate.client import Client
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.legs import Connection
from portolan.evidence.outcome import Detail
from portolan.journey.world import World


def race(world: World, client: Client, addresses: Sequence[IPAddress], port: int) -> tuple[Connection, ...]:
    """The attempts that a client makes, in an order in which the last one decides."""
    if getattr(client, "like", None) == "chromium":
        return _as_a_browser(_raced(world, client, _askable(world, client, addresses), port))
    return _raced(world, client, addresses, port)


def _askable(world: World, client: Client, addresses: Sequence[IPAddress]) -> Sequence[IPAddress]:
    """The addresses that a browser asks for at all: where it has no way to IPv6, those of IPv4 (measured)."""
    old = [each for each in addresses if each.version == 4]
    if old and all(world.source(client, each) is None for each in addresses if each.version == 6):
        return old
    return addresses


def _as_a_browser(attempts: tuple[Connection, ...]) -> tuple[Connection, ...]:
    """Of failures it tells the silence (measured)."""
    if attempts[-1].detail is None:
        return attempts
    return tuple(sorted(attempts, key=lambda each: each.detail is Detail.TIMED_OUT))


def _raced(world: World, client: Client, addresses: Sequence[IPAddress], port: int) -> tuple[Connection, ...]:
    """The same of every client: by families, as RFC 8305 has it."""
    if len(addresses) == 1:
        return (world.connect(client, addresses[0], port),)
    order = ordered(addresses, lambda address: world.source(client, address))
    family = addresses[order[0]].version
    first = _lane(world, client, [addresses[index] for index in order if addresses[index].version == family], port)
    silent = sum(each.detail is Detail.TIMED_OUT for each in first)
    if first[-1].detail is None and not silent:
        return first
    others = [addresses[index] for index in order if addresses[index].version != family]
    second = _lane(world, client, others, port) if others else ()
    if not second:
        return first
    silent_too = sum(each.detail is Detail.TIMED_OUT for each in second)
    won, won_too = first[-1].detail is None, second[-1].detail is None
    if won_too and (not won or silent_too < silent):
        if silent:
            facts = (family, second[-1].address.version)
            note = connect_kinds.Overtaken(*facts, subject=first[0].stop)
            second = (*second[:-1], second[-1].but(decisions=(note, *second[-1].decisions)))
        return (*first, *second) if not won else (*first[:-1], *second)
    if won:
        return (*second, *first) if not won_too else first
    return (*first, *second) if silent_too >= silent else (*second, *first)


def _lane(world: World, client: Client, addresses: Sequence[IPAddress], port: int) -> tuple[Connection, ...]:
    """Attempts one after the other until one opens."""
    made = []
    for address in addresses:
        attempt = world.connect(client, address, port)
        made.append(attempt)
        if attempt.detail is None:
            break
    return tuple(made)
