"""JSON text (RFC 8259) to the same nodes as YAML, with positions: strings are scanned by the standard library.

YAML takes most of JSON and not all of it: surrogate pairs in escapes, U+007F, keys of more than 1,024 characters. What is
not JSON is told with its spot.
"""

import re
from bisect import bisect_right
from json import JSONDecodeError
from json.decoder import scanstring  # type: ignore[attr-defined]
from typing import Any, NamedTuple, NoReturn

from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from portolan.source.place import Span
from portolan.source.plain import one_line
from portolan.source.problem import EstateError, Problem

_SPACE = re.compile(r"[ \t\n\r]*")
_WORD = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?|true|false|null")
_PLAIN = "plain"


class _Text(NamedTuple):
    """A text, its name, and where its lines start."""

    name: str
    text: str
    starts: list[int]


class JsonMark:
    """A spot of a JSON text; line and column, from 0, are worked out when somebody asks."""

    __slots__ = ("_at", "_held")

    def __init__(self, held: _Text, at: int) -> None:
        self._held = held
        self._at = at

    @property
    def name(self) -> str:
        """The text's name."""
        return self._held.name

    @property
    def line(self) -> int:
        """The line, from 0."""
        return bisect_right(self._held.starts, self._at) - 1

    @property
    def column(self) -> int:
        """The column, from 0."""
        return self._at - self._held.starts[self.line]


def json_nodes(name: str, text: str, most_depth: int) -> Node:
    """The root node of a JSON text. Raises EstateError with the first problem's spot."""
    held = _Text(name, text, [0, *(match.end() for match in re.finditer("\n", text))])

    def refuse(at: int, message: str, hint: str = "Check the brackets, the commas and the quotes.") -> NoReturn:
        mark = JsonMark(held, min(at, len(text)))
        raise EstateError([Problem(Span(name, mark.line + 1, mark.column + 1), message, hint=hint)])

    def skip(at: int) -> int:
        match = _SPACE.match(text, at)
        assert match is not None
        return match.end()

    def value(at: int, depth: int) -> tuple[Node, int]:
        char = text[at : at + 1]
        mark: Any = JsonMark(held, at)
        if depth > most_depth:
            refuse(at, f"nested deeper than {most_depth} levels", "No estate needs that; check the brackets.")
        if char == '"':
            content, end = string(at)
            return ScalarNode(_PLAIN, content, mark, mark, style='"'), end
        if char == "{":
            return members(at, mark, depth)
        if char == "[":
            items: list[Node] = []
            at = skip(at + 1)
            while text[at : at + 1] != "]":
                item, at = value(at, depth + 1)
                items.append(item)
                at = following(at, "]")
            return SequenceNode(_PLAIN, items, mark, mark), at + 1
        match = _WORD.match(text, at)
        if match is None:
            found = one_line(text[at : at + 20].split("\n")[0], 40)
            refuse(at, f"not JSON: expected a value, found '{found}'" if found else "not JSON: it ends too early")
        return ScalarNode(_PLAIN, match.group(), mark, mark), match.end()

    def string(at: int) -> tuple[str, int]:
        try:
            content, end = scanstring(text, at + 1, True)
        except JSONDecodeError as error:
            refuse(error.pos, f"not JSON: {error.msg.lower()}")
        if any("\ud800" <= char <= "\udfff" for char in content):
            refuse(at, "a text holds half of a surrogate pair", "Write both halves, or the character itself.")
        return content, end

    def members(at: int, mark: Any, depth: int) -> tuple[Node, int]:
        pairs: list[tuple[Node, Node]] = []
        at = skip(at + 1)
        while text[at : at + 1] != "}":
            if text[at : at + 1] != '"':
                refuse(at, "not JSON: expected a key in double quotes")
            own: Any = JsonMark(held, at)
            key, at = string(at)
            at = skip(at)
            if text[at : at + 1] != ":":
                refuse(at, "not JSON: expected ':' behind a key")
            item, at = value(skip(at + 1), depth + 1)
            pairs.append((ScalarNode(_PLAIN, key, own, own, style='"'), item))
            at = following(at, "}")
        return MappingNode(_PLAIN, pairs, mark, mark), at + 1

    def following(at: int, closing: str) -> int:
        """Behind a comma, or at the closing bracket."""
        at = skip(at)
        if text[at : at + 1] == ",":
            at = skip(at + 1)
            if text[at : at + 1] == closing:
                refuse(at, f"not JSON: a comma stands before '{closing}'")
        elif text[at : at + 1] != closing:
            refuse(at, f"not JSON: expected ',' or '{closing}'" if at < len(text) else "not JSON: it ends too early")
        return at

    root, end = value(skip(0), 0)
    end = skip(end)
    if end < len(text):
        refuse(end, "something stands behind the end of the JSON text", "Keep one of the two.")
    return root
