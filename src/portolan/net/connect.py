"""A connection: the question's walk, the listener that takes it, and the answer's walk back."""

from ipaddress import IPv4Address, IPv6Address

from portolan.estate.base import IPAddress, is_loopback
from portolan.estate.machine import Machine
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.legs import Arrival, Connection
from portolan.evidence.outcome import Detail
from portolan.evidence.packet import State
from portolan.net import law
from portolan.net.links import End, way_back
from portolan.net.packet import EPHEMERAL, Addressed, Packet
from portolan.net.sizes import fitting
from portolan.net.sources import source_by
from portolan.net.topology import Device, Topology
from portolan.net.walk import Walk

_HERE: dict[int, IPAddress] = {4: IPv4Address("127.0.0.1"), 6: IPv6Address("::1")}


def connect(topology: Topology, origin: Device, address: IPAddress, port: int, protocol: str = "tcp") -> Connection:
    """Tries to connect from a device to an address and port, there and back.

    Where several boxes have one address, each is tried; what is told is a case in which it fails, if there is one.
    """
    if not int(address):
        # "This host on this network" as a destination is the machine itself (RFC 1122 section 3.2.1.3; so does Linux).
        address = _HERE[address.version]
    found, ways = _tried(topology, origin, address, port, protocol, 0)
    for choice in range(1, ways):
        other, _ = _tried(topology, origin, address, port, protocol, choice)
        if found.detail is None and (other.detail is not None or other.reached is not found.reached):
            return other
    return found


def _tried(
    topology: Topology, origin: Device, address: IPAddress, port: int, protocol: str, choice: int
) -> tuple[Connection, int]:
    walk = Walk(topology, origin, choice)
    source = source_towards(origin, address)
    if isinstance(source, Decision):
        return Connection(address, port, Detail.UNREACHABLE, (source,), stop=source), 0
    stated = origin.stated
    client = stated.client_ports.first if isinstance(stated, Vantage) else EPHEMERAL
    packet = Packet(protocol, source, client, address, port)
    asked = packet.addressed
    end = walk.go(origin, packet)
    seen_from = packet.src
    arrival: Arrival | None = None
    reached = None
    if end.how == "delivered":
        reached = end.device.stated if isinstance(end.device.stated, Machine) else None
        arrival, decision = _listener(end.device, packet)
        walk.decisions.append(decision)
        how = "open" if arrival is not None else "reset" if protocol == "tcp" else "port-unreachable"
        end = End(how, end.device, decision)
    detail = _answered(walk, end, packet, asked)
    stop = None
    if detail is not None:
        stop = next((each for each in reversed(walk.decisions) if each.stops), None)
        arrival = None
    decisions = (*walk.decisions, *walk.assumed.values())
    fits = None
    if topology.sized and arrival is not None and protocol == "tcp":
        fits = fitting(walk, end, packet, asked)
    return Connection(
        address, port, detail, decisions, arrival, reached, stop, seen_from, tuple(walk.trail), fits
    ), walk.twice


def source_towards(origin: Device, address: IPAddress) -> IPAddress | Decision:
    """The address that a device sends from, or why it sends nothing."""
    if address in origin.local or is_loopback(address):
        return address
    line = origin.route(address)
    if line is None:
        return connect_kinds.NoRoute(origin.label, address, place=origin.place, subject=origin)
    if line.ends is not None:
        return connect_kinds.RouteEnds(origin.label, address, line.ends, place=line.place, subject=origin)
    source = source_by(origin, line, address)
    return source or connect_kinds.NoSource(origin.label, address.version, place=origin.place, subject=origin)


def _listener(device: Device, packet: Packet) -> tuple[Arrival | None, Decision]:
    binding = device.sockets.choose(packet.dst, packet.dport, packet.protocol)
    if binding is not None and isinstance(device.stated, Machine):
        service = binding.service
        arrival = Arrival(device.stated, service, binding.listener, packet.dst, packet.dport, packet.src)
        return arrival, connect_kinds.Listens(
            device.label, service.name, binding.listener, place=binding.listener.place, subject=service
        )
    would = device.sockets.would(packet.dst, packet.dport, packet.protocol)
    if would is None:
        facts = (device.label, packet.protocol, packet.dport, packet.dst)
        return None, connect_kinds.NothingListens(*facts, place=device.place, subject=device.stated)
    binding, failure = would
    if failure is None:
        place = binding.service.place.key("state")
        return None, connect_kinds.ServiceStopped(
            device.label, binding.service.name, binding.listener, place=place, subject=binding.service
        )
    facts_failed = (device.label, binding.service.name, binding.listener, failure.reason)
    return None, connect_kinds.ServiceFailed(*facts_failed, place=binding.listener.place, subject=binding.service)


def _answered(walk: Walk, end: End, packet: Packet, asked: Addressed) -> Detail | None:
    """Walks the answer back; the connection's error, or None when it opens."""
    if end.how == "lost":
        return Detail.TIMED_OUT
    result = None if end.how == "open" else Detail.REFUSED if end.how == "reset" else law.ICMP_RESULT[end.how]
    if end.device is walk.origin and _stays(walk, end):
        return result
    if end.how in ("open", "reset"):
        answer = Packet(packet.protocol, packet.dst, packet.dport, packet.src, packet.sport)
    else:
        speaker = _speaker(walk, end.device, packet)
        answer = Packet("icmp", speaker, 0, packet.src, 0)
        # An error about a packet that the box gave another source speaks of it as it was then: the box's tracking undoes it.
        answer.inner = packet.addressed if walk.meant is None else _as_sent(walk, end.device, packet)
        answer.message = "time-exceeded" if end.how == "time-exceeded" else "destination-unreachable"
    kept = len(walk.decisions)
    answer_end = send_back(walk, end, answer)
    back = tuple(walk.decisions[kept:])
    del walk.decisions[kept:]
    if answer_end.how == "delivered" and answer_end.device.seat == walk.origin.seat:
        right = (
            answer.inner == asked if answer.inner is not None else (answer.src, answer.sport) == (asked[2], asked[3])
        )
        if right:
            _doubt_ways_back(walk)
            return _followed(walk, end, packet, asked) if end.how == "open" else result
        came, meant = _spoken(answer.src, answer.sport), _spoken(asked[2], asked[3])
        if answer.inner is not None or answer.src != asked[2]:
            came, meant = str(answer.src), str(asked[2])
        lost: Decision = connect_kinds.ReplyStranger(
            walk.origin.label, came, meant, place=end.device.place, subject=end.device, beside=back
        )
    elif answer_end.decision is not None:
        lost = answer_end.decision
        if not isinstance(lost, connect_kinds.ReplyStranger):
            lost = connect_kinds.ReplyLost(lost.text, place=lost.place, subject=lost, beside=back)
    else:
        lost = connect_kinds.ReplyAstray(
            answer_end.device.label, place=answer_end.device.place, subject=answer_end.device, beside=back
        )
    walk.decisions.append(lost)
    return Detail.TIMED_OUT


def _doubt_ways_back(walk: Walk) -> None:
    """Tells where a box got a packet by another interface than it would answer by, and does not say what it makes of that."""
    if not walk.unsaid:
        return
    left = {(hop[0], hop[4], hop[6]) for hop in walk.trail}
    for device, port, before, reply in walk.unsaid:
        if (device.label, port.name, not reply) in left:
            continue  # the other direction went that way
        line = way_back(device, Packet("tcp", *before))
        if line is None or line.port is not port:
            would = "no interface" if line is None else line.port.name
            facts = (device.label, before[0], port.name, would)
            told = connect_kinds.ReversePathAssumed(*facts, place=device.place, subject=device.stated)
            walk.assumed.setdefault((device.name, "reverse path"), told)


def _stays(walk: Walk, end: End) -> bool:
    """Whether the answer is the machine's own knowledge, or passes nothing that could stop it: it left by no interface."""
    if any(hop[4] is not None for hop in walk.trail):
        return False
    known_here = (
        connect_kinds.NoRoute
        | connect_kinds.RouteEnds
        | connect_kinds.NeighbourMissing
        | connect_kinds.NeighbourUnheard
        | connect_kinds.TurnsInCircles
    )
    return walk.origin.filter is None or isinstance(end.decision, known_here)


def _followed(walk: Walk, end: End, packet: Packet, asked: Addressed) -> Detail | None:
    """What the visitor sends next, and the server's words, where boxes saw only one direction, or ask their rules each time."""
    # Boxes by their passages: one that is passed twice has two connections, and may have seen the answer of one.
    there = sorted(each[0] for each in walk.trail if not each[6])
    back = sorted(each[0] for each in walk.trail if each[6])
    if (there == back and not walk.stateless) or packet.protocol != "tcp":
        return None
    kept, trail = len(walk.decisions), len(walk.trail)
    walk.later = True
    request = Packet("tcp", *asked, State.ESTABLISHED)
    forth = walk.go(walk.origin, request)
    lost: Decision | None = None
    cut = forth.how == "reset" and _told(walk, forth, request, asked)
    if forth.how != "delivered" or forth.device is not end.device or request.addressed != packet.addressed:
        lost = forth.decision or connect_kinds.ReplyAstray(
            forth.device.label, place=forth.device.place, subject=forth.device
        )
    else:
        data = Packet("tcp", packet.dst, packet.dport, packet.src, packet.sport)
        came = walk.go(end.device, data, reply=True)
        if came.how != "delivered" or came.device.seat != walk.origin.seat:
            lost = came.decision or connect_kinds.ReplyAstray(
                came.device.label, place=came.device.place, subject=came.device
            )
        elif (data.src, data.sport) != (asked[2], asked[3]):
            facts = (walk.origin.label, _spoken(data.src, data.sport), _spoken(asked[2], asked[3]))
            lost = connect_kinds.ReplyStranger(*facts, place=end.device.place, subject=end.device)
            # The visitor's system knows no such connection and resets it; where that reaches the server, all is over.
            reset = Packet("tcp", asked[0], asked[1], data.src, data.sport)
            ended = walk.go(walk.origin, reset, reply=True)
            cut = ended.how == "delivered" and ended.device is end.device and reset.addressed == packet.addressed
    del walk.decisions[kept:], walk.trail[trail:]
    if lost is None:
        return None
    kind = connect_kinds.LaterRejected if cut else connect_kinds.LaterLost
    walk.decisions.append(kind(lost.text, place=lost.place, subject=lost))
    return Detail.CUT_OFF if cut else Detail.STALLED


def _spoken(address: IPAddress, port: int) -> str:
    return f"{address} port {port}"


def _told(walk: Walk, end: End, packet: Packet, asked: Addressed) -> bool:
    """Whether the reset by which a box rejects a packet of an open connection reaches whoever sent it."""
    answer = Packet("tcp", packet.dst, packet.dport, packet.src, packet.sport)
    came = send_back(walk, end, answer)
    right = came.how == "delivered" and came.device is walk.origin
    return right and (answer.src, answer.sport) == (asked[2], asked[3])


def _speaker(walk: Walk, device: Device, packet: Packet) -> IPAddress:
    """The address that a box reports an error from: the one asked if it is its own, else its way back's.

    About a packet that it gave another source the box speaks to that source first, and its tracking sends that on.
    """
    if walk.meant is not None:
        if walk.meant in device.local:
            return walk.meant
        return device.source_for(walk.meant) or packet.dst
    if packet.dst in device.local or is_loopback(packet.dst):
        return packet.dst
    own = device.source_for(packet.src)
    return own or next((each for each in device.local if each.version == packet.src.version), packet.dst)


def _as_sent(walk: Walk, device: Device, packet: Packet) -> Addressed:
    """A packet as a box sent it on, by the box's tracking."""
    sent = (after for before, after in walk.tracked.get(device.name, ()) if before == packet.addressed)
    return next(sent, packet.addressed)


def send_back(walk: Walk, end: End, answer: Packet) -> End:
    """The answer's walk. The box that answers knows the connection: its own part is established or related.

    What was delivered there is undone as it was done (a forward to the box itself, say); an error from midway speaks of
    the packet as it came in.
    """
    device = end.device
    asked = answer.inner or (answer.dst, answer.dport, answer.src, answer.sport)
    if all(tracked[1] != asked for tracked in walk.tracked.get(device.name, ())):
        walk.remember(device, asked, asked)
    return walk.go(device, answer, reply=True)
