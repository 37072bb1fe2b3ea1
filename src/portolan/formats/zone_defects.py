"""What name servers refuse to load: one table of every such rule, with the programs that have it (each measured).

named 9.18 with its defaults for primary zones (check-names, integrity of the zone's own name servers), NSD 4.6, Knot DNS 3.2
without further checks.
"""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping

from portolan.estate.records import SERVER_PROGRAMS, Defect, Record, ServerProgram

Nodes = Mapping[str, Mapping[str, tuple[Record, ...]]]

_ALL: frozenset[ServerProgram] = frozenset(SERVER_PROGRAMS)
_NAMED: frozenset[ServerProgram] = frozenset(("named",))
_KNOT: frozenset[ServerProgram] = frozenset(("knot",))
_NSD: frozenset[ServerProgram] = frozenset(("nsd",))
_NOT_NAMED, _NOT_KNOT, _NOT_NSD = _ALL - _NAMED, _ALL - _KNOT, _ALL - _NSD

#: What a single line may do that not every program takes: the text, and who refuses it.
LINES: dict[str, tuple[str, frozenset[ServerProgram]]] = {
    "generate": ("$GENERATE is read by named only", _NOT_NAMED),
    "relative-origin": ("$ORIGIN with a relative name", _NOT_NAMED),
    "out-of-zone": ("a record that does not lie in the zone; others leave it out", _NSD),
    "long-string": ("a string of more than 255 octets", _NOT_KNOT),
    "not-ascii-name": ("a name with characters beyond ASCII", _NOT_NSD),
    "not-ascii-text": ("a text with characters beyond ASCII", _KNOT),
    "carriage-return": ("lines that end in CR LF", _KNOT),
    "quoted-include": ("the name of an included file in quotes, which are taken for part of it", _NSD),
    "odd-name": ("a name with a character that is not escaped", _NOT_NSD),
}

#: What named's check-names finds.
CHECKED_NAME = "host-name"
#: RFC 1123 section 2.1, as named's check-names has it: letters, digits and inner hyphens.
_HOST = re.compile(r"(?:\*\.)?(?:[a-z0-9](?:[a-z0-9-]*[a-z0-9])?\.)*[a-z0-9](?:[a-z0-9-]*[a-z0-9])?")
_ADDRESSED = ("A", "AAAA", "MX")


def defects_of(records: Iterable[Record], nodes: Nodes, zone: str, whole: bool) -> Iterator[Defect]:
    """Everything about a zone's records for which some program refuses it; `whole`: it is a file with all that a zone needs."""
    yield from _aliases(nodes)
    yield from _apex_kinds(nodes, zone)
    yield from _dnames(nodes)
    yield from _names(records, zone)
    yield from _own_servers(nodes, zone, whole)
    yield from _crowds(nodes)


def _aliases(nodes: Nodes) -> Iterator[Defect]:
    """CNAME beside other data, or twice (RFC 1034 section 3.6.2, RFC 2181 section 10.1)."""
    for types in nodes.values():
        alias = types.get("CNAME")
        if alias is None:
            continue
        if len(alias) > 1:
            yield Defect("two aliases stand at one name", alias[1], _ALL)
            continue
        beside = set(types) - {"CNAME", "RRSIG", "NSEC"}
        if beside:
            # Keys for updates may stand there (RFC 3007 section 4.4); of the programs named alone knows that.
            refusing = _NOT_NAMED if beside == {"KEY"} else _ALL
            yield Defect("an alias stands beside other records", alias[0], refusing)


def _apex_kinds(nodes: Nodes, zone: str) -> Iterator[Defect]:
    """Records that stand at a zone's own name only, or never there (RFC 1035 section 3.3.13, RFC 4035 section 2.4)."""
    for owner, types in nodes.items():
        if "SOA" in types and owner != zone:
            yield Defect("an SOA record stands below the zone's own name", types["SOA"][0], _NOT_KNOT)
        elif len(types.get("SOA", ())) > 1:
            yield Defect("a second SOA record", types["SOA"][1], _NOT_KNOT)
        if "NS" in types and owner.startswith("*."):
            yield Defect("NS records at a wildcard", types["NS"][0], _NAMED)
    apex = nodes.get(zone, {})
    if "DS" in apex:
        yield Defect("a DS record at the zone's own name", apex["DS"][0], _NAMED)


def _dnames(nodes: Nodes) -> Iterator[Defect]:
    """Names below a DNAME record, and what stands beside it (RFC 6672 section 2.4)."""
    holders = {owner: types["DNAME"] for owner, types in nodes.items() if "DNAME" in types}
    if not holders:
        return
    for owner, records in holders.items():
        if len(records) > 1:
            yield Defect("two DNAME records stand at one name", records[1], _ALL)
        # At the apex NS records are the zone's own, elsewhere a delegation.
        if "NS" in nodes[owner] and "SOA" not in nodes[owner]:
            yield Defect("a DNAME record stands at a delegation", records[0], _KNOT)
    for owner, types in nodes.items():
        above = owner.partition(".")[2]
        while above:
            if above in holders:
                record = next(iter(types.values()))[0]
                yield Defect(f"a name stands below the DNAME record of {above}", record, _NOT_NAMED)
                return
            above = above.partition(".")[2]


def _names(records: Iterable[Record], zone: str) -> Iterator[Defect]:
    """Host names that are none (named's check-names for primary zones)."""
    end = len(zone) + 1 if zone else 0
    checked: dict[str, bool] = {}
    for record in records:
        kind = record.type
        if kind in _ADDRESSED:
            owner = record.owner
            fits = checked.get(owner)
            if fits is None:
                own = owner[:-end] if end else owner
                fits = checked[owner] = not own or own == "*" or _HOST.fullmatch(own) is not None
                if not fits and kind != "MX":
                    fits = _excepted(owner, kind)
                    checked.pop(owner)
            if not fits:
                yield Defect(f"{owner} is no host name, and has {kind} records", record, _NAMED, line=CHECKED_NAME)
        for leads in _LEADS.get(kind, ()):
            target = leads(record)
            if target and _HOST.fullmatch(target) is None:
                yield Defect(f"{target} is no host name", record, _NAMED, line=CHECKED_NAME)
            elif kind == "NS" and _DOTTED.fullmatch(target):
                yield Defect("an address stands where a name server's name belongs", record, _NAMED)


def _excepted(owner: str, kind: str) -> bool:
    """Names that check-names lets have addresses: of a directory's catalogue servers, and for SPF's `exists` (A alone)."""
    if owner.startswith("gc._msdcs.") and _HOST.fullmatch(owner.removeprefix("gc._msdcs.")):
        return True
    return kind == "A" and any(label in ("_spf", "_spf_verify", "_spf_rate") for label in owner.split("."))


#: So many records of one name and type named takes (max-records-per-type, from 9.18.28 on); its checker takes more.
MOST_OF_A_TYPE = 100


def _crowds(nodes: Nodes) -> Iterator[Defect]:
    """Too many records of one type at a name."""
    for owner, types in nodes.items():
        for kind, records in types.items():
            if len(records) > MOST_OF_A_TYPE:
                text = f"{owner} has {len(records)} {kind} records, and named takes {MOST_OF_A_TYPE}"
                yield Defect(text, records[MOST_OF_A_TYPE], _NAMED)


_DOTTED = re.compile(r"[0-9]+\.[0-9]+\.[0-9]+\.[0-9]+(?:\..*)?")


def _srv_target(record: Record) -> str:
    return str(record.data).split()[-1].rstrip(".").lower()


def _mailbox_host(record: Record) -> str:
    return str(record.data.mailbox).partition(".")[2]


#: Types whose data holds a host name, and how it is found.
_LEADS: dict[str, tuple[Callable[[Record], str], ...]] = {
    "NS": (lambda record: str(record.data),),
    "MX": (lambda record: str(record.data[1]),),
    "SOA": (lambda record: str(record.data.primary), _mailbox_host),
    "SRV": (_srv_target,),
}


def _own_servers(nodes: Nodes, zone: str, whole: bool) -> Iterator[Defect]:
    """The zone's own name servers (named's integrity checks): each that lies in the zone needs an address."""
    apex = nodes.get(zone, {})
    servers = apex.get("NS", ())
    if not servers and whole and "SOA" in apex:
        yield Defect("the zone names no name servers of its own", apex["SOA"][0], _NAMED)
    for record in servers:
        target = str(record.data)
        if target != zone and not target.endswith("." + zone):
            continue
        what = _own_server(nodes, zone, target)
        if what is not None:
            yield Defect(f"the zone's own name server {target} {what}", record, _NAMED)


def _own_server(nodes: Nodes, zone: str, target: str) -> str | None:
    """What is wrong with a name server's name in its own zone; delegations and their glue are nobody's business here."""
    if target != zone and "DNAME" in nodes.get(zone, {}):
        return f"lies below the DNAME record of {zone}"
    above, names = target, []
    while above != zone:
        names.append(above)
        above = above.partition(".")[2]
    for name in reversed(names):
        types = nodes.get(name, {})
        if "NS" in types:
            return None
        if name != target and "DNAME" in types:
            return "lies below a DNAME record"
    types = nodes[target] if target in nodes else _wildcard(nodes, zone, target)
    if "CNAME" in types:
        return "is an alias"
    return None if "A" in types or "AAAA" in types else "has no address"


def _wildcard(nodes: Nodes, zone: str, target: str) -> Mapping[str, tuple[Record, ...]]:
    """What stands at the wildcard that answers for a name which has no records (RFC 4592 section 3.3.1)."""
    if any(owner.endswith("." + target) for owner in nodes):
        return {}
    above = target
    while above != zone:
        above = above.partition(".")[2]
        if above in nodes or any(owner.endswith("." + above) for owner in nodes):
            return nodes.get(f"*.{above}", {})
    return {}
