"""Two states of an estate side by side, as text: what gets worse first, then who gains and loses access, then what visitors get."""

from collections.abc import Iterable, Iterator

from portolan.surveying.compared import SAFETY, Access, Changed, Compared, Difference, Seen
from portolan.views.style import Style, row
from portolan.views.words import counted, in_words

#: So many of each kind are named.
_MOST_NAMED = 20


def shown(found: Compared, style: Style) -> Iterator[str]:
    """The text, line by line."""
    yield from (f"{line}\n" for line in _lines(found, style))


def _lines(found: Compared, style: Style) -> Iterator[str]:
    yield from _part("newly missed", [_changed(each) for each in found.broken], style, "bad")
    yield from _part("mended", [_changed(each) for each in found.mended], style, "good")
    gained = [(access_words(each), "") for each in found.gained] + [(each, "") for each in found.opened]
    yield from _part("who gains access, and to what", gained, style, "warn")
    yield from _part("who loses access", [(access_words(each), "") for each in found.lost], style, "leg")
    weaker = [each for each in found.differences if each.weaker]
    told = [(each, "") for each in found.weakened]
    told += [(f"{each.url} from {each.vantage}: {leg_words(each)}", "") for each in weaker]
    yield from _part("less safe", told, style, "warn")
    yield from _part(
        "what visitors get", [(line, "") for each in found.differences for line in difference_words(each)], style, "leg"
    )
    ink, text = verdict(found)
    sign = {"bad": style.bad, "warn": "!", "good": style.good}[ink]
    yield from row(style, style.ink(f"{sign} ", ink, "bold"), 2, text, ink=(ink, "bold"))


def _part(title: str, told: list[tuple[str, str]], style: Style, ink: str) -> Iterator[str]:
    if not told:
        return
    yield style.ink(title, ink, "bold")
    for text, where in told[:_MOST_NAMED]:
        yield from row(style, f"  {style.dot} ", 4, text, where)
    if len(told) > _MOST_NAMED:
        yield style.ink(f"    and {len(told) - _MOST_NAMED:,} more", "dim")
    yield ""


def _changed(each: Changed) -> tuple[str, str]:
    where = each.span.short if each.span is not None else ""
    return f"{each.url} from {each.vantage}: {'; '.join(each.missed)}", where


def access_words(each: Access) -> str:
    """Somebody, and what they get through to."""
    protocol = "" if each.protocol == "tcp" else f" ({each.protocol})"
    return f"{each.who}: {each.service} on {each.machine}, at {each.at}{protocol}"


def leg_words(each: Difference) -> str:
    """How safe the legs were, and are."""
    return f"{_safety(each.before)}, now {_safety(each.after)}"


def _safety(one: Seen) -> str:
    return ", then ".join(SAFETY[each] for each in one.legs) or "no connection"


def difference_words(each: Difference) -> list[str]:
    """What differs of an answer, a line each."""
    head = f"{each.url} from {each.vantage}: "
    lines = []
    if {"outcome", "page"} & set(each.what):
        lines.append(f"{head}before {in_words(each.before.outcome)}; now {in_words(each.after.outcome)}")
    if "redirects" in each.what and not lines:
        lines.append(f"{head}led by {_list(each.before.redirects)}; now by {_list(each.after.redirects)}")
    if "way" in each.what and not lines:
        lines.append(f"{head}came to {_list(each.before.way)}; now to {_list(each.after.way)}")
    if "security" in each.what and not lines and not each.weaker:
        lines.append(f"{head}{leg_words(each)}")
    return lines


def _list(items: Iterable[str]) -> str:
    return ", then ".join(items) or "nothing"


def verdict(found: Compared) -> tuple[str, str]:
    """What it comes to: `bad`, `warn` or `good`, and in a sentence."""
    parts = []
    if found.broken:
        parts.append(f"{counted(len(found.broken), 'expectation')} newly missed")
    if found.mended:
        parts.append(f"{len(found.mended):,} mended")
    opens = len(found.gained) + len(found.opened)
    if opens:
        parts.append(f"{counted(opens, 'way')} newly open")
    if found.lost:
        parts.append(f"{len(found.lost):,} closed")
    weaker = len(found.weakened) + sum(each.weaker for each in found.differences)
    if weaker:
        parts.append(f"{weaker:,} less safe")
    differing = len(found.differences)
    same = found.questions - differing
    parts.append(f"{differing:,} of {counted(found.questions, 'question')} answered otherwise, {same:,} as before")
    parts.append(f"{counted(found.still_met, 'expected answer')} stay{'s' if found.still_met == 1 else ''} met")
    if found.still_missed:
        parts.append(f"{found.still_missed:,} stay{'s' if found.still_missed == 1 else ''} missed")
    if found.newly_stated:
        parts.append(f"{counted(found.newly_stated, 'expectation')} new")
    if found.stated_no_more:
        parts.append(f"{found.stated_no_more:,} expected no more")
    if found.left:
        parts.append(f"{counted(found.left, 'question')} not asked, for there are too many")
    ink = "bad" if found.broken else "warn" if opens or weaker else "good"
    return ink, "; ".join(parts)
