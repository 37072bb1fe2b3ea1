"""A packet on its way; rewritten at every box that translates it."""

from portolan.estate.base import IPAddress
from portolan.evidence.packet import Seen, State

#: The client's port where nothing states its range: the first that Linux takes (ip_local_port_range).
EPHEMERAL = 32768

Addressed = tuple[IPAddress, int, IPAddress, int]


class Packet:
    """Source and destination as they stand now, and what connection tracking makes of it.

    The addresses' numbers are kept beside them: boxes compare numbers, people read addresses.
    """

    __slots__ = ("addressed", "dport", "dst", "dv", "inner", "message", "protocol", "sport", "src", "state", "sv", "v6")

    def __init__(
        self, protocol: str, src: IPAddress, sport: int, dst: IPAddress, dport: int, state: State = State.NEW
    ) -> None:
        self.protocol = protocol
        self.src = src
        self.sv = int(src)
        self.sport = sport
        self.dst = dst
        self.dv = int(dst)
        self.dport = dport
        self.state = state
        self.v6 = dst.version == 6
        #: For an ICMP error: the packet that it is about, as its sender saw it.
        self.inner: Addressed | None = None
        #: For ICMP: the kind of message, as rules name it.
        self.message: str | None = None
        #: Source, source port, destination, destination port.
        self.addressed: Addressed = (src, sport, dst, dport)

    def comes_from(self, address: IPAddress, port: int | None = None) -> None:
        """Rewrites the source."""
        self.src, self.sv = address, int(address)
        if port is not None:
            self.sport = port
        self.addressed = (address, self.sport, self.dst, self.dport)

    def goes_to(self, address: IPAddress, port: int | None = None) -> None:
        """Rewrites the destination."""
        self.dst, self.dv = address, int(address)
        if port is not None:
            self.dport = port
        self.addressed = (self.src, self.sport, address, self.dport)

    def seen(self) -> Seen:
        """The packet as it is now."""
        return Seen(self.protocol if self.message is None else self.message, self.src, self.dst, self.dport, self.state)
