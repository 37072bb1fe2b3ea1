"""Which version of a zone answers whom and when, and how long its answers are remembered."""

from datetime import datetime, timedelta

from portolan.dns.zone import Types, ZoneIndex
from portolan.estate.base import IPAddress
from portolan.estate.zone import Before, Copy, View, Zone

Held = Zone | View | Before | Copy


def version_at(zone: Zone, moment: datetime, client: IPAddress | None) -> Held:
    """What the zone's own servers answer with, at a moment, to an asker's address."""
    for before in reversed(zone.before):
        if moment < before.until:
            return before
    for view in zone.views.values():
        if client is not None and any(client in net for net in view.clients):
            return view
    return zone


def remembered_until(index: ZoneIndex, types: Types | None, since: datetime) -> datetime:
    """When an answer that was got at a moment is forgotten: an address, an alias, or that there is neither.

    RFC 1034 section 4.3.5; absence by RFC 2308 section 5.
    """
    if types:
        kinds = [kind for kind in ("CNAME", "A", "AAAA") if kind in types]
        if kinds:
            return since + timedelta(seconds=min(record.ttl for kind in kinds for record in types[kind]))
    return since + timedelta(seconds=index.negative_ttl())


def same_answer(left: Types | None, right: Types | None) -> bool:
    """Whether two nodes lead to the same places."""
    return all(
        {record.data for record in (left or {}).get(kind, ())}
        == {record.data for record in (right or {}).get(kind, ())}
        for kind in ("CNAME", "A", "AAAA")
    ) and (left is None) == (right is None)
