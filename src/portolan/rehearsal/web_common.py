"""What the drivers of both web servers share: a server as it is staged, and words fit for configurations."""

import re
from collections.abc import Iterable, Iterator
from ipaddress import ip_address
from typing import NamedTuple

from portolan.estate.base import IPAddress
from portolan.estate.machine import Machine
from portolan.estate.service import Listener, WebService
from portolan.estate.site import Access, Giving, Site, Upstream
from portolan.estate.url import Url
from portolan.rehearsal import quoting
from portolan.rehearsal.plan import BASE, Plan
from portolan.rehearsal.web_files import Room as WebRoom
from portolan.source.place import Place

#: Seconds that a program waits for its upstream: fewer than the client waits for the program.
UPSTREAM_LIMIT = 3


class Room(NamedTuple):
    """One site on the stage: its number in the program's configuration, and where its parts lie."""

    site: Site | WebService
    base: WebRoom
    parts: tuple[WebRoom, ...]


class Staged(NamedTuple):
    """A web server to stage: where it is known and what its configuration is made of."""

    plan: Plan
    machine: Machine
    service: WebService
    name: str
    rooms: tuple[Room, ...]
    #: By upstream: the file of authorities that its certificate must lead to.
    trusts: dict[int, str]
    #: Where scripts are run on the stage, by what the estate says.
    scripts: dict[str, str]

    @property
    def folder(self) -> str:
        """Its folder on the stage."""
        return f"{BASE}/{self.name}"


#: What a visitor says who knows the password.
VISITOR, PASSWORD = "visitor", "open"


def in_force(site: Site) -> bool:
    """Whether the program that runs has a site."""
    return site.enabled and site.included and site.loaded


def upstreams(sites: Iterable[Site | WebService]) -> list[Upstream]:
    """Every program behind."""
    held = [each for site in sites if isinstance(site, Site) for each in (site, *site.sections)]
    return [each.upstream for each in held if isinstance(each.upstream, Upstream)]


def member_url(member: Url, place: Place) -> str:
    """An upstream's address as configurations write it, without its path."""
    text = str(member.but(path="", query=""))
    if not re.fullmatch(r"https?://[A-Za-z0-9_.:\[\]-]+", text) or not re.fullmatch(r"[A-Za-z0-9_./~-]*", member.path):
        raise quoting.UnstageableError("an upstream", text + member.path, place)
    return text


def bound(site: Site, listener: Listener) -> bool:
    """Whether a site is written for a listener of its service."""
    return not site.listens or key_of(listener.address, listener.port) in site.listens


def bound_under(site: Site, listener: Listener, apart: Iterable[Listener] = ()) -> list[str]:
    """The single addresses, with the port, that a site is bound to under a listener that is for all; not those of the listeners `apart`, which are written by themselves."""
    if listener.address is not None and int(listener.address):
        return []
    version = None if listener.address is None else listener.address.version
    found = []
    own = {key_of(each.address, each.port) for each in apart}
    for key in site.listens:
        if key in own:
            continue
        where, _, port = key.rpartition(":")
        if where == "*" or port != str(listener.port) or int(ip_address(where.strip("[]"))) == 0:
            continue
        if version is None or ip_address(where.strip("[]")).version == version:
            found.append(str(key))
    return found


def key_of(address: IPAddress | None, port: int) -> str:
    """A listener's address and port as a site names it."""
    if address is None:
        return f"*:{port}"
    return f"[{address}]:{port}" if address.version == 6 else f"{address}:{port}"


def certificate_of(staged: Staged, site: Site | WebService) -> str | None:
    """The stage's name for the certificate of a site."""
    name = site.certificate or staged.service.certificate
    return None if name is None else f"c{list(staged.plan.estate.certificates).index(name)}"


def own_content(giving: Giving) -> bool:
    """Whether a site or a section says what lies there itself: a folder, files, or what is absent."""
    return giving.folder is not None or giving.files is not None or giving.absent


def index_files_of(giving: Giving | WebService) -> tuple[str, ...] | None:
    """The index files that a site or section names; None where it names none."""
    return giving.index_files if isinstance(giving, Giving) else None


def host_pattern(names: tuple[str, ...]) -> str:
    """Names with stars as one regular expression."""
    parts = []
    for name in names:
        if name.startswith("*."):
            parts.append(".+" + re.escape(name[1:]))
        elif name.endswith(".*"):
            parts.append(re.escape(name[:-1]) + ".+")
        elif name.startswith("."):
            parts.append(f"(.+[.])?{re.escape(name[1:])}")
        else:
            parts.append(re.escape(name))
    return f"^({'|'.join(parts)})[.]?$".replace("\\-", "-")


def path_pattern(path: str) -> str:
    """A redirect's path as a regular expression whose one group is what stands for the star."""
    if path.endswith("*"):
        return f"^{re.escape(path[:-1])}(.*)$".replace("\\-", "-")
    return f"^{re.escape(path)}()$".replace("\\-", "-")


def server_names(site: Site | WebService) -> tuple[str, ...]:
    """A site's names, each fit to be written."""
    names = site.names if isinstance(site, Site) else ()
    for name in names:
        if not re.fullmatch(r"(\.?[a-z0-9_*-][a-z0-9_.*-]*)?", name):
            raise quoting.UnstageableError("a site's name", name, site.place.key("names"))
    return names


#: Moments that are over, and are not, for whoever holds what he is given during a rehearsal (RFC 9110 section 5.6.7).
_PAST, _FUTURE = "Thu, 01 Jan 2015 00:00:00 GMT", "Thu, 31 Dec 2099 00:00:00 GMT"


def cache_fields(giving: Giving) -> Iterator[tuple[str, str]]:
    """The header fields in which a site says when what it gives is over."""
    if giving.cache_control is not None:
        yield "Cache-Control", giving.cache_control
    if giving.expires_after is not None:
        yield "Expires", _FUTURE if giving.expires_after > 0 else _PAST
    if giving.age is not None:
        yield "Age", str(giving.age)
    if giving.sets_cookie:
        yield "Set-Cookie", "staged=1"


def header_word(name: str, place: Place) -> str:
    """A header field's name, fit to be part of a variable's."""
    if not re.fullmatch(r"[a-z][a-z0-9-]*", name):
        raise quoting.UnstageableError("a header field's name", name, place)
    return name


def page_word(text: str, place: Place) -> str:
    """A path or URL of an error page, fit to stand alone as a word of a configuration."""
    if not re.fullmatch(r"[A-Za-z0-9_./:~?=&%+-]+", text):
        raise quoting.UnstageableError("an error page", text, place)
    return text


def methods_pattern(methods: Iterable[str]) -> str:
    """A regular expression for methods; HEAD goes with GET."""
    named = list(methods)
    return f"^(?:{'|'.join([*named, *(['HEAD'] if 'GET' in named and 'HEAD' not in named else [])])})$"


def passwords_of(access: Access, staged: Staged) -> str:
    """The path of the file of passwords, which may be missing."""
    if access.password_file == "unreadable":
        # Whoever looks on the stage may read everything.
        raise quoting.UnstageableError("a file of passwords", "unreadable", access.place.key("password_file"))
    return f"{staged.folder}/{'none' if access.password_file == 'missing' else 'passwords'}"
