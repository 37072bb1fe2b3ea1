"""Zones: what a name server holds, with the line of every record."""

from datetime import datetime
from typing import Annotated, Literal

import msgspec

from portolan.estate.base import EstatePath, HostName, IPAddress, IPNetwork, RunBy, Stated, says
from portolan.estate.edge import SwitchedEdge
from portolan.estate.records import ZoneData


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
    run_by: RunBy = None
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
    edge: Annotated[
        SwitchedEdge | None,
        says(
            "An edge of the zone's provider, switched on at its records: their names are answered with its addresses, and it asks "
            "the records' own, with the visitor's host name."
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
    guessed: Annotated[
        bool,
        says("Whether a reader of real configuration made it up, since nobody said where its names lead."),
    ] = False
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
    #: Of a zone that no file states, since a provider has it: whether its addresses are stated or made up.
    provided: Literal["stated", "made-up"] | None = None
