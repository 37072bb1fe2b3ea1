"""Who gets through to what, as JSON."""

from collections.abc import Iterator
from typing import Any

from portolan.source.plain import document
from portolan.surveying.exposed import MACHINES, Exposed, Reached, networks_of
from portolan.views.data import VERSION
from portolan.views.style import Style


def shown(found: Exposed, style: Style) -> Iterator[str]:
    """The document."""
    del style
    yield document(exposed_data(found))


def exposed_data(found: Exposed) -> dict[str, Any]:
    """The same as plain data."""
    return {
        "portolan": VERSION,
        "asked": found.asked,
        "left_out": list(found.left),
        "reached": [reached_data(each) for each in found.reached],
    }


def reached_data(each: Reached) -> dict[str, Any]:
    """A program that somebody gets through to, as plain data."""
    near = dict(each.near)
    return {
        "machine": each.machine,
        "service": each.service,
        "port": each.port,
        "protocol": each.protocol,
        "where": each.place.span.short,
        "asked_at": {"address": str(each.address), "port": each.asked},
        "everywhere": each.everywhere,
        "internet": [str(one) for one in networks_of(each.strangers)],
        "networks": {network: list(who) for network, who in near.items() if network != MACHINES},
        "machines": list(near.get(MACHINES, ())),
        "by": [{"text": text, "where": place.span.short} for text, place in each.by],
        "kept_out": [
            {"who": list(one.who), "text": one.text, "where": one.place.span.short if one.place is not None else None}
            for one in each.kept_out
        ],
    }
