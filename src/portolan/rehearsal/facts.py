"""What a rehearsal works out from an estate by itself.

The engines have rules of their own for all of this. Nothing of theirs is used here: where the two differ, a rehearsal is to
show it. What is not written is read as docs/estate-reference.md says.
"""

import contextlib
import re
import socket
from collections.abc import Iterator
from datetime import datetime
from ipaddress import ip_address, ip_network
from typing import Any
from urllib.parse import quote, urlsplit

import msgspec

from portolan.estate.base import Alone4, Alone6, IPAddress, IPInterface, IPNetwork, PortRange
from portolan.estate.estate import Estate
from portolan.estate.filter import FilterRule
from portolan.estate.machine import Forward, Machine, Router
from portolan.estate.network import Interface, ListRule, Network
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.rehearsal.quoting import UnstageableError

Box = Machine | Vantage
_EVERYWHERE = Network(name="internet", kind="internet")


def every_machine(estate: Estate) -> list[Machine]:
    """Routers, then hosts, as written."""
    return [*estate.routers.values(), *estate.hosts.values()]


def every_box(estate: Estate) -> list[Box]:
    """Machines, and the devices of visitors that have one of their own."""
    return [*every_machine(estate), *(each for each in estate.vantages.values() if each.network)]


def every_service(estate: Estate) -> Iterator[tuple[Machine, Service]]:
    """Every program of every machine."""
    for machine in every_machine(estate):
        for service in machine.services.values():
            yield machine, service


def runs(service: Service) -> bool:
    """Whether a program is to be started at all."""
    return service.state == "running" and service.failing is None


def addresses_of(box: Box) -> list[IPAddress]:
    """Every address of a box, in the order written."""
    held = [box.address] if isinstance(box, Vantage) else [each.address for each in box.interfaces.values()]
    return [item.ip for addresses in held for item in addresses]


def forwarded(forward: Forward) -> tuple[str, PortRange]:
    """The protocol and the outside ports of a forward; every one that states none is for no port."""
    if forward.tcp is not None:
        return "tcp", forward.tcp
    return ("udp", forward.udp) if forward.udp is not None else ("tcp", PortRange(0, 0))


def protocol_of(rule: FilterRule | ListRule) -> str:
    """The protocol that a rule is about, which stands behind its verdict, or behind `of`."""
    words = (getattr(rule, key, None) for key in ("allow", "drop", "reject", "deny", "back", "of"))
    return next((word for word in words if word is not None), "any")


def area_ports(text: str) -> list[tuple[str, str]]:
    """Protocol and ports of a service as an area writes it, as nft writes ports; names as this machine knows them (services(5)).

    Raises UnstageableError for a name that it does not know.
    """
    ports, slash, protocol = text.partition("/")
    if slash:
        return [(protocol, ports)]
    found = []
    for each in ("tcp", "udp"):
        with contextlib.suppress(OSError):
            found.append((each, str(socket.getservbyname(text, each))))
    if not found:
        raise UnstageableError("a service's name that /etc/services here does not have", text, None)
    return found


def client_of(estate: Estate, vantage: Vantage) -> Box:
    """The box at which a visitor sits: a machine of the estate, or a device of its own."""
    if vantage.host is None:
        return vantage
    return estate.hosts[vantage.host] if vantage.host in estate.hosts else estate.routers[vantage.host]


def device_unstaged(estate: Estate, vantage: Vantage) -> str | None:
    """What of the visitor's own device is not staged, if anything is."""
    seat = client_of(estate, vantage)
    if isinstance(seat, Machine) and any(each.temporary for each in seat.interfaces.values()):
        return "temporary IPv6 addresses are not staged"
    if vantage.last_asked is not None and isinstance(seat.resolver, tuple):
        return "a device's own cache, beside that of its resolver, is not staged"
    return None


# -- networks --------------------------------------------------------------------------------------------------------


def network_of(estate: Estate, interface: Interface) -> Network:
    """The network that an interface is on: the one it names, else the one of its own name."""
    return named_network(estate, interface.network or interface.name)


def named_network(estate: Estate, name: str) -> Network:
    """A network by its name; `internet` need not be written."""
    return estate.networks.get(name, _EVERYWHERE)


def legs(estate: Estate, box: Box) -> list[tuple[str, Network, tuple[IPInterface, ...]]]:
    """A box's interfaces: name, network, addresses."""
    if isinstance(box, Vantage):
        return [(box.network or "", named_network(estate, box.network or ""), box.address)]
    return [(each.name, network_of(estate, each), each.address) for each in box.interfaces.values()]


def length_of(address: IPInterface, network: Network) -> int:
    """The prefix length that a box believes for one of its addresses: as written, else its network's; the internet has none."""
    if network.kind == "internet":
        return int(address.max_prefixlen)
    if isinstance(address, Alone4 | Alone6) or address.network.prefixlen != address.max_prefixlen:
        return address.network.prefixlen
    if address.version == 6 and int(address.ip) >> 118 == 0x3FA:
        return 64  # link-local, RFC 4291 section 2.5.6
    fitting = [
        subnet.prefixlen for subnet in network.subnets if subnet.version == address.version and address.ip in subnet
    ]
    return fitting[0] if fitting else int(address.max_prefixlen)


def believes_near(estate: Estate, box: Box, address: IPAddress) -> bool:
    """Whether a box believes that an address is a neighbour's."""
    for _, network, held in legs(estate, box):
        for each in held:
            if each.version == address.version and network.kind != "internet":
                length = length_of(each, network)
                if length < each.max_prefixlen and int(each.ip) >> (each.max_prefixlen - length) == int(address) >> (
                    each.max_prefixlen - length
                ):
                    return True
    return False


def online_leg(estate: Estate, box: Box, version: int) -> str | None:
    """The interface by which a box is on the internet itself with an address of a family."""
    for name, network, held in legs(estate, box):
        if network.kind == "internet" and any(each.version == version for each in held):
            return name
    return None


def router_beside(estate: Estate, box: Box, version: int) -> IPAddress | None:
    """The address of the router that shares a network with a box, else of a host that passes packets on: its gateway where
    none is written."""
    shared = {
        network.name
        for _, network, held in legs(estate, box)
        if network.kind != "host-only" and any(each.version == version for each in held)
    }
    for others in (estate.routers.values(), [each for each in estate.hosts.values() if passes_packets(each)]):
        for router in others:
            for interface in router.interfaces.values() if router is not box else ():
                if network_of(estate, interface).name in shared:
                    for each in interface.address:
                        if each.version == version:
                            return each.ip
    return None


def passes_packets(box: Box) -> bool:
    """Whether a box passes packets on: every router; a host that says so, or that translates for others."""
    if not isinstance(box, Machine):
        return False
    if box.passes_on is not None:
        return box.passes_on
    if isinstance(box, Router):
        return True
    return bool(box.masquerade or box.source_nat or box.one_to_one) or any(
        each.to not in (None, *addresses_of(box)) for each in box.forwards
    )


def several(first: IPAddress | None, last: IPAddress | None) -> list[IPAddress]:
    """The addresses from one to another."""
    if first is None:
        return []
    return [type(first)(number) for number in range(int(first), int(last or first) + 1)]


def routers_to_internet(estate: Estate, network: Network) -> list[tuple[Router, Interface]]:
    """The routers between a network and the internet, with their interfaces there."""
    found = []
    for router in estate.routers.values():
        if any(network_of(estate, each).name == network.name for each in router.interfaces.values()):
            outer = [each for each in router.interfaces.values() if network_of(estate, each).kind == "internet"]
            if outer:
                found.append((router, outer[0]))
    return found


def public(address: IPAddress) -> bool:
    """Whether the internet carries an address: global unicast, or one of the documentation ranges, which examples use so."""
    if address.version == 6:
        return int(address) >> 125 == 1
    return not any(address in each for each in PRIVATE)


#: What the internet does not carry (RFC 1122, 1918, 3927, 6598; multicast and reserved ranges).
PRIVATE: tuple[IPNetwork, ...] = tuple(
    map(
        ip_network,
        (
            "0.0.0.0/8",
            "10.0.0.0/8",
            "100.64.0.0/10",
            "127.0.0.0/8",
            "169.254.0.0/16",
            "172.16.0.0/12",
            "192.168.0.0/16",
            "224.0.0.0/3",
        ),
    )
)


def has(estate: Estate, address: IPAddress) -> bool:
    """Whether some machine of the estate has an address."""
    return any(
        address == each.ip
        for machine in every_machine(estate)
        for interface in machine.interfaces.values()
        for each in interface.address
    )


# -- the moment, and boots ---------------------------------------------------------------------------------------------


def in_force(estate: Estate, now: datetime, booted: frozenset[str] | None) -> Estate:
    """The estate as it is to be staged: addresses of the moment, and machines as their boots leave them (None: all booted)."""

    def past(value: Any) -> dict[str, Any]:
        """What was otherwise at the moment."""
        later = [each for each in value.before if now < each.until]
        facts: dict[str, Any] = min(later, key=lambda each: each.until).facts if later else {}
        return facts

    def machine_now(machine: Any) -> Any:
        boots = booted is None or machine.name in booted

        def now_(value: Any) -> Any:
            """The version that holds at the moment; of what boots, what is saved and what the boot makes otherwise."""
            facts = dict(past(value))
            if boots and value.saved is not None and value.saved.broken is None:
                facts |= value.saved.facts
            if boots and value.after_boot is not None:
                facts |= value.after_boot.facts
            return msgspec.structs.replace(value, **facts)

        machine = now_(machine)
        interfaces = {name: now_(each) for name, each in machine.interfaces.items()}
        services = {name: _startable(now_(each), boots) for name, each in machine.services.items()}
        return msgspec.structs.replace(machine, interfaces=interfaces, services=services)

    def edge_now(edge: Any) -> Any:
        """Until an edge's settings are in effect, those of before stand."""
        facts = past(edge)
        if not facts and edge.waits(now) and edge.before:
            facts = edge.before[0].facts
        # What an edge was before, it was in effect.
        return msgspec.structs.replace(edge, **({"in_effect_from": None, **facts} if facts else {}))

    def store_now(store: Any) -> Any:
        buckets = {name: msgspec.structs.replace(each, **past(each)) for name, each in store.buckets.items()}
        return msgspec.structs.replace(store, buckets=buckets, **past(store))

    return msgspec.structs.replace(
        estate,
        routers={name: machine_now(each) for name, each in estate.routers.items()},
        hosts={name: machine_now(each) for name, each in estate.hosts.items()},
        certificates={name: msgspec.structs.replace(each, **past(each)) for name, each in estate.certificates.items()},
        edges={name: edge_now(each) for name, each in estate.edges.items()},
        stores={name: store_now(each) for name, each in estate.stores.items()},
        zones={
            name: each if each.edge is None else msgspec.structs.replace(each, edge=edge_now(each.edge))
            for name, each in estate.zones.items()
        },
    )


def _startable(service: Service, boots: bool) -> Service:
    """A service that a boot gives a configuration that does not load stays down."""
    broken = service.saved.broken if boots and service.saved is not None else None
    return msgspec.structs.replace(service, failing=broken) if broken and service.state == "running" else service


# -- URLs --------------------------------------------------------------------------------------------------------------


def host_asked(url: str) -> str | None:
    """The name that a URL asks for, in its ASCII form; None for an address, and for what is no name."""
    try:
        host = (urlsplit(url).hostname or "").rstrip(".")
        ip_address(host)
    except ValueError:
        try:
            return _ascii_name(host) or None
        except (ValueError, UnboundLocalError):
            return None
    return None


def _ascii_name(host: str) -> str:
    """A name as clients ask for it: in its ASCII form (RFC 5891), in lower case. Raises ValueError where it has none."""
    if not host.isascii():
        import idna

        host = idna.encode(host, uts46=True).decode("ascii")  # raises a ValueError of its own
    if not re.fullmatch(r"[A-Za-z0-9_.-]{0,253}", host):
        raise ValueError("no name")
    return host.lower()


def path_asked(url: str) -> str:
    """The path that a URL asks for."""
    try:
        return urlsplit(url).path or "/"
    except ValueError:
        return "/"


def same_url(left: str, right: str | None) -> bool:
    """Whether two URLs are the same in their normal form (RFC 3986 section 6.2.2)."""
    return right is not None and _normal(left) == _normal(right)


#: What clients leave as it is in a path or query; the rest they send percent-encoded or not, which is the same address.
_UNENCODED = "".join(chr(code) for code in range(33, 127) if chr(code) not in '"<>`{}|^\\')


def _without_dots(path: str) -> str:
    """A path without dot segments, encoded ones included: some clients take them out, others let the server do so."""
    kept: list[str] = []
    segments = re.sub("%2e", ".", path, flags=re.IGNORECASE).split("/")[1:]
    for segment in segments:
        if segment == "..":
            kept = kept[:-1]
        elif segment != ".":
            kept.append(segment)
    return "/" + "/".join([*kept, *([""] if segments and segments[-1] in (".", "..") else [])])


def _normal(url: str) -> tuple[str, str, int | None, str, str]:
    try:
        parts = urlsplit(url)
        port = parts.port or {"http": 80, "https": 443}.get(parts.scheme.lower())
        host = parts.hostname or ""
        if not host.isascii():
            host = _ascii_name(host)
        path = quote(_without_dots(parts.path or "/"), safe=_UNENCODED)
        return parts.scheme.lower(), host, port, path, quote(parts.query, safe=_UNENCODED)
    except ValueError:
        return "", url, None, "", ""
