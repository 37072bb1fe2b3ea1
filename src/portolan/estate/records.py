"""Resource records and what a master file holds, with the line of every record."""

from typing import Any, Literal

from portolan.source.place import FixedMark, Place
from portolan.source.value import Value


class Record(Value, frozen=True):
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
        """Where the master file states it; the record is its own node, so that only citing it costs."""
        return Place(("zones",), self)

    @property
    def start_mark(self) -> FixedMark:
        """The line, as a node's mark."""
        return FixedMark(self.file, self.line - 1, 0)

    @property
    def value(self) -> None:
        """Nothing stands below a record."""
        return


#: The name server programs whose rules are known.
ServerProgram = Literal["named", "nsd", "knot"]
SERVER_PROGRAMS: tuple[ServerProgram, ...] = ("named", "nsd", "knot")


class Defect(Value, frozen=True):
    """Why some name servers would not load a zone: the offending record, and which programs refuse it.

    `claims` says that only the others read such a file at all, so that whoever wrote it uses one of them.
    """

    text: str
    record: Record
    refused_by: frozenset[ServerProgram]
    claims: bool = False
    #: For a single line: what it is, by its name in formats/zone_defects.py.
    line: str = ""


class ZoneData(Value, frozen=True):
    """A zone's records: owner name to type to records, in file order."""

    nodes: dict[str, dict[str, tuple[Record, ...]]]
    #: What keeps it from being loaded, in the order of the lines.
    defects: tuple[Defect, ...] = ()
    #: Whether a file gives it, with all that a zone needs; lines of the estate may leave the SOA and NS records out.
    whole: bool = False

    def defect_for(self, program: ServerProgram | None) -> Defect | None:
        """Why a server does not load it; None when it does.

        Where nothing says which program it runs: as most programs do, or as the only one that reads such a file.
        """
        if not self.defects:
            return None
        if program is not None:
            return next((each for each in self.defects if program in each.refused_by), None)
        claimed = next((each for each in self.defects if each.claims), None)
        if claimed is not None:
            return self.defect_for(next(each for each in SERVER_PROGRAMS if each not in claimed.refused_by))
        refusing = {each for defect in self.defects for each in defect.refused_by}
        return self.defects[0] if len(refusing) * 2 > len(SERVER_PROGRAMS) else None

    def doubt(self) -> Defect | None:
        """What only some programs refuse, where nothing says which one runs; None where all do the same."""
        return self.defects[0] if self.defects and self.defect_for(None) is None else None
