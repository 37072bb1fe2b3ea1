"""Which belief is wrong: the estate says one thing, and something else is seen.

Each fact that an answer rests on is a belief. Made wrong in a likely way, does the estate then give exactly what is seen, from every
place that somebody told of? Then it is suspected. A belief that gives it in more ways, and likelier ones, comes first.
"""

import math
from collections.abc import Iterable, Iterator
from typing import Any

from portolan.diagnosis.rests import read_in
from portolan.diagnosis.trial import Apply
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.places import INTERNET
from portolan.estate.service import sites_of
from portolan.estate.site import Site
from portolan.estate.url import Url, parse
from portolan.estate.vantage import Vantage
from portolan.evidence.outcome import Kind
from portolan.journey.expectation import expectation_for
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.observing.objects import dotted
from portolan.observing.observation import Seen
from portolan.observing.unwritten import Unwritten, unknown, unsaid
from portolan.observing.ways import Way, ways_under
from portolan.source.place import Place
from portolan.source.problem import EstateError
from portolan.source.value import Value

#: So many ways are tried by default; all with `--thorough`.
MOST_TRIED = 220
#: In an estate with more objects each way costs more, and fewer are tried; never fewer than these.
_MANY_OBJECTS, _FEWEST = 150, 100
#: How likely it is that a belief is wrong by another value than those that were tried, beside one that gives all that is seen.
_IN_PART = 0.02
#: How much rarer a way is that costs one more; what is cited is likelier than what stands beside it.
_RARER, _CITED = 1.2, 0.5


class Sight(Value, frozen=True):
    """What was seen from one place, and what the estate says there."""

    vantage: Vantage
    seen: tuple[Seen, ...]
    predicted: Visit

    @property
    def agrees(self) -> bool:
        """Whether the estate says what was seen."""
        return self.fits(self.predicted)

    def fits(self, found: Visit) -> bool:
        """Whether a visit gives all that was seen from here."""
        return all(each.fits(found, self.predicted.outcome) for each in self.seen)


class Wrong(Value, frozen=True):
    """A way that gives what is seen everywhere: the world in which it is so."""

    way: Way
    world: World


class Suspect(Value, frozen=True):
    """A belief that may be wrong: the ways in which it then gives what is seen, the likeliest first."""

    belief: Place
    wrong: tuple[Wrong, ...]
    #: Whether its ways give all that is seen; else a part of it, and another value than those that were tried may give the rest.
    whole: bool = True

    @property
    def weight(self) -> float:
        """How likely it is, beside other suspects."""
        return sum(math.exp(-_RARER * each.way.cost) for each in self.wrong) * (1.0 if self.whole else _IN_PART)

    @property
    def object(self) -> str:
        """What is believed, by its dotted path."""
        return self.belief.object

    @property
    def key(self) -> tuple[Any, ...]:
        """What tells it from other beliefs: records of one file have one path."""
        return (self.belief.path, self.belief.span)


class Doubt(Value, frozen=True):
    """What is seen, and what may be wrong: beliefs by likelihood, and what nobody wrote.

    `bounded` says that more ways could have been tried; `cleared` that beliefs were looked at and found right.
    """

    url: str
    world: World
    sights: tuple[Sight, ...]
    suspects: tuple[Suspect, ...] = ()
    #: Beliefs that give a part of what is seen, and may give all of it by another value than those that were tried.
    in_part: tuple[Suspect, ...] = ()
    unknown: tuple[Unwritten, ...] = ()
    bounded: bool = False
    cleared: tuple[str, ...] = ()
    found: tuple[str, ...] = ()

    @property
    def agrees(self) -> bool:
        """Whether the estate says all that was seen."""
        return all(each.agrees for each in self.sights)


def most_tried(estate: Estate) -> int:
    """How many ways are tried where nobody asks for all."""
    objects = len(estate.hosts) + len(estate.routers) + len(estate.zones) + len(estate.edges) + len(estate.vantages)
    for machine in machines(estate):
        objects += sum(len(sites_of(each)) for each in machine.services.values())
    return MOST_TRIED if objects <= _MANY_OBJECTS else max(_FEWEST, MOST_TRIED * _MANY_OBJECTS // objects)


#: What somebody looked at, and whether it was as it is written.
Checked = tuple[str, bool]


def doubt(
    world: World,
    url: str,
    told: Iterable[tuple[Vantage, tuple[Seen, ...]]],
    apply: Apply,
    most: int,
    checked: Iterable[Checked] = (),
) -> Doubt:
    """What may be wrong where something else is seen than the estate says. Raises BadUrlError."""
    sights = tuple(Sight(vantage, seen, visit(world, url, vantage)) for vantage, seen in told)
    looked = [*checked]
    cleared, found = (tuple(name for name, right in looked if right is which) for which in (True, False))
    result = Doubt(url, world, sights, cleared=cleared, found=found)
    if result.agrees:
        return result
    asked = parse(url)
    wrong, in_part, bounded = _wrong(world, asked, sights, apply, most, looked)
    suspects = _by_belief(wrong, True)
    named = {each.key for each in suspects}
    rest = tuple(each for each in _by_belief(in_part, False) if each.key not in named)
    off = [each for each in sights if not each.agrees]
    address = off[0].predicted.outcome.address
    far = off[0].vantage.network == INTERNET
    others = () if found else tuple(unknown([one for each in off for one in each.seen], asked, address, far))
    return result.but(suspects=tuple(suspects), in_part=rest, unknown=others, bounded=bounded)


def _by_belief(wrong: Iterable[Wrong], whole: bool) -> list[Suspect]:
    """The beliefs that ways are about, the likeliest first."""
    held: dict[tuple[object, ...], list[Wrong]] = {}
    for each in wrong:
        held.setdefault((each.way.belief.path, each.way.belief.span), []).append(each)
    found = [
        Suspect(each[0].way.belief, tuple(sorted(each, key=lambda one: one.way.cost)), whole) for each in held.values()
    ]
    return sorted(found, key=lambda each: (-round(each.weight, 6), each.object))


def is_of(belief: Place, name: str) -> bool:
    """Whether a belief is what somebody names, or within it: a dotted path, a JSON Pointer, or file:line."""
    if f"/{belief.span.short}".endswith(f"/{name}") or f"/{belief.span}".endswith(f"/{name}"):
        return True  # as it is shown: seen from the estate's folder
    named = dotted(name)
    return belief.object == named or belief.object.startswith(f"{named}.")


def _wrong(
    world: World, asked: Url, sights: tuple[Sight, ...], apply: Apply, most: int, checked: list[Checked]
) -> tuple[list[Wrong], list[Wrong], bool]:
    """The ways that give all that is seen, those that give what is seen at the first place only, and whether the bound was met."""
    found: list[Wrong] = []
    in_part: list[Wrong] = []
    tried = 0
    # Where something else is seen is asked first: most ways change nothing there.
    order = sorted(sights, key=lambda each: each.agrees)
    for way in _in_order(world, asked, sights):
        if any(is_of(way.belief, name) for name, right in checked if right):
            continue
        looked = [name for name, right in checked if not right]
        if looked and not any(is_of(way.belief, name) for name in looked):
            continue
        if tried >= most:
            return found, in_part, True
        tried += 1
        made = _made(world, way, apply)
        if made is None or not order[0].fits(_asked(made, order[0])):
            continue
        if all(each.fits(_asked(made, each)) for each in order[1:]):
            found.append(Wrong(way, made))
        else:
            in_part.append(Wrong(way, made))
    return found, in_part, False


def _asked(world: World, sight: Sight) -> Visit:
    return visit(world, sight.predicted.url, world.there(sight.vantage))


def _made(world: World, way: Way, apply: Apply) -> World | None:
    """The world in which a belief is wrong; None where it is no estate."""
    try:
        return world.changed(apply(way.patch))
    except EstateError:
        return None


def _in_order(world: World, asked: Url, sights: tuple[Sight, ...]) -> list[Way]:
    """Every way to be tried, the likeliest first; what the answer cites comes before what stands beside it.

    The first answer that is seen otherwise decides: a belief on which it does not rest cannot be why. So the order stays as it is when
    more is told, and no belief falls behind the bound that was suspected before.
    """
    first = next(each for each in sights if not each.agrees)
    seen = first.predicted
    expectation = expectation_for(world.estate, seen.url, first.vantage)
    made, about = ways_under(world, seen, expectation, frozenset({("vantages", first.vantage.name)}))
    cited = {place.path for place in _cited(seen)}
    response = seen.exchanges[-1].response
    site = response.site if response is not None and isinstance(response.site, Site) else None
    made += unsaid(world.estate, asked, first.vantage, about, site, first.seen)
    touched = {path[:end] for path in cited for end in range(1, len(path) + 1)}
    early = _ends_early(first)

    def rank(way: Way) -> float:
        path = way.belief.path
        late = _LATE if early and not _LATER.isdisjoint(path) else 0.0
        late += _BESIDE if _beside(path, touched) else 0.0
        return way.cost + late - (_CITED if _on_way(path, cited) else 0.0)

    return sorted(made, key=rank)


def _beside(path: tuple[Any, ...], touched: set[tuple[Any, ...]]) -> bool:
    """Whether a belief is about a part that no decision met, where one beside it was met: another service, another site, another's record."""
    return any(
        path[:end] not in touched
        for end in range(4, len(path) + 1)
        if path[end - 2] in _PARTS and path[: end - 2] in touched
    )


def _ends_early(sight: Sight) -> bool:
    """Whether what is seen ends before anything was asked of a site."""
    kinds = {kind for one in sight.seen for kind, _ in one.endings}
    return bool(kinds) and not any(one.final for one in sight.seen) and kinds <= {Kind.NAME_ERROR, Kind.CONNECT_ERROR}


#: What decides once a connection stands; it keeps a visitor from connecting only by where it leads, or where a service does not start.
_PARTS, _BESIDE = frozenset(("services", "buckets")), 0.8
_LATER, _LATE = frozenset(("sites", "certificates", "stores", "folders", "redirects", "buckets")), 0.6


def _cited(found: Visit) -> Iterator[Place]:
    for each in read_in(found):
        place = getattr(each, "place", None)
        if isinstance(place, Place) and place.path:
            yield place


def _on_way(path: tuple[Any, ...], cited: set[tuple[Any, ...]]) -> bool:
    return path in cited or path[:-1] in cited
