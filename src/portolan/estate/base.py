"""What every stated value has in common, and the small words that annotate fields.

Descriptions on the fields are the single source of the JSON Schema, the reference page and the error messages.
"""

from ipaddress import IPv4Address, IPv4Interface, IPv4Network, IPv6Address, IPv6Interface, IPv6Network, ip_address
from typing import Annotated, Any, Literal

import msgspec

from portolan.source.place import FixedMark, FixedNode, Place
from portolan.source.value import Value

IPAddress = IPv4Address | IPv6Address
IPNetwork = IPv4Network | IPv6Network
IPInterface = IPv4Interface | IPv6Interface


class Alone4(IPv4Interface):
    """An IPv4 address that is written with its full prefix length: its range is itself, whatever the network says."""


class Alone6(IPv6Interface):
    """The same for IPv6."""


#: The place of values that no file states.
NOWHERE = Place((), FixedNode(FixedMark("(assumed)", 0, 0)))


class Stated(msgspec.Struct, frozen=True, kw_only=True, eq=False, gc=True):
    """A value that some line of the estate states; two values are the same only when they are the same line."""

    place: Place = NOWHERE


def same_facts(one: object, other: object) -> bool:
    """Whether two values say the same, wherever they are written."""
    if isinstance(one, Stated) and type(one) is type(other):
        return all(
            same_facts(getattr(one, field), getattr(other, field))
            for field in one.__struct_fields__
            if field != "place"
        )
    if isinstance(one, tuple) and isinstance(other, tuple):
        return len(one) == len(other) and all(map(same_facts, one, other))
    if isinstance(one, dict) and isinstance(other, dict):
        return list(one) == list(other) and all(same_facts(each, other[name]) for name, each in one.items())
    return one == other


def says(
    text: str, *, refers: tuple[str, ...] = (), example: Any = None, kind: str = "word", sets: str = ""
) -> msgspec.Meta:
    """A field's meaning; `refers` lists the sections of the estate whose names the field may hold.

    `kind` says what text the field takes: a `word` (nothing invisible in it), a `secret` (a word that is never shown), a
    `line` (tabs too, as files of lines have them), or `prose` (several lines, for people). `sets` says what the named sets hold that may stand in the field too
    (`addresses`, `ports`; `-`: no set may, but `first-last`).
    """
    extra: dict[str, Any] | None = {"refers": refers} if refers else None
    if sets:
        extra = {**(extra or {}), "sets": sets}
    if kind != "word":
        extra = {**(extra or {}), "kind": kind}
    return msgspec.Meta(description=text, extra=extra, examples=[example] if example is not None else None)


#: What stands under `unread`: lines of real configuration that the estate has no word for.
Unread = Annotated[
    tuple[str, ...],
    says(
        "What a reader of real configuration could not keep, each with where it stands. An answer that may rest on it says so.",
        example=["etc/nginx/nginx.conf:31 limit_req"],
        kind="line",
    ),
]


#: Who runs something that is somebody else's to change.
RunBy = Annotated[
    str | None,
    says(
        "Who runs it, where that is somebody else: a hosting company, a registrar, the provider of a line, a colleague. Remedies say "
        "then what they must do, and `--letter` writes to them.",
        example="the hosting company",
    ),
]


def in_short(unread: tuple[str, ...]) -> str:
    """What could not be kept, in a few words: the first, and how many more."""
    return unread[0] if len(unread) == 1 else f"{unread[0]} and {len(unread) - 1} more"


class HostName(str):
    """A DNS host name in lower case without the final dot, in its ASCII form (RFC 5891)."""

    __slots__ = ()


class CoveredName(str):
    """A name or address that a certificate covers: exact, `*.rest`, or an IP address."""

    __slots__ = ()


class AreaService(str):
    """What an area may reach: a service by its IANA name, or ports and protocol such as `8080/tcp`."""

    __slots__ = ()


class NamePattern(str):
    """A name that a site answers to, in lower case: exact, `*.rest`, `first.*`, `.rest` (the name and all below), or nothing."""

    __slots__ = ()


class SiteName(NamePattern):
    """The same with stars in any place, as Apache httpd takes them."""

    __slots__ = ()


class ListenerKey(str):
    """A listener's address and port in one spelling: `*:80`, `10.20.0.15:80`, `[2001:db8::1]:443`."""

    __slots__ = ()


class SetName(Value, frozen=True):
    """The name of a set where a rule names one, and its node; the loader puts the set's members in its place."""

    name: str
    node: Any


class EstatePath(str):
    """A path relative to the estate's folder that stays inside it, with forward slashes."""

    __slots__ = ()


class WebAddress(str):
    """An absolute URL of a page, or of a websocket (ws, wss), as it was written."""

    __slots__ = ()


class Template(str):
    """A redirect's target with the placeholders {scheme} {host} {port} {path} {query} {rest}, {1} to {9}."""

    __slots__ = ()


class Pattern(str):
    """A regular expression that can be matched in bounded time (no references back, no looking around)."""

    __slots__ = ()


class FolderPath(str):
    """A folder or file on a machine: absolute, or relative to a site's folder; without `..`."""

    __slots__ = ()


class HeaderName(str):
    """The name of a header field, in lower case (RFC 9110 section 5.1)."""

    __slots__ = ()


class Status(int):
    """A status code of an error, 400 to 599 (RFC 9110 section 15)."""

    __slots__ = ()


class AnyStatus(int):
    """A status code of a final answer, 200 to 599 (RFC 9110 section 15)."""

    __slots__ = ()


class Rights(Value, frozen=True):
    """Who may do what with a file or folder: mode bits (chmod(2)), owner and group."""

    mode: int
    owner: str
    group: str

    def __str__(self) -> str:
        return f"{self.mode:04o} {self.owner}:{self.group}"


class PortRange(Value, frozen=True):
    """Ports from first to last, both included."""

    first: int
    last: int

    def __str__(self) -> str:
        return str(self.first) if self.first == self.last else f"{self.first}-{self.last}"

    def __contains__(self, port: object) -> bool:
        return isinstance(port, int) and self.first <= port <= self.last


def bracketed(address: IPAddress) -> str:
    """An address as URLs write it: IPv6 in brackets (RFC 3986 section 3.2.2)."""
    return f"[{address}]" if address.version == 6 else str(address)


def at_port(address: IPAddress, port: int) -> str:
    """An address with a port, as listeners and URLs write them."""
    return f"{bracketed(address)}:{port}"


def is_address(text: str) -> bool:
    """Whether a text is an IP address."""
    try:
        ip_address(text)
    except ValueError:
        return False
    return True


#: Versions of TLS, as they are written.
TlsVersion = Literal["1.0", "1.1", "1.2", "1.3"]


def is_public(address: IPAddress) -> bool:
    """Whether the public internet carries the address.

    The documentation ranges (RFC 5737, RFC 3849) count as public, since examples use them in that role. Private
    (RFC 1918), shared (RFC 6598), unique local (RFC 4193), link-local, loopback, multicast and reserved ones do not.
    """
    return is_public_value(int(address), address.version == 6)


def is_public_value(value: int, v6: bool) -> bool:
    """The same for an address's number."""
    if v6:
        return value >> 125 == 1  # 2000::/3, RFC 4291 section 2.4
    ranges = _PRIVATE_BY_OCTET[value >> 24]
    return not ranges or not any(value & mask == net for net, mask in ranges)


def is_made_up(address: IPAddress) -> bool:
    """Whether an address stands for one that only its provider knows: benchmarking ranges (RFC 2544, RFC 5180), which no estate has."""
    return int(address) >> 17 == _BENCHMARKING_4 if address.version == 4 else int(address) >> 80 == _BENCHMARKING_6


#: 198.18.0.0/15 and 2001:2::/48.
_BENCHMARKING_4, _BENCHMARKING_6 = int(IPv4Address("198.18.0.0")) >> 17, int(IPv6Address("2001:2::")) >> 80


def is_loopback(address: IPAddress) -> bool:
    """Whether the address means the machine itself: 127.0.0.0/8 (RFC 1122 section 3.2.1.3) or ::1 (RFC 4291)."""
    return int(address) >> 24 == 127 if address.version == 4 else int(address) == 1


_PRIVATE_4 = tuple(
    (int(net.network_address), int(net.netmask))
    for net in map(
        IPv4Network,
        (
            "0.0.0.0/8",
            "10.0.0.0/8",
            "100.64.0.0/10",
            "127.0.0.0/8",
            "169.254.0.0/16",
            "172.16.0.0/12",
            "192.168.0.0/16",
            "224.0.0.0/3",
        ),
    )
)
#: By first octet: the ranges that reach into it, so that most addresses need one look.
_PRIVATE_BY_OCTET = tuple(
    tuple((net, mask) for net, mask in _PRIVATE_4 if (net ^ (octet << 24)) & mask & 0xFF000000 == 0)
    for octet in range(256)
)
