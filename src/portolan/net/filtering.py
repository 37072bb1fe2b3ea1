"""Filters, security groups and access lists: which rule decides."""

from portolan.estate.base import IPAddress, PortRange
from portolan.estate.filter import Basic, Chain, ChainName, FilterRule, OneFilter, Verdict
from portolan.estate.network import GroupRule, ListRule, Network
from portolan.estate.rules_here import LOOPBACK
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.packet import State
from portolan.net.packet import Packet
from portolan.net.rules import Circumstances, matches
from portolan.net.topology import Device, Port, Topology
from portolan.source.place import Place
from portolan.source.value import Value

#: Neighbour discovery (RFC 4861): connection tracking leaves it alone.
DISCOVERY = (
    "router-solicitation",
    "router-advertisement",
    "neighbour-solicitation",
    "neighbour-advertisement",
)


class Outcome(Value, frozen=True):
    """What a filter does with a packet, the decision to show, the rule that decided, and what was assumed about it."""

    verdict: Verdict
    decision: Decision | None = None
    rule: FilterRule | None = None
    assumed: Decision | None = None


_PASS = Outcome("allow")
_KINDS = {"allow": connect_kinds.FilterAllows, "drop": connect_kinds.FilterDrops, "reject": connect_kinds.FilterRejects}


def through_filter(device: Device, filtering: OneFilter, name: ChainName, packet: Packet, at: Circumstances) -> Outcome:
    """What a filter of a device does with a packet, and the decision to show; the first rule that ends it decides.

    What passes by the basics is not asked about; where the filter leaves the basics unsaid, the rules are asked none the
    less, and that they would have stopped it is told as assumed.
    """
    chain: Chain | None = getattr(filtering, name)
    if chain is None:
        return _PASS
    # Most packets asked about are new ones that go from one interface to another: nothing passes them but the rules.
    plain = packet.state is State.NEW and LOOPBACK not in (at.entering, at.leaving)
    basics = () if plain or name == "arriving" else _basics(filtering, packet, at)
    if any(_stated(filtering, chain, each) for each in basics):
        return _PASS
    if basics:
        if chain.default == "allow" and not device.prepared(chain).drops:
            return _PASS
        asked = _asked(device, filtering, name, chain, packet, at)
        if asked.verdict == "allow":
            return _PASS
        place = filtering.place
        facts = (device.label, basics[0], name, packet.seen())
        assumed = connect_kinds.BasicsAssumed(*facts, place=place, subject=asked.rule or filtering)
        return Outcome("allow", assumed=assumed)
    return _asked(device, filtering, name, chain, packet, at)


def _basics(filtering: OneFilter, packet: Packet, at: Circumstances) -> tuple[Basic, ...]:
    """The basics by which a packet passes, said or not."""
    found: list[Basic] = []
    if LOOPBACK in (at.entering, at.leaving) and filtering.passes("loopback"):
        found.append("loopback")
    if packet.message in DISCOVERY and filtering.passes("neighbour-discovery"):
        found.append("neighbour-discovery")
    if packet.state in (State.ESTABLISHED, State.RELATED) and filtering.passes("known-connections"):
        found.append("known-connections")
    return tuple(found)


def _stated(filtering: OneFilter, chain: Chain, basic: Basic) -> bool:
    """Whether a basic is more than assumed: said, or part of the areas that the chain was made of."""
    return filtering.states(basic) or chain.place.path[-1:] == ("areas",)


def _asked(
    device: Device, filtering: OneFilter, name: ChainName, chain: Chain, packet: Packet, at: Circumstances
) -> Outcome:
    rule = _decides(device, filtering, chain, packet, at, set())
    if rule is None:
        return _outcome(device, packet, name, chain.default, None, chain.place.key("default"))
    return _outcome(device, packet, name, rule.verdict, rule, rule.place)  # type: ignore[arg-type]


def _decides(
    device: Device, filtering: OneFilter, chain: object, packet: Packet, at: Circumstances, passed: set[str]
) -> FilterRule | None:
    """The rule that ends it; None where the chain's rules let it go to the default, or back to where it came from.

    `passed` holds the chains that did not decide about this packet: they would not the second time either.
    """
    prepared = device.prepared(chain)
    for part in prepared.parts:
        if isinstance(part, FilterRule):
            name = str(part.next)
            if (part.goto is None and name in passed) or not matches(part, packet, at):
                continue
            rule = None
            if name not in passed:
                rule = _decides(device, filtering, filtering.chains[name], packet, at, passed)
            if rule is not None:
                return rule
            passed.add(name)
            if part.goto is not None:
                return None
        else:
            rule = part.first(packet, at)
            if rule is not None:
                return None if rule.back else rule
    return None


def _outcome(
    device: Device, packet: Packet, name: str, verdict: Verdict, rule: FilterRule | None, place: Place
) -> Outcome:
    which = f"{name}, {_which(rule)}" if rule is not None else f"{name}, default"
    if "then" in place.path:
        # One behind the machine's first filter, as people count them.
        which = f"filter {int(place.path[place.path.index('then') + 1]) + 2}, {which}"
    answer = (rule.answer if rule is not None else None) or "port-unreachable"
    shown = packet.seen()
    facts = (device.label, which, shown, answer) if verdict == "reject" else (device.label, which, shown)
    decision = _KINDS[verdict](*facts, place=place, subject=rule if rule is not None else device.filter)
    return Outcome(verdict, decision, rule)


def _which(rule: FilterRule) -> str:
    """A rule as people count it: `rule 3`, `chain web, rule 1`, `area office`."""
    path = rule.place.path
    if "areas" in path:
        return f"area {path[path.index('areas') + 1]}"
    number = int(path[-1]) + 1 if isinstance(path[-1], int) else 1
    return f"chain {path[path.index('chains') + 1]}, rule {number}" if "chains" in path else f"rule {number}"


def _within(port: int, ranges: tuple[PortRange, ...]) -> bool:
    return any(port in each for each in ranges)


def through_groups(topology: Topology, port: Port, packet: Packet, inbound: bool) -> Decision | None:
    """What the security groups of an interface decide; None where there are none or the connection is known."""
    if port.groups is None or packet.state in (State.ESTABLISHED, State.RELATED):
        return None
    groups = [topology.estate.groups[name] for name in port.groups]
    peer = packet.src if inbound else packet.dst
    way = "in" if inbound else "out"
    place = f"{port.device.label}, interface {port.name}"
    for number, group in enumerate(groups):
        rules, read = group.inbound if inbound else group.outbound, tuple(groups[: number + 1])
        if rules is None:
            return connect_kinds.GroupAllows(place, group.name, way, place=group.place, subject=group, beside=read)
        for rule in rules:
            if _allows(topology, rule, packet, peer):
                return connect_kinds.GroupAllows(place, group.name, way, place=rule.place, subject=rule, beside=read)
    names = ", ".join(group.name for group in groups) or "an empty list"
    return connect_kinds.GroupDrops(
        place, names, way, packet.seen(), place=port.place.key("groups"), subject=port.stated, beside=tuple(groups)
    )


def _allows(topology: Topology, rule: GroupRule, packet: Packet, peer: IPAddress) -> bool:
    if rule.allow not in ("any", packet.protocol):
        return False
    if rule.ports and not _within(packet.dport, rule.ports):
        return False
    return not rule.peers or any(
        peer in (topology.members[each] if isinstance(each, str) else each) for each in rule.peers
    )


def through_list(network: Network, packet: Packet, inbound: bool) -> Decision | None:
    """What a network's access list decides about a packet between it and a router; stateless, the first line that matches."""
    held = network.access_list
    rules = None if held is None else held.inbound if inbound else held.outbound
    if held is None or rules is None:
        return None
    way = "in" if inbound else "out"
    for number, rule in enumerate(rules, 1):
        if _listed(rule, packet):
            kind = connect_kinds.ListAllows if rule.allow else connect_kinds.ListDrops
            return kind(network.name, way, f"line {number}", packet.seen(), place=rule.place, subject=rule)
    place = held.place.key("inbound" if inbound else "outbound")
    return connect_kinds.ListDrops(network.name, way, "no line takes it", packet.seen(), place=place, subject=network)


def _listed(rule: ListRule, packet: Packet) -> bool:
    return (
        rule.protocol in ("any", packet.protocol)
        and (not rule.ports or _within(packet.dport, rule.ports))
        and (not rule.sources or any(packet.src in net for net in rule.sources))
        and (not rule.destinations or any(packet.dst in net for net in rule.destinations))
    )
