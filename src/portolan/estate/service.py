"""Programs that listen: web servers with their sites, name servers, resolvers, and anything else."""

from datetime import datetime
from typing import Annotated, Literal

import msgspec

from portolan.estate.base import EstatePath, HostName, IPAddress, ListenerKey, NamePattern, Stated, Template, says
from portolan.estate.changing import Changing
from portolan.estate.url import Url
from portolan.estate.zone import ServerProgram

Mark = Literal["takes-payments", "private", "closed"]


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
        return ListenerKey(
            f"[{self.address}]:{self.port}" if self.address.version == 6 else f"{self.address}:{self.port}"
        )


class When(Stated, frozen=True, kw_only=True, eq=False):
    """The condition of a redirect; all that is written must hold."""

    scheme: Annotated[Literal["http", "https"] | None, says("How the request came to this server.")] = None
    host: Annotated[
        tuple[NamePattern, ...], says("The name asked for, without port.", example="www.kestrel-ridge.example")
    ] = ()
    path: Annotated[
        str | None,
        says(
            "The path asked for, without query: exact (`/old`), or with `*` at its end for all that starts so "
            "(`/old/*`); what stood for `*` is {rest}."
        ),
    ] = None


class Redirect(Stated, frozen=True, kw_only=True, eq=False):
    """A rule that sends the visitor elsewhere; the first whose condition holds is taken, before any content."""

    when: Annotated[When | None, says("When it applies; left out: always.")] = None
    to: Annotated[
        Template,
        says(
            "The target, absolute or relative. {scheme}, {host} (name asked for, without port), {port}, {path} (with "
            "its slash), {query} (with its question mark, or nothing) and {rest} stand for the request's parts.",
            example="https://{host}{path}{query}",
        ),
    ]
    status: Annotated[Literal[301, 302, 303, 307, 308], says("The status sent (RFC 9110 section 15.4).")] = 301


class Site(Stated, frozen=True, kw_only=True, eq=False):
    """A website that a service holds, bound to names and listeners. Its pages are known as SITE/PATH."""

    name: str
    names: Annotated[
        tuple[NamePattern, ...],
        says(
            "The names it answers to: exact, `*.rest` (any depth) or `first.*`. Left out: only what falls to it as "
            "the default site.",
            example=["visit.kestrel-ridge.example", "*.kestrel-ridge.example"],
        ),
    ] = ()
    listens: Annotated[
        tuple[ListenerKey, ...],
        says(
            "The listeners it is bound to, written as at the service (the words after the port may be left out). "
            "Left out: all."
        ),
    ] = ()
    default: Annotated[
        bool, says("Takes requests whose name no site answers to. Where no site says so: the first one listed.")
    ] = False
    enabled: Annotated[bool, says("Whether the program in force has it switched on.")] = True
    certificate: Annotated[
        str | None, says("The certificate shown for its names; left out: the service's.", refers=("certificates",))
    ] = None
    folder: Annotated[
        str | None, says("Where its content lies on the host; only shown in explanations.", example="/srv/visit")
    ] = None
    files: Annotated[
        tuple[str, ...] | None,
        says(
            "What the folder holds, as paths relative to it. Left out (and no `copy`): every file asked for is "
            "assumed to exist.",
            example=["index.html", "img/dome.jpg"],
        ),
    ] = None
    copy: Annotated[
        EstatePath | None, says("A folder of the estate that holds a copy of the content, read instead of `files`.")
    ] = None
    default_documents: Annotated[
        tuple[str, ...], says("The names tried, in this order, when a folder is asked for.")
    ] = ("index.html",)
    listing: Annotated[bool, says("Whether a folder without default document is listed.")] = False
    redirects: Annotated[tuple[Redirect, ...], says("Redirect rules, first match first.")] = ()
    upstream: Annotated[
        Url | None,
        says(
            "The program behind, to which everything is passed on that no redirect took: `http://` or `https://`, a name or "
            "an address, and the port unless it is the usual one; no path. The site has no content of its own then.",
            example="http://10.20.0.16:8080",
        ),
    ] = None
    answer: Annotated[
        int | None, says("A status that the site gives to everything that no redirect took, 200 to 599.", example=404)
    ] = None
    marks: Annotated[
        tuple[Mark, ...],
        says(
            "What remedies must respect. `takes-payments`, `private`: whatever weakens is withheld; `private`: nobody who is not "
            "named by an expectation is let in. `closed`: its refusal is meant, and lifting it is never proposed."
        ),
    ] = ()


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
    default_documents: Annotated[
        tuple[str, ...],
        says("The names tried in a folder, in this order, where a site does not say its own."),
    ] = ("index.html",)
    missing: Annotated[int, says("The status for a file or folder that is not there, 400 to 599.")] = 404
    no_document: Annotated[
        int, says("The status for a folder that has no default document and may not be listed, 400 to 599.")
    ] = 403


class Service(Changing, frozen=True, kw_only=True, eq=False):
    """What every program that listens on a machine has, whatever it speaks."""

    name: str
    state: Annotated[Literal["running", "stopped"], says("What it does now.")] = "running"
    privileged: Annotated[
        bool, says("Whether it may open ports below 1024; without that it does not start on them.")
    ] = True
    listens: Annotated[
        tuple[Listener, ...],
        says(
            "Its listeners: `80` (every address, IPv4 and IPv6), `443 tls`, `10.20.0.15:80`, `127.0.0.1:8080`, "
            "`0.0.0.0:80` (every IPv4 address), `[::]:80` (IPv6; IPv4 too as the program does, or as `v6-only` or "
            "`dual-stack` says). Left out: 80 for web services, 53 for the DNS kinds.",
            example=["80", "443 tls"],
        ),
    ] = ()
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
    certificate: Annotated[
        str | None, says("The certificate of every site that names none.", refers=("certificates",))
    ] = None
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


#: The services, told apart by their key `kind`; the first is meant where it is left out.
AnyService = WebService | NameServer | Resolver | OtherService


def sites_of(service: Service) -> dict[str, Site]:
    """The sites of a web server; none of any other program."""
    return service.sites if isinstance(service, WebService) else {}


def zones_of(service: Service) -> tuple[HostName, ...]:
    """The zones that a service holds."""
    return service.zones if isinstance(service, NameServer | Resolver) else ()
