"""YAML 1.2 text to nodes with positions, by libyaml where PyYAML has it.

Nothing is resolved to booleans or numbers here: a scalar stays as written, and the field that it is for decides.
Anchors, aliases, tags, several documents and doubled keys are refused, since every object must have a line of its
own; size and depth are bounded before the composer, which recurses, sees the text.
"""

import re
from collections.abc import Iterator
from typing import Any

import yaml
from yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from portolan.source.place import Span
from portolan.source.plain import one_line
from portolan.source.problem import EstateError, Problem

#: How many bytes a file of an estate may have, where nobody says otherwise (`PORTOLAN_MOST_MB`).
MOST_BYTES = 64 * 1024 * 1024
MOST_DEPTH = 64
_TOO_DEEP = f"nested deeper than {MOST_DEPTH} levels"
_TOO_DEEP_HINT = "No estate needs that; check the brackets."
_PLAIN = "plain"

if yaml.__with_libyaml__:
    from yaml._yaml import CParser as _Parser

    class _Composer(_Parser):
        """libyaml's composer, with every implicit scalar left alone."""

        def __init__(self, stream: Any) -> None:
            _Parser.__init__(self, stream)

        def resolve(self, _kind: type, _value: str, _implicit: object) -> str:
            return _PLAIN

        def descend_resolver(self, _parent: object, _index: object) -> None: ...

        def ascend_resolver(self) -> None: ...

else:  # pragma: no cover - PyYAML's wheels bring libyaml
    from yaml.composer import Composer as _PyComposer
    from yaml.parser import Parser as _PyParser
    from yaml.reader import Reader as _PyReader
    from yaml.scanner import Scanner as _PyScanner

    class _Composer(_PyReader, _PyScanner, _PyParser, _PyComposer):  # type: ignore[no-redef]
        """The same in Python, slower."""

        def __init__(self, stream: Any) -> None:
            _PyReader.__init__(self, stream)
            _PyScanner.__init__(self)
            _PyParser.__init__(self)
            _PyComposer.__init__(self)

        def resolve(self, _kind: type, _value: str, _implicit: object) -> str:
            return _PLAIN

        def descend_resolver(self, _parent: object, _index: object) -> None: ...

        def ascend_resolver(self) -> None: ...


class _Stream:
    """A text with a name, so that every mark knows its file."""

    def __init__(self, name: str, text: str) -> None:
        self.name = name
        self._text = text
        self._at = 0

    def read(self, size: int = -1) -> str:
        """The next part of the text."""
        start = self._at
        self._at = len(self._text) if size < 0 else min(len(self._text), start + size)
        return self._text[start : self._at]


def compose(name: str, data: bytes) -> Node:
    """The root node of a YAML or JSON text. Raises EstateError with the first problem's spot.

    A file whose name ends in `.json` is JSON; another text that begins like JSON is, if it is JSON to its end.
    """
    start = Span(name, 1, 1)
    text = _utf8(name, data)
    declared = name.lower().endswith(".json")
    if declared or text.lstrip()[:1] in ("{", "["):
        from portolan.formats.json_nodes import json_nodes  # most estates are YAML, and need no JSON

        try:
            return json_nodes(name, text, MOST_DEPTH)
        except EstateError:
            if declared:
                raise
    _refuse_controls(name, text)
    if _may_be_too_deep(text):
        _check_depth(name, text)
    if re.search(r"(?:^|[\s\[{,:-])[&*!]", text):
        _check_plain_events(name, text)
    # One flat line of text can hide more structure than the composer's recursion bears, so depth came first.
    composer = _Composer(_Stream(name, text))
    try:
        if not composer.check_node():
            _refuse(start, "the file is empty", "Start with 'portolan: 1'.")
        root = composer.get_node()
        if composer.check_node():
            extra = composer.get_node()
            _refuse(
                _span(extra),
                "a second YAML document starts here; an estate is one document",
                "Take the '---' away, or move the part to a file of its own and 'include' it.",
            )
    except yaml.MarkedYAMLError as error:
        raise EstateError([_problem(name, text, error)]) from None
    except yaml.YAMLError as error:
        raise EstateError([Problem(start, f"not YAML: {one_line(str(error))}")]) from None
    if root is None:
        raise EstateError([Problem(start, "the file is empty", hint="Start with 'portolan: 1'.")])
    return root


def composed(name: str, text: str) -> Node:
    """The root node of a text that was read before, with marks at both ends of every node, JSON too: for whoever changes it."""
    found = _Composer(_Stream(name, text)).get_single_node()
    if found is None:
        raise EstateError([Problem(Span(name, 1, 1), "the file is empty")])
    return found


def node_of(value: object, name: str = "(change)") -> Node:
    """A node for plain data (JSON's types), positioned in a named text that does not exist as a file."""
    mark = yaml.Mark(name, 0, 0, 0, None, 0)
    if isinstance(value, dict):
        pairs = [
            (ScalarNode(_PLAIN, str(key), mark, mark, style='"'), node_of(item, name)) for key, item in value.items()
        ]
        return MappingNode(_PLAIN, pairs, mark, mark)
    if isinstance(value, list | tuple):
        return SequenceNode(_PLAIN, [node_of(item, name) for item in value], mark, mark)
    if value is None:
        return ScalarNode(_PLAIN, "null", mark, mark, style=None)
    if isinstance(value, bool):
        return ScalarNode(_PLAIN, "true" if value else "false", mark, mark, style=None)
    if isinstance(value, int | float):
        return ScalarNode(_PLAIN, repr(value), mark, mark, style=None)
    return ScalarNode(_PLAIN, str(value), mark, mark, style='"')


def plain_data(node: Node) -> Any:
    """A node as plain data (JSON's types), by YAML 1.2's core schema (section 10.3.2)."""
    if isinstance(node, MappingNode):
        return {key.value: plain_data(item) for key, item in node.value}
    if isinstance(node, SequenceNode):
        return [plain_data(item) for item in node.value]
    text: str = node.value
    if not is_plain(node):
        return text
    if text in ("", "~", "null", "Null", "NULL"):
        return None
    if text in ("true", "True", "TRUE"):
        return True
    if text in ("false", "False", "FALSE"):
        return False
    if re.fullmatch(r"[-+]?[0-9]{1,18}", text):
        return int(text)
    if re.fullmatch(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?", text):
        return float(text)
    return text


def is_plain(node: Node) -> bool:
    """Whether a scalar was written without quotes."""
    return isinstance(node, ScalarNode) and not node.style


def _utf8(name: str, data: bytes) -> str:
    """The text of a file, without the byte order mark that some editors put first."""
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        before = data[: error.start]
        line = before.count(b"\n") + 1
        column = error.start - (before.rfind(b"\n") + 1) + 1
        _refuse(Span(name, line, column), f"byte 0x{data[error.start]:02x} is not UTF-8", "Save the file in UTF-8.")
    return text


def _refuse_controls(name: str, text: str) -> None:
    """YAML 1.2 section 5.1: which characters a text may hold."""
    bad = re.search("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x84\x86-\x9f\ud800-\udfff\ufffe\uffff]", text)
    if bad:
        line = text.count("\n", 0, bad.start()) + 1
        column = bad.start() - (text.rfind("\n", 0, bad.start()) + 1) + 1
        _refuse(Span(name, line, column), f"control character U+{ord(bad.group()):04X} is not allowed", "Take it out.")


def _may_be_too_deep(text: str) -> bool:
    if re.search(rf"^[ \-?\t]{{{MOST_DEPTH},}}", text, re.MULTILINE) or re.search(r"(?:[-?] +){20}", text):
        return True
    if text.count("[") + text.count("{") <= MOST_DEPTH:
        return False
    depth = 0
    for match in re.finditer(r"[\[\]{}]", text):
        depth += 1 if match.group() in "[{" else -1
        if depth > MOST_DEPTH:
            return True
    return False


def _events(name: str, text: str) -> Iterator[Any]:
    parser = _Composer(_Stream(name, text))
    try:
        while parser.check_event():
            yield parser.get_event()
    except yaml.MarkedYAMLError as error:
        raise EstateError([_problem(name, text, error)]) from None
    except yaml.YAMLError as error:
        raise EstateError([Problem(Span(name, 1, 1), f"not YAML: {one_line(str(error))}")]) from None


def _check_depth(name: str, text: str) -> None:
    depth = 0
    for event in _events(name, text):
        if isinstance(event, yaml.CollectionStartEvent):
            depth += 1
            if depth > MOST_DEPTH:
                _refuse(_span(event), _TOO_DEEP, _TOO_DEEP_HINT)
        elif isinstance(event, yaml.CollectionEndEvent):
            depth -= 1


def _check_plain_events(name: str, text: str) -> None:
    problems = []
    for event in _events(name, text):
        if isinstance(event, yaml.AliasEvent):
            problems.append(
                Problem(
                    _span(event),
                    f"'*{one_line(str(event.anchor))}' is a YAML alias, which is not read here",
                    hint="Write the value out; or put it in quotes if it is text.",
                )
            )
        elif getattr(event, "anchor", None):
            problems.append(
                Problem(
                    _span(event),
                    f"'&{one_line(str(event.anchor))}' is a YAML anchor, which is not read here",
                    hint="Take it away; or put the text in quotes.",
                )
            )
        elif getattr(event, "tag", None):
            problems.append(
                Problem(
                    _span(event),
                    f"'{one_line(event.tag)}' is a YAML tag, which is not read here",
                    hint="Take it away; or put the text in quotes.",
                )
            )
    if problems:
        raise EstateError(problems[:20])


_HINTS = (
    ("alphabetic or numeric character", "Text that starts with '*' or '&' needs quotes."),
    ("cannot start any token", "Put the text in quotes."),
    ("could not find expected ':'", "Check that the key above ends in ': ' and the indentation is right."),
    ("mapping values are not allowed", "Check the indentation of this line, or put text that holds ': ' in quotes."),
    ("did not find expected", "Check the brackets, the commas and the indentation."),
    ("did not find expected key", "Check the indentation of this line against the lines above."),
)


def _problem(name: str, text: str, error: yaml.MarkedYAMLError) -> Problem:
    mark = error.problem_mark or error.context_mark
    words = one_line(error.problem or error.context or "not YAML")
    line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
    if "maximum nesting depth" in words:  # newer scanners stop by themselves, before the first event
        return Problem(Span(name, line, column), _TOO_DEEP, hint=_TOO_DEEP_HINT)
    found = ""
    lines = text.split("\n", line)
    if line <= len(lines):
        rest = lines[line - 1][column - 1 :].strip()
        if rest:
            found = f" at '{one_line(rest, 40)}'"
    context = one_line(error.context) if error.context else ""
    context_mark = error.context_mark
    if context and context_mark is not None and context_mark.line != line - 1:
        context += f" that starts in line {context_mark.line + 1}"
    if line <= len(lines) and lines[line - 1][:column].endswith("\t"):
        hint = "Indent with spaces: YAML takes no tab there (YAML 1.2.2 section 6.1)."
        return Problem(Span(name, line, column), f"not YAML: a tab{found}", hint=hint)
    hint = next((advice for words_of, advice in _HINTS if words_of in words), "Check the indentation and the brackets.")
    return Problem(Span(name, line, column), f"not YAML: {words}{found}{', ' + context if context else ''}", hint=hint)


def _span(thing: Any) -> Span:
    return Span(thing.start_mark.name, thing.start_mark.line + 1, thing.start_mark.column + 1)


def _refuse(span: Span, message: str, hint: str = "") -> Any:
    raise EstateError([Problem(span, message, hint=hint)])
