"""Who gets through to what: every cell of addresses asked once of the one engine, and cells with the same answer put together.

A connection that opens is what counts. Asked are strangers on the internet by their addresses, those on each network by theirs,
and every machine by name; the estate's own ranges are no addresses of strangers.
"""

import re
from collections import Counter
from collections.abc import Collection, Iterable, Iterator
from ipaddress import ip_interface, summarize_address_range

from portolan.estate.base import IPAddress, IPNetwork
from portolan.estate.guesses import attachments, machines
from portolan.estate.machine import Machine
from portolan.estate.network import Network
from portolan.estate.places import INTERNET
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.legs import Connection
from portolan.journey.world import World
from portolan.source.place import Place
from portolan.source.value import Value
from portolan.surveying.cells import Cuts, Range, cuts, int_of, joined

#: So many connections are asked at most; a survey of more is of the machines that come first.
MOST_ASKED = 1_000_000


#: What the engine calls somebody who stands for a cell.
_WHO = re.compile(r"the visitor \(\(cell [0-9]+\)\)")
#: Beside networks: the machines that get through where others on their networks do not.
MACHINES = "machines"


class UnknownTargetError(LookupError):
    """Nothing of the estate has that name or address; `known` are the names of its machines."""

    def __init__(self, name: str, known: tuple[str, ...]) -> None:
        super().__init__(name)
        self.known = known


class Asker(Value, frozen=True):
    """A cell of people who ask: of a network, by their addresses; or a machine, which has addresses of its own."""

    network: str
    vantage: Vantage
    range: Range | None = None

    @property
    def machine(self) -> str | None:
        """The machine that asks."""
        return self.vantage.host


class Boundary(Value, frozen=True):
    """What keeps others out: who they are, in words, and the decision that does it."""

    who: tuple[str, ...]
    text: str
    place: Place | None


class Reached(Value, frozen=True):
    """A program at a port of a machine, asked at an address and port, and who gets through to it.

    `strangers` are ranges of the internet (`everywhere` where that is all), `near` the networks with those on them who get through, in
    words, `by` the rules that let them, and `kept_out` who does not, and why.
    """

    machine: str
    service: str
    port: int
    protocol: str
    address: IPAddress
    asked: int
    everywhere: bool
    strangers: tuple[Range, ...]
    near: tuple[tuple[str, tuple[str, ...]], ...]
    by: tuple[tuple[str, Place], ...]
    kept_out: tuple[Boundary, ...]
    place: Place

    @property
    def from_outside(self) -> bool:
        """Whether anybody on the internet gets through."""
        return bool(self.strangers)


class Exposed(Value, frozen=True):
    """All that can be reached, in the order of the machines; how many connections were asked, and what was left out for their number."""

    reached: tuple[Reached, ...]
    asked: int
    left: tuple[str, ...] = ()


def exposed(world: World, target: str | None = None, port: int | None = None) -> Exposed:
    """Who gets through to a machine, to an address, or to anything. Raises UnknownTargetError."""
    own = {each.name for each in machines(world.stated)}
    boxes = [each for each in machines(world.estate) if each.name in own]
    places = _targets(boxes, target)
    cut = cuts(world.estate)
    people = _People(world, _askers(world, cut, boxes), cut.named)
    ports = _ports(world, boxes)
    found: list[Reached] = []
    asked, left = 0, list[str]()
    for name, address in places:
        wanted = [each for each in ports if port is None or each[0] == port]
        if asked + len(wanted) * len(people.askers) > MOST_ASKED:
            left.append(f"{name} at {address}")
            continue
        for number, protocol in wanted:
            answers = people.asked(address, number, protocol)
            asked += len(answers)
            found += _reached(address, number, protocol, answers)
    machine_named = target if target in own else None
    found = [each for each in found if machine_named is None or each.machine == machine_named]
    order = {name: at for at, name in enumerate(own_order(boxes))}
    found.sort(
        key=lambda each: (
            order.get(each.machine, len(order)),
            each.port,
            each.protocol,
            each.service,
            not each.from_outside,
        )
    )
    return Exposed(tuple(found), asked, tuple(left))


def own_order(boxes: Iterable[Machine]) -> list[str]:
    """The names of machines in their order."""
    return [each.name for each in boxes]


def _targets(boxes: list[Machine], target: str | None) -> list[tuple[str, IPAddress]]:
    """The addresses to ask at, with whose they are: all, one, or a machine's and those of forwarding ones."""
    held = [(box.name, item.ip) for box in boxes for _, items in attachments(box) for item in items]
    held += [(box.name, pair.outside) for box in boxes for pair in box.one_to_one]
    held = list(dict.fromkeys(held))
    if target is None or any(box.name == target for box in boxes):
        forwarding = {box.name for box in boxes if box.forwards or box.one_to_one}
        return [each for each in held if target is None or each[0] == target or each[0] in forwarding]
    found = [each for each in held if str(each[1]) == target]
    if not found:
        raise UnknownTargetError(target, tuple(own_order(boxes)))
    return found


def _ports(world: World, boxes: list[Machine]) -> list[tuple[int, str]]:
    """Every port at which something may open: where a program listens, and outside of each forward that leads there."""
    found = {
        (binding.port, binding.protocol) for box in boxes for binding in world.topology.device(box).sockets.bindings
    }
    forwards = [each for box in boxes for each in box.forwards]
    for _ in range(4):
        more = {
            (port + each.outside.first - (each.port if each.port is not None else each.outside.first), each.protocol)
            for each in forwards
            for port, protocol in found
            if protocol == each.protocol
        }
        more = {(port, protocol) for port, protocol in more if 0 < port < 65536} - found
        if not more:
            break
        found |= more
    return sorted(found)


def _askers(world: World, cut: Cuts, boxes: list[Machine]) -> list[Asker]:
    """Strangers by their cells, neighbours by theirs, and the machines."""
    own = [each for network in world.estate.networks.values() if network.kind != "internet" for each in network.subnets]
    held = {item.ip: box for box in machines(world.estate) for _, items in attachments(box) for item in items}
    people = {item.ip: each for each in world.estate.vantages.values() if each.network for item in each.address}
    found: list[Asker] = []
    for version in (4, 6):
        for each in cut.ranges(version):
            if each.address not in held and not any(_inside(each, network) for network in own):
                found.append(_cell(INTERNET, each, len(found), 32 if version == 4 else 128, people))
    for network in world.estate.networks.values():
        found += _neighbours(network, cut, held, people, len(found))
    for box in boxes:
        networks = sorted((network for network, _ in attachments(box)), key=lambda each: each == INTERNET)
        found.append(Asker(networks[0] if networks else "", Vantage(name=f"(at {box.name})", host=box.name)))
    return found


def _neighbours(
    network: Network, cut: Cuts, held: Collection[IPAddress], people: dict[IPAddress, Vantage], count: int
) -> Iterator[Asker]:
    """Those on a network, at addresses that no machine has there."""
    if network.kind == "internet":
        return
    for version in (4, 6):
        for subnet in (each for each in network.subnets if each.version == version):
            for each in cut.ranges(version, (subnet,)):
                usable = _usable(each, subnet)
                if usable is not None and usable.address not in held:
                    yield _cell(network.name, usable, count, subnet.prefixlen, people)
                    count += 1


def _usable(cell: Range, subnet: IPNetwork) -> Range | None:
    """A cell without the addresses that mean the whole range (RFC 919, RFC 4291 section 2.6.1), where the range has others."""
    if subnet.num_addresses <= 2:
        return cell
    first, last = cell.first, cell.last
    if first == int_of(subnet):
        first += 1
    if subnet.version == 4 and last == int(subnet.broadcast_address):
        last -= 1
    return Range(cell.version, first, last) if first <= last else None


def _inside(cell: Range, network: IPNetwork) -> bool:
    return cell.version == network.version and int_of(network) <= cell.first <= int(network.broadcast_address)


def _cell(network: str, cell: Range, number: int, prefix: int, people: dict[IPAddress, Vantage]) -> Asker:
    """Somebody who stands for a cell: whom the estate has at that address, else somebody new."""
    known = people.get(cell.address)
    if known is not None and known.network == network:
        return Asker(network, known, cell)
    at = (ip_interface(f"{cell.address}/{prefix}"),)
    return Asker(network, Vantage(name=f"(cell {number})", network=network, address=at), cell)


class _People:
    """Askers, each in a world that has them in it.

    Whoever has an address that packets are sent to by name, such as that of a gateway which nobody described, is in a world alone: the
    packets of others would go to them. All others are in one world together.
    """

    def __init__(self, world: World, askers: list[Asker], named: frozenset[IPAddress]) -> None:
        self.askers = askers
        fresh = [each for each in askers if each.vantage.name not in world.estate.vantages]
        alone = {id(each) for each in fresh if each.range is not None and each.range.address in named}
        together = world.with_vantages(*(each.vantage for each in fresh if id(each) not in alone))
        self._worlds = [world.with_vantages(each.vantage) if id(each) in alone else together for each in askers]

    def asked(self, address: IPAddress, port: int, protocol: str) -> list[tuple[Asker, Connection]]:
        """What comes of each asker's connection; nobody of the other family asks."""
        found = []
        for each, world in zip(self.askers, self._worlds, strict=True):
            if each.range is not None and each.range.version != address.version:
                continue
            who = world.estate.vantages.get(each.vantage.name)
            if who is not None:
                found.append((each, world.connect(who, address, port, protocol)))
        return found


def _reached(
    address: IPAddress, asked: int, protocol: str, answers: list[tuple[Asker, Connection]]
) -> Iterator[Reached]:
    """The programs that somebody gets through to at an address and port; who, by what, and what keeps the others out."""
    programs = dict.fromkeys(
        (arrival.machine.name, arrival.service.name, arrival.port)
        for _, connection in answers
        if (arrival := connection.arrival) is not None
    )
    for machine, service, port in programs:
        through = [each for each in answers if _is_at(each[1], machine, service, port)]
        if all(each.machine == machine for each, _ in through):
            continue  # what only the machine itself reaches is reached by nobody
        others = [each for each in answers if each[1].arrival is None and each[0].machine != machine]
        asking = [each for each, _ in answers if each.network == INTERNET and each.range is not None]
        strangers = [each.range for each, _ in through if each.network == INTERNET and each.range is not None]
        arrival = through[0][1].arrival
        assert arrival is not None
        yield Reached(
            machine,
            service,
            port,
            protocol,
            address,
            asked,
            bool(asking) and len(strangers) == len(asking),
            tuple(joined(strangers)),
            _near(answers, through, machine),
            _letting(through, others),
            _boundaries(others, answers),
            arrival.listener.place,
        )


def _is_at(connection: Connection, machine: str, service: str, port: int) -> bool:
    arrival = connection.arrival
    return arrival is not None and (arrival.machine.name, arrival.service.name, arrival.port) == (
        machine,
        service,
        port,
    )


def _near(
    answers: list[tuple[Asker, Connection]], through: list[tuple[Asker, Connection]], machine: str
) -> tuple[tuple[str, tuple[str, ...]], ...]:
    """Who gets through on each network: everybody, ranges, machines by name."""
    found: list[tuple[str, tuple[str, ...]]] = []
    whole = set()
    for network in dict.fromkeys(each.network for each, _ in through if each.range is not None):
        there = [each.range for each, _ in through if each.network == network and each.range is not None]
        everybody = [each for each, _ in answers if each.network == network and each.range is not None]
        if len(there) == len(everybody):
            whole.add(network)
        if network != INTERNET:
            all_of_it = len(there) == len(everybody)
            found.append((network, ("everybody",) if all_of_it else tuple(map(str, networks_of(joined(there))))))
    # A machine is named where its neighbours do not get through as well.
    boxes = [each.machine for each, _ in through if each.machine not in (None, machine) and each.network not in whole]
    return (*found, *((MACHINES, tuple(each for each in boxes if each is not None)),) * bool(boxes))


def _letting(
    through: list[tuple[Asker, Connection]], others: list[tuple[Asker, Connection]]
) -> tuple[tuple[str, Place], ...]:
    """The decisions of rules on the way of those who get through, that those who do not get do not meet."""
    kept = {_spot(each) for _, connection in others for each in connection.decisions if not each.stops}
    found: dict[object, tuple[str, Place]] = {}
    # Strangers count; where none gets through, neighbours, whose own rules are no matter of the machine's.
    strangers = [connection for asker, connection in through if asker.range is not None and asker.network == INTERNET]
    for connection in strangers or [connection for asker, connection in through if asker.range is not None]:
        for each in connection.decisions:
            if each.place is not None and not each.assumed and _spot(each) not in kept and _is_rule(each):
                found.setdefault(_spot(each), (plainly(each), each.place))
    return tuple(found.values())


def _spot(decision: Decision) -> tuple[object, ...]:
    return decision.place.path if decision.place is not None else ()


def _is_rule(decision: Decision) -> bool:
    """Whether it is the word of a rule, a list or a forward, and not that of a box or a line that anybody meets."""
    path = _spot(decision)
    return bool(
        {"inbound", "outbound", "forward", "arriving", "rules", "chains", "areas", "access_list", "groups", "forwards"}
        & set(path)
    )


def _boundaries(
    others: list[tuple[Asker, Connection]], answers: list[tuple[Asker, Connection]]
) -> tuple[Boundary, ...]:
    """What keeps the others out, each decision once with all whom it meets."""
    held: dict[tuple[object, ...], tuple[Decision, list[Asker]]] = {}
    for asker, connection in others:
        stop = connection.stop
        if stop is not None and not isinstance(stop, connect_kinds.InternetPrivate):
            # That private addresses are none of the internet's needs no words.
            held.setdefault((stop.kind, _spot(stop)), (stop, []))[1].append(asker)
    every = Counter(each.network for each, _ in answers if each.range is not None)
    return tuple(Boundary(_who(askers, every), plainly(stop), _stated(stop.place)) for stop, askers in held.values())


def _stated(place: Place | None) -> Place | None:
    """A place, where some file has it."""
    return place if place is not None and place.path else None


def plainly(decision: Decision) -> str:
    """What a decision says, without the one packet of many that it was about, and without the name of who sent it."""
    text, at = _WHO.sub("whoever asks", decision.text), decision
    while True:
        packet = getattr(at, "packet", None)
        if packet is not None:
            text = text.replace(f": {packet}", "")
        if not isinstance(at.subject, Decision):
            return text
        at = at.subject


def _who(askers: list[Asker], every: Counter[str]) -> tuple[str, ...]:
    """Askers in words, those of a network together; `every` counts all of each network."""
    found = []
    for network in dict.fromkeys(each.network for each in askers if each.range is not None):
        there = [each.range for each in askers if each.range is not None and each.network == network]
        if len(there) == every[network]:
            found.append(f"everybody on {'the internet' if network == INTERNET else network}")
        else:
            found.append(f"{shown_ranges(joined(there))} on {'the internet' if network == INTERNET else network}")
    return (*found, *(each.machine for each in askers if each.machine is not None))


#: So many ranges are named; the rest is counted.
_MOST_NAMED = 4


def shown_ranges(ranges: Iterable[Range]) -> str:
    """Ranges as prefixes, the first few of them."""
    named = [str(each) for each in networks_of(ranges)]
    more = len(named) - _MOST_NAMED
    return ", ".join(named[:_MOST_NAMED]) + (f" and {more} more" if more > 0 else "")


def networks_of(ranges: Iterable[Range]) -> list[IPNetwork]:
    """Ranges as prefixes."""
    return [network for each in ranges for network in summarize_address_range(each.address, each.end)]
