"""What might have been meant by the records of a zone: another address or name, a record too many or too few."""

from collections.abc import Iterator

from portolan.diagnosis.candidate import ADDED, MOST_SLIPS, TAKEN, Candidate, Wanted
from portolan.diagnosis.proposal import add_record, drop_record, swap_record
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.records import Record
from portolan.estate.slips import ADDRESS, NAME, Known, slips
from portolan.estate.zone import Zone
from portolan.source.place import Place, place_in_file
from portolan.source.words import Words

#: A zone with more records has its slips tried for names near to those that were asked.
_MANY_RECORDS = 40


def of_zone(estate: Estate, zone: Zone, about: Known, wanted: Wanted) -> Iterator[Candidate]:
    """The candidates of a zone: its records, and those that it lacks."""
    every = [record for types in zone.data.nodes.values() for held in types.values() for record in held]
    few = len(every) <= _MANY_RECORDS
    yield from _lacking(estate, zone, wanted)
    for record in every:
        if record.type not in ("A", "AAAA", "CNAME", "NS", "DNAME") or not (few or record.owner in wanted.hosts):
            continue
        place = place_of(zone, record)
        data = str(record.data)
        yield Candidate(
            place,
            drop_record(zone, record),
            TAKEN,
            f"the record {_words(record)} stands in the way",
            f"take the record {_words(record)} away",
        )
        if record.type in ("A", "AAAA"):
            for slip in slips(ADDRESS, data, about)[:MOST_SLIPS]:
                yield _record(zone, record, place, slip.meant, slip.cost)
        else:
            for meant, cost in _dots(data, zone.name):
                yield _record(zone, record, place, f"{meant}.", cost)
            for slip in slips(NAME, data, about)[:MOST_SLIPS]:
                yield _record(zone, record, place, f"{slip.meant}.", slip.cost)
        for host in wanted.hosts:
            if host != record.owner and host.endswith(zone.name) and host not in zone.data.nodes:
                near_by = slips(NAME, record.owner, about.but(names=Words([host])))
                near = near_by[0].cost if near_by else 3.0
                if near < 2.0:
                    written = f"{data}." if record.type in ("CNAME", "NS", "DNAME") else data
                    patch = [*drop_record(zone, record), *add_record(zone, host, record.type, written, record.ttl)]
                    yield Candidate(
                        place,
                        patch,
                        near,
                        f"the record {_words(record)} was probably meant for {host}",
                        f"write the record {_words(record)} for {host}",
                    )


def _lacking(estate: Estate, zone: Zone, wanted: Wanted) -> Iterator[Candidate]:
    """An address record for a name that is asked for and has none of that kind."""
    for host in wanted.hosts:
        if host != zone.name and not host.endswith(f".{zone.name}"):
            continue
        held = zone.data.nodes.get(host, {})
        for machine in machines(estate):
            for address in machine.addresses:
                kind = "A" if address.version == 4 else "AAAA"
                if kind in held or "CNAME" in held:
                    continue
                cost = ADDED + 0.3 - (0.5 if machine.name in host.split(".") else 0.0)
                place = Place((*zone.place.path, "records"), zone.place.node, zone.place.name)
                yield Candidate(
                    place,
                    add_record(zone, host, kind, address),
                    cost,
                    f"{host} has no {kind} record",
                    f"add the record {host} {kind} {address}",
                )


def _record(zone: Zone, record: Record, place: Place, meant: str, cost: float) -> Candidate:
    patch = swap_record(zone, record, record.type, meant)
    return Candidate(
        place,
        patch,
        cost,
        f"the record {_words(record)}; {meant.rstrip('.')} was probably meant",
        f"write {meant.rstrip('.')} in place of {record.data} in the record of {record.owner}",
    )


def _dots(data: str, zone: str) -> Iterator[tuple[str, float]]:
    """A name with its final dot lost, or with one too many."""
    if data.endswith(f".{zone}"):
        inner = data.removesuffix(f".{zone}")
        if "." in inner:
            yield inner, 0.8
    elif not data.endswith(zone):
        yield f"{data}.{zone}", 0.9


def place_of(zone: Zone, record: Record) -> Place:
    """Where a record stands: its line of the estate, or of its file."""
    number = next((at for at, line in enumerate(zone.records) if line == record.text), None)
    if number is not None:
        return zone.place.item("records", number)
    return place_in_file(zone.place.path, record.file, record.line)


def _words(record: Record) -> str:
    return f"{record.owner} {record.type} {record.data}"
