"""The views of `rehearse`: a table of questions, and both sides' evidence where they differ."""

from typing import Any

from portolan.rehearsal.client import Observed
from portolan.rehearsal.run import Comparison, Rehearsed
from portolan.views.data import outcome_data
from portolan.views.style import Style, paragraph, row
from portolan.views.words import detail_words, in_words


def seen_words(seen: Observed) -> str:
    """What the client got, in a phrase."""
    if seen.kind == "served":
        return f"the page {seen.page} ({seen.status}, {'secure' if (seen.final_url or '').startswith('https:') else 'not secure'})"
    if seen.kind == "http-error":
        return f"status {seen.status}"
    told = " or ".join(dict.fromkeys(detail_words(seen.kind, each) for each in seen.details or (None,)))
    return f"{told} ({' '.join(seen.words.split()[:2])})"


def rehearse_text(found: Rehearsed, style: Style, every: bool) -> str:
    """A question a block of three lines; evidence below."""
    lines: list[str] = []
    for each in found.comparisons:
        mark = (
            style.ink(style.dot, "dim")
            if found.failed or not each.compared
            else style.ink(style.good, "good")
            if each.agrees
            else style.ink(style.bad, "bad", "bold")
        )
        lines += row(style, f"{mark} ", 2, f"{each.url} from {each.vantage}", ink=("bold",))
        lines += row(style, "    predicted  ", 15, in_words(each.predicted.outcome))
        lines += row(style, "    observed   ", 15, seen_words(each.observed))
        if each.otherwise is not None:
            told = seen_words(each.otherwise)
            lines += row(
                style, "    otherwise  ", 15, f"{told} with the other web server; the estate names none", ink=("warn",)
            )
        if each.excluded is not None:
            lines += row(style, "    not held against each other: ", 33, each.excluded, ink=("warn",))
        if (each.compared and not each.agrees) or every:
            lines += _evidence(each, style)
    for text in found.troubles:
        lines += paragraph(style, f"while building: {text}", 0, ("warn",))
    if found.failed:
        for text in found.failed:
            lines += paragraph(style, f"not staged: {text}", 0, ("warn",))
        said = "the estate was not staged as it says: this says nothing about the predictions"
        return (
            "\n".join(
                [*lines, "", *row(style, style.ink(f"{style.bad} ", "bad", "bold"), 2, said, ink=("bad", "bold"))]
            )
            + "\n"
        )
    wrong, compared, total = len(found.disagreements), found.compared, len(found.comparisons)
    if compared == total:
        verdict = f"all {total} agree" if not wrong else f"{wrong} of {total} disagree"
    else:
        why = "; ".join(f"{reason} ({count})" for reason, count in found.excluded.items())
        said = (
            f"{wrong} disagree"
            if wrong
            else "all of these agree"
            if compared
            else "nothing was held against the real systems"
        )
        verdict = f"compared {compared} of {total}: {said}; not compared: {why}"
    bad = bool(wrong) or not compared
    ink = "bad" if bad else "good"
    lines += [
        "",
        *row(style, style.ink(f"{style.bad if bad else style.good} ", ink, "bold"), 2, verdict, ink=(ink, "bold")),
    ]
    return "\n".join(lines) + "\n"


def _evidence(each: Comparison, style: Style) -> list[str]:
    lines = ["    the engine's steps:"]
    for decision in each.predicted.decisions:
        lines += row(style, "      ", 6, decision.text, ink=("dim",))
    lines.append("    the client's words:")
    for text in str(each.evidence.get("client", "")).split("\n")[-25:]:
        if text.strip():
            lines += row(style, "      ", 6, text.rstrip("\r"), ink=("dim",))
    for name, state in each.evidence.get("daemons", {}).items():
        if not state["running"] or state["words"].strip():
            lines.append(f"    {style.safe(name)} {'runs' if state['running'] else 'has ended'}:")
            for text in str(state["words"]).strip().split("\n")[-6:]:
                lines += row(style, "      ", 6, text, ink=("dim",))
    for space, rules in each.evidence.get("counters", {}).items():
        hit = [text.strip() for text in str(rules).split("\n") if "packets" in text and "packets 0 " not in text]
        if hit:
            lines.append(f"    rules that matched in {style.safe(space)}:")
            for text in hit:
                lines += row(style, "      ", 6, text, ink=("dim",))
    return lines


def rehearse_data(found: Rehearsed) -> dict[str, Any]:
    """A rehearsal as plain data."""
    return {
        "portolan": 1,
        "questions": [
            {
                "url": each.url,
                "vantage": each.vantage,
                "predicted": outcome_data(each.predicted.outcome),
                "observed": each.observed._asdict(),
                "otherwise": each.otherwise._asdict() if each.otherwise is not None else None,
                "agree": each.agrees if each.compared else None,
                "excluded": each.excluded,
                "evidence": {"steps": [decision.text for decision in each.predicted.decisions], **each.evidence},
            }
            for each in found.comparisons
        ],
        "troubles": list(found.troubles),
        "not_staged": list(found.failed),
        "compared": found.compared,
        "excluded": found.excluded,
        "disagreements": len(found.disagreements),
    }
