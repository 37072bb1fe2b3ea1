"""Which version of a zone answers whom and when, and how long what it answers is remembered."""

from datetime import datetime, timedelta

from portolan.dns.zone import Types, ZoneIndex
from portolan.estate.base import IPAddress
from portolan.estate.records import Record
from portolan.estate.zone import Before, Copy, View, Zone
from portolan.programs.protocol import ResolverProgram

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


def kept_until(records: tuple[Record, ...], since: datetime, ways: ResolverProgram) -> datetime:
    """When records of one name and type that were got at a moment are forgotten (RFC 2181 section 5.2)."""
    return since + timedelta(seconds=min(ways.longest_kept, *(record.ttl for record in records)))


def absence_until(index: ZoneIndex, since: datetime, ways: ResolverProgram) -> datetime:
    """When an absence that was heard of at a moment is forgotten (RFC 2308 section 5)."""
    return since + timedelta(seconds=min(ways.longest_absence, index.negative_ttl()))


def remembered_until(index: ZoneIndex, types: Types | None, since: datetime, ways: ResolverProgram) -> datetime:
    """When the last of what a name's answers were at a moment is forgotten: an alias, addresses, or that there are none."""
    if types is not None and "CNAME" in types:
        return kept_until(types["CNAME"], since, ways)
    ends = [
        kept_until(types[kind], since, ways)
        if types is not None and kind in types
        else absence_until(index, since, ways)
        for kind in ("A", "AAAA")
    ]
    return max(ends)


def same_answer(left: Types | None, right: Types | None) -> bool:
    """Whether two nodes lead to the same places."""
    return all(
        {record.data for record in (left or {}).get(kind, ())}
        == {record.data for record in (right or {}).get(kind, ())}
        for kind in ("CNAME", "A", "AAAA")
    ) and (left is None) == (right is None)
