"""Filters: ordered rules with a default, for what comes in, passes through and goes out."""

from typing import Annotated, Literal

import msgspec

from portolan.estate.base import AreaService, IPNetwork, PortRange, Stated, says

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
    "protocol-unreachable",
    "policy-fail",
]
Verdict = Literal["allow", "drop", "reject"]


class FilterRule(Stated, frozen=True, kw_only=True, eq=False):
    """One rule: exactly one of `allow`, `drop`, `reject`, `return` (a protocol) and `jump`; all else narrows it."""

    allow: Annotated[Protocol | None, says("Lets packets of this protocol pass.")] = None
    drop: Annotated[Protocol | None, says("Throws packets of this protocol away without a word.")] = None
    reject: Annotated[Protocol | None, says("Throws packets of this protocol away and says so.")] = None
    back: Annotated[Protocol | None, says("Goes back to the chain that jumped here, or to the default.")] = (
        msgspec.field(default=None, name="return")
    )
    jump: Annotated[
        str | None, says("Asks this named chain of the filter; what it does not decide goes on behind this rule.")
    ] = None
    of: Annotated[Protocol | None, says("With `jump`: the protocol; left out: any.")] = msgspec.field(
        default=None, name="protocol"
    )
    answer: Annotated[
        Answer | None,
        says(
            "What a rejected sender hears: `tcp-reset`, or an ICMP unreachable message of this kind. "
            "`protocol-unreachable` has no IPv6 form and `policy-fail` no IPv4 one: the other family hears "
            "`admin-prohibited`. Left out: `port-unreachable`."
        ),
    ] = None
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
    def verdict(self) -> "Verdict | Literal['return', 'jump']":
        """What the rule does with what it matches."""
        if self.allow:
            return "allow"
        if self.drop:
            return "drop"
        return "reject" if self.reject else "return" if self.back else "jump"

    @property
    def protocol(self) -> Protocol:
        """The protocol that it is about."""
        return self.allow or self.drop or self.reject or self.back or self.of or "any"


class Chain(Stated, frozen=True, kw_only=True, eq=False):
    """Rules in order; the first that matches decides, else the default."""

    default: Annotated[Verdict, says("What happens to what no rule matches.")] = "allow"
    rules: Annotated[tuple[FilterRule, ...], says("The rules, first match first.")] = ()


class NamedChain(Stated, frozen=True, kw_only=True, eq=False):
    """Rules that other rules jump to; what none of them decides goes back."""

    name: str
    rules: Annotated[tuple[FilterRule, ...], says("The rules, first match first.")] = ()


class Area(Stated, frozen=True, kw_only=True, eq=False):
    """A named area of askers with what it may reach: the plain way to write an inbound chain.

    A packet belongs to the first area whose ranges hold its source, else to the first with its interface, else to the
    area marked `default`.
    """

    name: str
    sources: Annotated[tuple[IPNetwork, ...], says("The source ranges that belong to it.")] = msgspec.field(
        default=(), name="from"
    )
    interfaces: Annotated[tuple[str, ...], says("The machine's interfaces that belong to it.")] = ()
    default: Annotated[bool, says("Takes what belongs to no other area.")] = False
    services: Annotated[
        tuple[AreaService, ...],
        says(
            "What may be reached: services by name (http, https, ssh, domain, smtp, ...), or `8080/tcp`, `6000-6010/udp`.",
            example=["http", "https", "8080/tcp"],
        ),
    ] = ()
    otherwise: Annotated[Verdict, says("What happens to the rest.")] = "reject"
    answer: Annotated[Answer | None, says("With `otherwise: reject`: what the sender hears.")] = None


class Filter(Stated, frozen=True, kw_only=True, eq=False):
    """A machine's packet filter, in force now. The loopback interface and neighbour discovery always pass."""

    inbound: Annotated[Chain | None, says("For what is addressed to the machine itself; left out: all pass.")] = None
    forward: Annotated[Chain | None, says("For what a router passes on, after port forwards; left out: all pass.")] = (
        None
    )
    outbound: Annotated[Chain | None, says("For what the machine itself sends; left out: all pass.")] = None
    areas: Annotated[
        dict[str, Area], says("Instead of `inbound`: areas of askers, each with the services that it may reach.")
    ] = msgspec.field(default_factory=dict)
    chains: Annotated[dict[str, NamedChain], says("Chains that rules jump to.")] = msgspec.field(default_factory=dict)
    stateful: Annotated[
        bool, says("Whether packets of known connections, and the errors about them, pass before any rule is asked.")
    ] = True
