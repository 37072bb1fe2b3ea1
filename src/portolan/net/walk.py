"""The walk itself: a packet from box to box, and its answer back.

At each box, in this order: access list of the network that it comes from, the chain for what arrives, connection
tracking, security groups at the interface, destination NAT (first match), routing, filter, source NAT, groups and access
list where it leaves. Later packets and answers follow the tracked state, not the rules. A translation is undone where it
was done: the destination before routing, the source behind the filter.

An answer that meets a box which does not know its connection is an invalid packet there: nothing translates it. What the
server sends after that starts a connection of its own at such a box (nf_conntrack_tcp_loose), with its rules and
translations; and a box that never saw the answer takes what the visitor sends next for invalid.
"""

from typing import Any

from portolan.estate.base import IPAddress, in_short, is_loopback
from portolan.estate.filter import ChainName, OneFilter
from portolan.estate.machine import Forward, OneToOne
from portolan.estate.network import MarkRule
from portolan.estate.rules_here import LOOPBACK
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import sizes as size_kinds
from portolan.evidence.packet import State
from portolan.net.filtering import through_filter, through_groups, through_list
from portolan.net.links import End, Links, astray
from portolan.net.packet import Addressed, Packet
from portolan.net.routes import Asking, RouteLine
from portolan.net.rules import Circumstances
from portolan.net.topology import Device, Port, Topology
from portolan.net.tracking import Tracked, forwarded, reply_state, undo_destination, undo_source
from portolan.net.translation import destination, source, source_inside
from portolan.source.value import Value

_MOST_HOPS = 64  # the time to live that Linux sends


class Walk(Links):
    """One connection's packets through boxes; keeps what every box on the way remembers."""

    __slots__ = (
        "answered",
        "later",
        "marks",
        "origin",
        "passages",
        "rejecting",
        "stateless",
        "tracked",
        "trail",
        "unsaid",
    )

    def __init__(self, topology: Topology, origin: Device, choice: int = 0) -> None:
        super().__init__(topology, choice)
        self.origin = origin
        #: The connections whose answer a box saw (each is kept by its box); and whether packets after it are walked.
        self.answered: set[int] = set()
        #: The marks that connections keep, by the box and how they came in.
        self.marks: dict[tuple[str, Addressed], int] = {}
        self.later = False
        #: Whether a filter was met that asks its rules about every packet of a connection.
        self.stateless = False
        #: The box whose filter answered with a reset: there, that is a packet related to the connection, none of it.
        self.rejecting: str | None = None
        #: The fields of a Hop for every box.
        self.trail: list[tuple[Any, ...]] = []
        #: Where sizes matter: the boxes that the question passed, with where it came and went.
        self.passages: list[tuple[Device, Port | None, RouteLine]] = []
        #: Where a box with several ways does not say whether it checks by which one packets come.
        self.unsaid: list[tuple[Device, Port, Addressed, bool]] = []
        self.tracked: dict[str, list[Tracked]] = {}

    def go(self, device: Device, packet: Packet, reply: bool = False, entering: Port | None = None) -> End:
        """Walks a packet from a device that sends it, or that it enters, until it ends. The packet is rewritten on the way."""
        for _ in range(_MOST_HOPS):
            step = self._box(device, packet, entering, reply)
            if isinstance(step, End):
                return step
            device, entering = step.device, step
        decision = connect_kinds.TurnsInCircles(device.label, place=device.place, subject=device)
        return self._end("time-exceeded", device, packet, decision, None)

    def _box(self, device: Device, packet: Packet, entering: Port | None, reply: bool) -> "End | Port":
        """One box: the end of the walk, or the port of the next box that the packet arrives at."""
        known, mapped = self._tracked(device, packet, reply)
        own = device.own[packet.v6]
        if entering is not None and (entering.guarded or (packet.sv in own and not packet.v6)):
            barred = self._enters(device, packet, entering)
            if barred is not None:
                return barred
        before = packet.addressed
        sent_on: Forward | OneToOne | None = None
        if known is not None:
            undo_destination(packet, known)
        elif mapped is not None:
            packet.goes_to(mapped[2], mapped[3])
        elif packet.state is State.NEW and (device.translates_own if entering is None else device.translates):
            asked = packet.dst
            found = destination(device, packet, entering, self.choice)
            if found is not None:
                self.meant = asked if entering is None else None
                sent_on = found.by
                self._met_several(found.ways)
                if found.decision.stops:
                    return self._lost(device, found.decision)
                self.decisions.append(found.decision)
        rewritten = device.filter is not None and forwarded(before, packet, known)
        at = _Passing(before, sent_on, known, mapped, rewritten)
        if packet.dv in own or (
            (entering is None or sent_on is not None or mapped is not None) and is_loopback(packet.dst)
        ):
            return self._deliver(device, packet, entering, at, reply)
        if entering is not None and not device.is_router:
            return self._lost(
                device, connect_kinds.NotARouter(device.label, packet.dst, place=device.place, subject=device)
            )
        asking = self._asking(device, packet, entering, at, reply) if device.ruled else None
        line = device.route_to(packet.dv, packet.v6, asking)
        if line is None or line.ends is not None:
            # What a machine sends is routed anew where it was rewritten; without a way the kernel forgets it in silence.
            anew = entering is None and (sent_on is not None or (asking is not None and asking.mark != 0))
            return self._stuck(device, packet, line, before, anew)
        if entering is not None and entering.picky and not packet.v6:
            strays = astray(entering, packet)
            if strays is not None:
                return self._lost(device, strays)
        return self._onward(device, packet, entering, line, at, reply)

    def _onward(
        self, device: Device, packet: Packet, entering: Port | None, line: RouteLine, at: "_Passing", reply: bool
    ) -> "End | Port":
        """What a box does with a packet that it routes: its filter, its source translation, what guards the way out."""
        if line.assumed and line.via is not None:
            self._assume(
                device,
                "gateway",
                connect_kinds.GatewayAssumed(device.label, line.via, place=device.place, subject=device.stated),
            )
        if self.topology.sized:
            large = self._too_large(device, entering, line, reply)
            if large is not None:
                return large
        if entering is None and not packet.v6 and packet.sv >> 24 == _LOOPBACK and not _routes_localnet(line.port):
            return self._lost(
                device, connect_kinds.LoopbackLeaves(device.label, packet.src, place=device.place, subject=device)
            )
        out = line.port
        if device.filter is not None:
            name: ChainName = "outbound" if entering is None else "forward"
            came, leaves = None if entering is None else entering.name, out.name
            if entering is None and self.meant is not None:
                leaves = _interface_towards(device, self.meant)
            barred = self._filter(device, name, packet, Circumstances(came, leaves, at.forwarded), at.before)
            if barred is not None:
                return barred
        if entering is None:
            self.meant = None
        self._renamed(device, packet, entering, line, at)
        if out.guarded:
            barred = self._leaves(out, packet)
            if barred is not None:
                return barred
        self._passed(device, packet, entering, out, at.before, reply)
        return self._next(device, packet, line, entering, at.before, reply)

    def _too_large(self, device: Device, entering: Port | None, line: RouteLine, reply: bool) -> End | None:
        """That a box does not send on what is larger than the way out takes; it says so before its filter is asked."""
        if not reply:
            self.passages.append((device, entering, line))
        limit = line.carries
        if self.size <= limit or entering is None:
            return None
        place = line.port.place.key("mtu") if line.mtu is None else line.place
        facts = (device.label, line.port.name, self.size, limit)
        return End("too-large", device, size_kinds.TooLarge(*facts, place=place, subject=line.port.stated or device))

    def _renamed(self, device: Device, packet: Packet, entering: Port | None, line: RouteLine, at: "_Passing") -> None:
        """The source of a packet as it leaves: a known connection's is undone or kept, a new one's is translated."""
        if at.known is not None:
            undo_source(packet, at.known)
        elif at.mapped is not None:
            packet.comes_from(at.mapped[0], at.mapped[1])
        elif packet.state is State.NEW:
            if device.renames:
                renamed = source(device, packet, entering, line, at.sent_on, self.choice)
                if renamed is not None:
                    self._met_several(renamed.ways)
                    self.decisions.append(renamed.decision)
                self._kept_apart(device, packet)
            self.remember(device, at.before, packet.addressed)

    def _asking(self, device: Device, packet: Packet, entering: Port | None, at: "_Passing", reply: bool) -> Asking:
        """What routing rules are asked with. A mark that a packet has makes Linux route it anew, by its source.

        What a machine asks over IPv6 itself is routed before its source is chosen, and not again.
        """
        mark = self._mark(device, packet, entering, at)
        unchosen = packet.v6 and entering is None and not reply and not mark and at.sent_on is None
        return Asking(
            0 if unchosen else packet.sv, packet.dv, packet.v6, mark, "lo" if entering is None else entering.name
        )

    def _mark(self, device: Device, packet: Packet, entering: Port | None, at: "_Passing") -> int:
        """The mark of a packet at a box: the one that its connection keeps, else that of the first line that matches it."""
        machine = device.machine
        if machine is None or not machine.packet_marks:
            return 0
        connection = (device.name, at.known[0] if at.known is not None else at.before)
        kept = self.marks.get(connection)
        if kept is not None:
            return kept
        for rule in machine.packet_marks:
            if _is_marked(rule, packet, at.before, entering):
                if rule.keep:
                    self.marks[connection] = rule.mark
                return rule.mark
        return 0

    def _kept_apart(self, device: Device, packet: Packet) -> None:
        """Gives a new connection another port where the box has one already that an answer could belong to.

        Linux takes a free port of the same kind at random (nf_nat_core.c, get_unique_tuple); here it is the next one.
        """
        held = self.tracked.get(device.name)
        if held is None:
            return
        src, sport, dst, dport = packet.addressed
        for before, after in held:
            if before == (dst, dport, src, sport) or (after == packet.addressed and before != after):
                packet.comes_from(src, sport + 1 if sport < 65535 else 1024)
                return

    def _met_several(self, ways: int) -> None:
        """Notes that a translation takes one of several addresses."""
        if ways > 1:
            self.twice = max(self.twice, ways)

    # -- the stations of a box -----------------------------------------------------------------------------------

    def _tracked(self, device: Device, packet: Packet, reply: bool) -> "tuple[Tracked | None, Addressed | None]":
        """What a box's connection tracking knows of a packet, which is noted in its state: an answer's, a later one's."""
        if device.filter is not None and device.asks_each:
            self.stateless = True
        if reply:
            known = self._known(device, packet)
            packet.state = reply_state(packet, known, self.later, device.name == self.rejecting)
            if known is not None:
                self.answered.add(id(known))
            return known, None
        if self.later:
            mapped = self._mapped(device, packet)
            packet.state = State.ESTABLISHED if mapped is not None else State.INVALID
            return None, mapped
        return None, None

    def _passed(
        self, device: Device, packet: Packet, entering: Port | None, out: Port | None, before: Addressed, reply: bool
    ) -> None:
        """Notes a box on the trail: how the packet came in, and how it goes on; without a way out where it was delivered."""
        if entering is not None and entering.reverse_path is None and not packet.v6 and len(device.ports) > 1:
            self.unsaid.append((device, entering, before, reply))
        self.trail.append(
            (
                device.label,
                None if entering is None else entering.name,
                before,
                packet.addressed,
                None if out is None else out.name,
                None if out is None else out.network.name,
                reply,
                len(self.decisions),
            )
        )

    def _known(self, device: Device, packet: Packet) -> Tracked | None:
        for tracked in self.tracked.get(device.name, ()):
            after = tracked[1]
            if packet.inner is not None:
                if packet.inner == after:
                    return tracked
            elif packet.addressed == (after[2], after[3], after[0], after[1]):
                return tracked
        return None

    def _mapped(self, device: Device, packet: Packet) -> Addressed | None:
        """How a box that saw the answer sends on what follows in the visitor's direction."""
        for tracked in self.tracked.get(device.name, ()):
            if tracked[0] == packet.addressed and id(tracked) in self.answered:
                return tracked[1]
        return None

    def remember(self, device: Device, before: Addressed, after: Addressed) -> None:
        """Notes a connection at a box; one that turns round may pass a box twice, as two connections."""
        held = self.tracked.get(device.name)
        if held is None:
            self.tracked[device.name] = [(before, after)]
        else:
            held.append((before, after))

    def _enters(self, device: Device, packet: Packet, entering: Port) -> End | None:
        """What stands before a box's own tables: the network's access list, the groups, its own address as source."""
        if entering.lists:
            barred = self._list(entering, packet, inbound=False)
            if barred is not None:
                return barred
        if device.arriving:
            barred = self._arrives(device, packet, entering.name)
            if barred is not None:
                return barred
        if entering.groups is not None:
            barred = self._groups(entering, packet, inbound=True)
            if barred is not None:
                return barred
        if not packet.v6 and packet.sv in device.own[False]:
            return self._lost(
                device, connect_kinds.OwnSource(device.label, packet.src, place=device.place, subject=device)
            )
        return None

    def _leaves(self, out: Port, packet: Packet) -> End | None:
        """What stands behind a box's own tables: the groups, the access list of the network that it goes to."""
        if out.groups is not None:
            barred = self._groups(out, packet, inbound=False)
            if barred is not None:
                return barred
        return self._list(out, packet, inbound=True) if out.lists else None

    def _list(self, port: Port, packet: Packet, inbound: bool) -> End | None:
        decision = through_list(port.network, packet, inbound)
        if decision is None:
            return None
        if isinstance(decision, connect_kinds.ListDrops):
            return self._lost(port.device, decision)
        self.decisions.append(decision)
        return None

    def _groups(self, port: Port, packet: Packet, inbound: bool) -> End | None:
        decision = through_groups(self.topology, port, packet, inbound)
        if decision is None:
            return None
        if isinstance(decision, connect_kinds.GroupDrops):
            return self._lost(port.device, decision)
        self.decisions.append(decision)
        return None

    def _arrives(self, device: Device, packet: Packet, entering: str) -> End | None:
        """The chain for everything that arrives, which knows nothing of connections."""
        return self._filter(device, "arriving", packet, Circumstances(entering, None, False), packet.addressed)

    def _filter(
        self, device: Device, name: ChainName, packet: Packet, at: Circumstances, before: Addressed
    ) -> End | None:
        if device.unread:
            self._doubt_unread(device)
        for filtering in device.filters:
            barred = self._through(device, filtering, name, packet, at, before)
            if barred is not None:
                return barred
        return None

    def _doubt_unread(self, device: Device) -> None:
        """Tells that lines of a filter, or of the machine's own settings, could not be read."""
        for holder, what in ((device.filter, "filter"), (device.machine, "own settings")):
            if holder is not None and holder.unread:
                place = holder.place.key("unread")
                told = connect_kinds.RulesUnread(
                    device.label, what, in_short(holder.unread), place=place, subject=holder
                )
                self._assume(device, f"unread {what}", told)

    def _through(
        self,
        device: Device,
        filtering: OneFilter,
        name: ChainName,
        packet: Packet,
        at: Circumstances,
        before: Addressed,
    ) -> End | None:
        found = through_filter(device, filtering, name, packet, at)
        decision, rule = found.decision, found.rule
        if found.assumed is not None:
            self._assume(device, f"{name} {found.assumed.facts['basic']}", found.assumed)
        if decision is None:
            return None
        if found.verdict == "allow":
            self.decisions.append(decision)
            return None
        if found.verdict == "drop":
            return self._lost(device, decision)
        answer: str = (rule.answer if rule is not None else None) or "port-unreachable"
        if answer == "tcp-reset":
            self.rejecting = device.name
            answer = "reset"
        return self._end(answer, device, packet, decision, before)

    def _deliver(self, device: Device, packet: Packet, entering: Port | None, at: "_Passing", reply: bool) -> End:
        rewritten = at.sent_on is not None or at.mapped is not None
        if entering is not None and rewritten and is_loopback(packet.dst) and not _routes_localnet(entering):
            return self._lost(
                device, connect_kinds.NotARouter(device.label, packet.dst, place=device.place, subject=device)
            )
        if entering is None:
            self.decisions.append(
                connect_kinds.OwnAddress(packet.dst, device.label, place=device.place, subject=device)
            )
        if entering is not None and entering.picky and not packet.v6:
            strays = astray(entering, packet)
            if strays is not None:
                return self._lost(device, strays)
        if device.ruled:
            self._mark(device, packet, entering, at)
        if device.filter is not None or (device.renames and entering is None):
            barred = self._delivered_through(device, packet, entering, at)
            if barred is not None:
                return barred
        if at.known is not None:
            undo_source(packet, at.known)
        if not reply:
            self.remember(device, at.before, packet.addressed)
        self._passed(device, packet, entering, None, at.before, reply)
        return End("delivered", device, None)

    def _delivered_through(self, device: Device, packet: Packet, entering: Port | None, at: "_Passing") -> End | None:
        """The chains that a packet to the machine passes; its own packets go out by the loopback interface, and in again."""
        came = LOOPBACK if entering is None else entering.name
        if entering is None:
            towards = LOOPBACK if self.meant is None else _interface_towards(device, self.meant)
            self.meant = None
            leaves = Circumstances(None, towards, at.forwarded)
            barred = self._filter(device, "outbound", packet, leaves, at.before)
            if barred is None and device.renames and at.known is None and at.mapped is None:
                renamed = source_inside(device, packet, self.choice)
                if renamed is not None:
                    self._met_several(renamed.ways)
                    self.decisions.append(renamed.decision)
            if barred is None and device.arriving:
                barred = self._arrives(device, packet, LOOPBACK)
            if barred is not None:
                return barred
        return self._filter(device, "inbound", packet, Circumstances(came, None, at.forwarded), at.before)


class _Passing(Value, frozen=True):
    """A packet at a box: as it came, what sent it on, what tracking knows, and whether its connection is a forwarded one."""

    before: Addressed
    sent_on: Forward | OneToOne | None
    known: Tracked | None
    mapped: Addressed | None
    forwarded: bool


#: The first octet of loopback addresses (RFC 1122 section 3.2.1.3).
_LOOPBACK = 127


def _routes_localnet(port: Port) -> bool:
    return port.stated is not None and port.stated.route_localnet


def _is_marked(rule: MarkRule, packet: Packet, before: Addressed, entering: Port | None) -> bool:
    """Whether a line marks a packet: as it came, before its destination was rewritten."""
    src, _, dst, dport = before
    if rule.own is not (entering is None) or (
        rule.entering and (entering is None or entering.name not in rule.entering)
    ):
        return False
    ports = rule.tcp if packet.protocol == "tcp" else rule.udp if packet.protocol == "udp" else ()
    return (
        (not rule.sources or any(src in net for net in rule.sources))
        and (not rule.destinations or any(dst in net for net in rule.destinations))
        and (not (rule.tcp or rule.udp) or any(dport in each for each in ports))
    )


def _interface_towards(device: Device, address: IPAddress) -> str:
    """The interface by which a box would send to an address: its own is reached by loopback."""
    if address in device.local or is_loopback(address):
        return LOOPBACK
    line = device.route(address)
    return line.port.name if line is not None else ""
