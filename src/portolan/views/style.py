"""Ink and glyphs: colour only where asked, plain ASCII where the encoding needs it, never colour alone."""

import textwrap

from portolan.source.plain import plain
from portolan.source.value import Value

_CODES = {"bad": "31", "good": "32", "dim": "2", "bold": "1", "warn": "33", "leg": "36"}


class Style(Value, frozen=True):
    """How to draw: the width in columns, whether in colour, whether beyond ASCII."""

    width: int = 80
    colour: bool = False
    unicode: bool = True
    #: The estate's folder, as places begin with it; it is named once and left out everywhere else.
    folder: str = ""

    def place(self, where: str) -> str:
        """A place as it is shown: as seen from the estate's folder."""
        return self.safe(where.removeprefix(self.folder))

    def ink(self, text: str, *inks: str) -> str:
        """Text in colour, where colour is on."""
        if not self.colour or not text:
            return text
        return f"\x1b[{';'.join(_CODES[ink] for ink in inks)}m{text}\x1b[0m"

    def safe(self, text: object) -> str:
        """Foreign text made harmless, and ASCII where it must be."""
        shown = plain(str(text)).replace("\n", "\\n")
        return shown if self.unicode else shown.encode("ascii", "backslashreplace").decode()

    @property
    def bad(self) -> str:
        """The mark of a break."""
        return "✗" if self.unicode else "X"

    @property
    def good(self) -> str:
        """The mark of what went well."""
        return "✓" if self.unicode else "+"

    @property
    def arrow(self) -> str:
        """The mark of what follows."""
        return "→" if self.unicode else "->"

    @property
    def dot(self) -> str:
        """The mark of a step that was passed."""
        return "·" if self.unicode else "."


def columns_of(text: str) -> int:
    """How many columns of a terminal a text takes: wide letters take two, what combines with another none."""
    if text.isascii():
        return len(text)
    from wcwidth import wcswidth

    width: int = wcswidth(text)
    return width if width >= 0 else len(text)


def wrapped(text: str, room: int, broken: bool = True) -> list[str]:
    """A text in lines of so many columns; words that are longer are broken, unless they are to stay whole."""
    if text.isascii() or columns_of(text) == len(text):
        return textwrap.wrap(text, room, break_long_words=broken, break_on_hyphens=False) or [""]
    lines, line = list[str](), ""
    for word in text.split():
        joined = f"{line} {word}" if line else word
        if columns_of(joined) <= room:
            line = joined
            continue
        lines += [line] if line else []
        while broken and columns_of(word) > room:
            fits = next(size for size in range(len(word), 0, -1) if columns_of(word[:size]) <= room or size == 1)
            lines.append(word[:fits])
            word = word[fits:]
        line = word
    return [*lines, line] if line or not lines else lines


def row(style: Style, lead: str, lead_width: int, text: str, where: str = "", ink: tuple[str, ...] = ()) -> list[str]:
    """A lead, wrapped text, and at the right end of the first line where it is written.

    `lead` may hold ink; `lead_width` is its width in columns. Where text and place do not fit on one line, the place
    gets the end of the last line, or a line of its own.
    """
    room = max(24, style.width - lead_width)
    text = style.safe(text)
    where = style.place(where)
    held = f"  {where}" if where else ""
    if columns_of(text) + columns_of(held) <= room:
        gap = room - columns_of(text) - columns_of(where) if where else 0
        return [lead + style.ink(text, *ink) + (" " * gap + style.ink(where, "dim") if where else "")]
    lines = wrapped(text, room)
    out = [lead + style.ink(lines[0], *ink)]
    out += [" " * lead_width + style.ink(line, *ink) for line in lines[1:]]
    if where:
        last = lines[-1]
        if columns_of(last) + columns_of(held) <= room:
            out[-1] += " " * (room - columns_of(last) - columns_of(where)) + style.ink(where, "dim")
        else:
            out.append(" " * max(lead_width, style.width - columns_of(where)) + style.ink(where, "dim"))
    return out


def paragraph(style: Style, text: str, indent: int = 0, ink: tuple[str, ...] = ()) -> list[str]:
    """Wrapped text."""
    room = max(24, min(style.width, 100) - indent)
    lines = wrapped(style.safe(text), room)
    return [" " * indent + style.ink(line, *ink) for line in lines]
