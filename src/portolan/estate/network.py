"""Networks, and the interfaces, routes and groups that hang on them."""

from typing import Annotated, Literal

import msgspec

from portolan.estate.base import IPAddress, IPInterface, IPNetwork, PortRange, RunBy, Stated, says
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
    run_by: RunBy = None
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
    mtu: Annotated[
        int | None,
        says(
            "The largest packet that the link carries, in octets; larger ones vanish on it without a word. Interfaces "
            "send no larger ones unless they say otherwise. Left out: 1500.",
            example=1492,
        ),
    ] = None
    isolated: Annotated[
        bool,
        says(
            "Whether hosts and visitors on it reach routers only, and not each other, as with wireless client isolation."
        ),
    ] = False


class Route(Stated, frozen=True, kw_only=True, eq=False):
    """One line of a routing table; the longest prefix wins, then the lowest metric. `via`, `on` or both, or else `type`."""

    to: Annotated[IPNetwork, says("The range that the line is about.", example="10.30.0.0/24")]
    via: Annotated[
        IPAddress | None, says("The next router's address, a neighbour on one of the machine's networks.")
    ] = None
    on: Annotated[
        str | None,
        says(
            "Without `via`: the interface on whose network the range's addresses are neighbours. With it: the interface "
            "by which the next router is reached, though no range of the machine's holds its address."
        ),
    ] = None
    type: Annotated[
        Literal["unreachable", "blackhole", "prohibit"] | None,
        says("Instead: packets go nowhere. `blackhole` says nothing; the others send an ICMP error."),
    ] = None
    metric: Annotated[int, says("Of two lines for one range the lower metric wins.")] = 0
    source: Annotated[
        IPAddress | None, says("The address that the machine itself sends from by this line (`src` in routing tables).")
    ] = None
    mtu: Annotated[int | None, says("The largest packet that is sent by this line, in octets.")] = None


#: What links carry where nothing is said (RFC 894).
USUAL_MTU = 1500
#: The machine's own routes, as routing rules name them.
MAIN_TABLE = "main"
ReversePath = Literal["off", "strict", "loose"]


class RoutingTable(Stated, frozen=True, kw_only=True, eq=False):
    """A further routing table; routing rules lead to it."""

    name: str
    gateway: Annotated[IPAddress | None, says("Where all goes that none of its routes takes.")] = None
    on: Annotated[
        str | None,
        says("The interface by which the gateway is reached; alone: the line to the internet by which all goes."),
    ] = None
    routes: Annotated[tuple[Route, ...], says("Its routes.")] = ()


class RoutingRule(Stated, frozen=True, kw_only=True, eq=False):
    """Which packets ask which routing table (policy routing). What a table has no route for asks the next rule."""

    table: Annotated[
        str | None,
        says("The table that is asked: one of `tables`, or `main`, the machine's own routes.", example="second"),
    ] = None
    type: Annotated[
        Literal["unreachable", "blackhole", "prohibit"] | None,
        says("Instead: packets go nowhere. `blackhole` says nothing; the others send an ICMP error."),
    ] = None
    sources: Annotated[
        tuple[IPNetwork, ...],
        says("Only packets from these addresses; what a machine sends without an address of its own yet is from none."),
    ] = msgspec.field(default=(), name="from")
    destinations: Annotated[tuple[IPNetwork, ...], says("Only packets to these addresses.")] = msgspec.field(
        default=(), name="to"
    )
    entering: Annotated[
        str | None, says("Only packets that came by this interface; `lo`: what the machine itself sends.")
    ] = msgspec.field(default=None, name="in")
    mark: Annotated[int | None, says("Only packets with this mark; `packet_marks` says which have it.")] = None
    without_default: Annotated[
        bool, says("Whether the table's line for everything is passed over (`suppress_prefixlength 0`).")
    ] = False


class MarkRule(Stated, frozen=True, kw_only=True, eq=False):
    """Marks packets as they arrive, before port forwards and routing; of a machine's lines the first that matches counts."""

    mark: Annotated[int, says("The mark, a number above 0.", example=2)]
    entering: Annotated[tuple[str, ...], says("The interfaces by which they came; left out: any.")] = msgspec.field(
        default=(), name="in"
    )
    own: Annotated[bool, says("Instead of what arrives: what the machine itself sends.")] = False
    sources: Annotated[tuple[IPNetwork, ...], says("Source ranges; left out: anybody.")] = msgspec.field(
        default=(), name="from"
    )
    destinations: Annotated[tuple[IPNetwork, ...], says("Destination ranges; left out: all.")] = msgspec.field(
        default=(), name="to"
    )
    tcp: Annotated[tuple[PortRange, ...], says("Only TCP to these ports.", example=443)] = ()
    udp: Annotated[tuple[PortRange, ...], says("Only UDP to these ports.")] = ()
    keep: Annotated[
        bool,
        says(
            "Whether the connection keeps the mark: all its packets bear it, answers too (`CONNMARK` saved and restored)."
        ),
    ] = True


class Interface(Changing, frozen=True, kw_only=True, eq=False):
    """Where a machine is attached to a network."""

    name: str
    run_by: RunBy = None
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
    provider_checks_source: Annotated[
        bool | None,
        says(
            "Whether the provider of this line drops what comes from addresses that are not this line's (RFC 2827). Left "
            "out: it is assumed not to, and said so where it would decide."
        ),
    ] = None
    up: Annotated[bool, says("Whether it is up. By one that is down nothing comes and goes.")] = True
    mtu: Annotated[
        int | None,
        says(
            "The largest packet that it sends and takes, in octets; larger ones are lost there, and a line's provider says so. Left "
            "out: as its network says, else 1500.",
            example=1492,
        ),
    ] = None
    deprecated: Annotated[
        tuple[IPAddress, ...],
        says("Those of its IPv6 addresses that no new connection leaves from if there is another."),
    ] = ()
    temporary: Annotated[
        tuple[IPAddress, ...],
        says("Those of its IPv6 addresses that are temporary (RFC 8981): connections leave from them before others."),
    ] = ()
    proxy_arp: Annotated[
        bool,
        says(
            "Whether the machine answers here for every IPv4 address that it has a route to by another interface (RFC 1027)."
        ),
    ] = False
    proxy_for: Annotated[
        tuple[IPAddress, ...], says("Further addresses, IPv4 and IPv6, that the machine answers for here.")
    ] = ()
    route_localnet: Annotated[
        bool, says("Whether packets from here may be led to 127.0.0.0/8, and leave here from it.")
    ] = False
    reverse_path: Annotated[
        ReversePath | None,
        says("As the machine's `reverse_path`, for this interface. Where they differ, `loose` counts, else `strict`."),
    ] = None
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
    run_by: RunBy = None
    inbound: Annotated[tuple[GroupRule, ...], says("What may come in.")] = ()
    outbound: Annotated[tuple[GroupRule, ...] | None, says("What may go out; left out: everything.")] = None
