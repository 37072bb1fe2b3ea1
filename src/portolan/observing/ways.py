"""How each belief may be wrong: the estate's facts read backwards, by their types alone.

Where `candidates.py` asks what was meant by what is written, this asks what may be in truth although something else is written: it is
not there, it is off, it has another value, it stands elsewhere in its order. A new key brings its ways with it.
"""

from collections.abc import Iterator
from datetime import datetime
from ipaddress import ip_address
from itertools import islice
from typing import Any

from portolan.diagnosis.base import Case
from portolan.diagnosis.candidates import pairs_of, typed
from portolan.diagnosis.proposal import Patch, add_record, drop_record, put, remove, replace, shown_data, swap_record
from portolan.diagnosis.record_candidates import place_of
from portolan.diagnosis.rests import objects_read
from portolan.diagnosis.smallest import sought
from portolan.estate.base import Stated, is_public
from portolan.estate.changing import VERSIONS, Otherwise, parts_of
from portolan.estate.estate import Estate
from portolan.estate.machine import Machine
from portolan.estate.records import Record
from portolan.estate.site import Access
from portolan.estate.slips import ADDRESS, GONE_COST, NAME, Holds, Known, fields_of, otherwise, slips, strays, typo
from portolan.estate.vantage import Expectation, Vantage
from portolan.estate.zone import Zone
from portolan.journey.visit import Visit
from portolan.journey.world import World
from portolan.source.place import Place, pointer
from portolan.source.value import Value

#: Sections of beliefs; who asks is believed to ask, and what is expected is no belief.
_SECTIONS = ("networks", "routers", "hosts", "groups", "zones", "edges", "stores", "certificates", "vantages")
#: What is no belief about the present: the past, identity, words for people, and what a program is by nature.
_NO_BELIEFS = frozenset(
    (
        *VERSIONS,
        *(
            "marks",
            "title",
            "about",
            "kind",
            "place",
            "unread",
            "written_in",
            "read_from",
            "guessed",
            "program",
            "public",
        ),
        *("run_by", "holds", "last_asked", "looked_up", "remembers_redirects", "strict", "default_on", "answers_after"),
    )
)
#: Of a visitor these may be otherwise than believed.
_OF_VISITORS = frozenset(("hosts_file", "resolver", "search", "gateway", "trusts", "clock"))
#: Whole objects, which nobody believes in that are not there.
_WHOLE = frozenset(("services", "sites", "interfaces", "buckets", "records", "subnets", "rooms"))
#: So many values that the estate states elsewhere are tried for one fact, and so many items of a list.
_MOST_NEAR, _MOST_ITEMS = 3, 60
#: Order, another interface, a value that is stated elsewhere.
_MOVED, _EXCHANGED, _ELSEWHERE = 1.6, 1.4, 0.3
#: So many private addresses are tried in the place of a public one; where none is stated, this one (RFC 1918).
_MOST_INSIDE, _INSIDE = 2, "10.0.0.10"
#: So many records of a zone have every way tried; of a larger one, those of the names that were asked.
_MANY_RECORDS = 60


class Way(Value, frozen=True):
    """One way in which a belief may be wrong: the change that makes the estate so, what would be so then, and how unlikely it is."""

    #: What is believed: the rule, the record, the setting.
    belief: Place
    patch: Patch
    text: str
    cost: float


def ways_under(
    world: World, found: Visit, expectation: Expectation | None, also: frozenset[tuple[Any, ...]] = frozenset()
) -> tuple[list[Way], Known]:
    """Every way in which what a visit rests on, and what stands in the objects that are named `also`, may be wrong; and what the estate states."""
    estate = world.estate
    names = frozenset(exchange.url.host.rstrip(".") for exchange in found.tree)
    names |= {alias for exchange in found.tree for alias in exchange.resolution.aliases}
    about = sought(Case(world, found, expectation), [found], [found.url]).about
    return ways(estate, about, objects_read(estate, found) | also, names, world.now), about


def ways(
    estate: Estate, about: Known, near: frozenset[tuple[Any, ...]], names: frozenset[str], now: datetime
) -> list[Way]:
    """Every way in which what the objects `near` (section and name) state may be wrong, the likeliest first; `names` are those that were asked."""
    work = _Work(estate, about, names, now)
    found: dict[str, Way] = {}
    for section in _SECTIONS:
        for value in getattr(estate, section).values():
            if value.place.path[:2] in near and value.place.path:
                for each in work.of(value):
                    held = found.get(str(each.patch))
                    if held is None or each.cost < held.cost:
                        found[str(each.patch)] = each
    return sorted(found.values(), key=lambda each: each.cost)


class _Work:
    def __init__(self, estate: Estate, about: Known, names: frozenset[str], now: datetime) -> None:
        self.estate, self.about, self.names, self.now = estate, about, names, now
        stated = (each for each in about.addresses if ":" not in each and not is_public(ip_address(each)))
        #: Private addresses that may stand in the place of a public one: such as are stated, else one of nobody.
        self.inside = [*islice(stated, _MOST_INSIDE)] or [_INSIDE]

    def of(self, value: Stated) -> Iterator[Way]:
        kind: type[Stated] = value.owner if isinstance(value, Otherwise) else type(value)
        fields = fields_of(kind)
        said = dict(pairs_of(value))
        for key, node in said.items():
            if key in _NO_BELIEFS or (isinstance(value, Vantage) and key not in _OF_VISITORS):
                continue
            yield from self._key(value, key, node, fields.get(key, ("", None))[1])
        yield from self._unsaid(value, kind, said)
        if isinstance(value, Zone) and isinstance(value.place.node.value, list):
            yield from self._zone(value)
        path = value.place.path
        for part in parts_of(value):
            if (
                not isinstance(part, Otherwise)
                and part.place.path[: len(path)] == path
                and len(part.place.path) > len(path)
            ):
                yield from self.of(part)

    def _key(self, value: Stated, key: str, node: Any, holds: Holds | None) -> Iterator[Way]:
        place = Place((*value.place.path, key), node)
        belief = _belief(value, place)
        if key not in _WHOLE:
            yield Way(belief, remove(place.path), f"{_last(place)} is not there", GONE_COST)
        if holds is not None and holds.kind == "secret":
            return
        if isinstance(node.value, str):
            yield from self._scalar(belief, place, node.value, holds)
            return
        items = [each for each in node.value or () if not isinstance(each, tuple)]
        for number, item in enumerate(items[:_MOST_ITEMS]):
            here = Place((*place.path, number), item)
            whole = belief if belief is value.place else here
            yield Way(whole, remove(here.path), f"{_told(item)} is not there", GONE_COST)
            if number + 1 < len(items):
                patch: Patch = [{"op": "move", "from": pointer(here.path), "path": pointer((*place.path, number + 1))}]
                yield Way(whole, patch, f"{_told(item)} stands behind the next one", _MOVED)
            if isinstance(item.value, str) and not (isinstance(value, Zone) and key == "records"):
                yield from self._scalar(whole, here, item.value, holds)

    def _scalar(self, belief: Place, place: Place, text: str, holds: Holds | None) -> Iterator[Way]:
        if place.path[-2:-1] == ("lines",) or place.path[-1] == "lines":
            yield from self._line(belief, place, text)
            return
        if holds is None:
            return
        for each, cost in otherwise(holds, None, self.now) if datetime in holds.scalar else ():
            yield Way(belief, replace(place.path, each), f"{_last(place)} is {each}, not {text}", cost)
        others = [name for section in holds.refers for name in getattr(self.estate, section, {})]
        machine = self._machine(place)
        if machine is not None and place.path[-1] in ("on", "in", "out") and len(machine.interfaces) > 1:
            for each in machine.interfaces:
                if each != text:
                    yield Way(belief, replace(place.path, each), f"{_last(place)} is {each}, not {text}", _EXCHANGED)
        elif holds.refers:
            for each in others[: _MOST_NEAR * 4]:
                if each != text:
                    yield Way(belief, replace(place.path, each), f"{_last(place)} is {each}, not {text}", _EXCHANGED)
        else:
            near = [each.but(cost=each.cost + _ELSEWHERE) for each in slips(holds, text, self.about)[:_MOST_NEAR]]
            for slip in (*strays(holds, text), *near):
                yield Way(
                    belief,
                    replace(place.path, typed(slip.meant, holds)),
                    f"{_last(place)} is {slip.meant or 'empty'}, not {text or 'empty'}",
                    slip.cost,
                )

    def _machine(self, place: Place) -> Machine | None:
        path = place.path
        held: dict[str, Any] = {"hosts": self.estate.hosts, "routers": self.estate.routers}.get(str(path[0]), {})  # type: ignore[assignment]
        found: Machine | None = held.get(str(path[1])) if len(path) > 1 else None
        return found

    def _unsaid(self, value: Stated, kind: type[Stated], said: dict[str, Any]) -> Iterator[Way]:
        """What a key that is not written may say in truth."""
        defaults = dict(zip(kind.__struct_fields__[::-1], kind.__struct_defaults__[::-1], strict=False))
        machine = self._machine(value.place)
        for key, (field, holds) in fields_of(kind).items():
            if key in said or key in _NO_BELIEFS or holds.kind == "secret" or isinstance(value, Vantage):
                continue
            meant = otherwise(holds, defaults.get(field), self.now)
            if Access in holds.scalar:
                meant = [({"from": otherwise(fields_of(Access)["from"][1], (), self.now)[0][0]}, 1.3)]
            if key == "in" and machine is not None:
                meant = [(each, _EXCHANGED) for each in machine.interfaces]
            for each, cost in meant:
                words = "for others only" if key in ("access", "from") else f"{key} is {_said(each)}"
                yield Way(value.place, put(value.place, key, each), words, cost)

    def _line(self, belief: Place, place: Place, text: str) -> Iterator[Way]:
        """A line of a hosts file: its address, or one of its names."""
        words = text.split()
        for number, word in enumerate(words):
            for slip in strays(ADDRESS if number == 0 else NAME, word)[:2]:
                meant = " ".join([*words[:number], slip.meant, *words[number + 1 :]])
                yield Way(belief, replace(place.path, meant), f"it says {slip.meant}, not {word}", slip.cost)

    # -- records --

    def _zone(self, zone: Zone) -> Iterator[Way]:
        every = [record for types in zone.data.nodes.values() for held in types.values() for record in held]
        few = len(every) <= _MANY_RECORDS
        for record in every:
            asked = record.owner in self.names
            if record.type == "SOA" or not (few or asked):
                continue
            belief = place_of(zone, record)
            yield Way(belief, drop_record(zone, record), "it is not there", GONE_COST)
            data = str(record.data)
            if record.type in ("A", "AAAA"):
                near = [each.but(cost=each.cost + _ELSEWHERE) for each in slips(ADDRESS, data, self.about)[:_MOST_NEAR]]
                meant = [each for each in (*strays(ADDRESS, data), *near) if "/" not in each.meant]
                for slip in meant:
                    yield self._record(zone, record, belief, slip.meant, slip.cost)
                for inside in self.inside if record.type == "A" else ():
                    yield self._record(zone, record, belief, inside, _EXCHANGED)
            elif record.type in ("CNAME", "NS", "DNAME"):
                yield self._record(zone, record, belief, f"{data}.{zone.name}.", 1.0)
                yield self._record(zone, record, belief, f"{typo(data)}.", 1.0)
            if record.owner != zone.name and asked:
                patch = [
                    *drop_record(zone, record),
                    *add_record(zone, typo(record.owner), record.type, shown_data(record), record.ttl),
                ]
                yield Way(belief, patch, f"it is written for {typo(record.owner)}", 1.0)

    def _record(self, zone: Zone, record: Record, belief: Place, meant: str, cost: float) -> Way:
        text = f"it leads to {meant.rstrip('.')}, not to {record.data}"
        return Way(belief, swap_record(zone, record, record.type, meant), text, cost)


def _belief(value: Stated, place: Place) -> Place:
    """What is believed in: a rule, a forward, a grant as a whole; of a larger object the one setting."""
    return value.place if value.place.path and isinstance(value.place.path[-1], int) else place


def _told(item: Any) -> str:
    """An item of a list: its text, where it is one."""
    return item.value if isinstance(item.value, str) and item.value else "it"


def _last(place: Place) -> str:
    """A setting by its own name."""
    return next((str(each) for each in reversed(place.path) if not isinstance(each, int)), place.object)


def _said(value: object) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{key} {_said(each)}" for key, each in value.items())
    if isinstance(value, list | tuple):
        return ", ".join(map(_said, value))
    return str(value).lower() if isinstance(value, bool) else str(value)
