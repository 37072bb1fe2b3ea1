"""One command a leg that an administrator has anyway, where to run it, and the line that it prints if the estate is true.

The first line that differs is the false belief. What is said here is worked out from the visit's own decisions.
"""

import shlex
from collections.abc import Iterator

from portolan.estate.base import at_port, bracketed, is_made_up
from portolan.estate.client import CLOSED_PORTS, Client, PassingProgram
from portolan.estate.service import WebService
from portolan.evidence.decision import Leg
from portolan.evidence.legs import Arrival, Connection, Exchange
from portolan.evidence.outcome import Detail, Kind, Outcome
from portolan.journey.visit import Visit
from portolan.journey.world import World
from portolan.source.place import Place
from portolan.source.value import Value

#: So many seconds a command waits.
_WAITS = 10


class HandCheck(Value, frozen=True):
    """A command, where it is run, and what it prints if the estate is true.

    `prints` are texts of which a line of its output has one; with none it prints nothing. `place` is what that rests on.
    """

    leg: Leg
    on: str
    command: str
    prints: tuple[str, ...]
    place: Place | None = None
    #: Whether it is run where the visitor is, or on a machine behind.
    inner: bool = False
    #: Which exchange of the visit it is about, from 0.
    exchange: int = 0

    @property
    def shown(self) -> tuple[str, ...]:
        """The texts as people read them."""
        return tuple(text.strip() for text in self.prints)

    @property
    def words(self) -> str:
        """What it prints, in words."""
        return " or ".join(f"'{text}'" for text in self.shown) if self.prints else "nothing"

    def holds(self, output: str) -> bool:
        """Whether an output is what the estate says."""
        if not self.prints:
            return not output.strip()
        return any(text in output for text in self.prints)


class Log(Value, frozen=True):
    """Where it is written whether the request arrived at all: the machine, its file, and what the line to look for has.

    `who` is the address that asked, where the estate says it; `asked` the request's first words, `status` what is answered.
    """

    on: str
    file: str
    who: str | None
    asked: str
    status: int

    @property
    def line(self) -> str:
        """The line as people look for it: the program puts the time, and the protocol's version, between."""
        who = self.who or "(the visitor's address)"
        return f'{who} ... "{self.asked} HTTP/..." {self.status}'

    def holds(self, written: str) -> bool:
        """Whether one of a log's lines is the one."""
        return any(
            line.startswith(f"{self.who} " if self.who else "")
            and f'"{self.asked} HTTP/' in line
            and f'" {self.status} ' in line
            for line in written.splitlines()
        )


class Ping(Value, frozen=True):
    """A ping, where it is run, a text of its output if the estate is true, and in words how little that proves.

    Without a command there is nothing to ping.
    """

    on: str
    command: str | None
    prints: str
    #: Who answers; None where nobody does.
    by: str | None
    says: str

    def holds(self, output: str) -> bool:
        """Whether a ping's output is what the estate says; one that cannot be sent is not answered either."""
        return (_HEARD in output) is (self.by is not None)


class ByHand(Value, frozen=True):
    """What can be looked at by hand: a check a leg, the logs, in words what a browser shows, and a ping."""

    checks: tuple[HandCheck, ...]
    logs: tuple[Log, ...]
    browser: str
    ping: Ping


#: Where programs write what they were asked, as Debian installs them.
_LOGS = {"nginx": "/var/log/nginx/access.log", "apache": "/var/log/apache2/access.log"}

_FAILED: dict[Detail, tuple[str, ...]] = {
    Detail.REFUSED: ("Connection refused",),
    Detail.TIMED_OUT: ("curl: (28)",),
    Detail.UNREACHABLE: ("No route to host", "Network is unreachable", "Permission denied", "Protocol not available"),
    Detail.RESET: ("Connection reset by peer",),
    Detail.EXPIRED: ("certificate has expired",),
    Detail.NOT_YET_VALID: ("certificate is not yet valid",),
    Detail.NAME_MISMATCH: ("no alternative certificate subject name matches", "does not match target host name"),
    Detail.SELF_SIGNED: ("self-signed certificate", "self signed certificate"),
    Detail.UNKNOWN_ISSUER: ("unable to get local issuer", "unable to get issuer", "certificate in certificate chain"),
    Detail.INCOMPLETE_CHAIN: ("unable to get local issuer", "unable to get issuer", "unable to verify the first"),
    Detail.OTHER: ("curl: (60)", "curl: (35)"),
    Detail.NOT_TLS: ("curl: (35)",),
    Detail.NO_COMMON_VERSION: ("curl: (35)",),
    Detail.CLIENT_CERTIFICATE: ("curl: (56)", "curl: (35)", "400"),
}
_VERIFIED = "SSL certificate verify ok"
#: What a ping's summary counts.
_HEARD, _UNHEARD = " 1 received", " 0 received"
#: Where what answers pings is described; what providers' machines do is theirs.
_DESCRIBED = (("hosts",), ("routers",), ("vantages",))


def by_hand(world: World, found: Visit) -> ByHand:
    """What can be looked at by hand, for a visit."""
    checks: list[HandCheck] = []
    for number, exchange in enumerate(found.exchanges):
        behind = (each for inner in exchange.inner for one in inner.tree for each in _programs(one))
        arrived = (arrival for each in exchange.tree if (arrival := _arrival(each)) is not None)
        onward = str(found.exchanges[number + 1].url) if number + 1 < len(found.exchanges) else ""
        made = (*_visitors(exchange, onward), *behind, *map(_listening, arrived))
        checks += (each.but(exchange=number) for each in made)
    first: dict[tuple[str, str, tuple[str, ...]], HandCheck] = {}
    for each in checks:
        first.setdefault((each.on, each.command, each.prints), each)
    logs = tuple(dict.fromkeys(log for each in found.tree for log in _logs(each)))
    return ByHand(tuple(first.values()), logs, browser_words(found.outcome), _ping(world, found))


def _where(client: Client) -> str:
    return client.host or client.name


def _visitors(exchange: Exchange, onward: str) -> Iterator[HandCheck]:
    """What the visitor's own machine shows of an exchange, which leads `onward` where it is a redirect."""
    on, url = _where(exchange.client), exchange.url
    if not exchange.attempts and exchange.resolution.detail is None:
        return  # a redirect that is remembered, or a port that the client does not ask: nothing is sent
    yield from _name(exchange, on, False)
    connection = exchange.connection
    if connection is None:
        return
    yield _connect(exchange, connection, on, False)
    if connection.detail is not None:
        return
    # What was looked up before is given along, so that each leg is looked at by itself.
    known = url.literal is None and not is_made_up(connection.address)
    at = f" --resolve {url.shown_host}:{url.port}:{bracketed(connection.address)}" if known else ""
    handshake = exchange.handshake
    if handshake is not None:
        said = (_VERIFIED,) if handshake.detail is None else _FAILED.get(handshake.detail, ("curl: (",))
        command = f"curl -sSv -m {_WAITS} -o /dev/null{at} {shlex.quote(str(url))}"
        yield HandCheck(Leg.TLS, on, command, said, handshake.decisions[-1].place if handshake.decisions else None)
        if handshake.detail is not None:
            return
    response = exchange.response
    if response is not None and response.protocol is None:
        said = ("",) if not response.status else (f"answer {response.status} {onward}".rstrip(),)
        command = f"curl -sS -m {_WAITS} -o /dev/null -w 'answer %{{http_code}} %{{redirect_url}}\\n'{_method(exchange.client)}{at} {shlex.quote(str(url))}"
        yield HandCheck(Leg.HTTP, on, command, said, response.decisions[-1].place if response.decisions else None)


def _method(client: Client) -> str:
    method = client.saying.method
    return "" if method == "GET" else " -I" if method == "HEAD" else f" -X {shlex.quote(method)}"


def _name(exchange: Exchange, on: str, inner: bool) -> Iterator[HandCheck]:
    if exchange.url.literal is not None:
        return
    resolution = exchange.resolution
    place = resolution.decisions[-1].place if resolution.decisions else None
    command = f"getent ahosts {shlex.quote(exchange.url.host)}"
    # It prints the addresses in the order in which they are tried; which comes first changes from time to time.
    said = tuple(f"{address} " for address in resolution.addresses if not is_made_up(address))
    if resolution.addresses and not said:
        # Nobody says which addresses its provider gives it: any will do, for the name that it leads to.
        said = (f" STREAM {resolution.aliases[-1] if resolution.aliases else exchange.url.host}",)
    yield HandCheck(Leg.NAME, on, command, said, place, inner)


def _connect(exchange: Exchange, connection: Connection, on: str, inner: bool) -> HandCheck:
    unknown = is_made_up(connection.address)
    address = (
        f"{exchange.url.shown_host}:{connection.port}" if unknown else at_port(connection.address, connection.port)
    )
    shown = exchange.url.host if unknown else str(connection.address)
    command = f"curl -sSv -m {_WAITS} -o /dev/null http://{address}/"
    opened = (f"Connected to {shown}",) if ":" not in shown else (f"Connected to {shown}", f"Connected to [{shown}]")
    said = opened if connection.detail is None else _FAILED.get(connection.detail, ("curl: (",))
    stop = connection.stop or (connection.decisions[-1] if connection.decisions else None)
    return HandCheck(Leg.CONNECT, on, command, said, stop.place if stop is not None else None, inner)


def _programs(exchange: Exchange) -> Iterator[HandCheck]:
    """What a machine shows that passes requests on; what an edge asks, only its provider sees."""
    if not isinstance(exchange.client, PassingProgram):
        return
    on = exchange.client.machine.name
    yield from _name(exchange, on, True)
    if exchange.connection is not None:
        yield _connect(exchange, exchange.connection, on, True)


def _arrival(exchange: Exchange) -> Arrival | None:
    """Where its connection came to, where that is a web server of a machine of the estate."""
    arrival = exchange.connection.arrival if exchange.connection is not None else None
    if arrival is None or not isinstance(arrival.service, WebService):
        return None
    return arrival if arrival.machine.place.path[:1] in (("hosts",), ("routers",)) else None


def _listening(arrival: Arrival) -> HandCheck:
    listener = arrival.listener
    return HandCheck(
        Leg.CONNECT,
        arrival.machine.name,
        f"ss -Hltn 'sport = :{listener.port}'",
        (f":{listener.port} ",),
        arrival.service.place,
        True,
    )


def _logs(exchange: Exchange) -> Iterator[Log]:
    arrival, response = _arrival(exchange), exchange.response
    if arrival is None or response is None:
        return
    file = _LOGS.get(str(getattr(arrival.service, "program", None)), "its access log")
    asked = f"{exchange.client.saying.method} {exchange.url.path}{exchange.url.query}"
    who = None if is_made_up(arrival.source) else str(arrival.source)
    yield Log(arrival.machine.name, file, who, asked, response.status)


def _ping(world: World, found: Visit) -> Ping:
    """Whether a ping to the address that was connected to is answered, by whom, and how little that proves."""
    last = next((each for each in reversed(found.exchanges) if each.connection is not None), None)
    connection = last.connection if last is not None else None
    if connection is None or last is None:
        says = "A ping proves nothing here: no connection is tried before the name has an address."
        return Ping(_where(found.vantage), None, "", None, says)
    on, address, port = _where(last.client), connection.address, connection.port
    holder = world.topology.holder(address)
    if holder is not None and holder.place.path[:1] not in _DESCRIBED:
        says = f"A ping to {address} is answered by the provider of {holder.name}, if at all, and proves nothing of what stands behind."
        return Ping(on, None, "", None, says)
    command = None if is_made_up(address) else f"ping -n -c 1 -W 3 {address}"
    told = world.echo(last.client, address)
    if told.by is None:
        why = "" if told.stop is None else f" ({told.stop.text})"
        says = f"A ping to {address} gets no answer{why}; that proves nothing of port {port}."
        return Ping(on, command, _UNHEARD, None, says)
    who, arrival = told.by.name, connection.arrival
    behind = arrival.machine.name if arrival is not None else who
    proven = f"that {who} is up and lets pings pass, and nothing of"
    rest = f"port {port}" if behind == who else f"{behind}, where port {port} is sent on to"
    return Ping(on, command, _HEARD, who, f"A ping to {address} is answered by {who}: it proves {proven} {rest}.")


#: By detail: what a browser says, its code, and when.
_BROWSER: dict[str, tuple[str, str, str]] = {
    Detail.NO_SUCH_NAME: ("the server's address could not be found", "DNS_PROBE_FINISHED_NXDOMAIN", "at once"),
    Detail.NO_ADDRESS: ("the server's address could not be found", "ERR_NAME_NOT_RESOLVED", "at once"),
    Detail.RESOLVER_FAILURE: ("the server's address could not be found", "ERR_NAME_NOT_RESOLVED", "within seconds"),
    Detail.RESOLVER_TIMEOUT: (
        "the server's address could not be found",
        "ERR_NAME_NOT_RESOLVED",
        "after 10 to 40 seconds",
    ),
    Detail.REFUSED: ("the server refused to connect", "ERR_CONNECTION_REFUSED", "at once, or after a second"),
    Detail.TIMED_OUT: (
        "the server took too long to respond",
        "ERR_CONNECTION_TIMED_OUT",
        "after 20 seconds to 2 minutes, as the system is set",
    ),
    Detail.UNREACHABLE: ("the server is unreachable", "ERR_ADDRESS_UNREACHABLE", "at once, or after 3 seconds"),
    Detail.RESET: ("the connection was reset", "ERR_CONNECTION_RESET", "at once"),
    Detail.CUT_OFF: ("the connection was reset", "ERR_CONNECTION_RESET", "at once"),
    Detail.STALLED: ("nothing: it goes on loading", "ERR_TIMED_OUT", "after minutes"),
    Detail.NOT_TLS: ("it sent an invalid response", "ERR_SSL_PROTOCOL_ERROR", "at once"),
    Detail.NAME_MISMATCH: ("the connection is not private", "ERR_CERT_COMMON_NAME_INVALID", "at once"),
    Detail.EXPIRED: ("the connection is not private", "ERR_CERT_DATE_INVALID", "at once"),
    Detail.NOT_YET_VALID: ("the connection is not private", "ERR_CERT_DATE_INVALID", "at once"),
    Detail.SELF_SIGNED: ("the connection is not private", "ERR_CERT_AUTHORITY_INVALID", "at once"),
    Detail.UNKNOWN_ISSUER: ("the connection is not private", "ERR_CERT_AUTHORITY_INVALID", "at once"),
    Detail.INCOMPLETE_CHAIN: (
        "the connection is not private, or the page: browsers that know the intermediate go on",
        "ERR_CERT_AUTHORITY_INVALID",
        "at once",
    ),
    Detail.NO_COMMON_VERSION: ("it uses an unsupported protocol", "ERR_SSL_VERSION_OR_CIPHER_MISMATCH", "at once"),
    Detail.CLIENT_CERTIFICATE: ("it did not accept your login certificate", "ERR_BAD_SSL_CLIENT_AUTH_CERT", "at once"),
    Detail.OTHER: ("the connection is not private", "ERR_CERT_INVALID", "at once"),
    Detail.LOOP: ("it redirected too many times", "ERR_TOO_MANY_REDIRECTS", "within a second"),
    Detail.TOO_MANY: ("it redirected too many times", "ERR_TOO_MANY_REDIRECTS", "within a second"),
    Detail.BAD_TARGET: ("it sent an invalid response", "ERR_INVALID_REDIRECT", "at once"),
    Detail.EMPTY: ("it did not send any data", "ERR_EMPTY_RESPONSE", "at once"),
    Detail.GARBLED: ("it sent an invalid response", "ERR_INVALID_HTTP_RESPONSE", "at once"),
    Detail.BAD_HEADER: ("it sent an invalid response", "ERR_INVALID_HTTP_RESPONSE", "at once"),
    Detail.BROKEN_OFF: ("a page that ends early", "ERR_CONTENT_LENGTH_MISMATCH", "at once"),
}


def browser_words(outcome: Outcome) -> str:
    """What the visitor's own browser shows, in words, and when."""
    if outcome.kind is Kind.SERVED:
        return "shows a page" if outcome.secure else "shows a page, and says that it is not secure"
    if outcome.kind is Kind.HTTP_ERROR:
        return f"shows what the server sends with status {outcome.status}; the developer tools show the number"
    if outcome.detail == Detail.NO_TARGET:
        return "shows what the server sends beside the redirect that leads nowhere, often nothing"
    port = outcome.final_url.rpartition(":")[2].rstrip("/")
    if outcome.detail == Detail.REFUSED and port.isdecimal() and int(port) in CLOSED_PORTS:
        return f"refuses port {port} by itself (ERR_UNSAFE_PORT), at once"
    said = _BROWSER.get(outcome.detail or "")
    if said is None or (outcome.kind is Kind.NAME_ERROR and outcome.detail == Detail.REFUSED):
        said = _BROWSER[Detail.RESOLVER_FAILURE]
    return (
        f"says that {said[0]} ({said[1]}), {said[2]}"
        if not said[0].startswith("nothing")
        else f"says {said[0]} ({said[1]} {said[2]})"
    )
