"""Filters: ordered rules with a default, for what comes in, passes through and goes out."""

from typing import Annotated, Literal

import msgspec

from portolan.estate.base import IPNetwork, PortRange, Stated, says

Protocol = Literal["tcp", "udp", "icmp", "any"]
State = Literal["new", "established", "related", "invalid"]
Answer = Literal[
    "tcp-reset",
    "port-unreachable",
    "host-unreachable",
    "net-unreachable",
    "host-prohibited",
    "net-prohibited",
    "admin-prohibited",
]
Verdict = Literal["allow", "drop", "reject"]


class FilterRule(Stated, frozen=True, kw_only=True, eq=False):
    """One rule: exactly one of `allow`, `drop` and `reject` names the protocol; all else narrows it."""

    allow: Annotated[Protocol | None, says("Lets packets of this protocol pass.")] = None
    drop: Annotated[Protocol | None, says("Throws packets of this protocol away without a word.")] = None
    reject: Annotated[Protocol | None, says("Throws packets of this protocol away and says so.")] = None
    answer: Annotated[
        Answer | None,
        says("What a rejected sender hears: `tcp-reset`, or an ICMP unreachable message of this kind. "
             "Left out: `port-unreachable`."),
    ] = None  # fmt: skip
    ports: Annotated[tuple[PortRange, ...], says("Destination ports; left out: all.", example=[80, 443])] = ()
    source_ports: Annotated[tuple[PortRange, ...], says("Source ports; left out: all.")] = ()
    sources: Annotated[
        tuple[IPNetwork, ...], says("Source ranges; left out: anybody, IPv4 and IPv6.", example="10.20.0.0/24")
    ] = msgspec.field(default=(), name="from")
    destinations: Annotated[
        tuple[IPNetwork, ...], says("Destination ranges, after any port forward has rewritten them; left out: all.")
    ] = msgspec.field(default=(), name="to")
    entering: Annotated[tuple[str, ...], says("The machine's interfaces by which the packet came; left out: any.")] = (
        msgspec.field(default=(), name="in")
    )
    leaving: Annotated[tuple[str, ...], says("The machine's interfaces by which the packet leaves; left out: any.")] = (
        msgspec.field(default=(), name="out")
    )
    state: Annotated[
        tuple[State, ...],
        says("What connection tracking says: `new`, `established`, `related`, `invalid`; left out: any."),
    ] = ()
    forwarded: Annotated[
        bool | None, says("`true`: only what a port forward of this machine sent on. `false`: only the rest.")
    ] = None

    @property
    def verdict(self) -> Verdict:
        """What the rule does with what it matches."""
        return "allow" if self.allow else "drop" if self.drop else "reject"

    @property
    def protocol(self) -> Protocol:
        """The protocol that it is about."""
        return self.allow or self.drop or self.reject or "any"


class Chain(Stated, frozen=True, kw_only=True, eq=False):
    """Rules in order; the first that matches decides, else the default."""

    default: Annotated[Verdict, says("What happens to what no rule matches.")] = "allow"
    rules: Annotated[tuple[FilterRule, ...], says("The rules, first match first.")] = ()


class Filter(Stated, frozen=True, kw_only=True, eq=False):
    """A machine's packet filter, in force now. The loopback interface and neighbour discovery always pass."""

    inbound: Annotated[Chain | None, says("For what is addressed to the machine itself; left out: all pass.")] = None
    forward: Annotated[Chain | None, says("For what a router passes on, after port forwards; left out: all pass.")] = (
        None
    )
    outbound: Annotated[Chain | None, says("For what the machine itself sends; left out: all pass.")] = None
    stateful: Annotated[
        bool, says("Whether packets of known connections, and the errors about them, pass before any rule is asked.")
    ] = True
