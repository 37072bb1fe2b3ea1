"""A chain's rules prepared for many packets: the first that matches, found without asking every rule.

Rules that differ only in addresses and ports share one table: their ranges' prefix lengths pick the bits of a packet
that make the key, the ports of what stands there decide by binary search. Each table knows its lowest rule, so that
tables behind the best one found are not opened. What is found is exactly what a plain scan finds.
"""

from bisect import bisect_right
from collections.abc import Sequence
from heapq import heappop, heappush
from typing import Any, NamedTuple

from portolan.estate.base import PortRange
from portolan.estate.filter import FilterRule
from portolan.wire.packet import Packet

#: Up to so many rules a scan is as quick.
FEW = 8
#: A rule with more pairs of ranges than this is kept whole.
MOST_PAIRS = 1024


class Circumstances(NamedTuple):
    """What a box knows of a packet beside its header: the interfaces, and whether a forward sent it on."""

    entering: str | None
    leaving: str | None
    forwarded: bool


def matches(rule: FilterRule, packet: Packet, at: Circumstances) -> bool:
    """Whether one rule matches; what the tables must agree with."""
    protocol = rule.protocol
    return (
        (protocol == "any" or protocol == packet.protocol)
        and (not rule.ports or any(packet.dport in each for each in rule.ports))
        and (not rule.source_ports or any(packet.sport in each for each in rule.source_ports))
        and (not rule.sources or any(packet.src in net for net in rule.sources))
        and (not rule.destinations or any(packet.dst in net for net in rule.destinations))
        and (not rule.entering or at.entering in rule.entering)
        and (not rule.leaving or at.leaving in rule.leaving)
        and (not rule.state or packet.state in rule.state)
        and (rule.forwarded is None or rule.forwarded is at.forwarded)
    )


class Rules:
    """Rules in order, cut at the jumps: a stretch without jumps is one classifier."""

    def __init__(self, rules: Sequence[FilterRule]) -> None:
        self.parts: list[FilterRule | Stretch] = []
        stretch: list[FilterRule] = []
        for rule in rules:
            if rule.jump is None:
                stretch.append(rule)
                continue
            if stretch:
                self.parts.append(Stretch(stretch))
                stretch = []
            self.parts.append(rule)
        if stretch:
            self.parts.append(Stretch(stretch))


class Stretch:
    """Rules without jumps, ready to be asked."""

    def __init__(self, rules: Sequence[FilterRule]) -> None:
        self._rules = tuple(rules)
        self._wide: list[tuple[int, FilterRule]] = []
        self._circumstances: list[_Circle] = []
        if len(self._rules) > FEW:
            self._prepare()

    def first(self, packet: Packet, at: Circumstances) -> FilterRule | None:
        """The first rule that matches."""
        if len(self._rules) <= FEW:
            for rule in self._rules:
                if matches(rule, packet, at):
                    return rule
            return None
        best = len(self._rules)
        for circle in self._circumstances:
            if circle.lowest >= best:
                break
            if circle.fits(packet, at):
                best = circle.first(packet, best)
        for index, rule in self._wide:
            if index >= best:
                break
            if matches(rule, packet, at):
                best = index
        return self._rules[best] if best < len(self._rules) else None

    def _prepare(self) -> None:
        circles: dict[Any, _Circle] = {}
        for index, rule in enumerate(self._rules):
            sources, destinations = rule.sources or (None,), rule.destinations or (None,)
            if len(sources) * len(destinations) > MOST_PAIRS:
                self._wide.append((index, rule))
                continue
            key = (rule.protocol, rule.entering, rule.leaving, rule.state, rule.forwarded, rule.source_ports)
            circle = circles.get(key)
            if circle is None:
                circle = circles[key] = _Circle(rule, index)
            for source in sources:
                for destination in destinations:
                    circle.add(index, source, destination, rule.ports)
        for circle in circles.values():
            circle.close(len(self._rules))
        self._circumstances = sorted(circles.values(), key=lambda each: each.lowest)


class _Circle:
    """Rules that ask for the same circumstances and protocol; one table a pair of prefix lengths."""

    __slots__ = ("_four", "_six", "_tables", "lowest", "rule")

    def __init__(self, rule: FilterRule, lowest: int) -> None:
        self.rule = rule
        self.lowest = lowest
        self._tables: dict[tuple[bool, int, int], _Table] = {}
        self._four: list[_Table] = []
        self._six: list[_Table] = []

    def add(self, index: int, source: Any, destination: Any, ports: tuple[PortRange, ...]) -> None:
        if source is not None and destination is not None and source.version != destination.version:
            return
        stated = source if source is not None else destination
        for v6 in (False, True) if stated is None else (stated.version == 6,):
            lengths = (v6, 0 if source is None else source.prefixlen, 0 if destination is None else destination.prefixlen)
            table = self._tables.get(lengths)
            if table is None:
                table = self._tables[lengths] = _Table(*lengths, index)
            table.add(index, 0 if source is None else int(source.network_address),
                      0 if destination is None else int(destination.network_address), ports)  # fmt: skip

    def close(self, none: int) -> None:
        for table in self._tables.values():
            table.close(none)
        ordered = sorted(self._tables.values(), key=lambda each: each.lowest)
        self._four = [each for each in ordered if not each.v6]
        self._six = [each for each in ordered if each.v6]

    def fits(self, packet: Packet, at: Circumstances) -> bool:
        rule = self.rule
        protocol = rule.protocol
        return (
            (protocol == packet.protocol or protocol == "any")
            and (not rule.state or packet.state in rule.state)
            and (not rule.entering or at.entering in rule.entering)
            and (not rule.leaving or at.leaving in rule.leaving)
            and (rule.forwarded is None or rule.forwarded is at.forwarded)
            and (not rule.source_ports or any(packet.sport in each for each in rule.source_ports))
        )

    def first(self, packet: Packet, best: int) -> int:
        source, destination, port = packet.sv, packet.dv, packet.dport
        for table in self._six if packet.v6 else self._four:
            if table.lowest >= best:
                break
            spot = table.spots.get(((source & table.source_mask) << 128) | (destination & table.destination_mask))
            if spot is not None:
                found = spot[1][bisect_right(spot[0], port) - 1]
                best = min(best, found)
        return best


class _Table:
    """Rules with one pair of prefix lengths: a spot for each pair of ranges, with its ports as steps."""

    __slots__ = ("_open", "destination_mask", "lowest", "source_mask", "spots", "v6")

    def __init__(self, v6: bool, source: int, destination: int, lowest: int) -> None:
        self.v6 = v6
        self.lowest = lowest
        whole = 128 if v6 else 32
        self.source_mask = ((1 << source) - 1) << (whole - source)
        self.destination_mask = ((1 << destination) - 1) << (whole - destination)
        self._open: dict[int, list[tuple[int, int, int]]] = {}
        #: Key to the ports at which another rule begins to be the first, and those rules.
        self.spots: dict[int, tuple[list[int], list[int]]] = {}

    def add(self, index: int, source: int, destination: int, ports: tuple[PortRange, ...]) -> None:
        spot = self._open.setdefault((source << 128) | destination, [])
        spot.extend((first, last, index) for first, last in ports or ((0, 65535),))

    def close(self, none: int) -> None:
        self.spots = {key: _steps(held, none) for key, held in self._open.items()}
        self._open = {}


def _steps(held: list[tuple[int, int, int]], none: int) -> tuple[list[int], list[int]]:
    """The lowest rule for every port, as steps: where each begins, and which rule it is (`none` for none)."""
    if len(held) == 1:
        first, last, index = held[0]
        if first == 0 and last == 65535:
            return [0], [index]
        starts, owners = ([first, last + 1], [index, none]) if first == 0 else ([0, first, last + 1], [none, index, none])
        return starts, owners
    starts, owners = [], []
    waiting = sorted(held)
    alive: list[tuple[int, int]] = []
    at = 0
    for port in sorted({0, *(first for first, _, _ in held), *(last + 1 for _, last, _ in held)}):
        while at < len(waiting) and waiting[at][0] <= port:
            heappush(alive, (waiting[at][2], waiting[at][1]))
            at += 1
        while alive and alive[0][1] < port:
            heappop(alive)
        owner = alive[0][0] if alive else none
        if not owners or owners[-1] != owner:
            starts.append(port)
            owners.append(owner)
    return starts, owners
