"""Master files (RFC 1035 section 5, RFC 2308 section 4) to records with the line of each.

Grammar, from RFC 1035 section 5.1: `[<owner>] [<TTL>] [<class>] <type> <RDATA>`, TTL and class in either order;
blank owner repeats the last; parentheses join lines; `;` starts a comment; `@` is the origin.
"""

import re
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

from portolan.estate.zone import Record, ZoneData
from portolan.formats.files import FileError, inside
from portolan.formats.record_data import PARSERS, absolute, checked_text, known_type, seconds
from portolan.source.nearest import did_you_mean
from portolan.source.place import Span
from portolan.source.plain import one_line
from portolan.source.problem import Problem, Problems

#: The TTL where neither the record, $TTL nor an earlier record says one.
DEFAULT_TTL = 3600
#: How deep files may include each other, and how many in all.
_MOST_INCLUDES, _MOST_INCLUDED = 16, 200
_TOKEN = re.compile(r'"((?:[^"\\]|\\.)*)"|((?:[^\s"();\\]|\\.)+)')
_SPECIAL = re.compile(r'["();\\]')


class Entry(NamedTuple):
    """One logical line: its tokens, whether it starts with white space, its file line, its text."""

    tokens: list[str]
    blank_owner: bool
    line: int
    text: str


class ZoneReader:
    """Reads one zone's text; problems go to the collector with file, line and column."""

    def __init__(
        self, zone: str, problems: Problems, read: Callable[[str], bytes], shown: Callable[[str], str]
    ) -> None:
        self.zone = zone
        self.problems = problems
        self._read = read
        self._shown = shown
        self.records: list[Record] = []
        self._depth = 0
        self._included = 0

    def file(self, path: str, cite: Span, origin: str | None = None, owner: str = "") -> None:
        """Reads a master file of the estate."""
        try:
            data = self._read(path)
        except FileError as problem:
            self.problems.add(
                cite,
                f"cannot read the zone file '{one_line(path)}': {problem}",
                f"zones.{self.zone}",
                "Check the path, which counts from the estate's folder.",
            )
            return
        try:
            text = data.decode("utf-8")
        except UnicodeDecodeError as error:
            line = data[: error.start].count(b"\n") + 1
            self.problems.add(Span(self._shown(path), line, 1), "the zone file is not text in UTF-8 or ASCII")
            return
        self.text(text, self._shown(path), path, self.zone if origin is None else origin, owner)

    def text(self, text: str, shown: str, path: str, origin: str, owner: str) -> None:
        """Reads master file text."""
        ttl: int | None = None
        last_ttl: int | None = None
        add = self.records.append
        for entry in self._entries(text, shown):
            if self.problems.full:
                return
            tokens = entry.tokens
            try:
                first = tokens[0]
                if first[0] == "$" and not entry.blank_owner:
                    origin, ttl = self._directive(entry, shown, path, origin, ttl, owner)
                    continue
                at = 0
                if not entry.blank_owner:
                    owner = absolute(first, origin)
                    at = 1
                at, own_ttl = _type_at(tokens, at)
                word = tokens[at].upper()
                data = self._data(entry, word, at, origin, shown)
                if own_ttl is None:
                    # RFC 2308 section 4: $TTL, else (RFC 1035) the last one stated, else SOA's minimum.
                    own_ttl = ttl if ttl is not None else last_ttl
                    if own_ttl is None:
                        own_ttl = data.minimum if word == "SOA" else DEFAULT_TTL
                last_ttl = own_ttl
                if owner != self.zone and self.zone and not owner.endswith("." + self.zone):
                    raise ValueError(f"'{owner}.' does not lie in the zone {self.zone}.")
                add(Record(owner, word, own_ttl, data, shown, entry.line, entry.text))
            except ValueError as error:
                self._fail(entry, shown, str(error))
            except IndexError:
                self._fail(entry, shown, "the record ends too early; expected owner, type and data")

    def _data(self, entry: Entry, word: str, at: int, origin: str, shown: str) -> Any:
        """The data behind a type, which stands at an index. Raises ValueError."""
        parse = PARSERS.get(word)
        if parse is None:
            return checked_text(word, _after(entry.text, at + 1), origin)
        tokens = entry.tokens[at + 1 :]
        if tokens[:1] == ["\\#"]:
            # RFC 3597 section 5: the data of a known type, written as of an unknown one.
            tokens = next(self._entries(checked_text(word, _after(entry.text, at + 1), origin), shown)).tokens
        return parse(tokens, origin)

    def _fail(self, entry: Entry, shown: str, message: str) -> None:
        found = re.search(r"found '(.+)'$", message)
        column = entry.text.find(found.group(1)) + 1 if found else 1
        hint = ""
        if found and "record type" in message:
            hint = did_you_mean(found.group(1).upper(), [*PARSERS, "CAA", "SRV", "HTTPS", "DS"])
        self.problems.add(Span(shown, entry.line, max(1, column)), one_line(message, 200), f"zones.{self.zone}", hint)

    def _directive(
        self, entry: Entry, shown: str, path: str, origin: str, ttl: int | None, owner: str
    ) -> tuple[str, int | None]:
        word, arguments = entry.tokens[0].upper(), entry.tokens[1:]
        if word == "$ORIGIN" and len(arguments) == 1:
            return absolute(arguments[0], origin), ttl
        if word == "$TTL" and len(arguments) == 1:
            return origin, seconds(arguments[0])
        if word == "$INCLUDE" and len(arguments) in (1, 2):
            folder = path.rpartition("/")[0]
            target = inside(f"{folder}/{arguments[0]}" if folder else arguments[0])
            if target is None:
                raise ValueError(f"expected a path inside the estate, found '{arguments[0]}'")
            if self._depth >= _MOST_INCLUDES:
                raise ValueError("$INCLUDE goes round in a circle, or too deep")
            if self._included >= _MOST_INCLUDED:
                raise ValueError(f"the zone includes more than {_MOST_INCLUDED} files in all")
            self._depth += 1
            self._included += 1
            # RFC 1035 section 5.1: origin and owner of the including file stay as they were.
            base = absolute(arguments[1], origin) if len(arguments) == 2 else origin
            self.file(target, Span(shown, entry.line, 1), base, owner)
            self._depth -= 1
            return origin, ttl
        raise ValueError(f"expected $ORIGIN, $TTL or $INCLUDE with its argument, found '{entry.tokens[0]}'")

    def _entries(self, text: str, shown: str) -> Iterator[Entry]:
        lines = iter(enumerate(text.split("\n"), 1))
        for number, line in lines:
            if not _SPECIAL.search(line):
                tokens = line.split()
                if tokens:
                    yield Entry(tokens, line[0] in " \t", number, line)
                continue
            opening = line
            joined, depth, tokens, blank = [], 0, [], line[:1] in (" ", "\t")
            while True:
                part, depth, fault = _scan(line, tokens, depth)
                joined.append(part)
                if fault:
                    self.problems.add(Span(shown, number, fault[0] + 1), fault[1], f"zones.{self.zone}")
                if depth <= 0:
                    break
                following = next(lines, None)
                if following is None:
                    self.problems.add(
                        Span(shown, number, max(0, opening.find("(")) + 1),
                        "a '(' is not closed",
                        f"zones.{self.zone}",
                        "Add the ')' behind the record's last field.",
                    )
                    return
                line = following[1]
            if tokens:
                yield Entry(tokens, blank, number, " ".join(joined))


def _scan(line: str, tokens: list[str], depth: int) -> tuple[str, int, tuple[int, str] | None]:
    """Adds a line's tokens; the line without comment, the depth of parentheses, and what is wrong where."""
    at, kept = 0, []
    while at < len(line):
        char = line[at]
        if char == ";":
            break
        if char in "()":
            depth += 1 if char == "(" else -1
            if depth < 0:
                return line, 0, (at, "a ')' has no '('")
            kept.append(" ")
            at += 1
        elif char.isspace():
            kept.append(char)
            at += 1
        else:
            match = _TOKEN.match(line, at)
            if match is None:
                return line, 0, (at, "a string's closing \" is missing on this line")
            tokens.append(match[1] if match[1] is not None else match[2])
            kept.append(match[0])
            at = match.end()
    return "".join(kept), depth, None


def _after(text: str, count: int) -> str:
    """A record's text behind its first `count` fields."""
    at = 0
    for seen, match in enumerate(_TOKEN.finditer(text), 1):
        at = match.end()
        if seen == count:
            break
    return text[at:].strip()


def read_zone(
    name: str,
    file: tuple[str, Span] | None,
    lines: list[tuple[str, Span]],
    without: list[tuple[str, Span]],
    problems: Problems,
    read: Callable[[str], bytes],
    shown: Callable[[str], str],
) -> ZoneData:
    """A zone from its file, its further lines, without the records that count as deleted; names and problems cite their lines."""
    reader = ZoneReader(name, problems, read, shown)
    if file is not None:
        reader.file(file[0], file[1])
        complete = any(record.type == "SOA" and record.owner == name for record in reader.records)
        if not complete and not problems.found:
            problems.add(
                Span(shown(file[0]), 1, 1),
                f"the zone has no SOA record for {name}.",
                f"zones.{name}",
                "A master file starts with one (RFC 1035 section 5.2).",
            )
    before = len(reader.records)
    for text, span in without:
        _withdraw(reader, text, span, name, before)
    _further(reader, lines)
    return zone_data(reader.records)


def read_version(
    name: str,
    base: ZoneData,
    file: tuple[str, Span] | None,
    lines: list[tuple[str, Span]],
    without: list[tuple[str, Span]],
    problems: Problems,
    read: Callable[[str], bytes],
    shown: Callable[[str], str],
) -> ZoneData:
    """Another version of a zone: its base or its own file, without some records, with others in their place."""
    reader = ZoneReader(name, problems, read, shown)
    if file is not None:
        base = read_zone(name, file, [], [], problems, read, shown)
    _further(reader, lines)
    replaced = {(record.owner, record.type) for record in reader.records}
    for text, span in without:
        tokens = text.split()
        try:
            owner = absolute(tokens[0], name) if tokens else ""
        except ValueError:
            owner = ""
        kinds = {tokens[1].upper()} if len(tokens) == 2 else set(base.nodes.get(owner, ()))
        if len(tokens) > 2 or not kinds or not kinds <= set(base.nodes.get(owner, ())):
            owners = sorted({_shorter(each, name) for each in base.nodes})
            problems.add(
                span,
                f"no record of the zone fits '{one_line(text)}'",
                f"zones.{name}",
                did_you_mean(text.partition(" ")[0], owners) or "Write a name, or a name and a type.",
            )
        replaced |= {(owner, kind) for kind in kinds}
    kept = [
        record
        for owner, types in base.nodes.items()
        for kind, records in types.items()
        if (owner, kind) not in replaced
        for record in records
    ]
    return zone_data([*kept, *reader.records])


def _further(reader: ZoneReader, lines: list[tuple[str, Span]]) -> None:
    """Records that the estate itself states; they and their problems cite its lines."""
    name, problems = reader.zone, reader.problems
    for text, span in lines:
        start, noted = len(reader.records), len(problems.found)
        reader.text(text, span.file, "", name, name)
        for index in range(start, len(reader.records)):
            reader.records[index] = reader.records[index]._replace(file=span.file, line=span.line)
        for index in range(noted, len(problems.found)):
            problems.found[index] = Problem(
                span, problems.found[index].message, f"zones.{name}", problems.found[index].hint
            )


def _withdraw(reader: ZoneReader, text: str, span: Span, name: str, before: int) -> None:
    tokens = text.split()
    if len(tokens) >= 2:
        try:
            owner = absolute(tokens[0], name)
        except ValueError:
            owner = ""
        kind = tokens[1].upper()
        data = [token.lower() for token in tokens[2:]]
        kept = [
            record
            for index, record in enumerate(reader.records)
            if index >= before or not (record.owner == owner and record.type == kind and _same_data(record, data, name))
        ]
        if len(kept) < len(reader.records):
            reader.records[:] = kept
            return
    owners = sorted({f"{_shorter(record.owner, name)} {record.type}" for record in reader.records})
    reader.problems.add(
        span,
        f"no record of the zone file fits '{one_line(text)}'",
        f"zones.{name}.without",
        did_you_mean(" ".join(tokens[:2]), owners),
    )


def _same_data(record: Record, tokens: list[str], origin: str) -> bool:
    if not tokens:
        return True
    parse = PARSERS.get(record.type)
    if parse is None:
        return record.text.lower().split()[-len(tokens) :] == tokens
    try:
        return bool(parse(tokens, origin) == record.data)
    except ValueError:
        return False


def _shorter(owner: str, zone: str) -> str:
    return "@" if owner == zone else owner.removesuffix("." + zone)


def zone_data(records: list[Record]) -> ZoneData:
    """Records by owner and type, with the defect for which a real server would refuse the zone.

    CNAME beside other data, or twice: RFC 1034 section 3.6.2, RFC 2181 section 10.1. Names below a DNAME, or two of them:
    RFC 6672 section 2.4.
    """
    nodes: dict[str, dict[str, tuple[Record, ...]]] = {}
    for record in records:
        types = nodes.setdefault(record.owner, {})
        held = types.get(record.type)
        if held is None:
            types[record.type] = (record,)
        elif all(other.data != record.data for other in held):
            types[record.type] = (*held, record)
    defect: tuple[str, Record] | None = None
    for types in nodes.values():
        alias = types.get("CNAME")
        if alias is None:
            continue
        if len(alias) > 1:
            defect = defect or ("two aliases stand at one name", alias[1])
        elif len(types) > 1 and not set(types) <= {"CNAME", "RRSIG", "NSEC"}:
            defect = defect or ("an alias stands beside other records", alias[0])
    return ZoneData(nodes, defect or _below_dname(nodes))


def _below_dname(nodes: dict[str, dict[str, tuple[Record, ...]]]) -> tuple[str, Record] | None:
    holders = {owner: types["DNAME"] for owner, types in nodes.items() if "DNAME" in types}
    if not holders:
        return None
    for owner, records in holders.items():
        if len(records) > 1:
            return "two DNAME records stand at one name", records[1]
        # At the apex NS records are the zone's own, elsewhere a delegation.
        if "NS" in nodes[owner] and "SOA" not in nodes[owner]:
            return "a DNAME record stands at a delegation", records[0]
    for owner, types in nodes.items():
        above = owner.partition(".")[2]
        while above:
            if above in holders:
                return f"a name stands below the DNAME record of {above}", next(iter(types.values()))[0]
            above = above.partition(".")[2]
    return None


def _type_at(tokens: list[str], at: int) -> tuple[int, int | None]:
    """Where a record's type stands, behind class and TTL in either order (RFC 1035 section 5.1), and the TTL. Raises ValueError."""
    ttl: int | None = None
    while True:
        word = tokens[at].upper()
        if word in PARSERS:
            return at, ttl
        if word == "IN":
            at += 1
        elif ttl is None and word[0].isdecimal():
            ttl = seconds(word)
            at += 1
        elif word in ("CH", "HS", "CS"):
            raise ValueError(f"class {word} is not for the internet; expected IN")
        elif known_type(word):
            return at, ttl
        else:
            raise ValueError(f"expected a record type, found '{tokens[at]}'")
