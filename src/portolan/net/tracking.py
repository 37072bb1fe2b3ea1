"""Connection tracking at one box: what it remembers, what a packet's state is by that, and how translations are undone."""

from portolan.evidence.packet import State
from portolan.net.packet import Addressed, Packet

#: What a box remembers of a connection: as it came in, and as it left.
Tracked = tuple[Addressed, Addressed]


def reply_state(packet: Packet, known: Tracked | None, later: bool, rejecting: bool) -> State:
    if known is not None:
        return State.RELATED if packet.inner is not None or rejecting else State.ESTABLISHED
    # A UDP packet that no connection knows starts one, and so does what follows a TCP answer; the answer itself, and any
    # ICMP error, is invalid.
    return State.NEW if packet.protocol == "udp" or (later and packet.protocol == "tcp") else State.INVALID


def forwarded(before: Addressed, packet: Packet, known: Tracked | None) -> bool:
    """Whether the destination of the packet's connection was rewritten here."""
    asked, sent = known if known is not None else (before, packet.addressed)
    return asked[2:] != sent[2:]


def undo_destination(packet: Packet, known: Tracked) -> None:
    """Before routing: whom the connection came from is who the answer goes to."""
    (src, sport, _, _), _after = known
    if packet.inner is not None:
        packet.inner = known[0]
        packet.goes_to(src)
    elif known[0] is not known[1]:
        packet.goes_to(src, sport)


def undo_source(packet: Packet, known: Tracked) -> None:
    """Behind the filter: whom the connection was made to is who the answer comes from."""
    (_, _, dst, dport), after = known
    if packet.inner is not None:
        if dst != after[2]:
            # The error is made to look like an answer from the address that was asked (RFC 5508 section 4.2).
            packet.comes_from(dst)
    elif known[0] is not after:
        packet.comes_from(dst, dport)
