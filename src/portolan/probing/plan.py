"""What a probe asks, and whom: worked out from the estate before anything is sent."""

from collections.abc import Iterator
from ipaddress import ip_address

from portolan.estate.base import IPAddress, is_loopback
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines, resolvers_named
from portolan.estate.service import NameServer, Resolver
from portolan.estate.slips import known
from portolan.estate.url import Url
from portolan.source.plain import one_line
from portolan.source.value import Value

#: So many servers are asked for names, so many addresses connected to, and so many redirects followed.
MOST_SERVERS, MOST_ADDRESSES, MOST_REDIRECTS = 12, 8, 10
#: Seconds for one question, for one connection, and for all of it.
QUESTION_LIMIT, CONNECT_LIMIT, WHOLE_LIMIT = 5.0, 10.0, 120.0


class StrangerError(ValueError):
    """A host that no line of the estate names: it is not asked."""


class Server(Value, frozen=True):
    """Who is asked for a name: `own` is this machine's own way of looking names up, with no address."""

    name: str
    address: IPAddress | None


class Plan(Value, frozen=True):
    """The first exchange of a probe: the URL, whom to ask for its name, and addresses that are given in place of that."""

    url: Url
    servers: tuple[Server, ...]
    addresses: tuple[IPAddress, ...]


class Known(Value, frozen=True):
    """The hosts that an estate speaks of."""

    names: frozenset[str]
    zones: tuple[str, ...]
    addresses: frozenset[str]

    def speaks_of(self, url: Url) -> bool:
        """Whether some line names the host of a URL, or the zone that it is in."""
        if url.literal is not None:
            return str(url.literal) in self.addresses
        host = url.host.rstrip(".")
        return host in self.names or any(host == zone or host.endswith(f".{zone}") for zone in self.zones)


def hosts_of(estate: Estate) -> Known:
    """The hosts that an estate speaks of."""
    said = known(estate.place.node)
    names = frozenset(each.removeprefix("*.").rstrip(".") for each in said.names)
    return Known(names, tuple(map(str, estate.zones)), frozenset(said.addresses))


def planned(estate: Estate, url: Url, knows: Known, as_if_at: IPAddress | None, others: bool) -> Plan:
    """What is asked for a URL. Raises StrangerError where the estate does not speak of its host."""
    if not others and not knows.speaks_of(url):
        raise StrangerError(f"no line of the estate names {one_line(url.host)}")
    if as_if_at is not None:
        return Plan(url, (), (as_if_at,))
    if url.literal is not None:
        return Plan(url, (), (url.literal,))
    return Plan(url, tuple(_servers(estate, url.host.rstrip(".")))[:MOST_SERVERS], ())


def _servers(estate: Estate, host: str) -> Iterator[Server]:
    """This machine itself, the name servers of the host's zone, and the resolvers that the estate names."""
    yield Server("this machine", None)
    seen: set[IPAddress] = set()
    for machine in machines(estate):
        for service in machine.services.values():
            serves = isinstance(service, NameServer) and any(
                host == zone or host.endswith(f".{zone}") for zone in service.zones
            )
            if serves or isinstance(service, Resolver):
                for address in machine.addresses:
                    if address not in seen and not is_loopback(address):
                        seen.add(address)
                        what = "the name server" if serves else "the resolver"
                        yield Server(f"{what} {machine.name}", address)
    for _, address in resolvers_named([*machines(estate), *estate.vantages.values()]):
        if address not in seen and not is_loopback(address):
            seen.add(address)
            yield Server("the resolver", address)


def address_of(text: str) -> IPAddress | None:
    """An address from its text; None where it is none."""
    try:
        return ip_address(text.partition("%")[0])
    except ValueError:
        return None
