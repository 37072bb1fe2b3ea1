"""A change written into an estate's own files: only what it changes is touched, comments and layout stay.

Every node knows where it stands, so an operation of a JSON Patch (RFC 6902) is a small edit of a text. After each one the
text is parsed anew. What comes out is held against the change applied to the document (`written_into`), so that a file is never
written that says something else.
"""

import json
import re
from collections.abc import Mapping
from typing import Any

from yaml.nodes import CollectionNode, MappingNode, Node, ScalarNode, SequenceNode

from portolan.formats.change import Operation, patch_operations
from portolan.formats.yaml_nodes import composed, plain_data
from portolan.source.place import pointer
from portolan.source.value import Value

Texts = dict[str, str]


class CannotWriteError(ValueError):
    """A change that cannot be written into the files; says why, in words for the user."""


def rewritten(texts: Mapping[str, str], patch: list[dict[str, Any]]) -> Texts:
    """The texts of an estate's files, the main one first, with a JSON Patch in them. Raises CannotWriteError."""
    files = dict(texts)
    for step in patch_operations(patch):
        _carry_out(files, step)
    # Lines end as they did before.
    return {name: _LONE.sub("\r\n", text) if "\r\n" in texts[name] else text for name, text in files.items()}


_LONE = re.compile(r"(?<!\r)\n")


def _carry_out(files: Texts, step: Operation) -> None:
    if step.op == "test":
        return
    if step.op in ("move", "copy"):
        assert step.source is not None
        if step.op == "move" and step.source[:-1] == step.path[:-1] and _moved_in_list(files, step.source, step.path):
            return
        found = _found(files, step.source)
        if found.node is None:
            raise CannotWriteError(f"nothing stands at {pointer(step.source)}")
        value = _flow_of(found.text, found.node)
        if step.op == "move":
            _remove(files, step.source)
        _add(files, step.path, value, False)
    elif step.op == "remove":
        _remove(files, step.path)
    else:
        assert step.value is not None
        found = _found(files, step.path[:-1])
        data = plain_data(step.value)
        _add(files, step.path, flow(data, _is_json(found.text)), step.op == "replace")


# -- where things stand ------------------------------------------------------------------------------------------------


class _Spot(Value, frozen=True):
    """A node of a file: the file, its text, the node and its parent, with its key's node or its index there."""

    file: str
    text: str
    node: Node | None
    parent: Node | None = None
    key: Node | None = None
    index: int = -1
    depth: int = 0


def _found(files: Texts, path: tuple[str, ...]) -> _Spot:
    """Where a path leads, in the file in which it leads furthest; `node` is None where it leads nowhere."""
    best: _Spot | None = None
    for file, text in files.items():
        spot = _walked(file, text, path)
        if (
            best is None
            or spot.depth > best.depth
            or (spot.depth == best.depth and spot.depth > 0 and spot.node is None)
        ):
            best = spot
    if best is None:
        raise CannotWriteError("the estate has no file of its own")
    return best


def _walked(file: str, text: str, path: tuple[str, ...]) -> _Spot:
    at = _Spot(file, text, composed(file, text))
    for number, part in enumerate(path):
        node = at.node
        if isinstance(node, MappingNode):
            key, inner = next((each for each in node.value if each[0].value == part), (None, None))
            at = _Spot(file, text, inner, node, key, -1, number + (key is not None))
        elif isinstance(node, SequenceNode) and part.isdigit() and int(part) < len(node.value):
            at = _Spot(file, text, node.value[int(part)], node, None, int(part), number + 1)
        else:
            at = _Spot(file, text, None, node, None, -1, number)
        if at.node is None:
            break
    return at


def _is_json(text: str) -> bool:
    return text.lstrip()[:1] in ("{", "[")


def _end(node: Node, key: Node | None = None) -> int:
    """Where a node's own text ends: a block's at that of its last part, and not at what comes next."""
    if isinstance(node, ScalarNode):
        end: int = node.end_mark.index
        if node.value == "" and not node.style and key is not None:
            return max(int(key.end_mark.index) + 1, 0)
        return end
    if not isinstance(node, CollectionNode) or node.flow_style or not node.value:
        return int(node.end_mark.index)
    last = node.value[-1]
    return _end(last[1], last[0]) if isinstance(last, tuple) else _end(last)


def _line_start(text: str, at: int) -> int:
    return text.rfind("\n", 0, at) + 1


def _line_end(text: str, at: int) -> int:
    """Behind the line break of the line that a position is on; a block scalar ends behind its own."""
    if at > 0 and text[at - 1] == "\n":
        return at
    end = text.find("\n", at)
    return len(text) if end < 0 else end + 1


def _dash(text: str, item: Node) -> int:
    """Where the dash of a block list's item stands; it is the first on its line."""
    start = int(item.start_mark.index)
    # An empty item stands at its dash; every other behind it.
    empty = isinstance(item, ScalarNode) and item.value == "" and text.startswith("-", start)
    at = start if empty else text.rfind("-", 0, start)
    if at < 0 or text[_line_start(text, at) : at].strip(" "):
        raise CannotWriteError(f"the item in line {item.start_mark.line + 1} does not stand on a line of its own")
    return at


# -- edits -------------------------------------------------------------------------------------------------------------


def _put(files: Texts, spot: _Spot, start: int, end: int, text: str) -> None:
    files[spot.file] = spot.text[:start] + text + spot.text[end:]


def _add(files: Texts, path: tuple[str, ...], value: str, replaces: bool) -> None:
    parent, last = _found(files, path[:-1]), path[-1]
    node = parent.node
    if node is None:
        raise CannotWriteError(f"nothing stands at {pointer(path[:-1])}, where {last} is to be written")
    spot = _found(files, path)
    if isinstance(node, SequenceNode):
        if replaces:
            _exchange(files, spot, value)
        else:
            _insert_item(files, parent, len(node.value) if last == "-" else int(last), value)
    elif isinstance(node, MappingNode) and spot.node is not None:
        _exchange(files, spot, value)
    elif isinstance(node, MappingNode):
        _insert_pair(files, parent, last, value)
    elif isinstance(node, ScalarNode) and node.value == "" and not node.style and last == "-":
        _exchange(files, parent, f"[{value}]")
    else:
        raise CannotWriteError(f"{pointer(path[:-1])} holds no keys and no list")


def _exchange(files: Texts, spot: _Spot, value: str) -> None:
    """Writes another value in the place of one."""
    node, text = spot.node, spot.text
    assert node is not None
    start, end = int(node.start_mark.index), _end(node, spot.key)
    block = isinstance(node, CollectionNode) and not node.flow_style and bool(node.value)
    if spot.key is not None and (block or (isinstance(node, ScalarNode) and node.value == "" and not node.style)):
        colon = _colon(text, spot.key)
        if not block:
            _put(files, spot, colon, colon, f" {value}")
            return
        # The rest of the key's line, such as a comment, stays; the lines of the block go.
        line = _line_end(text, colon)
        tail = text[_line_end(text, end) :] if end > line else text[line:]
        rest = text[colon:line] if start >= line else "\n"
        files[spot.file] = f"{text[:colon]} {value}{rest}{tail}"
        return
    if isinstance(node, ScalarNode) and node.style in ("|", ">") and text[end - 1 : end] == "\n":
        end -= 1
    _put(files, spot, start, end, value)


def _colon(text: str, key: Node) -> int:
    """Behind the colon of a key."""
    return text.index(":", int(key.end_mark.index)) + 1


def _insert_pair(files: Texts, spot: _Spot, key: str, value: str) -> None:
    node, text = spot.node, spot.text
    assert isinstance(node, MappingNode)
    json_like = _is_json(text)
    said = f"{flow(key, json_like)}: {value}"
    if not node.value:
        _exchange(files, spot, f"{{{said}}}")
        return
    last_key, last = node.value[-1]
    end = _end(last, last_key)
    if node.flow_style:
        _put(files, spot, end, end, f"{_between(node, last_key)}{said}")
        return
    column = int(node.value[0][0].start_mark.column)
    at = _line_end(text, end)
    lead = "" if at == 0 or text[at - 1] == "\n" else "\n"
    _put(files, spot, at, at, f"{lead}{' ' * column}{said}\n")


def _between(node: Node, last: Node) -> str:
    """What stands between the parts of a collection in brackets: on one line, or each on its own."""
    if last.start_mark.line == node.start_mark.line:
        return ", "
    return ",\n" + " " * int(last.start_mark.column)


def _insert_item(files: Texts, spot: _Spot, index: int, value: str) -> None:
    node, text = spot.node, spot.text
    assert isinstance(node, SequenceNode)
    items = node.value
    if index > len(items):
        raise CannotWriteError(f"there is no item {index} in the list of line {node.start_mark.line + 1}")
    if not items:
        _exchange(files, spot, f"[{value}]")
    elif node.flow_style and index == len(items):
        end = _end(items[-1])
        _put(files, spot, end, end, f"{_between(node, items[-1])}{value}")
    elif node.flow_style:
        start = int(items[index].start_mark.index)
        _put(files, spot, start, start, f"{value}{_between(node, items[index])}")
    else:
        _insert_lines(files, spot, index, f"{' ' * _column(text, _dash(text, items[0]))}- {value}\n")


def _column(text: str, at: int) -> int:
    return at - _line_start(text, at)


def _insert_lines(files: Texts, spot: _Spot, index: int, lines: str) -> None:
    """Puts whole lines before an item of a block list, above the comments that belong to it; or behind the last one."""
    node, text = spot.node, spot.text
    assert isinstance(node, SequenceNode)
    if index == len(node.value):
        at = _line_end(text, _end(node.value[-1]))
        lead = "" if at == 0 or text[at - 1] == "\n" else "\n"
        _put(files, spot, at, at, lead + lines)
        return
    at = _line_start(text, _dash(text, node.value[index]))
    while at > 0 and text[_line_start(text, at - 1) : at].lstrip(" ").startswith("#"):
        at = _line_start(text, at - 1)
    _put(files, spot, at, at, lines)


def _remove(files: Texts, path: tuple[str, ...]) -> None:
    spot = _found(files, path)
    node, text, parent = spot.node, spot.text, spot.parent
    if node is None or parent is None:
        raise CannotWriteError(f"nothing stands at {pointer(path)}")
    if len(parent.value) == 1:
        # Nothing is left of it: an empty one stays.
        holder = _found(files, path[:-1])
        if holder.parent is None:
            raise CannotWriteError("the change leaves no estate")
        _exchange(files, holder, "{}" if isinstance(parent, MappingNode) else "[]")
        return
    parts = [each[0] if isinstance(each, tuple) else each for each in parent.value]
    ends = [_end(each[1], each[0]) if isinstance(each, tuple) else _end(each) for each in parent.value]
    at = parts.index(spot.key if spot.key is not None else node)
    if isinstance(parent, CollectionNode) and parent.flow_style:
        start, end = (
            (ends[at - 1], ends[at]) if at else (int(parts[0].start_mark.index), int(parts[1].start_mark.index))
        )
        _without_comments(text[start:end])
        _put(files, spot, start, end, "")
    elif isinstance(parent, SequenceNode):
        _put(files, spot, _line_start(text, _dash(text, node)), _line_end(text, ends[at]), "")
    else:
        start = int(parts[at].start_mark.index)
        if text[_line_start(text, start) : start].strip(" "):
            # It stands behind a dash: the next key takes its place.
            end = int(parts[at + 1].start_mark.index)
            _without_comments(text[ends[at] : end])
            _put(files, spot, start, end, "")
        else:
            _put(files, spot, _line_start(text, start), _line_end(text, ends[at]), "")


def _without_comments(text: str) -> None:
    if "#" in text:
        raise CannotWriteError("a comment stands where something is to be taken away")


def _moved_in_list(files: Texts, source: tuple[str, ...], path: tuple[str, ...]) -> bool:
    """Moves an item of a list with all its lines; False where it is no list."""
    spot = _found(files, source)
    if not isinstance(spot.parent, SequenceNode) or spot.node is None or spot.index < 0:
        return False
    text, items = spot.text, spot.parent.value
    if spot.parent.flow_style:
        chunk = text[int(spot.node.start_mark.index) : _end(spot.node)]
        _remove(files, source)
        _insert_item(files, _found(files, path[:-1]), int(path[-1]), chunk)
        return True
    start = _line_start(text, _dash(text, spot.node))
    end = _line_end(text, _end(items[spot.index]))
    chunk = text[start:end] if text[end - 1 : end] == "\n" else f"{text[start:end]}\n"
    _remove(files, source)
    _insert_lines(files, _found(files, path[:-1]), int(path[-1]), chunk)
    return True


# -- values as text ----------------------------------------------------------------------------------------------------

#: What YAML takes as it is in every place, and nobody takes for a number, a switch or nothing (YAML 1.2.2 sections 7.3.3, 10.3.2).
_PLAIN = re.compile(r"[A-Za-z0-9/_.](?:[\w/.*@+ -]*[\w/.*+-])?(?::[\w/.*+-]+)*", re.ASCII)
_SPECIAL = re.compile(r"true|false|null|~|[-+.\d_eEoxXa-fA-F]+", re.IGNORECASE)
_ADDRESS = re.compile(r"\d+\.\d+\.\d+\.\d+(?:/\d+)?|\d{4}-\d\d-\d\d")


def flow(value: Any, as_json: bool = False) -> str:
    """Plain data on one line, as YAML writes it in brackets, or as JSON."""
    if isinstance(value, dict):
        return "{" + ", ".join(f"{flow(str(key), as_json)}: {flow(each, as_json)}" for key, each in value.items()) + "}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(flow(each, as_json) for each in value) + "]"
    if value is None or isinstance(value, bool | int | float):
        return json.dumps(value)
    text = str(value)
    special = _SPECIAL.fullmatch(text) and not _ADDRESS.fullmatch(text)
    return text if not as_json and not special and _PLAIN.fullmatch(text) else json.dumps(text, ensure_ascii=as_json)


def _flow_of(text: str, node: Node) -> str:
    """A node on one line, its words as they were written."""
    if isinstance(node, MappingNode):
        return "{" + ", ".join(f"{_flow_of(text, key)}: {_flow_of(text, each)}" for key, each in node.value) + "}"
    if isinstance(node, SequenceNode):
        return "[" + ", ".join(_flow_of(text, each) for each in node.value) + "]"
    written = text[int(node.start_mark.index) : _end(node)]
    if isinstance(node, ScalarNode) and node.style in ("'", '"') and "\n" not in written:
        return written
    if isinstance(node, ScalarNode) and not node.style and written and not set("\n,[]{}#") & set(written):
        return written  # a switch or a number stays one
    return flow(node.value, _is_json(text))
