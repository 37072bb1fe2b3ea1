"""A chain's rules prepared for many packets: the first that matches, found without asking every rule.

A packet's source leads to the rules whose ranges hold it, its destination picks among those, and its port decides: each
by binary search. Everything knows its lowest rule, so that what stands behind the best one found is
not opened. What is found is exactly what a plain scan finds; preparing is near linear in rules times their ranges.
"""

from bisect import bisect_right
from collections.abc import Sequence
from heapq import heappop, heappush
from typing import Any, Protocol

from portolan.estate.base import IPNetwork, PortRange
from portolan.estate.filter import FilterRule
from portolan.evidence.packet import State
from portolan.net.packet import Packet
from portolan.source.value import Value

#: Up to so many rules a scan is as quick.
FEW = 8
#: A rule with more pairs of ranges than this is kept whole.
MOST_PAIRS = 1024


class Circumstances(Value, frozen=True):
    """What a box knows of a packet beside its header: the interfaces, and whether a forward sent it on."""

    entering: str | None
    leaving: str | None
    forwarded: bool


def matches(rule: FilterRule, packet: Packet, at: Circumstances) -> bool:
    """Whether one rule matches; what the tables must agree with."""
    return _fits(rule, _asks(rule), packet, at)


#: What a rule asks of the kind of a packet: interfaces, tracking, the message. Few kinds meet a box.
_KindAsked = tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...], tuple[str, ...], bool | None, Any, Any, Any]
#: What it asks of a packet beside ranges and destination ports: source ports, and what it must not have.
_PacketAsked = tuple[
    tuple[PortRange, ...], tuple[PortRange, ...], tuple[PortRange, ...], tuple[IPNetwork, ...], tuple[IPNetwork, ...]
]
#: A rule's protocol, and those two; None where it asks for nothing of the sort.
_Asks = tuple[str | None, _KindAsked | None, _PacketAsked | None]
_ANY_KIND: _KindAsked = ((), (), (), (), None, (), (), ())
_ANY_PACKET: _PacketAsked = ((), (), (), (), ())


def _kind_asked(rule: FilterRule) -> _KindAsked:
    return (
        rule.entering,
        rule.leaving,
        rule.not_entering,
        rule.not_leaving,
        rule.forwarded,
        rule.state,
        rule.not_state,
        rule.icmp_types,
    )


def _packet_asked(rule: FilterRule) -> _PacketAsked:
    return rule.source_ports, rule.not_source_ports, rule.not_ports, rule.not_sources, rule.not_destinations


class Spans:
    """Many ranges as what they cover together, for binary search: by IP version, where each stretch begins and ends."""

    __slots__ = ("_ends", "_starts", "ranges")

    def __init__(self, ranges: tuple[IPNetwork, ...]) -> None:
        #: Kept, so that its identity stays its own.
        self.ranges = ranges
        self._starts: tuple[list[int], list[int]] = ([], [])
        self._ends: tuple[list[int], list[int]] = ([], [])
        for six in (False, True):
            starts, ends = self._starts[six], self._ends[six]
            for first, last in sorted(_ends(net, six) for net in ranges if (net.version == 6) is six):
                if ends and first <= ends[-1] + 1:
                    ends[-1] = max(ends[-1], last)
                else:
                    starts.append(first)
                    ends.append(last)

    def hold(self, value: int, v6: bool) -> bool:
        """Whether an address, by its number, lies in one of them."""
        at = bisect_right(self._starts[v6], value) - 1
        return at >= 0 and value <= self._ends[v6][at]


#: What long lists of ranges cover, by their identity; so many are kept.
_SPANS: dict[int, Spans] = {}
_MOST_SPANS = 64


def within(value: int, v6: bool, ranges: tuple[IPNetwork, ...]) -> bool:
    """Whether an address, by its number, lies in one of some ranges; those of long lists are prepared once."""
    if len(ranges) <= FEW:
        for net in ranges:
            if (net.version == 6) is v6:
                first, last = _ends(net, v6)
                if first <= value <= last:
                    return True
        return False
    spans = _SPANS.get(id(ranges))
    if spans is None or spans.ranges is not ranges:
        if len(_SPANS) >= _MOST_SPANS:
            _SPANS.clear()
        spans = _SPANS[id(ranges)] = Spans(ranges)
    return spans.hold(value, v6)


def _asks(rule: FilterRule) -> _Asks:
    """A rule's protocol, and what it asks of a packet's kind and of a packet; None where it asks for nothing of the sort."""
    kind, asked = _kind_asked(rule), _packet_asked(rule)
    protocol = None if rule.protocol == "any" else rule.protocol
    return protocol, None if kind == _ANY_KIND else kind, None if asked == _ANY_PACKET else asked


def _fits(rule: FilterRule, asks: _Asks, packet: Packet, at: Circumstances) -> bool:
    protocol, kind, asked = asks
    return (
        (protocol is None or protocol == packet.protocol)
        and (not rule.ports or any(packet.dport in each for each in rule.ports))
        and (not rule.sources or within(packet.sv, packet.v6, rule.sources))
        and (not rule.destinations or within(packet.dv, packet.v6, rule.destinations))
        and (kind is None or _of_kind(kind, packet, at))
        and (asked is None or _of_packet(asked, packet))
    )


#: What belongs to no connection: nft asks nothing of a connection's status there (measured).
_UNKNOWN = (State.INVALID, State.UNTRACKED)


def _of_kind(asked: _KindAsked, packet: Packet, at: Circumstances) -> bool:
    entering, leaving, not_entering, not_leaving, forwarded, state, not_state, icmp_types = asked
    return (
        (not entering or at.entering in entering)
        and (not leaving or at.leaving in leaving)
        and at.entering not in not_entering
        and at.leaving not in not_leaving
        and (forwarded is None or (forwarded is at.forwarded and (forwarded or packet.state not in _UNKNOWN)))
        and (not state or packet.state in state)
        and packet.state not in not_state
        and (not icmp_types or packet.message in icmp_types)
    )


def _of_packet(asked: _PacketAsked, packet: Packet) -> bool:
    source_ports, not_source_ports, not_ports, not_sources, not_destinations = asked
    return (
        (not source_ports or any(packet.sport in each for each in source_ports))
        and not any(packet.sport in each for each in not_source_ports)
        and not any(packet.dport in each for each in not_ports)
        and not (not_sources and within(packet.sv, packet.v6, not_sources))
        and not (not_destinations and within(packet.dv, packet.v6, not_destinations))
    )


class Rules:
    """Rules in order, cut where they lead to other chains: a stretch without such rules is one classifier.

    `drops` says whether anything here can stop a packet, `asks_state` whether a rule asks connection tracking.
    """

    def __init__(self, rules: Sequence[FilterRule]) -> None:
        self.parts: list[FilterRule | Stretch] = []
        stretch: list[FilterRule] = []
        self.drops = any(rule.drop or rule.reject or rule.next for rule in rules)
        self.asks_state = any(rule.state or rule.not_state or rule.next for rule in rules)
        for rule in rules:
            if rule.next is None:
                stretch.append(rule)
                continue
            if stretch:
                self.parts.append(Stretch(stretch))
                stretch = []
            self.parts.append(rule)
        if stretch:
            self.parts.append(Stretch(stretch))


class Entry(Value, frozen=True):
    """A rule for one pair of ranges and one range of ports, with numbers; `rank` is its place among the rules.

    `protocol`, `kind` and `packet` are None where the rule asks for nothing of the sort.
    """

    rank: int
    first_to: int
    last_to: int
    first: int
    last: int
    protocol: str | None
    kind: _KindAsked | None
    packet: _PacketAsked | None


_Ends = tuple[int, int]


def _ends(net: IPNetwork | None, v6: bool) -> _Ends:
    """The first and last address of a range, as numbers; of all addresses without one."""
    if net is None:
        return 0, (1 << (128 if v6 else 32)) - 1
    first = int(net.network_address)
    return first, first + (1 << (net.max_prefixlen - net.prefixlen)) - 1


_ALL_PORTS = (PortRange(0, 65535),)


class Stretch:
    """Rules without jumps, ready to be asked."""

    def __init__(self, rules: Sequence[FilterRule]) -> None:
        self._rules = tuple(rules)
        self._wide: list[tuple[int, FilterRule]] = []
        self._trees: tuple[_Ranges, _Ranges] | None = None
        #: Each with what it asks for.
        self._few = [(rule, _asks(rule)) for rule in rules] if len(self._rules) <= FEW else []
        if len(self._rules) > FEW:
            self._prepare()

    def first(self, packet: Packet, at: Circumstances) -> FilterRule | None:
        """The first rule that matches."""
        if self._trees is None:
            return next((rule for rule, asks in self._few if _fits(rule, asks, packet, at)), None)
        best = self._trees[packet.v6].first(packet, at, len(self._rules))
        for index, rule in self._wide:
            if index >= best:
                break
            if matches(rule, packet, at):
                best = index
        return self._rules[best] if best < len(self._rules) else None

    def _prepare(self) -> None:
        held: tuple[dict[_Ends, list[Entry]], dict[_Ends, list[Entry]]] = ({}, {})
        for index, rule in enumerate(self._rules):
            sources, destinations = rule.sources or (None,), rule.destinations or (None,)
            if len(sources) * len(destinations) > MOST_PAIRS:
                self._wide.append((index, rule))
                continue
            protocol, kind, asked = _asks(rule)
            for source in sources:
                for destination in destinations:
                    if source is not None and destination is not None and source.version != destination.version:
                        continue
                    stated = source if source is not None else destination
                    for v6 in (False, True) if stated is None else (stated.version == 6,):
                        first_to, last_to = _ends(destination, v6)
                        held[v6].setdefault(_ends(source, v6), []).extend(
                            Entry(index, first_to, last_to, ports.first, ports.last, protocol, kind, asked)
                            for ports in rule.ports or _ALL_PORTS
                        )
        four, six = (
            _Ranges("sv", [(*ends, _by_destination(entries)) for ends, entries in each.items()]) for each in held
        )
        self._trees = (four, six)


class _Asked(Protocol):
    lowest: int

    def first(self, packet: Packet, at: Circumstances, best: int) -> int:
        """The lowest index below `best` of what matches, else `best`."""


def _by_destination(entries: list[Entry]) -> _Asked:
    """Entries with one source range: a few are asked one by one, more by their destination."""
    if len(entries) <= FEW:
        return _Few(entries)
    held: dict[_Ends, list[Entry]] = {}
    for entry in entries:
        held.setdefault((entry.first_to, entry.last_to), []).append(entry)
    return _Ranges("dv", [(*ends, _by_ports(each)) for ends, each in held.items()])


def _by_ports(entries: list[Entry]) -> _Asked:
    return _Few(entries) if len(entries) <= FEW else _Ports(entries)


#: The rules with one range, and the same for the next wider range around it.
_Chain = tuple[_Asked, "_Chain | None"]


class _Ranges:
    """Ranges of one address of a packet, which lie in each other or apart: the narrowest that holds it leads to the others."""

    __slots__ = ("_of", "_owners", "_starts", "lowest")

    def __init__(self, of: str, ranges: list[tuple[int, int, _Asked]]) -> None:
        self._of = of
        self._starts: list[int] = [0]
        self._owners: list[_Chain | None] = [None]
        self.lowest = min((each.lowest for _, _, each in ranges), default=0)
        around: list[tuple[int, _Chain]] = []
        for first, last, child in sorted(ranges, key=lambda each: (each[0], -each[1])):
            self._leave(around, first)
            chain = (child, around[-1][1] if around else None)
            around.append((last, chain))
            self._begins(first, chain)
        self._leave(around, 1 << 129)

    def _leave(self, around: list[tuple[int, "_Chain"]], until: int) -> None:
        while around and around[-1][0] < until:
            last, _ = around.pop()
            self._begins(last + 1, around[-1][1] if around else None)

    def _begins(self, at: int, chain: "_Chain | None") -> None:
        if self._starts[-1] == at:
            self._owners[-1] = chain
        else:
            self._starts.append(at)
            self._owners.append(chain)

    def first(self, packet: Packet, at: Circumstances, best: int) -> int:
        chain = self._owners[bisect_right(self._starts, getattr(packet, self._of)) - 1]
        while chain is not None:
            child, chain = chain
            if child.lowest < best:
                best = child.first(packet, at, best)
        return best


class _Few:
    """Entries that are asked one by one."""

    __slots__ = ("_entries", "lowest")

    def __init__(self, entries: list[Entry]) -> None:
        self._entries = tuple(entries)
        self.lowest = entries[0].rank

    def first(self, packet: Packet, at: Circumstances, best: int) -> int:
        port, value = packet.dport, packet.dv
        for each in self._entries:
            if each.rank >= best:
                break
            if (
                each.first <= port <= each.last
                and each.first_to <= value <= each.last_to
                and (each.protocol is None or each.protocol == packet.protocol)
                and (each.kind is None or _of_kind(each.kind, packet, at))
                and (each.packet is None or _of_packet(each.packet, packet))
            ):
                return each.rank
        return best


class _Ports:
    """Entries that differ in ports and circumstances: for each kind of packet the lowest rule of every port, as steps."""

    __slots__ = ("_groups", "_known", "lowest")

    def __init__(self, entries: list[Entry]) -> None:
        self.lowest = entries[0].rank
        self._groups: dict[tuple[Any, ...], list[Entry]] = {}
        for entry in entries:
            self._groups.setdefault((entry.protocol, entry.kind, entry.packet), []).append(entry)
        #: What fits a packet, by what decides that; few kinds of packets meet a box.
        self._known: dict[tuple[Any, ...], _Fitting] = {}

    def first(self, packet: Packet, at: Circumstances, best: int) -> int:
        kind = (packet.protocol, packet.state, packet.message, at)
        fitting = self._known.get(kind)
        if fitting is None:
            fitting = self._known[kind] = self._fitting(packet, at)
        starts, owners, by_packet = fitting
        found = owners[bisect_right(starts, packet.dport) - 1]
        best = min(best, found)
        for asked, few_starts, few_owners in by_packet:
            found = few_owners[bisect_right(few_starts, packet.dport) - 1]
            if found < best and _of_packet(asked, packet):
                best = found
        return best

    def _fitting(self, packet: Packet, at: Circumstances) -> "_Fitting":
        plain: list[tuple[int, int, int]] = []
        by_packet = []
        for (protocol, kind, asked), entries in self._groups.items():
            if protocol not in (None, packet.protocol) or (kind is not None and not _of_kind(kind, packet, at)):
                continue
            held = [(entry.first, entry.last, entry.rank) for entry in entries]
            if asked is None:
                plain += held
            else:
                by_packet.append((asked, *_steps(held)))
        return (*_steps(plain), by_packet)


_Fitting = tuple[list[int], list[int], list[tuple[_PacketAsked, list[int], list[int]]]]
_NONE = 1 << 60


def _steps(held: list[tuple[int, int, int]], none: int = _NONE) -> tuple[list[int], list[int]]:
    """The lowest rule for every port, as steps: where each begins, and which rule it is (`none` for none)."""
    if not held:
        return [0], [none]
    if len(held) == 1:
        first, last, index = held[0]
        if first == 0 and last == 65535:
            return [0], [index]
        starts, owners = (
            ([first, last + 1], [index, none]) if first == 0 else ([0, first, last + 1], [none, index, none])
        )
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
