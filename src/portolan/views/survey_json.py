"""A survey as JSON: what it comes to, causes, then every answer; written answer by answer."""

import json
from collections.abc import Iterator
from typing import Any

from portolan.source.plain import without_passwords
from portolan.surveying.answered import Answered, Cause
from portolan.surveying.baseline import Since
from portolan.surveying.survey import Survey
from portolan.views.data import VERSION, moment, outcome_data
from portolan.views.style import Style


def shown(survey: Survey, style: Style) -> Iterator[str]:
    """The document, piece by piece."""
    del style
    head = {**head_data(survey), "answers": []}
    text = without_passwords(json.dumps(head, indent=2, ensure_ascii=True))
    yield text.removesuffix("[]\n}") + "["
    numbers = {each.number: at for at, group in enumerate(survey.groups) for each in group.missed}
    between = "\n"
    for each in survey.answers:
        yield between + "    " + without_passwords(json.dumps(answer_data(each, numbers.get(each.number))))
        between = ",\n"
    yield "\n  ]\n}\n" if between != "\n" else "]\n}\n"


def head_data(survey: Survey) -> dict[str, Any]:
    """All but the answers."""
    return {
        "portolan": VERSION,
        "at": moment(survey.at),
        "after_reboot": None if survey.booted is None else sorted(survey.booted),
        "from": list(survey.vantages),
        "expectations": survey.expectations,
        "questions": survey.questions,
        "answered": survey.asked,
        "missed": sum(len(group.missed) for group in survey.groups),
        "not_answered": [{"first": each.first, "questions": each.count, "why": each.failed} for each in survey.failed],
        "causes": [
            {
                "finding": cause_data(group.cause) if group.cause is not None else None,
                "text": group.text,
                "proven": group.proven,
                "missed": len(group.missed),
            }
            for group in survey.groups
        ],
        "since": since_data(survey.since) if survey.since is not None else None,
    }


def cause_data(cause: Cause) -> dict[str, Any]:
    """A cause as plain data, as findings are."""
    return {
        "code": cause.rule,
        "severity": cause.severity,
        "object": cause.object,
        "pointer": cause.pointer,
        "where": cause.span.short if cause.span is not None else None,
        "text": cause.text,
    }


def answer_data(each: Answered, cause: int | None) -> dict[str, Any]:
    """An answer as plain data; `cause` is its number among the causes."""
    return {
        "url": each.url,
        "vantage": each.vantage,
        "met": each.met,
        "missed": list(each.missed),
        "at_times": list(each.at_times),
        "outcome": outcome_data(each.outcome),
        "where": each.span.short if each.span is not None else None,
        "cause": cause,
    }


def since_data(since: Since) -> dict[str, Any]:
    """What changed since an earlier survey, as plain data."""
    return {
        "new": [{"url": each.url, "vantage": each.vantage} for each in since.new],
        "mended": [{"url": url, "vantage": vantage} for url, vantage in since.mended],
        "still_missed": [{"url": each.url, "vantage": each.vantage} for each in since.still],
        "asked_first": since.asked_first,
        "asked_no_more": since.asked_no_more,
    }
