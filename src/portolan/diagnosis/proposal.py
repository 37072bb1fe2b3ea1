"""What a remedy is, and the small edits that remedies are made of (JSON Patch, RFC 6902)."""

from collections.abc import Callable, Iterable, Iterator
from enum import StrEnum
from typing import Any

from portolan.diagnosis.base import Case
from portolan.estate.records import Record
from portolan.estate.zone import Zone
from portolan.source.place import Place, pointer
from portolan.source.value import Value


class Safety(StrEnum):
    """What a remedy lays open; computed by exposure.py, never claimed.

    `safe` lays nothing open; `opens` lays open what is expected, in the smallest form found; `weakens` more than that, or
    a leg that is no longer encrypted or verified, and is withheld where a mark forbids it; `outside` changes nothing here.
    """

    SAFE = "safe"
    OPENS = "opens"
    OUTSIDE = "outside"
    WEAKENS = "weakens"


#: In which order remedies are offered.
ORDER: dict[Safety, int] = {each: number for number, each in enumerate(Safety)}

#: Marks under which nothing that weakens is handed out.
GUARDED = frozenset(("takes-payments", "private"))

Patch = list[dict[str, Any]]


class Proposal(Value, frozen=True):
    """A change that may mend a cause; an empty patch says whom to ask for what.

    One in `thought` is advice too: its patch shows what comes of it, and is never handed out, since it is about what was (a memory, a
    cache, a moment) and not about what is set.
    """

    text: str
    patch: Patch
    #: The steps, where they depend on each other: each with its words and its part of the patch.
    parts: tuple[tuple[str, Patch], ...] = ()
    thought: bool = False


def in_order(*parts: tuple[str, Patch]) -> Proposal:
    """A change in steps that must be taken in their order."""
    text = "; then ".join(words for words, _ in parts)
    return Proposal(text, [change for _, patch in parts for change in patch], parts if len(parts) > 1 else ())


#: Takes the case, and the clue that its fault's recogniser found.
Proposer = Callable[[Case, Any], Iterator[Proposal]]
PROPOSERS: dict[str, list[Proposer]] = {}


def remedy(*codes: str) -> Callable[[Proposer], Proposer]:
    """Registers a proposer for fault codes. It is asked with clues of the type that it says, since a code may have several."""

    def register(propose: Proposer) -> Proposer:
        said = propose.__annotations__.get("clue", object)

        def of_its_own(case: Case, clue: Any) -> Iterator[Proposal]:
            if isinstance(clue, said):
                yield from propose(case, clue)

        for code in codes:
            PROPOSERS.setdefault(code, []).append(of_its_own)
        return propose

    return register


def put(place: Place, key: str, value: Any) -> Patch:
    """Sets a key of the object at a place."""
    return [{"op": "add", "path": pointer((*place.path, key)), "value": value}]


def replace(path: tuple[str | int, ...], value: Any) -> Patch:
    """Replaces the value at a path."""
    return [{"op": "replace", "path": pointer(path), "value": value}]


def remove(path: tuple[str | int, ...]) -> Patch:
    """Removes the value at a path."""
    return [{"op": "remove", "path": pointer(path)}]


def append(place: Place, key: str, value: Any, at: int | None = None) -> Patch:
    """Adds an item to the list under a key, which may be absent or a lone item; at its end, or at an index."""
    node = next((item for name, item in place.node.value or () if name.value == key), None)
    path = (*place.path, key)
    if node is None:
        return [{"op": "add", "path": pointer(path), "value": [value]}]
    if isinstance(node.value, list) and not (node.value and isinstance(node.value[0], tuple)):
        where: str | int = "-" if at is None else at
        return [{"op": "add", "path": pointer((*path, where)), "value": value}]
    if node.value == "":
        return [{"op": "add", "path": pointer(path), "value": [value]}]
    lone = {name.value: item.value for name, item in node.value} if isinstance(node.value, list) else node.value
    items = [value, lone] if at == 0 else [lone, value]
    return [{"op": "add", "path": pointer(path), "value": items}]


def append_all(place: Place, key: str, values: Iterable[Any]) -> Patch:
    """Adds several items to the list under a key."""
    held = [*values]
    node = next((item for name, item in place.node.value or () if name.value == key), None)
    if len(held) == 1 or (node is not None and isinstance(node.value, list)):
        return [step for each in held for step in append(place, key, each)]
    lone = [node.value] if node is not None and node.value != "" else []
    return [{"op": "add", "path": pointer((*place.path, key)), "value": [*lone, *held]}]


def item_path(place: Place, key: str, index: int) -> tuple[str | int, ...]:
    """The path of a list's item, or of the lone item that stands for the list."""
    node = next((item for name, item in place.node.value or () if name.value == key), None)
    is_list = node is not None and isinstance(node.value, list)
    return (*place.path, key, index) if is_list else (*place.path, key)


def add_record(zone: Zone, name: str, kind: str, data: Any, ttl: int = 3600) -> Patch:
    """Adds a record to a zone."""
    return append(zone.place, "records", f"{owner_in(zone, name)} {ttl} {kind} {data}")


def drop_record(zone: Zone, record: Record) -> Patch:
    """Takes a record away: out of the estate's own lines, or of the zone's file."""
    for index, line in enumerate(zone.records):
        if line == record.text:
            return remove(item_path(zone.place, "records", index))
    return append(zone.place, "without", f"{owner_in(zone, record.owner)} {record.type} {shown_data(record)}")


def swap_record(zone: Zone, record: Record, kind: str, data: Any) -> Patch:
    """Replaces a record."""
    line = f"{owner_in(zone, record.owner)} {record.ttl} {kind} {data}"
    for index, held in enumerate(zone.records):
        if held == record.text:
            return replace(item_path(zone.place, "records", index), line)
    return [*drop_record(zone, record), *append(zone.place, "records", line)]


def owner_in(zone: Zone, name: str) -> str:
    """A name as a master file of the zone writes it."""
    if name == zone.name:
        return "@"
    return name.removesuffix("." + zone.name) if name.endswith("." + zone.name) else f"{name}."


def shown_data(record: Record) -> str:
    """A record's data as a master file writes it, for the types that lead to addresses."""
    return f"{record.data}." if record.type in ("CNAME", "NS", "PTR", "DNAME") else str(record.data)
