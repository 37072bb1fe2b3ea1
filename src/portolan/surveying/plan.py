"""The whole estate as a picture has it: networks from the internet inwards, what is on each, and the ways of what is expected."""

from collections.abc import Iterator

from portolan.diagnosis.asking import missed_at
from portolan.estate.base import IPInterface
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, machines, whole_edges
from portolan.estate.machine import Machine, Router
from portolan.estate.network import Network
from portolan.estate.places import INTERNET
from portolan.evidence.legs import Exchange
from portolan.journey.expectation import expected_urls, vantages_for
from portolan.journey.visit import Visit
from portolan.journey.world import World
from portolan.source.value import Value

#: So many ways of what is expected are drawn; those that fail first.
MOST_WAYS = 24


class Thing(Value, frozen=True):
    """A machine, an edge, a store or somebody who asks: of a kind, with a few lines about it; `joins` are networks further out that it leads to."""

    kind: str
    name: str
    lines: tuple[str, ...]
    joins: tuple[str, ...] = ()


class Place(Value, frozen=True):
    """A network and what is on it; those that join it to networks further out come first."""

    name: str
    detail: str
    things: tuple[Thing, ...]


class Drawn(Value, frozen=True):
    """The way of one expectation: whom it passes, and whether it is met."""

    url: str
    vantage: str
    way: tuple[str, ...]
    met: bool
    missed: str = ""


class Plan(Value, frozen=True):
    """An estate, ready to be drawn; `left` are the ways for which there is no room."""

    title: str
    places: tuple[Place, ...]
    ways: tuple[Drawn, ...]
    left: int
    failing: int

    @property
    def met(self) -> bool:
        """Whether every expectation is."""
        return not self.failing


def plan(world: World) -> Plan:
    """The estate of a world."""
    estate = world.stated
    order = _inwards(estate)
    places = tuple(_place(estate, name, order) for name in order)
    ways = list(_ways(world))
    ways.sort(key=lambda each: each.met)
    failing = sum(not each.met for each in ways)
    title = estate.title or "the estate"
    return Plan(title, places, tuple(ways[:MOST_WAYS]), max(0, len(ways) - MOST_WAYS), failing)


def _inwards(estate: Estate) -> list[str]:
    """The names of all networks: the internet, then each after one that some box joins it to."""
    joined: dict[str, dict[str, None]] = {}
    for box in machines(estate):
        networks = [network for network, _ in attachments(box)]
        for one in networks:
            joined.setdefault(one, {}).update(dict.fromkeys(each for each in networks if each != one))
    found: dict[str, None] = {INTERNET: None}
    waiting = [INTERNET]
    while waiting:
        for name in joined.get(waiting.pop(0), ()):
            if name not in found:
                found[name] = None
                waiting.append(name)
    return list(dict.fromkeys((*found, *estate.networks)))


def _place(estate: Estate, name: str, order: list[str]) -> Place:
    """A network, and what belongs there: each box on the innermost of its networks."""
    network = estate.networks.get(name)
    things = [each for box in machines(estate) if (each := _machine(box, name, order)) is not None]
    things.sort(key=lambda each: not each.joins)
    things += [_visitor(each.name, each.address) for each in estate.vantages.values() if each.network == name]
    if name == INTERNET:
        things += _rented(estate)
    return Place(name, _detail(network), tuple(things))


def _detail(network: Network | None) -> str:
    if network is None or network.kind == "internet":
        return "public addresses"
    subnets = ", ".join(map(str, network.subnets))
    guarded = ", access list" if network.access_list is not None else ""
    return f"{subnets or network.kind}{guarded}"


def _machine(box: Machine, name: str, order: list[str]) -> Thing | None:
    """A machine, where it belongs to that network."""
    held = attachments(box)
    networks = sorted({network for network, _ in held}, key=order.index)
    if not networks or networks[-1] != name:
        return None
    addresses = [f"{item.ip}" for network, items in held if network == name for item in items]
    lines = [", ".join(addresses)]
    for network in networks[:-1]:
        outside = ", ".join(str(item.ip) for other, items in held if other == network for item in items)
        lines.append(f"{network}: {outside}")
    for service in box.services.values():
        ports = ", ".join(str(each) for each in service.listens)
        lines.append(f"{service.name}: {ports}" if ports else service.name)
    if box.filter is not None:
        lines.append("filter")
    if box.forwards:
        lines.append(f"{len(box.forwards)} port forwards")
    kind = "router" if isinstance(box, Router) else "host"
    return Thing(kind, box.name, tuple(lines), tuple(networks[:-1]))


def _visitor(name: str, addresses: tuple[IPInterface, ...]) -> Thing:
    return Thing("visitor", name, (", ".join(str(each.ip) for each in addresses),))


def _rented(estate: Estate) -> Iterator[Thing]:
    """Edges and stores that are rented."""
    for edge in whole_edges(estate):
        if edge.place.path[:1] in (("edges",), ("zones",)):
            yield Thing("edge", edge.label, (*(str(each) for each in edge.names[:3]),))
    for store in estate.stores.values():
        yield Thing("store", store.name, tuple(f"bucket {name}" for name in list(store.buckets)[:4]))


def _ways(world: World) -> Iterator[Drawn]:
    """The way of every expectation from every place that it is for."""
    for expectation, _ in expected_urls(world.estate):
        for vantage in vantages_for(world.estate, expectation):
            found, missed = missed_at(world, expectation, vantage)
            text = missed[0].misses[0].text if missed else ""
            yield Drawn(str(expectation.url), vantage.name, tuple(_passed(found)), not missed, text)


def _passed(visit: Visit) -> Iterator[str]:
    """Whom a visit passes, in order, each exchange behind the one before."""
    before = ""
    for each in visit.tree:
        for name in _boxes(each):
            if name != before:
                yield name
            before = name


def _boxes(exchange: Exchange) -> Iterator[str]:
    connection = exchange.connection
    if connection is None:
        yield f"{exchange.url.host}: no address"
        return
    arrival = connection.arrival
    for hop in connection.hops:
        if not hop.answer and hop.entering is not None and (arrival is None or hop.label != arrival.machine.name):
            yield hop.label
    if arrival is not None:
        yield f"{arrival.machine.name}: {arrival.service.name}"
    elif connection.reached is not None:
        yield f"{connection.reached.name}: {connection.detail}"
    else:
        yield str(connection.detail)
