"""Changes to an estate: JSON Patch (RFC 6902) and JSON Merge Patch (RFC 7396), in YAML or JSON, applied to nodes.

The old nodes are never altered: what is untouched is shared, so that only touched objects are read again.
"""

import re
from typing import Any, TypeVar

from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from portolan.formats.yaml_nodes import node_of, plain_data
from portolan.source.nearest import did_you_mean, nearest
from portolan.source.place import Span, keys_of, pointer
from portolan.source.plain import one_line
from portolan.source.problem import EstateError, Problem
from portolan.source.value import Value

Keys = tuple[str, ...]


class Operation(Value, frozen=True):
    """One operation of a JSON Patch."""

    op: str
    path: Keys
    value: Node | None
    source: Keys | None
    span: Span


def operations(root: Node, document: Node) -> list[Operation]:
    """A change's operations, from a JSON Patch (a list) or a JSON Merge Patch (a mapping). Raises EstateError."""
    if isinstance(root, MappingNode):
        found: list[Operation] = []
        _merge((), root, document, found)
        return _bounded(root, found)
    if not isinstance(root, SequenceNode):
        raise _error(root, "expected a JSON Patch (a list) or a JSON Merge Patch (a mapping)")
    return [_operation(item) for item in _bounded(root, root.value)]


#: Steps of a change; each costs what the list that it changes is long.
_MOST_STEPS = 10_000
_Step = TypeVar("_Step")


def _bounded(root: Node, steps: list[_Step]) -> list[_Step]:
    if len(steps) > _MOST_STEPS:
        raise _error(root, f"a change has at most {_MOST_STEPS:,} steps, and this one {len(steps):,}; split it")
    return steps


def patch_operations(patch: list[dict[str, Any]]) -> list[Operation]:
    """Operations from a JSON Patch as plain data."""
    return [_operation(node_of(item)) for item in patch]


def new_names(root: Node, changes: list[Operation]) -> list[str]:
    """What a change makes new, in words: each object of a section; deeper down, what is nearly named as one beside it."""
    found = []
    for change in changes:
        parent: Node | None = root
        for key in change.path[:-1]:
            parent = _members(parent).get(key) if isinstance(parent, MappingNode) else None
        if change.op != "add" or not change.path or not isinstance(parent, MappingNode):
            continue
        held, name = _members(parent), change.path[-1]
        near = nearest(name, held)
        if name not in held and (near is not None or len(change.path) == _OBJECT):
            meant = f"; did you mean '{one_line(near)}'?" if near is not None else ""
            found.append(f"{change.span}: '{one_line('.'.join(change.path), 120)}' is new{meant}")
    return found


#: How deep the objects of an estate lie: section and name.
_OBJECT = 2


def apply(root: Node, changes: list[Operation]) -> Node:
    """The changed document. Raises EstateError at the operation that does not fit."""
    for change in changes:
        if change.op in ("move", "copy"):
            assert change.source is not None
            value = _at(root, change.source, change)
            if change.op == "move":
                root = _edit(root, change.source, change.but(op="remove"))
            root = _edit(root, change.path, change.but(op="add", value=value))
        elif change.op == "test":
            value = _at(root, change.path, change)
            if change.value is None or plain_data(value) != plain_data(change.value):
                raise EstateError(
                    [Problem(change.span, f"the test of '{pointer(change.path)}' fails: the value differs")]
                )
        else:
            root = _edit(root, change.path, change)
    return root


def _members(node: Node) -> dict[str, Node]:
    """A mapping's values by key. Raises EstateError where a key is no word."""
    for key, _ in node.value:
        if not isinstance(key, ScalarNode):
            raise _error(key, "a key must be a word; put it in quotes")
    return {key.value: value for key, value in node.value}


def _operation(node: Node) -> Operation:
    if not isinstance(node, MappingNode):
        raise _error(node, "expected an operation with 'op' and 'path'")
    fields = _members(node)
    name = fields["op"].value if "op" in fields and isinstance(fields["op"], ScalarNode) else None
    known = ("add", "remove", "replace", "move", "copy", "test")
    if name not in known:
        raise _error(node, f"expected 'op' to be one of {', '.join(known)}")
    if "path" not in fields or not isinstance(fields["path"], ScalarNode):
        raise _error(node, "the operation needs 'path'")
    if name in ("add", "replace", "test") and "value" not in fields:
        raise _error(node, f"the operation '{name}' needs 'value'")
    if name in ("move", "copy") and not isinstance(fields.get("from"), ScalarNode):
        raise _error(node, f"the operation '{name}' needs 'from'")
    source = _keys(fields["from"]) if name in ("move", "copy") else None
    return Operation(name, _keys(fields["path"]), fields.get("value"), source, _span(node))


def _keys(node: Node) -> Keys:
    text: str = node.value
    if text and not text.startswith("/"):
        raise _error(node, f"expected a JSON Pointer that starts with '/', found '{one_line(text)}'")
    return keys_of(text)


def _merge(path: Keys, patch: MappingNode, target: Node | None, found: list[Operation]) -> None:
    held = _members(target) if isinstance(target, MappingNode) else {}
    for key, value in patch.value:
        if not isinstance(key, ScalarNode):
            raise _error(key, "a key must be a word; put it in quotes")
        where = (*path, key.value)
        if isinstance(value, ScalarNode) and plain_data(value) is None:
            if key.value in held:
                found.append(Operation("remove", where, None, None, _span(key)))
        elif isinstance(value, MappingNode) and isinstance(held.get(key.value), MappingNode):
            _merge(where, value, held[key.value], found)
        else:
            found.append(Operation("add", where, _without_nulls(value), None, _span(key)))


def _without_nulls(node: Node) -> Node:
    if not isinstance(node, MappingNode):
        return node
    pairs = [
        (key, _without_nulls(value))
        for key, value in node.value
        if not (isinstance(value, ScalarNode) and plain_data(value) is None)
    ]
    return MappingNode(node.tag, pairs, node.start_mark, node.end_mark)


def _at(root: Node, path: Keys, change: Operation) -> Node:
    node = root
    for depth, key in enumerate(path):
        node = _child(node, key, path[: depth + 1], change)[1]
    return node


def _child(node: Node, key: str, path: Keys, change: Operation) -> tuple[int, Node]:
    if isinstance(node, MappingNode):
        for index, (name, value) in enumerate(node.value):
            if name.value == key:
                return index, value
        hint = did_you_mean(key, [name.value for name, _ in node.value])
        raise EstateError([Problem(change.span, f"'{pointer(path)}' does not exist in the estate", hint=hint)])
    at = _index(key)
    if isinstance(node, SequenceNode) and at is not None and at < len(node.value):
        return at, node.value[at]
    raise EstateError([Problem(change.span, f"'{pointer(path)}' does not exist in the estate")])


def _index(key: str) -> int | None:
    """A list's index as a JSON Pointer writes it (RFC 6901 section 4), or None."""
    return int(key) if re.fullmatch(r"0|[1-9][0-9]{0,8}", key) else None


def _edit(root: Node, path: Keys, change: Operation, depth: int = 0) -> Node:
    if not path:
        if change.op == "remove" or change.value is None:
            raise EstateError([Problem(change.span, "the whole estate cannot be removed")])
        return change.value
    key = path[depth]
    if depth < len(path) - 1:
        index, child = _child(root, key, path[: depth + 1], change)
        return _with(root, index, _edit(child, path, change, depth + 1))
    if isinstance(root, SequenceNode):
        items = list(root.value)
        if change.op == "add":
            at = len(items) if key == "-" else _index(key)
            if at is None or at > len(items):
                raise EstateError([Problem(change.span, f"'{pointer(path)}' lies behind the end of the list")])
            items.insert(at, change.value)
        else:
            index, _ = _child(root, key, path, change)
            items[index : index + 1] = [] if change.op == "remove" else [change.value]
        return SequenceNode(root.tag, items, root.start_mark, root.end_mark)
    if isinstance(root, MappingNode):
        pairs = list(root.value)
        index = next((at for at, (name, _) in enumerate(pairs) if name.value == key), -1)
        if change.op != "add" and index < 0:
            _child(root, key, path, change)
        if change.op == "remove":
            del pairs[index]
        elif index >= 0:
            pairs[index] = (pairs[index][0], change.value)
        else:
            assert change.value is not None
            mark = change.value.start_mark
            pairs.append((ScalarNode("plain", key, mark, mark, style='"'), change.value))
        return MappingNode(root.tag, pairs, root.start_mark, root.end_mark)
    raise EstateError([Problem(change.span, f"'{pointer(path[:depth])}' is a single value and holds nothing")])


def _with(node: Node, index: int, child: Node) -> Node:
    items = list(node.value)
    if isinstance(node, MappingNode):
        items[index] = (items[index][0], child)
        return MappingNode(node.tag, items, node.start_mark, node.end_mark)
    items[index] = child
    return SequenceNode(node.tag, items, node.start_mark, node.end_mark)


def _span(node: Node) -> Span:
    return Span(node.start_mark.name, node.start_mark.line + 1, node.start_mark.column + 1)


def _error(node: Node, message: str) -> EstateError:
    return EstateError([Problem(_span(node), message)])
