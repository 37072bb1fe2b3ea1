"""Address translation (RFC 3022): port forwards, one-to-one addresses, fixed sources, masquerading, hairpin (RFC 4787)."""

from portolan.estate.machine import Forward, OneToOne
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.net.packet import Packet
from portolan.net.topology import Device, Port, RouteLine


def destination(device: Device, packet: Packet, entering: Port) -> tuple[Forward | OneToOne, Decision] | None:
    """Rewrites a new packet's destination by the first forward that takes it, else by a one-to-one address."""
    router = device.router
    assert router is not None
    outside = device.own[packet.v6].get(packet.dv)
    turned = router.hairpin != "off"
    if outside is not None and (outside is entering or turned):
        if router.own_services_first and _own(device, packet):
            return None
        for forward in device.forwards_at(packet.protocol, packet.dport):
            if (
                outside.name == forward.on
                and forward.to.version == packet.dst.version
                and (not forward.sources or any(packet.src in net for net in forward.sources))
            ):
                asked = packet.dport
                packet.goes_to(
                    forward.to, None if forward.port is None else forward.port + asked - forward.outside.first
                )
                facts = (device.label, packet.protocol, asked, packet.dst, packet.dport)
                return forward, connect_kinds.Forwarded(*facts, place=forward.place, subject=forward)
    for pair in router.one_to_one:
        if packet.dst == pair.outside and (entering.name == pair.on or turned):
            packet.goes_to(pair.inside)
            return pair, connect_kinds.OneToOne(device.label, pair.outside, pair.inside, place=pair.place, subject=pair)
    return None


def _own(device: Device, packet: Packet) -> bool:
    """Whether a service of the router itself takes it."""
    return device.sockets.choose(packet.dst, packet.dport, packet.protocol) is not None


def source(
    device: Device, packet: Packet, entering: Port | None, line: RouteLine, sent_on: Forward | OneToOne | None
) -> Decision | None:
    """Rewrites a new packet's source where it leaves; the first kind that fits."""
    router, out = device.router, line.port
    assert router is not None
    if sent_on is not None and router.hairpin == "full" and out is entering:
        address = out.source_for(line.via or packet.dst)
        if address is None:
            return None
        packet.comes_from(address)
        return connect_kinds.Hairpin(device.label, address, place=device.place.key("hairpin"), subject=device)
    for pair in router.one_to_one:
        if pair.on == out.name and packet.src == pair.inside:
            packet.comes_from(pair.outside)
            return connect_kinds.SourceFixed(device.label, pair.outside, place=pair.place, subject=pair)
    for rule in router.source_nat:
        if (
            rule.on == out.name
            and rule.to.version == packet.src.version
            and (not rule.sources or any(packet.src in net for net in rule.sources))
        ):
            packet.comes_from(rule.to)
            return connect_kinds.SourceFixed(device.label, rule.to, place=rule.place, subject=rule)
    if not packet.v6 and out.name in router.masquerade:
        address = out.source_for(line.via or packet.dst)
        if address is not None and packet.src != address:
            packet.comes_from(address)
            return connect_kinds.Masqueraded(
                device.label, address, place=device.place.key("masquerade"), subject=device
            )
    return None
