"""Faults of lines, subnets and addresses: what providers block and share, access lists, masks, one address twice."""

from collections.abc import Iterator
from typing import Any

import msgspec

from portolan.diagnosis.base import Case, Finding, Home, addresses_of, fault, outside_addresses, reached_by
from portolan.diagnosis.filtering import ChainClue, askers, chain_of
from portolan.diagnosis.proposal import Proposal, append, item_path, put, remedy, replace
from portolan.estate.base import IPAddress, PortRange, is_public
from portolan.estate.machine import Machine, Router
from portolan.estate.network import Interface, ListRule, Network
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.packet import Seen
from portolan.net.topology import Device, Port


class LineClue(msgspec.Struct, frozen=True):
    """The interface to the line, and the port blocked on it."""

    port: int
    interface: Interface


class CarrierClue(msgspec.Struct, frozen=True):
    """Who shares the address, the router behind, and what is to be sent on."""

    carrier: Machine
    router: Router
    address: IPAddress
    inside: IPAddress
    port: int
    home: Home | None


class ListClue(msgspec.Struct, frozen=True):
    """The access list's network, its direction, the packet, and the line that decided."""

    network: Network | None
    way: str
    packet: Seen
    line: ListRule | None
    replies: bool = False


class MaskClue(msgspec.Struct, frozen=True):
    """The interface with the wrong mask, and the address."""

    stated: object
    address: object


class TwiceClue(msgspec.Struct, frozen=True):
    """The address that two boxes have, one of them, and their network."""

    address: IPAddress
    box: object
    network: str


class IsolatedClue(msgspec.Struct, frozen=True):
    """Where the address that was asked is attached."""

    port: Port


_AT_CARRIER = (
    "nothing-listens",
    "filter-drops",
    "filter-rejects",
    "service-stopped",
    "wrong-page",
    "not-found",
    "no-index-file",
    "plain-spoken",
    "name-mismatch",
    "not-web",
    "speaks-no-tls",
)


@fault(
    "line-port-blocked",
    "The provider of the line blocks the port",
    "a time-out, from outside",
    "Ask the provider of the line to let the port through; until then serve on a port that it leaves open, and say it in the "
    "address.",
    "line-blocks",
)
def line_port_blocked(case: Case) -> Finding | None:
    """The packet ended at the provider's edge."""
    stop = case.stop
    if not isinstance(stop, connect_kinds.LineBlocks) or not isinstance(stop.subject, Interface):
        return None
    return Finding("line-port-blocked", stop.text, stop.place, clue=LineClue(port=stop.port, interface=stop.subject))


@fault(
    "line-shared-address",
    "The router's outside address is not public: the provider shares one among many lines",
    "a time-out or a refusal, from outside",
    "Ask the provider for a public address of your own, or to send the port on; IPv6 may reach you directly.",
    *_AT_CARRIER,
)
def line_shared_address(case: Case) -> Finding | None:
    """The provider's router was asked, and the site is behind a router of ours behind it."""
    connection, reached = case.exchange.connection, reached_by(case)
    if (
        not isinstance(reached, Router)
        or not reached.provider
        or connection is None
        or connection.address not in addresses_of(reached)
    ):
        return None
    for router in case.estate.routers.values():
        shared = [
            item.ip
            for interface in router.interfaces.values()
            for item in interface.address
            if interface.network in _networks(reached) and not is_public(item.ip)
        ]
        if router is reached or not shared:
            continue
        homes = [home for home in case.homes() if _networks(home.machine) & _networks(router)]
        if homes or not case.homes():
            text = (
                f"{connection.address} is the provider's ({reached.name}), shared by many lines: {router.name}'s own outside address "
                f"{shared[0]} is not public, and nobody outside reaches it"
            )
            return Finding(
                "line-shared-address",
                text,
                reached.place,
                clue=CarrierClue(
                    carrier=reached,
                    router=router,
                    inside=shared[0],
                    port=connection.port,
                    address=connection.address,
                    home=homes[0] if homes else None,
                ),
            )
    return None


def _networks(machine: Machine) -> set[str]:
    return {interface.network for interface in machine.interfaces.values()} - {"internet"}


@fault(
    "list-blocks-replies",
    "The subnet's access list denies the answers' ports",
    "a time-out",
    "An access list keeps no state: allow answers to the ports that visitors ask from, 1024 to 65535.",
    "list-drops",
)
def list_blocks_replies(case: Case) -> Finding | None:
    """The answer was thrown away by a list."""
    stop = case.stop
    if not isinstance(stop, connect_kinds.ListDrops) or not case.answer_lost:
        return None
    return Finding(
        "list-blocks-replies", stop.text, stop.place, clue=msgspec.structs.replace(_list_clue(case, stop), replies=True)
    )


@fault(
    "list-blocks-inbound",
    "The subnet's access list denies it",
    "a time-out",
    "Allow the port in a line with a lower number than the one that denies it.",
    "list-drops",
)
def list_blocks_inbound(case: Case) -> Finding | None:
    """The question was thrown away where it would enter the site's network."""
    stop = case.stop
    if not isinstance(stop, connect_kinds.ListDrops) or _own_network(case, stop):
        return None
    return Finding("list-blocks-inbound", stop.text, stop.place, clue=_list_clue(case, stop))


def _own_network(case: Case, stop: connect_kinds.ListDrops) -> bool:
    """Whether the list is that of the asker's own network, on the way out."""
    mine = {port.network.name for port in case.device.ports}
    return stop.way == "out" and stop.network in mine


def _list_clue(case: Case, stop: connect_kinds.ListDrops) -> ListClue:
    network = stop.subject if isinstance(stop.subject, Network) else case.estate.networks.get(stop.network)
    way = "inbound" if stop.way == "in" else "outbound"
    line = stop.subject if isinstance(stop.subject, ListRule) else None
    return ListClue(network, way, stop.packet, line)


@fault(
    "outbound-blocked",
    "The asker's own machine or network stops that port",
    "a time-out, there only",
    "Open the port on the asker's side, or ask from elsewhere.",
    "filter-drops",
    "filter-rejects",
    "group-drops",
    "list-drops",
)
def outbound_blocked(case: Case) -> Finding | None:
    """The visitor's own filter stops it, its network's list, or the router on its way out."""
    stop = case.stop
    if stop is None or stop.place is None or not case.ended_on_its_way:
        return None
    path = stop.place.path
    if path[:1] == ("vantages",):
        return Finding("outbound-blocked", stop.text, stop.place, clue=ChainClue(chain_of(case)))
    if isinstance(stop, connect_kinds.ListDrops) and _own_network(case, stop):
        return Finding("outbound-blocked", stop.text, stop.place, clue=_list_clue(case, stop))
    router = (
        case.estate.routers.get(str(path[1]))
        if len(path) > 2 and path[0] == "routers" and path[-2:] != ("inbound", "default")
        else None
    )
    if router is None or "forward" not in path or case.decision(connect_kinds.Forwarded) is not None:
        return None
    mine = {port.network.name for port in case.device.ports} - {"internet"}
    beyond = {name for home in case.homes() for name in _networks(home.machine)}
    if mine & _networks(router) and not beyond & _networks(router):
        return Finding("outbound-blocked", stop.text, stop.place, clue=ChainClue(chain_of(case)))
    return None


@fault(
    "mask-wrong",
    "One side believes that the other is a neighbour",
    "a time-out or unreachable, one way",
    "Give the address the prefix length of its network.",
    "neighbour-missing",
    "no-route",
    "reply-lost",
    "reply-stranger",
    "reply-astray",
    "later-lost",
    "later-rejected",
)
def mask_wrong(case: Case) -> Finding | None:
    """A box on the way has another mask than its network, and what it asked for lies where the two differ."""
    stop = case.stop
    inner = stop.subject if stop is not None and isinstance(stop.subject, Decision) else stop
    if stop is None or inner is None:
        return None
    connection = case.exchange.connection
    asker = case.device
    devices: list[Device] = [asker]
    if connection is not None and connection.reached is not None:
        devices.append(case.world.topology.device(connection.reached))
    for device in devices:
        for port in device.ports:
            for address, prefix in zip(port.addresses, port.prefixes, strict=True):
                right = next((subnet for subnet in port.network.subnets if address in subnet), None)
                if prefix is not None and right is not None and prefix != right and _concerns(case, device, port):
                    text = f"{device.label} has {address} with the mask /{prefix.prefixlen}, and {port.network.name} is {right}: {stop.text}"
                    place = (port.stated or device.stated).place.key("address")
                    return Finding(
                        "mask-wrong", text, place, clue=MaskClue(stated=port.stated or device.stated, address=address)
                    )
    return None


def _concerns(case: Case, device: Device, port: Port) -> bool:
    """Whether the peer lies where the written mask and the network's differ."""
    connection = case.exchange.connection
    asker = case.device
    peers: list[IPAddress | None] = []
    if connection is not None:
        peers = [connection.address] if device is asker else [connection.seen_from, *asker.local]
    for address, prefix in zip(port.addresses, port.prefixes, strict=True):
        right = next((subnet for subnet in port.network.subnets if address in subnet), None)
        if prefix is None or right is None:
            continue
        for peer in peers:
            if peer is not None and peer.version == prefix.version and (peer in prefix) != (peer in right):
                return True
        gateways = device.stated.gateway if isinstance(device.stated.gateway, tuple) else ()
        if any(each in right and each not in prefix for each in gateways) or _left_out(case, port, prefix, right):
            return True
    return False


def _left_out(case: Case, port: Port, prefix: object, right: object) -> bool:
    """Whether the mask leaves out every router of the network."""
    held = [
        item.ip
        for router in case.estate.routers.values()
        for interface in router.interfaces.values()
        if interface.network == port.network.name
        for item in interface.address
    ]
    return bool(held) and not any(each in prefix for each in held if each in right)  # type: ignore[operator]


@fault(
    "address-duplicate",
    "Two boxes have one address",
    "now and then another box, or nothing",
    "Give one of them another address; look at what leases hand out beside fixed addresses.",
    "*",
)
def address_duplicate(case: Case) -> Finding | None:
    """An address on the way is on its network more than once, and the box that answers is not the site's."""
    twice = case.decision(connect_kinds.AddressTwice)
    if twice is None:
        return None
    address, boxes, here = twice.address, twice.boxes, twice.here
    home = next((each.machine.name for each in case.homes() if each.machine.name in boxes.split(", ")), None)
    if home == here:
        return None
    text = f"{boxes} both have {address}: now and then {here} answers"
    return Finding(
        "address-duplicate",
        text,
        twice.place,
        clue=TwiceClue(address=address, box=twice.subject, network=twice.network),
    )


@fault(
    "network-isolated",
    "The site's network is not connected to the asker's",
    "unreachable, or a time-out",
    "Connect the machine to a network that a router leads out of (bridged, not host-only), or ask by an address that is reachable "
    "from there.",
    "no-route",
    "internet-private",
    "neighbour-missing",
    "reply-lost",
    "route-ends",
)
def network_isolated(case: Case) -> Finding | None:
    """The address belongs to a network that nothing leads to from here."""
    connection, stop = case.exchange.connection, case.stop
    taken = case.decision(connect_kinds.Forwarded)
    address = taken.to if taken is not None else connection.address if connection is not None else None
    held = case.world.topology.holders(address) if address is not None else []
    if (
        stop is None
        or not held
        or (
            case.visit.stop is not None
            and isinstance(case.visit.stop, connect_kinds.ReplyLost)
            and held[0].network.kind != "host-only"
        )
    ):
        return None
    port = held[0]
    asker = case.device
    if port.network.kind == "internet" or any(each.network is port.network for each in asker.ports):
        return None
    if case.exchange.url.literal is None and port.network.kind != "host-only":
        return None
    what = (
        "is a host-only network, from which no router leads out"
        if port.network.kind == "host-only"
        else "is not connected to it"
    )
    text = f"{port.device.label} has {address} on {port.network.name}, which {what}; {case.client.name} is elsewhere"
    return Finding("network-isolated", text, port.place, clue=IsolatedClue(port))


# -- remedies --

#: The ports that visitors ask from: those of RFC 6335 section 6, and what older and other systems take.
CLIENT_PORTS = "1024-65535"


@remedy("line-port-blocked")
def ask_provider(_case: Case, clue: LineClue) -> Iterator[Proposal]:
    """Leaves it to the provider, and shows what it would do."""
    interface, port = clue.interface, clue.port
    text = f"ask the provider of the line to let port {port} through; until then serve on another port, such as {8443 if port == 443 else 8080}"
    yield Proposal(text, put(interface.place, "provider_blocks", list(_without(interface.provider_blocks, port))))


def _without(ranges: tuple[PortRange, ...], port: int) -> Iterator[str | int]:
    for each in ranges:
        for low, high in ((each.first, min(each.last, port - 1)), (max(each.first, port + 1), each.last)):
            if low <= high:
                yield low if low == high else f"{low}-{high}"
            if port not in each:
                break


@remedy("line-shared-address")
def ask_for_own_address(_case: Case, clue: CarrierClue) -> Iterator[Proposal]:
    """Leaves it to the provider; shows what a forward there would do."""
    carrier, router, port = clue.carrier, clue.router, clue.port
    yield Proposal(
        "ask the provider for a public address of your own; or serve over IPv6, which needs no translation", []
    )
    if isinstance(carrier, Router):
        on = next(
            name for name, each in carrier.interfaces.items() if clue.address in [item.ip for item in each.address]
        )
        value = {"on": on, "tcp": port, "to": str(clue.inside)}
        text = f"ask the provider to send tcp port {port} of {clue.address} on to {clue.inside} ({router.name})"
        yield Proposal(text, append(carrier.place, "forwards", value))


@remedy("list-blocks-inbound", "list-blocks-replies", "outbound-blocked")
def allow_in_list(case: Case, clue: object) -> Iterator[Proposal]:
    """Allows it in a line before the one that decided."""
    if not isinstance(clue, ListClue):
        return
    network, way, packet = clue.network, clue.way, clue.packet
    if network is None or network.access_list is None:
        return
    held = (network.access_list.inbound if way == "inbound" else network.access_list.outbound) or ()
    at = next((number for number, each in enumerate(held) if each is clue.line), None)
    replies = clue.replies
    value: dict[str, Any] = {
        "allow": packet.protocol,
        "ports": CLIENT_PORTS if replies else packet.dport,
    }
    what = f"{packet.protocol} answers to the askers' ports" if replies else f"{packet.protocol} port {packet.dport}"
    where = "at the end of" if at is None else f"before line {at + 1} of"
    inside = not is_public(packet.dst if replies else packet.src)
    for sources in askers(case) if inside else ((),):
        narrowed = {**value, "to" if replies else "from": [*sources]} if sources else value
        who = f" {'to' if replies else 'from'} {', '.join(sources)}" if sources else ""
        text = f"allow {what}{who} {where} {network.name}'s access list, {way}"
        yield Proposal(text, append(network.access_list.place, way, narrowed, at))


@remedy("mask-wrong")
def right_mask(_case: Case, clue: MaskClue) -> Iterator[Proposal]:
    """Takes the written prefix length away, so that the network's counts."""
    stated, address = clue.stated, clue.address
    if isinstance(stated, Interface | Vantage):
        index = next(at for at, item in enumerate(stated.address) if item.ip == address)
        yield Proposal(
            f"give {address} the mask of its network", replace(item_path(stated.place, "address", index), str(address))
        )


@remedy("address-duplicate")
def another_address(case: Case, clue: TwiceClue) -> Iterator[Proposal]:
    """Gives the box that is not the site's a free address."""
    box, address, name = clue.box, clue.address, clue.network
    network = case.estate.networks.get(name)
    stated = box if isinstance(box, Interface) else getattr(box, "stated", None)
    if network is None or not isinstance(stated, Interface | Vantage):
        return
    held = {each for port in case.world.topology.on_link(name) for each in port.addresses}
    subnet = next((each for each in network.subnets if address in each), None)
    free = (
        next((each for each in list(subnet.hosts())[::-1] if each not in held), None)
        if subnet is not None and subnet.num_addresses < 70000
        else None
    )
    if free is not None:
        index = next(at for at, item in enumerate(stated.address) if item.ip == address)
        whose = stated.name if isinstance(stated, Vantage) else str(stated.place.path[1])
        yield Proposal(
            f"give {whose} another address, such as {free}",
            replace(item_path(stated.place, "address", index), str(free)),
        )


@remedy("network-isolated")
def ask_outside(case: Case, clue: IsolatedClue) -> Iterator[Proposal]:
    """Names an address that is reachable, or what to connect."""
    port = clue.port
    if isinstance(port.device.stated, Machine):
        machine, at = port.device.stated, case.exchange.url.port
        for address in dict.fromkeys((*machine.addresses, *outside_addresses(case.estate, machine))):
            arrival = case.world.connect(case.client, address, at).arrival
            if arrival is not None and arrival.machine.name == machine.name:
                yield Proposal(f"ask for {address}, which leads there", [])
                break
        yield Proposal(f"connect {port.device.label} to a network that a router leads out of", [])
