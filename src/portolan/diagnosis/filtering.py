"""Faults of filters and security groups: the rule that stops it, and who it is meant for."""

from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from portolan.diagnosis.base import (
    Case,
    Finding,
    fault,
    listed,
)
from portolan.diagnosis.edge_base import edge_of
from portolan.diagnosis.exposure_reach import addresses_meant
from portolan.diagnosis.proposal import Proposal, append, append_all, remedy
from portolan.estate.areas import SERVICES
from portolan.estate.base import IPAddress, PortRange, is_public
from portolan.estate.client import PassingProgram
from portolan.estate.filter import Area, Chain, FilterRule, NamedChain, OneFilter
from portolan.estate.guesses import attachments, machines
from portolan.estate.machine import Machine
from portolan.estate.network import Group, GroupRule, Interface
from portolan.estate.vantage import Vantage
from portolan.evidence.kinds import connect as connect_kinds
from portolan.source.place import pointer


class OrderClue(msgspec.Struct, frozen=True):
    """Two rules of a chain whose order is wrong."""

    chain: Chain | NamedChain
    later: int
    earlier: int


class ChainClue(msgspec.Struct, frozen=True):
    """The chain, or the area, whose rule or default decided."""

    chain: object


class SourceClue(msgspec.Struct, frozen=True):
    """A rule that allows the port to others, its group, and all groups of the interface."""

    rule: GroupRule
    group: Group
    groups: list[Group]
    port: int


class AttachClue(msgspec.Struct, frozen=True):
    """A group that allows the port, and the interface that lacks it."""

    interface: Interface
    group: str
    port: int


class PortClue(msgspec.Struct, frozen=True):
    """The interface, its groups, and the port that none allows."""

    interface: Interface
    groups: list[Group]
    port: int


@fault(
    "filter-order",
    "The allowing rule stands behind the one that drops",
    "a time-out",
    "Put the allowing rule before the one that drops.",
    "filter-drops",
    "filter-rejects",
)
def filter_order(case: Case) -> Finding | None:
    """A later rule of the same chain would have let it pass."""
    stop, chain = case.stop, chain_of(case)
    if stop is None or not isinstance(chain, Chain | NamedChain) or not isinstance(stop.subject, FilterRule):
        return None
    at = rule_at(chain, stop.subject)
    if at is None:
        return None
    connection = case.exchange.connection
    for later, rule in enumerate(chain.rules[at + 1 :], at + 1):
        if rule.verdict == "allow" and connection is not None and _same_kind(rule, case):
            text = f"rule {at + 1} stops it before rule {later + 1}, which allows it: {stop.text}"
            return Finding("filter-order", text, stop.place, clue=OrderClue(chain=chain, later=later, earlier=at))
    return None


def _same_kind(rule: FilterRule, case: Case) -> bool:
    port = case.asked_port
    return (
        rule.protocol in ("tcp", "any")
        and (not rule.ports or any(port in each for each in rule.ports))
        and not rule.narrowed
    )


@fault(
    "filter-drops",
    "A filter's rule or default drops it",
    "a time-out",
    "Allow the port, for those who are meant, before the rule that drops.",
    "filter-drops",
)
def filter_drops(case: Case) -> Finding | None:
    """The filter said no without a word."""
    return _filtered(case, "filter-drops")


@fault(
    "filter-rejects",
    "A filter's rule or default rejects it",
    "a refusal, or unreachable",
    "Allow the port, for those who are meant, before the rule that rejects.",
    "filter-rejects",
)
def filter_rejects(case: Case) -> Finding | None:
    """The filter said no, and said so."""
    return _filtered(case, "filter-rejects")


def _filtered(case: Case, code: str) -> Finding | None:
    stop = case.stop
    if stop is None:
        return None
    return Finding(code, stop.text, stop.place, clue=ChainClue(chain_of(case)))


@fault(
    "group-wrong-source",
    "A security group allows the port, and not for this asker",
    "a time-out for some",
    "Widen the source range to those who are meant, and no further.",
    "group-drops",
)
def group_wrong_source(case: Case) -> Finding | None:
    """Some rule allows the port from elsewhere."""
    interface, port = _grouped(case)
    if interface is None:
        return None
    for name in interface.groups or ():
        group = case.estate.groups[name]
        for rule in group.inbound:
            if (
                rule.peers
                and rule.allow in ("tcp", "any")
                and (not rule.ports or any(port in each for each in rule.ports))
            ):
                text = f"group {name} allows port {port} from {listed(map(str, rule.peers))} only: {case.stop.text if case.stop else ''}"
                attached = [case.estate.groups[each] for each in interface.groups or ()]
                clue = SourceClue(rule=rule, group=group, groups=attached, port=port)
                return Finding("group-wrong-source", text, rule.place, clue=clue)
    return None


@fault(
    "group-not-attached",
    "The group that allows it hangs on another interface",
    "a time-out",
    "Attach the group to the interface that is asked.",
    "group-drops",
)
def group_not_attached(case: Case) -> Finding | None:
    """A group that hangs elsewhere allows the port to this asker."""
    interface, port = _grouped(case)
    connection = case.exchange.connection
    if interface is None or connection is None:
        return None
    seen = connection.seen_from
    attached = {
        name
        for machine in machines(case.estate)
        for each in machine.interfaces.values()
        if each is not interface
        for name in each.groups or ()
    }
    for name in sorted(attached - set(interface.groups or ())):
        for rule in case.estate.groups[name].inbound:
            open_to = not rule.peers or any(
                not isinstance(each, str) and seen is not None and seen in each for each in rule.peers
            )
            if rule.allow in ("tcp", "any") and rule.ports and any(port in each for each in rule.ports) and open_to:
                text = (
                    f"the group {name} allows port {port}, and hangs elsewhere: {case.stop.text if case.stop else ''}"
                )
                return Finding(
                    "group-not-attached",
                    text,
                    interface.place.key("groups"),
                    clue=AttachClue(interface=interface, group=name, port=port),
                )
    return None


@fault(
    "group-missing-port",
    "No security group on the interface allows the port",
    "a time-out",
    "Allow the port in a group of that interface.",
    "group-drops",
)
def group_missing_port(case: Case) -> Finding | None:
    """No rule of any attached group is about the port."""
    interface, port = _grouped(case)
    stop = case.stop
    if interface is None or not isinstance(stop, connect_kinds.GroupDrops):
        return None
    groups: list[Group] = [case.estate.groups[name] for name in interface.groups or ()]
    where = groups[0].place if groups else interface.place
    text = f"no security group on {stop.interface} ({stop.groups}) allows tcp port {port}"
    return Finding("group-missing-port", text, where, clue=PortClue(interface=interface, groups=groups, port=port))


def _grouped(case: Case) -> tuple[Interface | None, int]:
    stop = case.stop
    if not isinstance(stop, connect_kinds.GroupDrops) or not isinstance(stop.subject, Interface) or stop.way != "in":
        return None, 0
    return stop.subject, case.asked_port


@remedy("filter-drops", "filter-rejects", "filter-order", "outbound-blocked")
def allow_port(case: Case, clue: object) -> Iterator[Proposal]:
    """Allows the port before what stops it, for the asker's kind only."""
    if not isinstance(clue, ChainClue | OrderClue):
        return
    chain = clue.chain
    stop, protocol = case.stop, case.asked_protocol
    if isinstance(chain, Area):
        yield Proposal(
            f"let the area {chain.name} of {chain.place.path[1]} reach {_service(case.asked_port, protocol)}",
            append(chain.place, "services", _service(case.asked_port, protocol)),
        )
    if not isinstance(chain, Chain | NamedChain) or stop is None:
        return
    port = case.asked_port
    rule: dict[str, Any] = {"allow": protocol, "ports": [port]}
    path = chain.place.path
    if path[-1] == "forward":
        rule["to"] = [str(case.asked_address)]
    entering = _entering(case, path)
    if entering is not None:
        rule["in"] = [entering]
    at = rule_at(chain, stop.subject)
    if isinstance(clue, OrderClue):
        moved = {"op": "move", "from": _item(chain, clue.later), "path": _item(chain, clue.earlier)}
        yield Proposal(f"move rule {clue.later + 1} before rule {clue.earlier + 1}", [moved])
    where = f"before rule {at + 1}" if at is not None else "at the end of the rules"
    for sources in askers(case) if path[-1] != "outbound" else ((),):
        narrowed = {**rule, "from": [*sources]} if sources else rule
        who = (f" from {listed(sources)}" if sources else "") + (f" that comes in by {entering}" if entering else "")
        yield Proposal(
            f"allow {protocol} port {port}{who} in {_chain_in_words(path)}, {where}",
            append(chain.place, "rules", narrowed, at),
        )


def _chain_in_words(path: tuple[str | int, ...]) -> str:
    """A chain by its place: whose, and of which of several filters."""
    if "then" in path:
        at = path.index("then")
        return f"{path[at - 2]} filter {int(path[at + 1]) + 2} {path[-1]}"
    return f"{path[-3]} {path[-2]} {path[-1]}"


def _entering(case: Case, path: tuple[str | int, ...]) -> str | None:
    """The interface by which it came, where the machine has several and a rule can tell: others are none of its business."""
    connection = case.exchange.connection
    if path[-1] not in ("inbound", "forward") or path[0] not in ("routers", "hosts") or connection is None:
        return None
    owner = (case.estate.routers if path[0] == "routers" else case.estate.hosts).get(str(path[1]))
    if owner is None or len(owner.interfaces) < 2 or not case.ended_on_its_way or case.stop is not connection.stop:
        return None
    carried = next((hop.network for hop in reversed(connection.hops) if not hop.answer), None)
    return next((name for name, each in owner.interfaces.items() if each.network == carried), None)


def _service(port: int, protocol: str = "tcp") -> str:
    """A port as an area writes it: by the service's name, where it has one."""
    return next((name for name, held in SERVICES.items() if (protocol, port) in held), f"{port}/{protocol}")


def _item(chain: Chain | NamedChain, index: int) -> str:
    return pointer((*chain.place.path, "rules", index))


def askers(case: Case) -> tuple[tuple[str, ...], ...]:
    """Whom to let in, the fewest first: an inside asker as the box saw it, then its segment; nothing is everybody.

    A visitor from the internet stands for everybody there, unless the expectation is for some only; an edge for the ranges that it asks
    from; a program that passes on for its machine.
    """
    asked, met = case.asked_address, case.met
    if asked is None:
        return ((),)
    edge = edge_of(case.client)
    if edge is not None and edge.asks_from:
        return (tuple(str(each) for each in edge.asks_from if each.version == asked.version),)
    own = [met.src] if met is not None else list(case.device.local)
    for address in own:
        if address.version == asked.version and not is_public(address):
            segments = [
                (str(subnet),)
                for network in case.estate.networks.values()
                for subnet in network.subnets
                if address in subnet
            ]
            return ((str(address),), *segments[:1])
    some = _named_addresses(case, asked.version)
    return (some, ()) if some else ((),)


def _named_addresses(case: Case, version: int) -> tuple[str, ...]:
    """The public addresses of those for whom alone something is expected."""
    if isinstance(case.client, PassingProgram):
        return tuple(str(each) for each in case.device.local if each.version == version and is_public(each))
    return addresses_meant(case, version)


@remedy("group-not-attached")
def attach_group(_case: Case, clue: AttachClue) -> Iterator[Proposal]:
    """Attaches the group."""
    interface, group = clue.interface, clue.group
    yield Proposal(
        f"attach the group {group}, which allows port {clue.port}, to {interface.name} of {interface.place.path[1]}",
        append(interface.place, "groups", group),
    )


@remedy("group-missing-port")
def allow_in_group(case: Case, clue: PortClue) -> Iterator[Proposal]:
    """Allows the port in a group of the interface, or attaches one that allows it."""
    groups, port, interface = clue.groups, clue.port, clue.interface
    yield from _allowances(case, groups, port)
    for name in sorted(case.estate.groups):
        group = case.estate.groups[name]
        if name not in (interface.groups or ()) and _allows(group, port):
            yield Proposal(
                f"attach the group {name}, which allows port {port}, to {interface.name}",
                append(interface.place, "groups", name),
            )


def _allowances(case: Case, groups: Iterable[Group], port: int) -> Iterator[Proposal]:
    """A rule of its own for the port and the asker, in each of the groups: first in those whose rules are for them, then in those that
    have any.
    """
    wanted = askers(case)[0]

    def fitting(group: Group) -> tuple[bool, bool]:
        theirs = {str(peer).removesuffix("/32").removesuffix("/128") for rule in group.inbound for peer in rule.peers}
        meant = bool(theirs & set(wanted)) if wanted else any(not rule.peers for rule in group.inbound)
        return not meant, not group.inbound

    for group in sorted(groups, key=fitting):
        for sources in askers(case):
            rule: dict[str, Any] = {"allow": "tcp", "ports": [port], **({"from": [*sources]} if sources else {})}
            who = f" from {listed(sources)}" if sources else ""
            yield Proposal(
                f"allow tcp port {port}{who} in the group {group.name}", append(group.place, "inbound", rule)
            )


def _allows(group: Group, port: int) -> bool:
    return any(
        rule.allow == "tcp" and rule.ports and any(port in each for each in rule.ports) for rule in group.inbound
    )


@remedy("group-wrong-source")
def widen_source(case: Case, clue: SourceClue) -> Iterator[Proposal]:
    """Adds the asker to the rule where it is about this port only; else allows the port in a rule of its own."""
    rule, group, port = clue.rule, clue.group, clue.port
    only = rule.allow == "tcp" and rule.ports == (PortRange(port, port),)
    if not only:
        held = [each for each in clue.groups if each is not group]
        yield from _allowances(case, [*held, group], port)
    version = case.asked_address.version if case.asked_address is not None else 4
    for sources in askers(case):
        wanted = sources or (("0.0.0.0/0" if version == 4 else "::/0"),)
        text = f"allow port {port} in the group {group.name} from {listed(wanted)} too"
        yield Proposal(text, append_all(rule.place, "from", wanted))


def rule_at(chain: Chain | NamedChain, rule: object) -> int | None:
    """Where a rule stands in a chain; the engine's rule may be one made of what the line says."""
    if not isinstance(rule, FilterRule):
        return None
    return next((index for index, each in enumerate(chain.rules) if each.place.path == rule.place.path), None)


def filter_of(case: Case) -> tuple[str, OneFilter, tuple[IPAddress, ...]] | None:
    """Whose filter decided, the filter, and the owner's addresses; None where none did."""
    stop = case.stop
    if stop is None or stop.place is None or "filter" not in stop.place.path:
        return None
    path = stop.place.path
    owner: Machine | Vantage | None = case.device.stated
    if path[0] in ("routers", "hosts"):
        owner = (case.estate.routers if path[0] == "routers" else case.estate.hosts).get(str(path[1]))
    if owner is None or owner.filter is None:
        return None
    at = path.index("filter")
    behind = path[at + 1 : at + 2] == ("then",) and len(path) > at + 2
    filtering = owner.filter.then[int(path[at + 2])] if behind else owner.filter
    return owner.name, filtering, tuple(item.ip for _, held in attachments(owner) for item in held)


def chain_of(case: Case) -> object:
    """The chain whose rule or default decided."""
    stop, found = case.stop, filter_of(case)
    if stop is None or stop.place is None or found is None:
        return None
    path, filtering = stop.place.path, found[1]
    at = path.index("filter")
    if path[at + 1 : at + 2] == ("then",):
        at += 2
    if len(path) <= at + 1:
        return None
    if path[at + 1] in ("chains", "areas") and len(path) > at + 2:
        return getattr(filtering, str(path[at + 1])).get(path[at + 2])
    return getattr(filtering, str(path[at + 1]), None)
