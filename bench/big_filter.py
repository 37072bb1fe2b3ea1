"""A filter of any number of rules, for measuring, and packets that meet it."""

import random
from ipaddress import IPv4Address, IPv4Network, IPv6Network
from typing import Literal

from portolan.estate.base import PortRange
from portolan.estate.filter import FilterRule
from portolan.net.packet import Packet
from portolan.net.rules import Circumstances

_PROTOCOLS: tuple[Literal["tcp", "udp", "any"], ...] = ("tcp", "tcp", "udp", "any")


def big_filter(count: int) -> list[FilterRule]:
    """Rules as lists of blocked and admitted ranges have them: many prefix lengths, ports, ranges, interfaces, states."""
    rng = random.Random(1)
    rules = []
    for _ in range(count):
        protocol: Literal["tcp", "udp", "any"] = rng.choice(_PROTOCOLS)
        sources = tuple(_range(rng) for _ in range(rng.choice((0, 1, 1, 1, 2))))
        destinations = tuple(_range(rng) for _ in range(rng.choice((0, 0, 1))))
        ports = tuple(_ports(rng) for _ in range(rng.choice((0, 1, 1, 2)))) if protocol != "any" else ()
        if not sources and not destinations and len(ports) == 0:
            sources = (_range(rng),)
        if not sources and not destinations:
            ports = (PortRange(49152, 49152 + rng.randrange(16000)),)
        word = rng.choice(("allow", "drop", "reject"))
        rules.append(
            FilterRule(
                allow=protocol if word == "allow" else None,
                drop=protocol if word == "drop" else None,
                reject=protocol if word == "reject" else None,
                sources=sources,
                destinations=destinations,
                ports=ports,
                entering=rng.choice(((), (), ("line",), ("dome",))),
                state=("new",) if rng.random() < 0.5 else (),
            )
        )
    return rules


def _range(rng: random.Random) -> IPv4Network | IPv6Network:
    if rng.random() < 0.1:
        return IPv6Network((0x20010DB8 << 96 | rng.randrange(1 << 16) << 80, rng.choice((48, 56))))
    length = rng.choice((8, 12, 16, 20, 22, 24, 24, 24, 28, 30, 32, 32, 32))
    return IPv4Network((rng.randrange(1 << length) << (32 - length), length))


def _ports(rng: random.Random) -> PortRange:
    first = rng.choice((22, 25, 80, 443, rng.randrange(1, 65000)))
    return PortRange(first, min(65535, first + rng.choice((0, 0, 0, 9, 500))))


def packets(count: int) -> list[tuple[Packet, Circumstances]]:
    """Packets from anywhere to anywhere."""
    rng = random.Random(2)
    found = []
    for _ in range(count):
        src, dst = IPv4Address(rng.randrange(1 << 32)), IPv4Address(rng.randrange(1 << 32))
        packet = Packet(rng.choice(("tcp", "udp")), src, 40000, dst, rng.choice((22, 80, 443, 8080)))
        found.append((packet, Circumstances(rng.choice(("line", "dome")), None, False)))
    return found
