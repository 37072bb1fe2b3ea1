"""The whole estate as a picture: a band for each network, from the internet inwards, and the ways of what is expected."""

from collections.abc import Iterator

from portolan.surveying.plan import Drawn, Place, Plan, Thing
from portolan.views.style import Style
from portolan.views.svg import Svg, wrapped

_WIDTH, _MARGIN, _GAP = 1280, 24, 16
_CLASSES = {"visitor": "p-box p-visitor", "edge": "p-box p-program", "store": "p-box p-program"}
#: What a kind is called in the picture: told by a word, not by colour alone.
_NAMES = {"visitor": "asks from here", "edge": "edge", "store": "store", "router": "router", "host": "host"}


def shown(plan: Plan, style: Style) -> Iterator[str]:
    """The document."""
    yield drawn(plan, style).text_of()


def drawn(plan: Plan, style: Style) -> Svg:
    """The drawing of an estate."""
    svg = Svg(_WIDTH, plan.title, _in_words(plan))
    svg.text(_MARGIN, 34, wrapped(plan.title, 19, _WIDTH - 2 * _MARGIN, 1)[0], 19, bold=True)
    many = sum(len(place.things) for place in plan.places) > 24
    columns, size = (8, 10.0) if many else (6, 11.5)
    y = 52.0
    for place in plan.places:
        y = _place(svg, place, y, columns, size)
    return _ways(svg, plan, y + 6, style)


def _in_words(plan: Plan) -> str:
    places = [f"{place.name}: {', '.join(each.name for each in place.things) or 'nothing'}" for place in plan.places]
    return "; ".join(places)


def _place(svg: Svg, place: Place, y: float, columns: int, size: float) -> float:
    """A network's band with what is on it; the height below."""
    width = (_WIDTH - 2 * _MARGIN - _GAP * (columns - 1)) / columns
    svg.rect(_MARGIN, y, _WIDTH - 2 * _MARGIN, 22, "p-net", 3)
    svg.text(_MARGIN + 10, y + 15, place.name, 12.5, bold=True)
    svg.text(_WIDTH - _MARGIN - 10, y + 15, place.detail, 11, "p-dim", end="end")
    top = y + 22
    for at in range(0, len(place.things), columns):
        part = place.things[at : at + columns]
        told = [_lines(each, width, size) for each in part]
        height = max(22 + len(lines) * (size + 4) for lines in told) + 8
        for number, (thing, lines) in enumerate(zip(part, told, strict=True)):
            x = _MARGIN + number * (width + _GAP)
            svg.path(f"M{x + width / 2:g} {top if at == 0 else top + 4:g}V{top + 12:g}", "p-line")
            _thing(svg, thing, lines, (x, top + 12, width, height), size)
        top += height + 16
    return top + 10


def _lines(thing: Thing, width: float, size: float) -> list[tuple[str, str]]:
    """What stands in a box below its name: what it is, whom it joins, what it has."""
    room = width - 14
    joins = f", joins {', '.join(thing.joins)}" if thing.joins else ""
    found = [(line, "p-dim") for line in wrapped(f"{_NAMES[thing.kind]}{joins}", size - 1, room, 2)]
    for line in thing.lines:
        found += [(each, "p-text") for each in wrapped(line, size - 0.5, room, 2)] if line else []
    return found[:9]


def _thing(
    svg: Svg, thing: Thing, lines: list[tuple[str, str]], where: tuple[float, float, float, float], size: float
) -> None:
    x, y, width, height = where
    svg.rect(x, y, width, height, _CLASSES.get(thing.kind, "p-box"), 14 if thing.kind == "visitor" else 4)
    svg.text(x + 7, y + size + 7, wrapped(thing.name, size + 1, width - 14, 1, True)[0], size + 1, bold=True)
    at = y + 2 * size + 11
    for text, kind in lines:
        svg.text(x + 7, at, text, size - 0.5, kind)
        at += size + 4


def _ways(svg: Svg, plan: Plan, y: float, style: Style) -> Svg:
    """The ways of what is expected, those that fail first."""
    if not plan.ways:
        return svg
    svg.text(_MARGIN, y + 14, "What is expected, and the way of it", 14, bold=True)
    y += 34
    for way in plan.ways:
        (svg.tick if way.met else svg.cross)(_MARGIN + 8, y - 4)
        for number, line in enumerate(wrapped(_way_words(way, style), 11.5, _WIDTH - 3 * _MARGIN, 2)):
            svg.text(
                _MARGIN + 24, y + 15 * number, line, 11.5, "p-text" if way.met else "p-bad", not way.met and not number
            )
            y += 15 * bool(number)
        y += 18
    if plan.left:
        svg.text(_MARGIN + 24, y, f"and {plan.left:,} more", 11.5, "p-dim")
    return svg


def _way_words(way: Drawn, style: Style) -> str:
    arrow = f" {style.arrow} "
    passed = arrow.join((way.vantage, *way.way))
    return f"{way.url}: {passed}" + ("" if way.met else f" (missed: {way.missed})")
