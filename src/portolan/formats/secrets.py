"""Values that are never shown: those of keys that say so (`kind="secret"`), wherever they stand in an estate or in its text."""

import re
from collections.abc import Callable, Iterator
from itertools import islice

from portolan.estate.annotations import secret_fields, secret_keys
from portolan.estate.changing import stated_values
from portolan.estate.estate import Estate
from portolan.source.nearest import nearest
from portolan.source.place import Span
from portolan.source.problem import Problem, shown_with_line

#: What stands in their place.
HIDDEN = "(not shown)"
#: So many lines above a line are looked at for the key that it belongs to.
_FAR = 200
#: What the lines of a key look like: long runs of base64 (RFC 7468 section 3).
_KEY_LINES = re.compile(r"[A-Za-z0-9+/]{40,}={0,2}")
#: Of a longer line, so many columns before and behind the place are looked at.
_BEFORE, _BEHIND = 20_000, 200


def secret_values(estate: Estate) -> Iterator[tuple[str, str]]:
    """Name and value of all that is never shown, in every version of every object."""
    for value in stated_values(estate):
        for field in secret_fields(type(value)):
            yield from (getattr(value, field, None) or {}).items()


def _is_key(word: str) -> bool:
    """Whether a word is such a key, or was perhaps meant for one."""
    return word in secret_keys() or nearest(word, secret_keys()) is not None


_KEY = re.compile(r"""(?<![\w-])["']?([\w-]+)["']?\s*:\s*""")
_KEY_ALONE = re.compile(r"""(?:.*[\s-])?["']?([\w-]+)["']?\s*:\s*\{?\s*(?:#.*)?""")


def _secret_parts(line: str, below: bool) -> Iterator[tuple[int, int]]:
    """Where a line holds what is never shown; `below`: it belongs to a key of the lines above."""
    for found in _KEY_LINES.finditer(line):
        if found[0].upper() != found[0] != found[0].lower():
            yield found.span()
    if below:
        yield line.find(":") + 1, len(line)
        return
    for key in _KEY.finditer(line):
        if not _is_key(key[1]):
            continue
        at, depth = key.end(), 0
        while at < len(line) and (depth > 0 or line[at] not in ",}"):
            depth += (line[at] in "{[") - (line[at] in "}]")
            at += 1
        yield key.end(), at


def shown_problem(problem: Problem, line_of: Callable[[Span], str | None]) -> str:
    """A problem with its line: what is never shown is blotted out of both, letter by letter in the line, so that columns stay.

    Keys stand in lines of base64. Other secrets stand behind a key of theirs on the same line (`headers: {X-Known: ...}`), or
    on lines of their own below it.
    """
    line = line_of(problem.span)
    if line is None:
        return str(problem)
    left_out = max(0, problem.span.column - _BEFORE)
    line = " " * left_out + line[left_out : problem.span.column + _BEHIND]
    parts = list(_secret_parts(line, _below_key(problem.span, line, line_of)))
    hidden = {word for start, end in parts for word in re.split(r"[\s{}\[\],:'\"]+", line[start:end]) if len(word) > 3}
    for start, end in parts:
        line = line[:start] + re.sub(r"[^\s{}]", ".", line[start:end]) + line[end:]
    message, hint = problem.message, problem.hint
    for each in sorted(hidden, key=len, reverse=True):
        message, hint = message.replace(each, HIDDEN), hint.replace(each, HIDDEN)
    # What is quoted may be only a piece.
    if hidden and " at '" in message:
        message = re.sub(r" at '[^']*'\S*", "", message)
    return shown_with_line(problem._replace(message=message, hint=hint), line)


def _below_key(span: Span, line: str, line_of: Callable[[Span], str | None]) -> bool:
    """Whether a line stands below a key whose values are never shown, as one of its fields."""
    indent = len(line) - len(line.lstrip())
    above = (line_of(span._replace(line=number)) or "" for number in range(span.line - 1, 0, -1))
    for other in islice(above, _FAR):
        text = other.strip()
        if text and not text.startswith("#") and len(other) - len(other.lstrip()) < indent:
            alone = _KEY_ALONE.fullmatch(text)
            return alone is not None and _is_key(alone[1])
    return False
