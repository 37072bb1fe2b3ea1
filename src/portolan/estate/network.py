"""Networks, and the interfaces, routes and groups that hang on them."""

from typing import Annotated, Literal

import msgspec

from portolan.estate.base import IPAddress, IPInterface, IPNetwork, PortRange, Stated, says
from portolan.estate.changing import Changing


class ListRule(Stated, frozen=True, kw_only=True, eq=False):
    """One line of an access list: exactly one of `allow` and `drop` names the protocol; all else narrows it."""

    allow: Annotated[Literal["tcp", "udp", "icmp", "any"] | None, says("Lets packets of this protocol pass.")] = None
    drop: Annotated[
        Literal["tcp", "udp", "icmp", "any"] | None, says("Throws packets of this protocol away without a word.")
    ] = None
    ports: Annotated[
        tuple[PortRange, ...],
        says(
            "Destination ports; left out: all. Answers go to the visitor's own port, mostly 32768-60999.",
            example=[443, "1024-65535"],
        ),
    ] = ()
    sources: Annotated[tuple[IPNetwork, ...], says("Source ranges; left out: anybody.")] = msgspec.field(
        default=(), name="from"
    )
    destinations: Annotated[tuple[IPNetwork, ...], says("Destination ranges; left out: anybody.")] = msgspec.field(
        default=(), name="to"
    )

    @property
    def protocol(self) -> str:
        """The protocol that it is about."""
        return self.allow or self.drop or "any"


class AccessList(Stated, frozen=True, kw_only=True, eq=False):
    """A subnet's access list: stateless, asked where packets pass between the network and its routers.

    The first line that matches decides; what no line takes is thrown away.
    """

    inbound: Annotated[
        tuple[ListRule, ...] | None, says("For what a router passes into the network; left out: all passes.")
    ] = None
    outbound: Annotated[
        tuple[ListRule, ...] | None, says("For what leaves the network by a router; left out: all passes.")
    ] = None


class Network(Stated, frozen=True, kw_only=True, eq=False):
    """A network that machines and visitors are attached to."""

    name: str
    kind: Annotated[
        Literal["internet", "segment", "host-only"],
        says(
            "`internet`: the public internet, which carries packets between all public addresses. "
            "`segment`: one link, whose members reach each other as neighbours; a provider's network is one too. "
            "`host-only`: a link inside one machine, from which no router is guessed to lead out."
        ),
    ] = "segment"
    subnets: Annotated[
        tuple[IPNetwork, ...],
        says(
            "The ranges used on a segment. An address that is written without its prefix length takes it from here.",
            example=["10.20.0.0/24", "2001:db8:20::/64"],
        ),
    ] = ()
    access_list: Annotated[AccessList | None, says("The subnet's access list; left out: all passes.")] = None


class Route(Stated, frozen=True, kw_only=True, eq=False):
    """One line of a routing table; the longest prefix wins, then the lowest metric. One of `via`, `on`, `type`."""

    to: Annotated[IPNetwork, says("The range that the line is about.", example="10.30.0.0/24")]
    via: Annotated[
        IPAddress | None, says("The next router's address, a neighbour on one of the machine's networks.")
    ] = None
    on: Annotated[str | None, says("Instead: the interface on whose network the range's addresses are neighbours.")] = (
        None
    )
    type: Annotated[
        Literal["unreachable", "blackhole", "prohibit"] | None,
        says("Instead: packets go nowhere. `blackhole` says nothing; the others send an ICMP error."),
    ] = None
    metric: Annotated[int, says("Of two lines for one range the lower metric wins.")] = 0


class Interface(Changing, frozen=True, kw_only=True, eq=False):
    """Where a machine is attached to a network."""

    name: str
    network: Annotated[
        str, says("The network it is attached to. Left out: the network of the same name.", refers=("networks",))
    ] = ""
    address: Annotated[
        tuple[IPInterface, ...],
        says(
            "Its addresses, IPv4 and IPv6. With a prefix length (`10.20.0.15/16`) the machine believes that mask; "
            "without one it has the network's.",
            example="10.20.0.15",
        ),
    ] = ()
    leased: Annotated[
        bool, says("Whether the addresses are given for a time, and may be others after it or after a reboot.")
    ] = False
    provider_blocks: Annotated[
        tuple[PortRange, ...],
        says("Ports that the provider of this line lets nobody from the internet connect to.", example=[25, 80]),
    ] = ()
    groups: Annotated[
        tuple[str, ...] | None,
        says(
            "The security groups attached here; what none of them allows is dropped. Left out: no group filters "
            "this interface. An empty list: nothing passes.",
            refers=("groups",),
        ),
    ] = None


class GroupRule(Stated, frozen=True, kw_only=True, eq=False):
    """One allowance of a security group."""

    allow: Annotated[Literal["tcp", "udp", "icmp", "any"], says("The protocol let through.")]
    ports: Annotated[tuple[PortRange, ...], says("Destination ports; left out: all.", example=[80, 443])] = ()
    sources: Annotated[
        tuple[IPNetwork | str, ...],
        says(
            "Inbound: who asks, as ranges, or names of groups, which mean the private addresses of the interfaces "
            "that they hang on. Left out: anybody, IPv4 and IPv6.",
            example="0.0.0.0/0",
            refers=("groups",),
        ),
    ] = msgspec.field(default=(), name="from")
    destinations: Annotated[
        tuple[IPNetwork | str, ...], says("Outbound: who is asked, in the same way.", refers=("groups",))
    ] = msgspec.field(default=(), name="to")

    @property
    def peers(self) -> tuple[IPNetwork | str, ...]:
        """The other end, whichever direction the rule is for."""
        return self.sources or self.destinations


class Group(Stated, frozen=True, kw_only=True, eq=False):
    """A security group: stateful, allow only. Answers to what was allowed pass by themselves."""

    name: str
    inbound: Annotated[tuple[GroupRule, ...], says("What may come in.")] = ()
    outbound: Annotated[tuple[GroupRule, ...] | None, says("What may go out; left out: everything.")] = None
