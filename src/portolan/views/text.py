"""The text view: a leg a line, the break marked, the verdict last."""

from collections.abc import Iterable

from portolan.evidence.decision import Decision
from portolan.faults.base import Finding
from portolan.journey.visit import Exchange, Visit
from portolan.remedies.mend import Explanation, Remedy
from portolan.source.place import Place
from portolan.views.style import Style, paragraph, row
from portolan.views.words import in_words

#: What is shown without asking for every step.
MAIN_KINDS = frozenset((
    "hosts-line", "alias", "address", "wildcard", "loopback-name", "forwarded", "hairpin", "listens", "shows", "shows-default",
    "shows-others", "site-named", "site-pattern", "site-default", "site-only", "redirected", "folder-slash", "page", "answers",
    "listed", "delegation-missing",
))  # fmt: skip
_SAFETY = {
    "safe": "keeps everything closed that is closed",
    "opens": "opens what is listed, no more",
    "weakens": "UNSAFE: drops encryption, or opens wide",
    "outside": "not in this estate",
}


def follow_text(
    visit: Visit, broken: tuple[str, ...], promised: bool, findings: list[Finding], style: Style, every: bool
) -> str:
    """One visit, leg by leg."""
    lines = [*_head(visit, style), *_legs(visit, style, every), *_assumed(visit, style)]
    if findings and broken:
        finding = findings[0]
        lines += row(style, style.ink("cause   ", "warn"), 8, f"{finding.code}: {finding.text}", where(finding.place))
    lines += _verdict(visit, broken, promised, style)
    return "\n".join(lines) + "\n"


def explain_text(explanation: Explanation, style: Style, every: bool) -> str:
    """Why, and what to do."""
    visit = explanation.visit
    lines = [*_head(visit, style), *_legs(visit, style, every), *_assumed(visit, style)]
    if not explanation.broken:
        lines += _verdict(visit, (), explanation.promise is not None, style)
        return "\n".join(lines) + "\n"
    lines += [*_verdict(visit, explanation.broken, explanation.promise is not None, style), ""]
    if explanation.causes:
        lines.append(style.ink("Why", "bold"))
        for number, cause in enumerate(explanation.causes, 1):
            behind = "" if number == 1 else "behind it, "
            lines += row(
                style, style.ink(f" {number}  ", "bold"), 4, f"{behind}{cause.code}: {cause.text}", where(cause.place)
            )
    else:
        lines += paragraph(
            style, "No known fault explains this. The steps above show what decided; add --every-step for all."
        )
    lines += ["", *_remedies(explanation, style)]
    return "\n".join(lines).rstrip("\n") + "\n"


def _remedies(explanation: Explanation, style: Style) -> list[str]:
    lines = [style.ink("What to do", "bold")]
    for number, cause in enumerate(explanation.causes, 1):
        mine = [each for each in explanation.remedies if each.fixes == (cause.code,)]
        for at, remedy in enumerate(mine):
            lead = f" {number}  " if at == 0 else "    "
            text = remedy.text if at == 0 or not remedy.patch or remedy.text.startswith("or ") else f"or {remedy.text}"
            lines += row(style, style.ink(lead, "bold"), 4, text)
            lines += _after(remedy, style, len(explanation.causes) > 1)
        if not mine:
            lines += row(
                style,
                style.ink(f" {number}  ", "bold"),
                4,
                "no remedy is known that proves right; see what the cause names",
            )
    for text in explanation.withheld:
        lines += paragraph(style, f"Withheld, since the site takes payments: {text}", 4, ("warn",))
    lines.append("")
    if explanation.after is not None:
        steps = len(explanation.causes)
        lead = "Proven: with that change" if steps == 1 else f"Proven: with the first remedy of each of the {steps}"
        text = f"{lead}, the visitor gets {in_words(explanation.after.outcome)}"
        lines += row(style, style.ink(f"{style.good} ", "good", "bold"), 2, text, ink=("good",))
        lines += paragraph(style, "The change itself: add --format patch; to try it: --with FILE.", 2, ("dim",))
    else:
        text = "Not mended in full: no change to this estate was found that keeps the promise"
        lines += row(style, style.ink(f"{style.bad} ", "bad", "bold"), 2, text, ink=("bad",))
    return lines


def _after(remedy: Remedy, style: Style, several: bool) -> list[str]:
    if not remedy.patch:
        return []
    lines: list[str] = []
    warn = ("warn", "bold") if remedy.safety == "weakens" else ("dim",)
    if remedy.outcome is not None and (several or not remedy.complete):
        progress = "" if remedy.complete else " (another error is progress here)"
        lines += row(style, f"    {style.arrow} ", 5 + len(style.arrow), f"then: {in_words(remedy.outcome)}{progress}")
    lines += row(style, "      ", 6, f"[{remedy.safety}] {_SAFETY[remedy.safety]}", ink=warn)
    if remedy.changes is None:
        lines += row(
            style, "      ", 6, "who can newly reach what was not worked out: the estate is large", ink=("dim",)
        )
    for text in (remedy.changes or ())[:5]:
        lines += row(style, "      ", 6, text, ink=("dim",))
    if remedy.changes is not None and len(remedy.changes) > 5:
        lines += row(style, "      ", 6, f"and {len(remedy.changes) - 5} more; --format json lists them", ink=("dim",))
    return lines


def where(place: Place | None) -> str:
    """Where something is written, as file:line."""
    if place is None or place.span.file == "(assumed)":
        return ""
    return place.span.short


def _head(visit: Visit, style: Style) -> list[str]:
    text = f"{visit.url}  from {visit.vantage.name}, {visit.at:%Y-%m-%d %H:%M} UTC"
    return [*(style.ink(line, "bold") for line in paragraph(style, text)), ""]


def _legs(visit: Visit, style: Style, every: bool) -> list[str]:
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
        lines += _exchange(exchange, visit.stop, style, every)
    if visit.stop is not None and visit.outcome.kind == "redirect-error":
        lines += _line(visit.stop, visit.stop, style, "answer")
    return [*lines, ""]


def _exchange(exchange: Exchange, stop: Decision | None, style: Style, every: bool) -> list[str]:
    lines: list[str] = []
    last = ""
    legs: list[Iterable[Decision]] = [exchange.resolution.decisions]
    tried = exchange.attempts
    for attempt in tried:
        legs.append(attempt.decisions)
    if exchange.handshake is not None:
        legs.append(exchange.handshake.decisions)
    if exchange.response is not None:
        legs.append(exchange.response.decisions)
    for decisions in legs:
        for decision in decisions:
            if every or decision is stop or decision.law.stops or decision.kind in MAIN_KINDS:
                leg = decision.law.leg
                lines += _line(decision, stop, style, leg if leg != last else "")
                last = leg
    return lines


def _line(decision: Decision, stop: Decision | None, style: Style, leg: str) -> list[str]:
    broke = decision is stop
    mark = style.ink(style.bad, "bad", "bold") if broke else style.ink(style.dot, "dim")
    lead = f"{style.ink(f'{leg:<7}', 'leg')} {mark} "
    return row(style, lead, 10, decision.text, where(decision.place), ("bad", "bold") if broke else ())


def _assumed(visit: Visit, style: Style) -> list[str]:
    assumptions = [each for each in visit.assumptions if not each.law.stops]
    if not assumptions:
        return []
    lines = [style.ink("Assumed, since nothing states it:", "dim")]
    for each in assumptions:
        lines += row(style, "  - ", 4, each.text, ink=("dim",))
    return [*lines, ""]


def _verdict(visit: Visit, broken: tuple[str, ...], promised: bool, style: Style) -> list[str]:
    outcome = visit.outcome
    text = f"The visitor gets {in_words(outcome)}" if outcome.kind in ("served", "http-error") else in_words(outcome)
    text = text[0].upper() + text[1:]
    if promised:
        kept = "as promised" if not broken else f"promise broken: {'; '.join(broken)}"
        text = f"{text}; {kept}" if broken else f"{text}, {kept}"
    good = not broken
    mark = style.ink(f"{style.good if good else style.bad} ", "good" if good else "bad", "bold")
    return row(style, mark, 2, text, ink=("good" if good else "bad", "bold"))
