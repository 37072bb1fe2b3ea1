"""A letter as text that can be sent, and as JSON."""

import textwrap
from collections.abc import Iterator
from typing import TYPE_CHECKING

from portolan.source.plain import document, plain
from portolan.views.data import VERSION
from portolan.views.style import Style
from portolan.views.words import in_words

if TYPE_CHECKING:
    from portolan.observing.letter import Letter

_WIDE = 76


def text(result: "Letter", style: Style) -> Iterator[str]:
    """The letter."""
    yield f"To: {style.safe(result.to)}\nSubject: {style.safe(_subject(result))}\n\n"
    yield "\n".join(style.safe(line) for line in _body(result)) + "\n"


def _subject(result: "Letter") -> str:
    return textwrap.shorten(f"{result.url} gives {in_words(result.gets.outcome)}", 120, placeholder=" ...")


def _body(result: "Letter") -> list[str]:
    lines = ["Hello,", ""]
    lines += _wrapped(f"please do this: {result.wanted}.")
    lines += [
        "",
        *_wrapped(f"Why: who asks for {result.url} from {result.vantage} gets {in_words(result.gets.outcome)}."),
    ]
    for each in result.why:
        lines += _wrapped(f"{each[0].upper()}{each[1:]}.")
    lines += ["", "How it was found: the way of the request, step by step:"]
    for each in result.steps:
        lines += _wrapped(each, "- ")
    if result.before is not None:
        lines += [
            "",
            *_wrapped(f"How to see it: on {result.before.on}, this prints {result.before.words} now:"),
            f"    {result.before.command}",
        ]
    if result.after is not None:
        same = result.before is not None and result.after.command == result.before.command
        what = "the same command" if same else "this command"
        lines += _wrapped(f"When it is done, {what} prints {result.after.words}{'.' if same else ':'}")
        lines += [] if same else [f"    {result.after.command}"]
    return [*lines, "", "Thank you."]


def _wrapped(text: str, lead: str = "") -> list[str]:
    return textwrap.wrap(
        plain(text),
        _WIDE,
        initial_indent=lead,
        subsequent_indent=" " * len(lead),
        break_on_hyphens=False,
        break_long_words=False,
    )


def json(result: "Letter", style: Style) -> Iterator[str]:
    """The document."""
    del style
    body = "\n".join(_body(result)) + "\n"
    yield document(
        {"portolan": VERSION, "to": result.to, "subject": _subject(result), "wanted": result.wanted, "body": body}
    )
