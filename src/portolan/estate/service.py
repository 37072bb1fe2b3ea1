"""Programs that listen: web servers with their sites, name servers, resolvers, and anything else."""

from datetime import datetime
from ipaddress import ip_address
from typing import Annotated, Literal

import msgspec

from portolan.estate.base import (
    FolderPath,
    HeaderName,
    HostName,
    IPAddress,
    ListenerKey,
    Rights,
    RunBy,
    Stated,
    TlsVersion,
    Unread,
    at_port,
    says,
)
from portolan.estate.changing import Changing
from portolan.estate.records import ServerProgram
from portolan.estate.site import Believed, Site


class Listener(Stated, frozen=True, kw_only=True, eq=False):
    """One listening socket, written `PORT`, `ADDRESS:PORT` or `[V6-ADDRESS]:PORT`, then words."""

    text: str
    address: IPAddress | None = None
    port: int
    tls: bool = False
    only_v6: bool | None = None

    def __str__(self) -> str:
        return self.text

    @property
    def key(self) -> ListenerKey:
        """Its address and port in the spelling by which sites refer to it."""
        if self.address is None:
            return ListenerKey(f"*:{self.port}")
        return ListenerKey(at_port(self.address, self.port))


class StatedProgram(Stated, frozen=True, kw_only=True, eq=False):
    """A web server that is neither nginx nor Apache httpd, by what it does."""

    unknown_name: Annotated[
        Literal["refused", "first", "default"],
        says(
            "Who takes a name that no site has: nobody (`refused`), the site listed `first`, or the one marked `default` "
            "(the first listed where none is)."
        ),
    ] = "default"
    refuses_with: Annotated[int, says("With `unknown_name: refused`: the status, 400 to 599.")] = 404
    letters_count: Annotated[bool, says("Whether capital and small letters differ in paths.")] = True
    index_files: Annotated[
        tuple[str, ...],
        says("The names tried in a folder, in this order, where a site does not say its own."),
    ] = ("index.html",)
    missing: Annotated[int, says("The status for a file or folder that is not there, 400 to 599.")] = 404
    no_index_file: Annotated[
        int, says("The status for a folder that has no index file and may not be listed, 400 to 599.")
    ] = 403
    sends_paths: Annotated[
        bool,
        says(
            "Whether it sends the path of a redirect's target as it is (RFC 9110 section 10.2.2), as most programs behind a front "
            "do, or makes an address of it, with its own idea of scheme, name and port."
        ),
    ] = True
    believes_scheme: Annotated[
        HeaderName | None,
        says(
            "The header field that it takes for the scheme of the visitor's request, in its redirects and their conditions.",
            example="X-Forwarded-Proto",
        ),
    ] = None


class Service(Changing, frozen=True, kw_only=True, eq=False):
    """What every program that listens on a machine has, whatever it speaks."""

    name: str
    run_by: RunBy = None
    state: Annotated[Literal["running", "stopped"], says("What it does now.")] = "running"
    privileged: Annotated[
        bool, says("Whether it may open ports below 1024; without that it does not start on them.")
    ] = True
    listens: Annotated[
        tuple[Listener, ...],
        says(
            "Its listeners: `80` (every address, IPv4 and IPv6), `443 tls`, `10.20.0.15:80`, `127.0.0.1:8080`, "
            "`0.0.0.0:80` (every IPv4 address), `[::]:80` (IPv6; IPv4 too as the program does, or as `v6-only` or "
            "`dual-stack` says). Left out: 80 for web services, 53 for the DNS kinds, 80 and 443 for edges.",
            example=["80", "443 tls"],
        ),
    ] = ()
    unread: Unread = ()
    #: Why it does not start, where the state of the estate itself says so (a boot with a broken configuration).
    failing: str | None = None

    @property
    def state_after_boot(self) -> object:
        """What the next boot makes of it; None where nothing says so."""
        return self.after_boot.facts.get("state") if self.after_boot is not None else None


class WebService(Service, frozen=True, kw_only=True, eq=False):
    """A web server. One without sites answers every name with pages of its own."""

    kind: Annotated[Literal["web"], says("It speaks HTTP; meant where `kind` is left out.")] = "web"
    program: Annotated[
        StatedProgram | Literal["nginx", "apache"] | None,
        says(
            "Whose rules a web server follows where they differ: `nginx`, `apache`, or for any other its ways one by one. "
            "Left out: `nginx`'s, said as an assumption wherever that decides."
        ),
    ] = None
    tls_versions: Annotated[
        tuple[TlsVersion, ...], says("The versions of TLS that its sites speak. Left out: 1.2 and 1.3.")
    ] = ()
    certificate: Annotated[
        str | None, says("The certificate of every site that names none.", refers=("certificates",))
    ] = None
    runs_as: Annotated[str, says("The identity that reads the files.")] = "www-data"
    runs_in: Annotated[tuple[str, ...], says("The groups of that identity, beside the one of its own name.")] = ()
    grants: Annotated[
        tuple[FolderPath, ...] | None,
        says("The folders that the configuration lets it serve (Apache httpd). Left out: all.", example="/var/www"),
    ] = None
    answers_after: Annotated[int, says("How long it takes to answer, in seconds.")] = 0
    believes_address: Annotated[
        Believed | None,
        says(
            "Whose word on the visitor's address it believes. Left out: nobody's, so that behind a front everybody has the front's."
        ),
    ] = None
    #: The edge that it is, where an edge is said to be this program; it holds what its upstream gave.
    edge: object = None
    sites: Annotated[dict[str, Site], says("The websites, in the order of the program's configuration.")] = (
        msgspec.field(default_factory=dict)
    )


class NameServer(Service, frozen=True, kw_only=True, eq=False):
    """A DNS server with authority over zones."""

    kind: Annotated[Literal["name-server"], says("It answers DNS questions with authority over its zones.")] = (
        "name-server"
    )
    program: Annotated[
        ServerProgram | None,
        says(
            "The program that runs, whose rules for loading zones count. Left out: where programs differ, it is assumed "
            "to load what most of them load, and the answer says so.",
            example="knot",
        ),
    ] = None
    zones: Annotated[
        tuple[HostName, ...],
        says("The zones that it serves with authority.", refers=("zones",), example=["kestrel-ridge.example"]),
    ]


class Resolver(Service, frozen=True, kw_only=True, eq=False):
    """A recursive resolver."""

    kind: Annotated[Literal["resolver"], says("It answers DNS questions as a recursive resolver.")] = "resolver"
    zones: Annotated[
        tuple[HostName, ...], says("The zones that it holds itself, and asks nobody for.", refers=("zones",))
    ] = ()
    forwards_to: Annotated[
        tuple[IPAddress, ...],
        says("The resolvers that it passes every question on to. Left out: it asks from the root itself."),
    ] = ()
    forwards_zones: Annotated[
        dict[HostName, tuple[IPAddress, ...]],
        says(
            "Zones whose names it passes on to others than the rest: each with its resolvers or name servers; the closest zone "
            "counts. An empty list: it asks from the root itself.",
            example={"corp.kestrel-ridge.example": ["10.20.0.53"]},
        ),
    ] = {}
    drops_private: Annotated[
        bool,
        says(
            "Whether it takes private addresses out of what others answer (rebind protection, as many home routers do); its "
            "own zones stay as they are."
        ),
    ] = False
    may_be_private: Annotated[
        tuple[HostName, ...], says("Zones whose names may have private addresses all the same.")
    ] = ()
    serves_expired: Annotated[
        bool, says("Whether it goes on to give what it remembers when that has ended (RFC 8767).")
    ] = False
    program: Annotated[
        Literal["unbound", "named"] | None,
        says(
            "The program that runs: how long it keeps answers, which names it knows to be empty by itself, and whether "
            "it checks signatures where `validates` is left out (both do, as they are installed). Left out: as unbound, "
            "without checking signatures."
        ),
    ] = None
    validates: Annotated[
        bool | None,
        says("Whether it checks signatures (RFC 4035) and fails where they do not fit. Left out: as `program` does."),
    ] = None
    refuses: Annotated[tuple[HostName, ...], says("Names that it does not look up, with all below them.")] = ()
    refuses_with: Annotated[
        Literal["refused", "no-such-name"], says("What it answers for names that it does not look up.")
    ] = "no-such-name"

    last_asked: Annotated[
        datetime | None,
        says(
            "When it last looked up the names of the estate; it remembers each answer until its TTL "
            "ends. Left out: never before."
        ),
    ] = None

    @property
    def checks_signatures(self) -> bool:
        """Whether it checks signatures, as said, or as its program does."""
        return self.validates if self.validates is not None else self.program is not None


class OtherService(Service, frozen=True, kw_only=True, eq=False):
    """A program that speaks neither HTTP nor DNS."""

    kind: Annotated[Literal["other"], says("It speaks neither HTTP nor DNS.")] = "other"
    when_asked: Annotated[
        Literal["greets", "silent", "closes", "resets", "breaks-off", "bad-header", "long-header", "websocket"],
        says(
            "What it does when it is asked by HTTP: greets in words of its own; says nothing; closes or resets the "
            "connection; begins an answer and breaks it off; takes websockets, and nothing else; or answers with a header line that is none, or longer than programs take."
        ),
    ] = "greets"


class ScriptRunner(Service, frozen=True, kw_only=True, eq=False):
    """A program that runs scripts for web servers, and is asked by them alone (FastCGI)."""

    kind: Annotated[
        Literal["scripts"], says("It runs scripts for web servers, which name it in `scripts_at` (FastCGI).")
    ] = "scripts"
    socket: Annotated[
        FolderPath | None,
        says(
            "The socket in the file system at which it listens, beside or in place of `listens`.",
            example="/run/scripts/pages.sock",
        ),
    ] = None
    socket_rights: Annotated[
        Rights | None,
        says(
            "Mode, owner and group of that socket; who may write to it may ask. Left out: everybody may.",
            example="0660 www-data:www-data",
        ),
    ] = None
    runs_as: Annotated[str, says("The identity that reads the scripts.")] = "www-data"
    runs_in: Annotated[tuple[str, ...], says("The groups of that identity, beside the one of its own name.")] = ()


def address_in(key: ListenerKey) -> tuple[IPAddress, int] | None:
    """The address and port that a listener's key names; None where it is for every address."""
    where, _, port = key.rpartition(":")
    return None if where == "*" else (ip_address(where.strip("[]")), int(port))


def sites_of(service: Service) -> dict[str, Site]:
    """The sites of a web server; none of any other program."""
    return service.sites if isinstance(service, WebService) else {}


def zones_of(service: Service) -> tuple[HostName, ...]:
    """The zones that a service holds."""
    return service.zones if isinstance(service, NameServer | Resolver) else ()
