"""What an estate's files say after a change: its own files and its master files, proven to say what the change says."""

import re
from typing import Any

from yaml.nodes import MappingNode, Node, ScalarNode

from portolan.estate.records import Record
from portolan.formats.change import apply, patch_operations
from portolan.formats.estate_file import Loaded, load, patched
from portolan.formats.files import Files
from portolan.formats.record_data import absolute
from portolan.formats.rewriting import CannotWriteError, Texts, rewritten
from portolan.source.place import keys_of
from portolan.source.problem import EstateError
from portolan.source.value import Value


class Written(Value, frozen=True):
    """A file of an estate, as it was read and as it is to be; `path` is relative to the estate's folder."""

    path: str
    before: str
    after: str


class Overlaid:
    """Files of which some say something else than they do on the disk."""

    def __init__(self, files: Files, texts: Texts) -> None:
        self._files, self._texts = files, texts

    def read(self, path: str) -> bytes:
        """The file's bytes. Raises FileError."""
        held = self._texts.get(path)
        return self._files.read(path) if held is None else held.encode("utf-8", "surrogateescape")

    def tree(self, path: str) -> tuple[str, ...]:
        """All files below a folder. Raises FileError."""
        return self._files.tree(path)

    def shown(self, path: str) -> str:
        """The path as the user would write it."""
        return self._files.shown(path)


def written_into(loaded: Loaded, patch: list[dict[str, Any]]) -> tuple[Written, ...]:
    """The files that a change is written into. Raises CannotWriteError, and EstateError where the change does not fit."""
    wanted = patched(loaded, patch)
    files = loaded.files
    own = {path: _text(files, path) for path in (loaded.main, *_included(loaded.root))}
    # Records of master files are changed where they stand, if that comes to the same.
    for edits, rest in (_in_master_files(loaded, patch), ({}, patch)):
        try:
            texts = {**rewritten(own, rest), **edits}
            after = load(Overlaid(files, texts), loaded.main)
        except (CannotWriteError, EstateError):
            if edits:
                continue
            raise
        if _same(loaded, wanted, after, rest):
            known = {**own, **{path: _text(files, path) for path in edits}}
            return tuple(Written(path, known[path], text) for path, text in texts.items() if text != known[path])
    raise CannotWriteError("the files would not say what the change says: write it by hand, with --format patch beside")


def _text(files: Files, path: str) -> str:
    return files.read(path).decode("utf-8", "surrogateescape")


def _included(root: Node) -> list[str]:
    """The files that the main file includes, in their order."""
    node = next((value for key, value in root.value if key.value == "include"), None)
    parts = node.value if node is not None and not isinstance(node, ScalarNode) else [node] if node is not None else []
    return [str(each.value).removeprefix("./") for each in parts]


def _same(loaded: Loaded, wanted: Loaded, after: Loaded, rest: list[dict[str, Any]]) -> bool:
    """Whether the files say, read anew, what the change says; of zones what they come to."""
    if _plain(apply(loaded.root, patch_operations(rest))) != _plain(after.root):
        return False
    return all(
        _records(zone.data.nodes) == _records(after.estate.zones[name].data.nodes)
        for name, zone in wanted.estate.zones.items()
        if name in after.estate.zones
    )


def _records(nodes: dict[str, dict[str, tuple[Record, ...]]]) -> set[tuple[str, str, str]]:
    """What a zone says, without the serial number, which grows."""
    return {
        (each.owner, each.type, str(each.data))
        for types in nodes.values()
        for held in types.values()
        for each in held
        if each.type != "SOA"
    }


def _plain(node: Node, depth: int = 0) -> Any:
    """A document as it is compared: words as they are read, keys in their order; sections and what they name in any."""
    if isinstance(node, MappingNode):
        pairs = [(key.value, _plain(value, depth + 1)) for key, value in node.value]
        return dict(pairs) if depth < _ANY_ORDER else pairs
    if isinstance(node, ScalarNode):
        return node.value
    return [_plain(each, depth + 1) for each in node.value]


#: Sections, and the objects in them, may stand in any order: files that are included bring theirs behind the main file's.
_ANY_ORDER = 2


# -- master files ------------------------------------------------------------------------------------------------------

_SINGLE = frozenset(("A", "AAAA", "CNAME", "NS", "DNAME", "PTR"))
_SERIAL = re.compile(r"(\bSOA\b(?:[^;]|;[^\n]*)*?[\s(])(\d{1,10})(?=[\s;)])", re.IGNORECASE)


def _in_master_files(loaded: Loaded, patch: list[dict[str, Any]]) -> tuple[Texts, list[dict[str, Any]]]:
    """What of a change is about records that stand in master files, written there; and the rest of it."""
    edits: Texts = {}
    rest: list[dict[str, Any]] = []
    steps = list(patch)
    while steps:
        step = steps.pop(0)
        record = _taken_away(loaded, step)
        if record is None:
            rest.append(step)
            continue
        path = _path_of(loaded, record)
        added = _added_instead(record, steps[0]) if steps else None
        text = edits.get(path) or _text(loaded.files, path)
        lines = text.split("\n")
        line = lines[record.line - 1]
        code, semicolon, comment = line.partition(";")
        fields = code.split()
        if added is not None and fields:
            steps.pop(0)
            owner, data = added
            kept = code.rstrip()[: len(code.rstrip()) - len(fields[-1])]
            if owner != record.owner:
                kept = f"{owner}. {record.ttl} {record.type} "
            lines[record.line - 1] = f"{kept}{data}{' ' if semicolon else ''}{semicolon}{comment}"
        else:
            # What follows may leave its owner out: an empty line takes nothing from it.
            lines[record.line - 1] = f"; {line}"
        edits[path] = _with_serial("\n".join(lines))
    return edits, rest


def _of_zone(step: dict[str, Any], key: str) -> tuple[str, list[str]] | None:
    """The zone that a step adds a record to under a key, and the record's fields."""
    path = keys_of(str(step["path"]))
    if step["op"] != "add" or path[:1] != ("zones",) or path[2:3] != (key,):
        return None
    value = step["value"]
    text = value[0] if isinstance(value, list) and len(value) == 1 else value
    return (path[1], text.split()) if isinstance(text, str) else None


def _taken_away(loaded: Loaded, step: dict[str, Any]) -> Record | None:
    """The record of a master file that a step leaves out of its zone."""
    of = _of_zone(step, "without")
    if of is None or len(of[1]) != _WITHOUT or of[1][1] not in _SINGLE or of[0] not in loaded.estate.zones:
        return None
    name, (owner, kind, data) = of
    held = loaded.estate.zones[name].data.nodes.get(absolute(owner, name), {}).get(kind, ())
    found = next((each for each in held if str(each.data) in (data, data.rstrip("."))), None)
    return found if found is not None and _path_of(loaded, found) else None


def _path_of(loaded: Loaded, record: Record) -> str:
    """The master file of a record, relative to the estate's folder; nothing where it is no file of a zone's own."""
    named = [zone.file for zone in loaded.estate.zones.values() if zone.file is not None]
    return next((str(each) for each in named if loaded.files.shown(str(each)) == record.file), "")


def _added_instead(record: Record, step: dict[str, Any]) -> tuple[str, str] | None:
    """The owner and data of a record that a step writes in the place of one."""
    of = _of_zone(step, "records")
    if of is None or len(of[1]) != _FIELDS or of[1][2] != record.type:
        return None
    name, (owner, _, _, data) = of
    return absolute(owner, name), data


#: Owner, type, data; and with the TTL before the type.
_WITHOUT, _FIELDS = 3, 4


def _with_serial(text: str) -> str:
    """A master file whose serial number is one more, so that others take it (RFC 1035 section 3.3.13)."""
    return _SERIAL.sub(lambda match: f"{match[1]}{(int(match[2]) + 1) % (1 << 32)}", text, count=1)
