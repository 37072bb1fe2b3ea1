"""Who gets something else than the first who asked: at another address of the name, with another client, or when another member
of a pool has its turn, or where new settings of an edge are not in effect yet.

Resolvers hand addresses out in changing order (RFC 1035 section 4.1.1 leaves it open), and clients take them in theirs. Where a
connection fails the next address is tried, so that only what comes after it is now and then otherwise. Somebody on the internet
may be a browser or a program like curl, and the two do not take the same certificates. The members of a pool take turns.
"""

from collections.abc import Iterable, Iterator

from portolan.estate.base import IPAddress
from portolan.estate.client import PassingProgram
from portolan.estate.edge import Edge
from portolan.estate.guesses import whole_edges
from portolan.estate.places import INTERNET
from portolan.estate.site import Upstream
from portolan.estate.vantage import AsIfVantage, Expectation
from portolan.evidence.legs import Exchange
from portolan.evidence.outcome import Kind
from portolan.journey.expectation import Miss, misses
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.value import Value

#: So many addresses of a name are asked.
_MOST = 8


class Turn(Value, frozen=True):
    """What somebody else gets, and what of it is not as expected: nothing, where the first who asked misses it.

    `address` is the one that this visitor is given, one `of` so many; None where it is another `client` that asks, or where the
    `member` of a pool has its turn.
    """

    address: IPAddress | None
    of: int
    client: str
    visit: Visit
    misses: tuple[Miss, ...]
    member: str = ""
    #: The edge whose settings are not in effect then.
    edge: Edge | None = None

    @property
    def words(self) -> str:
        """Which turn it is."""
        if self.edge is not None:
            return f"as long as the settings of {self.edge.label} are not in effect everywhere"
        if self.member:
            return f"now and then (1 of {self.of} members, {self.member})"
        if self.address is None:
            return "for some (a browser)"
        return f"now and then (1 of {self.of} addresses, {self.address})"


def missed_turns(world: World, found: Visit, expectation: Expectation | None) -> tuple[Turn, ...]:
    """Who misses what this visit met: at other addresses, and browsers."""
    return tuple(each for each in turns(world, found, expectation) if each.misses)


def turns(world: World, found: Visit, expectation: Expectation | None) -> tuple[Turn, ...]:
    """Everybody who gets something else: who misses what this visit met, and browsers and turns that meet what it missed."""
    if isinstance(found.vantage, AsIfVantage):
        return ()
    missed = bool(misses(expectation, found))
    others = (
        *_by_settings(world, found, expectation),
        *_by_members(world, found, expectation, missed),
        *_by_browsers(world, found, expectation, missed),
    )
    return others if missed else (*_at_others(world, found, expectation), *others)


def _by_settings(world: World, found: Visit, expectation: Expectation | None) -> Iterator[Turn]:
    """Where the settings of an edge are not in effect yet, of which nobody knows; told whatever is expected."""
    for edge in world.once("edges of an unknown state", lambda: _of_unknown_state(world)):
        there = visit(world, found.url, AsIfVantage.of(found.vantage, waits=edge.place.path))
        if there.outcome != found.outcome:
            yield Turn(None, 1, found.vantage.like or "curl", there, misses(expectation, there), "", edge)


def _of_unknown_state(world: World) -> tuple[Edge, ...]:
    """The edges of whose settings nobody knows whether they are in effect."""
    edges = (each for each in whole_edges(world.stated) if isinstance(each, Edge))
    return tuple(each for each in edges if each.in_effect_from == "unknown")


def _pools(exchanges: Iterable[Exchange]) -> Iterator[Upstream]:
    """The pools that were asked, each once for every way to it."""
    for each in exchanges:
        for inner in each.inner:
            if isinstance(inner.client, PassingProgram) and len(inner.client.upstream.to) > 1:
                yield inner.client.upstream
        yield from _pools(each.inner)


def _by_members(world: World, found: Visit, expectation: Expectation | None, missed: bool) -> Iterator[Turn]:
    """When another member of a pool has its turn; a pool on the way to another is asked at its first."""
    for upstream in {each.place.path: each for each in _pools(found.exchanges)}.values():
        for number, member in enumerate(upstream.to[1:_MOST], 1):
            there = visit(world, found.url, AsIfVantage.of(found.vantage, turn=(upstream.place.path, number)))
            lacks = misses(expectation, there)
            if bool(lacks) != missed:
                yield Turn(None, len(upstream.to), found.vantage.like or "curl", there, lacks, str(member))


def _at_others(world: World, found: Visit, expectation: Expectation | None) -> Iterator[Turn]:
    first = found.exchanges[0]
    addresses = first.resolution.addresses[:_MOST]
    if len(addresses) < 2:
        return
    for address in addresses:
        there = visit(world, found.url, AsIfVantage.of(found.vantage, (first.url.host, address)))
        missed = misses(expectation, there)
        if missed and there.outcome.kind is not Kind.CONNECT_ERROR:
            yield Turn(address, len(addresses), found.vantage.like or "curl", there, missed)


def _by_browsers(world: World, found: Visit, expectation: Expectation | None, missed: bool) -> Iterator[Turn]:
    """A browser beside curl, where anybody on the internet is meant and a certificate is met."""
    vantage = found.vantage
    if vantage.name != INTERNET or vantage.like is not None or not any(each.handshake for each in found.exchanges):
        return
    there = visit(world, found.url, AsIfVantage.of(vantage, client="chromium"))
    lacks = misses(expectation, there)
    if bool(lacks) != missed:
        yield Turn(None, 1, "chromium", there, lacks)
