"""Records that do not lead to the edge that was told their name: an old server, the bucket itself, another edge, a slip in the alias."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, also, zone_of
from portolan.diagnosis.edge_base import MISSED, edge_asked, onward
from portolan.diagnosis.proposal import Patch, Proposal, add_record, drop_record, put, remedy, swap_record
from portolan.estate.edge import Edge
from portolan.estate.records import Record
from portolan.estate.zone import Zone

_KINDS = ("A", "AAAA", "CNAME")


class PointClue(msgspec.Struct, frozen=True):
    """The name, its zone, and the edge that was told it."""

    name: str
    zone: Zone
    edge: Edge


def _meant(case: Case) -> PointClue | None:
    """The edge that was told the name that the visitor asks for, where the name does not lead to it."""
    outer = case.visit.exchanges[-1]
    host = outer.url.host.rstrip(".")
    asked = edge_asked(outer)
    zone = zone_of(case.world.stated, host)
    if zone is None or outer.url.literal is not None:
        return None
    for edge in case.world.stated.edges.values():
        reached = asked is not None and asked.place.path == edge.place.path
        if edge.canonical is not None and not reached and case.world.edge(edge)[1].told(host) is not None:
            return PointClue(name=host, zone=zone, edge=edge)
    return None


def _held(clue: PointClue) -> list[Record]:
    types = clue.zone.data.nodes.get(clue.name, {})
    return [record for kind in _KINDS for record in types.get(kind, ())]


def _pointed(case: Case, clue: PointClue) -> bool:
    """Whether the visitor gets further once the name is an alias of the edge."""
    zone, name = clue.zone, clue.name
    span = clue.edge.place.span
    alias = Record(name, "CNAME", 300, str(clue.edge.canonical), span.file, span.line, "")
    kept = {kind: held for kind, held in zone.data.nodes.get(name, {}).items() if kind not in _KINDS}
    if name == zone.name:
        data = zone.data.but(nodes={**zone.data.nodes, name: kept})
        changed = msgspec.structs.replace(zone, data=data, apex_alias=clue.edge.canonical)
    else:
        nodes = {**zone.data.nodes, name: {**kept, "CNAME": (alias,)}}
        changed = msgspec.structs.replace(zone, data=zone.data.but(nodes=nodes))
    stated = case.world.stated
    return onward(case, msgspec.structs.replace(stated, zones={**stated.zones, zone.name: changed}))


@also("name-wrong-address", "*", *MISSED)
def leads_past_edge(case: Case) -> Finding | None:
    """The name has records, and they lead elsewhere than to the edge that was told it."""
    clue = _meant(case)
    if clue is None or case.exchange.resolution.detail is not None or not _held(clue) or not _pointed(case, clue):
        return None
    record = _held(clue)[0]
    text = f"{clue.name} is {record.data}, and does not lead to {clue.edge.label}, which was told that name"
    return Finding("name-wrong-address", text, record.place, clue=clue)


@also("name-missing", "no-such-name", "no-address")
def missing_before_edge(case: Case) -> Finding | None:
    """No record makes the name that an edge was told."""
    clue = _meant(case)
    if clue is None or case.exchange is not case.visit.exchanges[-1] or _held(clue) or not _pointed(case, clue):
        return None
    text = f"the zone {clue.zone.name} has no record named {clue.name}, which {clue.edge.label} was told"
    return Finding("name-missing", text, clue.zone.place, clue=clue)


@also("name-alias-dangling", "no-such-name", "no-address", "undescribed")
def dangling_before_edge(case: Case) -> Finding | None:
    """The name is an alias of a name that is not the edge's, and does not exist."""
    clue = _meant(case)
    if clue is None or case.exchange is not case.visit.exchanges[-1] or not _held(clue) or not _pointed(case, clue):
        return None
    record = _held(clue)[0]
    text = f"{clue.name} is an alias of {record.data}, which does not exist; {clue.edge.label} is {clue.edge.canonical}"
    return Finding("name-alias-dangling", text, record.place, clue=clue)


@remedy("name-wrong-address", "name-missing", "name-alias-dangling")
def point_at_edge(_case: Case, clue: PointClue) -> Iterator[Proposal]:
    """Makes the name an alias of the edge; at the zone's own name by the provider's alias."""
    zone, name, canonical = clue.zone, clue.name, str(clue.edge.canonical)
    held = _held(clue)
    text = f"make {name} an alias of {canonical}, {clue.edge.label}"
    if name == zone.name:
        yield Proposal(
            f"{text} (the provider's alias)", [*_dropped(zone, held), *put(zone.place, "apex_alias", canonical)]
        )
        return
    if not held:
        yield Proposal(text, add_record(zone, name, "CNAME", f"{canonical}.", 300))
        return
    if all(record.text in zone.records for record in held):
        yield Proposal(text, [*_dropped(zone, held[1:]), *swap_record(zone, held[0], "CNAME", f"{canonical}.")])
        return
    added = add_record(zone, name, "CNAME", f"{canonical}.", 300)
    yield Proposal(text, [*_dropped(zone, held), *added])


def _dropped(zone: Zone, records: list[Record]) -> Patch:
    """Takes records away, the last line first, so that each still stands where it stood; those of a file all at once."""
    own = [record for record in records if record.text in zone.records]
    own.sort(key=lambda record: zone.records.index(record.text), reverse=True)
    rest = [record for record in records if record not in own]
    return [step for record in (*own, *rest) for step in drop_record(zone, record)]
