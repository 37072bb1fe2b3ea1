"""What the types' annotations say, read once for all: for the loader, the schema, the slips, and what is never shown."""

import typing
from collections.abc import Iterator
from functools import cache
from typing import Any

import msgspec

from portolan.estate.base import Stated


def annotations_of(kind: type[Stated]) -> dict[str, Any]:
    """A type's annotations with those that it inherits."""
    found: dict[str, Any] = {}
    for base in reversed(kind.__mro__):
        if issubclass(base, Stated):
            found.update(base.__annotations__)
    return found


def bare(annotation: Any) -> tuple[Any, msgspec.Meta | None]:
    """An annotation without Annotated, and its Meta."""
    if typing.get_origin(annotation) is typing.Annotated:
        meta = next((part for part in annotation.__metadata__ if isinstance(part, msgspec.Meta)), None)
        return annotation.__origin__, meta
    return annotation, None


def is_secret(meta: msgspec.Meta | None) -> bool:
    """Whether what a field holds is never shown."""
    return meta is not None and (meta.extra or {}).get("kind") == "secret"


@cache
def secret_fields(kind: type[Stated]) -> tuple[str, ...]:
    """The fields of a type whose values are never shown."""
    return tuple(field for field, annotation in annotations_of(kind).items() if is_secret(bare(annotation)[1]))


@cache
def secret_keys() -> frozenset[str]:
    """The keys, of all types that are loaded, whose values are never shown."""

    def below(kind: type[Stated]) -> Iterator[type[Stated]]:
        yield kind
        for each in kind.__subclasses__():
            yield from below(each)

    return frozenset(
        kind.__struct_encode_fields__[kind.__struct_fields__.index(field)]
        for kind in below(Stated)
        for field in secret_fields(kind)
    )
