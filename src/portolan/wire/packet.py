"""A packet on its way; rewritten at every box that translates it."""

from typing import NamedTuple

from portolan.estate.base import IPAddress

#: The client's port in every walk; from the range of RFC 6335 section 6.
EPHEMERAL = 50000

Addressed = tuple[IPAddress, int, IPAddress, int]


class Seen(NamedTuple):
    """A packet as it was at some moment, for showing."""

    protocol: str
    src: IPAddress
    dst: IPAddress
    dport: int

    def __str__(self) -> str:
        if self.protocol == "icmp":
            return f"ICMP error {self.src} -> {self.dst}"
        return f"{self.protocol} {self.src} -> {self.dst} port {self.dport}"

    def __format__(self, spec: str) -> str:
        return format(str(self), spec)


class Packet:
    """Source and destination as they stand now, and what connection tracking makes of it."""

    __slots__ = ("dport", "dst", "inner", "protocol", "sport", "src", "state")

    def __init__(
        self, protocol: str, src: IPAddress, sport: int, dst: IPAddress, dport: int, state: str = "new"
    ) -> None:
        self.protocol = protocol
        self.src = src
        self.sport = sport
        self.dst = dst
        self.dport = dport
        self.state = state
        #: For an ICMP error: the packet that it is about, as its sender saw it.
        self.inner: Addressed | None = None

    @property
    def addressed(self) -> Addressed:
        """Source, source port, destination, destination port."""
        return self.src, self.sport, self.dst, self.dport

    def seen(self) -> Seen:
        """The packet as it is now."""
        return Seen(self.protocol, self.src, self.dst, self.dport)
