"""Machines: routers, which pass packets on, and hosts, which do not."""

from typing import Annotated, Literal

import msgspec

from portolan.estate.base import EstatePath, HostName, IPAddress, IPNetwork, PortRange, RunBy, Stated, Unread, says
from portolan.estate.changing import Changing
from portolan.estate.content import Folder
from portolan.estate.filter import Filter
from portolan.estate.network import Interface, MarkRule, ReversePath, Route, RoutingRule, RoutingTable
from portolan.estate.services import AnyService


class HostsLine(Stated, frozen=True, kw_only=True, eq=False):
    """One line of a hosts file."""

    address: IPAddress
    names: tuple[str, ...]


class HostsFile(Stated, frozen=True, kw_only=True, eq=False):
    """A hosts file: its lines come before any resolver."""

    file: Annotated[EstatePath | None, says("A file in hosts format inside the estate.")] = None
    lines: Annotated[
        tuple[str, ...], says("Further lines.", example="10.20.0.15 visit.kestrel-ridge.example", kind="line")
    ] = ()
    entries: tuple[HostsLine, ...] = ()

    def lines_of(self, host: str) -> tuple[HostsLine, ...]:
        """The lines that name a host; whether it was asked with a final dot does not matter (measured with curl)."""
        name = host.removesuffix(".")
        return tuple(line for line in self.entries if name in line.names or host in line.names)


Hairpin = Literal["off", "destination-only", "full"]


class Forward(Stated, frozen=True, kw_only=True, eq=False):
    """A port forward (destination NAT): packets to a machine's own address are sent on to another machine, or another port."""

    on: Annotated[
        str | None,
        says("The interface whose addresses it is for; it takes what arrives there. Left out: all interfaces."),
    ] = None
    not_on: Annotated[tuple[str, ...], says("Interfaces of which it takes nothing that arrives there.")] = ()
    address: Annotated[
        tuple[IPAddress, ...] | Literal["own", "any"] | None,
        says(
            "The addresses asked that it is for; `own`: every address of the machine, loopback included; `any`: whatever "
            "is asked by way of the machine. Left out: those of the interface `on`, or of all interfaces."
        ),
    ] = None
    tcp: Annotated[PortRange | None, says("The outside TCP port or range.", example=443)] = None
    udp: Annotated[PortRange | None, says("The outside UDP port or range.")] = None
    to: Annotated[
        IPAddress | None,
        says(
            "The inside address. Left out: the machine itself, at another `port`: its address on the interface by which "
            "the packet came, loopback for its own connections.",
            example="10.20.0.15",
        ),
    ] = None
    up_to: Annotated[
        IPAddress | None, says("The last of several inside addresses, from `to` on, that connections are spread over.")
    ] = None
    port: Annotated[
        int | None,
        says("The inside port (for a range: of its first port, the others follow). Left out: the same as outside."),
    ] = None
    enabled: Annotated[bool, says("Whether it is switched on.")] = True
    sources: Annotated[tuple[IPNetwork, ...], says("Only for visitors from these ranges; left out: for all.")] = (
        msgspec.field(default=(), name="from")
    )
    not_sources: Annotated[tuple[IPNetwork, ...], says("For all visitors but those from these ranges.")] = (
        msgspec.field(default=(), name="not_from")
    )
    own_connections: Annotated[
        bool, says("Whether it takes connections that the machine makes to those addresses itself, too.")
    ] = False
    hairpin: Annotated[
        Hairpin | None,
        says("What happens when it is asked from an inside interface; left out: as the machine's `hairpin` says."),
    ] = None

    @property
    def protocol(self) -> Literal["tcp", "udp"]:
        """The protocol that it forwards."""
        return "tcp" if self.tcp is not None else "udp"

    @property
    def outside(self) -> PortRange:
        """The outside ports."""
        return self.tcp or self.udp or PortRange(0, 0)


class OneToOne(Stated, frozen=True, kw_only=True, eq=False):
    """A public address that stands for one inside address, in both directions and for every port."""

    on: Annotated[str, says("The outside interface.")]
    outside: Annotated[
        IPAddress, says("The public address; the internet brings it to the router.", example="203.0.113.41")
    ]
    inside: Annotated[IPAddress, says("The inside address.", example="10.20.0.15")]


class SourceNat(Stated, frozen=True, kw_only=True, eq=False):
    """Packets that leave under another address (source NAT)."""

    on: Annotated[str, says("The interface by which they leave.")]
    sources: Annotated[tuple[IPNetwork, ...], says("The inside ranges; left out: all.")] = msgspec.field(
        default=(), name="from"
    )
    not_sources: Annotated[tuple[IPNetwork, ...], says("All inside ranges but these.")] = msgspec.field(
        default=(), name="not_from"
    )
    destinations: Annotated[tuple[IPNetwork, ...], says("Only what goes to these ranges; left out: all.")] = (
        msgspec.field(default=(), name="towards")
    )
    not_destinations: Annotated[tuple[IPNetwork, ...], says("Only what goes to no address of these ranges.")] = (
        msgspec.field(default=(), name="not_towards")
    )
    tcp: Annotated[tuple[PortRange, ...], says("Only TCP to these ports.", example=25)] = ()
    udp: Annotated[tuple[PortRange, ...], says("Only UDP to these ports.")] = ()
    to: Annotated[
        IPAddress | None,
        says(
            "The address that they leave under; the internet brings it to the machine. Left out: the interface's own "
            "address (masquerading)."
        ),
    ] = None
    up_to: Annotated[
        IPAddress | None, says("The last of several addresses, from `to` on; each connection leaves under one of them.")
    ] = None


class Machine(Changing, frozen=True, kw_only=True, eq=False):
    """What routers and hosts have in common."""

    name: str
    run_by: RunBy = None
    interfaces: Annotated[dict[str, Interface], says("Its interfaces by name.")] = msgspec.field(default_factory=dict)
    gateway: Annotated[
        tuple[IPAddress, ...] | Literal["none"] | None,
        says(
            "Where all goes that no route or network of its own takes, per family; `none`: nowhere. Left out: the "
            "internet when an interface is on it, else the only router on its networks."
        ),
    ] = None
    routes: Annotated[tuple[Route, ...], says("Further routes.")] = ()
    tables: Annotated[
        dict[str, RoutingTable], says("Further routing tables by name, which `routing_rules` lead to.")
    ] = msgspec.field(default_factory=dict)
    routing_rules: Annotated[
        tuple[RoutingRule, ...],
        says(
            "Which packets ask which routing table, in this order; then `routes` and `gateway` are asked. What goes to an "
            "address of the machine itself needs no route."
        ),
    ] = ()
    packet_marks: Annotated[tuple[MarkRule, ...], says("Marks by which `routing_rules` tell packets apart.")] = ()
    reverse_path: Annotated[
        ReversePath | None,
        says(
            "Whether IPv4 packets are dropped that came by another interface than an answer to their source would leave "
            "by (`strict`), or for whose source there is no route at all (`loose`; RFC 3704). Left out: they are assumed not "
            "to be, and that is said where it would decide."
        ),
    ] = None
    passes_on: Annotated[
        bool | None,
        says(
            "Whether it passes packets between its networks. Left out: routers do; hosts do where they have a forward to "
            "another machine, a one-to-one address or source NAT, as the host of containers does."
        ),
    ] = None
    clamp_mss: Annotated[
        bool,
        says(
            "Whether it lowers what TCP connections through it agree on as their largest segment to what fits the MTU on "
            "both sides of it."
        ),
    ] = False
    filter: Annotated[Filter | None, says("Its packet filter; left out: everything passes.")] = None
    services: Annotated[dict[str, AnyService], says("The programs that listen on it.")] = msgspec.field(
        default_factory=dict
    )
    folders: Annotated[
        dict[str, Folder], says("The folders with websites on it, by path, with what they hold.", example="/srv/visit")
    ] = msgspec.field(default_factory=dict)
    hosts_file: Annotated[HostsFile | None, says("Its hosts file.")] = None
    resolver: Annotated[
        tuple[IPAddress, ...] | Literal["validating"] | None,
        says(
            "The resolver's address; or several, of which the next is asked where one is silent, fails or refuses. Left out: an "
            "ordinary recursive resolver on the internet; `validating`: one that checks signatures."
        ),
    ] = None
    search: Annotated[
        tuple[HostName, ...],
        says(
            "Domains that are tried behind names without a final dot: before the name itself where it has no dot, "
            "else after it failed."
        ),
    ] = ()
    ndots: Annotated[
        int, says("How many dots a name must have to be asked for as it is before the domains of `search` are tried.")
    ] = 1
    local_name: Annotated[
        HostName | None,
        says("The name under `.local` that it announces to the networks it is on (RFC 6762).", example="orion.local"),
    ] = None
    forwards: Annotated[tuple[Forward, ...], says("Port forwards, first match first.")] = ()
    one_to_one: Annotated[
        tuple[OneToOne, ...], says("Public addresses that stand for inside ones; port forwards come first.")
    ] = ()
    source_nat: Annotated[
        tuple[SourceNat, ...], says("What leaves under another address, first match first; before `masquerade`.")
    ] = ()
    masquerade: Annotated[
        tuple[str, ...],
        says("Interfaces on which IPv4 packets leave under the interface's own address (source NAT)."),
    ] = ()
    own_services_first: Annotated[
        bool,
        says(
            "Whether the machine's own services, such as a router's administration page, take a port before any forward."
        ),
    ] = False
    hairpin: Annotated[
        Hairpin,
        says(
            "What happens when the outside address is asked from an inside interface. `off`: the forwards do not "
            "apply there, the machine itself is asked. `destination-only`: they apply, and the answer goes its own "
            "way. `full`: they apply, and what turns round on one interface gets the machine's address as source."
        ),
    ] = "off"

    unread: Unread = ()

    @property
    def addresses(self) -> tuple[IPAddress, ...]:
        """Every address that it has, in the order written."""
        return tuple(item.ip for interface in self.interfaces.values() for item in interface.address)

    @property
    def translates(self) -> bool:
        """Whether it sends on what is asked of it, or lets anything leave under another address."""
        return bool(self.forwards or self.one_to_one or self.source_nat or self.masquerade)


class Host(Machine, frozen=True, kw_only=True, eq=False):
    """A machine that serves; it passes packets on only where that is said."""


class Router(Machine, frozen=True, kw_only=True, eq=False):
    """A machine that passes packets between its networks."""

    provider: Annotated[
        bool, says("Whether the provider of the line runs this router: nothing on it is yours to change.")
    ] = False
