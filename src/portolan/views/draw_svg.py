"""A visit as a picture: boxes from left to right, lines of boxes from top to bottom, inner exchanges below whoever makes them."""

from collections.abc import Iterator

from portolan.source.plain import plain
from portolan.surveying.picture import Box, Lane, Note, Picture
from portolan.views.style import Style
from portolan.views.svg import Svg, breadth, wrapped

#: The picture's width, what stands around it, and between boxes.
_WIDTH, _MARGIN, _GAP = 1280, 24, 46
#: From so many boxes on they are smaller, and more stand side by side.
_MANY = 18
_INDENT = 26


def shown(picture: Picture, style: Style) -> Iterator[str]:
    """The document."""
    yield drawn(picture, style).text_of()


def drawn(picture: Picture, style: Style) -> Svg:
    """The drawing of a visit."""
    sign = "comes to" if picture.met else "fails:"
    title = f"{picture.url} from {picture.vantage} {sign} {picture.outcome}"
    svg = Svg(_WIDTH, title, _in_words(picture))
    svg.text(_MARGIN, 34, f"{picture.url}  from {picture.vantage}", 19, bold=True)
    (svg.tick if picture.met else svg.cross)(_MARGIN + 8, 56)
    kind = "p-good" if picture.met else "p-bad"
    y = 61.0
    for line in wrapped(picture.outcome, 14, _WIDTH - 3 * _MARGIN, 2):
        svg.text(_MARGIN + 24, y, line, 14, kind, True)
        y += 18
    many = sum(len(lane.boxes) for lane in picture.lanes) > _MANY
    most, size = (8, 10.0) if many else (5, 11.5)
    # As many side by side as the longest lane has, and no fewer than four; every box is as wide as every other.
    columns = max(4, min(most, max((len(lane.boxes) for lane in picture.lanes), default=4)))
    deepest = max((lane.depth for lane in picture.lanes), default=0)
    width = (_WIDTH - 2 * _MARGIN - min(_INDENT * deepest, 10 * _INDENT) - _GAP * (columns - 1)) / columns
    y += 4
    for lane in picture.lanes:
        y = _lane(svg, lane, y, (columns, width), size, style) + (8 if many else 18)
    return svg


def _in_words(picture: Picture) -> str:
    """The way in a sentence, for those who do not see it."""
    lanes = [f"{lane.title}: {', then '.join(box.title for box in lane.boxes)}" for lane in picture.lanes]
    broken = [box.title for lane in picture.lanes for box in lane.boxes if box.breaks]
    return plain("; ".join(lanes) + (f". It breaks at {broken[0]}." if broken else "."))


def _lane(svg: Svg, lane: Lane, y: float, grid: tuple[int, float], size: float, style: Style) -> float:
    """Draws a lane from a height on, so many boxes of a width side by side; the height below it."""
    columns, width = grid
    left = _MARGIN + _INDENT * min(lane.depth, 10)
    svg.path(f"M{left:g} {y:g}H{_WIDTH - _MARGIN:g}", "p-lane")
    lead = "in turn, " if lane.depth else ""
    kind = "p-dim" if lane.depth or lane.back else "p-text"
    svg.text(
        left,
        y + size + 6,
        wrapped(f"{lead}{lane.title}", size + 1, _WIDTH - _MARGIN - left, 1)[0],
        size + 1,
        kind,
        True,
    )
    top = y + size + 16
    for at in range(0, len(lane.boxes), columns):
        part = lane.boxes[at : at + columns]
        told = [_lines(box, width, size, style) for box in part]
        height = max(_height(lines, size) for lines in told)
        for number, (box, lines) in enumerate(zip(part, told, strict=True)):
            x = left + number * (width + _GAP)
            if number:
                _link(svg, part[number - 1].onward, x - _GAP, x, top + 22, size)
            elif at:
                before = left + (columns - 1) * (width + _GAP) + width / 2
                svg.arrow(before, top - 26, x + width / 2, top)
            _box(svg, box, lines, (x, top, width, height), size)
        top += height + 30
    return top - 14


def _link(svg: Svg, network: str | None, x: float, to_x: float, y: float, size: float) -> None:
    svg.arrow(x, y, to_x, y)
    if network:
        name = wrapped(network, size - 1.5, _GAP + 8, 1)[0]
        svg.text((x + to_x) / 2 - 2, y - 7, name, size - 1.5, "p-dim", end="middle")


#: A line of a box: its text, what kind it is drawn as, and whether it is bold; nothing is a little room between two notes.
_Line = tuple[str, str, bool]
_ROOM: _Line = ("", "", False)
#: So many notes stand in a box; the rest is counted.
_MOST_NOTES = 7


def _lines(box: Box, width: float, size: float, style: Style) -> list[_Line]:
    """What stands in a box, line by line."""
    room = width - 16
    lines: list[_Line] = [
        (line, "p-text", True) for line in wrapped(box.title, size + 1, room - 18 * box.breaks, 2, True)
    ]
    if box.detail:
        lines.append((wrapped(box.detail, size - 0.5, room, 1)[0], "p-dim", False))
    notes = [*(each for each in box.notes if not each.breaks)][:_MOST_NOTES] + [
        each for each in box.notes if each.breaks
    ]
    for note in notes:
        lines += [_ROOM, *_note(note, size, room, style)]
    if len(notes) < len(box.notes):
        lines += [_ROOM, (f"and {len(box.notes) - len(notes)} more", "p-dim", False)]
    return lines


def _note(note: Note, size: float, room: float, style: Style) -> list[_Line]:
    kind = "p-bad" if note.breaks else "p-dim" if note.assumed else "p-text"
    lead = "BREAKS HERE: " if note.breaks else "assumed: " if note.assumed else ""
    told = wrapped(f"{lead}{note.text}", size - 0.5, room, 8 if note.breaks else 4, note.breaks)
    lines: list[_Line] = [(line, kind, note.breaks) for line in told]
    if note.place is not None:
        lines.append((_tail(style.place(note.place.span.short), size - 1, room), "p-dim", False))
    return lines


def _height(lines: list[_Line], size: float) -> float:
    return 14 + sum(4 if each is _ROOM else size + 4 for each in lines)


def _box(svg: Svg, box: Box, lines: list[_Line], where: tuple[float, float, float, float], size: float) -> None:
    x, y, width, height = where
    kind = "p-box p-visitor" if box.kind == "visitor" else "p-box p-program" if box.kind == "program" else "p-box"
    svg.rect(x, y, width, height, "p-box p-break" if box.breaks else kind, 14 if box.kind == "visitor" else 4)
    if box.breaks:
        svg.cross(x + width - 14, y + 15)
    at = y + size + 8
    for each in lines:
        if each is _ROOM:
            at += 4
            continue
        text, shade, bold = each
        svg.text(x + 8, at, text, size - (0 if bold else 0.5), shade, bold)
        at += size + 4


def _tail(text: str, size: float, room: float) -> str:
    """The end of a place that is too long: the file's own name and the line are what somebody looks for."""
    while breadth(text, size) > room and len(text) > 12:
        text = f"..{text[8:]}"
    return text
