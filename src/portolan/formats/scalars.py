"""Scalars: one parser a type. Each takes the text as written and returns the value, or raises UnfitError with what was
expected."""

import re
import types
import typing
from datetime import UTC, datetime
from ipaddress import ip_address, ip_interface, ip_network, summarize_address_range
from typing import Any, TypeVar

from portolan.estate.areas import SERVICES, service_ports
from portolan.estate.base import (
    Alone4,
    Alone6,
    AnyStatus,
    AreaService,
    CoveredName,
    EstatePath,
    FolderPath,
    HeaderName,
    HostName,
    IPAddress,
    IPInterface,
    IPNetwork,
    NamePattern,
    Pattern,
    PortRange,
    Rights,
    SiteName,
    Status,
    Template,
    WebAddress,
)
from portolan.estate.url import BadUrlError, Url, parse
from portolan.formats import patterns
from portolan.formats.files import inside
from portolan.source.nearest import did_you_mean
from portolan.source.plain import UNSEEN, one_line


class UnfitError(Exception):
    """The text does not fit; `expected` says what would, `hint` what to do."""

    def __init__(self, expected: str, hint: str = "") -> None:
        super().__init__(expected)
        self.expected = expected
        self.hint = hint


_Form = TypeVar("_Form")


def _unscoped(value: _Form) -> _Form:
    """An address without a zone (RFC 4007 section 11): those mean something on one machine only. Raises ValueError."""
    if "%" in str(value):
        raise ValueError("an address with a zone")
    return value


def _with_length(text: str) -> str:
    """An address that may have a prefix length; masks have no form of their own here. Raises ValueError."""
    length = text.partition("/")[2]
    if "/" in text and not re.fullmatch("0|[1-9][0-9]{0,2}", length):
        raise ValueError("no prefix length")
    return text


def address(text: str) -> IPAddress:
    """An IPv4 or IPv6 address."""
    try:
        return _unscoped(ip_address(text))
    except ValueError:
        hint = "The prefix length does not belong here." if "/" in text else ""
        raise UnfitError("an IP address such as 10.20.0.15 or 2001:db8::15", hint) from None


def interface(text: str) -> IPInterface:
    """An address with or without its prefix length; without one the prefix is full (the reader knows the network)."""
    try:
        found = _unscoped(ip_interface(_with_length(text)))
        if "/" in text and found.network.prefixlen == found.max_prefixlen:
            return Alone4(text) if found.version == 4 else Alone6(text)
        return found
    except ValueError:
        raise UnfitError("an IP address such as 10.20.0.15, or with its prefix length such as 10.20.0.15/24") from None


def network(text: str) -> IPNetwork:
    """A range in CIDR form; a lone address is the range of itself."""
    try:
        return _unscoped(ip_network(_with_length(text)))
    except ValueError:
        try:
            meant = _unscoped(ip_network(_with_length(text), strict=False))
        except ValueError:
            raise UnfitError("a range such as 10.20.0.0/24 or 2001:db8::/64") from None
        raise UnfitError("a range whose host bits are zero", f"Did you mean {meant}?") from None


#: So many ranges at most may stand for one `first-last`.
_MOST_PARTS = 256


def address_range(text: str) -> tuple[IPNetwork, ...]:
    """The ranges in CIDR form that `first-last` stands for."""
    first, _, last = (part.strip() for part in text.partition("-"))
    try:
        low, high = _unscoped(ip_address(first)), _unscoped(ip_address(last))
        parts: Any = summarize_address_range(low, high)
        return tuple(parts)[:_MOST_PARTS]
    except (ValueError, TypeError):
        raise UnfitError("two addresses of one IP version, the lower first, such as 10.20.0.5-10.20.0.9") from None


def port(text: str) -> int:
    """A port number, 1 to 65535."""
    if re.fullmatch(r"[0-9]{1,5}", text) and 1 <= int(text) <= 65535:
        return int(text)
    raise UnfitError("a port, 1 to 65535")


def port_range(text: str) -> PortRange:
    """A port, or `first-last`; a range may begin at 0, which packets can bear and nobody listens on."""
    first, dash, last = text.partition("-")
    try:
        low = 0 if dash and first.strip() == "0" else port(first.strip())
        high = port(last.strip()) if dash else low
    except UnfitError:
        raise UnfitError("a port such as 443, or a range such as 8000-8100") from None
    if high < low:
        raise UnfitError("a range from the lower port to the higher", f"Did you mean {high}-{low}?")
    return PortRange(low, high)


_LABEL = re.compile(r"[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?")


_NO_ASCII_FORM = "a host name that has an ASCII form (RFC 5891)"


def host_name(text: str) -> HostName:
    """A host name in its ASCII form, lower case, no final dot (RFC 1123 section 2.1, RFC 5891)."""
    name = text.rstrip(".") if text.endswith(".") and not text.endswith("..") else text
    if not name.isascii():
        name = _ascii_form(name)
        if len(name) > 253 or not all(_LABEL.fullmatch(label) for label in name.split(".")):
            raise UnfitError(_NO_ASCII_FORM)
    name = name.lower()
    if not name or len(name) > 253 or not all(_LABEL.fullmatch(label) for label in name.split(".")):
        raise UnfitError("a host name such as visit.kestrel-ridge.example")
    return HostName(name)


def _ascii_form(name: str) -> str:
    import idna  # only for names that need it

    try:
        return idna.encode(name, uts46=True).decode("ascii")
    except (idna.IDNAError, ValueError):
        raise UnfitError(_NO_ASCII_FORM) from None


def name_pattern(text: str) -> NamePattern:
    """An exact name, `*.rest`, `first.*` or `.rest`; nothing at all. A final dot stays: such a name matches nothing."""
    if not text:
        return NamePattern(text)
    start = "*." if text.startswith("*.") else "." if text.startswith(".") else ""
    end = "" if start else ".*" if text.endswith(".*") else "." if text.endswith(".") else ""
    rest = text.removeprefix(start).removesuffix(end)
    try:
        return NamePattern(f"{start}{host_name(rest)}{end}")
    except UnfitError as unfit:
        if unfit.expected == _NO_ASCII_FORM:
            raise
        raise UnfitError("a name such as visit.kestrel-ridge.example, *.kestrel-ridge.example or visit.*") from None


def site_name(text: str) -> SiteName:
    """The same, or a name with stars in other places."""
    try:
        return SiteName(name_pattern(text))
    except UnfitError:
        if re.fullmatch(patterns.STARRED, text):
            return SiteName(text.lower())
        raise


def pattern(text: str) -> Pattern:
    """A regular expression in the common part of Perl's and RE2's syntax, which is matched in time linear to the text."""
    expected = "a regular expression such as ^/rooms/([0-9]+)$"
    if len(text) > _LONGEST_PATTERN:
        raise UnfitError(expected, f"It may have {_LONGEST_PATTERN} characters.")
    import re2  # only for estates that have patterns

    options = re2.Options()
    options.log_errors = False
    options.max_mem = 1 << 20
    try:
        re2.compile(text, options)
    except re2.error as error:
        said = error.args[0].decode("utf-8", "replace") if isinstance(error.args[0], bytes) else str(error)
        hint = (
            "References back, looking around and possessive repeats are not taken."
            if "perl" in said or "escape" in said
            else ""
        )
        raise UnfitError(expected, f"{one_line(said, 120)}. {hint}".strip()) from None
    return Pattern(text)


_LONGEST_PATTERN = 1000


def folder_path(text: str) -> FolderPath:
    """A path on a machine, without doubled slashes."""
    if not re.fullmatch(patterns.FOLDER, text) or len(text) > 1024:
        raise UnfitError("a path such as /srv/visit or img/dome.jpg", "Without '..'.")
    return FolderPath(re.sub("/{2,}", "/", text))


def rights(text: str) -> Rights:
    """Mode, owner and group."""
    if not re.fullmatch(patterns.RIGHTS, text):
        raise UnfitError("mode, owner and group such as '0640 orion:www-data'")
    mode, _, names = text.partition(" ")
    owner, _, group = names.partition(":")
    return Rights(int(mode, 8), owner, group)


def header_name(text: str) -> HeaderName:
    """The name of a header field (RFC 9110 section 5.6.2: a token)."""
    if not re.fullmatch(patterns.HEADER, text):
        raise UnfitError("the name of a header field such as X-Forwarded-Proto")
    return HeaderName(text.lower())


def status(text: str) -> Status:
    """A status of an error."""
    if not re.fullmatch(patterns.STATUS, text):
        raise UnfitError("a status of an error, 400 to 599")
    return Status(text)


def any_status(text: str) -> AnyStatus:
    """A status of a final answer."""
    if not re.fullmatch(patterns.ANY_STATUS, text):
        raise UnfitError("a status of an answer, 200 to 599")
    return AnyStatus(text)


def covered_name(text: str) -> CoveredName:
    """A name that a certificate covers, or an address."""
    try:
        address(text)
    except UnfitError:
        host_name(text.removeprefix("*."))
    return CoveredName(text)


_AREA_SERVICE = rf"^(?:{'|'.join(SERVICES)}|{patterns.PORT}(?:-{patterns.PORT})?/(?:tcp|udp))$"


def area_service(text: str) -> AreaService:
    """A service's name, or ports and protocol."""
    try:
        service_ports(text)
    except ValueError as expected:
        raise UnfitError(str(expected), did_you_mean(text, SERVICES)) from None
    return AreaService(text)


def estate_path(text: str) -> EstatePath:
    """A path that stays inside the estate's folder."""
    normal = inside(text)
    if normal is None:
        raise UnfitError("a relative path inside the estate's folder", "Copy the file into the estate's folder.")
    return EstatePath(normal)


#: Longer addresses are refused by servers (their request lines hold 8,000 octets, RFC 9110 section 4.1 asks for that many).
_LONGEST_URL = 8000


def web_address(text: str) -> WebAddress:
    """An absolute URL of a page or a websocket; the journey parses it whole when it is asked."""
    if not re.match(r"(?:http|ws)s?://[^/?#\s]", text, re.IGNORECASE) or len(text) > _LONGEST_URL:
        raise UnfitError("a URL that starts with http:// or https://")
    return WebAddress(text)


def upstream(text: str) -> Url:
    """The program behind a site: scheme, name or address, port, and perhaps a path."""
    if not re.fullmatch(patterns.UPSTREAM, text):
        raise UnfitError(
            "an upstream such as http://10.20.0.16:8080", "Scheme, name or address, port, and perhaps a path."
        )
    try:
        path = "/" + text.split("/", 3)[3] if text.count("/") > 2 else ""
        return parse(text).but(path=path)
    except BadUrlError as error:
        raise UnfitError("an upstream such as http://10.20.0.16:8080", one_line(str(error), 200)) from None


_PLACEHOLDERS = frozenset(("scheme", "host", "port", "path", "query", "rest", *"123456789"))


def template(text: str) -> Template:
    """A redirect's target; its placeholders must be known ones."""
    for name in re.findall(r"\{([^{}]*)\}", text):
        if name not in _PLACEHOLDERS:
            raise UnfitError("placeholders {scheme}, {host}, {port}, {path}, {query}, {rest} or {1} to {9}")
    if re.search(r"[{}]", re.sub(r"\{[^{}]*\}", "", text)) or not text:
        raise UnfitError("a target such as https://{host}{path}{query}")
    return Template(text)


#: Lifetimes and terms are counted from times: none leads out of what can be counted.
_FIRST_YEAR, _LAST_YEAR = 1800, 9000
_TIME = re.compile(
    r"([0-9]{4}-[0-9]{2}-[0-9]{2})(?:[Tt ]([0-9]{2}:[0-9]{2}(?::[0-9]{2}(?:\.[0-9]{1,6})?)?)([Zz]|[+-][0-9]{2}:[0-9]{2})?)?"
)


def time(text: str) -> datetime:
    """An RFC 3339 time; a date alone is its midnight, and without an offset it is UTC."""
    match = _TIME.fullmatch(text)
    if match:
        day, clock, offset = match.groups()
        try:
            moment = datetime.fromisoformat(
                f"{day}T{clock or '00:00:00'}{(offset or 'Z').upper().replace('Z', '+00:00')}"
            )
            if _FIRST_YEAR <= moment.year <= _LAST_YEAR:
                return moment.astimezone(UTC)
        except (ValueError, OverflowError):
            if re.fullmatch(patterns.TIME, text):
                raise UnfitError("a day that the calendar has") from None
    raise UnfitError(
        "a time such as 2026-03-14T20:00:00Z", f"Between the years {_FIRST_YEAR} and {_LAST_YEAR}." if match else ""
    )


def _text(pattern: str) -> dict[str, Any]:
    """The schema of a text of a certain form, in which everything can be seen."""
    return {"type": "string", "pattern": pattern, "not": {"pattern": UNSEEN}}


#: Type to (parser, JSON Schema of the written form).
SCALARS: dict[Any, tuple[Any, dict[str, Any]]] = {
    HostName: (host_name, _text(patterns.HOST)),
    CoveredName: (covered_name, _text(patterns.COVERED)),
    AreaService: (area_service, _text(_AREA_SERVICE)),
    NamePattern: (name_pattern, _text(patterns.NAME_PATTERN)),
    SiteName: (site_name, {"anyOf": [_text(patterns.NAME_PATTERN), _text(patterns.STARRED)]}),
    EstatePath: (estate_path, _text(patterns.PATH)),
    WebAddress: (web_address, {**_text(patterns.URL), "maxLength": _LONGEST_URL}),
    Url: (upstream, _text(patterns.UPSTREAM)),
    Template: (template, _text(patterns.TEMPLATE)),
    Pattern: (pattern, {**_text(".+"), "maxLength": _LONGEST_PATTERN, "format": "regex"}),
    FolderPath: (folder_path, _text(patterns.FOLDER)),
    Rights: (rights, _text(patterns.RIGHTS)),
    HeaderName: (header_name, _text(patterns.HEADER)),
    Status: (status, {"anyOf": [{"type": "integer", "minimum": 400, "maximum": 599}, _text(patterns.STATUS)]}),
    AnyStatus: (
        any_status,
        {"anyOf": [{"type": "integer", "minimum": 200, "maximum": 599}, _text(patterns.ANY_STATUS)]},
    ),
    PortRange: (port_range, {"anyOf": [{"type": "integer", "minimum": 1, "maximum": 65535}, _text(patterns.PORTS)]}),
    datetime: (time, _text(patterns.TIME)),
    IPAddress: (address, _text(patterns.ADDRESS)),
    IPInterface: (interface, _text(patterns.WITH_LENGTH)),
    IPNetwork: (network, _text(patterns.WITH_LENGTH)),
}


def without_none(annotation: Any) -> tuple[Any, bool]:
    """A union's type without None, and whether None was in it."""
    if annotation in SCALARS:
        return annotation, False
    if typing.get_origin(annotation) in (typing.Union, types.UnionType):
        rest = [arg for arg in typing.get_args(annotation) if arg is not type(None)]
        optional = len(rest) < len(typing.get_args(annotation))
        merged: Any = rest[0]
        for part in rest[1:]:
            merged = merged | part
        return merged, optional
    return annotation, False
