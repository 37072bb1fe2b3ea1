"""Faults of routing: interfaces, members kept apart, answers by another line, reverse paths, packets that are too large; and of resolvers' own rules."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, fault
from portolan.diagnosis.proposal import Patch, Proposal, append, append_all, put, remedy
from portolan.dns.tree import within
from portolan.estate.base import IPAddress
from portolan.estate.guesses import machine_called
from portolan.estate.machine import Machine
from portolan.estate.network import MAIN_TABLE, Interface, Network
from portolan.estate.service import Resolver
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import sizes as size_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.evidence.legs import Hop
from portolan.net.topology import Device
from portolan.source.place import pointer


class InterfaceClue(msgspec.Struct, frozen=True):
    """The interface that is down."""

    interface: Interface


class NetworkClue(msgspec.Struct, frozen=True):
    """The network that keeps its members apart."""

    network: Network


class OtherLineClue(msgspec.Struct, frozen=True):
    """Who answers by another way than it was asked by: the machine, its address, and the router or line that brought the question."""

    machine: Machine
    address: IPAddress
    gateway: IPAddress | None
    line: str


class SizeClue(msgspec.Struct, frozen=True):
    """The machine at which packets become too large, whose answers they are, and what passes."""

    box: Machine | None
    sender: Machine | None
    limit: int


class PrivateClue(msgspec.Struct, frozen=True):
    """The resolver that drops private addresses, and the name."""

    service: Resolver
    name: str


@fault(
    "interface-down",
    "The interface is down",
    "unreachable from the same network, a time-out from elsewhere",
    "Bring it up, and see to it that a boot does: cable, switch port and the machine's own settings.",
    "interface-down",
)
def interface_down(case: Case) -> Finding | None:
    """Nobody answers at an interface that is down."""
    stop = case.stop
    if not isinstance(stop, connect_kinds.InterfaceDown) or not isinstance(stop.subject, Interface):
        return None
    return Finding("interface-down", stop.text, stop.place, clue=InterfaceClue(interface=stop.subject))


@remedy("interface-down")
def bring_up(_case: Case, clue: InterfaceClue) -> Iterator[Proposal]:
    """Brings it up."""
    yield Proposal(f"bring the interface {clue.interface.name} up", put(clue.interface.place, "up", True))


@fault(
    "network-keeps-apart",
    "The network lets its members reach routers only, and not each other",
    "unreachable, from the same network only",
    "Ask from a network that may reach the server, or put the server on one; a guests' network is kept apart on purpose.",
    "members-apart",
)
def keeps_apart(case: Case) -> Finding | None:
    """Client isolation."""
    stop = case.stop
    if not isinstance(stop, connect_kinds.MembersApart) or not isinstance(stop.subject, Network):
        return None
    return Finding("network-keeps-apart", stop.text, stop.place, clue=NetworkClue(network=stop.subject))


@remedy("network-keeps-apart")
def let_together(_case: Case, clue: NetworkClue) -> Iterator[Proposal]:
    """Lets the members reach each other; what that lays open is computed."""
    text = f"let the members of {clue.network.name} reach each other"
    yield Proposal(text, put(clue.network.place, "isolated", False))


@fault(
    "answer-by-other-line",
    "The server, or a router, answers by another line than it was asked by",
    "a time-out by one of two lines; the other works",
    "Give each line a routing table of its own, and a rule that leads there: by the address that answers, or by a mark that the "
    "connection keeps.",
    "source-private",
    "reply-stranger",
    "reply-lost",
    "reply-astray",
    "source-checked",
    "reverse-path",
    "filter-drops",
    "not-a-router",
)
def other_line(case: Case) -> Finding | None:
    """The answer left by another way than the question came."""
    connection = case.exchange.connection
    if connection is None or not (case.answer_lost or isinstance(case.stop, connect_kinds.ReversePath)):
        return None
    hops = connection.hops
    for hop in hops:
        if hop.answer or hop.entering is None:
            continue
        answered = next((each for each in hops if each.answer and each.label == hop.label and each.leaving), None)
        machine = machine_called(case.estate, hop.label)
        if machine is None or answered is None:
            continue
        found = _parted(case, machine, hop, answered)
        if found is not None:
            text = (
                f"{machine.name} is asked {_way(hop.entering, found.gateway)}, and its answer to {hop.before[0]} leaves "
                f"{_way(answered.leaving, _out_by(case, machine, hop))}"
            )
            return Finding("answer-by-other-line", text, machine.place.key("gateway"), clue=found)
    return None


def _way(interface: str | None, gateway: IPAddress | None) -> str:
    return f"by {interface}" if gateway is None else f"by way of {gateway}"


def _out_by(case: Case, machine: Machine, hop: Hop) -> IPAddress | None:
    line = case.world.topology.device(machine).route(hop.before[0])
    return line.via if line is not None else None


def _parted(case: Case, machine: Machine, asked: Hop, answered: Hop) -> OtherLineClue | None:
    """Whether a machine answers by another interface, or another router there, than it was asked by."""
    device: Device = case.world.topology.device(machine)
    port = next((each for each in device.ports if each.name == asked.entering), None)
    if port is None:
        return None
    line = device.route(asked.before[0])
    if port.network.kind == "internet":
        own = any(each.version == asked.before[2].version for each in port.addresses)
        if answered.leaving == port.name or not own:
            return None  # a line without an address of that kind is none to answer by
        return OtherLineClue(machine, asked.before[2], None, port.name)
    brought = _brought_by(case, asked)
    if brought is None or (line is not None and line.via == brought):
        return None
    if sum(each.version == brought.version for each in machine.addresses) < 2:
        return None  # with one address it needs another gateway, not a second table
    return OtherLineClue(machine, asked.after[2], brought, port.name)


def _brought_by(case: Case, asked: Hop) -> IPAddress | None:
    """The address, on the interface's network, of the router that passed the question to a machine."""
    connection = case.exchange.connection
    assert connection is not None
    before: Hop | None = None
    for hop in connection.hops:
        if hop == asked:
            break
        before = hop if not hop.answer else before
    router = machine_called(case.estate, before.label) if before is not None and before.entering is not None else None
    if router is None or before is None or before.leaving is None:
        return None
    held = router.interfaces[before.leaving].address
    return next((item.ip for item in held if item.version == asked.before[2].version), None)


@remedy("answer-by-other-line")
def a_table_of_its_own(_case: Case, clue: OtherLineClue) -> Iterator[Proposal]:
    """A table for the other line: by the address that answers; for a router's own lines by a mark that the connection keeps."""
    machine = clue.machine
    name = next(
        each for each in (clue.line, f"{clue.line}-2", "second") if each not in machine.tables and each != MAIN_TABLE
    )
    if clue.gateway is not None:
        length = clue.address.max_prefixlen
        rule: dict[str, object] = {"from": f"{clue.address}/{length}", "table": name}
        patch = [*_table(machine, name, {"gateway": str(clue.gateway)}), *_rules(machine, rule)]
        yield Proposal(
            f"give {machine.name} a routing table with the gateway {clue.gateway}, for what it sends from {clue.address}",
            patch,
        )
        return
    mark = max((each.mark for each in machine.packet_marks), default=0) + 1
    patch = [
        *_table(machine, name, {"on": clue.line}),
        *append(machine.place, "packet_marks", {"mark": mark, "in": clue.line}),
        *_rules(machine, {"mark": mark, "table": name}),
    ]
    yield Proposal(f"let {machine.name} mark what comes by {clue.line}, and send the answers by it too", patch)


def _rules(machine: Machine, rule: dict[str, object]) -> Patch:
    """A routing rule behind the others; before the first one the machine's own networks are looked at, as the tables have them not."""
    if machine.routing_rules:
        return append(machine.place, "routing_rules", rule)
    return append_all(machine.place, "routing_rules", [{"table": MAIN_TABLE, "without_default": True}, rule])


def _table(machine: Machine, name: str, facts: dict[str, str]) -> Patch:
    if machine.tables:
        return [{"op": "add", "path": pointer((*machine.place.path, "tables", name)), "value": facts}]
    return put(machine.place, "tables", {name: facts})


@fault(
    "reverse-path-checked",
    "A machine drops packets that came by another interface than it would answer by",
    "a time-out, by one of its addresses or lines",
    "Let it check loosely, or give the answers a way by the same interface: routing rules by address or mark.",
    "reverse-path",
)
def reverse_path(case: Case) -> Finding | None:
    """Reverse-path filtering stopped it."""
    stop = case.stop
    if not isinstance(stop, connect_kinds.ReversePath) or not isinstance(stop.subject, Machine):
        return None
    return Finding("reverse-path-checked", stop.text, stop.place, clue=ReverseClue(stop.subject, stop.came))


class ReverseClue(msgspec.Struct, frozen=True):
    """The machine that checks, and the interface."""

    machine: Machine
    interface: str


@remedy("reverse-path-checked")
def check_loosely(_case: Case, clue: ReverseClue) -> Iterator[Proposal]:
    """Lets it check loosely where the packets come in: the looser of two settings counts."""
    interface = clue.machine.interfaces.get(clue.interface)
    if interface is not None:
        text = f"let {clue.machine.name} check loosely what comes by {interface.name}"
        yield Proposal(text, put(interface.place, "reverse_path", "loose"))


@fault(
    "packets-too-large",
    "Large packets do not pass, and whoever sends them is not told",
    "small pages come, large ones and encrypted connections hang",
    "Let the router lower what connections agree on (clamp the MSS), or let the word of the smaller MTU pass: ICMP "
    "'fragmentation needed' and 'packet too big' must not be filtered.",
    "large-stalls",
    "vanishes-on-link",
    "word-of-size-lost",
    "filter-drops",
    "filter-rejects",
)
def too_large(case: Case) -> Finding | None:
    """What is larger than one packet does not arrive."""
    grounds: list[object] = [*case.ended.grounds] if case.ended is not None else []
    stop = next((each for each in grounds if isinstance(each, size_kinds.LargeStalls)), None)
    if stop is None:
        return None
    grounds += (*stop.beside, stop.subject)
    lost = next((each for each in grounds if isinstance(each, size_kinds.WordOfSizeLost)), None)
    vanishes = next((each for each in grounds if isinstance(each, size_kinds.VanishesOnLink)), None)
    connection = case.exchange.connection
    sender = connection.reached if connection is not None else None
    limit = lost.limit if lost is not None else vanishes.limit if vanishes is not None else 0
    box = machine_called(case.estate, lost.box) if lost is not None else None
    if box is None:
        box = _router_before(case)
    text = stop.text
    if lost is not None:
        text = f"{lost.box} takes packets of {limit} octets, and {lost.sender}, which sends larger ones, is not told"
    elif vanishes is not None:
        text = f"packets of more than {limit} octets vanish on {vanishes.network}, and whoever sends larger ones is not told"
    return Finding("packets-too-large", text, stop.place, clue=SizeClue(box=box, sender=sender, limit=limit))


def _router_before(case: Case) -> Machine | None:
    """A router that the connection passes."""
    connection = case.exchange.connection
    if connection is None:
        return None
    names = [hop.label for hop in connection.hops if hop.entering and hop.leaving]
    found = (machine_called(case.estate, name) for name in reversed(names))
    return next((each for each in found if each is not None and each is not connection.reached), None)


@remedy("packets-too-large")
def clamp(_case: Case, clue: SizeClue) -> Iterator[Proposal]:
    """Lowers what connections agree on at the router, or at the server's own interfaces."""
    if clue.box is not None:
        yield Proposal(f"let {clue.box.name} clamp the MSS of what passes it", put(clue.box.place, "clamp_mss", True))
    if clue.sender is not None and clue.limit:
        for interface in clue.sender.interfaces.values():
            text = f"set the MTU of {clue.sender.name}'s interface {interface.name} to {clue.limit}"
            yield Proposal(text, put(interface.place, "mtu", clue.limit))


@fault(
    "name-private-dropped",
    "The resolver drops answers with private addresses",
    "no address, for its users",
    "Name the zone among those that may have private addresses, or serve the zone on the resolver itself.",
    "private-dropped",
)
def private_dropped(case: Case) -> Finding | None:
    """Rebind protection met a name that leads inside on purpose."""
    stop = case.stop
    if not isinstance(stop, name_kinds.PrivateDropped) or not isinstance(stop.subject, Resolver):
        return None
    clue = PrivateClue(service=stop.subject, name=stop.name)
    return Finding("name-private-dropped", stop.text, stop.place, clue=clue)


@remedy("name-private-dropped")
def may_be_private(case: Case, clue: PrivateClue) -> Iterator[Proposal]:
    """Lets the zone's names have private addresses."""
    zones = [each for each in case.estate.zones if within(clue.name, each)]
    if zones:
        zone = max(zones, key=len)
        text = f"let names of {zone} have private addresses at {clue.service.name}"
        yield Proposal(text, append(clue.service.place, "may_be_private", str(zone)))


@fault(
    "name-too-many-records",
    "A name has more records than the resolver takes",
    "the resolver fails",
    "Spread the addresses over several names, or leave out those that are not needed.",
    "too-many-records",
)
def too_many_records(case: Case) -> Finding | None:
    """A set that is larger than a resolver's limit."""
    stop = case.stop
    return Finding("name-too-many-records", stop.text, stop.place) if stop is not None else None


@remedy("name-too-many-records", "name-resolver-mistyped")
def in_words(case: Case, _clue: object) -> Iterator[Proposal]:
    """What somebody must decide: which addresses are not needed, or whose address was meant."""
    stop = case.stop
    if isinstance(stop, zone_kinds.TooManyRecords):
        yield Proposal(f"leave out {stop.count - stop.most} of the records of {stop.name}", [])
    else:
        yield Proposal("write the address of the resolver that was meant", [])
