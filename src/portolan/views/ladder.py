"""The ladder: a line a rung, the first that fails marked; and the same as plain data."""

from typing import TYPE_CHECKING, Any

from portolan.diagnosis.ladder import Ladder, Rung
from portolan.views.data import VERSION, finding_data, moment, outcome_data
from portolan.views.style import Style, paragraph, row
from portolan.views.words import in_words

if TYPE_CHECKING:
    from datetime import datetime


def ladder_text(climbed: Ladder, at: "datetime", style: Style) -> list[str]:
    """The rungs, plain ones and secure ones apart, and what they come to."""
    lines = [
        style.ink(line, "bold") for line in paragraph(style, f"{climbed.url}  rung by rung, {at:%Y-%m-%d %H:%M} UTC")
    ]
    if climbed.machine is None:
        lines += paragraph(
            style, "No machine described here gives this page: only the rungs outside are asked.", 0, ("dim",)
        )
    secure: bool | None = None
    for each in climbed.rungs:
        if each.secure is not secure:
            secure = each.secure
            lines += ["", style.ink("securely" if secure else "plainly", "leg")]
        lines += _rung(each, style)
    broken = climbed.broken
    if broken is None:
        text = "Every rung holds" if climbed.rungs else "There is nothing to ask"
        return [*lines, "", *row(style, style.ink(f"{style.good} ", "good", "bold"), 2, text, ink=("good", "bold"))]
    text = f"The first that fails: {broken.name}, {broken.visit.url}"
    return [*lines, "", *row(style, style.ink(f"{style.bad} ", "bad", "bold"), 2, text, ink=("bad", "bold")), ""]


def _rung(rung: Rung, style: Style) -> list[str]:
    bad = bool(rung.missed)
    mark = style.ink(style.bad if bad else style.good, *(("bad", "bold") if bad else ("good",)))
    name, outcome = rung.name, rung.visit.outcome
    got = in_words(outcome)
    if outcome.page is not None and not bad:
        got = f"{outcome.page}{', secure' if outcome.secure else ''}"
    if len(name) + len(got) + 6 <= style.width:
        gap = " " * max(2, style.width - 4 - len(name) - len(got))
        return [f"  {mark} {style.safe(name)}{gap}{style.ink(style.safe(got), *(('bad',) if bad else ('dim',)))}"]
    return [*row(style, f"  {mark} ", 4, name), *row(style, "      ", 6, got, ink=("bad",) if bad else ("dim",))]


def ladder_data(climbed: Ladder, at: "datetime") -> dict[str, Any]:
    """The rungs as plain data."""
    broken = climbed.broken
    return {
        "portolan": VERSION,
        "url": climbed.url,
        "at": moment(at),
        "machine": climbed.machine,
        "rungs": [
            {
                "name": each.name,
                "from": each.vantage.name,
                "url": each.visit.url,
                "address": str(each.address) if each.address is not None else None,
                "outcome": outcome_data(each.visit.outcome),
                "met": not each.missed,
                "missed": [miss.text for miss in each.missed],
            }
            for each in climbed.rungs
        ],
        "broken": climbed.rungs.index(broken) if broken is not None else None,
        "findings": [finding_data(each) for each in broken.findings] if broken is not None else [],
    }
