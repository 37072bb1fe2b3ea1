"""What the terminal bears: width, colour, characters."""

import argparse
import os
import sys
import time
from collections.abc import Callable
from typing import TextIO

from portolan.cli.options import columns, named_estate
from portolan.source.plain import document
from portolan.views.style import Style

_WIDEST = 140


def style_of(arguments: argparse.Namespace) -> Style:
    """How to draw on standard output."""
    wish = getattr(arguments, "color", "auto")
    on_terminal = sys.stdout.isatty()
    colour = wish == "always" or (
        wish == "auto" and on_terminal and not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"
    )
    encoding = (sys.stdout.encoding or "ascii").lower().replace("_", "-")
    width = columns() if on_terminal or os.environ.get("COLUMNS") else 80
    return Style(max(40, min(_WIDEST, width)), colour, encoding.startswith("utf"), _folder(arguments))


def _folder(arguments: argparse.Namespace) -> str:
    """What the places of an estate's files begin with: the folder that was named, or that of the file."""
    given = named_estate(arguments)
    folder = given if os.path.isdir(given) else os.path.dirname(given)
    return "" if folder in ("", ".") else os.path.join(folder, "")


def progress_line(stream: TextIO) -> Callable[[str, int, int], None]:
    """A line that says how far a long run is, on a terminal only; an empty word wipes it."""
    start = time.monotonic()

    def show(what: str, done: int, of: int) -> None:
        if not stream.isatty():
            return
        text = f"{what} {done} of {of}, {time.monotonic() - start:.0f} s" if what else ""
        stream.write(f"\r{text[: columns() - 1]}\033[K")
        stream.flush()

    return show


def put(what: str, form: str, result: object, style: Style) -> None:
    """Prints a result in one of its forms."""
    from portolan.views.formats import form_of

    for piece in form_of(what, form)(result, style):
        sys.stdout.write(piece)


def print_json(data: object) -> None:
    """Plain data as JSON."""
    sys.stdout.write(document(data))
