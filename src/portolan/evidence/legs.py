"""What each leg of an exchange comes to, and the exchange itself: a tree, since a response may rest on inner exchanges."""

from collections.abc import Iterator
from typing import Any

from portolan.estate.base import IPAddress
from portolan.estate.certificate import Certificate
from portolan.estate.client import Client
from portolan.estate.edge import EdgeService
from portolan.estate.machine import Machine
from portolan.estate.service import Listener, Service, WebService
from portolan.estate.site import Site
from portolan.estate.store import Bucket
from portolan.estate.url import Url
from portolan.evidence.decision import Decision
from portolan.evidence.outcome import Detail
from portolan.source.value import Value

Decisions = tuple[Decision, ...]


class Resolution(Value, frozen=True):
    """A name's addresses as they were answered, or why there are none; in which order a client tries them is journey/race.py's.

    `detail` is None when there are addresses, else `no-such-name`, `no-address`, `resolver-failure`,
    `resolver-timeout` or `refused`. `origins` holds for each address what states it (a Record, a HostsLine, or None).
    """

    host: str
    addresses: tuple[IPAddress, ...]
    detail: Detail | None
    decisions: Decisions
    origins: tuple[Any, ...] = ()
    aliases: tuple[str, ...] = ()
    zone: str | None = None

    @property
    def stop(self) -> Decision | None:
        """The decision that ended it badly."""
        return self.decisions[-1] if self.detail is not None and self.decisions else None


class Arrival(Value, frozen=True):
    """Where a connection was accepted: the program, and the address and port as it sees them."""

    machine: Machine
    service: Service
    listener: Listener
    address: IPAddress
    port: int
    source: IPAddress


class Hop(Value, frozen=True):
    """A packet at one box: as it came in and as it went on (source, source port, destination, destination port).

    `entering` and `leaving` name the interfaces; None where the box itself sent or took it. `decided` says how many of
    the connection's decisions were made when the packet left the box.
    """

    label: str
    entering: str | None
    before: tuple[IPAddress, int, IPAddress, int]
    after: tuple[IPAddress, int, IPAddress, int]
    leaving: str | None
    network: str | None
    answer: bool
    decided: int


class Fits(Value, frozen=True):
    """How many octets of an answer one packet holds at most that arrives, and what keeps larger ones from arriving."""

    octets: int
    stop: Decision


class Connection(Value, frozen=True):
    """An attempt to connect. `detail` is None when it is open, else `refused`, `timed-out`, `unreachable`, `reset`.

    `reached` is the machine that the packet was delivered to, whether or not something listens there; `seen_from` the
    address that it last came from, after every translation; `trail` the boxes on the way there and back; `fits` is not None
    where large packets of the answer do not arrive.
    """

    address: IPAddress
    port: int
    detail: Detail | None
    decisions: Decisions
    arrival: Arrival | None = None
    reached: Machine | None = None
    stop: Decision | None = None
    seen_from: IPAddress | None = None
    trail: tuple[tuple[Any, ...], ...] = ()
    fits: Fits | None = None

    @property
    def hops(self) -> tuple[Hop, ...]:
        """The trail in full; put together only when it is read."""
        return tuple(Hop(*each) for each in self.trail)


class Handshake(Value, frozen=True):
    """The TLS leg. `detail` is None when the visitor is content, else as in the outcome `tls-error`."""

    detail: Detail | None
    decisions: Decisions
    certificate: Certificate | None = None
    stop: Decision | None = None


class Response(Value, frozen=True):
    """The HTTP leg. `protocol` is set (`empty`, `garbled`) when what came is no HTTP.

    `cache_control`, `expires`, `age` and `cookie` are what caches go by (RFC 9111): the field as it was sent, in how many seconds
    Expires lies and for how many the answer was held already, and whether a cookie was set.
    """

    status: int
    decisions: Decisions
    site: Site | WebService | EdgeService | Bucket | None = None
    page: str | None = None
    location: str | None = None
    protocol: Detail | None = None
    stop: Decision | None = None
    cache_control: str = ""
    cookie: bool = False
    expires: int | None = None
    age: int = 0
    #: Whether the content is larger than one packet; None where nothing says so.
    large: bool | None = None


class Exchange(Value, frozen=True):
    """One request by one client and all that it took; legs that were not reached are None.

    `attempts` are the connections tried, in the order in which they were; the last one counts. `inner` are the exchanges
    that the program which was asked made by itself to answer, each with that program as the client.
    """

    url: Url
    client: Client
    resolution: Resolution
    attempts: tuple[Connection, ...] = ()
    handshake: Handshake | None = None
    response: Response | None = None
    inner: "tuple[Exchange, ...]" = ()

    @property
    def connection(self) -> Connection | None:
        """The attempt that counts."""
        return self.attempts[-1] if self.attempts else None

    @property
    def service(self) -> Service | None:
        """The service that the connection which counts arrived at; None where none did."""
        arrival = self.attempts[-1].arrival if self.attempts else None
        return arrival.service if arrival is not None else None

    @property
    def decisions(self) -> Decisions:
        """Every decision of this exchange itself, in order."""
        found = [*self.resolution.decisions]
        for attempt in self.attempts:
            found += attempt.decisions
        found += self.handshake.decisions if self.handshake is not None else ()
        found += self.response.decisions if self.response is not None else ()
        return tuple(found)

    @property
    def tree(self) -> "Iterator[Exchange]":
        """This exchange and those that it rests on, outermost first."""
        yield self
        for each in self.inner:
            yield from each.tree

    @property
    def innermost(self) -> "Exchange":
        """The exchange whose answer is passed on to the client, or whose failure it hears of."""
        at = self
        while at.inner:
            at = at.inner[-1]
        return at

    @property
    def detail(self) -> Detail | None:
        """What went wrong before there was a response; None where nothing did."""
        if self.resolution.detail is not None:
            return self.resolution.detail
        if self.connection is not None and self.connection.detail is not None:
            return self.connection.detail
        return self.handshake.detail if self.handshake is not None else None

    @property
    def stop(self) -> Decision | None:
        """The decision that ended it badly."""
        if self.resolution.detail is not None:
            return self.resolution.stop
        if self.connection is not None and self.connection.detail is not None:
            return self.connection.stop
        if self.handshake is not None and self.handshake.detail is not None:
            return self.handshake.stop
        return self.response.stop if self.response is not None else None
