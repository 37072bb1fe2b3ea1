"""What the readers of web servers share: what they make, names for it, and what the estate can hold of a value."""

import re
from collections.abc import Callable
from ipaddress import ip_address, ip_network
from typing import Any

from portolan.estate.base import HeaderName, IPNetwork, NamePattern, Pattern, SiteName, Template
from portolan.estate.url import Url
from portolan.formats.scalars import SCALARS, UnfitError
from portolan.transcribing.part import Part, Spot, is_secret

#: Names under which a site is kept must fit what names of the estate are made of.
_NO_NAME = re.compile(r"[^A-Za-z0-9_.-]+")
#: Header fields in a site's answers that change nothing of the answer that comes.
TOLD = re.compile(
    r"(?i)(?:strict-transport-security|x-.*|content-security-policy.*|referrer-policy|permissions-policy|feature-policy"
    r"|access-control-.*|cross-origin-.*|expect-ct|alt-svc|server|pragma|expires|vary|report-to|nel|public-key-pins|link"
    r"|via|etag|last-modified)"
)
_LOOKAHEAD = re.compile(r"\(\?!([\w.\\/-]+)\)")
_FITS_METHODS = ("GET", "HEAD", "POST", "PUT", "DELETE", "PATCH", "OPTIONS", "TRACE")


class Gathered:
    """What a web server's configuration comes to: its service, the certificates that it names, and what was not read."""

    def __init__(self, service: Part, program: str) -> None:
        self.service = service
        self.program = program
        service.say("program", program)
        self.sites: dict[str, Part] = {}
        #: The certificate files that are named, with the name under which the estate has each.
        self.certificates: dict[str, tuple[str, Spot]] = {}
        self._taken: set[str] = set()
        #: The keys that go with them.
        self.keys: dict[str, str] = {}

    def site_name(self, wanted: str) -> str:
        """A name for a site that no other has."""
        return unused(wanted, self.sites)

    def certificate(self, path: str, key: str | None, spot: Spot) -> str:
        """The name of the certificate in a file."""
        if path not in self.certificates:
            parts = [part for part in path.split("/") if part]
            base = parts[-1].rsplit(".", 1)[0] if parts else "certificate"
            if base in ("fullchain", "cert", "server", "certificate", "chain") and len(parts) > 1:
                base = parts[-2]
            name = unused(base, self._taken)
            self._taken.add(name)
            self.certificates[path] = (name, spot)
        if key is not None:
            self.keys.setdefault(path, key)
        return self.certificates[path][0]


def unused(wanted: str, taken: Any) -> str:
    """A name of the estate like a wanted one that is not taken."""
    base = re.sub(r"^\d+-(?=[A-Za-z])", "", _NO_NAME.sub("-", wanted).strip("-."))[:56] or "site"
    if not (base[0].isalpha() or base[0] == "_"):
        base = f"site-{base}"
    name, number = base, 2
    while name in taken:
        name, number = f"{base}-{number}", number + 1
    return name


def fits(kind: Any, text: str) -> bool:
    """Whether the estate can hold a text as a value of a kind."""
    parse: Callable[[str], object] = SCALARS[kind][0]
    try:
        parse(text)
    except UnfitError:
        return False
    return text.isprintable()


def is_name(text: str) -> bool:
    """Whether a site can answer to it."""
    return fits(NamePattern, text)


def is_starred(text: str) -> bool:
    """The same, with stars in any place, as Apache httpd takes them."""
    return fits(SiteName, text)


def is_pattern(text: str) -> bool:
    """Whether it is a regular expression that is matched in bounded time."""
    return fits(Pattern, text)


def without_lookahead(text: str) -> tuple[str, str] | None:
    """What a pattern leaves out by looking ahead, and the pattern without that; None where it does not, or more than once."""
    ahead = _LOOKAHEAD.search(text)
    if ahead is None or "(?!" in text[ahead.end() :]:
        return None
    before = text[: ahead.start()]
    return before + ahead[1], before + text[ahead.end() :]


def is_target(text: str) -> bool:
    """Whether redirects can lead there."""
    return fits(Template, text)


def is_upstream(text: str) -> bool:
    """Whether requests can be passed on there."""
    return fits(Url, text)


def is_header(text: str) -> bool:
    """Whether it is the name of a header field whose value may be told."""
    return fits(HeaderName, text) and not is_secret(text)


def a_range(text: str) -> str | None:
    """A range of addresses as the estate writes it; None for what is none."""
    try:
        held: IPNetwork = ip_network(text, strict=False)
    except ValueError:
        return None
    return str(held.network_address) if held.prefixlen == held.max_prefixlen else str(held)


def is_method(text: str) -> bool:
    """Whether the estate knows a method."""
    return text in _FITS_METHODS


def is_text(text: str) -> bool:
    """Whether nothing invisible stands in it."""
    return bool(text) and text.isprintable()


def listener(text: str, everywhere: bool = False) -> str | None:
    """The estate's word for a listener's address and port; None for what is none.

    `everywhere`: whether a port alone is for every address of both families, as Apache httpd opens it.
    """
    if text.isdecimal():
        host, port = "*", text
    elif text.startswith("["):
        host, _, port = text[1:].partition("]")
        port = port.removeprefix(":") or "80"
    elif ":" in text:
        host, _, port = text.rpartition(":")
    else:
        host, port = text, "80"
    if not (port.isascii() and port.isdecimal()) or not 0 < int(port) < 65536:
        return None
    if host == "*":
        return str(int(port)) if everywhere else f"0.0.0.0:{int(port)}"
    try:
        address = ip_address("127.0.0.1" if host == "localhost" else host)
    except ValueError:
        return None
    return f"[{address}]:{int(port)}" if address.version == 6 else f"{address}:{int(port)}"


def add(part: Part, key: str, value: object) -> None:
    """One more of a list."""
    part.facts.setdefault(key, []).append(value)
    part.spots.setdefault(key, part.spot)


def one_source(part: Part) -> None:
    """Of what says where an answer comes from, only what comes first: a fixed answer, a program behind, a folder."""
    held = [key for key in ("answer", "upstream", "folder") if key in part.facts]
    for key in (*held[1:], *(("fallback",) if held and held[0] != "folder" else ())):
        part.facts.pop(key, None)
