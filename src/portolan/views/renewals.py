"""The next renewals: a block a certificate, a line a name and a way; and the same as plain data."""

from datetime import datetime
from typing import TYPE_CHECKING, Any

from portolan.views.data import VERSION, moment
from portolan.views.style import Style, paragraph, row
from portolan.views.text import where

if TYPE_CHECKING:
    from portolan.diagnosis.renewals import Challenge, Renewal


def renewals_text(found: "tuple[Renewal, ...]", at: datetime, style: Style) -> str:
    """Every certificate, when its renewal is tried, and what each way comes to."""
    lines = [style.ink(line, "bold") for line in paragraph(style, f"The next renewals, {at:%Y-%m-%d %H:%M} UTC")]
    for each in found:
        lines += ["", *_headed(each, at, style)]
        for name in dict.fromkeys(one.name for one in each.challenges):
            lines += row(style, "  ", 2, name)
            for challenge in each.challenges:
                if challenge.name == name:
                    lines += _challenge(challenge, style)
    blocked = [each for each in found if each.blocked]
    if not found:
        text, ink = "No certificate here is renewed by a public authority", "dim"
        return "\n".join([*lines, "", *row(style, "", 0, text, ink=(ink,))]) + "\n"
    if blocked:
        names = ", ".join(each.certificate.name for each in blocked)
        text, ink, mark = f"{len(blocked)} of {len(found)} cannot be renewed: {names}", "bad", style.bad
    else:
        text = "Each can be renewed" if len(found) > 1 else "It can be renewed"
        text += "" if all(each.by for each in found) else ", by one way at least"
        ink, mark = "good", style.good
    return "\n".join([*lines, "", *row(style, style.ink(f"{mark} ", ink, "bold"), 2, text, ink=(ink, "bold"))]) + "\n"


def _headed(renewal: "Renewal", at: datetime, style: Style) -> list[str]:
    text = renewal.certificate.name
    if renewal.ends is not None:
        days = (renewal.ends - at).days
        text += f", ends {renewal.ends:%Y-%m-%d} ({f'in {days} days' if days >= 0 else f'{-days} days ago'})"
    if renewal.tried_from is not None:
        since = "tried since" if at >= renewal.tried_from else "to be tried from"
        text += f"; {since} {renewal.tried_from:%Y-%m-%d}"
    text += f", by {renewal.by}" if renewal.by is not None else "; nobody says how, so every way is tried"
    return row(style, "", 0, text, where(renewal.certificate.place), ("leg",))


def _challenge(challenge: "Challenge", style: Style) -> list[str]:
    bad = challenge.why is not None
    mark = style.ink(style.bad if bad else style.good, *(("bad", "bold") if bad else ("good",)))
    text = challenge.way if not bad else f"{challenge.way}: {challenge.words}"
    return row(style, f"    {mark} ", 6, text, where(challenge.place) if bad else "")


def renewals_data(found: "tuple[Renewal, ...]", at: datetime) -> dict[str, Any]:
    """The same as plain data."""
    return {
        "portolan": VERSION,
        "at": moment(at),
        "renewals": [
            {
                "certificate": each.certificate.name,
                "ends": each.ends and moment(each.ends),
                "tried_from": each.tried_from and moment(each.tried_from),
                "by": each.by,
                "blocked": bool(each.blocked),
                "challenges": [
                    {
                        "name": one.name,
                        "way": one.way,
                        "succeeds": one.why is None,
                        "why": one.why,
                        "address": None if one.address is None else str(one.address),
                        "where": where(one.place) or None,
                    }
                    for one in each.challenges
                ],
            }
            for each in found
        ],
    }
