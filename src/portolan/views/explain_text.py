"""The text view of `explain`: why, what to do, and the proof."""

from collections.abc import Iterable

from portolan.diagnosis.asking import Answers
from portolan.diagnosis.base import Finding
from portolan.diagnosis.proposal import Safety
from portolan.diagnosis.trial import Explanation, Remedy
from portolan.evidence.outcome import Outcome
from portolan.views.style import Style, paragraph, row
from portolan.views.text import assumed, head, legs, verdict, where
from portolan.views.words import in_words

#: What a change opens, in words.
SAFETY_WORDS = {
    "safe": "opens nothing to anybody",
    "opens": "opens what is listed here, and nothing else",
    "weakens": "UNSAFE: opens more than is needed",
    "outside": "not in this estate",
}


def explain_text(
    explanation: Explanation,
    findings: list[Finding],
    style: Style,
    every: bool,
    zoomed: list[str],
    more: Iterable[str] = (),
    others: dict[int, tuple[str, ...]] | None = None,
) -> str:
    """Why, and what to do; for an expectation that is met, what made it slow."""
    visit = explanation.visit
    lines = [
        *head(visit, style),
        *_in_one_line(explanation, style),
        *zoomed,
        *legs(visit, style, every),
        *assumed(visit, style, every),
        *more,
    ]
    if not explanation.missed:
        for finding in findings:
            lines += row(
                style, style.ink("beware  ", "warn"), 8, f"{finding.code}: {finding.text}", where(finding.place)
            )
        lines += verdict(visit, (), explanation.expectation is not None, style)
        return "\n".join(lines) + "\n"
    lines += [*verdict(visit, explanation.missed, explanation.expectation is not None, style), ""]
    if explanation.causes:
        lines.append(style.ink("Why", "bold"))
        for number, cause in enumerate(explanation.causes, 1):
            behind = "" if number == 1 else "behind it, "
            lines += row(
                style, style.ink(f" {number}  ", "bold"), 4, f"{behind}{cause.code}: {cause.text}", where(cause.place)
            )
    else:
        tried = "No change that was tried mends this" if explanation.bounded else "No single change mends this"
        missing = "something may not be described here"
        missing += ", or be otherwise than is assumed above" if visit.assumptions else ""
        lines += paragraph(
            style,
            f"No known fault explains this. {tried}: {missing}. The steps above show what decided; add --every-step for all.",
        )
    for equals in explanation.other_causes:
        for cause in equals:
            lines += row(style, "    ", 4, f"or one of these: {cause.text}", where(cause.place), ink=("dim",))
    lines += ["", *_remedies(explanation, style, others or {})]
    return "\n".join(lines).rstrip("\n") + "\n"


def _in_one_line(explanation: Explanation, style: Style) -> list[str]:
    """What is wrong, before how it was found."""
    if not explanation.missed or not explanation.causes:
        return []
    outcome = in_words(explanation.visit.outcome)
    others = len(explanation.causes) - 1
    more = f", and {others} {'cause' if others == 1 else 'causes'} more behind it" if others else ""
    text = f"{outcome[0].upper()}{outcome[1:]}: {explanation.causes[0].text}{more}"
    return [*row(style, style.ink(f"{style.bad} ", "bad", "bold"), 2, text, ink=("bad", "bold")), ""]


def all_explained_text(told: list[str], found: Answers, style: Style) -> str:
    """Several explanations, one a cause, between what they come to."""
    missed = sum(len(group.missed) for group in found.groups)
    if not missed:
        text = "every expectation is met" if found.asked else "nothing under 'expected' says what visitors should get"
        mark, ink = (style.good, "good") if found.asked else ("!", "warn")
        lines = row(style, style.ink(f"{mark} ", ink, "bold"), 2, f"nothing to explain: {text}", ink=(ink,))
        return "\n".join(lines) + "\n"
    causes = len(found.groups)
    text = f"{missed:,} of {found.asked:,} questions miss{'es' if missed == 1 else ''} what is expected"
    text += f", for {causes} cause{'s' if causes > 1 else ''}; the one that keeps most out comes first"
    text += f"; {causes - len(told)} are left out" if causes > len(told) else ""
    lines = [*paragraph(style, text, 0, ("bold",)), ""]
    for number, each in enumerate(told, 1):
        if causes > 1:
            lines += [style.ink(f"({number} of {causes})", "bold"), ""]
        lines += [each]
    return "\n".join(lines)


def _by_others(explanation: Explanation, style: Style, others: dict[int, tuple[str, ...]]) -> list[str]:
    """What is somebody else's to do, and who they are."""
    lines: list[str] = []
    for number, who in others.items():
        text = f"{explanation.remedies[number - 1].text}: for {' and '.join(who)} to do; --letter {number} asks them"
        lines += row(style, "  - ", 4, text)
    return ["", style.ink("What others must do", "bold"), *lines] if lines else []


def _remedies(explanation: Explanation, style: Style, others: dict[int, tuple[str, ...]]) -> list[str]:
    best = explanation.best
    whole = best if best is not None and best.cause == 0 and best.steps and explanation.after is not None else None
    lines = [
        line
        for each in explanation.remedies
        if each.ask is not None and each.outcome is not None
        for line in row(style, "    ", 4, f"{each.ask[0]}: gives {in_words(each.outcome)}")
    ]
    if lines:
        lines = [style.ink("What the visitor should ask", "bold"), *lines, ""]
    lines += [style.ink("What to do" if whole is None else "What to do, in this order", "bold")]
    lines += _by_cause(explanation, style) if whole is None else _by_step(explanation, whole, style)
    lines += _by_others(explanation, style, others)
    for text in explanation.withheld:
        lines += paragraph(style, f"Withheld, as a mark asks: {text}", 4, ("warn",))
    lines.append("")
    if best is not None and best.patch and explanation.after is not None:
        steps = len(explanation.causes)
        lead = {1: "Proven: with that change", 2: "Proven: with both changes"}.get(
            steps, f"Proven: with all {steps} changes"
        )
        text = f"{lead}, the visitor gets {in_words(explanation.after.outcome)}"
        lines += row(style, style.ink(f"{style.good} ", "good", "bold"), 2, text, ink=("good",))
        way = f"--format patch prints the change, --write {number_of(explanation, best)} writes it into the files."
        lines += paragraph(style, way, 2, ("dim",))
    elif best is not None and not best.patch and best.complete and explanation.after is not None:
        text = f"Proven: then the visitor gets {in_words(best.outcome or explanation.after.outcome)}; nothing in this estate has to change"
        lines += row(style, style.ink(f"{style.good} ", "good", "bold"), 2, text, ink=("good",))
    else:
        text = "Not mended in full: no change to this estate was found that meets the expectation"
        if explanation.after is not None:
            text = "Only changes that weaken would do it, and none is handed out"
            text += ": follow the advice above" if best is not None else ""
        elif best is not None:
            text = "No change to this estate meets the expectation: follow the advice above"
        lines += row(style, style.ink(f"{style.bad} ", "bad", "bold"), 2, text, ink=("bad",))
    return lines


def _by_cause(explanation: Explanation, style: Style) -> list[str]:
    """What mends each cause, under the cause's number."""
    lines: list[str] = []
    for number in range(1, len(explanation.causes) + 1):
        mine = [each for each in explanation.remedies if each.cause == number]
        for at, remedy in enumerate(mine):
            lead = f" {number}  " if at == 0 else "    "
            lines += row(style, style.ink(lead, "bold"), 4, remedy.text if at == 0 else _instead(remedy))
            lines += _after(remedy, style, explanation)
        if not mine:
            text = "no remedy is known that proves right; see what the cause names"
            lines += row(style, style.ink(f" {number}  ", "bold"), 4, text)
    return lines


def _instead(remedy: Remedy) -> str:
    return remedy.text if not remedy.patch or remedy.text.startswith("or ") else f"or {remedy.text}"


def _by_step(explanation: Explanation, whole: Remedy, style: Style) -> list[str]:
    """Every step in the order of doing, numbered once; what it opens and what would do instead stand with the last step of a cause."""
    held: dict[str, int] = {}
    for remedy in explanation.remedies:
        if remedy.cause:
            held.update(dict.fromkeys((remedy.text, *(step.text for step in remedy.steps)), remedy.cause))
    of = [held.get(step.text, 0) for step in whole.steps]
    lines: list[str] = []
    for number, step in enumerate(whole.steps, 1):
        cause = of[number - 1]
        mends = f" (mends {cause})" if cause and len(explanation.causes) > 1 else ""
        lines += row(style, style.ink(f" {number}  ", "bold"), 4, f"{step.text}{mends}")
        arrow = f"    {style.arrow} "
        lines += row(style, arrow, len(arrow), f"then: {in_words(step.outcome)}", ink=("dim",))
        if cause and cause not in of[number:]:
            mine = [each for each in explanation.remedies if each.cause == cause]
            lines += _opened(mine[0], style, number_of(explanation, mine[0]))
            for other in mine[1:]:
                lines += row(style, "    ", 4, _instead(other))
                lines += _opened(other, style, number_of(explanation, other))
    return lines


def _steps(remedy: Remedy, style: Style, lead: str) -> list[str]:
    """The steps of a remedy, each with what the visitor gets then."""
    lines: list[str] = []
    for number, step in enumerate(remedy.steps, 1):
        start = f"{lead}step {number}  "
        lines += row(style, start, len(start), f"{step.text} {style.arrow} {in_words(step.outcome)}", ink=("dim",))
    return lines


def _told(outcome: Outcome) -> tuple[object, ...]:
    """What the visitor sees of it."""
    return outcome.kind, outcome.detail, outcome.status


def number_of(explanation: Explanation, remedy: Remedy) -> int:
    """The number by which a remedy is named: its place among all, from 1."""
    return next(number for number, each in enumerate(explanation.remedies, 1) if each is remedy)


def _after(remedy: Remedy, style: Style, explanation: Explanation) -> list[str]:
    if not remedy.patch:
        return []
    lines: list[str] = []
    several = len(explanation.causes) > 1
    if remedy.outcome is not None and (several or not remedy.complete):
        same = _told(remedy.outcome) == _told(explanation.visit.outcome)
        words = "the next fault gives the same error" if same else "another error is progress here"
        progress = "" if remedy.complete else f" ({words})"
        lines += row(style, f"    {style.arrow} ", 5 + len(style.arrow), f"then: {in_words(remedy.outcome)}{progress}")
    return [*lines, *_opened(remedy, style, number_of(explanation, remedy))]


def _opened(remedy: Remedy, style: Style, number: int = 0) -> list[str]:
    """How safe it is, its steps, and what else it changes; by its number it is written into the files."""
    if not remedy.patch:
        return []
    warn = ("warn", "bold") if remedy.safety is Safety.WEAKENS else ("dim",)
    write = f"; --write {number} writes it" if number and remedy.safety is not Safety.WEAKENS else ""
    lines = row(style, "      ", 6, f"[{remedy.safety}] {SAFETY_WORDS[remedy.safety]}{write}", ink=warn)
    lines += _steps(remedy, style, "      ")
    for text in remedy.changes[:5]:
        lines += row(style, "      ", 6, text, ink=("dim",))
    if len(remedy.changes) > 5:
        lines += row(style, "      ", 6, f"and {len(remedy.changes) - 5} more; --format json lists them", ink=("dim",))
    return lines
