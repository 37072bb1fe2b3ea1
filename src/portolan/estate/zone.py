"""Zones: what a name server holds, with the line of every record."""

from datetime import datetime
from typing import Annotated, Any, Literal, NamedTuple

import msgspec

from portolan.estate.base import EstatePath, HostName, IPAddress, IPNetwork, Stated, says
from portolan.source.place import FixedMark, Place


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


class Defect(NamedTuple):
    """Why some name servers would not load a zone: the offending record, and which programs refuse it.

    `claims` says that only the others read such a file at all, so that whoever wrote it uses one of them.
    """

    text: str
    record: Record
    refused_by: frozenset[ServerProgram]
    claims: bool = False
    #: For a single line: what it is, by its name in formats/zone_defects.py.
    line: str = ""


class ZoneData(NamedTuple):
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


class Version(Stated, frozen=True, kw_only=True, eq=False):
    """Another version of a zone: the zone's own records, or those of a file, with some of them otherwise."""

    name: str = ""
    file: Annotated[EstatePath | None, says("A master file with this version's records, instead of the zone's.")] = None
    records: Annotated[
        tuple[str, ...],
        says(
            "Records of this version; where the zone has records of the same name and type, these stand instead.",
            example="visit 300 A 10.20.0.15",
            kind="line",
        ),
    ] = ()
    without: Annotated[
        tuple[str, ...],
        says("Records that this version lacks: a name, or a name and a type.", example="visit AAAA", kind="line"),
    ] = ()
    data: ZoneData = ZoneData({})


class View(Version, frozen=True, kw_only=True, eq=False):
    """What the zone's servers answer to some askers."""

    clients: Annotated[
        tuple[IPNetwork, ...],
        says(
            "Whoever asks the zone's servers from these ranges gets this view; mostly a resolver asks, not the "
            "visitor. The first view that fits is taken, else the zone's own records."
        ),
    ] = msgspec.field(name="for")


class Before(Version, frozen=True, kw_only=True, eq=False):
    """What stood in the zone before a change."""

    until: Annotated[datetime, says("When it was changed, as an RFC 3339 time.")]


class Copy(Version, frozen=True, kw_only=True, eq=False):
    """A version that other servers hold: an old provider's, say, to whom the world is still sent."""

    servers: Annotated[tuple[HostName, ...], says("The name servers that hold this version.")]


class Zone(Stated, frozen=True, kw_only=True, eq=False):
    """A DNS zone and who is told to serve it."""

    name: str
    file: Annotated[
        EstatePath | None, says("The master file (RFC 1035 section 5).", example="zones/kestrel-ridge.example.zone")
    ] = None
    records: Annotated[
        tuple[str, ...],
        says(
            "Further records, each a line as in a master file with the zone's name as origin.",
            example="visit 3600 A 203.0.113.40",
            kind="line",
        ),
    ] = ()
    without: Annotated[
        tuple[str, ...],
        says(
            "Records of the file that count as deleted: owner and type, or owner, type and data. For asking what "
            "would be without them.",
            example="visit A 203.0.113.99",
            kind="line",
        ),
    ] = ()
    apex_alias: Annotated[
        HostName | None,
        says(
            "The provider's alias for the zone's own name, where the standards allow no CNAME: its servers look the "
            "target up themselves and answer with its addresses."
        ),
    ] = None
    delegated_to: Annotated[
        tuple[HostName, ...],
        says(
            "The name servers that the parent zone names, as the registration says. Left out: the right ones. Only "
            "for zones whose parent is not in the estate; else its NS records say so."
        ),
    ] = ()
    glue: Annotated[
        dict[HostName, tuple[IPAddress, ...]],
        says(
            "The addresses that the registration gives for servers named inside the zone. Left out: those that the "
            "zone itself states."
        ),
    ] = msgspec.field(default_factory=dict)
    registered_until: Annotated[
        datetime | None,
        says("When the registration ends or ended; from then on the parent zone delegates it to nobody."),
    ] = None
    on_hold: Annotated[
        bool, says("Whether the registration is on hold: the parent zone delegates it to nobody (RFC 5731).")
    ] = False
    keys: Annotated[
        tuple[str, ...],
        says(
            "Labels of the keys that the zone is signed with, for a signed zone whose DNSKEY records are not in its "
            "file.",
            example="spring-2026",
        ),
    ] = ()
    ds: Annotated[
        tuple[str, ...],
        says(
            "The DS records that the parent zone holds: each the label of a key, or DS data as in a master file. Left "
            "out: none, nobody checks signatures. Where the parent zone is in the estate, its DS records count too.",
            example="spring-2026",
        ),
    ] = ()
    signatures_until: Annotated[
        datetime | None,
        says("When the zone's signatures end. Left out: as its RRSIG records say, else never."),
    ] = None
    views: Annotated[dict[str, View], says("What some askers are answered instead.")] = msgspec.field(
        default_factory=dict
    )
    before: Annotated[
        tuple[Before, ...],
        says(
            "What stood here before changes, the latest change first. Caches that were filled before a change keep "
            "the old answers until their TTL ends."
        ),
    ] = ()
    copies: Annotated[dict[str, Copy], says("Versions of the zone that other servers hold.")] = msgspec.field(
        default_factory=dict
    )
    data: ZoneData = ZoneData({})
