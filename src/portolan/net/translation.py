"""Address translation (RFC 3022): port forwards, one-to-one addresses, source NAT, masquerading, hairpin (RFC 4787)."""

from ipaddress import IPv4Address, IPv6Address

from portolan.estate.base import IPAddress, is_loopback
from portolan.estate.guesses import spread
from portolan.estate.machine import Forward, Machine, OneToOne, SourceNat
from portolan.estate.rules_here import LOOPBACK
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.net.packet import Packet
from portolan.net.routes import RouteLine
from portolan.net.sources import source_at
from portolan.net.topology import Device, Port
from portolan.source.value import Value

#: Where a machine's own connections go that are redirected to it.
_LOOPBACKS: tuple[IPAddress, IPAddress] = (IPv4Address("127.0.0.1"), IPv6Address("::1"))


class SentOn(Value, frozen=True):
    """What rewrote a destination, the decision, and over how many inside addresses it spreads connections."""

    by: Forward | OneToOne
    decision: Decision
    ways: int = 1


class Renamed(Value, frozen=True):
    """What rewrote a source, and under how many addresses connections leave."""

    decision: Decision
    ways: int = 1


def destination(device: Device, packet: Packet, entering: Port | None, choice: int) -> SentOn | None:
    """Rewrites a new packet's destination by the first forward that takes it, else by a one-to-one address.

    `entering` is None for the machine's own connections; `choice` says which of several inside addresses is taken.
    """
    machine = device.machine
    assert machine is not None
    own = packet.dv in device.own[packet.v6]
    if machine.own_services_first and own and entering is not None and _own(device, packet):
        return None
    for forward in device.forwards_at(packet.protocol, packet.dport):
        if _arrives(machine, forward, entering) and _is_asked(device, forward, packet) and _is_for(forward, packet):
            return _forwarded(device, forward, packet, entering, choice)
    if entering is None:
        return None
    for pair in machine.one_to_one:
        if packet.dst == pair.outside and (entering.name == pair.on or machine.hairpin != "off"):
            packet.goes_to(pair.inside)
            facts = (device.label, pair.outside, pair.inside)
            return SentOn(pair, connect_kinds.OneToOne(*facts, place=pair.place, subject=pair))
    return None


def _arrives(machine: Machine, forward: Forward, entering: Port | None) -> bool:
    """Whether a forward takes what comes by an interface; None: from the machine itself."""
    if entering is None:
        return forward.own_connections
    if entering.name in forward.not_on:
        return False
    return forward.on in (None, entering.name) or hairpin_of(machine, forward) != "off"


def hairpin_of(machine: Machine, sent_on: Forward | OneToOne) -> str:
    """What happens when a forward is asked from an inside interface."""
    return (sent_on.hairpin if isinstance(sent_on, Forward) else None) or machine.hairpin


def _is_asked(device: Device, forward: Forward, packet: Packet) -> bool:
    """Whether the address asked is one that a forward is for."""
    if isinstance(forward.address, tuple):
        return packet.dst in forward.address
    if forward.address == "any":
        return True
    port = device.own[packet.v6].get(packet.dv)
    if forward.address == "own":
        return port is not None or is_loopback(packet.dst)
    return port is not None and forward.on in (None, port.name)


def _is_for(forward: Forward, packet: Packet) -> bool:
    """Whether the asker is one that a forward is for, and of the IP version that it leads to."""
    return (
        (forward.to is None or forward.to.version == packet.dst.version)
        and (not forward.sources or any(packet.src in net for net in forward.sources))
        and not any(packet.src in net for net in forward.not_sources)
    )


def _forwarded(device: Device, forward: Forward, packet: Packet, entering: Port | None, choice: int) -> SentOn:
    asked = packet.dport
    targets = spread(forward.to, forward.up_to) or _itself(packet, entering)
    if not targets:
        assert entering is not None
        facts = (device.label, entering.name)
        return SentOn(forward, connect_kinds.RedirectNowhere(*facts, place=forward.place, subject=forward))
    target = targets[choice % len(targets)]
    packet.goes_to(target, None if forward.port is None else forward.port + asked - forward.outside.first)
    told = (device.label, packet.protocol, asked, packet.dst, packet.dport)
    decision = connect_kinds.Forwarded(*told, place=forward.place, subject=forward)
    return SentOn(forward, decision, len(targets))


def _itself(packet: Packet, entering: Port | None) -> tuple[IPAddress, ...]:
    """Where a redirect to the machine itself leads: loopback for its own connections, else the interface's address.

    Linux takes the first IPv4 address of an interface, and the IPv6 address that it got last (nf_nat_redirect).
    """
    if entering is None:
        return (_LOOPBACKS[packet.v6],)
    held = [each for each in entering.addresses if (each.version == 6) is packet.v6]
    return tuple(held[-1:] if packet.v6 else held[:1])


def _own(device: Device, packet: Packet) -> bool:
    """Whether a service of the machine itself takes it."""
    return device.sockets.choose(packet.dst, packet.dport, packet.protocol) is not None


def source(
    device: Device,
    packet: Packet,
    entering: Port | None,
    line: RouteLine,
    sent_on: Forward | OneToOne | None,
    choice: int,
) -> Renamed | None:
    """Rewrites a new packet's source where it leaves; the first kind that fits."""
    machine, out = device.machine, line.port
    assert machine is not None
    if sent_on is not None and out is entering and hairpin_of(machine, sent_on) == "full":
        address = source_at(out, line.via or packet.dst, packet.dst)
        if address is None:
            return None
        packet.comes_from(address)
        place = sent_on.place if isinstance(sent_on, Forward) and sent_on.hairpin else device.place
        return Renamed(connect_kinds.Hairpin(device.label, address, place=place.key("hairpin"), subject=device))
    for pair in machine.one_to_one:
        if pair.on == out.name and packet.src == pair.inside:
            packet.comes_from(pair.outside)
            facts = (device.label, pair.outside)
            return Renamed(connect_kinds.SourceFixed(*facts, place=pair.place, subject=pair))
    for rule in machine.source_nat:
        if rule.on == out.name and _leaves_so(rule, packet):
            return _renamed(device, packet, line, rule, choice)
    if not packet.v6 and out.name in machine.masquerade:
        address = source_at(out, line.via or packet.dst, packet.dst)
        if address is not None and packet.src != address:
            packet.comes_from(address)
            place = device.place.key("masquerade")
            return Renamed(connect_kinds.Masqueraded(device.label, address, place=place, subject=device))
    return None


def _leaves_so(rule: SourceNat, packet: Packet) -> bool:
    """Whether source NAT is for a packet; masquerading without ranges is for IPv4."""
    versions = {net.version for net in (*rule.sources, *rule.destinations)}
    version = packet.src.version
    ports = rule.tcp if packet.protocol == "tcp" else rule.udp if packet.protocol == "udp" else ()
    return (
        (version == rule.to.version if rule.to is not None else version in (versions or {4}))
        and (not rule.sources or any(packet.src in net for net in rule.sources))
        and not any(packet.src in net for net in rule.not_sources)
        and (not rule.destinations or any(packet.dst in net for net in rule.destinations))
        and not any(packet.dst in net for net in rule.not_destinations)
        and (not (rule.tcp or rule.udp) or any(packet.dport in each for each in ports))
    )


def _renamed(device: Device, packet: Packet, line: RouteLine, rule: SourceNat, choice: int) -> Renamed | None:
    held = spread(rule.to, rule.up_to)
    if held:
        address = held[choice % len(held)]
        packet.comes_from(address)
        fixed = connect_kinds.SourceFixed(device.label, address, place=rule.place, subject=rule)
        return Renamed(fixed, len(held))
    own = source_at(line.port, line.via or packet.dst, packet.dst)
    if own is None or packet.src == own:
        return None
    packet.comes_from(own)
    return Renamed(connect_kinds.Masqueraded(device.label, own, place=rule.place, subject=rule))


def source_inside(device: Device, packet: Packet, choice: int) -> Renamed | None:
    """Rewrites the source of what a machine sends to itself: it leaves by the loopback interface, and source NAT may be on that."""
    machine = device.machine
    assert machine is not None
    for rule in machine.source_nat:
        if rule.on == LOOPBACK and _leaves_so(rule, packet):
            held = (
                spread(rule.to, rule.up_to)
                or tuple(each for each in device.local if each.version == packet.dst.version)[:1]
            )
            if not held:
                return None
            address = held[choice % len(held)]
            packet.comes_from(address)
            fixed = connect_kinds.SourceFixed(device.label, address, place=rule.place, subject=rule)
            return Renamed(fixed, len(held) if rule.to is not None else 1)
    return None
