"""One-edit mutations of master files: accepted and refused as named-checkzone and nsd-checkzone do, where those agree.

Usage: python -m conformance.zone_files N [--seed S]
"""

import argparse
import random
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

from portolan.formats.zone_defects import CHECKED_NAME
from portolan.formats.zone_file import read_zone
from portolan.source.place import Span
from portolan.source.problem import Problems

ZONE = "kestrel-ridge.example"
#: Zones as administrators write them: with comments, parentheses, relative names, many types.
SAMPLES = (
    """$TTL 1h
@   IN SOA ns1 keeper (
        2026031401 ; serial
        2h         ; refresh
        15m        ; retry
        4w         ; expire
        300 )      ; absence
    IN NS  ns1
    IN NS  ns.helper.example.
    IN MX  10 mail
    IN TXT "v=spf1 mx -all"
    IN CAA 0 issue "ca.example"
ns1     A     203.0.113.53
        AAAA  2001:db8:40::53
mail    300 A 203.0.113.25
visit   60 IN A 203.0.113.40
visit   60 IN AAAA 2001:db8:40::40
www     CNAME visit
bookings A 192.0.2.10
archive CNAME store.helper.example.
_sip._tcp SRV 10 60 5060 mail
*.nights A 203.0.113.41
old     DNAME new
dome    NS ns.dome
ns.dome A 203.0.113.60
dome    DS 12345 13 2 5A1B2C3D4E5F60718293A4B5C6D7E8F95A1B2C3D4E5F60718293A4B5C6D7E8F9
key._domainkey TXT ( "v=DKIM1; k=rsa; "
        "p=MIGfMA0GCSqGSIb3DQEBAQUAA4GNADCBiQKBgQC" )
visit   HTTPS 1 . alpn=h2,http/1.1 ipv4hint=203.0.113.40
""",
    """$ORIGIN kestrel-ridge.example.
$TTL 86400
kestrel-ridge.example. 3600 SOA ns1.kestrel-ridge.example. admin.kestrel-ridge.example. 7 3600 600 604800 60
kestrel-ridge.example. NS ns1.kestrel-ridge.example.
kestrel-ridge.example. NS ns2.kestrel-ridge.example.
ns1.kestrel-ridge.example. A 192.0.2.1
ns2.kestrel-ridge.example. A 192.0.2.2
$ORIGIN nights.kestrel-ridge.example.
@ A 192.0.2.20
  MX 5 mail.kestrel-ridge.example.
jupiter 120 A 192.0.2.21
saturn 2m A 192.0.2.22
ring-1.saturn A 192.0.2.23
$ORIGIN kestrel-ridge.example.
mail A 192.0.2.3
a\\.b TXT "with a dot"
\\119ide TXT plain words here
host LOC 51 30 12.748 N 0 7 39.612 W 0.00m 10m 100m 10m
tls._tcp TLSA 3 1 1 0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef
rp TYPE65400 \\# 4 0A000001
v6 AAAA 2001:db8::1:2:3
sshfp SSHFP 4 2 0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef
naptr NAPTR 100 10 "s" "SIP+D2U" "" _sip._udp
""",
    """; a small one
@ 600 IN SOA ns keeper 1 600 600 600 600
@ 600 IN NS ns
ns 600 IN A 198.51.100.1
@ 600 IN A 198.51.100.2
www 600 IN CNAME @
shop 600 IN CNAME www
*.dev 600 IN A 198.51.100.3
long 600 IN TXT "one" "two; not a comment" three
""",
)
_ODD = ('"', "(", ")", ";", "\\", ".", "..", "@", "*", "-", "_", " ", "$", "x", "9", "0", ",", "/", ":", "#", "é", "\t")
_TYPES = (
    "A",
    "AAAA",
    "CNAME",
    "NS",
    "MX",
    "TXT",
    "SOA",
    "DNAME",
    "DS",
    "SRV",
    "CAA",
    "PTR",
    "FOO",
    "TYPE1",
    "IN",
    "CH",
)
_TOKENS = (
    "@",
    "a.b",
    "203.0.113.7",
    "2001:db8::7",
    "300",
    "1h",
    "65536",
    "-1",
    "x" * 64,
    "IN",
    "(",
    '"a b"',
    "a..b",
    "\\300",
    "ns1",
)


class Mutation(NamedTuple):
    """A zone with one edit, the line that was edited, and whether that was deleted or doubled whole."""

    text: str
    line: int
    moved: bool


def mutated(rng: random.Random) -> Mutation:
    """One edit of one zone, as a hurried hand makes it."""
    lines = rng.choice(SAMPLES).split("\n")
    at = rng.choice([number for number, line in enumerate(lines) if line.strip()])
    line = lines[at]
    words = line.split(" ")
    kind = rng.randrange(9)
    where = rng.randrange(len(line))
    if kind == 0:
        lines[at] = line[:where] + line[where + 1 :]
    elif kind == 1:
        lines[at] = line[:where] + rng.choice(_ODD) + line[where:]
    elif kind == 2:
        lines[at] = line[:where] + rng.choice(_ODD) + line[where + 1 :]
    elif kind == 3:
        del words[rng.randrange(len(words))]
        lines[at] = " ".join(words)
    elif kind == 4:
        words[rng.randrange(len(words))] = rng.choice((*_TOKENS, *_TYPES))
        lines[at] = " ".join(words)
    elif kind == 5:
        words.insert(rng.randrange(len(words) + 1), rng.choice((*_TOKENS, *_TYPES)))
        lines[at] = " ".join(words)
    elif kind == 6:
        lines.insert(at, line)
    elif kind == 7:
        del lines[at]
    else:
        digits = [index for index, char in enumerate(line) if char.isdigit()] or [where]
        spot = rng.choice(digits)
        lines[at] = line[:spot] + rng.choice("0123456789") * rng.choice((1, 1, 3)) + line[spot + 1 :]
    return Mutation("\n".join(lines), at + 1, kind in (6, 7))


def ours(text: str) -> tuple[bool, list[int]]:
    """Whether we refuse what both checkers would, and the lines that we name."""
    problems = Problems()
    data = read_zone(ZONE, ("zone", Span("estate", 1, 1)), [], [], problems, lambda _: text.encode(), str)
    lines = [problem.span.line for problem in problems.found]
    # named-checkzone only warns of names that named itself would refuse.
    defects = [each for each in data.defects if each.line != CHECKED_NAME]
    if all(any(program in each.refused_by for each in defects) for program in ("named", "nsd")):
        lines += [each.record.line for each in defects]
    return bool(lines), lines


def record_around(text: str, line: int) -> tuple[int, int]:
    """The lines of the record that a line is part of, where parentheses hold it together (RFC 1035 section 5.1); else the line itself."""
    bare = [each.partition(";")[0] for each in text.split("\n")]
    opened = next((at for at in range(line, 0, -1) if "(" in bare[at - 1] or (at < line and ")" in bare[at - 1])), line)
    if "(" not in bare[opened - 1] or ")" in bare[opened - 1]:
        return line, line
    return opened, next((at for at in range(line, len(bare) + 1) if ")" in bare[at - 1]), line)


def theirs(text: str, folder: Path, number: int) -> tuple[bool, bool]:
    """Whether named-checkzone and nsd-checkzone refuse it."""
    path = folder / f"{number}.zone"
    path.write_text(text, "utf-8")
    found = [
        subprocess.run([program, ZONE, str(path)], capture_output=True, check=False).returncode != 0
        for program in ("named-checkzone", "nsd-checkzone")
    ]
    path.unlink()
    return found[0], found[1]


def main() -> int:
    """Compares so many mutations; 1 where any disagrees, or too few edited lines are named."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=0)
    arguments = parser.parse_args()
    rng = random.Random(arguments.seed)
    mutations = [mutated(rng) for _ in range(arguments.count)]
    with tempfile.TemporaryDirectory() as name, ThreadPoolExecutor(4) as pool:
        verdicts = list(pool.map(lambda pair: theirs(pair[1].text, Path(name), pair[0]), enumerate(mutations)))
    agreed = refused = named = wrong = 0
    for mutation, (one, other) in zip(mutations, verdicts, strict=True):
        said, lines = ours(mutation.text)
        if one != other:
            continue
        agreed += 1
        if said != one:
            wrong += 1
            edited = mutation.text.split("\n")[mutation.line - 1 : mutation.line]
            print(f"✗ both {'refuse' if one else 'accept'} it, and we do not: line {mutation.line}: {edited}")
        elif one:
            refused += 1
            # A line that was deleted leaves its neighbours, and of two that are the same either may be named.
            # A record over several lines is named by any of them.
            first, last = record_around(mutation.text, mutation.line)
            named += any(first - mutation.moved <= line <= last + mutation.moved for line in lines)
    share = named / refused if refused else 1.0
    print(
        f"seed {arguments.seed}: {len(mutations)} mutations, the checkers agree on {agreed}, {wrong} disagreements; "
        f"{refused} refused, the edited line, or its record, named in {share:.1%}"
    )
    return 1 if wrong or share < 0.95 else 0


if __name__ == "__main__":
    sys.exit(main())
