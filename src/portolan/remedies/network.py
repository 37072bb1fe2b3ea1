"""Remedies for lines, subnets and addresses."""

from collections.abc import Iterator
from ipaddress import ip_address
from typing import Any

from portolan.estate.base import PortRange, is_public
from portolan.estate.machine import Machine, Router
from portolan.estate.network import Interface, ListRule, Network
from portolan.estate.vantage import Vantage
from portolan.faults.base import Case, Finding, outside_addresses
from portolan.remedies.base import Proposal, append, item_path, put, remedy, replace
from portolan.remedies.way import askers
from portolan.wire.packet import Seen
from portolan.wire.topology import Port

#: The ports that visitors ask from: those of RFC 6335 section 6, and what older and other systems take.
CLIENT_PORTS = "1024-65535"


@remedy("line-port-blocked")
def ask_provider(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Leaves it to the provider, and shows what it would do."""
    interface, port = finding.hints["interface"], finding.hints["port"]
    if isinstance(interface, Interface):
        text = f"ask the provider of the line to let port {port} through; until then serve on another port, such as {8443 if port == 443 else 8080}"
        yield Proposal(text, put(interface.place, "provider_blocks", list(_without(interface.provider_blocks, port))))


def _without(ranges: tuple[PortRange, ...], port: int) -> Iterator[str | int]:
    for first, last in ranges:
        for low, high in ((first, min(last, port - 1)), (max(first, port + 1), last)):
            if low <= high:
                yield low if low == high else f"{low}-{high}"
            if not first <= port <= last:
                break


@remedy("line-shared-address")
def ask_for_own_address(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Leaves it to the provider; shows what a forward there would do."""
    carrier, router, port = finding.hints["carrier"], finding.hints["router"], finding.hints["port"]
    yield Proposal(
        "ask the provider for a public address of your own; or serve over IPv6, which needs no translation", []
    )
    if isinstance(carrier, Router) and isinstance(router, Router):
        on = next(
            name
            for name, each in carrier.interfaces.items()
            if finding.hints["address"] in [item.ip for item in each.address]
        )
        value = {"on": on, "tcp": port, "to": str(finding.hints["inside"])}
        text = f"ask the provider to send tcp port {port} of {finding.hints['address']} on to {finding.hints['inside']} ({router.name})"
        yield Proposal(text, append(carrier.place, "forwards", value))


@remedy("list-blocks-inbound", "list-blocks-replies", "outbound-blocked")
def allow_in_list(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Allows it in a line with a lower number."""
    network, way, packet = finding.hints.get("network"), finding.hints.get("way"), finding.hints.get("packet")
    if not isinstance(network, Network) or network.access_list is None or not isinstance(packet, Seen):
        return
    held = (network.access_list.inbound if way == "inbound" else network.access_list.outbound) or ()
    line = finding.hints.get("line")
    number = _free_number(held, line if isinstance(line, ListRule) else None)
    if number is None:
        return
    replies = finding.code == "list-blocks-replies"
    value: dict[str, Any] = {
        "number": number,
        "allow": packet.protocol,
        "ports": CLIENT_PORTS if replies else packet.dport,
    }
    what = f"{packet.protocol} answers to the askers' ports" if replies else f"{packet.protocol} port {packet.dport}"
    inside = not is_public(packet.dst if replies else packet.src)
    for source in askers(case) if inside else (None,):
        narrowed = value if source is None else {**value, "to" if replies else "from": source}
        who = "" if source is None else f" {'to' if replies else 'from'} {source}"
        text = f"allow {what}{who} in line {number} of {network.name}'s access list, {way}"
        yield Proposal(text, append(network.access_list.place, str(way), narrowed))


def _free_number(held: tuple[ListRule, ...], line: ListRule | None) -> int | None:
    """A free number before a line, as near as may be; behind the last one where no line decided."""
    taken = {rule.number for rule in held}
    if line is None:
        return next((number for number in range(max(taken, default=90) + 10, 65536) if number not in taken), None)
    return next((number for number in range(line.number - 1, 0, -1) if number not in taken), None)


@remedy("mask-wrong")
def right_mask(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Takes the written prefix length away, so that the network's counts."""
    stated, address = finding.hints["stated"], finding.hints["address"]
    if isinstance(stated, Interface | Vantage):
        index = next(at for at, item in enumerate(stated.address) if item.ip == address)
        yield Proposal(
            f"give {address} the mask of its network", replace(item_path(stated.place, "address", index), str(address))
        )


@remedy("address-duplicate")
def another_address(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Gives the box that is not the site's a free address."""
    box, address, name = finding.hints["box"], ip_address(str(finding.hints["address"])), str(finding.hints["network"])
    network = case.estate.networks.get(name)
    stated = box if isinstance(box, Interface) else getattr(box, "stated", None)
    if network is None or not isinstance(stated, Interface | Vantage):
        return
    held = set(case.world.topology.on_link.get(name, ()))
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
def ask_outside(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Names an address that is reachable, or what to connect."""
    port = finding.hints["port"]
    if isinstance(port, Port) and isinstance(port.device.stated, Machine):
        public = outside_addresses(case.estate, port.device.stated)
        if public:
            yield Proposal(f"ask for {public[0]}, which leads there from outside", [])
        yield Proposal(f"connect {port.device.label} to a network that a router leads out of", [])
