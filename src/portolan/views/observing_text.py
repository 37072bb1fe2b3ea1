"""What was seen, what may be wrong, what to look at next; and what can be looked at by hand: as text."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from portolan.views.places_text import decided
from portolan.views.style import Style, paragraph, row
from portolan.views.text import where
from portolan.views.words import counted, in_words

if TYPE_CHECKING:
    from portolan.observing.by_hand import ByHand
    from portolan.observing.next_check import NextCheck
    from portolan.observing.rests_on import RestsOn
    from portolan.observing.suspects import Doubt, Suspect
    from portolan.surveying.several import Several
    from portolan.views.results import Doubted

#: So many suspects and ways are shown.
_MOST_SHOWN, _MOST_WAYS = 8, 2


def doubted(result: "Doubted", style: Style) -> Iterator[str]:
    """What was seen beside what the estate says, the suspects, and the next check."""
    yield "\n".join(_doubted(result.doubt, result.next, style)) + "\n"


def _doubted(doubt: "Doubt", following: "NextCheck | None", style: Style) -> list[str]:
    lines = [
        style.ink(each, "bold")
        for each in paragraph(style, f"{doubt.url}  as it was seen, {doubt.world.now:%Y-%m-%d %H:%M} UTC")
    ]
    if style.folder:
        lines += paragraph(style, f"Places below are in {style.folder}", 0, ("dim",))
    lines.append("")
    for each in doubt.sights:
        mark, ink = (style.good, "good") if each.agrees else (style.bad, "bad")
        said = "; ".join(one.words for one in each.seen)
        says = "as the estate says" if each.agrees else f"the estate says {in_words(each.predicted.outcome)}"
        lines += row(style, f"  {style.ink(mark, ink, 'bold')} ", 4, f"from {each.vantage.name}: {said}; {says}")
    lines.append("")
    if doubt.agrees:
        text = "The estate says what is seen: 'portolan explain' without --seen says why it is so"
        return [*lines, *row(style, style.ink(f"{style.good} ", "good", "bold"), 2, text, ink=("good", "bold"))]
    lines += _suspects(doubt, style)
    lines += _next(doubt, following, style)
    return [*lines, *_verdict(doubt, style)]


def _suspects(doubt: "Doubt", style: Style) -> list[str]:
    if not doubt.suspects:
        lines = paragraph(style, "No belief that is written here, wrong in a likely way, gives what is seen.")
    else:
        lines = [style.ink("What may be otherwise than it is written, the likeliest first", "bold")]
    for number, each in enumerate(doubt.suspects[:_MOST_SHOWN], 1):
        lines += row(style, style.ink(f"{number:>3}  ", "bold"), 5, each.object, where(each.belief))
        lines += row(style, "     ", 5, ways_told(each), ink=("dim",))
    rest = len(doubt.suspects) - _MOST_SHOWN
    if rest > 0:
        lines += paragraph(style, f"and {rest} less likely; --format json lists them", 5, ("dim",))
    if doubt.in_part:
        held = [each.object for each in doubt.in_part[:_MOST_SHOWN]]
        more = f", and {len(doubt.in_part) - len(held)} more" if len(doubt.in_part) > len(held) else ""
        text = f"Less likely, since what was tried there gives a part of it only: {', '.join(held)}{more}"
        lines += paragraph(style, text, 2, ("dim",))
    if doubt.bounded:
        lines += paragraph(style, "The likeliest ways were tried; --thorough tries all.", 2, ("dim",))
    if doubt.unknown:
        lines += ["", style.ink("Or what nobody wrote", "bold")]
        for one in doubt.unknown:
            lines += row(style, "  -  ", 5, one.text)
            lines += row(style, f"     {style.arrow} ", 6 + len(style.arrow), one.find_out, ink=("dim",))
    return [*lines, ""]


def ways_told(each: "Suspect") -> str:
    """How a suspect would be wrong."""
    shown = [one.way.text for one in each.wrong[:_MOST_WAYS]]
    more = len(each.wrong) - len(shown)
    return "if " + "; or ".join(shown) + (f"; or {counted(more, 'way')} more" if more else "")


def _next(doubt: "Doubt", following: "NextCheck | None", style: Style) -> list[str]:
    if following is None:
        if len(doubt.suspects) < 2:
            return []
        return [*paragraph(style, "No check here tells apart what is left: look at each of them."), ""]
    lines = [style.ink("Look at this next", "bold")]
    lines += row(style, "  ", 2, f"{following.on}: {following.how}")
    numbers = {each.key: number for number, each in enumerate(doubt.suspects, 1)}
    for answer in following.answers:
        left = [f"{numbers[each.key]}" for each in answer.leaves if each.key in numbers]
        told = f"leaves {_listed(left)}" if left else "leaves what nobody wrote"
        lines += row(style, f"  {style.arrow} ", 3 + len(style.arrow), f"{answer.shows}: {told}")
        lines += row(style, "      ", 6, f"then add {answer.add}", ink=("dim",))
    return [*lines, ""]


def _listed(numbers: list[str]) -> str:
    held = ", ".join(numbers[:8])
    return f"{held} and {len(numbers) - 8} more" if len(numbers) > 8 else held


def _verdict(doubt: "Doubt", style: Style) -> list[str]:
    off = next(each for each in doubt.sights if not each.agrees)
    text = f"Something is otherwise than it is written: from {off.vantage.name} {off.seen[0].words} is seen"
    if len(doubt.suspects) == 1:
        only = doubt.suspects[0]
        text = f"{only.object} is left: nothing else here, wrong in a likely way, gives what is seen"
        return row(style, style.ink(f"{style.bad} ", "bad", "bold"), 2, text, where(only.belief), ("bad", "bold"))
    if doubt.suspects:
        text += f"; {counted(len(doubt.suspects), 'belief')} may be wrong, first of all {doubt.suspects[0].object}"
        return row(
            style, style.ink(f"{style.bad} ", "bad", "bold"), 2, text, where(doubt.suspects[0].belief), ("bad", "bold")
        )
    return row(style, style.ink(f"{style.bad} ", "bad", "bold"), 2, text, ink=("bad", "bold"))


# -- by hand -----------------------------------------------------------------------------------------------------------


def by_hand_text(held: "ByHand", style: Style) -> list[str]:
    """The checks, leg by leg, each with where it is run and what it prints."""
    lines = [style.ink("By hand: the first line that differs from what is said here is the false belief", "bold")]
    last = ""

    def at(on: str) -> Iterator[str]:
        """A heading where the place is another one than before."""
        nonlocal last
        if on != last:
            yield style.ink(style.safe(f"  on {on}"), "bold")
        last = on

    def named(what: str) -> str:
        return f"    {style.ink(f'{what:<8}', 'leg')}"

    for each in held.checks:
        lines += at(each.on)
        lines += row(style, named(each.leg), 12, each.command, where(each.place))
        lines += row(style, "            ", 12, f"prints {each.words}", ink=("dim",))
    for log in held.logs:
        lines += at(log.on)
        lines += row(style, named("log"), 12, f"{log.file} has the line: {log.line}")
    lines += at(held.ping.on)
    lines += row(style, named("browser"), 12, held.browser)
    lines += row(style, named("ping"), 12, held.ping.command or held.ping.says)
    if held.ping.command is not None:
        lines += row(style, "            ", 12, f"prints '{held.ping.prints.strip()}'", ink=("dim",))
        lines += row(style, "            ", 12, held.ping.says, ink=("dim",))
    return lines


# -- several places ----------------------------------------------------------------------------------------------------


def several(found: "Several", style: Style) -> Iterator[str]:
    """An address from several places."""
    yield "\n".join(_several(found, style)) + "\n"


def _several(found: "Several", style: Style) -> list[str]:
    lines = [
        style.ink(each, "bold")
        for each in paragraph(
            style, f"{found.url}  from {counted(len(found.places), 'place')}, {found.world.now:%Y-%m-%d %H:%M} UTC"
        )
    ]
    if found.parting is not None and found.parting.parting is not None:
        split, met, lost = found.parting.parting, found.parting.one, found.parting.other
        lines += [
            "",
            style.ink(
                f"met from {met.vantage.name}, missed from {lost.vantage.name}: the ways part at the leg {split.leg}",
                "leg",
            ),
        ]
        lines += decided(met.vantage.name, split.before, style)
        lines += decided(lost.vantage.name, split.after, style)
    lines.append("")
    wide = max(len(style.safe(each.vantage.name)) for each in found.places)
    for each in found.places:
        bad = bool(each.missed)
        mark = style.ink(style.bad if bad else style.good, "bad" if bad else "good", "bold")
        name = style.safe(each.vantage.name).ljust(wide)
        text = in_words(each.visit.outcome)
        text += f"; missed: {'; '.join(one.text for one in each.missed)}" if bad and each.expected else ""
        stop = each.visit.stop
        lines += row(
            style,
            f"  {mark} {style.ink(name, 'bold')}  ",
            wide + 6,
            text,
            where(stop.place) if stop is not None else "",
        )
    missed = sum(bool(each.missed) for each in found.places)
    text = (
        f"missed from {missed} of {counted(len(found.places), 'place')}"
        if missed
        else "met from everywhere that was asked"
    )
    mark, ink = (style.bad, "bad") if missed else (style.good, "good")
    return [
        *lines,
        "",
        *row(style, style.ink(f"{mark} ", ink, "bold"), 2, text[0].upper() + text[1:], ink=(ink, "bold")),
    ]


# -- what it rests on --------------------------------------------------------------------------------------------------


def rests_on_text(found: "RestsOn", style: Style) -> list[str]:
    """The facts on which an answer hangs alone."""
    if not found.tried:
        return [*paragraph(style, "It does not work as expected: there is nothing that it could hang on.")]
    lines = [style.ink("It hangs on each of these alone: without it the visitor gets something else", "bold")]
    for each in found.holds:
        lines += row(style, "  - ", 4, f"{each.fact.object}: {in_words(each.outcome)}", where(each.fact))
    if not found.holds:
        lines += paragraph(style, "nothing: whatever is taken away by itself, it goes on working", 4)
    return [*lines, *paragraph(style, f"{counted(found.tried, 'fact')} taken away in turn", 0, ("dim",))]
