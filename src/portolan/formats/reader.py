"""One generic reader: nodes to typed values, driven by the types' annotations; collects every problem.

A type's plan (its keys, each with a converter) is made once and cached. On the happy path a value costs one pass
over its node; spans are worked out only when cited.
"""

import re
import types
import typing
from collections.abc import Callable
from functools import reduce
from operator import or_
from typing import Any, Literal

import msgspec
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from portolan.estate.annotations import annotations_of, bare, is_secret
from portolan.estate.base import AnyStatus, IPNetwork, ListenerKey, Pattern, PortRange, SetName, Stated, Status
from portolan.estate.changing import VERSIONS, Otherwise
from portolan.estate.service import Listener
from portolan.formats import patterns, read_from
from portolan.formats.bounds import BOUNDS, PATTERNS, counted
from portolan.formats.keys import INTERNAL, RENAMED
from portolan.formats.listener_text import listener_parts
from portolan.formats.scalars import SCALARS, UnfitError, address_range, without_none
from portolan.formats.type_words import a_type
from portolan.formats.unshown import hushed
from portolan.formats.yaml_nodes import is_plain
from portolan.source.nearest import did_you_mean
from portolan.source.place import Place, Span
from portolan.source.plain import one_line, unseen
from portolan.source.problem import Problems
from portolan.source.value import Value

Path = tuple[str | int, ...]
#: What a converter returns when it noted a problem.
BAD: Any = object()
Converter = Callable[["Reader", Node, Path], Any]


class Plan(Value, frozen=True):
    """How a type is read."""

    type: type[Stated]
    fields: dict[str, tuple[str, Converter]]
    required: tuple[str, ...]
    named: bool


class Reader:
    """Reads one estate's nodes."""

    def __init__(self, problems: Problems) -> None:
        self.problems = problems
        #: The entries of sections, such as ("hosts", "orion"), in which something could not be read.
        self.damaged: set[Path] = set()
        #: The objects that say where they were read from, with their names' nodes; cited when all is read.
        self.origins: list[tuple[MappingNode, Node | None, str]] = []
        #: What was read of nodes before, by the node's identity: the same node at the same path is the same value again.
        self.known: dict[int, Stated] = {}

    def read(
        self,
        kind: type[Stated],
        node: Node,
        path: Path = (),
        name: str | None = None,
        name_node: Node | None = None,
        siblings: "dict[str, type[Stated]] | None" = None,
    ) -> Any:
        """The value of a struct type at a node, after noting what is wrong.

        What is wrong is left out where the type has a default for it, so that the rest can be checked too; BAD where
        it has none. `siblings` are the other types that could stand here, by their tag.
        """
        known = self.known.get(id(node))
        if known is not None and type(known) is kind and known.place.path == path:
            return known
        plan = plan_of(kind)
        if not isinstance(node, MappingNode):
            return self.fail(
                node,
                path,
                f"expected {a_type(kind)} with keys, found {found(node)}",
                f"Keys here: {', '.join(list(plan.fields)[:12])}.",
            )
        values, seen = self._held(plan.fields, node, path, a_type(kind), siblings, name_node)
        for key in plan.required:
            if key not in seen:
                self.fail(
                    node, path, f"{a_type(kind)} needs '{key}'", f"Add '{key}: {'1' if key == 'portolan' else '...'}'."
                )
        if any(plan.fields[key][0] not in values for key in plan.required):
            return BAD
        values["place"] = Place(path, node, name_node)
        self.complete(kind, values, node, path, name)
        if plan.named:
            values["name"] = name
        return kind(**values)

    def _held(
        self,
        fields: dict[str, tuple[str, Converter]],
        node: MappingNode,
        path: Path,
        what: str,
        siblings: "dict[str, type[Stated]] | None" = None,
        name_node: Node | None = None,
    ) -> tuple[dict[str, Any], set[str]]:
        """What a mapping holds, by field, after noting what is wrong with its keys; and all the keys that it writes."""
        values: dict[str, Any] = {}
        seen: set[str] = set()
        for key_node, value_node in node.value:
            key = key_node.value
            entry = fields.get(key) if isinstance(key_node, ScalarNode) else None
            if entry is None and key == read_from.KEY:
                self._told(node, name_node, value_node, path)
                continue
            if entry is None:
                if not isinstance(key_node, ScalarNode):
                    self.fail(key_node, path, "a key must be a word", "Put it in quotes.")
                elif self.problems.full:
                    self.problems.more += 1
                else:
                    hint = (
                        RENAMED.get(f"{what}: {key}")
                        or RENAMED.get(key)
                        or _of_sibling(key, siblings)
                        or did_you_mean(key, fields, show=60)
                    )
                    self.fail(key_node, path, f"unknown key '{one_line(key)}' for {what}", hint)
                continue
            if key in seen:
                self.fail(key_node, path, f"key '{key}' is written twice", "Keep one of them.")
                continue
            seen.add(key)
            value = entry[1](self, value_node, (*path, key))
            if value is BAD:
                continue
            bound = BOUNDS.get((what, key))
            if bound is not None and isinstance(value, tuple | dict):
                counted(self.problems, bound, len(value), value_node, (*path, key))
            values[entry[0]] = value
        return values, seen

    def _told(self, node: MappingNode, name: Node | None, value: Node, path: Path) -> None:
        """Where an object was read from."""
        if isinstance(value, ScalarNode) and read_from.fits(value.value):
            self.origins.append((node, name, value.value))
        else:
            self.fail(value, (*path, read_from.KEY), f"expected {read_from.EXPECTED}, found {found(value)}")

    def otherwise(self, owner: type[Stated], kind: type[Otherwise], node: Node, path: Path) -> Any:
        """Another version of an owner: any of the owner's keys, and those of the version itself."""
        if not isinstance(node, MappingNode):
            said = node.value if isinstance(node.value, str) else ""
            hint = (
                f"Write '{{state: {said}}}'." if said in ("running", "stopped") else "Write for example {KEY: VALUE}."
            )
            return self.fail(node, path, f"expected what is otherwise, found {found(node)}", hint)
        own = plan_of(kind)
        theirs = {key: entry for key, entry in plan_of(owner).fields.items() if key not in (*VERSIONS, *own.fields)}
        facts, seen = self._held({**own.fields, **theirs}, node, path, a_type(owner))
        missing = [key for key in own.required if key not in seen]
        if missing:
            return self.fail(node, path, f"what was before needs '{missing[0]}'", f"Add '{missing[0]}: ...'.")
        values = {field: facts.pop(field) for field, _ in own.fields.values() if field in facts}
        if any(own.fields[key][0] not in values for key in own.required):
            return BAD
        self.complete_part(owner, facts, node, path)
        return kind(**values, place=Place(path, node), owner=owner, facts=facts)

    def complete_part(self, kind: type[Stated], facts: dict[str, Any], node: Node, path: Path) -> None:
        """A place for readers that fill in what other files hold, for some of a type's facts."""

    def complete(self, kind: type[Stated], values: dict[str, Any], node: Node, path: Path, name: str | None) -> None:
        """A place for readers that fill in what other files hold."""

    def fail(self, node: Node, path: Path, message: str, hint: str = "") -> Any:
        """Notes a problem at a node."""
        self.damaged.add(path[:2])
        mark = node.start_mark
        self.problems.add(
            Span(mark.name, mark.line + 1, mark.column + 1),
            message,
            ".".join(one_line(str(part), 60) for part in path),
            hint,
        )
        return BAD

    def listener(self, node: Node, path: Path) -> Any:
        """The listener that a text writes."""
        text = _text(self, node, path, "a listener such as 80 or 443 tls")
        if text is BAD:
            return BAD
        if is_plain(node) and _INTEGRAL.fullmatch(text):
            text = text.partition(".")[0]
        try:
            where, port, tls, only_v6 = listener_parts(text)
        except UnfitError as unfit:
            return self.fail(node, path, f"expected {unfit.expected}, found '{one_line(text)}'", unfit.hint)
        return Listener(
            place=Place(path, node), text=" ".join(text.split()), address=where, port=port, tls=tls, only_v6=only_v6
        )


_PLANS: dict[type, Plan] = {}


def plan_of(kind: type[Stated]) -> Plan:
    """The cached plan of a type."""
    plan = _PLANS.get(kind)
    if plan is None:
        hidden = set().union(*(INTERNAL.get(base.__name__, set()) for base in kind.__mro__))
        annotations = annotations_of(kind)
        fields, required = {}, []
        defaults = dict(zip(reversed(kind.__struct_fields__), reversed(kind.__struct_defaults__), strict=False))
        named = kind.__name__ not in ("Estate",) and "name" in kind.__struct_fields__
        for field, key in zip(kind.__struct_fields__, kind.__struct_encode_fields__, strict=True):
            if field in hidden or (named and field == "name"):
                continue
            fields[key] = (field, _otherwise(kind, annotations[field]) or converter(annotations[field]))
            if defaults.get(field, msgspec.NODEFAULT) is msgspec.NODEFAULT:
                required.append(key)
        plan = _PLANS[kind] = Plan(kind, fields, tuple(required), named)
    return plan


def version_kind(annotation: Any) -> tuple[type[Otherwise], bool] | None:
    """The type of other versions that a field holds, and whether it holds many; None for every other field."""
    kind, _ = without_none(annotation)
    many = typing.get_origin(kind) is tuple
    part = typing.get_args(kind)[0] if many else kind
    return (part, many) if isinstance(part, type) and issubclass(part, Otherwise) else None


def _otherwise(owner: type[Stated], annotation: Any) -> Converter | None:
    """The converter for other versions of an owner; None for every other field."""
    version = version_kind(bare(annotation)[0])
    if version is None:
        return None
    part, many = version

    def read(reader: Reader, node: Node, path: Path) -> Any:
        return reader.otherwise(owner, part, node, path)

    return _many(read) if many else read


def converter(annotation: Any) -> Converter:
    """The converter for an annotation."""
    kind, meta = bare(annotation)
    if is_secret(meta):
        return hushed(converter(kind))
    kind, _ = without_none(kind)
    origin, args = typing.get_origin(kind), typing.get_args(kind)
    looser = _LOOSER.get((meta.extra or {}).get("kind", "word")) if meta is not None else None
    if kind in SCALARS:
        return _scalar(kind)
    sets = (meta.extra or {}).get("sets") if meta is not None else None
    if origin is tuple and sets is not None:
        return _members(PortRange if sets == "ports" else IPNetwork, named=sets != "-")
    if origin is tuple:
        return _many(looser if looser is not None and args[0] is str else converter(args[0]))
    if kind is str and looser is not None:
        return looser
    if origin is dict and args[0] in SCALARS:
        return _keyed(converter(args[0]), converter(args[1]))
    if origin is dict:
        return _named(tagged(args[1]) or args[1])
    if origin is Literal:
        return _choice(args)
    if origin in (typing.Union, types.UnionType):
        return _either(args)
    if kind is Listener:
        return lambda reader, node, path: reader.listener(node, path)
    if isinstance(kind, type) and issubclass(kind, Stated):
        return lambda reader, node, path: reader.read(kind, node, path)
    return {str: _words, int: _whole, bool: _truth}[kind]


def _many(item: Converter) -> Converter:
    def read(reader: Reader, node: Node, path: Path) -> Any:
        if not isinstance(node, SequenceNode):
            # A lone item may stand for the list of itself.
            if _is_null(node):
                return ()
            value = item(reader, node, path)
            return BAD if value is BAD else (value,)
        values = [item(reader, part, (*path, index)) for index, part in enumerate(node.value)]
        return tuple(value for value in values if value is not BAD)

    return read


def _members(kind: Any, named: bool) -> Converter:
    """Ranges of addresses, or of ports, and the names of sets of them."""
    plain = _scalar(kind)

    def member(reader: Reader, node: Node, path: Path) -> Any:
        text = node.value if isinstance(node, ScalarNode) else ""
        if named and _SET_NAME.fullmatch(text) and not (is_plain(node) and text in _NO_NAMES):
            return (SetName(text, node),)
        if kind is IPNetwork and "-" in text and "/" not in text and _seen(reader, node, path):
            try:
                return address_range(text)
            except UnfitError as unfit:
                return reader.fail(node, path, f"expected {unfit.expected}, found '{one_line(text)}'")
        value = plain(reader, node, path)
        return BAD if value is BAD else (value,)

    many = _many(member)

    def read(reader: Reader, node: Node, path: Path) -> Any:
        found = many(reader, node, path)
        return BAD if found is BAD else tuple(value for part in found for value in part)

    return read


def _named(kind: Any) -> Converter:
    """A mapping from names to values of a type, or of one of several types, by their tag."""
    tags: dict[str, type[Stated]] | None = kind if isinstance(kind, dict) else None

    def read(reader: Reader, node: Node, path: Path) -> Any:
        if not isinstance(node, MappingNode):
            if _is_null(node):
                return {}
            what = a_type(kind) if tags is None else a_type(next(iter(tags.values())).__mro__[1])
            return reader.fail(node, path, f"expected names with {what} each, found {found(node)}")
        values: dict[str, Any] = {}
        for key_node, value_node in node.value:
            name = key_node.value
            if not isinstance(key_node, ScalarNode) or not name:
                reader.fail(key_node, path, "a name must be a word", "Put it in quotes.")
                continue
            if not _seen(reader, key_node, path):
                continue
            if name in values:
                reader.fail(
                    key_node, path, f"the name '{one_line(name)}' is used twice", "Give one of them another name."
                )
                continue
            if _is_null(value_node):
                value_node = MappingNode("plain", [], key_node.start_mark, key_node.end_mark)
            of = kind if tags is None else _by_tag(tags, reader, value_node, (*path, name))
            value = BAD if of is BAD else reader.read(of, value_node, (*path, name), name, key_node, tags)
            if value is not BAD:
                values[name] = value
        return values

    return read


def tagged(annotation: Any) -> dict[str, type[Stated]] | None:
    """The types of a union by their tag, the value of their key `kind`; None for what is no such union."""
    args = typing.get_args(annotation)
    if typing.get_origin(annotation) is not types.UnionType or not all(
        isinstance(each, type) and issubclass(each, Stated) for each in args
    ):
        return None
    return {str(typing.get_args(bare(annotations_of(each)["kind"])[0])[0]): each for each in args}


def _by_tag(tags: dict[str, type[Stated]], reader: Reader, node: Node, path: Path) -> Any:
    """The type that a mapping's key `kind` says; the first where it says none."""
    for key, value in node.value if isinstance(node, MappingNode) else ():
        if key.value == "kind":
            word = _choice(tuple(tags))(reader, value, (*path, "kind"))
            return BAD if word is BAD else tags[word]
    return next(iter(tags.values()))


def _of_sibling(key: str, siblings: dict[str, type[Stated]] | None) -> str:
    """Where a key belongs that this type does not have."""
    kinds = [tag for tag, each in (siblings or {}).items() if key in plan_of(each).fields]
    return f"It is for the kind {' or '.join(repr(tag) for tag in kinds)}." if kinds else ""


def _keyed(key: Converter, item: Converter) -> Converter:
    """A mapping from one scalar to a value."""

    def read(reader: Reader, node: Node, path: Path) -> Any:
        if not isinstance(node, MappingNode):
            if _is_null(node):
                return {}
            return reader.fail(node, path, f"expected 'NAME: VALUE', found {found(node)}")
        values: dict[Any, Any] = {}
        for key_node, value_node in node.value:
            name = key(reader, key_node, path)
            value = item(reader, value_node, (*path, str(key_node.value)))
            if name in values and name is not BAD:
                reader.fail(key_node, path, f"the name '{one_line(str(name))}' is written twice", "Keep one of them.")
            elif name is not BAD and value is not BAD:
                values[name] = value
        return values

    return read


#: Scalars that may be written as a number.
_NUMBERED = (PortRange, ListenerKey, Status, AnyStatus)
#: What YAML 1.2's core schema (section 10.3.2) takes for another thing than text.
_JSON_WORDS = frozenset(("true", "True", "TRUE", "false", "False", "FALSE"))
_NO_NAMES = _JSON_WORDS | {"null", "Null", "NULL"}
_SET_NAME = re.compile(patterns.SET_NAME)
_INTEGRAL = re.compile(r"[-+]?[0-9]{1,18}\.0+")
_NUMBER = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?")


def _scalar(kind: Any) -> Converter:
    parse = SCALARS[kind][0]

    def read(reader: Reader, node: Node, path: Path) -> Any:
        text = node.value
        if text.__class__ is not str or not isinstance(node, ScalarNode) or _is_null(node):
            return reader.fail(node, path, f"expected {_expected(parse)}, found {found(node)}")
        if not text.isprintable() and not _seen(reader, node, path):
            return BAD
        if not node.style and kind not in _NUMBERED and (text in _JSON_WORDS or _NUMBER.fullmatch(text)):
            return reader.fail(
                node, path, f"expected {_expected(parse)}, found {text}, which is no text", "Put it in quotes."
            )
        if kind is Pattern:
            counted(reader.problems, PATTERNS, 1, node, path)
        try:
            return parse(text)
        except UnfitError as unfit:
            if kind in _NUMBERED and not node.style and _INTEGRAL.fullmatch(text):
                return read(reader, _integral(node), path)
            return reader.fail(node, path, f"expected {unfit.expected}, found '{one_line(text)}'", unfit.hint)

    return read


def _integral(node: Node) -> Node:
    """A whole number that was written with a point, as JSON's may be (JSON Schema 2020-12 section 6.1.1)."""
    return ScalarNode(node.tag, node.value.partition(".")[0], node.start_mark, node.end_mark)


def _expected(parse: Callable[[str], Any]) -> str:
    try:
        parse("\0")
    except UnfitError as unfit:
        return unfit.expected
    return "a value"


def _choice(values: tuple[Any, ...]) -> Converter:
    texts = {str(value): value for value in values}

    def read(reader: Reader, node: Node, path: Path) -> Any:
        text = _text(reader, node, path, f"one of {', '.join(texts)}")
        if text is BAD:
            return BAD
        if text in texts:
            return texts[text]
        if len(texts) == 1:
            return reader.fail(node, path, f"expected {next(iter(texts))}, found '{one_line(text)}'")
        return reader.fail(
            node,
            path,
            f"expected one of {', '.join(texts)}, found '{one_line(text)}'",
            did_you_mean(text, texts) if len(texts) > 3 else "",
        )

    return read


def _either(kinds: tuple[Any, ...]) -> Converter:
    """A union: a literal word first, then the other form; ranges before names."""
    words: dict[str, Any] = {}
    forms = []
    for kind in kinds:
        if typing.get_origin(kind) is Literal:
            words.update({str(value): value for value in typing.get_args(kind)})
        elif kind is bool:
            words.update(_TRUTHS)
        else:
            forms.append(kind)
    held = [form for form in forms if isinstance(form, type) and issubclass(form, Stated)]
    # IPNetwork | str reaches here flattened: ranges where the text looks like one, else a name.
    if str in forms and not held:
        return _scalar_or_name
    if len(held) == 1 and len(forms) > 1:
        return _keys_or_scalar(held[0], converter(reduce(or_, (form for form in forms if form is not held[0]))))
    # Forms of one union of scalars, such as IPAddress, reach here flattened too.
    rest = converter(reduce(or_, forms))
    structs = all(isinstance(form, type) and issubclass(form, Stated) for form in forms)
    written = _choice(tuple(words)) if words and structs else None

    def read(reader: Reader, node: Node, path: Path) -> Any:
        if isinstance(node, ScalarNode) and node.value in words:
            return words[node.value]
        if written is not None and isinstance(node, ScalarNode) and not _is_null(node):
            return written(reader, node, path)
        return rest(reader, node, path)

    return read


def _keys_or_scalar(kind: type[Stated], scalar: Converter) -> Converter:
    """A value with keys, or the scalar that stands for the usual one of it."""

    def read(reader: Reader, node: Node, path: Path) -> Any:
        return reader.read(kind, node, path) if isinstance(node, MappingNode) else scalar(reader, node, path)

    return read


def _scalar_or_name(reader: Reader, node: Node, path: Path) -> Any:
    text = node.value
    if isinstance(node, ScalarNode) and text and (":" in text or "/" in text or text[0].isdigit()):
        return _scalar(IPNetwork)(reader, node, path)
    return _words(reader, node, path)


def _words(reader: Reader, node: Node, path: Path) -> Any:
    text = _text(reader, node, path, "text")
    return BAD if text is not BAD and not _seen(reader, node, path) else text


def _line(reader: Reader, node: Node, path: Path) -> Any:
    """A line as files of lines have them: tabs separate too."""
    text = _text(reader, node, path, "a line of text")
    return BAD if text is not BAD and not _seen(reader, node, path, "\t") else text


def _prose(reader: Reader, node: Node, path: Path) -> Any:
    """Words for people, over several lines; what shows them makes them harmless."""
    return _text(reader, node, path, "text")


_LOOSER: dict[str, Converter] = {"line": _line, "prose": _prose}


def _seen(reader: Reader, node: Node, path: Path, allowed: str = "") -> bool:
    """Whether everything in a scalar's text can be seen; a problem is noted where not."""
    char = unseen(node.value, allowed)
    if char is None:
        return True
    hint = "Write it on one line." if char == "\n" else f"Take U+{ord(char):04X} out."
    reader.fail(node, path, f"expected text in which everything can be seen, found '{one_line(node.value)}'", hint)
    return False


def _whole(reader: Reader, node: Node, path: Path) -> Any:
    text = _text(reader, node, path, "a whole number")
    if text is BAD:
        return BAD
    if is_plain(node) and _INTEGRAL.fullmatch(text):
        text = text.partition(".")[0]
    if text.lstrip("+-").isdecimal() and text.isascii() and len(text) < 19:
        if not is_plain(node):
            return reader.fail(node, path, f"expected a whole number, found the text '{text}'", "Take the quotes away.")
        return int(text)
    return reader.fail(node, path, f"expected a whole number, found '{one_line(text)}'")


#: How YAML 1.2 writes them (section 10.3.2).
_TRUTHS = {"true": True, "True": True, "TRUE": True, "false": False, "False": False, "FALSE": False}


def _truth(reader: Reader, node: Node, path: Path) -> Any:
    text = _text(reader, node, path, "true or false")
    if text is BAD:
        return BAD
    if is_plain(node) and text in _TRUTHS:
        return _TRUTHS[text]
    hint = {"yes": "Write true.", "on": "Write true.", "no": "Write false.", "off": "Write false."}.get(
        text.lower(), ""
    )
    return reader.fail(node, path, f"expected true or false, found '{one_line(text)}'", hint)


def _text(reader: Reader, node: Node, path: Path, expected: str) -> Any:
    if not isinstance(node, ScalarNode) or _is_null(node):
        return reader.fail(node, path, f"expected {expected}, found {found(node)}")
    return node.value


def _is_null(node: Node) -> bool:
    return isinstance(node, ScalarNode) and is_plain(node) and node.value in ("", "~", "null", "Null", "NULL")


def found(node: Node) -> str:
    """What stands at a node, in words."""
    if isinstance(node, MappingNode):
        return "a mapping"
    if isinstance(node, SequenceNode):
        return "a list"
    return "nothing" if _is_null(node) else f"'{one_line(node.value)}'"
