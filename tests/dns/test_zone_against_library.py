"""Zone files: our reader against the DNS library as an independent oracle."""

import dns.rdata
import dns.rdataclass
import dns.rdatatype
import dns.zone
import pytest
from hypothesis import given
from hypothesis import strategies as st

from portolan.formats.record_data import checked_text
from portolan.formats.zone_file import read_zone
from portolan.source.place import Span
from portolan.source.problem import Problems

LABELS = st.sampled_from(["a", "b", "www", "*", "x-1", "_srv", "A"])
OWNERS = st.one_of(
    st.just("@"),
    st.lists(LABELS, min_size=1, max_size=3).map(".".join),
    LABELS.map(lambda each: f"{each}.zone.example."),
)
DATA = st.one_of(
    st.integers(0, 255).map(lambda n: f"A 192.0.2.{n}"),
    st.integers(0, 65535).map(lambda n: f"AAAA 2001:db8::{n:x}"),
    st.integers(0, 9).map(lambda n: f"MX {n} mail"),
    st.sampled_from(
        [
            'TXT "a;b" c',
            'TXT "q\\"q"',
            "NS ns1.elsewhere.example.",
            "SRV 0 5 443 visit",
            'CAA 0 issue "ca.example"',
            "TYPE999 \\# 1 ff",
        ]
    ),
)
CAA = st.tuples(
    st.integers(0, 300), st.sampled_from(["issue", "issuewild", "iodef", "Issue", "x9"]),
    st.text("abc;=. @:/!#~[]-_%\"\\()", max_size=12), st.sampled_from(["{}", '"{}"']),
).map(lambda part: f"{part[0]} {part[1]} {part[3].format(part[2])}")  # fmt: skip
CLASS_TTL = st.sampled_from(["", "IN ", "300 ", "1h ", "IN 300 ", "300 IN "])
LINES = st.tuples(OWNERS, CLASS_TTL, DATA).map(lambda part: f"{part[0]} {part[1]}{part[2]}")
FORMS = st.sampled_from(["{}", "{} ; a comment", "{} (\n )", "({}\n)"])
HEAD = "$ORIGIN zone.example.\n$TTL 600\n@ SOA ns1 keeper 1 2 3 4 5\n@ NS ns1\n"


@given(st.lists(st.tuples(LINES, FORMS), max_size=8))
def test_same_records_as_the_library(lines):
    """Owners, types, TTLs and counts agree for every zone that the library accepts."""
    text = HEAD + "\n".join(form.format(line) for line, form in lines) + "\n"
    try:
        oracle = dns.zone.from_text(text, origin="zone.example.", relativize=False, check_origin=False)
    except Exception:  # the library refuses it: nothing to compare
        return
    problems = Problems()
    data = read_zone("zone.example", ("z", Span("e", 1, 1)), [], [], problems, lambda _: text.encode(), str)
    assert [str(each) for each in problems.found] == []
    theirs = {
        (str(name).rstrip(".").lower(), dns.rdatatype.to_text(each.rdtype), len(each))
        for name, node in oracle.nodes.items() for each in node.rdatasets
    }  # fmt: skip
    ours = {(owner, kind, len(records)) for owner, types in data.nodes.items() for kind, records in types.items()}
    assert ours == theirs


@given(CAA)
def test_caa_records_read_without_the_library_say_the_same(text):
    """What is read by a pattern of our own is what the library makes of it (RFC 8659 section 4.1.1)."""
    try:
        wanted = dns.rdata.from_text(dns.rdataclass.IN, dns.rdatatype.CAA, text).to_text()
    except Exception:  # the library refuses it, and so does the reader
        with pytest.raises(ValueError, match="not CAA data"):
            checked_text("CAA", text, "zone.example")
        return
    assert checked_text("CAA", text, "zone.example") == wanted
