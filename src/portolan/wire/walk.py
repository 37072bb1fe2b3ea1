"""The walk itself: a packet from box to box, and its answer back.

At each box, in this order: security groups at the interface, connection tracking, destination NAT (first match),
routing, filter, source NAT. Later packets and answers follow the tracked state, not the rules. An answer that meets a
box which does not know its connection is an invalid packet there: nothing translates it.
"""

from typing import NamedTuple

from portolan.estate.base import IPAddress, is_loopback, is_public
from portolan.estate.machine import Forward, Machine
from portolan.evidence.decision import Decision
from portolan.evidence.results import Arrival, Connection
from portolan.wire import law
from portolan.wire.filtering import ChainName, through_filter, through_groups
from portolan.wire.packet import EPHEMERAL, Addressed, Packet
from portolan.wire.topology import Device, Port, RouteLine, Topology

_MOST_HOPS = 64  # the time to live that Linux sends


class Tracked(NamedTuple):
    """What a box remembers of a connection: as it came in, and as it left."""

    before: Addressed
    after: Addressed


class End(NamedTuple):
    """Where a walk ended: delivered to a device, answered with an error from one, or lost without a word."""

    how: str  # "delivered", "reset", an ICMP kind, or "lost"
    device: Device
    decision: Decision | None


class Walk:
    """One connection's packets; keeps the decisions and what every box on the way remembers."""

    def __init__(self, topology: Topology, origin: Device) -> None:
        self.topology = topology
        self.origin = origin
        self.decisions: list[Decision] = []
        self.tracked: dict[str, Tracked] = {}

    def go(self, device: Device, packet: Packet, reply: bool = False) -> End:
        """Walks a packet from a device that sends it, until it ends. The packet is rewritten on the way."""
        entering: Port | None = None
        for _ in range(_MOST_HOPS):
            step = self._box(device, packet, entering, reply)
            if isinstance(step, End):
                return step
            device, entering = step.device, step
        decision = Decision(law.TURNS_IN_CIRCLES, (device.label,), device.place, device)
        return self._end("time-exceeded", device, packet, decision, None)

    def _box(self, device: Device, packet: Packet, entering: Port | None, reply: bool) -> "End | Port":
        """One box: the end of the walk, or the port of the next box that the packet arrives at."""
        known = self._known(device, packet) if reply else None
        if reply:
            packet.state = _reply_state(packet, known)
        if entering is not None:
            barred = self._groups(entering, packet, inbound=True)
            if barred is not None:
                return barred
            if packet.src.version == 4 and packet.src in device.local:
                return self._lost(device, Decision(law.OWN_SOURCE, (device.label, packet.src), device.place, device))
        before = packet.addressed
        forward: Forward | None = None
        if known is not None:
            _untranslate(packet, known)
        elif entering is not None and device.is_router and packet.state == "new":
            forward = self._destination_nat(device, packet, entering)
        if packet.dst in device.local or is_loopback(packet.dst):
            return self._deliver(device, packet, entering, before, forward is not None)
        if entering is not None and not device.is_router:
            return self._lost(device, Decision(law.NOT_A_ROUTER, (device.label, packet.dst), device.place, device))
        line = device.route(packet.dst)
        if line is None:
            return self._end("net-unreachable", device, packet,
                             Decision(law.NO_ROUTE, (device.label, packet.dst), device.place, device), before)  # fmt: skip
        barred = self._filter(device, packet, entering, line.port, before, forward is not None)
        if barred is not None:
            return barred
        if not reply or (known is None and packet.state == "new"):
            self._source_nat(device, packet, entering, line, forward)
            self.tracked.setdefault(device.name, Tracked(before, packet.addressed))
        barred = self._groups(line.port, packet, inbound=False)
        if barred is not None:
            return barred
        return self._next(device, packet, line, entering, before)

    # -- the stations of a box -----------------------------------------------------------------------------------

    def _known(self, device: Device, packet: Packet) -> Tracked | None:
        tracked = self.tracked.get(device.name)
        if tracked is None:
            return None
        src, sport, dst, dport = tracked.after
        if packet.inner is not None:
            return tracked if packet.inner == tracked.after else None
        return tracked if packet.addressed == (dst, dport, src, sport) else None

    def _groups(self, port: Port, packet: Packet, inbound: bool) -> End | None:
        decision = through_groups(self.topology, port, packet, inbound)
        if decision is None:
            return None
        if decision.law is law.GROUP_DROPS:
            return self._lost(port.device, decision)
        self.decisions.append(decision)
        return None

    def _filter(self, device: Device, packet: Packet, entering: Port | None, leaving: Port | None, before: Addressed,
                forwarded: bool) -> End | None:  # fmt: skip
        name: ChainName = "outbound" if entering is None else "inbound" if leaving is None else "forward"
        verdict, decision, rule = through_filter(device, name, packet, entering, leaving, forwarded)
        if decision is None:
            return None
        if verdict == "allow":
            self.decisions.append(decision)
            return None
        if verdict == "drop":
            return self._lost(device, decision)
        answer: str = (rule.answer if rule is not None else None) or "port-unreachable"
        if answer == "tcp-reset":
            answer = "reset"
        return self._end(answer, device, packet, decision, before)

    def _destination_nat(self, device: Device, packet: Packet, entering: Port) -> Forward | None:
        """The first forward that takes a new packet to one of the outside interface's own addresses."""
        for forward in device.forwards:
            if not forward.enabled or forward.protocol != packet.protocol or packet.dport not in forward.outside:
                continue
            outside = device.local.get(packet.dst)
            if outside is None or outside.name != forward.on or packet.dst.version != forward.to.version:
                continue
            if entering is not outside and device.hairpin == "off":
                continue
            if forward.sources and not any(packet.src in net for net in forward.sources):
                continue
            asked = packet.dport
            packet.dst = forward.to
            if forward.port is not None:
                packet.dport = forward.port + asked - forward.outside.first
            self.decisions.append(Decision(
                law.FORWARDED, (device.label, packet.protocol, asked, packet.dst, packet.dport), forward.place, forward
            ))  # fmt: skip
            return forward
        return None

    def _deliver(
        self, device: Device, packet: Packet, entering: Port | None, before: Addressed, forwarded: bool
    ) -> End:
        if is_loopback(packet.dst) and entering is not None:
            return self._lost(device, Decision(law.NOT_A_ROUTER, (device.label, packet.dst), device.place, device))
        if entering is not None:
            barred = self._filter(device, packet, entering, None, before, forwarded)
            if barred is not None:
                return barred
        else:
            self.decisions.append(Decision(law.OWN, (packet.dst, device.label), device.place, device))
        self.tracked.setdefault(device.name, Tracked(before, packet.addressed))
        return End("delivered", device, None)

    def _source_nat(
        self, device: Device, packet: Packet, entering: Port | None, line: RouteLine, forward: Forward | None
    ) -> None:
        out = line.port
        if forward is not None and device.hairpin == "full" and out is entering:
            address = out.source_for(line.via or packet.dst)
            if address is not None:
                packet.src = address
                self.decisions.append(
                    Decision(law.HAIRPIN, (device.label, address), device.place.key("hairpin"), device)
                )
        elif packet.src.version == 4 and out.name in device.masquerade:
            address = out.source_for(line.via or packet.dst)
            if address is not None and packet.src != address:
                packet.src = address
                self.decisions.append(
                    Decision(law.MASQUERADED, (device.label, address), device.place.key("masquerade"), device)
                )

    def _next(
        self, device: Device, packet: Packet, line: RouteLine, entering: Port | None, before: Addressed
    ) -> "End | Port":
        port = line.port
        if entering is None:
            self.decisions.append(
                Decision(law.SENT, (device.label, packet.src, packet.dst, line), line.place, port.stated or device)
            )
        elif device.is_router:
            self.decisions.append(Decision(law.PASSED_ON, (device.label, line), line.place, port.stated))
        if line.via is None and port.network.kind == "internet":
            return self._over_internet(device, packet)
        hop = line.via or packet.dst
        neighbour = self.topology.on_link[port.network.name].get(hop)
        if neighbour is None or neighbour.device is device:
            decision = Decision(law.NEIGHBOUR_MISSING, (port.network.name, hop, device.label), line.place, port.network)
            return self._end("host-unreachable", device, packet, decision, before)
        return neighbour

    def _over_internet(self, device: Device, packet: Packet) -> "End | Port":
        if not is_public(packet.dst):
            return self._lost(device, Decision(law.INTERNET_PRIVATE, (packet.dst,), device.place, device))
        if not is_public(packet.src):
            return self._lost(device, Decision(law.SOURCE_PRIVATE, (packet.src,), device.place, device))
        target = self.topology.on_internet(packet.dst)
        if target is None or target.device is device:
            return self._lost(device, Decision(law.INTERNET_UNKNOWN, (packet.dst,), None, None))
        self.decisions.append(Decision(law.INTERNET_CARRIES, (target.device.label,), target.place, target.stated))
        return target

    # -- ends ----------------------------------------------------------------------------------------------------

    def _lost(self, device: Device, decision: Decision) -> End:
        self.decisions.append(decision)
        return End("lost", device, decision)

    def _end(self, how: str, device: Device, packet: Packet, decision: Decision, before: Addressed | None) -> End:
        self.decisions.append(decision)
        if before is not None:
            # The box itself undoes its own translation when it answers.
            packet.src, packet.sport, packet.dst, packet.dport = before
        return End(how, device, decision)


def _reply_state(packet: Packet, known: Tracked | None) -> str:
    if known is not None:
        return "related" if packet.inner is not None else "established"
    # A UDP packet that no connection knows starts one; anything of TCP but a SYN, and any ICMP error, is invalid.
    return "new" if packet.protocol == "udp" else "invalid"


def _untranslate(packet: Packet, known: Tracked) -> None:
    src, sport, dst, dport = known.before
    if packet.inner is not None:
        packet.inner = known.before
        packet.dst = src
        if dst != known.after[2]:
            # The error is made to look like an answer from the address that was asked (RFC 5508 section 4.2).
            packet.src = dst
    else:
        packet.src, packet.sport, packet.dst, packet.dport = dst, dport, src, sport


def connect(topology: Topology, origin: Device, address: IPAddress, port: int, protocol: str = "tcp") -> Connection:
    """Tries to connect from a device to an address and port, there and back."""
    walk = Walk(topology, origin)
    source = _source(origin, address)
    if isinstance(source, Decision):
        walk.decisions.append(source)
        return Connection(address, port, "unreachable", tuple(walk.decisions), stop=source)
    packet = Packet(protocol, source, EPHEMERAL, address, port)
    asked = packet.addressed
    end = walk.go(origin, packet)
    seen_from = packet.src
    arrival: Arrival | None = None
    reached = None
    if end.how == "delivered":
        reached = end.device.stated if isinstance(end.device.stated, Machine) else None
        arrival, decision = _listener(end.device, packet)
        walk.decisions.append(decision)
        end = End(
            "open" if arrival is not None else "reset" if protocol == "tcp" else "port-unreachable",
            end.device,
            decision,
        )
    detail = _answered(walk, end, packet, asked)
    stop = None
    if detail is not None:
        stop = next((each for each in reversed(walk.decisions) if each.law.stops), None)
        arrival = None
    return Connection(address, port, detail, tuple(walk.decisions), arrival, reached, stop, seen_from)


def _source(origin: Device, address: IPAddress) -> IPAddress | Decision:
    if address in origin.local or is_loopback(address):
        return address
    line = origin.route(address)
    if line is None:
        return Decision(law.NO_ROUTE, (origin.label, address), origin.place, origin)
    source = line.port.source_for(line.via or address)
    if source is None:
        source = next((each for each in origin.local if each.version == address.version), None)
    return source or Decision(law.NO_SOURCE, (origin.label, address.version), origin.place, origin)


def _listener(device: Device, packet: Packet) -> tuple[Arrival | None, Decision]:
    binding = device.sockets.choose(packet.dst, packet.dport, packet.protocol)
    if binding is not None and isinstance(device.stated, Machine):
        service = binding.service
        arrival = Arrival(device.stated, service, binding.listener, packet.dst, packet.dport, packet.src)
        return arrival, Decision(
            law.LISTENS, (device.label, service.name, binding.listener), binding.listener.place, service
        )
    would = device.sockets.would(packet.dst, packet.dport, packet.protocol)
    if would is None:
        facts = (device.label, packet.protocol, packet.dport, packet.dst)
        return None, Decision(law.NOTHING_LISTENS, facts, device.place, device.stated)
    binding, failure = would
    if failure is None:
        place = binding.service.place.key("state")
        return None, Decision(
            law.SERVICE_STOPPED, (device.label, binding.service.name, binding.listener), place, binding.service
        )
    facts_failed = (device.label, binding.service.name, binding.listener, failure.reason)
    return None, Decision(law.SERVICE_FAILED, facts_failed, binding.listener.place, binding.service)


def _answered(walk: Walk, end: End, packet: Packet, asked: Addressed) -> str | None:
    """Walks the answer back; the connection's error, or None when it opens."""
    if end.how == "lost":
        return "timed-out"
    result = (
        {"open": None, "reset": "refused"}.get(end.how) if end.how in ("open", "reset") else law.ICMP_RESULT[end.how]
    )
    if end.device is walk.origin:
        return result
    if end.how in ("open", "reset"):
        answer = Packet(packet.protocol, packet.dst, packet.dport, packet.src, packet.sport)
    else:
        speaker = _speaker(end.device, packet)
        answer = Packet("icmp", speaker, 0, packet.src, 0)
        answer.inner = packet.addressed
    kept = len(walk.decisions)
    answer_end = _send_back(walk, end, answer)
    if answer_end.how == "delivered" and answer_end.device is walk.origin:
        right = (
            answer.inner == asked if answer.inner is not None else (answer.src, answer.sport) == (asked[2], asked[3])
        )
        del walk.decisions[kept:]
        if right:
            return result
        lost = Decision(law.REPLY_STRANGER, (walk.origin.label, answer.src, asked[2]), end.device.place, end.device)
    elif answer_end.decision is not None:
        del walk.decisions[kept:]
        lost = answer_end.decision
        if lost.law is not law.REPLY_STRANGER:
            lost = Decision(law.REPLY_LOST, (lost.text,), lost.place, lost)
    else:
        del walk.decisions[kept:]
        lost = Decision(law.REPLY_ASTRAY, (answer_end.device.label,), answer_end.device.place, answer_end.device)
    walk.decisions.append(lost)
    return "timed-out"


def _speaker(device: Device, packet: Packet) -> IPAddress:
    """The address that a box reports an error from: the one asked if it is its own, else its way back's."""
    if packet.dst in device.local:
        return packet.dst
    line = device.route(packet.src)
    own = line.port.source_for(line.via or packet.src) if line is not None else None
    return own or next((each for each in device.local if each.version == packet.src.version), packet.dst)


def _send_back(walk: Walk, end: End, answer: Packet) -> End:
    """The answer's walk. The box that answers knows the connection: its own part is established or related.

    What was delivered there is undone as it was done (a forward to the box itself, say); an error from midway speaks of
    the packet as it came in.
    """
    device = end.device
    asked = answer.inner or (answer.dst, answer.dport, answer.src, answer.sport)
    tracked = walk.tracked.get(device.name)
    if tracked is None or tracked.after != asked:
        walk.tracked[device.name] = Tracked(asked, asked)
    return walk.go(device, answer, reply=True)
