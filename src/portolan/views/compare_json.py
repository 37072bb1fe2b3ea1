"""Two states of an estate side by side, as JSON."""

from collections.abc import Iterator
from typing import Any

from portolan.source.plain import document
from portolan.surveying.compared import SAFETY, Access, Changed, Compared, Difference, Seen
from portolan.views.data import VERSION, moment, outcome_data
from portolan.views.style import Style


def shown(found: Compared, style: Style) -> Iterator[str]:
    """The document."""
    del style
    yield document(compared_data(found))


def compared_data(found: Compared) -> dict[str, Any]:
    """The same as plain data."""
    return {
        "portolan": VERSION,
        "at": moment(found.at),
        "questions": found.questions,
        "left_out": found.left,
        "differences": [difference_data(each) for each in found.differences],
        "expectations": {
            "newly_missed": [_changed(each) for each in found.broken],
            "mended": [_changed(each) for each in found.mended],
            "still_missed": found.still_missed,
            "still_met": found.still_met,
            "newly_stated": found.newly_stated,
            "stated_no_more": found.stated_no_more,
        },
        "gained": [_access(each) for each in found.gained],
        "lost": [_access(each) for each in found.lost],
        "opened": list(found.opened),
        "weakened": list(found.weakened),
    }


def difference_data(each: Difference) -> dict[str, Any]:
    """A question with another answer, as plain data."""
    return {
        "url": each.url,
        "vantage": each.vantage,
        "what": list(each.what),
        "weaker": each.weaker,
        "before": seen_data(each.before),
        "after": seen_data(each.after),
    }


def seen_data(each: Seen) -> dict[str, Any]:
    """What a visitor got, as plain data."""
    return {
        "outcome": outcome_data(each.outcome),
        "redirects": list(each.redirects),
        "way": list(each.way),
        "legs": [SAFETY[one] for one in each.legs],
    }


def _changed(each: Changed) -> dict[str, Any]:
    where = each.span.short if each.span is not None else None
    return {"url": each.url, "vantage": each.vantage, "missed": list(each.missed), "where": where}


def _access(each: Access) -> dict[str, Any]:
    return {
        "who": each.who,
        "machine": each.machine,
        "service": each.service,
        "at": each.at,
        "protocol": each.protocol,
        "from_outside": each.everybody,
    }
