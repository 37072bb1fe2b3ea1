"""Faults of lines, subnets and addresses: what providers block and share, access lists, masks, one address twice."""

from portolan.estate.base import IPAddress, is_public
from portolan.estate.guesses import network_name
from portolan.estate.machine import Machine, Router
from portolan.estate.network import ListRule, Network
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.faults.base import Case, Finding, addresses_of, fault, reached_by
from portolan.wire.topology import Device, Port

_AT_CARRIER = (
    "nothing-listens",
    "filter-drops",
    "filter-rejects",
    "service-stopped",
    "wrong-page",
    "not-found",
    "no-default",
    "plain-spoken",
    "name-mismatch",
    "not-web",
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
    if stop is None:
        return None
    return Finding(
        "line-port-blocked", stop.text, stop.place, hints={"port": int(stop.facts[1]), "interface": stop.subject}
    )


@fault(
    "line-shared-address",
    "The router's outside address is not public: the provider shares one among many lines",
    "a time-out or a refusal, from outside",
    "Ask the provider for a public address of your own, or to send the port on; IPv6 may reach you directly.",
    *_AT_CARRIER,
)
def line_shared_address(case: Case) -> Finding | None:
    """The provider's router was asked, and the site is behind a router of ours behind it."""
    connection, reached = case.last.connection, reached_by(case)
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
            if network_name(interface) in _networks(reached) and not is_public(item.ip)
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
                hints={
                    "carrier": reached,
                    "router": router,
                    "inside": shared[0],
                    "port": connection.port,
                    "address": connection.address,
                    "home": homes[0] if homes else None,
                },
            )
    return None


def _networks(machine: Machine) -> set[str]:
    return {network_name(interface) for interface in machine.interfaces.values()} - {"internet"}


@fault(
    "list-blocks-replies",
    "The subnet's access list denies the answers' ports",
    "a time-out",
    "An access list keeps no state: allow answers to the ports that visitors ask from, 1024 to 65535.",
    "list-denies",
)
def list_blocks_replies(case: Case) -> Finding | None:
    """The answer was thrown away by a list."""
    stop = case.stop
    if stop is None or not case.answer_lost:
        return None
    return Finding("list-blocks-replies", stop.text, stop.place, hints=_list_hints(case, stop))


@fault(
    "list-blocks-inbound",
    "The subnet's access list denies it",
    "a time-out",
    "Allow the port in a line with a lower number than the one that denies it.",
    "list-denies",
)
def list_blocks_inbound(case: Case) -> Finding | None:
    """The question was thrown away where it would enter the site's network."""
    stop = case.stop
    if stop is None or _own_network(case, stop):
        return None
    return Finding("list-blocks-inbound", stop.text, stop.place, hints=_list_hints(case, stop))


def _own_network(case: Case, stop: Decision) -> bool:
    """Whether the list is that of the asker's own network, on the way out."""
    mine = {port.network.name for port in case.world.topology.device(case.visit.vantage).ports}
    return stop.kind == "list-denies" and stop.facts[1] == "out" and stop.facts[0] in mine


def _list_hints(case: Case, stop: Decision) -> dict[str, object]:
    network = stop.subject if isinstance(stop.subject, Network) else case.estate.networks.get(str(stop.facts[0]))
    return {
        "network": network,
        "way": "inbound" if stop.facts[1] == "in" else "outbound",
        "packet": stop.facts[3],
        "line": stop.subject if isinstance(stop.subject, ListRule) else None,
    }


@fault(
    "outbound-blocked",
    "The asker's own machine or network stops that port",
    "a time-out, there only",
    "Open the port on the asker's side, or ask from elsewhere.",
    "filter-drops",
    "filter-rejects",
    "group-drops",
    "list-denies",
)
def outbound_blocked(case: Case) -> Finding | None:
    """The visitor's own filter stops it, its network's list, or the router on its way out."""
    stop = case.stop
    if stop is None or stop.place is None or not case.ended_on_its_way:
        return None
    path = stop.place.path
    if path[:1] == ("vantages",):
        return Finding("outbound-blocked", stop.text, stop.place, hints={"chain": chain_of(case)})
    if _own_network(case, stop):
        return Finding("outbound-blocked", stop.text, stop.place, hints=_list_hints(case, stop))
    router = (
        case.estate.routers.get(str(path[1]))
        if len(path) > 2 and path[0] == "routers" and path[-2:] != ("inbound", "default")
        else None
    )
    if router is None or "forward" not in path or case.decision("forwarded") is not None:
        return None
    mine = {port.network.name for port in case.world.topology.device(case.visit.vantage).ports} - {"internet"}
    beyond = {name for home in case.homes() for name in _networks(home.machine)}
    if mine & _networks(router) and not beyond & _networks(router):
        return Finding("outbound-blocked", stop.text, stop.place, hints={"chain": chain_of(case)})
    return None


def chain_of(case: Case) -> object:
    """The chain whose rule or default decided."""
    stop = case.stop
    if stop is None or stop.place is None:
        return None
    path = stop.place.path
    at = next((index for index, part in enumerate(path) if part in ("filter", "filter_after_boot")), -1)
    if at < 0 or len(path) <= at + 1:
        return None
    owner: Machine | Vantage | None = case.visit.vantage
    if path[0] in ("routers", "hosts"):
        owner = (case.estate.routers if path[0] == "routers" else case.estate.hosts).get(str(path[1]))
    filtering = owner.filter if owner is not None else None
    if filtering is None:
        return None
    if path[at + 1] in ("chains", "areas") and len(path) > at + 2:
        return getattr(filtering, str(path[at + 1])).get(path[at + 2])
    return getattr(filtering, str(path[at + 1]), None)


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
)
def mask_wrong(case: Case) -> Finding | None:
    """A box on the way has another mask than its network, and what it asked for lies where the two differ."""
    stop = case.stop
    inner = stop.subject if stop is not None and isinstance(stop.subject, Decision) else stop
    if stop is None or inner is None:
        return None
    connection = case.last.connection
    asker = case.world.topology.device(case.visit.vantage)
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
                        "mask-wrong", text, place, hints={"stated": port.stated or device.stated, "address": address}
                    )
    return None


def _concerns(case: Case, device: Device, port: Port) -> bool:
    """Whether the peer lies where the written mask and the network's differ."""
    connection = case.last.connection
    asker = case.world.topology.device(case.visit.vantage)
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
        if network_name(interface) == port.network.name
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
    twice = case.decision("address-twice")
    if twice is None:
        return None
    address, boxes, here = twice.facts[0], str(twice.facts[2]), str(twice.facts[3])
    home = next((each.machine.name for each in case.homes() if each.machine.name in boxes.split(", ")), None)
    if home == here:
        return None
    text = f"{boxes} both have {address}: now and then {here} answers"
    return Finding(
        "address-duplicate",
        text,
        twice.place,
        hints={"address": address, "box": twice.subject, "network": twice.facts[1]},
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
    connection, stop = case.last.connection, case.stop
    taken = case.decision("forwarded")
    address = taken.facts[3] if taken is not None else connection.address if connection is not None else None
    held = (
        [ports[address] for ports in case.world.topology.on_link.values() if address in ports]
        if address is not None
        else []
    )
    if (
        stop is None
        or not held
        or (
            case.visit.stop is not None and case.visit.stop.kind == "reply-lost" and held[0].network.kind != "host-only"
        )
    ):
        return None
    port = held[0]
    asker = case.world.topology.device(case.visit.vantage)
    if port.network.kind == "internet" or any(each.network is port.network for each in asker.ports):
        return None
    if case.last.url.literal is None and port.network.kind != "host-only":
        return None
    what = (
        "is a host-only network, from which no router leads out"
        if port.network.kind == "host-only"
        else "is not connected to it"
    )
    text = f"{port.device.label} has {address} on {port.network.name}, which {what}; {case.visit.vantage.name} is elsewhere"
    return Finding("network-isolated", text, port.place, hints={"port": port, "asked": address})
