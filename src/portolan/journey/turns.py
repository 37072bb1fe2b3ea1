"""Who gets something else than the first who asked: at another address of the name, or with another client.

Resolvers hand addresses out in changing order (RFC 1035 section 4.1.1 leaves it open), and clients take them in theirs. Where a
connection fails the next address is tried, so that only what comes after it is now and then otherwise. Somebody on the internet
may be a browser or a program like curl, and the two do not take the same certificates.
"""

from collections.abc import Iterator

from portolan.estate.base import IPAddress
from portolan.estate.places import INTERNET
from portolan.estate.vantage import AsIfVantage, Expectation
from portolan.evidence.outcome import Kind
from portolan.journey.expectation import Miss, misses
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.value import Value

#: So many addresses of a name are asked.
_MOST = 8


class Turn(Value, frozen=True):
    """What somebody else gets, and what of it is not as expected: nothing, where the first who asked misses it.

    `address` is the one that this visitor is given, one `of` so many; None where it is another `client` that asks.
    """

    address: IPAddress | None
    of: int
    client: str
    visit: Visit
    misses: tuple[Miss, ...]

    @property
    def words(self) -> str:
        """Which turn it is."""
        if self.address is None:
            return "for some (a browser)"
        return f"now and then (1 of {self.of} addresses, {self.address})"


def missed_turns(world: World, found: Visit, expectation: Expectation | None) -> tuple[Turn, ...]:
    """Who misses what this visit met: at other addresses, and browsers."""
    return tuple(each for each in turns(world, found, expectation) if each.misses)


def turns(world: World, found: Visit, expectation: Expectation | None) -> tuple[Turn, ...]:
    """Everybody who gets something else: who misses what this visit met, and browsers where they meet what it missed."""
    if isinstance(found.vantage, AsIfVantage):
        return ()
    missed = misses(expectation, found)
    others = list(_by_browsers(world, found, expectation, bool(missed)))
    return tuple(others) if missed else (*_at_others(world, found, expectation), *others)


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
