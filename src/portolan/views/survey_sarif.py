"""A survey as SARIF 2.1.0 (OASIS): a result for each cause, at the line that must change, with its rule and that rule's help."""

import json
from collections.abc import Iterator
from typing import Any
from urllib.parse import quote

from portolan.diagnosis.registry import BY_CODE
from portolan.source.place import Span
from portolan.source.plain import one_line
from portolan.surveying.answered import Answered, Cause
from portolan.surveying.survey import Group, Survey
from portolan.version import VERSION
from portolan.views.style import Style
from portolan.views.survey_markdown import text_of
from portolan.views.survey_text import said, verdict

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
#: The rule of what no known fault explains.
UNEXPLAINED = "no-known-fault"
#: So many missed expectations are named beside a cause.
_MOST_NAMED = 20


def shown(survey: Survey, style: Style) -> Iterator[str]:
    """The document."""
    rules = sorted({_rule(group) for group in survey.groups})
    run = {
        "tool": {
            "driver": {
                "name": "Portolan",
                "version": VERSION,
                "semanticVersion": VERSION,
                "rules": [_described(each) for each in rules],
            }
        },
        "columnKind": "unicodeCodePoints",
        "originalUriBaseIds": {"ESTATE": {"description": {"text": "The folder that the estate lies in."}}},
        "invocations": [
            {
                "executionSuccessful": not survey.failed,
                "toolExecutionNotifications": [
                    {
                        "level": "error",
                        "message": {"text": f"{each.count} questions were not answered: {_text(each.failed)}"},
                    }
                    for each in survey.failed
                ],
            }
        ],
        "results": [_result(group, rules, style) for group in survey.groups],
        "properties": {"questions": survey.questions, "answered": survey.asked, "verdict": verdict(survey)[1]},
    }
    yield json.dumps({"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}, indent=2, ensure_ascii=True) + "\n"


def _text(text: object) -> str:
    return one_line(str(text), 4000)


def _rule(group: Group) -> str:
    return group.cause.rule if group.cause is not None else UNEXPLAINED


def _described(code: str) -> dict[str, Any]:
    """A rule (3.49): what is wrong, and how it is mended."""
    fault = BY_CODE.get(code)
    title = fault.title if fault is not None else "An expectation is missed, and no known fault explains it"
    told = fault.help if fault is not None else "Ask 'portolan explain' for each of them."
    return {
        "id": code,
        "shortDescription": {"text": f"{title}."},
        "fullDescription": {"text": f"{title}. What a visitor gets: {fault.visitor_gets}" if fault else f"{title}."},
        "help": {"text": told, "markdown": text_of(told, 4000)},
        "defaultConfiguration": {"level": "error"},
    }


def _result(group: Group, rules: list[str], style: Style) -> dict[str, Any]:
    """A result (3.27)."""
    cause, rule = group.cause, _rule(group)
    count = len(group.missed)
    text = f"{_text(group.text)} (missed by it: {count:,} question{'s' if count != 1 else ''})"
    found: dict[str, Any] = {
        "ruleId": rule,
        "ruleIndex": rules.index(rule),
        "level": "warning" if cause is not None and cause.severity == "warning" else "error",
        "message": {"text": text},
        "locations": [_location(group.missed[0].span, style, cause)],
        "relatedLocations": [
            {**_location(each.span, style), "id": number, "message": {"text": _text(said(each))}}
            for number, each in enumerate(group.missed[:_MOST_NAMED])
        ],
        "partialFingerprints": {
            "causeAndObject/v1": f"{rule} {_text(cause.object) if cause is not None else group.text}"
        },
        "occurrenceCount": count,
        "properties": {"proven": group.proven, "missed": [_question(each) for each in group.missed[:_MOST_NAMED]]},
    }
    return found


def _question(each: Answered) -> dict[str, str]:
    return {"url": _text(each.url), "from": _text(each.vantage)}


def _location(span: Span | None, style: Style, cause: Cause | None = None) -> dict[str, Any]:
    """A location (3.28): the file as seen from the estate's folder, the spot, and the object's dotted path."""
    span = cause.span if cause is not None and cause.span is not None else span
    found: dict[str, Any] = {}
    if span is not None:
        uri = quote(style.place(span.file), safe="/.-_~")
        region = {"startLine": span.line, "startColumn": span.column}
        found["physicalLocation"] = {"artifactLocation": {"uri": uri, "uriBaseId": "ESTATE"}, "region": region}
    if cause is not None and cause.object:
        found["logicalLocations"] = [{"fullyQualifiedName": _text(cause.object), "kind": "object"}]
    return found
