"""The walk itself: a packet from box to box, and its answer back.

At each box, in this order: access list of the network that it comes from, the chain for what arrives, connection
tracking, security groups at the interface, destination NAT (first match), routing, filter, source NAT, groups and access
list where it leaves. Later packets and answers follow the tracked state, not the rules. A translation is undone where it
was done: the destination before routing, the source behind the filter.

An answer that meets a box which does not know its connection is an invalid packet there: nothing translates it. What the
server sends after that starts a connection of its own at such a box (nf_conntrack_tcp_loose), with its rules and
translations; and a box that never saw the answer takes what the visitor sends next for invalid.
"""

from ipaddress import IPv6Address
from typing import Any

from portolan.estate.base import IPAddress, in_short, is_loopback, is_public_value
from portolan.estate.filter import ChainName, OneFilter
from portolan.estate.machine import Forward, OneToOne, Router
from portolan.estate.network import MarkRule
from portolan.estate.rules_here import LOOPBACK
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.packet import State
from portolan.net.filtering import through_filter, through_groups, through_list
from portolan.net.packet import Addressed, Packet
from portolan.net.routes import Asking, RouteLine
from portolan.net.rules import Circumstances
from portolan.net.sources import source_at
from portolan.net.topology import Device, Port, Topology, link_local
from portolan.net.translation import destination, source, source_inside
from portolan.source.value import Value

_MOST_HOPS = 64  # the time to live that Linux sends


#: What a box remembers of a connection: as it came in, and as it left.
Tracked = tuple[Addressed, Addressed]


class End(Value, frozen=True):
    """Where a walk ended: delivered to a device, answered with an error from one, or lost without a word."""

    how: str  # "delivered", "reset", an ICMP kind, or "lost"
    device: Device
    decision: Decision | None


class Walk:
    """One connection's packets; keeps the decisions and what every box on the way remembers.

    `choice` says which of several boxes with one address answers, or which of several addresses a translation takes;
    `twice` how many there were.
    """

    __slots__ = (
        "answered",
        "assumed",
        "choice",
        "decisions",
        "later",
        "marks",
        "meant",
        "met",
        "origin",
        "out",
        "passages",
        "rejecting",
        "size",
        "stateless",
        "topology",
        "tracked",
        "trail",
        "twice",
        "unsaid",
    )

    def __init__(self, topology: Topology, origin: Device, choice: int = 0) -> None:
        self.topology = topology
        self.origin = origin
        self.choice = choice
        self.twice = 0
        #: The connections whose answer a box saw, by the box and how they came in; and whether packets after it are walked.
        self.answered: set[tuple[str, Addressed]] = set()
        #: The marks that connections keep, by the box and how they came in.
        self.marks: dict[tuple[str, Addressed], int] = {}
        self.later = False
        #: Whether a filter was met that asks its rules about every packet of a connection.
        self.stateless = False
        #: The box whose filter answered with a reset: there, that is a packet related to the connection, none of it.
        self.rejecting: str | None = None
        self.decisions: list[Decision] = []
        #: The fields of a Hop for every box.
        self.trail: list[tuple[Any, ...]] = []
        #: How large the packet is, where that matters; the boxes that the question passed, with where it came and went; and
        #: the line by which the last packet left for the internet.
        self.size = 0
        self.passages: list[tuple[Device, Port | None, RouteLine]] = []
        self.out: Port | None = None
        #: Where a box with several ways does not say whether it checks by which one packets come.
        self.unsaid: list[tuple[Device, Port, Addressed]] = []
        self.tracked: dict[str, list[Tracked]] = {}
        #: What nothing states: by the box and what it is about.
        self.assumed: dict[tuple[str, str], Decision] = {}
        #: Where a packet of a box's own was meant to go before the box translated it: the filter for what leaves sees the
        #: interface for that (Linux routes such a packet anew, and tells the hook's later chains nothing of it).
        self.meant: IPAddress | None = None
        #: Who has found which neighbour (IPv6), by box and address.
        self.met: set[tuple[str, IPAddress]] = set()

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
            _undo_destination(packet, known)
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
        forwarded = device.filter is not None and _forwarded(before, packet, known)
        at = _Passing(before, sent_on, known, mapped, forwarded)
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
        if entering is None and (sent_on is not None or (asking is not None and asking.mark)):
            # What a machine sends is routed anew where it was rewritten; without a way the kernel forgets it in silence.
            stuck = _stuck(device, packet, line)
            if stuck is not None:
                return self._lost(device, stuck)
        if line is None:
            return self._end(
                "net-unreachable",
                device,
                packet,
                connect_kinds.NoRoute(device.label, packet.dst, place=device.place, subject=device),
                before,
            )
        if line.ends is not None:
            return self._ends(device, packet, line, before)
        if entering is not None and entering.reverse_path not in (None, "off") and not packet.v6:
            barred = self._comes_back(device, packet, entering)
            if barred is not None:
                return barred
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
            if not reply:
                self.passages.append((device, entering, line))
            limit = line.mtu or line.port.mtu
            if self.size > limit and entering is not None:
                place = line.port.place.key("mtu") if line.mtu is None else line.place
                large = connect_kinds.TooLarge(
                    device.label, line.port.name, self.size, limit, place=place, subject=line.port.stated or device
                )
                return End("too-large", device, large)
        localnet = line.port.stated is not None and line.port.stated.route_localnet
        if entering is None and not packet.v6 and is_loopback(packet.src) and not localnet:
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
        if at.known is not None:
            _undo_source(packet, at.known)
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
        if out.guarded:
            barred = self._leaves(out, packet)
            if barred is not None:
                return barred
        self._passed(device, packet, entering, out, at.before, reply)
        return self._next(device, packet, line, entering, at.before, reply)

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
        if machine is None or not machine.marks:
            return 0
        connection = (device.name, at.known[0] if at.known is not None else at.before)
        kept = self.marks.get(connection)
        if kept is not None:
            return kept
        for rule in machine.marks:
            if _is_marked(rule, packet, at.before, entering):
                if rule.keep:
                    self.marks[connection] = rule.mark
                return rule.mark
        return 0

    def _comes_back(self, device: Device, packet: Packet, entering: Port) -> End | None:
        """Reverse-path filtering (RFC 3704): whether an answer to the packet's source would leave by where it came in."""
        line = way_back(device, packet)
        if line is not None and line.ends is None and (entering.reverse_path == "loose" or line.port is entering):
            return None
        place = (entering.stated if entering.stated and entering.stated.reverse_path else device.stated).place
        would = "no interface" if line is None or line.ends is not None else line.port.name
        facts = (device.label, packet.src, entering.name, would)
        return self._lost(
            device, connect_kinds.ReversePath(*facts, place=place.key("reverse_path"), subject=device.stated)
        )

    def _kept_apart(self, device: Device, packet: Packet) -> None:
        """Gives a new connection another port where the box has one already that an answer could belong to.

        Linux takes a free port of the same kind at random (nf_nat_core.c, get_unique_tuple); here it is the next one.
        """
        src, sport, dst, dport = packet.addressed
        for before, after in self.tracked.get(device.name, ()):
            if before == (dst, dport, src, sport) or (after == packet.addressed and before != after):
                packet.comes_from(src, sport + 1 if sport < 65535 else 1024)
                return

    def _met_several(self, ways: int) -> None:
        """Notes that a translation takes one of several addresses."""
        if ways > 1:
            self.twice = max(self.twice, ways)

    def _assume(self, device: Device, what: str, decision: Decision) -> None:
        self.assumed.setdefault((device.name, what), decision)

    # -- the stations of a box -----------------------------------------------------------------------------------

    def _tracked(self, device: Device, packet: Packet, reply: bool) -> "tuple[Tracked | None, Addressed | None]":
        """What a box's connection tracking knows of a packet, which is noted in its state: an answer's, a later one's."""
        if device.filter is not None and device.asks_each:
            self.stateless = True
        if reply:
            known = self._known(device, packet)
            packet.state = _reply_state(packet, known, self.later, device.name == self.rejecting)
            if known is not None:
                self.answered.add((device.name, known[0]))
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
            self.unsaid.append((device, entering, before))
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
        for before, after in self.tracked.get(device.name, ()):
            if before == packet.addressed and (device.name, before) in self.answered:
                return after
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
        for holder, what in ((device.filter, "filter"), (device.machine, "own settings")):
            if holder is not None and holder.unread:
                place = holder.place.key("unread")
                told = connect_kinds.RulesUnread(
                    device.label, what, in_short(holder.unread), place=place, subject=holder
                )
                self._assume(device, f"unread {what}", told)
        for filtering in device.filters:
            barred = self._through(device, filtering, name, packet, at, before)
            if barred is not None:
                return barred
        return None

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
        localnet = entering is not None and entering.stated is not None and entering.stated.route_localnet
        if entering is not None and is_loopback(packet.dst) and not localnet:
            return self._lost(
                device, connect_kinds.NotARouter(device.label, packet.dst, place=device.place, subject=device)
            )
        if entering is None:
            self.decisions.append(
                connect_kinds.OwnAddress(packet.dst, device.label, place=device.place, subject=device)
            )
        if entering is not None and entering.reverse_path not in (None, "off") and not packet.v6:
            barred = self._comes_back(device, packet, entering)
            if barred is not None:
                return barred
        if device.ruled:
            self._mark(device, packet, entering, at)
        if device.filter is not None or (device.renames and entering is None):
            barred = self._delivered_through(device, packet, entering, at)
            if barred is not None:
                return barred
        if at.known is not None:
            _undo_source(packet, at.known)
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

    def _next(
        self, device: Device, packet: Packet, line: RouteLine, entering: Port | None, before: Addressed, reply: bool
    ) -> "End | Port":
        port = line.port
        if not reply:
            if entering is None:
                self.decisions.append(
                    connect_kinds.Sent(
                        device.label, packet.src, packet.dst, line, place=line.place, subject=port.stated or device
                    )
                )
            else:
                self.decisions.append(connect_kinds.PassedOn(device.label, line, place=line.place, subject=port.stated))
        if line.via is None and port.network.kind == "internet":
            if packet.v6 and device.filter is not None:
                unheard = self._unheard((device, port), (None, None), _PROVIDER, packet)
                if unheard is not None:
                    return self._unfound(device, _PROVIDER, unheard, packet, before)
            return self._over_internet(device, port, packet, reply)
        hop = packet.dst if line.via is None else line.via
        value = packet.dv if line.via is None else int(hop)
        neighbour = port.near[packet.v6].get(value)
        if self.topology.twice and neighbour is not None:
            neighbour = self._chosen(device, port.network.name, hop, (value, packet.v6), neighbour, reply)
        if neighbour is None or neighbour.device is device:
            neighbour = self._stands_for(device, port, hop, reply)
        missing = self._missing(device, port, hop, neighbour)
        if missing is not None or neighbour is None:
            return self._end("host-unreachable", device, packet, missing or _absent(device, port, hop, line), before)
        if self.size > neighbour.carried:
            return self._lost(device, _vanishes(neighbour, self.size))
        if neighbour.reverse_path not in (None, "off") and not packet.v6:
            deaf = _deaf(device, port, hop, neighbour, packet)
            if deaf is not None:
                return self._end("host-unreachable", device, packet, deaf, before)
        if packet.v6 and (device.filter is not None or neighbour.device.filter is not None):
            unheard = self._unheard((device, port), (neighbour.device, neighbour), hop, packet)
            if unheard is not None:
                return self._unfound(device, hop, unheard, packet, before)
        return neighbour

    def _missing(self, device: Device, port: Port, hop: IPAddress, neighbour: Port | None) -> Decision | None:
        """Why a neighbour that is there does not answer: its interface is down, or the network keeps members apart."""
        if neighbour is not None and not neighbour.up:
            facts = (neighbour.device.label, neighbour.name, hop)
            place = neighbour.place.key("up")
            return connect_kinds.InterfaceDown(*facts, place=place, subject=neighbour.stated)
        apart = port.network.isolated and neighbour is not None
        if apart and not (isinstance(device.stated, Router) or isinstance(neighbour.device.stated, Router)):  # type: ignore[union-attr]
            network = port.network
            return connect_kinds.MembersApart(
                network.name, device.label, hop, place=network.place.key("isolated"), subject=network
            )
        return None

    def _stands_for(self, device: Device, port: Port, hop: IPAddress, reply: bool) -> Port | None:
        """Who answers for an address that no neighbour has: a proxy (RFC 1027, RFC 4389), or the only router there.

        A router's link-local address is seldom written down: that it is the only router's is assumed.
        """
        for each in self.topology.proxies.get(port.network.name, ()):
            if each.device is not device and _answers_for(each, hop):
                if not reply:
                    facts = (each.device.label, port.network.name, hop)
                    self.decisions.append(connect_kinds.ProxyAnswers(*facts, place=each.place, subject=each.stated))
                return each
        if hop.version == 6 and hop.is_link_local:
            held = self.topology.on_link.get(port.network.name, {}).values()
            routers = {id(each.device): each for each in held if each.device.is_router and each.device is not device}
            if len(routers) == 1:
                (found,) = routers.values()
                if not any(each.is_link_local for each in found.addresses):
                    told = connect_kinds.LinkLocalAssumed(hop, found.device.label, place=device.place, subject=device)
                    self._assume(device, f"link-local {hop}", told)
                    return found
        return None

    def _unfound(self, device: Device, hop: IPAddress, why: Decision, packet: Packet, before: Addressed) -> End:
        stop = connect_kinds.NeighbourUnheard(device.label, hop, why.text, place=why.place, subject=why)
        return self._end("host-unreachable", device, packet, stop, before)

    def _unheard(self, asker: "_Seat", holder: "_Seat", hop: IPAddress, packet: Packet) -> Decision | None:
        """What keeps a neighbour from being found (RFC 4861 section 7.2): a filter that stops the question, or the answer.

        The question comes from the packet's source where the asker has that address on the link, else from its link-local
        address. Whoever is asked learns the asker's address by that.
        """
        device, port = asker
        if (device.name if device is not None else "", hop) in self.met:
            return None
        mine = port is not None and packet.src in port.addresses
        source = _PROVIDER if device is None else packet.src if mine else link_local(device.name)
        group = IPv6Address(_SOLICITED | (int(hop) & 0xFFFFFF))
        question = _message("neighbour-solicitation", source, group)
        answer = _message("neighbour-advertisement", hop, source)
        for (box, at), heard, said in ((asker, answer, question), (holder, question, answer)):
            if box is None or box.filter is None or at is None:
                continue
            ways: tuple[tuple[ChainName, Packet, Circumstances], ...] = (
                ("outbound", said, Circumstances(None, at.name, False)),
                ("arriving", heard, Circumstances(at.name, None, False)),
                ("inbound", heard, Circumstances(at.name, None, False)),
            )
            for name, each, circumstances in ways:
                for filtering in box.filters:
                    found = through_filter(box, filtering, name, each, circumstances)
                    if found.verdict != "allow":
                        return found.decision
                    if found.assumed is not None:
                        self._assume(box, f"{name} neighbour-discovery", found.assumed)
        for (box, _), known in ((asker, hop), (holder, source)):
            if box is not None:
                self.met.add((box.name, known))
        return None

    def _chosen(
        self, device: Device, network: str, hop: IPAddress, spot: tuple[int, bool], first: Port, reply: bool
    ) -> Port:
        """Which of several boxes with one address answers, for this walk."""
        value, v6 = spot
        held = [each for each in self.topology.twice.get((network, v6, value), ()) if each.device is not device]
        if len(held) < 2:
            return held[0] if held else first
        self.twice = max(self.twice, len(held))
        chosen = held[self.choice % len(held)]
        if not reply:
            boxes = ", ".join(each.device.label for each in held)
            facts = (hop, network, boxes, chosen.device.label)
            beside = tuple(each.stated or each.device for each in held)
            subject = chosen.stated or chosen.device
            self.decisions.append(
                connect_kinds.AddressTwice(*facts, place=chosen.place, subject=subject, beside=beside)
            )
        return chosen

    def _over_internet(self, device: Device, port: Port, packet: Packet, reply: bool) -> "End | Port":
        if not is_public_value(packet.dv, packet.v6):
            return self._lost(device, connect_kinds.InternetPrivate(packet.dst, place=device.place, subject=device))
        if not is_public_value(packet.sv, packet.v6):
            return self._lost(device, connect_kinds.SourcePrivate(packet.src, place=device.place, subject=device))
        if packet.src not in port.addresses:
            barred = self._foreign(device, port, packet)
            if barred is not None:
                return barred
        target = self.topology.on_internet(packet.dv, packet.v6)
        if target is not None and self.topology.twice:
            target = self._chosen(device, "internet", packet.dst, (packet.dv, packet.v6), target, reply)
        if target is None:
            return self._lost(device, connect_kinds.InternetUnknown(packet.dst))
        if not target.up:
            facts = (target.device.label, target.name, packet.dst)
            down = connect_kinds.InterfaceDown(*facts, place=target.place.key("up"), subject=target.stated)
            return self._lost(device, down)
        if packet.v6 and target.device.filter is not None:
            barred = self._line_unheard(device, target, packet)
            if barred is not None:
                return barred
        if target.blocks and packet.state is State.NEW and any(packet.dport in each for each in target.blocks):
            place = target.place.key("provider_blocks")
            return self._lost(
                device, connect_kinds.LineBlocks(target.device.label, packet.dport, place=place, subject=target.stated)
            )
        if self.size > target.mtu:
            facts_large = ("the provider's router", target.name, self.size, target.mtu)
            large = connect_kinds.TooLarge(*facts_large, place=target.place.key("mtu"), subject=target.stated)
            self.out = port
            return End("too-large-there", device, large)
        if not reply:
            self.decisions.append(
                connect_kinds.InternetCarries(target.device.label, place=target.place, subject=target.stated)
            )
        return target

    def _foreign(self, device: Device, port: Port, packet: Packet) -> End | None:
        """What the provider of a line makes of a source that is another line's (RFC 2827)."""
        home = self.topology.on_internet(packet.sv, packet.v6)
        checks = port.stated.provider_checks_source if port.stated is not None else False
        if home is port or checks is False:
            return None
        if checks:
            place = port.place.key("provider_checks_source")
            facts = (device.label, port.name, packet.src)
            return self._lost(device, connect_kinds.SourceChecked(*facts, place=place, subject=port.stated))
        if home is not None and home.device is device:
            told = connect_kinds.SourceUncheckedAssumed(
                device.label, port.name, packet.src, place=port.place, subject=port.stated
            )
            self._assume(device, f"source by {port.name}", told)
        return None

    def _line_unheard(self, device: Device, target: Port, packet: Packet) -> End | None:
        """Neighbour discovery on the far line: the provider's router is open, and silent about machines that it does not find."""
        own = packet.dv in target.device.own[True]
        hop = packet.dst if own else next((each for each in target.addresses if each.version == 6), packet.dst)
        unheard = self._unheard((None, None), (target.device, target), hop, packet)
        if unheard is None:
            return None
        facts = ("the provider's router", hop, unheard.text)
        return self._lost(device, connect_kinds.NeighbourUnheard(*facts, place=unheard.place, subject=unheard))

    # -- ends ----------------------------------------------------------------------------------------------------

    def _ends(self, device: Device, packet: Packet, line: RouteLine, before: Addressed) -> End:
        """A route that leads nowhere: silent, or with the error that Linux sends for it."""
        decision = connect_kinds.RouteEnds(device.label, packet.dst, str(line.ends), place=line.place, subject=device)
        if line.ends == "blackhole":
            return self._lost(device, decision)
        return self._end(
            "admin-prohibited" if line.ends == "prohibit" else "host-unreachable", device, packet, decision, before
        )

    def _lost(self, device: Device, decision: Decision) -> End:
        self.decisions.append(decision)
        return End("lost", device, decision)

    def _end(self, how: str, device: Device, packet: Packet, decision: Decision, before: Addressed | None) -> End:
        self.decisions.append(decision)
        if before is not None:
            # The box itself undoes its own translation when it answers; it is meant for the source that it made.
            self.meant = packet.src if packet.src != before[0] else None
            packet.comes_from(before[0], before[1])
            packet.goes_to(before[2], before[3])
        return End(how, device, decision)


def _stuck(device: Device, packet: Packet, line: RouteLine | None) -> Decision | None:
    """Why a packet has no way, if it has none."""
    if line is None:
        return connect_kinds.NoRoute(device.label, packet.dst, place=device.place, subject=device)
    if line.ends is not None:
        return connect_kinds.RouteEnds(device.label, packet.dst, line.ends, place=line.place, subject=device)
    return None


def way_back(device: Device, packet: Packet) -> RouteLine | None:
    """The line by which an answer to a packet's source would leave: asked as Linux asks it, without mark or interface."""
    return device.route_to(packet.sv, packet.v6, Asking(packet.dv, packet.sv, packet.v6) if device.ruled else None)


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


def _answers_for(port: Port, hop: IPAddress) -> bool:
    """Whether a machine answers for an address that is not its own: one that is listed, or that it has a way to elsewhere."""
    stated = port.stated
    if stated is None:
        return False
    if hop in stated.proxy_for:
        return True
    if not stated.proxy_arp or hop.version == 6 or not port.device.is_router:
        return False
    line = port.device.route(hop)
    return line is not None and line.ends is None and line.port is not port


def _vanishes(port: Port, size: int) -> Decision:
    """A packet that is larger than a link carries, or than the interface at its end takes."""
    network = port.network
    if network.mtu == port.carried:
        facts = (network.name, size, port.carried)
        return connect_kinds.VanishesOnLink(*facts, place=network.place.key("mtu"), subject=network)
    facts = (f"{port.device.label}'s interface {port.name}", size, port.carried)
    return connect_kinds.VanishesOnLink(*facts, place=port.place.key("mtu"), subject=port.stated)


def _deaf(device: Device, port: Port, hop: IPAddress, neighbour: Port, packet: Packet) -> Decision | None:
    """Why a neighbour does not answer who looks for it (ARP): it would answer by another interface, and takes no such packet.

    Who asks says its packet's source where that is its own, else its own address there (arp_announce).
    """
    asker = packet.src if packet.src in device.local else source_at(port, hop)
    if asker is None:
        return None
    line = way_back(neighbour.device, Packet("udp", asker, 0, hop, 0))
    if line is not None and line.ends is None and (neighbour.reverse_path == "loose" or line.port is neighbour):
        return None
    would = "no interface" if line is None or line.ends is not None else line.port.name
    stated = (
        neighbour.stated if neighbour.stated is not None and neighbour.stated.reverse_path else neighbour.device.stated
    )
    facts = (neighbour.device.label, asker, neighbour.name, would)
    return connect_kinds.ReversePath(*facts, place=stated.place.key("reverse_path"), subject=neighbour.device.stated)


def _absent(device: Device, port: Port, hop: IPAddress, line: RouteLine) -> Decision:
    return connect_kinds.NeighbourMissing(port.network.name, hop, device.label, place=line.place, subject=port.network)


def _reply_state(packet: Packet, known: Tracked | None, later: bool, rejecting: bool) -> State:
    if known is not None:
        return State.RELATED if packet.inner is not None or rejecting else State.ESTABLISHED
    # A UDP packet that no connection knows starts one, and so does what follows a TCP answer; the answer itself, and any
    # ICMP error, is invalid.
    return State.NEW if packet.protocol == "udp" or (later and packet.protocol == "tcp") else State.INVALID


#: The link-local address of a line's other end (RFC 4291 section 2.5.6), and the group of whoever has an address
#: (section 2.7.1).
_PROVIDER = IPv6Address("fe80::1")
_SOLICITED = int(IPv6Address("ff02::1:ff00:0"))

#: A box and its interface; None for the provider's side of a line.
_Seat = tuple[Device | None, Port | None]


class _Passing(Value, frozen=True):
    """A packet at a box: as it came, what sent it on, what tracking knows, and whether its connection is a forwarded one."""

    before: Addressed
    sent_on: Forward | OneToOne | None
    known: Tracked | None
    mapped: Addressed | None
    forwarded: bool


def _interface_towards(device: Device, address: IPAddress) -> str:
    """The interface by which a box would send to an address: its own is reached by loopback."""
    if address in device.local or is_loopback(address):
        return LOOPBACK
    line = device.route(address)
    return line.port.name if line is not None else ""


def _forwarded(before: Addressed, packet: Packet, known: Tracked | None) -> bool:
    """Whether the destination of the packet's connection was rewritten here."""
    asked, sent = known if known is not None else (before, packet.addressed)
    return asked[2:] != sent[2:]


def _message(kind: str, source: IPAddress, destination_: IPAddress) -> Packet:
    """A message of neighbour discovery; connection tracking leaves those alone."""
    packet = Packet("icmp", source, 0, destination_, 0, State.UNTRACKED)
    packet.message = kind
    return packet


def _undo_destination(packet: Packet, known: Tracked) -> None:
    """Before routing: whom the connection came from is who the answer goes to."""
    (src, sport, _, _), _after = known
    if packet.inner is not None:
        packet.inner = known[0]
        packet.goes_to(src)
    elif known[0] is not known[1]:
        packet.goes_to(src, sport)


def _undo_source(packet: Packet, known: Tracked) -> None:
    """Behind the filter: whom the connection was made to is who the answer comes from."""
    (_, _, dst, dport), after = known
    if packet.inner is not None:
        if dst != after[2]:
            # The error is made to look like an answer from the address that was asked (RFC 5508 section 4.2).
            packet.comes_from(dst)
    elif known[0] is not after:
        packet.comes_from(dst, dport)
