"""The house as a picture (SVG), drawn from the table that the import test enforces."""

from xml.sax.saxutils import escape

from tests.architecture.house import HOLDS, MAY_IMPORT

WIDE, HIGH, ACROSS, DOWN, EDGE = 200, 44, 20, 34, 16
#: Where each room stands from left to right, in columns; one floor for all engines.
COLUMN = {
    "source": 1.0,
    "estate": 1.0,
    "evidence": 1.0,
    "programs": 3.0,
    "dns": 0.0,
    "net": 1.0,
    "tls": 2.0,
    "http": 3.0,
    "edge": 4.0,
    "store": 5.0,
    "journey": 2.5,
    "diagnosis": 2.5,
    "surveying": 2.0,
    "observing": 4.0,
    "probing": 4.0,
    "views": 3.5,
    "cli": 3.5,
    "rehearsal": 6.0,
    "formats": 6.0,
    "transcribing": 7.0,
}
ENGINES = ("dns", "net", "tls", "http")


def _below(room: str) -> set[str]:
    return {each.partition(".")[0] for each in MAY_IMPORT.get(room, tuple(MAY_IMPORT))}


def _direct(room: str) -> list[str]:
    """What a room imports that it does not already reach through another."""
    below = _below(room)
    return sorted(each for each in below if not any(each in _below(other) for other in below if other != each))


def _floors() -> dict[str, int]:
    """Each room as low as it can stand: above all that it imports; the engines side by side."""
    level: dict[str, int] = {}
    for room in (*MAY_IMPORT, "cli"):
        level[room] = max((level[each] + 1 for each in _below(room)), default=0)
        if room == ENGINES[-1]:
            level |= dict.fromkeys(ENGINES, max(level[each] for each in ENGINES))
    return level


def picture() -> str:
    """The SVG text."""
    floors = _floors()
    columns = max(COLUMN.values()) + 1
    width = int(2 * EDGE + columns * WIDE + (columns - 1) * ACROSS)
    height = 2 * EDGE + (max(floors.values()) + 1) * HIGH + max(floors.values()) * DOWN
    spot = {
        room: (EDGE + COLUMN[room] * (WIDE + ACROSS), height - EDGE - HIGH - floor * (HIGH + DOWN))
        for room, floor in floors.items()
    }
    lines = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}" width="{width}" height="{height}" '
        'font-family="sans-serif" role="img" aria-label="The rooms of the house and what each may import">',
        f'<rect width="{width}" height="{height}" fill="#ffffff"/>',
    ]
    for room, (x, y) in spot.items():
        for other in _direct(room):
            left, top = spot[other]
            # Down a little, across in the gap between two floors, down the other's column.
            middle, theirs = x + WIDE / 2, left + WIDE / 2
            lines.append(
                f'<path d="M{middle:.0f},{y + HIGH} V{y + HIGH + DOWN / 2:.0f} H{theirs:.0f} V{top:.0f}" '
                'fill="none" stroke="#8a93a3" stroke-width="1.4"/>'
            )
            lines.append(
                f'<path d="M{theirs - 4:.0f},{top - 7} L{theirs:.0f},{top} L{theirs + 4:.0f},{top - 7} Z" fill="#8a93a3"/>'
            )
    for room, (x, y) in spot.items():
        lines += [
            f'<rect x="{x:.0f}" y="{y:.0f}" width="{WIDE}" height="{HIGH}" rx="6" fill="#eef3fa" stroke="#33507a"/>',
            f'<text x="{x + WIDE / 2:.0f}" y="{y + 18:.0f}" text-anchor="middle" font-size="15" font-weight="bold" '
            f'fill="#16263f">{room}</text>',
            f'<text x="{x + WIDE / 2:.0f}" y="{y + 35:.0f}" text-anchor="middle" font-size="11" fill="#3c4657">'
            f"{escape(HOLDS[room])}</text>",
        ]
    return "\n".join([*lines, "</svg>"]) + "\n"
