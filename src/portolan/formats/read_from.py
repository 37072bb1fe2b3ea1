"""Where an object of the estate was read from: places of real configuration, which answers then cite instead of the estate's.

`FILE:LINE` is the object's own; `; KEY LINE` and `; KEY FILE:LINE` are those of its keys. In a file's name everything that could
be taken for something else is written as `%` and two digits (RFC 3986 section 2.1).
"""

import re
from collections.abc import Iterator, Mapping
from urllib.parse import quote, unquote

from yaml.nodes import MappingNode, Node, SequenceNode

from portolan.source.place import FixedMark

KEY = "read_from"
PATTERN = r"^[^\s;:]+:[1-9][0-9]{0,8}(?:; [A-Za-z_]+ (?:[^\s;:]+:)?[1-9][0-9]{0,8})*$"
_WHOLE = re.compile(PATTERN)
EXPECTED = "where it was read from, such as 'etc/nginx/sites-enabled/visit:12; folder 14'"

_LONGEST = 100_000

#: A file and a line.
Spot = tuple[str, int]


def written(own: Spot, keys: Mapping[str, Spot]) -> str:
    """The text for an object's spot and those of its keys that stand on other lines."""
    parts = [f"{_name(own[0])}:{own[1]}"]
    for key, (file, line) in keys.items():
        if (file, line) != own:
            parts.append(f"{key} {line}" if file == own[0] else f"{key} {_name(file)}:{line}")
    return "; ".join(parts)


def _name(file: str) -> str:
    return quote(file, safe="/@+,=~-_.()[]{}!$&'*")


def fits(text: str) -> bool:
    """Whether a text is such."""
    return len(text) <= _LONGEST and _WHOLE.match(text) is not None


def spots(text: str) -> tuple[Spot, dict[str, Spot]]:
    """An object's spot and those of its keys. Raises ValueError."""
    if not fits(text):
        raise ValueError(text)
    first, *rest = text.split("; ")
    file, _, line = first.rpartition(":")
    own = (unquote(file), int(line))
    keys: dict[str, Spot] = {}
    for part in rest:
        key, _, where = part.partition(" ")
        other, _, number = where.rpartition(":")
        keys[key] = (unquote(other) if other else own[0], int(number))
    return own, keys


def cite(node: MappingNode, name: Node | None, text: str) -> None:
    """Gives an object's nodes the places that it was read from; objects within it have their own."""
    own, keys = spots(text)
    for key, value in node.value:
        spot = keys.get(key.value, own)
        for each in (key, *_plain(value)):
            each.start_mark = FixedMark(spot[0], spot[1] - 1, 0)
    for each in (node,) if name is None else (node, name):
        each.start_mark = FixedMark(own[0], own[1] - 1, 0)


def _plain(node: Node) -> Iterator[Node]:
    """A value with what it holds, but for objects."""
    if not isinstance(node, MappingNode):
        yield node
    if isinstance(node, SequenceNode):
        for each in node.value:
            yield from _plain(each)
