"""A ping: the echo request's walk, and the reply's walk back (RFC 792; RFC 4443 section 4)."""

from portolan.estate.base import IPAddress
from portolan.evidence.decision import Decision
from portolan.net.connect import send_back, source_towards
from portolan.net.packet import Packet
from portolan.net.topology import Device, Topology
from portolan.net.walk import Walk
from portolan.source.value import Value


class Echo(Value, frozen=True):
    """Whether a ping is answered: by whom, or what keeps it from being answered."""

    by: Device | None
    stop: Decision | None

    @property
    def answered(self) -> bool:
        """Whether the reply comes back."""
        return self.by is not None


def echo(topology: Topology, origin: Device, address: IPAddress) -> Echo:
    """Sends an echo request from a device to an address. Whoever it is delivered to replies, as systems do by default."""
    source = source_towards(origin, address)
    if isinstance(source, Decision):
        return Echo(None, source)
    walk = Walk(topology, origin)
    request = Packet("icmp", source, 0, address, 0)
    request.message = "echo-request"
    asked = request.addressed
    end = walk.go(origin, request)
    if end.how != "delivered":
        return Echo(None, end.decision)
    reply = Packet("icmp", request.dst, 0, request.src, 0)
    reply.message = "echo-reply"
    came = send_back(walk, end, reply)
    if came.how == "delivered" and came.device.seat == origin.seat and reply.src == asked[2]:
        return Echo(end.device, None)
    return Echo(None, came.decision)
