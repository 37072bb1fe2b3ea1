"""The injector's own list of single faults: every one at every fact of a document, made from the document alone.

A fault is a JSON Patch (RFC 6902) of one or two operations and the path of the fact that it changes. What the values mean is
guessed from their looks and keys; the types of the estate are not asked, so that a search that knows them is measured by
something else.
"""

import re
from collections.abc import Iterator
from typing import Any, NamedTuple

Path = tuple[str | int, ...]
Patch = list[dict[str, Any]]

#: Sections in which faults are made; what asks and what is expected stays as it is.
_SECTIONS = ("networks", "routers", "hosts", "groups", "zones", "edges", "stores", "certificates", "vantages")
#: History, identity and marks are no settings.
_LEFT = frozenset(("before", "marks", "title", "about", "kind", "written_in", "public"))
_ADDRESS = re.compile(r"^(\d{1,3}\.\d{1,3}\.\d{1,3}\.)(\d{1,3})(/\d+)?$")
_SIX = re.compile(r"^([0-9a-f:]+:)([0-9a-f]{1,4})(/\d+)?$")
_NAME = re.compile(r"^(?:\*\.)?[a-z0-9-]+(?:\.[a-z0-9-]+)+\.?$")
_FILE = re.compile(r"^[\w./*-]+$")
_PORT_KEYS = frozenset(("tcp", "udp", "port", "ports", "listens"))
_NAME_KEYS = frozenset(("names", "canonical", "apex_alias", "at", "delegated_to", "sends_all_to", "host"))
_FILE_KEYS = frozenset(("files", "folder", "objects", "grants", "in", "path", "fallback", "index_files", "index_file",
                        "index_files", "index_file", "error_document", "on", "exact", "prefix"))  # fmt: skip


class Fault(NamedTuple):
    """One fault: what it is called, the fact that it changes, and how; `booted`: it shows after a reboot."""

    kind: str
    path: Path
    patch: Patch
    booted: bool = False


def faults(document: dict[str, Any]) -> list[Fault]:
    """Every single fault of a document, always in the same order."""
    found: list[Fault] = []
    for section in _SECTIONS:
        for name, held in (document.get(section) or {}).items():
            if section == "vantages":
                held = {key: value for key, value in held.items() if key in ("hosts_file", "resolver")}
            elif section == "networks":
                held = {key: value for key, value in held.items() if key == "access_list"}
            found += _walk(document, (section, name), held)
    return list({(each.kind, each.path, str(each.patch)): each for each in found}.values())


def _pointer(path: Path) -> str:
    return "".join(f"/{str(step).replace('~', '~0').replace('/', '~1')}" for step in path)


def _set(path: Path, value: Any) -> Patch:
    return [{"op": "replace", "path": _pointer(path), "value": _typed(value)}]


def _put(path: Path, value: Any) -> Patch:
    return [{"op": "add", "path": _pointer(path), "value": _typed(value)}]


def _typed(value: Any) -> Any:
    """A value as JSON has it: numbers and switches are no texts."""
    if isinstance(value, list):
        return [_typed(each) for each in value]
    if isinstance(value, dict):
        return {key: _typed(each) for key, each in value.items()}
    return {"true": True, "false": False}.get(value, int(value) if str(value).isdecimal() else value)


def _walk(document: dict[str, Any], path: Path, held: Any) -> Iterator[Fault]:
    if isinstance(held, dict):
        yield from _object(document, path, held)
        for key, value in held.items():
            if key not in _LEFT:
                if not _whole(path, key, value):
                    yield Fault("deleted", (*path, key), [{"op": "remove", "path": _pointer((*path, key))}])
                yield from _walk(document, (*path, key), value)
    elif isinstance(held, list):
        for number, value in enumerate(held):
            here = (*path, number)
            yield Fault("deleted", here, [{"op": "remove", "path": _pointer(here)}])
            if number + 1 < len(held):
                swapped = [*held[:number], held[number + 1], value, *held[number + 2 :]]
                yield Fault("another order", here, _set(path, swapped))
            yield from _walk(document, here, value)
    else:
        yield from _scalar(document, path, str(held))


def _whole(path: Path, key: str, value: Any) -> bool:
    """Whether a key holds what nobody forgets: a whole service, site, interface or bucket, which somebody would have to write anew."""
    if len(path) == 2:
        return key in ("interfaces", "services", "buckets", "file")
    whole = ("services", "sites", "interfaces", "buckets")
    return key in whole or (isinstance(value, dict) and path[-1] in whole)


def _object(document: dict[str, Any], path: Path, held: dict[str, Any]) -> Iterator[Fault]:
    """Faults of an object: switched off, narrowed, on another interface, saved and not in force, not enabled, expired."""
    kind = path[-2] if isinstance(path[-1], int) else (path[-2] if len(path) > 1 else "")
    if kind == "forwards":
        yield Fault("disabled", path, _put((*path, "enabled"), "false"))
        yield Fault("narrowed", path, _put((*path, "from"), ["203.0.113.192/28"]))
        for other in document.get(str(path[0]), {}).get(path[1], {}).get("interfaces", {}):
            if "on" in held and other != held["on"]:
                yield Fault("another interface", (*path, "on"), _set((*path, "on"), other))
    if kind == "sites":
        yield Fault("disabled", path, _put((*path, "enabled"), "false"))
        yield Fault("not reloaded", path, _put((*path, "loaded"), "false"))
        yield Fault("closed by a slip", path, _put((*path, "access"), {"from": ["203.0.113.192/28"]}))
    if kind == "sections":
        yield Fault("closed by a slip", path, _put((*path, "access"), {"from": ["203.0.113.192/28"]}))
    if kind == "services":
        yield Fault("stopped", path, _put((*path, "state"), "stopped"))
        yield Fault("not enabled", path, _put((*path, "after_boot"), {"state": "stopped"}), booted=True)
        listens = held.get("listens")
        if isinstance(listens, list) and len(listens) > 1:
            yield Fault(
                "not reloaded",
                path,
                [*_set((*path, "listens"), listens[:-1]), *_put((*path, "saved"), {"listens": listens})],
            )
    if kind in ("rules", "inbound", "outbound") and "from" not in held and "allow" in held:
        yield Fault("narrowed", path, _put((*path, "from"), ["203.0.113.192/28"]))
    if kind == "rules" and "in" not in held and "allow" in held:
        for other in document.get(str(path[0]), {}).get(path[1], {}).get("interfaces", {}):
            yield Fault("another interface", path, _put((*path, "in"), other))
    if kind == "certificates" and path[0] == "certificates" and "names" in held:
        yield Fault("expired", path, _put((*path, "until"), "2026-03-01"))
        yield Fault("not yet", path, _put((*path, "from"), "2026-04-01"))
    if kind == "buckets":
        yield Fault("sealed", path, _put((*path, "sealed"), "true"))
    if path[0] == "edges" and len(path) == 2:
        yield Fault("not yet", path, _put((*path, "in_effect_from"), "2026-03-14T20:40:00Z"))
    if kind == "interfaces" and "address" in held:
        yield Fault("another mask", (*path, "address"), _set((*path, "address"), _masked(held["address"])))


def _masked(address: Any) -> Any:
    if isinstance(address, list):
        return [_masked(address[0]), *address[1:]]
    return f"{address}/30" if "/" not in str(address) and ":" not in str(address) else address


def _scalar(document: dict[str, Any], path: Path, text: str) -> Iterator[Fault]:
    key = next((str(each) for each in reversed(path) if not isinstance(each, int)), "")
    if key == "records":
        yield from _record(path, text)
        return
    if key == "lines":
        first, _, rest = text.partition(" ")
        yield from (Fault("one digit off", path, _set(path, f"{each} {rest}")) for each in _near_address(first))
        yield Fault("one letter off", path, _set(path, f"{first} {_typo(rest)}"))
        return
    for each in _near_address(text):
        yield Fault("one digit off", path, _set(path, each))
    for each in _other_addresses(document, path, text):
        yield Fault("another's address", path, _set(path, each))
    if key in _PORT_KEYS and (match := re.search(r"\d+", text.rpartition(":")[2])):
        head, tail = text[: len(text) - len(text.rpartition(":")[2])], text.rpartition(":")[2]
        near = str(int(match[0]) + 1) if len(match[0]) < 3 else match[0][:-2] + match[0][-1] + match[0][-2]
        if near != match[0]:
            yield Fault("one digit off", path, _set(path, head + tail.replace(match[0], near, 1)))
        if key == "listens" and ":" not in text:
            yield Fault("loopback only", path, _set(path, f"127.0.0.1:{text}"))
        if text.endswith(" tls"):
            yield Fault("without tls", path, _set(path, text.removesuffix(" tls")))
    if key in _NAME_KEYS and _NAME.match(text) and not _ADDRESS.match(text):
        yield Fault("one letter off", path, _set(path, _typo(text)))
        yield Fault("a level off", path, _set(path, text.partition(".")[2] if text.count(".") > 2 else f"www.{text}"))
    if (key in _FILE_KEYS or key == "rights") and _FILE.match(text) and not text[:1].isdigit():
        yield Fault("one letter off", path, _set(path, _typo(text)))
        head, _, tail = text.rstrip("/").rpartition("/")
        yield Fault("a level off", path, _set(path, head or f"site/{text}" if tail else text))
    if "://" in text:
        scheme, _, rest = text.partition("://")
        yield Fault("another scheme", path, _set(path, f"{'http' if scheme == 'https' else 'https'}://{rest}"))
        yield Fault("one letter off", path, _set(path, f"{scheme}://{_typo(rest)}"))
        for each in re.findall(r"\d+\.\d+\.\d+\.\d+", rest):
            yield from (
                Fault("one digit off", path, _set(path, text.replace(each, near))) for near in _near_address(each)
            )
        if match := re.search(r":(\d+)", rest):
            yield Fault("one digit off", path, _set(path, text.replace(match[0], f":{int(match[1]) + 1}")))
    if text in ("true", "false"):
        yield Fault("switched", path, _set(path, "false" if text == "true" else "true"))
    for one, others in (
        ("full", ["off"]),
        ("verified", ["encrypted"]),
        ("kept", ["own"]),
        ("to-secure", ["refuse"]),
        ("encrypted", ["plain"]),
    ):
        if text == one:
            yield from (Fault("another choice", path, _set(path, each)) for each in others)
    if key in ("certificate", "on", "to_edge", "groups", "issuer", "trusts", "network"):
        section = {"certificate": "certificates", "groups": "groups", "to_edge": "edges", "network": "networks"}.get(
            key
        )
        for other in document.get(section, {}) if section else ():
            if other != text:
                yield Fault("exchanged", path, _set(path, other))


def _record(path: Path, text: str) -> Iterator[Fault]:
    owner, _, rest = text.partition(" ")
    if " SOA " in text:
        return
    if owner != "@":
        yield Fault("one letter off", path, _set(path, f"{_typo(owner)} {rest}"))
    head, _, data = text.rpartition(" ")
    for each in _near_address(data):
        yield Fault("one digit off", path, _set(path, f"{head} {each}"))
    if " A " in text and not data.startswith("10."):
        yield Fault("private address", path, _set(path, f"{head} 10.20.0.15"))
    if data.endswith("."):
        yield Fault("without its final dot", path, _set(path, f"{head} {data[:-1]}"))
    if " CNAME " in text or " NS " in text:
        yield Fault("one letter off", path, _set(path, f"{head} {_typo(data)}"))


def _near_address(text: str) -> list[str]:
    if (match := _ADDRESS.match(text)) and text not in ("0.0.0.0/0", "0.0.0.0"):
        last, rest = int(match[2]), match[3] or ""
        if rest and rest != "/32":
            third = match[1].rstrip(".").rpartition(".")
            return [f"{third[0]}.{(int(third[2]) + 1) % 256}.{last}{rest}"]
        swapped = int(match[2][::-1]) if len(match[2]) > 1 and match[2][-1] != "0" else last
        near = [each for each in (last + 1, swapped) if each != last and each < 255]
        return [f"{match[1]}{each}{rest}" for each in near[:2]]
    if match := _SIX.match(text):
        return [f"{match[1]}{int(match[2], 16) + 1:x}{match[3] or ''}"]
    return []


def _other_addresses(document: dict[str, Any], path: Path, text: str) -> list[str]:
    """The addresses that machines of the same kind have, in the place of one that refers to a machine."""
    if not _ADDRESS.match(text) or "/" in text or path[-1] == "address" or "address" in path:
        return []
    held = []
    for machine in (*document.get("hosts", {}).values(), *document.get("routers", {}).values()):
        for interface in machine.get("interfaces", {}).values():
            address = interface.get("address")
            held += address if isinstance(address, list) else [address]
    return [each for each in dict.fromkeys(map(str, held)) if each != text and "." in each][:2]


def _typo(text: str) -> str:
    """The text with two neighbouring letters exchanged in its first word of three letters or more."""
    match = re.search(r"[a-z]{3,}", text)
    if match is None:
        return text + "x"
    at = match.start() + 1
    for number in range(at, match.end() - 1):
        if text[number] != text[number + 1]:
            return text[:number] + text[number + 1] + text[number] + text[number + 2 :]
    return text[:at] + text[at + 1 :]
