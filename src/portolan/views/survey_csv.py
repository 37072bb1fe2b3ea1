"""A survey as CSV (RFC 4180): a line for each question."""

import csv
import io
from collections.abc import Iterator

from portolan.source.plain import one_line
from portolan.surveying.answered import Answered
from portolan.surveying.survey import Survey
from portolan.views.style import Style

COLUMNS = (
    "url",
    "from",
    "met",
    "outcome",
    "detail",
    "status",
    "page",
    "final_url",
    "secure",
    "missed",
    "when",
    "cause",
    "object",
    "where",
)
#: A cell that begins so is a formula to a spreadsheet.
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def shown(survey: Survey, style: Style) -> Iterator[str]:
    """The lines; foreign text can be no formula, and no control of a terminal."""
    del style
    held = io.StringIO()
    writer = csv.writer(held, lineterminator="\r\n")
    writer.writerow(COLUMNS)
    causes = {each.number: group.cause for group in survey.groups for each in group.missed}
    for each in survey.answers:
        cause = causes.get(each.number)
        outcome = each.outcome
        found = [each.url, each.vantage, "yes" if each.met else "no", outcome.kind, outcome.detail, outcome.status]
        found += [outcome.page, outcome.final_url, "yes" if outcome.secure else "no"]
        found += ["; ".join(each.missed), "; ".join(each.at_times), cause.rule if cause is not None else ""]
        found += [cause.object if cause is not None else "", _where(each)]
        writer.writerow([_cell(one) for one in found])
        yield held.getvalue()
        held.seek(0)
        held.truncate()
    yield held.getvalue()


def _where(each: Answered) -> str:
    return each.span.short if each.span is not None else ""


def _cell(value: object) -> str:
    text = "" if value is None else one_line(str(value), 4000)
    return f"'{text}" if text.startswith(_FORMULA) else text
