"""Large packets: what two ends agree on, what each box and link carries, and whether the word of a smaller MTU gets back.

RFC 9293 section 3.7.1 (largest segment), RFC 1191 and RFC 8201 (path MTU discovery), RFC 2923 section 2.1 (what becomes of a
connection where the word does not get back).
"""

from portolan.estate.network import USUAL_MTU
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import sizes as size_kinds
from portolan.evidence.legs import Fits
from portolan.evidence.packet import State
from portolan.net.links import End
from portolan.net.packet import Addressed, Packet
from portolan.net.walk import Walk

#: IP and TCP headers without options, by IPv6 or not.
_HEADERS = {False: 40, True: 60}
#: So often a sender is told of a smaller MTU.
_MOST_TOLD = 8


def fitting(walk: Walk, end: End, packet: Packet, asked: Addressed) -> Fits | None:
    """What keeps large packets of an answer from arriving, and how much passes; None where all arrive.

    `packet` is the question as it was delivered, `asked` as it was sent.
    """
    headers = _HEADERS[packet.v6]
    line = walk.origin.route_to(int(asked[2]), packet.v6)
    largest = line.carries if line is not None else USUAL_MTU
    for box, entering, out in walk.passages:
        if box.machine is not None and box.machine.clamp_mss and entering is not None:
            largest = min(largest, entering.mtu, out.carries)
    back = end.device.route_to(packet.sv, packet.v6)
    size = min(largest, back.carries) if back is not None else largest
    kept, trail, assumed = len(walk.decisions), len(walk.trail), dict(walk.assumed)
    walk.later = True
    try:
        for _ in range(_MOST_TOLD):
            stop, limit, told = _sent(walk, end, packet, size)
            if stop is None:
                return None
            if told is not None:
                return Fits(limit - headers, told)
            size = limit
    finally:
        walk.size = 0
        walk.assumed = assumed
        del walk.decisions[kept:], walk.trail[trail:]
    return None


def _sent(walk: Walk, end: End, packet: Packet, size: int) -> tuple[Decision | None, int, Decision | None]:
    """One large packet of the answer: what stopped it, the size that would pass, and why its sender does not hear of that."""
    walk.size = size
    data = Packet(packet.protocol, packet.dst, packet.dport, packet.src, packet.sport)
    came = walk.go(end.device, data, reply=True)
    walk.size = 0
    decision = came.decision
    if isinstance(decision, size_kinds.VanishesOnLink):
        return decision, decision.limit, decision
    if not isinstance(decision, size_kinds.TooLarge):
        return None, size, None
    word = Packet("icmp", data.dst, 0, data.src, 0, State.RELATED)
    word.inner = data.addressed
    word.message = "packet-too-big" if data.v6 else "destination-unreachable"
    if came.how == "too-large":
        own = came.device.source_for(data.src)
        if own is not None:
            word.comes_from(own)
        heard = walk.go(came.device, word, reply=True)
    else:
        # The provider's router says it: the word comes in where the packet went out.
        heard = walk.go(came.device, word, True, walk.out)
    if heard.how == "delivered" and heard.device is end.device:
        return decision, decision.limit, None
    why = heard.decision.text if heard.decision is not None else f"it ends at {heard.device.label}"
    place = heard.decision.place if heard.decision is not None else decision.place
    facts = (decision.box, decision.size, decision.limit, end.device.label, why)
    subject = heard.decision.subject if heard.decision is not None else decision.subject
    return (
        decision,
        decision.limit,
        size_kinds.WordOfSizeLost(*facts, place=place, subject=subject, beside=(decision,)),
    )
