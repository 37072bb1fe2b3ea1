"""Master files (RFC 1035 section 5, RFC 2308 section 4) to records with the line of each.

Grammar, from RFC 1035 section 5.1: `[<owner>] [<TTL>] [<class>] <type> <RDATA>`, TTL and class in either order;
blank owner repeats the last; parentheses join lines; `;` starts a comment; `@` is the origin. `$TTL` (RFC 2308 section 4)
goes on through included files and behind them. What only some programs take is kept as a defect with who refuses it.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache
from typing import Any

from portolan.estate.records import Defect, Record, ZoneData
from portolan.formats.files import FileError, inside
from portolan.formats.generated import MOST_GENERATED, generated
from portolan.formats.record_data import PARSERS, absolute, checked_text, known_type, plain_type, seconds
from portolan.formats.zone_defects import LINES, defects_of
from portolan.source.nearest import did_you_mean
from portolan.source.place import Span
from portolan.source.plain import one_line
from portolan.source.problem import Problem, Problems
from portolan.source.value import Value

#: The TTL where neither the record, $TTL nor an earlier record says one.
DEFAULT_TTL = 3600
#: How deep files may include each other, and how many in all.
_MOST_INCLUDES, _MOST_INCLUDED = 16, 200
#: Records of all zones of an estate.
_MOST_RECORDS = 3_000_000
#: The octets of a character string (RFC 1035 section 3.3).
_LONGEST_STRING = 255
_TOKEN = re.compile(r'"((?:[^"\\]|\\.)*)"|((?:[^\s"();\\]|\\.)+)')
_SPECIAL = re.compile(r'["();\\]')


class Entry(Value, frozen=True):
    """One logical line: its tokens, whether it starts with white space, its file line, its text."""

    tokens: list[str]
    blank_owner: bool
    line: int
    text: str
    #: The lines that it stands on, with their numbers, where there are several.
    parts: tuple[tuple[int, str], ...] = ()


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
        self.defects: list[Defect] = []
        #: The TTL that `$TTL` said last, and the one that a record said last.
        self._ttl: int | None = None
        self._last_ttl: int | None = None
        #: Whether the zone's own file is read, and not a line of the estate.
        self._in_file = False
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
        # Octets that are no UTF-8 may stand in comments, and in strings as themselves.
        text = data.decode("utf-8", "surrogateescape")
        held, self._in_file = self._in_file, True
        self.text(text, self._shown(path), path, self.zone if origin is None else origin, owner)
        self._in_file = held

    def line(self, text: str, shown: str) -> None:
        """Reads a line that the estate itself states: it takes no TTL from any other."""
        self._ttl = self._last_ttl = None
        self.text(text, shown, "", self.zone, self.zone)

    def _doubt(self, what: str, record: Record, claims: bool = False) -> None:
        text, refused_by = LINES[what]
        self.defects.append(Defect(text, record, refused_by, claims, what))

    def text(self, text: str, shown: str, path: str, origin: str, owner: str) -> None:
        """Reads master file text."""
        for entry in self._entries(text, shown):
            if self.problems.full:
                return
            try:
                if entry.tokens[0][0] == "$" and not entry.blank_owner:
                    origin = self._directive(entry, shown, path, origin, owner)
                else:
                    owner = self._record(entry, shown, origin, owner)
            except ValueError as error:
                self._fail(entry, shown, str(error))
            except IndexError:
                self._fail(entry, shown, "the record ends too early; expected owner, type and data")

    def _record(self, entry: Entry, shown: str, origin: str, owner: str) -> str:
        """Adds an entry's record; its owner. Raises ValueError, and IndexError where the entry ends too early."""
        tokens, at = entry.tokens, 0
        if not entry.blank_owner:
            owner = absolute(tokens[0], origin)
            at = 1
        at, ttl = _type_at(tokens, at)
        word = plain_type(tokens[at].upper())
        data = self._data(entry, word, at, origin, shown)
        if ttl is None:
            # RFC 2308 section 4: $TTL, else (RFC 1035) the last one stated, else SOA's minimum.
            ttl = self._ttl if self._ttl is not None else self._last_ttl
            if ttl is None:
                ttl = data.minimum if word == "SOA" else DEFAULT_TTL
        self._last_ttl = ttl
        record = Record(owner, word, ttl, data, shown, entry.line, entry.text)
        if self._judged(record, entry) and self.problems.count(
            "records of zones", 1, _MOST_RECORDS, Span(shown, entry.line, 1), f"zones.{self.zone}"
        ):
            self.records.append(record)
        return owner

    def _judged(self, record: Record, entry: Entry) -> bool:
        """Whether a record is one of the zone, after noting what only some programs take. Raises ValueError."""
        owner = record.owner
        if owner != self.zone and self.zone and not owner.endswith("." + self.zone):
            if not self._in_file:
                raise ValueError(f"'{owner}.' does not lie in the zone {self.zone}.")
            self._doubt("out-of-zone", record)
            return False
        if "\\" in owner and not entry.tokens[0].isascii():
            self._doubt("not-ascii-name", record)
        if record.type == "TXT":
            if any(len(each.encode("utf-8", "surrogateescape")) > _LONGEST_STRING for each in record.data):
                self._doubt("long-string", record)
            if not entry.text.isascii():
                self._doubt("not-ascii-text", record)
        return True

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
        # The line that the field stands on; what is missing at the end is looked for there.
        parts = entry.parts or ((entry.line, entry.text),)
        line, raw = next((each for each in parts if found and found.group(1) in each[1]), parts[-1])
        column = raw.find(found.group(1)) + 1 if found else 1
        hint = ""
        if found and "record type" in message:
            hint = did_you_mean(found.group(1).upper(), [*PARSERS, "CAA", "SRV", "HTTPS", "DS"])
        self.problems.add(Span(shown, line, max(1, column)), one_line(message, 200), f"zones.{self.zone}", hint)

    def _directive(self, entry: Entry, shown: str, path: str, origin: str, owner: str) -> str:
        """Follows a directive; the origin for what comes behind it. Raises ValueError."""
        word, arguments = entry.tokens[0].upper(), entry.tokens[1:]
        if word == "$ORIGIN" and len(arguments) == 1:
            if not arguments[0].endswith("."):
                self._doubt("relative-origin", Record(owner, "", 0, None, shown, entry.line, entry.text))
            return absolute(arguments[0], origin)
        if word == "$TTL" and len(arguments) == 1:
            self._ttl = seconds(arguments[0])
            return origin
        if word == "$GENERATE" and len(arguments) >= 4:
            if not self._in_file:
                raise ValueError("$GENERATE belongs into a zone file, found '$GENERATE'")
            self._doubt("generate", Record(owner, "", 0, None, shown, entry.line, entry.text), claims=True)
            what = "lines of $GENERATE"
            made = generated(arguments, self.problems.left(what, MOST_GENERATED))
            self.problems.count(what, len(made), MOST_GENERATED, Span(shown, entry.line, 1))
            for tokens in made:
                self._record(Entry(tokens, False, entry.line, " ".join(tokens)), shown, origin, owner)
            return origin
        if word == "$INCLUDE" and len(arguments) in (1, 2):
            if '"' in entry.text:
                self._doubt("quoted-include", Record(owner, "", 0, None, shown, entry.line, entry.text), claims=True)
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
            return origin
        raise ValueError(f"expected $ORIGIN, $TTL, $INCLUDE or $GENERATE with its arguments, found '{entry.tokens[0]}'")

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
            parts: list[tuple[int, str]] = []
            while True:
                parts.append((number + len(parts), line))
                part, depth, fault = _scan(line, tokens, depth)
                joined.append(part)
                if fault:
                    self.problems.add(Span(shown, parts[-1][0], fault[0] + 1), fault[1], f"zones.{self.zone}")
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
                yield Entry(tokens, blank, number, " ".join(joined), tuple(parts) if len(parts) > 1 else ())


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
            astray = next((each.record.place.span for each in reader.defects if each.record.type == "SOA"), None)
            problems.add(
                astray or Span(shown(file[0]), 1, 1),
                f"the zone has no SOA record for {name}.",
                f"zones.{name}",
                "A master file starts with one (RFC 1035 section 5.2).",
            )
    before = len(reader.records)
    for text, span in without:
        _withdraw(reader, text, span, name, before)
    _further(reader, lines)
    return zone_data(reader.records, name, reader.defects, file is not None)


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
    return zone_data([*kept, *reader.records], name, reader.defects, base.whole)


def _further(reader: ZoneReader, lines: list[tuple[str, Span]]) -> None:
    """Records that the estate itself states; they and their problems cite its lines."""
    name, problems = reader.zone, reader.problems
    for text, span in lines:
        alone = _alone(name, text, span.file, span.line) if len(text) <= _KEPT_LINE else None
        if alone is not None and not problems.full:
            if problems.count("records of zones", 1, _MOST_RECORDS, span, f"zones.{name}"):
                reader.records.append(alone)
            continue
        start, noted = len(reader.records), len(problems.found)
        reader.line(text, span.file)
        for index in range(start, len(reader.records)):
            reader.records[index] = reader.records[index].but(file=span.file, line=span.line)
        for index in range(noted, len(problems.found)):
            problems.found[index] = Problem(
                span, problems.found[index].message, f"zones.{name}", problems.found[index].hint
            )


#: Longer lines are read each time: what is kept is bounded in octets too.
_KEPT_LINE = 400


@lru_cache(8_192)
def _alone(zone: str, text: str, file: str, line: int) -> Record | None:
    """What a line that an estate states holds, where that is one record and nothing is to be said of it; it rests on no other line.

    In a changed estate most lines are what they were.
    """
    if text.lstrip().startswith("$"):
        return None
    problems = Problems()
    reader = ZoneReader(zone, problems, _no_file, str)
    reader.line(text, "")
    plain = len(reader.records) == 1 and not reader.defects and not problems.found
    return reader.records[0].but(file=file, line=line) if plain else None


def _no_file(_path: str) -> bytes:
    raise FileNotFoundError


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


def zone_data(records: list[Record], zone: str, lines: Iterable[Defect] = (), whole: bool = False) -> ZoneData:
    """Records by owner and type, with everything for which a real server would refuse the zone.

    `lines` are what single lines were found to be; `whole`: the records are a file's, which has all that a zone needs.
    """
    nodes: dict[str, dict[str, tuple[Record, ...]]] = {}
    for record in records:
        types = nodes.setdefault(record.owner, {})
        held = types.get(record.type)
        if held is None:
            types[record.type] = (record,)
        elif all(other.data != record.data for other in held):
            types[record.type] = (*held, record)
    return ZoneData(nodes, (*lines, *defects_of(records, nodes, zone, whole)), whole)


def _type_at(tokens: list[str], at: int) -> tuple[int, int | None]:
    """Where a record's type stands, behind class and TTL in either order (RFC 1035 section 5.1), and the TTL. Raises ValueError."""
    ttl: int | None = None
    classed = False
    while True:
        word = tokens[at].upper()
        if word in PARSERS:
            return at, ttl
        if word == "IN" and not classed:
            at += 1
            classed = True
        elif ttl is None and word[0].isdecimal():
            ttl = seconds(word)
            at += 1
        elif word in ("CH", "HS", "CS"):
            raise ValueError(f"class {word} is not for the internet; expected IN")
        elif known_type(word):
            return at, ttl
        else:
            raise ValueError(f"expected a record type, found '{tokens[at]}'")
