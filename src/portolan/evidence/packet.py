"""A packet as decisions show it."""

from enum import StrEnum

from portolan.estate.base import IPAddress
from portolan.source.value import Value


class State(StrEnum):
    """What connection tracking makes of a packet, in the words of the estate's rules."""

    NEW = "new"
    ESTABLISHED = "established"
    RELATED = "related"
    INVALID = "invalid"
    UNTRACKED = "untracked"


class Seen(Value, frozen=True):
    """A packet as it was at some moment, for showing."""

    protocol: str
    src: IPAddress
    dst: IPAddress
    dport: int
    state: State = State.NEW

    def __str__(self) -> str:
        if self.protocol not in ("tcp", "udp"):
            return f"ICMP {self.protocol} {self.src} -> {self.dst}"
        return f"{self.protocol} {self.src} -> {self.dst} port {self.dport}"

    def __format__(self, spec: str) -> str:
        return format(str(self), spec)
