"""What somebody else's few lines may cost: every bound is met on purpose, and told with its place."""

import pytest

from portolan.formats import bounds, change, generated, reader, zone_file
from portolan.formats.yaml_nodes import compose
from portolan.source.problem import EstateError
from tests.conftest import loaded, problems

HOST = (
    "portolan: 1\nat: 2026-03-14T20:00:00Z\nnetworks: {dome: {subnets: [10.20.0.0/24]}}\n"
    "hosts: {orion: {interfaces: {dome: {address: 10.20.0.15}}, services: {web: {program: nginx, sites: {"
)
SITE = HOST + "visit: {%s}}}}}}\n"
FILTER = (
    "portolan: 1\nnetworks: {dome: {subnets: [10.20.0.0/24]}}\n"
    "hosts: {orion: {interfaces: {dome: {address: 10.20.0.15}}, filter: {%s}}}\n"
)
STORE = "portolan: 1\nstores: {reef: {pages_at: pages.example, objects_at: objects.example, buckets: {%s}}}\n"

#: By the bound: an estate with three of them, where it ends, and where the third stands.
SUMS = {
    "members of pools": (SITE % "upstream: {to: ['http://10.20.0.16', 'http://10.20.0.17', 'http://10.20.0.18']}", "estate.yaml:4:"),
    "grants of buckets": (STORE % "a: {grants: [{to: everyone}, {to: everyone}]}, b: {grants: [{to: everyone}]}", "buckets.b.grants"),
    "files of sites": (HOST + "visit: {files: [a, b]}, other: {files: [c]}}}}}}\n", "sites.other.files"),
    "objects of buckets": (STORE % "a: {objects: [a, b]}, b: {objects: [c]}", "buckets.b.objects"),
    "members of sets": (FILTER % "sets: {a: {addresses: [192.0.2.0/25, 192.0.2.128/25]}, b: {ports: 80}}", "sets.b.ports"),
    "regular expressions": (SITE % "redirects: [{when: {pattern: ^/a}, to: /}, {when: {pattern: ^/b}, to: /}, {when: {pattern: ^/c}, to: /}]", "redirects.2.when.pattern"),
}  # fmt: skip


@pytest.mark.parametrize("what", SUMS)
def test_sums_are_bounded(monkeypatch, what):
    """Two fit; the third is too much, is told once, with where it stands."""
    text, place = SUMS[what]
    loaded(text)
    for key, bound in dict(bounds.BOUNDS).items():
        monkeypatch.setitem(bounds.BOUNDS, key, bound.but(most=2))
    monkeypatch.setattr(reader, "PATTERNS", bounds.PATTERNS.but(most=2))
    (told,) = problems(text)
    assert f"the estate has more than 2 {what} in all" in told
    assert place in told


def test_members_of_sets_count_in_each_rule(monkeypatch):
    """A set of two in three rules is six."""
    text = FILTER % (
        "sets: {a: {addresses: [192.0.2.0/25, 192.0.2.128/25]}}, inbound: {rules: [{allow: tcp, from: a}, {allow: udp, from: a}, {drop: any, from: a}]}"
    )
    monkeypatch.setattr("portolan.formats.complete.NAMED_MEMBERS", bounds.NAMED_MEMBERS.but(most=5))
    (told,) = problems(text)
    assert "more than 5 members of sets in rules in all" in told


def test_records_are_bounded_over_all_zones_and_files(monkeypatch):
    """Whether they are lines of the estate, of files, included, or made of one line."""
    text = "portolan: 1\nzones: {a.example: {records: [w A 192.0.2.1]}, b.example: {file: b.zone}}\n"
    files = {
        "b.zone": "$TTL 60\n@ SOA a. b. 1 2 3 4 5\n@ NS w.a.example.\n$INCLUDE more\n",
        "more": "$GENERATE 1-5 h$ A 192.0.2.$\n",
    }
    loaded(text, **files)
    monkeypatch.setattr(zone_file, "_MOST_RECORDS", 8)
    loaded(text, **files)
    monkeypatch.setattr(zone_file, "_MOST_RECORDS", 7)
    (told,) = problems(text, **files)
    assert told.startswith("more:1:1: the estate has more than 7 records of zones in all")


def test_lines_that_are_made_are_bounded_in_sum(monkeypatch):
    """Over all zones of an estate."""
    text = "portolan: 1\nzones: {a.example: {file: a.zone}, b.example: {file: a.zone}}\n"
    zone = "$TTL 60\n@ SOA a. b. 1 2 3 4 5\n@ NS w.a.example.\n$GENERATE 1-5 h$ A 192.0.2.$\n"
    loaded(text, **{"a.zone": zone})
    monkeypatch.setattr(zone_file, "MOST_GENERATED", 9)
    (told,) = problems(text, **{"a.zone": zone})
    assert "a.zone:4:" in told
    assert "of every $GENERATE" in told
    assert generated.MOST_GENERATED == 300_000


def test_includes_are_bounded():
    """200 files at most, as many as zones may include."""
    text = f"portolan: 1\ninclude: [{', '.join(['part.yaml'] * 201)}]\n"
    (told,) = problems(text, **{"part.yaml": "portolan: 1\n"})
    assert told.startswith("estate.yaml:2:10: the estate includes more than 200 files")


@pytest.mark.parametrize(
    "text", ["[" + "{op: remove, path: /title}, " * 10_001 + "]", "{" + ", ".join(f"k{n}: 1" for n in range(10_001)) + "}"], ids=["steps", "merge"]
)  # fmt: skip
def test_changes_are_bounded(text):
    """So many steps at most, written as steps or as a document to merge."""
    root = loaded("portolan: 1\n").root
    with pytest.raises(EstateError) as caught:
        change.operations(compose("change", text.encode()), root)
    assert "change:1:1: a change has at most 10,000 steps, and this one 10,001" in str(caught.value)
