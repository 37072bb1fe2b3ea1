"""A survey as text: causes first, those that miss most on top; then a matrix where there is room; then what it comes to."""

from collections.abc import Iterator

from portolan.surveying.answered import Answered
from portolan.surveying.baseline import Since
from portolan.surveying.survey import Group, Survey
from portolan.views.style import Style, row
from portolan.views.words import counted, in_words

#: So many questions are named below a cause, and so many addresses stand in the matrix.
_MOST_NAMED, _MOST_ROWS = 3, 30
#: From so many columns on there is room for a matrix; so wide is a place's name in it.
_WIDE, _NAME = 100, 10


def shown(survey: Survey, style: Style) -> Iterator[str]:
    """The text, line by line."""
    for group in survey.groups:
        yield from _lines([*_group(group, style), ""])
    for chunk in survey.failed:
        text = f"{counted(chunk.count, 'question')} from number {chunk.first + 1:,} on: {chunk.failed}"
        yield from _lines(row(style, style.ink("! ", "warn", "bold"), 2, f"not answered: {text}"))
    if survey.failed:
        yield "\n"
    if style.width >= _WIDE:
        yield from _lines(_matrix(survey, style))
    if survey.since is not None:
        yield from _lines(_since(survey.since, style))
    yield from _lines(_verdict(survey, style))


def _lines(lines: list[str]) -> Iterator[str]:
    return (f"{each}\n" for each in lines)


def _group(group: Group, style: Style) -> list[str]:
    cause, count = group.cause, f"{len(group.missed):,}"
    mark = style.ink(f"{style.bad} {count}  ", "bad", "bold")
    wide = 4 + len(count)
    head = cause.rule if cause is not None else "no known fault"
    where = cause.span.short if cause is not None and cause.span is not None else ""
    lines = row(style, mark, wide, head, where, ink=("bold",))
    lines += row(style, " " * wide, wide, group.text)
    for each in group.missed[:_MOST_NAMED]:
        lines += row(style, " " * wide, wide, f"missed: {said(each)}", ink=("dim",))
    more = len(group.missed) - _MOST_NAMED
    if more > 0:
        lines.append(style.ink(f"{' ' * wide}and {more:,} more", "dim"))
    return lines


def said(each: Answered) -> str:
    """A missed question in a phrase."""
    text = f"{each.url} from {each.vantage}: {in_words(each.outcome)}"
    if each.outcome.kind == "served":
        text += f", and {each.missed[0]}"
    return f"{text}, {each.at_times[0]}" if each.at_times else text


def _matrix(survey: Survey, style: Style) -> list[str]:
    """Addresses against places, of those addresses that somebody misses."""
    places = survey.vantages
    room = style.width - 2 - (_NAME + 1) * len(places)
    missing = dict.fromkeys(each.url for each in survey.missed)
    if len(places) < 2 or room < 30 or not missing:
        return []
    rows = {url: dict[str, bool]() for url in list(missing)[:_MOST_ROWS]}
    for each in survey.answers:
        if each.url in rows:
            rows[each.url][each.vantage] = rows[each.url].get(each.vantage, True) and each.met
    head = " ".join(style.safe(_short(name, _NAME)).rjust(_NAME) for name in places)
    lines = [" " * (room + 2) + " " + style.ink(head, "dim")]
    for url, held in rows.items():
        cells = [_cell(held.get(name), style) for name in places]
        lines.append(f"  {style.safe(_short(url, room)).ljust(room)} {' '.join(cells)}")
    if len(missing) > len(rows):
        lines.append(style.ink(f"  and {len(missing) - len(rows):,} more that somebody misses", "dim"))
    return [*lines, ""]


def _short(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[: most - 2]}.."


def _cell(met: bool | None, style: Style) -> str:
    if met is None:
        return style.ink(style.dot.rjust(_NAME), "dim")
    sign = style.good if met else style.bad
    return style.ink(sign.rjust(_NAME), *(("good",) if met else ("bad", "bold")))


def _since(since: Since, style: Style) -> list[str]:
    """What changed since an earlier survey."""
    lines = []
    for each in since.new[: 3 * _MOST_NAMED]:
        lines += row(style, style.ink("  new     ", "bad", "bold"), 10, said(each))
    if len(since.new) > 3 * _MOST_NAMED:
        lines.append(style.ink(f"          and {len(since.new) - 3 * _MOST_NAMED:,} more", "dim"))
    for url, vantage in since.mended[: 3 * _MOST_NAMED]:
        lines += row(style, style.ink("  mended  ", "good", "bold"), 10, f"{url} from {vantage}")
    if len(since.mended) > 3 * _MOST_NAMED:
        lines.append(style.ink(f"          and {len(since.mended) - 3 * _MOST_NAMED:,} more", "dim"))
    text = f"since the earlier survey: {len(since.new):,} new, {len(since.mended):,} mended, {len(since.still):,} still missed"
    if since.asked_first:
        text += f"; {since.asked_first:,} asked for the first time"
    if since.asked_no_more:
        text += f"; {since.asked_no_more:,} asked no more"
    return [*lines, *row(style, "  ", 2, text), ""]


def verdict(survey: Survey) -> tuple[str, str]:
    """What a survey comes to: `bad`, `warn` or `good`, and in a sentence."""
    missed = sum(len(group.missed) for group in survey.groups)
    asked = f"{counted(survey.asked, 'question')}"
    read = f"{counted(survey.expectations, 'expectation')} from {counted(len(survey.vantages), 'place')}"
    lost = survey.questions - survey.asked
    unanswered = f"; {counted(lost, 'question')} could not be answered" if lost else ""
    if missed:
        causes = counted(len(survey.groups), "cause")
        return (
            "bad",
            f"{missed:,} of {asked} miss{'es' if missed == 1 else ''} what is expected, by {causes}: {read}{unanswered}",
        )
    if lost:
        return "bad", f"no question that was answered misses what is expected ({asked}: {read}){unanswered}"
    if not survey.questions:
        return "warn", "nothing was asked: no expectation fits"
    return "good", f"every expectation is met ({asked}: {read})"


def _verdict(survey: Survey, style: Style) -> list[str]:
    ink, text = verdict(survey)
    sign = {"bad": style.bad, "warn": "!", "good": style.good}[ink]
    return row(style, style.ink(f"{sign} ", ink, "bold"), 2, text, ink=(ink, "bold"))
