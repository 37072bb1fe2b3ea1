"""What lies between boxes: neighbours and who stands for them, links, the internet, and where a walk ends."""

from ipaddress import IPv6Address

from portolan.estate.base import IPAddress, is_public_value
from portolan.estate.filter import ChainName
from portolan.estate.machine import Router
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import sizes as size_kinds
from portolan.evidence.packet import State
from portolan.net.filtering import through_filter
from portolan.net.packet import Addressed, Packet
from portolan.net.routes import Asking, RouteLine
from portolan.net.rules import Circumstances
from portolan.net.sources import source_at
from portolan.net.topology import Device, Port, Topology, link_local
from portolan.source.value import Value


class End(Value, frozen=True):
    """Where a walk ended: delivered to a device, answered with an error from one, or lost without a word."""

    how: str  # "delivered", "reset", an ICMP kind, or "lost"
    device: Device
    decision: Decision | None


#: The link-local address of a line's other end (RFC 4291 section 2.5.6), and the group of whoever has an address
#: (section 2.7.1).
_PROVIDER = IPv6Address("fe80::1")
_SOLICITED = int(IPv6Address("ff02::1:ff00:0"))

#: What a route that ends makes Linux answer, where that is not "host unreachable".
_SAYS: dict[str | None, str] = {"prohibit": "admin-prohibited"}

#: A box and its interface; None for the provider's side of a line.
_Seat = tuple[Device | None, Port | None]


class Links:
    """Brings a packet from one box to the next, and ends its walk; keeps the decisions.

    `choice` says which of several boxes with one address answers, or which of several addresses a translation takes;
    `twice` how many there were.
    """

    __slots__ = ("assumed", "choice", "decisions", "meant", "met", "out", "size", "topology", "twice")

    def __init__(self, topology: Topology, choice: int) -> None:
        self.topology = topology
        self.choice = choice
        self.twice = 0
        self.decisions: list[Decision] = []
        #: What nothing states: by the box and what it is about.
        self.assumed: dict[tuple[str, str], Decision] = {}
        #: Where a packet of a box's own was meant to go before the box translated it: the filter for what leaves sees the
        #: interface for that (Linux routes such a packet anew, and tells the hook's later chains nothing of it).
        self.meant: IPAddress | None = None
        #: Who has found which neighbour (IPv6), by box and address.
        self.met: set[tuple[str, IPAddress]] = set()
        #: How large the packet is, where that matters, and the line by which the last one left for the internet.
        self.size = 0
        self.out: Port | None = None

    def _assume(self, device: Device, what: str, decision: Decision) -> None:
        self.assumed.setdefault((device.name, what), decision)

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
        neighbour = self.topology.neighbour(port, value, packet.v6)
        if self.topology.twice and neighbour is not None:
            neighbour = self._chosen(device, port.network.name, hop, (value, packet.v6), neighbour, reply)
        if neighbour is None or neighbour.device is device or not neighbour.up or port.network.isolated:
            if neighbour is None or neighbour.device is device:
                neighbour = self._stands_for(device, port, hop, reply)
            missing = self._missing(device, port, hop, neighbour)
            if missing is not None or neighbour is None:
                return self._end(
                    "host-unreachable", device, packet, missing or _absent(device, port, hop, line), before
                )
        if self.size > neighbour.carried:
            return self._lost(device, _vanishes(neighbour, self.size))
        if neighbour.picky and not packet.v6:
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
        if neighbour is None:
            return None
        if not neighbour.up:
            return _down(neighbour, hop)
        network = port.network
        if (
            network.isolated
            and not isinstance(device.stated, Router)
            and not isinstance(neighbour.device.stated, Router)
        ):
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
            held = self.topology.on_link(port.network.name)
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
        if packet.sv not in port.values:
            barred = self._foreign(device, port, packet)
            if barred is not None:
                return barred
        target = self.topology.on_internet(packet.dv, packet.v6)
        if target is not None and self.topology.twice:
            target = self._chosen(device, "internet", packet.dst, (packet.dv, packet.v6), target, reply)
        if target is None:
            return self._lost(device, connect_kinds.InternetUnknown(packet.dst))
        if not target.up:
            return self._lost(device, _down(target, packet.dst))
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
            large = size_kinds.TooLarge(*facts_large, place=target.place.key("mtu"), subject=target.stated)
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

    def _stuck(self, device: Device, packet: Packet, line: RouteLine | None, before: Addressed, silent: bool) -> End:
        """That a packet has no way, or one that ends: in silence, or with the error that Linux sends for it."""
        decision: Decision
        if line is None:
            decision = connect_kinds.NoRoute(device.label, packet.dst, place=device.place, subject=device)
        else:
            ends = str(line.ends)
            decision = connect_kinds.RouteEnds(device.label, packet.dst, ends, place=line.place, subject=device)
        if silent or (line is not None and line.ends == "blackhole"):
            return self._lost(device, decision)
        how = "net-unreachable" if line is None else _SAYS.get(line.ends, "host-unreachable")
        return self._end(how, device, packet, decision, before)

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


def way_back(device: Device, packet: Packet) -> RouteLine | None:
    """The line by which an answer to a packet's source would leave: asked as Linux asks it, without mark or interface."""
    return device.route_to(packet.sv, packet.v6, Asking(packet.dv, packet.sv, packet.v6) if device.ruled else None)


def astray(entering: Port, packet: Packet) -> Decision | None:
    """Reverse-path filtering (RFC 3704): that an answer to a packet's source would not leave by where it came in."""
    device, stated = entering.device, entering.stated
    line = way_back(device, packet)
    if line is not None and line.ends is None and (entering.reverse_path == "loose" or line.port is entering):
        return None
    place = (stated if stated is not None and stated.reverse_path else device.stated).place
    would = "no interface" if line is None or line.ends is not None else line.port.name
    facts = (device.label, packet.src, entering.name, would)
    return connect_kinds.ReversePath(*facts, place=place.key("reverse_path"), subject=device.stated)


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
        return size_kinds.VanishesOnLink(*facts, place=network.place.key("mtu"), subject=network)
    facts = (f"{port.device.label}'s interface {port.name}", size, port.carried)
    return size_kinds.VanishesOnLink(*facts, place=port.place.key("mtu"), subject=port.stated)


def _deaf(device: Device, port: Port, hop: IPAddress, neighbour: Port, packet: Packet) -> Decision | None:
    """Why a neighbour does not answer who looks for it (ARP): it would answer by another interface, and takes no such packet.

    Who asks says its packet's source where that is its own, else its own address there (arp_announce).
    """
    asker = packet.src if packet.src in device.local else source_at(port, hop)
    if asker is None:
        return None
    return astray(neighbour, Packet("udp", asker, 0, hop, 0))


def _down(port: Port, address: IPAddress) -> Decision:
    facts = (port.device.label, port.name, address)
    return connect_kinds.InterfaceDown(*facts, place=port.place.key("up"), subject=port.stated)


def _absent(device: Device, port: Port, hop: IPAddress, line: RouteLine) -> Decision:
    return connect_kinds.NeighbourMissing(port.network.name, hop, device.label, place=line.place, subject=port.network)


def _message(kind: str, source: IPAddress, destination_: IPAddress) -> Packet:
    """A message of neighbour discovery; connection tracking leaves those alone."""
    packet = Packet("icmp", source, 0, destination_, 0, State.UNTRACKED)
    packet.message = kind
    return packet
