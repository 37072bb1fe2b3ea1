"""A small writer of SVG 1.1: shapes and real text, light and dark, no script, nothing fetched."""

import textwrap
from html import escape

from portolan.source.plain import plain

#: How wide a letter of the picture's font is on average, as a part of its size; capital letters and wide scripts are wider.
_LETTER, _BOLD, _WIDE = 0.57, 0.67, 1.05

#: Light, and dark where that is wished for; nothing is told by colour alone.
STYLE = """
.p-all{font-family:system-ui,'DejaVu Sans',sans-serif}
.p-ground{fill:#fdfdfb}.p-box{fill:#fff;stroke:#5b6770;stroke-width:1.2}.p-visitor{fill:#eef4fb}.p-program{fill:#f4f1e8}
.p-break{fill:#fff3f1;stroke:#b3261e;stroke-width:3}.p-line{stroke:#5b6770;stroke-width:1.6;fill:none}.p-head{fill:#5b6770}
.p-net{fill:#e6ebef}.p-text{fill:#1d2429}.p-dim{fill:#56626b}.p-bad{fill:#b3261e}.p-good{fill:#1b6e3c}.p-lane{stroke:#d5dade;stroke-width:1}
.p-badline{stroke:#b3261e;stroke-width:2.4;fill:none}.p-goodline{stroke:#1b6e3c;stroke-width:2.4;fill:none}
@media (prefers-color-scheme:dark){.p-ground{fill:#15191c}.p-box{fill:#1f262b;stroke:#93a1ab}.p-visitor{fill:#1b2a3a}
.p-program{fill:#2b281d}.p-break{fill:#3a1c1a;stroke:#ff8a80}.p-line{stroke:#93a1ab}.p-head{fill:#93a1ab}.p-net{fill:#2a3238}
.p-text{fill:#e8ecef}.p-dim{fill:#a9b5bd}.p-bad{fill:#ff8a80}.p-good{fill:#7fd8a0}.p-lane{stroke:#3a444b}
.p-badline{stroke:#ff8a80}.p-goodline{stroke:#7fd8a0}}
"""


def safe(text: object) -> str:
    """Foreign text as SVG has it: harmless, and none of it markup (XML 1.0 section 2.4)."""
    return escape(plain(str(text)).replace("\n", "\\n"), quote=True)


def breadth(text: str, size: float) -> float:
    """About how wide a text is drawn."""
    return sum(_WIDE if ord(each) > 0x2E80 else 0.68 if each.isupper() else _LETTER for each in text) * size


def wrapped(text: str, size: float, room: float, most: int, bold: bool = False) -> list[str]:
    """A text in lines that fit a width, at most so many; the last one shows that more follows."""
    letters = max(4, int(room / (size * (_BOLD if bold else _LETTER))))
    shown = plain(text).replace("\n", "\\n")
    lines = textwrap.wrap(shown, letters, break_long_words=True, break_on_hyphens=False) or [""]
    if len(lines) > most:
        lines = [*lines[: most - 1], f"{lines[most - 1][: letters - 2]} .."]
    return lines


class Svg:
    """A drawing that grows; it is as high as what is drawn in it."""

    def __init__(self, width: float, title: str, describes: str = "") -> None:
        self.width = width
        self.height = 0.0
        self._title = title
        self._describes = describes
        self._parts: list[str] = []

    def rect(self, x: float, y: float, width: float, height: float, kind: str, round_: float = 6) -> None:
        """A box."""
        self._parts.append(
            f'<rect class="{kind}" x="{x:g}" y="{y:g}" width="{width:g}" height="{height:g}" rx="{round_:g}"/>'
        )
        self.height = max(self.height, y + height)

    def text(
        self,
        x: float,
        y: float,
        text: object,
        size: float,
        kind: str = "p-text",
        bold: bool = False,
        end: str = "start",
    ) -> None:
        """A line of text; `y` is its base line."""
        weight = ' font-weight="600"' if bold else ""
        anchor = "" if end == "start" else f' text-anchor="{end}"'
        self._parts.append(
            f'<text class="{kind}" x="{x:g}" y="{y:g}" font-size="{size:g}"{weight}{anchor}>{safe(text)}</text>'
        )
        self.height = max(self.height, y)

    def path(self, points: str, kind: str) -> None:
        """A line, or a shape."""
        self._parts.append(f'<path class="{kind}" d="{points}"/>')

    def arrow(self, x: float, y: float, to_x: float, to_y: float) -> None:
        """An arrow to the right, downwards, or round a corner to the next line of boxes."""
        if abs(y - to_y) < 0.5:
            self.path(f"M{x:g} {y:g}H{to_x - 6:g}", "p-line")
            self.path(f"M{to_x - 8:g} {to_y - 5:g}L{to_x:g} {to_y:g}L{to_x - 8:g} {to_y + 5:g}Z", "p-head")
            return
        middle = to_y - 12
        self.path(f"M{x:g} {y:g}V{middle:g}H{to_x:g}V{to_y - 6:g}", "p-line")
        self.path(f"M{to_x - 5:g} {to_y - 8:g}L{to_x:g} {to_y:g}L{to_x + 5:g} {to_y - 8:g}Z", "p-head")

    def cross(self, x: float, y: float) -> None:
        """The mark of a break: a cross."""
        self.path(f"M{x - 6:g} {y - 6:g}L{x + 6:g} {y + 6:g}M{x + 6:g} {y - 6:g}L{x - 6:g} {y + 6:g}", "p-badline")

    def tick(self, x: float, y: float) -> None:
        """The mark of what goes well: a tick."""
        self.path(f"M{x - 6:g} {y:g}L{x - 2:g} {y + 5:g}L{x + 7:g} {y - 6:g}", "p-goodline")

    def text_of(self, number: int = 0) -> str:
        """The whole document; `number` keeps the names of several in one page apart."""
        width, height = f"{self.width:g}", f"{self.height + 16:g}"
        return (
            f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" width="{width}" height="{height}" '
            f'role="img" aria-labelledby="p-title-{number} p-desc-{number}" class="p-all">'
            f'<title id="p-title-{number}">{safe(self._title)}</title><desc id="p-desc-{number}">{safe(self._describes)}</desc>'
            f'<style>{STYLE}</style><rect class="p-ground" width="100%" height="100%"/>{"".join(self._parts)}</svg>\n'
        )
