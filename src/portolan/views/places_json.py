"""One address from two places, as JSON."""

from collections.abc import Iterator
from typing import Any

from portolan.evidence.decision import Decision
from portolan.source.plain import document
from portolan.surveying.compared import seen
from portolan.surveying.places import SideBySide
from portolan.views.compare_json import seen_data
from portolan.views.data import VERSION, moment
from portolan.views.style import Style


def shown(found: SideBySide, style: Style) -> Iterator[str]:
    """The document."""
    del style
    yield document(places_data(found))


def places_data(found: SideBySide) -> dict[str, Any]:
    """The same as plain data."""
    parting = found.parting
    return {
        "portolan": VERSION,
        "url": found.url,
        "at": moment(found.one.at),
        "from": [found.one.vantage.name, found.other.vantage.name],
        "what": list(found.difference.what) if found.difference is not None else [],
        "seen": [seen_data(seen(found.one)), seen_data(seen(found.other))],
        "parting": None
        if parting is None
        else {"leg": parting.leg, "decisions": [decision_data(parting.before), decision_data(parting.after)]},
    }


def decision_data(decision: Decision | None) -> dict[str, Any] | None:
    if decision is None:
        return None
    place = decision.place
    where = place.span.short if place is not None and place.path else None
    return {"kind": decision.kind, "text": decision.text, "where": where}
