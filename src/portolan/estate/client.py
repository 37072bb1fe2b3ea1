"""Whoever asks is a client: a visitor, or a program that passes a request on."""

from datetime import datetime
from enum import StrEnum
from typing import Literal, Protocol

from portolan.estate.base import NOWHERE, PortRange
from portolan.estate.edge import EdgeService, Origin
from portolan.estate.machine import Machine
from portolan.estate.records import Record
from portolan.estate.service import Service
from portolan.estate.site import Site, Upstream
from portolan.source.place import Place
from portolan.source.value import Value

#: Ports that the Fetch standard (section 2.9, "bad port") keeps browsers from.
CLOSED_PORTS = frozenset(
    (
        1,
        7,
        9,
        11,
        13,
        15,
        17,
        19,
        20,
        21,
        22,
        23,
        25,
        37,
        42,
        43,
        53,
        69,
        77,
        79,
        87,
        95,
        101,
        102,
        103,
        104,
        109,
        110,
        111,
        113,
        115,
        117,
        119,
        123,
        135,
        137,
        139,
        143,
        161,
        179,
        389,
        427,
        465,
        512,
        513,
        514,
        515,
        526,
        530,
        531,
        532,
        540,
        548,
        554,
        556,
        563,
        587,
        601,
        636,
        989,
        990,
        993,
        995,
        1719,
        1720,
        1723,
        2049,
        3659,
        4045,
        4190,
        5060,
        5061,
        6000,
        6566,
        6665,
        6666,
        6667,
        6668,
        6669,
        6679,
        6697,
        10080,
    )
)


class Checks(StrEnum):
    """What a client checks of a certificate."""

    EVERYTHING = "everything"
    #: Name and dates, and whether it is for servers; not who issued it.
    NAME_AND_DATES = "name-and-dates"
    NOTHING = "nothing"


class Saying(Value, frozen=True):
    """What a client says with a request, beside the URL.

    `host` is the Host field's value, None for the URL's own (RFC 9110 section 7.2); `without_host` that none is sent.
    `server_name` is the name in the handshake, None for the URL's (RFC 6066 section 3); `checked_name` the name that the
    certificate must cover, None for the URL's. `body` is how many octets it brings along.
    """

    method: str = "GET"
    host: str | None = None
    without_host: bool = False
    server_name: str | None = None
    checked_name: str | None = None
    headers: tuple[tuple[str, str], ...] = ()
    version: str = "1.1"
    password: bool = False
    body: int = 0
    #: The certificate that the client shows of itself, if it is asked for one.
    certificate: Literal["good", "bad"] | None = None
    #: Which edge signed it, so that an object store knows who asks; nothing: nobody did.
    signed_by: str = ""

    def header(self, name: str) -> str:
        """The value of a field; nothing where it is not sent."""
        return next((value for each, value in self.headers if each == name), "")

    @property
    def upgrades(self) -> bool:
        """Whether it asks for a websocket."""
        return self.header("upgrade").lower() == "websocket" and "upgrade" in self.header("connection").lower()


#: The status of who takes a websocket (RFC 9110 section 15.2.2).
SWITCHING = 101
#: The fields that open one (RFC 6455 section 4.1), which belong to one connection alone.
OPENS = {
    "upgrade": "websocket",
    "connection": "Upgrade",
    "sec-websocket-version": "13",
    "sec-websocket-key": "cG9ydG9sYW4gYXNrcyBvbg==",
}


def opening(saying: Saying) -> Saying:
    """What a client says that asks for a websocket, beside what it always says."""
    return saying.but(headers=(*((name, value) for name, value in saying.headers if name not in OPENS), *OPENS.items()))


def of_one_connection(headers: dict[str, str]) -> dict[str, str]:
    """What is said to the next program without what was about this connection alone (RFC 9110 section 7.6.1)."""
    return {name: value for name, value in headers.items() if name not in ("upgrade", "connection")}


def append_field(headers: dict[str, str], name: str, value: str) -> None:
    """Adds a value behind those that a header field has (RFC 9110 section 5.3)."""
    held = headers.get(name)
    headers[name] = f"{held}, {value}" if held else value


class Client(Protocol):
    """A place to send from, a resolver, a trust store, a clock, what it remembers, its limits, and what it says of itself."""

    @property
    def name(self) -> str:
        """What people call it."""

    @property
    def place(self) -> Place:
        """Where the estate states it."""

    @property
    def host(self) -> str | None:
        """The machine of the estate that it asks from, with that machine's resolver; None for a device of its own."""

    @property
    def trusts(self) -> tuple[str, ...]:
        """The authorities that it trusts."""

    @property
    def checks(self) -> Checks:
        """What it checks of a certificate."""

    @property
    def sends_server_name(self) -> bool:
        """Whether it says in the handshake for which name it asks (RFC 6066 section 3)."""

    @property
    def saying(self) -> Saying:
        """What it says with its requests."""

    @property
    def clock(self) -> datetime | None:
        """What its clock says; None: the right time."""

    @property
    def last_asked(self) -> datetime | None:
        """When it last looked up the names that it remembers."""

    @property
    def tls_versions(self) -> tuple[str, ...]:
        """The versions of TLS that it speaks; nothing: those of today."""

    @property
    def client_certificate(self) -> Literal["good", "bad"] | None:
        """The certificate that it shows of itself."""

    @property
    def https_records(self) -> Literal["ignored", "offers", "all"]:
        """What it does with HTTPS records (RFC 9460)."""

    @property
    def client_ports(self) -> PortRange:
        """The ports that it sends from."""

    @property
    def most_redirects(self) -> int:
        """How many redirects it follows; a program that passes requests on follows none."""


class EdgeClient(Value, frozen=True):
    """A caching edge that asks its origin: the client of an inner exchange.

    `records` are the addresses that it asks whatever the name is, where it is switched on at a record.
    """

    machine: Machine
    service: EdgeService
    origin: Origin
    checks: Checks
    sends_server_name: bool
    saying: Saying = Saying()
    trusts: tuple[str, ...] = ("public",)
    records: tuple[Record, ...] = ()
    #: When it took the origin's addresses and kept them.
    looked_up: datetime | None = None
    #: The number of the only address that is asked; None: one after the other, until one takes the connection.
    only: int | None = None
    clock: datetime | None = None
    last_asked: datetime | None = None
    https_records: Literal["ignored", "offers", "all"] = "ignored"
    client_ports: PortRange = PortRange(32768, 60999)
    most_redirects: int = 0
    tls_versions: tuple[str, ...] = ()
    client_certificate: Literal["good", "bad"] | None = None

    @property
    def name(self) -> str:
        """The edge's name."""
        return self.service.label

    @property
    def place(self) -> Place:
        """Where the edge says whom it asks."""
        return self.origin.place if self.origin.place is not NOWHERE else self.service.place

    @property
    def host(self) -> str:
        """The machine that it asks from."""
        return self.machine.name


class PassingProgram(Value, frozen=True):
    """A web server that passes the requests of a site on, or of a section of it: the client of an inner exchange."""

    machine: Machine
    service: Service
    site: Site
    upstream: Upstream
    checks: Checks
    sends_server_name: bool
    saying: Saying = Saying()
    trusts: tuple[str, ...] = ("public",)
    clock: datetime | None = None
    last_asked: datetime | None = None
    https_records: Literal["ignored", "offers", "all"] = "ignored"
    client_ports: PortRange = PortRange(32768, 60999)
    most_redirects: int = 0
    tls_versions: tuple[str, ...] = ()
    client_certificate: Literal["good", "bad"] | None = None

    @property
    def name(self) -> str:
        """The service's name."""
        return self.service.name

    @property
    def place(self) -> Place:
        """Where the site says whom it asks."""
        return self.upstream.place

    @property
    def host(self) -> str:
        """The machine that it runs on."""
        return self.machine.name
