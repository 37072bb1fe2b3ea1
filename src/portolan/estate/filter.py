"""Filters: ordered rules with a default, for what comes in, passes through and goes out."""

from typing import Annotated, Literal

import msgspec

from portolan.estate.base import AreaService, IPNetwork, PortRange, Stated, Unread, says

Protocol = Literal["tcp", "udp", "icmp", "any"]
State = Literal["new", "established", "related", "invalid", "untracked"]
#: Kinds of ICMP and ICMPv6 messages (RFC 792, RFC 4443, RFC 4861), by one name for both where both have them.
IcmpType = Literal[
    "echo-request",
    "echo-reply",
    "destination-unreachable",
    "packet-too-big",
    "time-exceeded",
    "parameter-problem",
    "router-solicitation",
    "router-advertisement",
    "neighbour-solicitation",
    "neighbour-advertisement",
]
Basic = Literal["loopback", "neighbour-discovery", "known-connections"]
#: What passes before the rules of a filter that does not say so.
BASICS: tuple[Basic, ...] = ("loopback", "neighbour-discovery", "known-connections")
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
ChainName = Literal["arriving", "inbound", "forward", "outbound"]
#: A filter's own chains, by their keys.
CHAINS: tuple[ChainName, ...] = ("inbound", "forward", "outbound", "arriving")


class FilterRule(Stated, frozen=True, kw_only=True, eq=False):
    """One rule: exactly one of `allow`, `drop`, `reject`, `return` (a protocol), `jump` and `goto`; all else narrows it."""

    allow: Annotated[Protocol | None, says("Lets packets of this protocol pass.")] = None
    drop: Annotated[Protocol | None, says("Throws packets of this protocol away without a word.")] = None
    reject: Annotated[Protocol | None, says("Throws packets of this protocol away and says so.")] = None
    back: Annotated[Protocol | None, says("Goes back to the chain that jumped here, or to the default.")] = (
        msgspec.field(default=None, name="return")
    )
    jump: Annotated[
        str | None, says("Asks this named chain of the filter; what it does not decide goes on behind this rule.")
    ] = None
    goto: Annotated[
        str | None,
        says(
            "Goes to this named chain for good: what it does not decide goes on where this chain was jumped from, or to "
            "the default."
        ),
    ] = None
    of: Annotated[Protocol | None, says("With `jump` and `goto`: the protocol; left out: any.")] = msgspec.field(
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
    ports: Annotated[
        tuple[PortRange, ...],
        says("Destination ports, or sets of ports by name; left out: all.", example=[80, 443], sets="ports"),
    ] = ()
    not_ports: Annotated[tuple[PortRange, ...], says("Every destination port but these.", sets="ports")] = ()
    source_ports: Annotated[tuple[PortRange, ...], says("Source ports; left out: all.", sets="ports")] = ()
    not_source_ports: Annotated[tuple[PortRange, ...], says("Every source port but these.", sets="ports")] = ()
    sources: Annotated[
        tuple[IPNetwork, ...],
        says(
            "Source ranges, `first-last`, or sets of addresses by name; left out: anybody, IPv4 and IPv6.",
            example="10.20.0.0/24",
            sets="addresses",
        ),
    ] = msgspec.field(default=(), name="from")
    not_sources: Annotated[tuple[IPNetwork, ...], says("Anybody but these, IPv4 and IPv6.", sets="addresses")] = (
        msgspec.field(default=(), name="not_from")
    )
    destinations: Annotated[
        tuple[IPNetwork, ...],
        says("Destination ranges, after any port forward has rewritten them; left out: all.", sets="addresses"),
    ] = msgspec.field(default=(), name="to")
    not_destinations: Annotated[
        tuple[IPNetwork, ...], says("Every destination but these, IPv4 and IPv6.", sets="addresses")
    ] = msgspec.field(default=(), name="not_to")
    from_own: Annotated[
        bool | None,
        says(
            "`true`: only what comes from an address of this machine itself, loopback included. `false`: only the rest."
        ),
    ] = None
    to_own: Annotated[
        bool | None,
        says("`true`: only what goes to an address of this machine itself, loopback included. `false`: only the rest."),
    ] = None
    entering: Annotated[
        tuple[str, ...],
        says(
            "The machine's interfaces by which the packet came, `lo` for what it sends to itself, or the beginning of "
            "names with `*`; left out: any.",
            example="line",
        ),
    ] = msgspec.field(default=(), name="in")
    not_entering: Annotated[tuple[str, ...], says("Every interface by which the packet came but these.")] = (
        msgspec.field(default=(), name="not_in")
    )
    leaving: Annotated[
        tuple[str, ...], says("The machine's interfaces by which the packet leaves, in the same way; left out: any.")
    ] = msgspec.field(default=(), name="out")
    not_leaving: Annotated[tuple[str, ...], says("Every interface by which the packet leaves but these.")] = (
        msgspec.field(default=(), name="not_out")
    )
    state: Annotated[
        tuple[State, ...],
        says(
            "What connection tracking says: `new`, `established`, `related`, `invalid`, `untracked` (neighbour "
            "discovery is); left out: any."
        ),
    ] = ()
    not_state: Annotated[tuple[State, ...], says("Every state but these.")] = ()
    icmp_types: Annotated[
        tuple[IcmpType, ...], says("With the protocol icmp: only these messages; left out: all.")
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
    def next(self) -> str | None:
        """The chain that it leads to, to come back or not."""
        return self.jump or self.goto

    @property
    def narrowed(self) -> bool:
        """Whether it asks for more than the protocol and the destination ports."""
        held = (
            *(self.not_ports, self.source_ports, self.not_source_ports, self.icmp_types),
            *(self.sources, self.not_sources, self.destinations, self.not_destinations),
            *(self.entering, self.not_entering, self.leaving, self.not_leaving, self.state, self.not_state),
        )
        return any(held) or any(each is not None for each in (self.from_own, self.to_own, self.forwarded))

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
    answer: Annotated[
        Answer | None, says("With `otherwise: reject`: what the sender hears. Left out: `admin-prohibited`.")
    ] = None


class NamedSet(Stated, frozen=True, kw_only=True, eq=False):
    """Addresses, or ports, that rules name together."""

    name: str
    addresses: Annotated[
        tuple[IPNetwork, ...], says("The ranges that belong to it.", example=["192.0.2.0/24", "198.51.100.7"], sets="-")
    ] = ()
    ports: Annotated[tuple[PortRange, ...], says("The ports that belong to it.", example=[80, 443])] = ()


class OneFilter(Stated, frozen=True, kw_only=True, eq=False):
    """A machine's packet filter, in force now."""

    basics: Annotated[
        tuple[Basic, ...] | None,
        says(
            "What passes before the rules of every chain are asked: `loopback` (what the machine sends to itself), "
            "`neighbour-discovery` (without which there is no IPv6) and `known-connections` (packets of connections "
            "that were let in, and the errors about them). `[]`: nothing, the rules alone decide. Left out: all three; "
            "where the rules would have dropped a packet that passes so, the answer says that this is assumed. An "
            "inbound chain made of areas has all three by itself.",
            example=["loopback", "neighbour-discovery", "known-connections"],
        ),
    ] = None
    inbound: Annotated[Chain | None, says("For what is addressed to the machine itself; left out: all pass.")] = None
    forward: Annotated[
        Chain | None, says("For what the machine passes on, after port forwards; left out: all pass.")
    ] = None
    outbound: Annotated[Chain | None, says("For what the machine itself sends; left out: all pass.")] = None
    arriving: Annotated[
        Chain | None,
        says(
            "For everything that arrives, before connection tracking and port forwards: it can `drop`, or let pass what "
            "the other chains then decide about. No basics pass before it. Left out: all pass."
        ),
    ] = None
    areas: Annotated[
        dict[str, Area], says("Instead of `inbound`: areas of askers, each with the services that it may reach.")
    ] = msgspec.field(default_factory=dict)
    chains: Annotated[dict[str, NamedChain], says("Chains that rules jump to.")] = msgspec.field(default_factory=dict)
    sets: Annotated[dict[str, NamedSet], says("Addresses and ports that rules name together.")] = msgspec.field(
        default_factory=dict
    )
    stateful: Annotated[bool, says("`false`: the same as leaving `known-connections` out of `basics`.")] = True
    unread: Unread = ()

    def passes(self, basic: Basic) -> bool:
        """Whether something passes before the rules are asked, said or assumed."""
        if self.basics is not None:
            return basic in self.basics
        return self.stateful or basic != "known-connections"

    def states(self, basic: Basic) -> bool:
        """Whether the filter itself says that something passes or does not; else it is assumed to pass."""
        return self.basics is not None or (not self.stateful and basic == "known-connections")


class Filter(OneFilter, frozen=True, kw_only=True, eq=False):
    """A machine's packet filter, and what is asked behind it."""

    then: Annotated[
        tuple[OneFilter, ...],
        says(
            "Further filters of the machine, asked one after the other behind this one, each with chains, sets and basics of "
            "its own: what one lets pass the next may still stop."
        ),
    ] = ()

    @property
    def every(self) -> "tuple[OneFilter, ...]":
        """This filter, and those behind it."""
        return (self, *self.then)
