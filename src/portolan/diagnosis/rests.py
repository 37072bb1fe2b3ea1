"""What a visit rests on: the objects that its decisions read, and what they looked for and found nowhere.

A change to an object that no decision read changes the visit only where it states what was found absent.
"""

from collections.abc import Iterator

from portolan.estate.estate import Estate
from portolan.estate.records import Record
from portolan.evidence.decision import Decision
from portolan.journey.visit import Visit
from portolan.source.place import Place

#: Where machines and networks stand.
_BOXES = ("hosts", "routers", "networks")


def read_in(visit: Visit) -> Iterator[object]:
    """Every stated value and every decision that a visit rests on, inner exchanges and refused alternatives too."""
    for exchange in visit.tree:
        for decision in exchange.decisions:
            yield from decision.read()


def objects_read(estate: Estate, visit: Visit) -> frozenset[tuple[object, ...]]:
    """The objects (section and name) that a visit rests on, the boxes and networks on its ways among them."""
    found: set[tuple[object, ...]] = set()
    for each in read_in(visit):
        place = getattr(each, "place", None)
        if isinstance(place, Place) and len(place.path) > 1:
            found.add(place.path[:2])
        if isinstance(each, Record):
            labels = each.owner.split(".")
            names = (".".join(labels[at:]) for at in range(len(labels)))
            found.update(("zones", name) for name in names if name in estate.zones)
    for exchange in visit.tree:
        for attempt in exchange.attempts:
            for hop in attempt.hops:
                found.update(
                    (section, each)
                    for section in _BOXES
                    for each in (hop.label, hop.network)
                    if each in getattr(estate, section)
                )
    return frozenset(found)


def absent(visit: Visit) -> frozenset[str]:
    """What was looked for and found nowhere: addresses and names."""
    return frozenset(text for each in read_in(visit) if isinstance(each, Decision) for text in each.lacked)


def sought_by(visit: Visit) -> frozenset[str]:
    """What was found nowhere, and the addresses on the way, which nobody has a second time: whoever states one of them changes it."""
    ways = (attempt for exchange in visit.tree for attempt in exchange.attempts)
    return absent(visit).union(str(each) for way in ways for hop in way.hops for each in (hop.after[0], hop.after[2]))


def end_of(visit: Visit) -> frozenset[tuple[str | int, ...]]:
    """Where the end of a visit rests directly: who asked last and how they pass on, who answered, and what stopped it."""
    held: list[object] = list(visit.stop.read()) if visit.stop is not None else []
    for each in visit.exchanges[-1].tree:
        client = each.client
        held += [getattr(client, "upstream", None), getattr(client, "origin", None), each.service]
        held.append(each.response.site if each.response is not None else None)
    places = (getattr(each, "place", None) for each in held)
    return frozenset(place.path for place in places if isinstance(place, Place))
