"""Every address of a name, asked in turn: who is given another than the first may get something else.

Resolvers hand addresses out in changing order (RFC 1035 section 4.1.1 leaves it open), and clients take them in theirs. Where a
connection fails the next address is tried, so that only what comes after it is now and then otherwise.
"""

from portolan.estate.base import IPAddress
from portolan.estate.vantage import AsIfVantage, Expectation
from portolan.evidence.outcome import Kind
from portolan.journey.expectation import Miss, misses
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.value import Value

#: So many addresses of a name are asked.
_MOST = 8


class Turn(Value, frozen=True):
    """What a visitor gets who is given this address, one `of` so many, and what of it is not as expected."""

    address: IPAddress
    of: int
    visit: Visit
    misses: tuple[Miss, ...]

    @property
    def words(self) -> str:
        """Which turn it is."""
        return f"now and then (1 of {self.of} addresses, {self.address})"


def missed_turns(world: World, found: Visit, expectation: Expectation | None) -> tuple[Turn, ...]:
    """The addresses at which a visit that met what was expected would miss it; none where it missed it, or there is one address."""
    first = found.exchanges[0]
    if isinstance(found.vantage, AsIfVantage) or misses(expectation, found):
        return ()
    addresses = first.resolution.addresses[:_MOST]
    if len(addresses) < 2:
        return ()
    turns = []
    for address in addresses:
        there = visit(world, found.url, AsIfVantage.of(found.vantage, first.url.host, address))
        missed = misses(expectation, there)
        if missed and there.outcome.kind is not Kind.CONNECT_ERROR:
            turns.append(Turn(address, len(addresses), there, missed))
    return tuple(turns)
