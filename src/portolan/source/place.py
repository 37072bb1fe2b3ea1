"""Positions: a span is a spot in a file, a place is a value's spot in the estate.

A place keeps the parsed node and works out line and column only when asked, so that a large estate pays
nothing for positions until something is cited.
"""

from collections.abc import Iterable
from typing import Any, NamedTuple, Protocol


class Span(NamedTuple):
    """A spot in a file; line and column count from 1."""

    file: str
    line: int
    column: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}"

    @property
    def short(self) -> str:
        """`file:line`, for citing in running text."""
        return f"{self.file}:{self.line}"


class Node(Protocol):
    """A parsed node: its mark (name, and line and column from 0); a mapping's value is its (key, value) nodes."""

    @property
    def start_mark(self) -> Any:
        """Where the node starts."""

    @property
    def value(self) -> Any:
        """A scalar's text, a list's items, or a mapping's pairs."""


def span_of(node: Node) -> Span:
    """Where a node starts."""
    mark = node.start_mark
    return Span(mark.name, mark.line + 1, mark.column + 1)


class Place:
    """A value's spot in the estate document: the path of keys that leads to it, its node, and its name's node."""

    __slots__ = ("name", "node", "path")

    def __init__(self, path: tuple[str | int, ...], node: Node, name: Node | None = None) -> None:
        self.path = path
        self.node = node
        self.name = name

    @property
    def span(self) -> Span:
        """File, line and column where the value's name stands, else where the value starts."""
        return span_of(self.name or self.node)

    def key(self, name: str) -> "Place":
        """The place of one of this mapping's entries (its key's position), or this place if it has none such."""
        if isinstance(self.node.value, list):
            for pair in self.node.value:
                if isinstance(pair, tuple) and pair[0].value == name:
                    return Place((*self.path, name), pair[0])
        return self

    def item(self, name: str, index: int) -> "Place":
        """The place of an item of the list under a key; the key's place where a lone item stands for the list."""
        for pair in self.node.value if isinstance(self.node.value, list) else ():
            held = pair[1].value if isinstance(pair, tuple) and pair[0].value == name else None
            if isinstance(held, list) and index < len(held):
                return Place((*self.path, name, index), held[index])
        return self.key(name)

    def has(self, name: str) -> bool:
        """Whether the mapping at this place writes the key."""
        return isinstance(self.node.value, list) and any(
            isinstance(pair, tuple) and pair[0].value == name for pair in self.node.value
        )

    @property
    def keys(self) -> tuple[str, ...]:
        """The keys that the mapping at this place writes."""
        held = self.node.value
        return tuple(str(pair[0].value) for pair in held if isinstance(pair, tuple)) if isinstance(held, list) else ()

    @property
    def pointer(self) -> str:
        """The JSON Pointer (RFC 6901) of the value in the assembled estate document."""
        return pointer(self.path)

    @property
    def object(self) -> str:
        """The dotted path, for people: `hosts.orion.services.web`."""
        return ".".join(str(part) for part in self.path)

    def __repr__(self) -> str:
        return f"Place({self.object!r}, {self.span})"


class FixedMark(NamedTuple):
    """A mark that was made by hand, for values that stand in files other than YAML."""

    name: str
    line: int
    column: int


class FixedNode(NamedTuple):
    """A node that is only a position."""

    start_mark: FixedMark
    value: None = None


def place_in_file(path: tuple[str | int, ...], file: str, line: int, column: int = 1) -> Place:
    """A place in a file that is not the estate document itself, such as a zone's master file."""
    return Place(path, FixedNode(FixedMark(file, line - 1, column - 1)))


def steps_to(node: Node, path: Iterable[str]) -> list[tuple[str | int, Node | None, Node]]:
    """The steps that a path leads to from a node, as far as it does: each key or index, the node of its name, and what stands there."""
    found: list[tuple[str | int, Node | None, Node]] = []
    for part in path:
        held = node.value if isinstance(node.value, list) else []
        pair = next((each for each in held if isinstance(each, tuple) and each[0].value == part), None)
        if pair is not None:
            found.append((part, *pair))
        elif part.isdigit() and int(part) < len(held) and not isinstance(held[int(part)], tuple):
            found.append((int(part), None, held[int(part)]))
        else:
            break
        node = found[-1][2]
    return found


def pointer(path: Iterable[str | int]) -> str:
    """A path as a JSON Pointer (RFC 6901 section 3)."""
    return "".join("/" + str(part).replace("~", "~0").replace("/", "~1") for part in path)


def keys_of(text: str) -> tuple[str, ...]:
    """The path that a JSON Pointer writes (RFC 6901 section 4)."""
    return tuple(part.replace("~1", "/").replace("~0", "~") for part in text.split("/")[1:])
