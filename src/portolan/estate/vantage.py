"""Where visitors ask from, and what they should get."""

from datetime import datetime
from typing import Annotated, Literal, Self

import msgspec

from portolan.estate.base import (
    NOWHERE,
    HeaderName,
    HostName,
    IPAddress,
    IPInterface,
    NamePattern,
    PortRange,
    Stated,
    TlsVersion,
    WebAddress,
    says,
)
from portolan.estate.client import Checks, Saying
from portolan.estate.filter import Filter
from portolan.estate.machine import HostsFile
from portolan.estate.network import Route
from portolan.estate.site import Mark, Method

#: How many redirects clients follow (measured): the next one ends the visit.
MOST_REDIRECTS = {"curl": 50, "chromium": 19}
#: What a client says that says nothing of its own.
PLAINLY = Saying()


class Vantage(Stated, frozen=True, kw_only=True, eq=False):
    """A place that a visitor asks from: a device of its own on a network, or a machine of the estate."""

    name: str
    network: Annotated[str | None, says("The network that the visitor's device is on.", refers=("networks",))] = None
    address: Annotated[tuple[IPInterface, ...], says("The device's addresses.", example="198.51.100.77")] = ()
    host: Annotated[
        str | None,
        says(
            "Instead of a network: the machine of the estate that the visitor sits at; it asks with that machine's "
            "addresses, routes, filter, hosts file and resolver.",
            refers=("hosts", "routers"),
        ),
    ] = None
    gateway: Annotated[tuple[IPAddress, ...] | Literal["none"] | None, says("As for a host.")] = None
    routes: Annotated[tuple[Route, ...], says("As for a host.")] = ()
    filter: Annotated[Filter | None, says("The device's own filter.")] = None
    hosts_file: Annotated[HostsFile | None, says("The device's hosts file.")] = None
    resolver: Annotated[tuple[IPAddress, ...] | Literal["validating"] | None, says("As for a host.")] = None
    ndots: Annotated[int, says("As for a host.")] = 1
    search: Annotated[tuple[HostName, ...], says("As for a host.")] = ()
    last_asked: Annotated[
        datetime | None,
        says(
            "When this device last looked the names up; it remembers each answer until its TTL ends. Left out: never "
            "before."
        ),
    ] = None
    https_records: Annotated[
        Literal["ignored", "offers", "all"],
        says(
            "What the client makes of HTTPS records (RFC 9460). `ignored`: it does not ask for them. `offers`: it goes to "
            "https and takes the offers that stand at the name. `all`: it follows their aliases and address hints too."
        ),
    ] = "ignored"
    trusts: Annotated[
        tuple[str, ...],
        says(
            "Whom it trusts to issue certificates: `public` (every root of the estate that is public, and ordinary "
            "public authorities), and names of authorities.",
            refers=("authorities",),
        ),
    ] = ("public",)
    client_ports: Annotated[PortRange, says("The ports from which its connections come; answers go to them.")] = (
        PortRange(32768, 60999)
    )
    clock: Annotated[datetime | None, says("What its clock says when it is wrong.")] = None
    like: Annotated[
        Literal["curl", "chromium"] | None,
        says(
            "Whose ways it follows where clients differ: `curl`, which follows 50 redirects, or `chromium`, which follows 19, "
            "refuses some ports and takes a backslash in a redirect for a slash. Left out: curl's."
        ),
    ] = None
    redirect_limit: Annotated[
        int | None, says("How many redirects it follows before it gives up, 0 to 100. Left out: as `like` does.")
    ] = None
    method: Annotated[Method, says("The method with which it asks (RFC 9110 section 9).")] = "GET"
    body: Annotated[int, says("How many octets it sends along.")] = 0
    headers: Annotated[
        dict[HeaderName, str],
        says("Header fields that it sends, beside the usual ones.", example="X-Forwarded-Proto: https", kind="secret"),
    ] = {}
    knows_password: Annotated[bool, says("Whether it knows the password where one is asked for, and sends it.")] = False
    says_host: Annotated[
        str | None,
        says(
            "What it sends as the host name in place of the URL's, with nothing for an empty one; `none`: it sends no such field."
        ),
    ] = None
    remembers_redirects: Annotated[
        dict[WebAddress, WebAddress],
        says("Permanent redirects that it remembers, each address with where it led; it goes there without asking."),
    ] = {}
    strict: Annotated[
        tuple[NamePattern, ...],
        says(
            "Names that it remembers to ask securely only (RFC 6797): exact, or `.rest` for a name and all below it.",
            example=".kestrel-ridge.example",
        ),
    ] = ()
    tls_versions: Annotated[
        tuple[TlsVersion, ...], says("The versions of TLS that its client speaks. Left out: 1.2 and 1.3.")
    ] = ()
    client_certificate: Annotated[
        Literal["good", "bad"] | None,
        says("Whether it shows a certificate of its own where it is asked for one: one that is taken, or another."),
    ] = None
    http: Annotated[Literal["1.0", "1.1"], says("The version of HTTP that it speaks.")] = "1.1"
    default: Annotated[bool, says("The vantage meant when none is named.")] = False

    @property
    def written(self) -> bool:
        """Whether the estate states it; places that nobody has to write are not."""
        return self.place is not NOWHERE

    @property
    def checks(self) -> Checks:
        """Visitors check everything."""
        return Checks.EVERYTHING

    @property
    def sends_server_name(self) -> bool:
        """Visitors say whom they ask for (RFC 6066 section 3)."""
        return True

    @property
    def most_redirects(self) -> int:
        """How many redirects it follows."""
        return self.redirect_limit if self.redirect_limit is not None else MOST_REDIRECTS[self.like or "curl"]

    @property
    def saying(self) -> Saying:
        """What it says with its requests."""
        return Saying(
            self.method,
            None if self.says_host in (None, "none") else self.says_host,
            self.says_host == "none",
            None,
            None,
            tuple((str(name), value) for name, value in self.headers.items()),
            self.http,
            self.knows_password,
            self.body,
            certificate=self.client_certificate,
        )


class AsIfVantage(Vantage, frozen=True, kw_only=True, eq=False):
    """A visitor otherwise than stated: who takes a name for an address, whatever the name says, has another client, or comes when
    another member of a pool has its turn, or where the settings of an edge are not in effect yet.

    Nobody states this; a question is asked so. `turn` is the place of the pool in the estate, and the number of the member; `waits`
    the place of the edge.
    """

    takes: tuple[str, IPAddress] | None = None
    client: Literal["curl", "chromium"] | None = None
    turn: tuple[tuple[str | int, ...], int] | None = None
    waits: tuple[str | int, ...] | None = None

    @classmethod
    def of(
        cls,
        vantage: Vantage,
        takes: tuple[str, IPAddress] | None = None,
        client: Literal["curl", "chromium"] | None = None,
        turn: tuple[tuple[str | int, ...], int] | None = None,
        waits: tuple[str | int, ...] | None = None,
    ) -> Self:
        """The same visitor, who takes a name for an address, has another client, or comes at another turn, or to old settings."""
        facts = {field: getattr(vantage, field) for field in Vantage.__struct_fields__}
        return cls(**{**facts, "like": client or vantage.like}, takes=takes, client=client, turn=turn, waits=waits)

    def again(self, found: Vantage) -> Self:
        """A visitor as another world has it, otherwise as this one is."""
        return type(self).of(found, self.takes, self.client, self.turn, self.waits)


class Expectation(Stated, frozen=True, kw_only=True, eq=False):
    """What a visitor should get."""

    url: Annotated[WebAddress, says("The address asked for.", example="https://visit.kestrel-ridge.example/")]
    vantages: Annotated[
        tuple[str, ...],
        says(
            "From where: vantages, machines, `near:NETWORK`, `internet`. Left out: from every vantage that is written; where none is, from the "
            "internet.",
            refers=("vantages",),
        ),
    ] = msgspec.field(default=(), name="from")
    page: Annotated[
        str | None, says("The page, as SITE/PATH, or SITE alone for any page of it.", example="visit/index.html")
    ] = None
    final: Annotated[WebAddress | None, says("The address that the visitor ends at.")] = None
    secure: Annotated[bool | None, says("Whether the last exchange is encrypted.")] = None
    status: Annotated[int | None, says("The final status; left out: any 2xx.", example=200)] = None
    marks: Annotated[tuple[Mark, ...], says("What remedies for it must respect, as at a site.")] = ()
    guessed: Annotated[
        bool, says("Whether a reader of real configuration made it up from a name that it found; look it over.")
    ] = False

    @property
    def site(self) -> str | None:
        """The site whose page is expected."""
        return self.page.partition("/")[0] if self.page is not None else None

    def is_for(self, vantage: str) -> bool:
        """Whether it is about what a vantage gets."""
        return not self.vantages or vantage in self.vantages
