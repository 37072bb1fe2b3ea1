"""The reference page of the estate's format, made from the types that the reader reads by."""

import types
import typing
from functools import reduce
from operator import or_
from typing import Any, Literal

import msgspec

from portolan.estate.base import Stated
from portolan.estate.estate import Estate
from portolan.estate.service import Listener
from portolan.formats.json_schema import default_shown, fields_of
from portolan.formats.reader import tagged
from portolan.formats.scalars import SCALARS, without_none

_WORDS = {
    "HostName": "host name",
    "ListenerKey": "listener",
    "AreaService": "service",
    "CoveredName": "name or address",
    "NamePattern": "name pattern",
    "SiteName": "name pattern",
    "EstatePath": "path in the estate",
    "WebAddress": "URL",
    "Url": "upstream",
    "Template": "target",
    "Pattern": "regular expression",
    "FolderPath": "path on the machine",
    "Rights": "mode, owner and group",
    "HeaderName": "header field",
    "Status": "status",
    "AnyStatus": "status",
    "PortRange": "port or range",
    "datetime": "time",
}

_HEAD = """# The estate: reference

This page is made from the types that the reader reads by (`python scripts/make_docs.py`); a test keeps it current.

An estate is a folder with an `estate.yaml` (or `estate.yml`, `estate.json`), or one file. It is YAML 1.2 or JSON.
Values are read as the field wants them, never guessed: `80:80`, `no`, `on` and `010` stay as written. Anchors,
aliases and tags are not read. An unknown key, a reference to nothing, a name used twice or an address outside its
network is an error at its line, and all errors of a load come at once.

- **A list may be written as its one item**: `address: 10.20.0.15` is `address: [10.20.0.15]`; with nothing behind
  its key it is empty.
- **Names refer to names**: a certificate, network or group is named by its key in its section.
- **A default** is what holds where the key is left out.
- Times are RFC 3339; a date alone is its midnight, UTC. Paths count from the estate's folder and stay inside it.
"""


def reference_page() -> str:
    """The page in Markdown."""
    seen: dict[type[Stated], None] = {}
    _collect(Estate, seen)
    parts = [_HEAD]
    for kind in seen:
        title = "The estate itself" if kind is Estate else _title(kind)
        parts.append(f"\n## {title}\n\n{_doc(kind)}")
        fields = fields_of(kind)
        if fields:
            parts.append("\n| key | value | meaning | default |\n|---|---|---|---|")
        for key, annotation, meta, default in fields:
            meaning = (meta.description if meta is not None else "") or _own_doc(annotation)
            example = f" Example: `{_shown(meta.examples[0])}`." if meta is not None and meta.examples else ""
            parts.append(f"| `{key}` | {_kind(annotation)} | {_cell(meaning + example)} | {_default(default)} |")
    return "\n".join(parts) + "\n"


def _collect(kind: type[Stated], seen: dict[type[Stated], None]) -> None:
    if kind in seen:
        return
    seen[kind] = None
    for _, annotation, _, _ in fields_of(kind):
        for inner in _structs(annotation):
            _collect(inner, seen)


def _structs(annotation: Any) -> list[type[Stated]]:
    if isinstance(annotation, type) and issubclass(annotation, Stated):
        return [] if annotation is Listener else [annotation]
    return [found for each in typing.get_args(annotation) for found in _structs(each)]


def _kind(annotation: Any) -> str:
    kind, _ = without_none(annotation)
    origin, args = typing.get_origin(kind), typing.get_args(kind)
    if kind in SCALARS:
        if isinstance(kind, types.UnionType):
            name = str(kind)
            return (
                "address"
                if "Address" in name
                else "address, with or without prefix length"
                if "Interface" in name
                else "range"
            )
        return _WORDS[kind.__name__]
    if origin is tuple:
        return f"list of {_kind(args[0])}"
    if origin is dict:
        if args[0] in SCALARS:
            return f"names, each with a {_kind(args[1])}"
        tags = tagged(args[1])
        return f"names, each with a {' or '.join(map(_link, tags.values())) if tags else _link(args[1])}"
    if origin is Literal:
        return " or ".join(f"`{each}`" for each in args)
    if origin in (typing.Union, types.UnionType):
        words = [each for each in args if typing.get_origin(each) is Literal]
        if not words and str not in args:
            return " or ".join(map(_kind, args))
        rest = reduce(or_, (each for each in args if each not in words))
        if any(isinstance(each, type) and issubclass(each, Stated) for each in args) and str in args:
            return " or ".join(_kind(each) for each in args)
        return "range or name" if str in args else " or ".join(_kind(each) for each in (rest, *words))
    if kind is Listener:
        return "listener"
    if isinstance(kind, type) and issubclass(kind, Stated):
        return _link(kind)
    return {str: "text", int: "number", bool: "`true` or `false`"}[kind]


def _link(kind: type[Stated]) -> str:
    title = _title(kind)
    return f"[{title.lower()}](#{title.lower().replace(' ', '-')})"


def _title(kind: type[Stated]) -> str:
    return "".join(f" {char.lower()}" if char.isupper() and at else char for at, char in enumerate(kind.__name__))


def _doc(kind: type[Stated]) -> str:
    return " ".join((kind.__doc__ or "").split())


def _own_doc(annotation: Any) -> str:
    inner = _structs(annotation)
    return _doc(inner[0]) if inner else ""


def _cell(text: str) -> str:
    return text.replace("|", "\\|")


def _shown(value: Any) -> str:
    return str(value).replace("'", "") if isinstance(value, list) else str(value)


def _default(default: Any) -> str:
    if default is msgspec.NODEFAULT:
        return "**required**"
    shown = default_shown(default)
    if shown is None or shown == []:
        return ""
    return f"`{str(shown).lower() if isinstance(shown, bool) else _shown(shown)}`"
