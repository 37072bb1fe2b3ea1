"""Records back to master file text, with absolute names."""

from typing import Any

from portolan.estate.zone import Record


def data_text(record: Record) -> str:
    """A record's data as a master file writes it."""
    data: Any = record.data
    if record.type in ("CNAME", "NS", "PTR", "DNAME"):
        return f"{data}."
    if record.type == "MX":
        return f"{data[0]} {data[1]}."
    if record.type == "SOA":
        return f"{data.primary}. {data.mailbox}. {data.serial} {data.refresh} {data.retry} {data.expire} {data.minimum}"
    if record.type == "TXT":
        return " ".join(f'"{text}"' for text in data)
    return str(data)
