"""Zones: what a name server holds, with the line of every record."""

from typing import Annotated, Any, NamedTuple

from portolan.estate.base import EstatePath, HostName, Stated, says
from portolan.source.place import FixedMark, FixedNode, Place


class Record(NamedTuple):
    """One resource record; owner and target names are in lower case without the final dot."""

    owner: str
    type: str
    ttl: int
    data: Any
    file: str
    line: int
    text: str = ""

    @property
    def place(self) -> Place:
        """Where the master file states it."""
        return Place(("zones",), FixedNode(FixedMark(self.file, self.line - 1, 0)))


class ZoneData(NamedTuple):
    """A zone's records: owner name to type to records, in file order."""

    nodes: dict[str, dict[str, tuple[Record, ...]]]
    #: Why a real server would not load it, with the offending record; None when it loads.
    defect: tuple[str, Record] | None = None


class Zone(Stated, frozen=True, kw_only=True, eq=False):
    """A DNS zone and who is told to serve it."""

    name: str
    file: Annotated[
        EstatePath | None, says("The master file (RFC 1035 section 5).", example="zones/kestrel-ridge.example.zone")
    ] = None
    records: Annotated[
        tuple[str, ...],
        says("Further records, each a line as in a master file with the zone's name as origin.",
             example="visit 3600 A 203.0.113.40"),
    ] = ()  # fmt: skip
    withdrawn: Annotated[
        tuple[str, ...],
        says("Records of the file that count as deleted: owner and type, or owner, type and data. For asking what "
             "would be without them.", example="visit A 203.0.113.99"),
    ] = ()  # fmt: skip
    delegated_to: Annotated[
        tuple[HostName, ...],
        says("The name servers that the parent zone names, as the registration says. Left out: the right ones. Only "
             "for zones whose parent is not in the estate; else its NS records say so."),
    ] = ()  # fmt: skip
    data: ZoneData = ZoneData({})
