"""Who can newly connect to what, where policy lets them: asked of the estate's vantages, strangers, ranges that rules name, neighbours."""

from collections.abc import Iterable, Iterator
from ipaddress import ip_interface
from typing import Literal

from portolan.diagnosis.base import Case, on_internet
from portolan.diagnosis.exposure_edge import edge_ranges
from portolan.diagnosis.gains import STRANGER, Asked, Gain, Grade
from portolan.diagnosis.passing import asked_directly, passed_to
from portolan.diagnosis.policy import networks_let_out
from portolan.estate.base import IPAddress, IPNetwork, is_public
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, machines, stated_sources, touched_machines
from portolan.estate.places import free_addresses, held_addresses, neighbour
from portolan.estate.service import NameServer, Resolver, WebService
from portolan.estate.vantage import Vantage
from portolan.evidence.legs import Arrival, Connection, Exchange
from portolan.journey.visit import Visit
from portolan.journey.world import World
from portolan.source.value import Value

#: How many connections are compared at most for one change.
MOST_REACH = 24_000
_MOST_STRANGERS = 8
#: So many targets are tried from a machine that rules name.
_MOST_NAMED = 500
#: A forward of so many ports is looked at port by port.
_FEW_PORTS = 16
REACHES = " can newly reach "


class _Asker(Value, frozen=True):
    """Who tries to connect: a vantage, whether the expectation is for it, and whether it stands for all."""

    label: str
    vantage: Vantage
    meant: bool
    anybody: bool


def reach_gains(before: World, after: World, kept: World | None, asked: Asked, seen: Visit) -> tuple[list[Gain], bool]:
    """Connections that newly open, and not because something works again (`kept`: the changed world with the policy of before)."""
    askers = _askers(before.estate, after.estate, asked)
    targets = _targets(after)
    whole = len(askers) * len(targets) <= MOST_REACH
    if not whole:
        touched = {each.name for _, each in touched_machines(before.estate, after.estate)}
        targets = [each for each in targets if each[3] in touched] or targets
        askers = [each for each in askers if each.anybody or each.vantage.name == asked.vantage.name]
        targets = targets[: MOST_REACH // max(1, len(askers))]
    then, now = _peopled(before, askers), _peopled(after, askers)
    still = _peopled(kept, askers) if kept is not None else None
    # Rules for what leaves a network are policy to those on it; to all others they only let answers out.
    inner = networks_let_out(before.stated, after.stated)
    bound = {each.vantage.name for each in askers if {network for network, _ in attachments(each.vantage)} & inner}
    judging = _Judging(before, after, asked, seen)
    found = []
    for asker in askers:
        name = asker.vantage.name
        for address, port, protocol, _ in targets:
            arrival = now.connect(now.estate.vantages[name], address, port, protocol).arrival
            if arrival is None or _same(arrival, then.connect(then.estate.vantages[name], address, port, protocol)):
                continue
            if (
                still is not None
                and name not in bound
                and _same(arrival, still.connect(still.estate.vantages[name], address, port, protocol))
            ):
                continue
            path = arrival.service.place.path
            what = f"{arrival.service.name} on {arrival.machine.name} at {address} port {port}"
            text = f"{REACHES}{what}" + ("" if protocol == "tcp" else f" ({protocol})")
            key = ("reach", asker.label, "/".join(map(str, path)), str(address), str(port), protocol)
            found.append(Gain("reach", key, text, judging.grade(asker, arrival), judging.closed(arrival)))
    return found, whole


def _same(arrival: Arrival, connection: Connection) -> bool:
    """Whether a connection came to the same program: another one at the same address and port is newly reached."""
    other = connection.arrival
    return other is not None and other.service.place.path == arrival.service.place.path


class _Judging:
    """How much of what newly opens an expectation asks for."""

    def __init__(self, before: World, after: World, asked: Asked, seen: Visit) -> None:
        self.asked = asked
        self.used = {(each.service.place.path, each.listener.port) for each in _arrivals(seen.exchanges)}
        self.services = {path for path, _ in self.used}
        # What programs ask by themselves; visitors need no way of their own to it.
        self.asked_within = {each.service.place.path for each in _arrivals(seen.tree)} - self.services
        self.behind = {path for world in (before, after) for path in passed_to(world)} - asked_directly(before)
        if passed_to(before):
            # Nor is it for strangers, whatever its names, where the programs in front got through and strangers did not.
            self.behind |= passed_to(before).keys() - strangers_reach(before).keys()
        self.ranges = edge_ranges(seen)
        self.for_some = _let_in_by_name(before) - strangers_reach(before).keys()

    def grade(self, asker: _Asker, arrival: Arrival) -> Grade:
        """What somebody gets through to, held against what the expectation is for."""
        path, port = arrival.service.place.path, arrival.listener.port
        private = "private" in self.asked.marks
        if isinstance(arrival.service, NameServer) and not private:
            # Whoever asks a name asks its servers.
            return "needed"
        if isinstance(arrival.service, Resolver):
            return "needed" if asker.meant and not asker.anybody else "more" if asker.anybody else "beside"
        of_edges = any(item.ip in each for item in asker.vantage.address for each in self.ranges)
        if of_edges and path in self.asked_within:
            return "needed"
        if asker.anybody and path in self.for_some and self.asked.narrow == "no":
            # Somebody of the estate was let in to it by name, and strangers were not.
            return "more"
        if path in self.behind:
            # What a front or an edge passes on to is meant to be behind it.
            return "more" if asker.anybody or private else "beside"
        if asker.meant and (path, port) in self.used:
            return "needed"
        guarded = asker.anybody and not asker.meant and (self.asked.narrow == "yes" or private)
        if path in self.services and not guarded:
            return "beside"
        return "beside" if path in self.asked_within and not asker.anybody else "more"

    def closed(self, arrival: Arrival) -> bool:
        """Whether whoever wrote the estate says that nobody is meant to get there."""
        service = arrival.service
        if self.asked.closed and service.place.path in self.services | self.asked_within:
            return True
        sites = [each for each in service.sites.values() if each.in_force] if isinstance(service, WebService) else []
        return bool(sites) and all("closed" in each.marks for each in sites)


def _arrivals(exchanges: Iterable[Exchange]) -> list[Arrival]:
    """Where the connections that opened led to."""
    return [
        each.connection.arrival
        for each in exchanges
        if each.connection is not None and each.connection.arrival is not None
    ]


def _askers(before: Estate, after: Estate, asked: Asked) -> list[_Asker]:
    """The estate's vantages, a stranger, one from each range that rules name, and a neighbour on each segment."""
    named = asked.expectation.vantages if asked.expectation is not None and asked.expectation.vantages else ()
    meant = (
        {*named, asked.vantage.name} if named or asked.expectation is None else {*after.vantages, asked.vantage.name}
    )
    public = any(on_internet(after, vantage) for name, vantage in after.vantages.items() if name in meant)
    # Somebody on the internet stands for everybody there, unless the expectation is for some only.
    public = public and asked.narrow == "no"
    found = [
        _Asker(name, vantage, name in meant or (public and on_internet(after, vantage)), on_internet(after, vantage))
        for name, vantage in after.vantages.items()
    ]
    if asked.vantage.name not in after.vantages:
        found.append(_Asker(asked.vantage.name, asked.vantage, True, on_internet(after, asked.vantage)))
    held = held_addresses(after)
    found.append(
        _Asker("anybody on the internet", Vantage(name="(anybody)", network="internet", address=STRANGER), public, True)
    )
    for number, network in enumerate(_ranges(before, after)):
        address = next(filter(is_public, free_addresses(network, held)), None)
        if address is not None and len(found) < len(after.vantages) + _MOST_STRANGERS:
            place = (ip_interface(f"{address}/{address.max_prefixlen}"),)
            found.append(
                _Asker(
                    f"anybody in {network}",
                    Vantage(name=f"(range {number})", network="internet", address=place),
                    public,
                    True,
                )
            )
    for name, segment in after.networks.items():
        near = neighbour(f"(neighbour on {name})", segment, held)
        if near is not None:
            found.append(_Asker(f"others on {name}", near, False, False))
    return found


def _ranges(before: Estate, after: Estate) -> list[IPNetwork]:
    """Source ranges that stand in the changed world and not in the earlier one."""
    return sorted(stated_sources(after) - stated_sources(before), key=str)


def _targets(world: World) -> list[tuple[IPAddress, int, str, str]]:
    """Every address, port and protocol at which something might take a packet, with the machine that has the address."""
    found: dict[tuple[IPAddress, int, str], str] = {}
    every = tuple(machines(world.estate))
    bound = {
        machine.name: {(each.port, each.protocol) for each in world.topology.device(machine).sockets.bindings}
        for machine in every
    }
    forwards = [forward for machine in every for forward in getattr(machine, "forwards", ())]
    #: The ports at which anything may be taken or sent on, which is all that counts of a wide forward.
    taken = {pair for ports in bound.values() for pair in ports}
    taken |= {(port, each.protocol) for each in forwards for port in (each.outside.first, each.outside.last)}
    for machine in every:
        ports = set(bound[machine.name])
        for forward in getattr(machine, "forwards", ()):
            outside = forward.outside
            shift = outside.first - (forward.port or outside.first)
            every_port = range(outside.first, outside.last + 1)
            if len(every_port) <= _FEW_PORTS:
                ports |= {(port, forward.protocol) for port in every_port}
            else:
                ports |= {
                    (port + shift, protocol)
                    for port, protocol in taken
                    if protocol == forward.protocol and port + shift in every_port
                }
        for interface in machine.interfaces.values():
            for item in interface.address:
                for port, protocol in sorted(ports):
                    found[item.ip, port, protocol] = machine.name
        for pair in getattr(machine, "one_to_one", ()):
            holder = world.topology.holder(pair.inside)
            for binding in holder.sockets.bindings if holder is not None else ():
                found[pair.outside, binding.port, binding.protocol] = machine.name
    return [(*each, name) for each, name in found.items()]


def _peopled(world: World, askers: list[_Asker]) -> World:
    """The world with everybody in it who asks; made once for the same people."""
    people = tuple(sorted(f"{each.label} {each.vantage.address} {each.vantage.trusts}" for each in askers))
    return world.once(("peopled", people), lambda: world.with_vantages(*(each.vantage for each in askers)))


def addresses_meant(case: Case, version: int) -> tuple[str, ...]:
    """The public addresses of those for whom alone something is expected; nothing where it is for anybody."""
    expectation = case.expectation
    if expectation is None or for_some_only(case) == "no":
        return ()
    named = [case.estate.vantages[each] for each in expectation.vantages if each in case.estate.vantages]
    held = [item.ip for each in named for _, addresses in attachments(each) for item in addresses]
    return tuple(str(each) for each in held if each.version == version and is_public(each))


def for_some_only(case: Case) -> Literal["yes", "perhaps", "no"]:
    """Whether the expectation is for those whom it names, and not for anybody.

    One that names nobody is for all; so is one that names the default vantage, which stands for the world. It is for some only where it
    leaves out others on the internet, and perhaps where no stranger reaches the service that is meant at any port.
    """
    expectation, estate = case.expectation, case.estate
    if expectation is None or not expectation.vantages:
        return "no"
    named = [estate.vantages[each] for each in expectation.vantages if each in estate.vantages]
    outside = [each for each in estate.vantages.values() if on_internet(estate, each)]
    if any(each.default for each in named) or not any(each in outside for each in named):
        return "no"
    if any(each not in named for each in outside):
        return "yes"
    homes = {home.service.place.path for home in case.homes()}
    return "no" if homes & strangers_reach(case.world).keys() else "perhaps"


def _let_in_by_name(world: World) -> frozenset[tuple[str | int, ...]]:
    """The services that machines of the estate get through to whose own addresses some rule names."""
    return world.once("let in by name", lambda: frozenset(_reached_by_named(world)))


def _reached_by_named(world: World) -> Iterator[tuple[str | int, ...]]:
    single = {each.network_address for each in stated_sources(world.estate) if each.num_addresses == 1}
    named = [each for each in machines(world.estate) if single & set(each.addresses)]
    for machine in named[:_MOST_STRANGERS]:
        for address, port, protocol, owner in _targets(world)[:_MOST_NAMED]:
            arrival = world.connect(machine, address, port, protocol).arrival if owner != machine.name else None
            if arrival is not None:
                yield arrival.service.place.path


def strangers_reach(world: World) -> dict[tuple[str | int, ...], frozenset[int]]:
    """The services that somebody on the internet whom nobody knows gets through to, with their ports; worked out once a world."""
    return world.once("strangers reach", lambda: _strangers_reach(world))


def _strangers_reach(world: World) -> dict[tuple[str | int, ...], frozenset[int]]:
    stranger = Vantage(name="(anybody)", network="internet", address=STRANGER)
    peopled = world.with_vantages(stranger)
    stranger = peopled.there(stranger)
    held: dict[tuple[str | int, ...], set[int]] = {}
    for address, port, protocol, _ in _targets(world)[:MOST_REACH]:
        arrival = peopled.connect(stranger, address, port, protocol).arrival if is_public(address) else None
        if arrival is not None:
            held.setdefault(arrival.service.place.path, set()).add(arrival.listener.port)
    return {path: frozenset(each) for path, each in held.items()}
