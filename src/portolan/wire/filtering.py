"""Filters and security groups: which rule decides."""

from typing import Literal

from portolan.estate.base import IPAddress, PortRange
from portolan.estate.filter import Chain, FilterRule, Verdict
from portolan.estate.network import GroupRule
from portolan.evidence.decision import Decision
from portolan.source.place import Place
from portolan.wire import law
from portolan.wire.packet import Packet
from portolan.wire.topology import Device, Port, Topology

ChainName = Literal["inbound", "forward", "outbound"]
Outcome = tuple[Verdict, Decision | None, FilterRule | None]

_PASS: Outcome = ("allow", None, None)


def through_filter(
    device: Device, name: ChainName, packet: Packet, entering: Port | None, leaving: Port | None, forwarded: bool
) -> Outcome:
    """What a device's filter does with a packet, and the decision to show; the first rule that matches ends it."""
    filtering = device.filter
    if filtering is None:
        return _PASS
    chain: Chain | None = getattr(filtering, name)
    if chain is None or (filtering.stateful and packet.state in ("established", "related")):
        return _PASS
    for rule in chain.rules:
        if _matches(rule, packet, entering, leaving, forwarded):
            return _outcome(device, packet, name, rule.verdict, rule, rule.place)
    return _outcome(device, packet, name, chain.default, None, chain.place.key("default"))


def _outcome(
    device: Device, packet: Packet, name: str, verdict: Verdict, rule: FilterRule | None, place: Place
) -> Outcome:
    which = f"{name}, rule {int(rule.place.path[-1]) + 1}" if rule is not None else f"{name}, default"
    kind = {"allow": law.FILTER_ALLOWS, "drop": law.FILTER_DROPS, "reject": law.FILTER_REJECTS}[verdict]
    answer = (rule.answer if rule is not None else None) or "port-unreachable"
    shown = packet.seen()
    facts = (device.label, which, shown, answer) if verdict == "reject" else (device.label, which, shown)
    return verdict, Decision(kind, facts, place, rule if rule is not None else device.filter), rule


def _matches(rule: FilterRule, packet: Packet, entering: Port | None, leaving: Port | None, forwarded: bool) -> bool:
    protocol = rule.protocol
    return (
        (protocol == "any" or protocol == packet.protocol)
        and (not rule.ports or _within(packet.dport, rule.ports))
        and (not rule.source_ports or _within(packet.sport, rule.source_ports))
        and (not rule.sources or any(packet.src in net for net in rule.sources))
        and (not rule.destinations or any(packet.dst in net for net in rule.destinations))
        and (not rule.entering or (entering is not None and entering.name in rule.entering))
        and (not rule.leaving or (leaving is not None and leaving.name in rule.leaving))
        and (not rule.state or packet.state in rule.state)
        and (rule.forwarded is None or rule.forwarded is forwarded)
    )


def _within(port: int, ranges: tuple[PortRange, ...]) -> bool:
    return any(first <= port <= last for first, last in ranges)


def through_groups(topology: Topology, port: Port, packet: Packet, inbound: bool) -> Decision | None:
    """What the security groups of an interface decide; None where there are none or the connection is known."""
    if port.groups is None or packet.state in ("established", "related"):
        return None
    groups = [topology.estate.groups[name] for name in port.groups]
    peer = packet.src if inbound else packet.dst
    way = "in" if inbound else "out"
    place = f"{port.device.label}, interface {port.name}"
    for group in groups:
        rules = group.inbound if inbound else group.outbound
        if rules is None:
            return Decision(law.GROUP_ALLOWS, (place, group.name, way), group.place, group)
        for rule in rules:
            if _allows(topology, rule, packet, peer):
                return Decision(law.GROUP_ALLOWS, (place, group.name, way), rule.place, rule)
    names = ", ".join(group.name for group in groups) or "an empty list"
    return Decision(law.GROUP_DROPS, (place, names, way, packet.seen()), port.place.key("groups"), port.stated)


def _allows(topology: Topology, rule: GroupRule, packet: Packet, peer: IPAddress) -> bool:
    if rule.allow not in ("any", packet.protocol):
        return False
    if rule.ports and not _within(packet.dport, rule.ports):
        return False
    return not rule.peers or any(
        peer in (topology.members[each] if isinstance(each, str) else each) for each in rule.peers
    )
