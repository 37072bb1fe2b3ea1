"""JSON text (RFC 8259) to the same nodes as YAML, with positions: strings are scanned by the standard library.

YAML takes most of JSON and not all of it: surrogate pairs in escapes, U+007F, keys of more than 1,024 characters. What is
not JSON is told with its spot.
"""

import re
from bisect import bisect_right
from json import JSONDecodeError
from json.decoder import scanstring  # type: ignore[attr-defined]
from typing import Any, NoReturn

from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from portolan.source.place import Span
from portolan.source.plain import one_line
from portolan.source.problem import EstateError, Problem
from portolan.source.value import Value

_SPACE = re.compile(r"[ \t\n\r]*")
_WORD = re.compile(r"-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?(?:[eE][-+]?[0-9]+)?|true|false|null")
_PLAIN = "plain"


class _Text(Value, frozen=True):
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
    return _Parser(name, text, most_depth).root()


class _Parser:
    """Reads one text; `at` is always an index into it."""

    def __init__(self, name: str, text: str, most_depth: int) -> None:
        self._name = name
        self._text = text
        self._most_depth = most_depth
        self._held = _Text(name, text, [0, *(match.end() for match in re.finditer("\n", text))])

    def root(self) -> Node:
        """The whole text's node."""
        root, end = self._value(self._skip(0), 0)
        end = self._skip(end)
        if end < len(self._text):
            self._refuse(end, "something stands behind the end of the JSON text", "Keep one of the two.")
        return root

    def _refuse(self, at: int, message: str, hint: str = "Check the brackets, the commas and the quotes.") -> NoReturn:
        mark = JsonMark(self._held, min(at, len(self._text)))
        raise EstateError([Problem(Span(self._name, mark.line + 1, mark.column + 1), message, hint=hint)])

    def _skip(self, at: int) -> int:
        match = _SPACE.match(self._text, at)
        assert match is not None
        return match.end()

    def _value(self, at: int, depth: int) -> tuple[Node, int]:
        text = self._text
        char = text[at : at + 1]
        mark: Any = JsonMark(self._held, at)
        if depth > self._most_depth:
            hint = "No estate needs that; check the brackets."
            self._refuse(at, f"nested deeper than {self._most_depth} levels", hint)
        if char == '"':
            content, end = self._string(at)
            return ScalarNode(_PLAIN, content, mark, mark, style='"'), end
        if char == "{":
            return self._members(at, mark, depth)
        if char == "[":
            return self._items(at, mark, depth)
        match = _WORD.match(text, at)
        if match is None:
            found = one_line(text[at : at + 20].split("\n")[0], 40)
            self._refuse(at, f"not JSON: expected a value, found '{found}'" if found else "not JSON: it ends too early")
        return ScalarNode(_PLAIN, match.group(), mark, mark), match.end()

    def _string(self, at: int) -> tuple[str, int]:
        try:
            content, end = scanstring(self._text, at + 1, True)
        except JSONDecodeError as error:
            self._refuse(error.pos, f"not JSON: {error.msg.lower()}")
        if any("\ud800" <= char <= "\udfff" for char in content):
            hint = "Write both halves, or the character itself."
            self._refuse(at, "a text holds half of a surrogate pair", hint)
        return content, end

    def _items(self, at: int, mark: Any, depth: int) -> tuple[Node, int]:
        items: list[Node] = []
        at = self._skip(at + 1)
        while self._text[at : at + 1] != "]":
            item, at = self._value(at, depth + 1)
            items.append(item)
            at = self._following(at, "]")
        return SequenceNode(_PLAIN, items, mark, mark), at + 1

    def _members(self, at: int, mark: Any, depth: int) -> tuple[Node, int]:
        text = self._text
        pairs: list[tuple[Node, Node]] = []
        at = self._skip(at + 1)
        while text[at : at + 1] != "}":
            if text[at : at + 1] != '"':
                self._refuse(at, "not JSON: expected a key in double quotes")
            own: Any = JsonMark(self._held, at)
            key, at = self._string(at)
            at = self._skip(at)
            if text[at : at + 1] != ":":
                self._refuse(at, "not JSON: expected ':' behind a key")
            item, at = self._value(self._skip(at + 1), depth + 1)
            pairs.append((ScalarNode(_PLAIN, key, own, own, style='"'), item))
            at = self._following(at, "}")
        return MappingNode(_PLAIN, pairs, mark, mark), at + 1

    def _following(self, at: int, closing: str) -> int:
        """Behind a comma, or at the closing bracket."""
        text = self._text
        at = self._skip(at)
        if text[at : at + 1] == ",":
            at = self._skip(at + 1)
            if text[at : at + 1] == closing:
                self._refuse(at, f"not JSON: a comma stands before '{closing}'")
        elif text[at : at + 1] != closing:
            early = at >= len(text)
            self._refuse(at, "not JSON: it ends too early" if early else f"not JSON: expected ',' or '{closing}'")
        return at
