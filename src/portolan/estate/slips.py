"""How each type of fact goes wrong: what was probably meant where something else is written, and how far the two are apart.

One place for the search for causes and for whoever injects faults. A slip's cost grows with its distance: a letter or digit is
nearest, a value that the estate states elsewhere comes before one that nobody states. A new key has the slips of its type.
"""

import re
import types
import typing
from collections import Counter
from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta
from functools import cache, lru_cache
from ipaddress import ip_address, ip_network
from typing import Any, Literal

import msgspec

from portolan.estate.annotations import annotations_of, bare, secret_keys
from portolan.estate.base import (
    CoveredName,
    EstatePath,
    FolderPath,
    HostName,
    IPAddress,
    IPInterface,
    IPNetwork,
    NamePattern,
    PortRange,
    SiteName,
    Stated,
    Template,
    WebAddress,
    is_address,
)
from portolan.estate.service import Listener
from portolan.source.nearest import distance
from portolan.source.place import Node
from portolan.source.value import Value
from portolan.source.words import Words

_V4 = re.compile(r"(?<![\w.])(?:\d{1,3}\.){3}\d{1,3}(?![\w.])")
_V6 = re.compile(r"(?<![\w:.])[0-9a-fA-F]*:[0-9a-fA-F:]*:[0-9a-fA-F:.]*(?![\w:])")
_NAME = re.compile(r"(?<![\w./-])(?:\*\.)?[a-z0-9_](?:[a-z0-9_-]*\.)+[a-z][a-z0-9-]*(?![\w-])")
#: What a value costs that is so many letters away; further ones cost `_FAR`.
_BY_DISTANCE, _FAR = {1: 1.0, 2: 1.4, 3: 1.8}, 2.5
#: What one more mention elsewhere takes off, and how many count.
_MENTION, _MOST_MENTIONS = 0.06, 6
#: What stands here is named as files are, and no host.
_OF_FILES = frozenset(("files", "file", "index_files", "copy", "inventory", "page"))
#: So many ports are thought of, those that are asked first.
_MOST_PORTS = 48


class Slip(Value, frozen=True):
    """What may have been meant in place of a text, and what it costs to believe so."""

    meant: str
    cost: float


class Known(Value, frozen=True):
    """What an estate states anywhere, with how often: its addresses, names and words; and the ports that are asked or listened on.

    `with_ranges` are the addresses together with those that ranges begin with, which nobody has.
    """

    addresses: Words
    names: Words
    words: Words
    ports: tuple[str, ...]
    with_ranges: Words | None = None

    def said_like(self, text: str) -> Words:
        """The addresses that stand where one like a text may: a range beside ranges, an address beside addresses."""
        ranged = self.with_ranges if _begins_range(text) else None
        return self.addresses if ranged is None else ranged


def known(root: Node, asked: Iterable[str] = (), ports: Iterable[int] = (), beside: Iterable[str] = ()) -> Known:
    """What a document states and may be shown, and what is said `beside` it; and the names and ports that are asked for."""
    addresses, ranges, names, words = Words(), Words(), Words(asked), Words()
    for text in texts(root, secret_keys() | _OF_FILES):
        names.update(_NAME.findall(text))
    for text in texts(root, secret_keys()):
        held = ranges if _begins_range(text) else addresses
        for each in (*_V4.findall(text), *(_V6.findall(text) if ":" in text else ())):
            if is_address(each):
                held[each] += 1
        if "/" in text or "." in text or text.isalpha():
            words[text] += 1
    for text in beside:
        held = addresses if is_address(text) else names
        held[text] = held[text] or 1
    asked_ports = tuple(dict.fromkeys(map(str, ports)))[:_MOST_PORTS]
    return Known(addresses, names, words, asked_ports, Words(addresses + ranges))


@lru_cache(1024)
def _begins_range(text: str) -> bool:
    """Whether a text is a range of several addresses by its first one."""
    if "/" not in text:
        return False
    try:
        return ip_network(text).num_addresses > 1
    except ValueError:
        return False


def apart(one: str, other: str, about: Known) -> float:
    """How far two values are from each other, less what the rest of the estate says for the second."""
    left, right = (_V4.search(each) or _V6.search(each) for each in (one, other))
    if left is not None and right is not None:
        if left[0] == right[0]:
            return 1.2
        return _apart(left[0], right[0]) - _mentions(about.said_like(other), left[0], right[0])
    return _cost(one, other)


def texts(node: Node, but: frozenset[str] = frozenset()) -> Iterator[str]:
    """Every scalar below a node, in no order; nothing of what stands under some keys."""
    held = [node]
    while held:
        value = held.pop().value
        if isinstance(value, str):
            yield value
        for part in value if isinstance(value, list) else ():
            if not isinstance(part, tuple):
                held.append(part)
            elif part[0].value not in but:
                held += part


# -- what a field holds ------------------------------------------------------------------------------------------------


class Holds(Value, frozen=True):
    """A field's type without its wrapping: the scalar that it or its items are, whether it is a list, what it refers to."""

    scalar: Any
    many: bool
    refers: tuple[str, ...]
    kind: str


@cache
def fields_of(kind: type[Stated]) -> dict[str, tuple[str, Holds]]:
    """By key: the field of a type, and what it holds."""
    annotations = annotations_of(kind)
    pairs = zip(kind.__struct_encode_fields__, kind.__struct_fields__, strict=True)
    return {key: (field, _holds(annotations[field])) for key, field in pairs if field != "place"}


def _holds(annotation: Any) -> Holds:
    annotation, meta = bare(annotation)
    extra = (meta.extra or {}) if meta is not None else {}
    many = False
    parts = [part for part in _union(annotation) if part is not type(None)]
    if any(typing.get_origin(part) is tuple for part in parts):
        many = True
        parts = [
            inner
            for part in parts
            for inner in (_union(typing.get_args(part)[0]) if typing.get_origin(part) is tuple else (part,))
        ]
    return Holds(tuple(parts), many, tuple(extra.get("refers", ())), str(extra.get("kind", "word")))


@cache
def otherwise_said(kind: type[Stated]) -> dict[str, tuple[str, ...]]:
    """By key: the words of a closed choice that an object of a type could say, and that mean something else than saying nothing.

    The last first: choices are written from what does and asks least.
    """
    found: dict[str, tuple[str, ...]] = {}
    defaults = {each.encode_name: each.default for each in msgspec.structs.fields(kind)}
    for key, (_, holds) in fields_of(kind).items():
        if not holds.many and not holds.refers:
            words = [*_words_of(holds)[::-1], *(("true", "false") if bool in holds.scalar else ())]
            found[key] = tuple(word for word in words if word != str(defaults[key]).lower())
    return {key: words for key, words in found.items() if words}


def _words_of(holds: Holds) -> list[str]:
    """The words of a field that takes one of a few."""
    return [str(word) for part in holds.scalar if typing.get_origin(part) is Literal for word in typing.get_args(part)]


def _union(annotation: Any) -> tuple[Any, ...]:
    if typing.get_origin(annotation) in (typing.Union, types.UnionType):
        return tuple(inner for part in typing.get_args(annotation) for inner in _union(part))
    return (annotation,)


# -- slips by type -----------------------------------------------------------------------------------------------------

_ADDRESSES = frozenset((*typing.get_args(IPAddress), *typing.get_args(IPInterface), *typing.get_args(IPNetwork)))
_NAMES = frozenset((HostName, NamePattern, SiteName, CoveredName))
_PATHS = frozenset((FolderPath, EstatePath))
_TARGETS = frozenset((WebAddress, Template))
#: What stands in records and hosts files: an address, and a name.
ADDRESS, NAME = Holds(tuple(_ADDRESSES), False, (), "word"), Holds((NamePattern,), False, (), "word")


def slips(holds: Holds, text: str, about: Known, others: Iterable[str] = ()) -> list[Slip]:
    """What may have been meant by a text in a field, the nearest first; `others` are the names that a reference may have."""
    found: dict[str, float] = {}

    def add(each: Iterable[Slip]) -> None:
        for slip in each:
            if slip.meant != text and slip.cost < found.get(slip.meant, DEFAULT_COST):
                found[slip.meant] = slip.cost

    parts = set(holds.scalar)
    add(Slip(each, 1.6) for each in _words_of(holds))
    add(Slip(each, _cost(text, each)) for each in others)
    if bool in parts:
        add([Slip("false" if text == "true" else "true", 1.3)])
    if parts & _ADDRESSES:
        add(_address(text, about))
    if parts & _NAMES:
        add(_name(text, about))
    if Listener in parts:
        add(_listener(text, about))
    if PortRange in parts or (int in parts and text.isdigit()):
        add(Slip(each, _cost(text, each)) for each in about.ports)
    if parts & _TARGETS or "://" in text:
        add(_target(text, about))
    if parts & _PATHS or (str in parts and not holds.refers):
        # Folders and files are named whole: only what is matched may have a star.
        add(slip for slip in _path(text, about) if not (parts & _PATHS and slip.meant.endswith("*")))
    return [Slip(meant, cost) for meant, cost in sorted(found.items(), key=lambda each: each[1])]


def _cost(text: str, other: str) -> float:
    return _BY_DISTANCE.get(distance(text.lower(), other.lower(), 3), _FAR)


def _mentions(counted: Counter[str], text: str, other: str) -> float:
    """What it takes off that the rest of the estate says the one rather than the other."""
    more = counted[other] - max(0, counted[text] - 1)
    return _MENTION * max(-_MOST_MENTIONS, min(_MOST_MENTIONS, more))


def _address(text: str, about: Known) -> Iterator[Slip]:
    plain, slash, mask = text.partition("/")
    try:
        version = ip_address(plain).version
    except ValueError:
        return
    if slash and not text.endswith(("/32", "/128")):
        yield Slip(plain, 1.5)
    said = about.said_like(text)
    for other in said.near(plain, "." if version == 4 else ":"):
        if ip_address(other).version == version and other != plain:
            meant = other
            if slash:
                try:
                    net = ip_network(f"{other}/{mask}", strict=False)
                except ValueError:
                    continue
                meant = str(net) if plain == str(ip_network(text, strict=False).network_address) else f"{other}/{mask}"
            yield Slip(meant, _apart(plain, meant.partition("/")[0]) - _mentions(said, plain, other))


def _apart(one: str, other: str) -> float:
    """How far two addresses are from each other, by their groups."""
    sign = ":" if ":" in one else "."
    left, right = one.split(sign), other.split(sign)
    differing = [(a, b) for a, b in zip(left, right, strict=False) if a != b]
    if len(left) != len(right) or len(differing) > 1:
        return 1.0 if distance(one, other, 1) == 1 else _FAR
    a, b = differing[0] if differing else ("", "")
    return 1.0 if distance(a, b, 1) == 1 or _next(a, b, 16 if sign == ":" else 10) else 1.5


def _next(a: str, b: str, base: int) -> bool:
    try:
        return abs(int(a, base) - int(b, base)) == 1
    except ValueError:
        return False


def _name(text: str, about: Known) -> Iterator[Slip]:
    bare = text.rstrip(".")
    if bare != text:
        yield Slip(bare, 0.9)
    for other in about.names.near(bare, "."):
        if other == bare:
            continue
        cost = _cost(bare, other)
        if f"www.{other}" == bare or f"www.{bare}" == other:
            cost = 1.2
        elif other.endswith(f".{bare}") or bare.endswith(f".{other}"):
            cost = min(cost, 1.6)
        yield Slip(other, cost - _mentions(about.names, text, other))


def _listener(text: str, about: Known) -> Iterator[Slip]:
    words = text.split() or [""]
    where, _, port = words[0].rpartition(":")
    rest = words[1:]
    yield Slip(" ".join([words[0], *(rest[1:] if rest[:1] == ["tls"] else ["tls", *rest])]), 1.2)
    if where:
        yield Slip(" ".join([port, *rest]), 1.2 if where.startswith(("127.", "[::1")) else 1.6)
    for each in about.ports:
        if each != port:
            yield Slip(" ".join([f"{where}:{each}" if where else each, *rest]), _cost(port, each))
            tls = ["tls"] if each.endswith("443") else []
            yield Slip(" ".join([f"{where}:{each}" if where else each, *tls]), _cost(port, each) + 0.1)


_TARGET = re.compile(r"(https?|\{scheme\})://([^/:?#{]*|\{host\}|\[[^\]]*\])(:\d+)?(.*)", re.DOTALL)


def _target(text: str, about: Known) -> Iterator[Slip]:
    match = _TARGET.fullmatch(text)
    if match is None:
        if text.startswith("/"):
            yield from _path(text, about)
        return
    scheme, host, port, rest = match[1], match[2], match[3] or "", match[4]
    for other in ("http", "https"):
        if other != scheme:
            yield Slip(f"{other}://{host}{port}{rest}", 1.0)
    for slip in (*_name(host, about), *_address(host.strip("[]"), about)):
        yield Slip(f"{scheme}://{f'[{slip.meant}]' if ':' in slip.meant else slip.meant}{port}{rest}", slip.cost)
    for each in about.ports:
        if f":{each}" != port:
            yield Slip(f"{scheme}://{host}:{each}{rest}", _cost(port[1:], each) if port else 1.8)
    if port:
        yield Slip(f"{scheme}://{host}{rest}", 1.8)
    if rest in ("", "/"):
        # With a path, what was asked is put in its place; without one it is passed on as it is.
        yield Slip(f"{scheme}://{host}{port}{'' if rest else '/'}", 0.6)
    whole = rest
    for part in ("{path}", "{query}"):
        if part in whole:
            continue
        whole = f"{whole.rstrip('/')}{part}" if part == "{path}" else f"{whole}{part}"
        yield Slip(f"{scheme}://{host}{port}{whole}", 1.4)
    for slip in _path(rest, about) if rest.startswith("/") else ():
        yield Slip(f"{scheme}://{host}{port}{slip.meant}", slip.cost)


#: More than any slip costs.
DEFAULT_COST = 99.0


def slips_of_address(text: str, about: Known) -> list[tuple[str, float]]:
    """What address of a page may have been meant by one that was typed, with what it costs to believe so."""
    return [(slip.meant, slip.cost) for slip in _target(text, about) if "{" not in slip.meant]


def _path(text: str, about: Known) -> Iterator[Slip]:
    if text.endswith("/"):
        yield Slip(text.rstrip("/") or text, 1.6)
    elif "/" in text:
        yield Slip(f"{text}/", 1.6)
    if "/" in text:
        yield Slip(f"{text}*" if text.endswith("/") else f"{text}/*", 1.7)
    # A level too many, at either end.
    start = "/" if text.startswith("/") else ""
    levels = text.strip("/").split("/")
    if len(levels) > 1:
        yield from (Slip(start + "/".join(each), 1.7) for each in (levels[1:], levels[:-1]))
    for other in about.words.near(text, "/"):
        far = distance(text, other, 2)
        if other == f"/{text}":
            continue  # the same file, whoever asks for it
        if 0 < far <= 2 and len(text) > far + 1:
            yield Slip(other, _BY_DISTANCE[far] - _mentions(about.words, text, other))
        elif other.endswith(f"/{text}") or text.endswith(f"/{other}"):
            yield Slip(other, 1.5)
        elif (text and other.startswith(f"{text}/")) or text.startswith(f"{other}/"):
            yield Slip(other, 1.7)


# -- what is otherwise in truth: the same types, read backwards --------------------------------------------------------

#: What it costs to believe that something is a little otherwise than it is written, that it is not there, or off, or narrowed.
_A_LITTLE, GONE_COST, _SWITCHED, _ANOTHER = 1.0, 1.1, 1.2, 1.5
#: Addresses of nobody (RFC 5737), to which something may be narrowed by mistake.
_NOBODYS = "203.0.113.192/28"


def strays(holds: Holds, text: str) -> list[Slip]:
    """What may be there in truth in place of a text that is written, by its type alone: values that nobody states."""
    parts = set(holds.scalar)
    found: list[str] = []
    if parts & _ADDRESSES:
        found += _near_by(text)
    if Listener in parts:
        words = text.split() or [""]
        host, _, port = words[0].rpartition(":")
        found += [" ".join([f"{host}:{each}" if host else each, *words[1:]]) for each in _near_ports(port)]
        found += [f"127.0.0.1:{text}"] if not host else []
        found += [" ".join(words[:-1])] if words[-1] == "tls" else []
    if PortRange in parts or (int in parts and text.isdigit()):
        found += _near_ports(text)
    if parts & _TARGETS or "://" in text:
        found += _near_targets(text)
    elif parts & _NAMES or parts & _PATHS or (str in parts and not holds.refers):
        found += [typo(text)] if re.search(r"[a-z]", text) else []
        if parts & _NAMES:
            found += [text.partition(".")[2] if text.count(".") > 2 else f"www.{text}"]
        else:
            head, _, tail = text.rstrip("/").rpartition("/")
            found += [head or f"site/{text}" if tail else text]
    return [Slip(each, _A_LITTLE) for each in dict.fromkeys(found) if each and each != text]


def _near_by(text: str) -> list[str]:
    plain, slash, mask = text.partition("/")
    match = _V4.fullmatch(plain)
    if match is None:
        head, sign, last = plain.rpartition(":")
        return [f"{head}:{int(last or '0', 16) + 1:x}{slash}{mask}"] if sign and len(last) < 4 else []
    first, _, last = plain.rpartition(".")
    if slash and mask not in ("32", ""):
        head, _, third = first.rpartition(".")
        return [f"{head}.{(int(third) + 1) % 256}.{last}{slash}{mask}"]
    turned = int(last[::-1])
    near = [str(each) for each in (int(last) + 1, turned) if str(each) != last and each < 255]
    return [f"{first}.{each}{slash}{mask}" for each in near] + ([f"{plain}/30"] if not slash else [])


def _near_ports(text: str) -> list[str]:
    number = re.search(r"\d+", text)
    if number is None:
        return []
    near = int(number[0]) + 1
    return [text.replace(number[0], str(near if near < 65536 else near - 2), 1)]


def _near_targets(text: str) -> list[str]:
    match = _TARGET.fullmatch(text)
    if match is None:
        return [typo(text)]
    scheme, host, port, rest = match[1], match[2], match[3] or "", match[4]
    other = {"http": "https", "https": "http"}.get(scheme)
    near = _near_by(host)[:1] or ([typo(host)] if re.search(r"[a-z]{3}", host) and "{" not in host else [])
    return [
        *([f"{other}://{host}{port}{rest}"] if other else []),
        *(f"{scheme}://{each}{port}{rest}" for each in near),
        *(f"{scheme}://{host}:{each}{rest}" for each in _near_ports(port[1:])),
    ]


def typo(text: str) -> str:
    """A word with two neighbouring letters exchanged; a further letter where none can be."""
    match = re.search(r"[a-z]{3,}", text)
    for at in range(match.start() + 1, match.end() - 1) if match is not None else ():
        if text[at] != text[at + 1]:
            return text[:at] + text[at + 1] + text[at] + text[at + 2 :]
    return f"{text}x"


def otherwise(holds: Holds, default: object, now: datetime) -> list[tuple[object, float]]:
    """What a key that is not written may say in truth, by its type and its default: a switch the other way, another choice, a time that has passed or is to
    come, ranges that hold nobody.
    """
    parts = set(holds.scalar)
    if parts == {bool} and isinstance(default, bool):
        return [(not default, _SWITCHED)]
    found: list[tuple[object, float]] = []
    for part in parts:
        if typing.get_origin(part) is Literal:
            found += [(word, _ANOTHER) for word in typing.get_args(part) if word != default and isinstance(word, str)]
    if datetime in parts:
        found += [((now + timedelta(days=each)).strftime("%Y-%m-%dT%H:%M:%SZ"), _SWITCHED) for each in (-1, 1)]
    if holds.many and parts & set(typing.get_args(IPNetwork)):
        found += [([_NOBODYS], _SWITCHED)]
    return found
