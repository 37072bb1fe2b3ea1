"""The JSON Schema (2020-12) of the estate's format, made from the types that the reader reads by."""

import types
import typing
from functools import reduce
from operator import or_
from typing import Any, Literal

import msgspec

from portolan.estate.annotations import annotations_of, bare
from portolan.estate.base import IPNetwork, PortRange, Stated
from portolan.estate.changing import VERSIONS
from portolan.estate.estate import Estate
from portolan.estate.service import Listener
from portolan.formats import patterns, read_from
from portolan.formats.listener_text import WRITTEN
from portolan.formats.reader import plan_of, tagged, version_kind
from portolan.formats.scalars import SCALARS, without_none
from portolan.formats.shapes import NEVER_EMPTY, SHAPES
from portolan.source.plain import UNSEEN

_TEXT: dict[str, Any] = {"type": ["string", "integer", "number", "boolean"]}
_SEEN: dict[str, dict[str, Any]] = {
    "word": {**_TEXT, "not": {"pattern": UNSEEN, "type": "string"}},
    "secret": {**_TEXT, "not": {"pattern": UNSEEN, "type": "string"}},
    "line": {**_TEXT, "not": {"pattern": patterns.UNSEEN_BUT_TABS, "type": "string"}},
    "prose": _TEXT,
}
#: Names of things: words in which everything can be seen.
_NAMES = {"not": {"pattern": f"{UNSEEN}|^$"}}


def estate_schema() -> dict[str, Any]:
    """The schema of an estate's main file."""
    definitions: dict[str, Any] = {}
    _struct(Estate, definitions)
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A Portolan estate",
        "$ref": "#/$defs/Estate",
        "$defs": dict(sorted(definitions.items())),
    }


def fields_of(kind: type[Stated]) -> list[tuple[str, Any, msgspec.Meta | None, Any]]:
    """A type's written fields: key, annotation without Annotated, meaning, default (msgspec.NODEFAULT without one)."""
    annotations = annotations_of(kind)
    names = kind.__struct_fields__
    defaults = dict(zip(reversed(names), reversed(kind.__struct_defaults__), strict=False))
    found = []
    for key, (field, _) in plan_of(kind).fields.items():
        annotation, meta = bare(annotations[field])
        found.append((key, annotation, meta, defaults.get(field, msgspec.NODEFAULT)))
    return found


def default_shown(default: Any) -> Any:
    """A default as it would be written; None where leaving the key out has a meaning of its own."""
    if default is msgspec.NODEFAULT or type(default).__name__ == "Factory":
        return None
    if isinstance(default, PortRange):
        return str(default)
    return list(default) if isinstance(default, tuple) else default


def _struct(kind: type[Stated], definitions: dict[str, Any]) -> dict[str, Any]:
    name = kind.__name__
    if name not in definitions:
        definitions[name] = {}
        properties: dict[str, Any] = {}
        for key, annotation, meta, default in fields_of(kind):
            words = (meta.extra or {}).get("kind", "word") if meta is not None else "word"
            sets = (meta.extra or {}).get("sets") if meta is not None else None
            schema = (
                _members(annotation, sets)
                if sets is not None
                else _versions(kind, annotation, definitions) or _schema(annotation, definitions, words)
            )
            extra: dict[str, Any] = {}
            if meta is not None and meta.description:
                extra["description"] = meta.description
            shown = default_shown(default)
            if shown is not None:
                extra["default"] = shown
            if meta is not None and meta.examples:
                extra["examples"] = list(meta.examples)
            properties[key] = {**schema, **extra}
        properties[read_from.KEY] = {"type": "string", "pattern": read_from.PATTERN}
        definitions[name] = {
            "type": "object",
            "description": (kind.__doc__ or "").strip().split("\n\n")[0].replace("\n    ", " "),
            "properties": properties,
            "required": list(plan_of(kind).required),
            "additionalProperties": False,
            **({"allOf": SHAPES[name]} if name in SHAPES else {}),
        }
    return {"$ref": f"#/$defs/{name}"}


def _versions(owner: type[Stated], annotation: Any, definitions: dict[str, Any]) -> dict[str, Any] | None:
    """The shape of an owner's other versions: any of its keys, and their own; None for every other field."""
    version = version_kind(annotation)
    if version is None:
        return None
    part, many = version
    name = f"{part.__name__}{owner.__name__}"
    if name not in definitions:
        definitions[name] = {}
        own = _struct(part, definitions)["$ref"].rpartition("/")[2]
        _struct(owner, definitions)
        held = definitions[own]
        # The owner's keys by reference: it may be in the making.
        theirs = {
            key: {"$ref": f"#/$defs/{owner.__name__}/properties/{key}"}
            for key in plan_of(owner).fields
            if key not in VERSIONS
        }
        definitions[name] = {
            "type": "object",
            "description": held["description"],
            "properties": {**held["properties"], **theirs},
            "required": held["required"],
            "additionalProperties": False,
        }
    shape = {"$ref": f"#/$defs/{name}"}
    return {"anyOf": [{"type": "array", "items": shape}, shape, {"type": "null"}]} if many else shape


def _members(annotation: Any, sets: str) -> dict[str, Any]:
    """Ranges of addresses or ports, or the names of sets of them."""
    kind = typing.get_args(annotation)[0]
    forms = [dict(SCALARS[kind][1])]
    if kind is not PortRange:
        forms.append({"type": "string", "pattern": patterns.ADDRESS_RANGE})
    if sets != "-":
        forms.append({"type": "string", "pattern": patterns.SET_NAME})
    item = {"anyOf": forms}
    return {"anyOf": [{"type": "array", "items": item}, item, {"type": "null"}]}


def _needs_keys(kind: Any) -> bool:
    """Whether an object of a type cannot be left empty."""
    return bool(plan_of(kind).required) or kind.__name__ in NEVER_EMPTY


def _schema(annotation: Any, definitions: dict[str, Any], words: str = "word") -> dict[str, Any]:
    kind, _ = without_none(annotation)
    origin, args = typing.get_origin(kind), typing.get_args(kind)
    if kind in SCALARS:
        return dict(SCALARS[kind][1])
    if origin is tuple:
        item = _schema(args[0], definitions, words)
        return {"anyOf": [{"type": "array", "items": item}, item, {"type": "null"}]}
    if origin is dict and args[0] in SCALARS:
        names = {"propertyNames": dict(SCALARS[args[0]][1])}
        return {"type": ["object", "null"], **names, "additionalProperties": _schema(args[1], definitions)}
    tags = tagged(args[1]) if origin is dict else None
    if tags is not None:
        # The first kind is meant where none is written; a mapping without keys is of that kind.
        usual = next(iter(tags))
        each: dict[str, Any] = _schema(tags[usual], definitions)
        for tag, of in reversed(list(tags.items())[1:]):
            said = {"required": ["kind"], "properties": {"kind": {"const": tag}}}
            each = {"if": said, "then": _schema(of, definitions), "else": each}
        return {
            "type": ["object", "null"],
            "propertyNames": _NAMES,
            "additionalProperties": {"anyOf": [{"type": "null"}, each]},
        }
    if origin is dict:
        return {
            "type": ["object", "null"],
            "propertyNames": _NAMES,
            "additionalProperties": _schema(args[1], definitions)
            if _needs_keys(args[1])
            else {"anyOf": [_schema(args[1], definitions), {"type": "null"}]},
        }
    if origin is Literal:
        return {"enum": list(args)}
    if origin in (typing.Union, types.UnionType):
        keyed = [each for each in args if isinstance(each, type) and issubclass(each, Stated)]
        if str in args and keyed:
            return {"anyOf": [dict(_SEEN["word"]), *(_schema(each, definitions) for each in keyed)]}
        if str in args:
            named = {"pattern": "^[^:/]*$", "not": {"pattern": f"^[0-9]|^$|{UNSEEN}"}}
            return {"anyOf": [dict(SCALARS[IPNetwork][1]), {"type": "string", **named}, {"type": "boolean"}]}
        literals = [each for each in args if typing.get_origin(each) is Literal]
        if not literals:
            return {"anyOf": [_schema(each, definitions) for each in args]}
        rest = reduce(or_, (each for each in args if each not in literals))
        return {"anyOf": [_schema(each, definitions) for each in (rest, *literals)]}
    if kind is Listener:
        return dict(WRITTEN)
    if isinstance(kind, type) and issubclass(kind, Stated):
        return _struct(kind, definitions)
    return {str: dict(_SEEN[words]), int: {"type": "integer"}, bool: {"type": "boolean"}}[kind]
