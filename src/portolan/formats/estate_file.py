"""An estate's files to an Estate: include, read, complete, cross-check; and changed estates, read again where touched."""

import re
from typing import Any

from yaml.nodes import MappingNode, Node, SequenceNode

from portolan.estate.annotations import bare
from portolan.estate.base import Stated
from portolan.estate.changing import stated_values
from portolan.estate.estate import Estate
from portolan.formats.change import Operation, apply, patch_operations
from portolan.formats.complete import COMPLETED_BY_OWNERS, Completing, with_internet
from portolan.formats.crosscheck import crosscheck
from portolan.formats.files import FileError, Files
from portolan.formats.read_from import cite
from portolan.formats.reader import BAD, converter, plan_of
from portolan.formats.scalars import UnfitError, estate_path
from portolan.formats.yaml_nodes import compose
from portolan.source.place import Place, Span, span_of
from portolan.source.plain import one_line
from portolan.source.problem import EstateError, Problem, Problems
from portolan.source.value import Value


class Loaded(Value, frozen=True):
    """An estate, the document it was read from, and the files that it may name."""

    estate: Estate
    root: Node
    files: Files
    #: What was read of the nodes of an entry, by the entry's identity: gathered when the entry is first read again.
    parts: dict[int, dict[int, Stated]]
    #: The main file's name among them.
    main: str = ""


def load(files: Files, main: str) -> Loaded:
    """Reads the estate whose main file is named. Raises EstateError with every problem of the load."""
    problems = Problems()
    root = _assembled(files, main, problems)
    reader = Completing(problems, files)
    estate = reader.read(Estate, root)
    if estate is not BAD:
        crosscheck(estate, problems, frozenset(reader.damaged))
    problems.raise_any()
    for origin in reader.origins:
        cite(*origin)
    return Loaded(estate, root, files, {}, main)


def changed(loaded: Loaded, changes: list[Operation]) -> Loaded:
    """The estate with a change applied; only touched objects are read again, the whole is cross-checked. Raises EstateError."""
    root = apply(loaded.root, changes)
    problems = Problems()
    reader = Completing(problems, loaded.files)
    if not isinstance(root, MappingNode):
        raise EstateError([Problem(changes[0].span, "the change leaves no estate")])
    sections = {key.value: value for key, value in root.value}
    before = {key.value: value for key, value in loaded.root.value}
    plan = plan_of(Estate)
    values: dict[str, Any] = {"place": Place((), root)}
    for key, (field, read) in plan.fields.items():
        node = sections.get(key)
        if node is before.get(key):
            # Written as before, or by neither.
            values[field] = getattr(loaded.estate, field)
        elif node is None:
            continue
        elif isinstance(node, MappingNode) and isinstance(getattr(loaded.estate, field), dict):
            values[field] = _reread(reader, loaded, field, key, node, before.get(key))
        else:
            for each in _items(getattr(loaded.estate, field)):
                reader.known.update(_parts(loaded, each))
            values[field] = read(reader, node, (key,))
    for key in sections:
        if key not in plan.fields:
            reader.read(Estate, root)
            break
    problems.raise_any()
    if any(key not in sections for key in plan.required):
        raise EstateError([Problem(changes[0].span, f"the change leaves the estate without '{plan.required[0]}'")])
    values["networks"] = with_internet(values.get("networks", {}))
    estate = Estate(**values)
    crosscheck(estate, problems, clean=loaded.estate)
    problems.raise_any()
    return Loaded(estate, root, loaded.files, {}, loaded.main)


def patched(loaded: Loaded, patch: list[dict[str, Any]]) -> Loaded:
    """The same estate with a JSON Patch applied (RFC 6902), such as remedies hold. Raises EstateError."""
    return changed(loaded, patch_operations(patch))


def _reread(reader: Completing, loaded: Loaded, field: str, key: str, node: MappingNode, old: Node | None) -> Any:
    held = {name.value: value for name, value in old.value} if isinstance(old, MappingNode) else {}
    known: dict[str, Any] = getattr(loaded.estate, field)
    names = [name.value for name, _ in node.value]
    fresh = [(name, value) for name, value in node.value if value is not held.get(name.value)]
    if len(set(names)) < len(names):
        fresh = list(node.value)
    for name, _ in fresh:
        if name.value in known:
            reader.known.update(_parts(loaded, known[name.value]))
    section, _ = bare(Estate.__annotations__[field])
    part = converter(section)(reader, MappingNode(node.tag, fresh, node.start_mark, node.end_mark), (key,))
    if part is BAD:
        return BAD
    # What could not be read is in neither; it was noted.
    return {name: part[name] if name in part else known[name] for name in names if name in part or name in known}


def _items(value: Any) -> tuple[Stated, ...]:
    """The stated values of a section that is no mapping."""
    return tuple(each for each in (value if isinstance(value, tuple) else (value,)) if isinstance(each, Stated))


def _parts(loaded: Loaded, entry: Stated) -> dict[int, Stated]:
    """What was read within an entry, by its node; without what owners complete, which depends on more than the node."""
    found = loaded.parts.get(id(entry))
    if found is None:
        found = {
            id(each.place.node): each for each in stated_values(entry) if not isinstance(each, COMPLETED_BY_OWNERS)
        }
        loaded.parts[id(entry)] = found
    return found


#: Files that an estate includes.
_MOST_INCLUDED = 200


def _assembled(files: Files, main: str, problems: Problems) -> MappingNode:
    root = _parsed(files, main, Span(files.shown(main), 1, 1))
    included = next((value for key, value in root.value if key.value == "include"), None)
    if included is None:
        return root
    parts = included.value if isinstance(included, SequenceNode) else [included]
    pairs = list(root.value)
    if len(parts) > _MOST_INCLUDED:
        hint = "Join some of them."
        text = f"the estate includes more than {_MOST_INCLUDED} files"
        raise EstateError([Problem(span_of(included), text, "include", hint)])
    for part in parts:
        span = span_of(part)
        if not isinstance(part.value, str):
            continue
        try:
            path = estate_path(part.value)
            _add(pairs, _parsed(files, path, span), problems)
        except UnfitError as unfit:
            problems.add(span, f"expected {unfit.expected}, found '{one_line(part.value)}'", "include", unfit.hint)
        except EstateError as error:
            problems.found.extend(error.problems)
    return MappingNode(root.tag, pairs, root.start_mark, root.end_mark)


def _parsed(files: Files, path: str, cite: Span) -> MappingNode:
    try:
        data = files.read(path)
    except FileError as problem:
        raise EstateError([Problem(cite, f"cannot read '{one_line(path)}': {problem}")]) from None
    _refuse_placeholders(files.shown(path), data)
    root = compose(files.shown(path), data)
    if not isinstance(root, MappingNode):
        span = span_of(root)
        raise EstateError(
            [
                Problem(
                    span, "expected an estate with keys such as 'hosts' and 'zones'", hint="Start with 'portolan: 1'."
                )
            ]
        )
    return root


#: What stands in blanks (`portolan init`) for what only their reader knows.
_PLACEHOLDER = re.compile(
    rb"<(?:(?:public address|inside address|address|name|folder|end|record|alias|range|pages address|objects address|canonical name|port)"
    rb"(?: of [a-z ]{1,40})?|bucket|domain)>"
)


def _refuse_placeholders(shown: str, data: bytes) -> None:
    """A blank that is not filled in whole: one error, however many are left."""
    if b"<" not in data:
        return
    left: list[tuple[int, int, str]] = []
    for number, line in enumerate(data.split(b"\n"), 1):
        said = line.partition(b" #")[0]
        if not said.lstrip().startswith(b"#"):
            left += [(number, match.start() + 1, match[0].decode()) for match in _PLACEHOLDER.finditer(said)]
    if left:
        line_number, column, text = left[0]
        more = f", and {len(left) - 1} more placeholders" if len(left) > 1 else ""
        hint = "Write what it stands for; the comment beside it says where that is usually shown."
        raise EstateError(
            [Problem(Span(shown, line_number, column), f"{text} is still to be filled in{more}", hint=hint)]
        )


def _add(pairs: list[tuple[Node, Node]], root: MappingNode, problems: Problems) -> None:
    """Adds an included file's sections to the document."""
    for key, value in root.value:
        at = next((index for index, (name, _) in enumerate(pairs) if name.value == key.value), -1)
        if key.value == "portolan":
            continue
        if key.value == "include":
            problems.add(
                span_of(key),
                "an included file includes nothing itself",
                "include",
                "Name the file in the main file's 'include'.",
            )
        elif at < 0:
            pairs.append((key, value))
        elif type(pairs[at][1]) is type(value) and isinstance(value, MappingNode | SequenceNode):
            held = pairs[at][1]
            merged = type(held)(held.tag, [*held.value, *value.value], held.start_mark, held.end_mark)
            pairs[at] = (pairs[at][0], merged)
        else:
            problems.add(
                span_of(key),
                f"'{one_line(key.value)}' is written in the main file already",
                one_line(key.value),
                "Keep one of them.",
            )
