"""Interfaces, addresses and routes as `ip` prints them, in JSON (`ip -j`) or plainly; listening sockets as `ss` does."""

import json
import re
from collections.abc import Iterable
from ipaddress import ip_interface, ip_network
from typing import Any

from portolan.estate.network import USUAL_MTU
from portolan.source.value import Value
from portolan.transcribing.part import Spot
from portolan.transcribing.sources import SourceError


class Held(Value, frozen=True):
    """An interface's address: with the length of its range, whether it was leased, and where that stands."""

    interface: str
    address: str
    leased: bool
    spot: Spot
    #: `deprecated` or `temporary`, of IPv6 addresses.
    age: str | None = None


class Way(Value, frozen=True):
    """A line of the routing table."""

    to: str
    via: str | None
    device: str | None
    kind: str | None
    metric: int
    spot: Spot
    source: str | None = None
    mtu: int | None = None
    #: Whether the next router need lie in no range of the interface.
    onlink: bool = False


class Link(Value, frozen=True):
    """An interface: whether it is up, and the largest packet that it takes."""

    name: str
    up: bool
    mtu: int


class Socket(Value, frozen=True):
    """A listening socket and the program behind it."""

    address: str
    port: int
    protocol: str
    program: str
    spot: Spot


def addresses(text: str, file: str) -> list[Held]:
    """The addresses of `ip address`. Those of links alone (fe80::) come too; loopback's do not. Raises SourceError."""
    if text.lstrip()[:1] == "[":
        return [
            Held(
                str(link.get("ifname", "")).partition("@")[0],
                f"{each['local']}/{each['prefixlen']}",
                bool(each.get("dynamic")),
                Spot(file, 1),
                "deprecated" if each.get("deprecated") else "temporary" if each.get("temporary") else None,
            )
            for link in _json(text, file)
            if isinstance(link, dict) and "LOOPBACK" not in link.get("flags", [])
            for each in link.get("addr_info", [])
            if isinstance(each, dict) and "local" in each and "prefixlen" in each
        ]
    found: list[Held] = []
    name, loopback = "", False
    for number, row in enumerate(text.splitlines(), 1):
        head = re.match(r"\d+:\s+([^\s:@]+)[^:]*:\s+<([^>]*)>", row)
        if head is not None:
            name, loopback = head[1], "LOOPBACK" in head[2].split(",")
            continue
        match = re.match(r"\s+inet6?\s+(\S+)(?:\s+peer\s+(\S+))?(.*)", row)
        if match is not None and not loopback:
            length = (match[2] or match[1]).rpartition("/")[2] if match[2] else ""
            address = match[1] if "/" in match[1] else f"{match[1]}/{length or (128 if ':' in match[1] else 32)}"
            age = next((each for each in ("deprecated", "temporary") if f" {each}" in match[3]), None)
            found.append(Held(name, address, " dynamic" in match[3], Spot(file, number), age))
    return found


def links(text: str, file: str) -> list[Link]:
    """The interfaces of `ip address`, loopback left aside. Raises SourceError."""
    if text.lstrip()[:1] == "[":
        return [
            Link(
                str(link.get("ifname", "")).partition("@")[0],
                "UP" in link.get("flags", []),
                int(link.get("mtu", USUAL_MTU)),
            )
            for link in _json(text, file)
            if isinstance(link, dict) and "LOOPBACK" not in link.get("flags", [])
        ]
    found = []
    for row in text.splitlines():
        head = re.match(r"\d+:\s+([^\s:@]+)[^:]*:\s+<([^>]*)>.* mtu (\d+)", row)
        if head is not None and "LOOPBACK" not in head[2].split(","):
            found.append(Link(head[1], "UP" in head[2].split(","), int(head[3])))
    return found


def routes(text: str, file: str) -> list[Way]:
    """The lines of `ip route`; what the kernel made of addresses by itself is left out. Raises SourceError."""
    if text.lstrip()[:1] == "[":
        return ways(_json(text, file), file)
    found: list[Way] = []
    for number, row in enumerate(text.splitlines(), 1):
        words = row.split()
        if not words or "proto kernel" in row:
            continue
        kind = _KINDS.get(words[0])
        rest = words[1:] if kind is not None else words
        if not rest or (words[0] in ("broadcast", "local", "anycast", "multicast", "unicast")):
            continue
        told = {key: rest[at + 1] for at, key in enumerate(rest[:-1]) if key in ("via", "dev", "metric", "src", "mtu")}
        if told.get("via") == "inet6":
            told["via"] = rest[rest.index("inet6") + 1]
        to = _range(rest[0], told.get("via"))
        mtu = told.get("mtu")
        found.append(
            Way(
                to,
                told.get("via"),
                told.get("dev"),
                kind,
                int(told.get("metric", 0)),
                Spot(file, number),
                told.get("src"),
                int(mtu) if mtu is not None and mtu.isdecimal() else None,
                "onlink" in rest,
            )
        )
    return found


def ways(told: Iterable[Any], file: str) -> list[Way]:
    """The same of its JSON, line by line."""
    found: list[Way] = []
    for each in told:
        if isinstance(each, dict) and each.get("protocol") != "kernel" and each.get("type", "unicast") in _KINDS:
            kind = _KINDS[each.get("type", "unicast")]
            to = _range(str(each.get("dst")), each.get("gateway"))
            beside, metrics = each.get("via"), each.get("metrics")
            via = each.get("gateway") or (beside.get("host") if isinstance(beside, dict) else None)
            held = metrics if isinstance(metrics, list) else ()
            mtu = next((one.get("mtu") for one in held if isinstance(one, dict)), None)
            found.append(
                Way(
                    to,
                    via,
                    each.get("dev"),
                    kind,
                    int(each.get("metric", 0)),
                    Spot(file, 1),
                    each.get("prefsrc"),
                    mtu if isinstance(mtu, int) else None,
                    "onlink" in each.get("flags", []),
                )
            )
    return found


_KINDS: dict[str, str | None] = {
    "unicast": None,
    "unreachable": "unreachable",
    "blackhole": "blackhole",
    "prohibit": "prohibit",
}


def _range(text: str, via: Any) -> str:
    if text == "default":
        return "::/0" if via is not None and ":" in str(via) else "0.0.0.0/0"
    try:
        return str(ip_network(text, strict=False))
    except ValueError:
        return text


def _json(text: str, file: str) -> list[Any]:
    try:
        held = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise SourceError(f"{file} is no JSON: {error}", "Save it anew.") from None
    return held if isinstance(held, list) else []


def sockets(text: str, file: str) -> list[Socket]:
    """The listening sockets of `ss -Hltunp`, or with its header line."""
    found: list[Socket] = []
    for number, row in enumerate(text.splitlines(), 1):
        words = row.split()
        if len(words) < 5 or words[0] not in ("tcp", "udp", "LISTEN", "UNCONN"):
            continue
        if words[0] in ("LISTEN", "UNCONN"):
            words = ["tcp" if words[0] == "LISTEN" else "udp", *words]
        if words[1] not in ("LISTEN", "UNCONN") or len(words) < 5:
            continue
        host, _, port = words[4].rpartition(":")
        host = host.strip("[]").partition("%")[0]
        program = re.search(r'\(\("([^"]+)"', row)
        if port.isdecimal():
            found.append(Socket(host or "*", int(port), words[0], program[1] if program else "", Spot(file, number)))
    return found


def is_link_local(address: str) -> bool:
    """Whether an address is of its link alone."""
    return ip_interface(address).ip.is_link_local
