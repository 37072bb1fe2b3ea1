"""The text view: a leg a line, the break marked, the verdict last."""

from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from portolan.evidence.decision import Decision
from portolan.evidence.legs import Exchange
from portolan.journey.expectation import Miss
from portolan.journey.parts import Part
from portolan.journey.turns import Turn
from portolan.journey.visit import Visit
from portolan.source.place import Place
from portolan.views.style import Style, paragraph, row
from portolan.views.words import in_words

if TYPE_CHECKING:
    from portolan.diagnosis.base import Finding  # not loaded for a visit that went well
    from portolan.views.results import Followed


def shown(result: "Followed", style: Style) -> Iterator[str]:
    """A visit, with the leg that is to be drawn large before the rest."""
    zoomed = None
    if result.zoom is not None:
        from portolan.views.zoom_text import zoom_text

        zoomed = zoom_text(result.visit, result.zoom, style)
    facts = (result.visit, result.missed, result.expected, result.findings, style, result.every)
    yield follow_text(*facts, zoomed, result.turns, result.parts, _more(result, style))


def _more(result: "Followed", style: Style) -> list[str]:
    """What was asked for beside the way itself: what it hangs on, and what to look at by hand."""
    lines: list[str] = []
    if result.rests_on is not None or result.by_hand is not None:
        from portolan.views.observing_text import by_hand_text, rests_on_text

        lines += rests_on_text(result.rests_on, style) if result.rests_on is not None else []
        lines += [""] if lines and result.by_hand is not None else []
        lines += by_hand_text(result.by_hand, style) if result.by_hand is not None else []
    return [*lines, ""] if lines else []


def follow_text(
    visit: Visit,
    missed: tuple[Miss, ...],
    expected: bool,
    findings: "list[Finding]",
    style: Style,
    every: bool,
    zoomed: list[str] | None = None,
    turns: tuple[Turn, ...] = (),
    parts: tuple[Part, ...] = (),
    more: Iterable[str] = (),
) -> str:
    """One visit, leg by leg; a leg enlarged stands before the rest, `more` before the verdict. `turns` are the addresses at which it goes otherwise."""
    lines = [*head(visit, style), *(zoomed or ()), *legs(visit, style, every), *assumed(visit, style, every)]
    for finding in findings[:1]:
        word = "cause   " if missed else "beware  "
        lines += row(style, style.ink(word, "warn"), 8, f"{finding.code}: {finding.text}", where(finding.place))
    lines += more
    lines += verdict(visit, missed, expected, style)
    lines += _looks_broken(parts, style)
    for turn in turns:
        if turn.edge is not None:
            lines += _by_settings(turn, visit, style)
            continue
        if not turn.misses:
            who = f"{turn.words}: the visitor" if turn.member else "For some only: a browser"
            text = f"{who[0].upper()}{who[1:]} gets it ({in_words(turn.visit.outcome)})"
            fetched = next((each.text for each in turn.visit.assumptions if each.kind == "issuer-fetched"), None)
            lines += row(style, style.ink(f"{style.good} ", "good"), 2, f"{text}: {fetched}" if fetched else text, "")
            continue
        stop = turn.visit.stop
        text = f"{turn.words[0].upper()}{turn.words[1:]}: {in_words(turn.visit.outcome)}"
        text += f": {stop.text}" if stop is not None else f"; missed: {'; '.join(each.text for each in turn.misses)}"
        mark = style.ink(f"{style.bad} ", "bad", "bold")
        lines += row(style, mark, 2, text, where(stop.place) if stop is not None else "", ("bad", "bold"))
    return "\n".join(lines) + "\n"


def _looks_broken(parts: tuple[Part, ...], style: Style) -> list[str]:
    """The parts of the page that do not come, each with where the page says it."""
    if not parts:
        return []
    told = "1 part of it does not come" if len(parts) == 1 else f"{len(parts)} parts of it do not come"
    mark = style.ink("! ", "warn", "bold")
    lines = row(style, mark, 2, f"The page came and looks broken: {told}", "", ("warn",))
    for each in parts:
        why = in_words(each.visit.outcome)
        if each.plain:
            why = "plain, on a secure page: browsers do not load it"
        elif each.visit.stop is not None:
            why = f"{why}: {each.visit.stop.text}"
        lines += row(style, "  ", 2, f"{each.url}: {why}", where(each.stated.place))
    return lines


def _by_settings(turn: Turn, visit: Visit, style: Style) -> list[str]:
    """What comes as long as an edge's settings are not in effect, and how to see which of the two answers now."""
    edge = turn.edge
    assert edge is not None
    stop = turn.visit.stop
    text = f"{turn.words[0].upper()}{turn.words[1:]}: {in_words(turn.visit.outcome)}"
    text += f": {stop.text}" if stop is not None and turn.misses else ""
    ink = ("bad", "bold") if turn.misses else ()
    mark = style.ink(f"{style.bad if turn.misses else style.good} ", *(ink or ("good",)))
    lines = row(style, mark, 2, text, where(edge.place.key("in_effect_from")), ink)
    if not edge.before and edge.canonical is not None:
        shows = (
            f"To see which it is, look up {edge.canonical}: as long as there is no such name, they are not in effect"
        )
    else:
        new, old = in_words(visit.outcome), in_words(turn.visit.outcome)
        shows = f"To see which it is, ask for {visit.url} from several places: '{new}' comes by the new settings, '{old}' by the old"
    return [*lines, *row(style, "  ", 2, shows, "")]


def where(place: Place | None) -> str:
    """Where something is written, as file:line."""
    if place is None or place.span.file == "(assumed)":
        return ""
    return place.span.short


def head(visit: Visit, style: Style) -> list[str]:
    """The question."""
    text = f"{visit.url}  from {visit.vantage.name}, {visit.at:%Y-%m-%d %H:%M} UTC"
    if visit.booted is None or visit.booted:
        text += f", after a reboot of {'every machine' if visit.booted is None else ', '.join(sorted(visit.booted))}"
    lines = [style.ink(line, "bold") for line in paragraph(style, text)]
    if style.folder:
        lines += paragraph(style, f"Places below are in {style.folder}", 0, ("dim",))
    return [*lines, ""]


def legs(visit: Visit, style: Style, every: bool) -> list[str]:
    """The legs of every exchange."""
    lines: list[str] = []
    several = len(visit.exchanges) > 1
    shown, hidden = visit.exchanges, 0
    if len(shown) > 8 and not every:
        hidden = len(shown) - 6
        shown = (*visit.exchanges[:4], *visit.exchanges[-2:])
    for number, exchange in enumerate(shown, 1):
        if hidden and number == 5:
            lines.append(style.ink(f"  ... {hidden} more of the same kind", "dim"))
        if several:
            lines += paragraph(style, f"{style.arrow} {exchange.url}", 0, ("bold",))
        lines += _exchange(exchange, visit.stop, style, every, 0)
    if visit.stop is not None and visit.outcome.kind == "redirect-error":
        lines += _line(visit.stop, visit.stop, style, visit.stop.leg)
    return [*lines, ""]


def _exchange(exchange: Exchange, stop: Decision | None, style: Style, every: bool, depth: int) -> list[str]:
    """An exchange's decisions; an inner exchange stands indented under the decision that passes the request on."""
    lines: list[str] = []
    last = ""
    for decision in exchange.decisions:
        if every or decision.stops or decision.shown or decision is stop:
            leg = decision.leg
            lines += _line(decision, stop, style, leg if leg != last else "", depth)
            last = leg
        if decision.asks_on:
            for each in exchange.inner:
                lines += _exchange(each, stop, style, every, depth + 1)
                last = ""
    return lines


def _broke(decision: Decision, stop: Decision | None) -> bool:
    """Whether a decision ended the visit, or is what the one that ended it rests on in an inner exchange."""
    return stop is not None and any(each is decision for each in stop.grounds)


#: How far an inner exchange is indented, at most how often.
_INDENT, _MOST_INDENTED = "    ", 4


def _line(decision: Decision, stop: Decision | None, style: Style, leg: str, depth: int = 0) -> list[str]:
    broke = _broke(decision, stop)
    mark = style.ink(style.bad, "bad", "bold") if broke else style.ink(style.dot, "dim")
    indent = _INDENT * min(depth, _MOST_INDENTED)
    lead = f"{indent}{style.ink(f'{leg:<7}', 'leg')} {mark} "
    return row(style, lead, len(indent) + 10, decision.text, where(decision.place), ("bad", "bold") if broke else ())


def assumed(visit: Visit, style: Style, every: bool) -> list[str]:
    """What the answer rests on that no line states: of the leg that it ended in; what did not decide is counted."""
    every = every or visit.stop is None or visit.outcome.kind == "redirect-error"
    held = [each for each in visit.assumptions if not each.stops]
    shown = [each for each in held if every or each.loud or (visit.stop is not None and each.leg is visit.stop.leg)]
    lines = [style.ink("Assumed, since nothing states it:", "dim")] if shown else []
    for each in shown:
        lines += row(style, "  - ", 4, each.text, ink=("dim",))
    if len(held) > len(shown):
        more = len(held) - len(shown)
        what = f"{more} {'thing' if more == 1 else 'things'}{' more' if shown else ''}"
        text = f"{what} {'is' if more == 1 else 'are'} assumed that did not decide this; --every-step lists them"
        lines += paragraph(style, text, 0, ("dim",))
    return [*lines, ""] if lines else []


def verdict(visit: Visit, missed: tuple[Miss, ...], expected: bool, style: Style) -> list[str]:
    """The outcome, and whether the expectation is met."""
    outcome = visit.outcome
    text = f"The visitor gets {in_words(outcome)}" if outcome.kind in ("served", "http-error") else in_words(outcome)
    text = text[0].upper() + text[1:]
    if expected:
        kept = "as expected" if not missed else f"missed: {'; '.join(each.text for each in missed)}"
        text = f"{text}; {kept}" if missed else f"{text}, {kept}"
    good = not missed
    mark = style.ink(f"{style.good if good else style.bad} ", "good" if good else "bad", "bold")
    lines = row(style, mark, 2, text, ink=("good" if good else "bad", "bold"))
    if outcome.doubt is not None and not expected:
        text = f"perhaps not what is meant: {outcome.doubt}"
        lines += row(style, style.ink("! ", "warn", "bold"), 2, text, ink=("warn",))
    return lines
