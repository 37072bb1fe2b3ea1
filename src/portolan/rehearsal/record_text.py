"""Records back to master file text, with absolute names."""

from collections.abc import Iterable
from typing import Any

from portolan.estate.records import Defect, Record
from portolan.rehearsal.quoting import dns_data, dns_name, dns_string

#: Lines of our own that some servers refuse as they refuse what an estate's file says, by the name of the defect.
_REFUSED = {
    "generate": "$GENERATE 1-1 stage$ 60 TXT x",
    "relative-origin": "$ORIGIN stage",
    "out-of-zone": "stage.invalid. 60 TXT x",
    "quoted-include": '$INCLUDE "/dev/null"',
    "not-ascii-text": 'stage 60 TXT "caf\u00e9"',
}


def refused_lines(defects: Iterable[Defect]) -> list[str]:
    """Lines that stand for those of a file which only some servers take; they end a master file."""
    return [_REFUSED[name] for name in dict.fromkeys(each.line for each in defects) if name in _REFUSED]


def record_line(record: Record) -> str:
    """A record as a line of a master file."""
    return f"{dns_name(record.owner, record.place)} {record.ttl} {record.type} {data_text(record)}"


def data_text(record: Record) -> str:
    """A record's data as a master file writes it."""
    data: Any = record.data
    place = record.place
    if record.type in ("A", "AAAA"):
        return str(data)
    if record.type in ("CNAME", "NS", "PTR", "DNAME"):
        return dns_name(data, place)
    if record.type == "MX":
        return f"{int(data[0])} {dns_name(data[1], place)}"
    if record.type == "SOA":
        times = " ".join(str(int(each)) for each in (data.serial, data.refresh, data.retry, data.expire, data.minimum))
        return f"{dns_name(data.primary, place)} {dns_name(data.mailbox, place)} {times}"
    if record.type == "TXT":
        return " ".join(dns_string(text, place) for text in data)
    return dns_data(record.type, str(data), place)
