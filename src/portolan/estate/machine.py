"""Machines: routers, which pass packets on, and hosts, which do not."""

from typing import Annotated, Literal

import msgspec

from portolan.estate.base import EstatePath, HostName, IPAddress, IPNetwork, PortRange, Stated, says
from portolan.estate.changing import Changing
from portolan.estate.filter import Filter
from portolan.estate.network import Interface, Route
from portolan.estate.service import AnyService


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


class Forward(Stated, frozen=True, kw_only=True, eq=False):
    """A port forward: packets to the outside interface's own address are sent on to an inside machine."""

    on: Annotated[str, says("The interface whose addresses it is for; it takes what arrives there.")]
    tcp: Annotated[PortRange | None, says("The outside TCP port or range.", example=443)] = None
    udp: Annotated[PortRange | None, says("The outside UDP port or range.")] = None
    to: Annotated[IPAddress, says("The inside address.", example="10.20.0.15")]
    port: Annotated[
        int | None,
        says("The inside port (for a range: of its first port, the others follow). Left out: the same as outside."),
    ] = None
    enabled: Annotated[bool, says("Whether it is switched on.")] = True
    sources: Annotated[tuple[IPNetwork, ...], says("Only for visitors from these ranges; left out: for all.")] = (
        msgspec.field(default=(), name="from")
    )

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
    """Packets from inside that leave under a fixed address."""

    on: Annotated[str, says("The interface by which they leave.")]
    sources: Annotated[tuple[IPNetwork, ...], says("The inside ranges; left out: all.")] = msgspec.field(
        default=(), name="from"
    )
    to: Annotated[IPAddress, says("The address that they leave under; the internet brings it to the router.")]


class Machine(Changing, frozen=True, kw_only=True, eq=False):
    """What routers and hosts have in common."""

    name: str
    interfaces: Annotated[dict[str, Interface], says("Its interfaces by name.")] = msgspec.field(default_factory=dict)
    gateway: Annotated[
        tuple[IPAddress, ...] | Literal["none"] | None,
        says(
            "Where all goes that no route or network of its own takes, per family; `none`: nowhere. Left out: the "
            "internet when an interface is on it, else the only router on its networks."
        ),
    ] = None
    routes: Annotated[tuple[Route, ...], says("Further routes.")] = ()
    filter: Annotated[Filter | None, says("Its packet filter; left out: everything passes.")] = None
    services: Annotated[dict[str, AnyService], says("The programs that listen on it.")] = msgspec.field(
        default_factory=dict
    )
    hosts_file: Annotated[HostsFile | None, says("Its hosts file.")] = None
    resolver: Annotated[
        IPAddress | Literal["validating"] | None,
        says(
            "The resolver's address. Left out: an ordinary recursive resolver on the internet; `validating`: one that "
            "checks signatures."
        ),
    ] = None
    search: Annotated[
        tuple[HostName, ...],
        says(
            "Domains that are tried behind names without a final dot: before the name itself where it has no dot, "
            "else after it failed."
        ),
    ] = ()
    local_name: Annotated[
        HostName | None,
        says("The name under `.local` that it announces to the networks it is on (RFC 6762).", example="orion.local"),
    ] = None


class Host(Machine, frozen=True, kw_only=True, eq=False):
    """A machine that serves, and passes nothing on."""


class Router(Machine, frozen=True, kw_only=True, eq=False):
    """A machine that passes packets between its networks."""

    masquerade: Annotated[
        tuple[str, ...],
        says("Interfaces on which IPv4 packets leave under the interface's own address (source NAT)."),
    ] = ()
    source_nat: Annotated[
        tuple[SourceNat, ...], says("What leaves under a fixed address, first match first; before `masquerade`.")
    ] = ()
    one_to_one: Annotated[
        tuple[OneToOne, ...], says("Public addresses that stand for inside ones; port forwards come first.")
    ] = ()
    forwards: Annotated[tuple[Forward, ...], says("Port forwards, first match first.")] = ()
    own_services_first: Annotated[
        bool,
        says("Whether the router's own services, such as its administration page, take a port before any forward."),
    ] = False
    provider: Annotated[
        bool, says("Whether the provider of the line runs this router: nothing on it is yours to change.")
    ] = False
    hairpin: Annotated[
        Literal["off", "destination-only", "full"],
        says(
            "What happens when the outside address is asked from an inside interface. `off`: the forwards do not "
            "apply there, the router itself is asked. `destination-only`: they apply, and the answer goes its own "
            "way. `full`: they apply, and what turns round on one interface gets the router's address as source."
        ),
    ] = "off"
