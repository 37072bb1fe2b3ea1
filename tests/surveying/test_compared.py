"""Two states side by side: what gets worse, who gains and loses access; revisions of a repository; two places."""

import json
import os
import subprocess

import jsonschema
import pytest

from portolan.journey.question import question
from portolan.surveying.compared import compared
from portolan.surveying.places import side_by_side
from tests.conftest import OFFICE, STORIES, schema, swap, world

VISIT = "https://visit.kestrel-ridge.example/"
FORWARD = "      - {on: line, tcp: 443, to: 10.20.0.15}"
SERVICES = "    services:\n      web:"


def filtered(rules):
    """The office with a filter on its server."""
    return swap(OFFICE, (SERVICES, f"    filter: {{inbound: {{default: drop, rules: [{rules}]}}}}\n{SERVICES}"))


@pytest.mark.parametrize(
    ("before", "after", "broken", "mended", "gained", "lost", "weaker"),
    [
        (OFFICE, OFFICE, 0, 0, [], [], False),
        (OFFICE, swap(OFFICE, (f"{FORWARD}\n", "")), 1, 0, [], ["443"], False),
        (swap(OFFICE, (f"{FORWARD}\n", "")), OFFICE, 0, 1, ["443"], [], False),
        (
            filtered("{allow: tcp, from: 198.51.100.0/24}"),
            filtered("{allow: tcp}"),
            0,
            0,
            ["80", "80", "443", "443"],
            [],
            False,
        ),
        (OFFICE, filtered("{allow: tcp, from: 198.51.100.0/24}"), 0, 0, [], ["80", "80", "443", "443"], False),
        (
            swap(OFFICE, ("files: [index.html]", 'upstream: {to: "https://10.20.0.15:443", verifies: true}')),
            swap(OFFICE, ("files: [index.html]", 'upstream: {to: "http://10.20.0.15:80"}')),
            0,
            0,
            [],
            [],
            True,
        ),
    ],
)
def test_what_differs(before, after, broken, mended, gained, lost, weaker):
    """Expectations, access at addresses and ports, the safety of legs."""
    found = compared(world(before), world(after))
    assert (len(found.broken), len(found.mended)) == (broken, mended)
    assert [each.at.rpartition(" ")[2] for each in found.gained] == gained
    assert [each.at.rpartition(" ")[2] for each in found.lost] == lost
    assert any(each.weaker for each in found.differences) is weaker
    assert found.worse(()) is bool(broken)
    assert found.worse(("opens",)) is (bool(broken) or bool(gained))
    assert found.worse(("weakens",)) is (bool(broken) or weaker or bool(found.weakened))


def test_who_gains_is_exact():
    """The addresses that are newly let in, no more and no less; everybody where it is everybody."""
    one = filtered("{allow: tcp, from: 198.51.100.0/25}")
    other = filtered("{allow: tcp, from: [198.51.100.0/24, 203.0.114.0/24]}")
    found = compared(world(one), world(other))
    outside = [each for each in found.gained if each.everybody]
    assert {each.who for each in outside} == {"198.51.100.128/25, 203.0.114.0/24"}
    opened = compared(world(filtered("{allow: icmp}")), world(filtered("{allow: tcp, ports: 443}")))
    assert {each.who for each in opened.gained if each.everybody} == {"everybody on the internet"}


def test_what_is_expected_on_one_side_only_is_counted():
    """A new expectation that is missed is newly missed; one that is gone is told."""
    fresh = swap(OFFICE, ("expected:\n", 'expected:\n  - {url: "https://other.kestrel-ridge.example/", page: visit}\n'))
    found = compared(world(OFFICE), world(fresh))
    assert (found.newly_stated, found.stated_no_more, found.still_met) == (2, 0, 1)
    assert {each.vantage for each in found.broken} == {"street", "office"}
    back = compared(world(fresh), world(OFFICE))
    assert (back.newly_stated, back.stated_no_more, len(back.broken)) == (0, 2, 0)


def test_two_places_part_where_they_part():
    """The leg, and the decisions on both sides; who asks is no difference."""
    ready = world(filtered("{allow: tcp, from: 10.20.0.0/24}"))
    found = side_by_side(question(ready, VISIT, "street"), question(ready, "https://10.20.0.15/", "office"))
    assert found.difference is not None
    ready = world(OFFICE)
    same = side_by_side(question(ready, VISIT, "street"), question(ready, VISIT, "street"))
    assert (same.difference, same.parting) == (None, None)
    office = side_by_side(question(ready, VISIT, "street"), question(ready, VISIT, "office"))
    assert office.parting.leg == "connect"
    assert "outcome" in office.difference.what


# -- the program --


def git(folder, *arguments):
    environment = {**os.environ, "GIT_CONFIG_NOSYSTEM": "1", "HOME": str(folder)}
    who = ("-c", "user.name=Keeper", "-c", "user.email=keeper@kestrel-ridge.example", "-c", "init.defaultBranch=main")
    return subprocess.run(
        ["git", *who, *arguments], cwd=folder, env=environment, check=True, capture_output=True, text=True
    ).stdout


@pytest.fixture
def repository(tmp_path):
    """The office in a folder of a repository, with a zone in a file, and an uncommitted change that opens a port."""
    estate = tmp_path / "estate"
    estate.mkdir()
    zone = "$ORIGIN kestrel-ridge.example.\n@ 60 IN SOA ns. k. 1 1 1 1 1\n@ 60 IN NS ns.elsewhere.example.\nvisit 60 IN A 203.0.113.40\nother 60 IN A 203.0.113.40\n"
    (estate / "ridge.zone").write_text(zone, "utf-8")
    records = OFFICE[OFFICE.index("    records:") : OFFICE.index("vantages:")]
    text = swap(OFFICE, ("  kestrel-ridge.example:\n" + records, "  kestrel-ridge.example: {file: ridge.zone}\n"))
    (estate / "estate.yaml").write_text(text, "utf-8")
    git(tmp_path, "init", "-q")
    git(tmp_path, "add", "-A")
    git(tmp_path, "commit", "-qm", "as it is")
    (estate / "estate.yaml").write_text(
        swap(text, (FORWARD, f"{FORWARD}\n      - {{on: line, tcp: 8443, to: 10.20.0.15, port: 443}}")), "utf-8"
    )
    return tmp_path


def test_a_revision_beside_the_folder(program, repository):
    """`REVISION:` is the folder of the other side; `REVISION:PATH` is git's own; nothing is checked out or changed."""
    before = git(repository, "status", "--porcelain")
    for sides in (("HEAD:", "estate"), ("HEAD:estate", "estate"), ("main:estate/estate.yaml", "estate")):
        done = program("compare", *sides, "--fail-on", "opens")
        assert done.returncode == 1, done.stderr
        assert "everybody on the internet: web on orion, at 203.0.113.40 port 8443" in done.stdout
    assert program("compare", "HEAD:", "estate").returncode == 0
    assert program("compare", "HEAD:", "HEAD:", "-e", "estate").returncode in (0, 2)
    data = json.loads(program("compare", "HEAD:", "estate", "--format", "json").stdout)
    jsonschema.validate(data, schema("compare"))
    assert [each["at"] for each in data["gained"]] == ["203.0.113.40 port 8443"]
    told = program("compare", "HEAD:", "estate", "--format", "markdown").stdout
    assert "### Who gains access" in told
    assert git(repository, "status", "--porcelain") == before


@pytest.mark.parametrize(
    ("sides", "said"),
    [
        (("nope:", "estate"), "'nope' is no revision of this repository"),
        (("--help-all:", "estate"), "unrecognized arguments"),
        (("HEAD:../..", "estate"), "leads out of the repository"),
        (("HEAD:none", "estate"), "git cannot read the revision"),
        (("HEAD:estate/ridge.zone", "estate"), "git cannot read the revision"),
        (("estate",), "no estate"),
        (("a", "b", "c"), "two estates are compared"),
        (("estate", "estate", "--fail-on", "opns"), "Did you mean 'opens'?"),
        (("--from", "street", VISIT, "-e", "estate"), "two places are compared for one address"),
        (("estate", "estate", "--with", "x.yaml"), "--with compares an estate with itself changed"),
    ],
)
def test_what_cannot_be_compared(program, repository, sides, said):
    """One line each, and no answer."""
    done = program("compare", *sides)
    assert (done.returncode, done.stdout, done.stderr.count("\n")) == (2, "", 1)
    assert said in done.stderr


def test_a_revision_follows_no_links(program, repository):
    """What leads out of the folder is refused, as on the disk."""
    (repository / "estate" / "ridge.zone").unlink()
    (repository / "estate" / "ridge.zone").symlink_to("/etc/passwd")
    git(repository, "add", "-A")
    git(repository, "commit", "-qm", "a link")
    done = program("compare", "HEAD:", "HEAD~1:", "-e", "estate")
    done = program("compare", "HEAD:estate", "HEAD~1:estate")
    assert (done.returncode, done.stdout) == (2, "")
    assert "links are not followed in a revision" in done.stderr


def test_before_and_after_a_change(program, tmp_path):
    """`--with` compares the estate with itself changed."""
    (tmp_path / "estate.yaml").write_text(OFFICE, "utf-8")
    (tmp_path / "c.yaml").write_text("hosts: {orion: {services: {web: {state: stopped}}}}\n", "utf-8")
    done = program("compare", "--with", "c.yaml")
    assert done.returncode == 1
    assert "newly missed" in done.stdout
    two = program("compare", "--from", "street", "--from", "office", VISIT)
    assert two.returncode == 1
    assert "the ways part at: connect" in two.stdout
    data = json.loads(program("compare", "--from", "street,office", VISIT, "--format", "json").stdout)
    jsonschema.validate(data, schema("places"))
    assert (
        "- street gets the page" in program("compare", "--from", "street,office", VISIT, "--format", "markdown").stdout
    )


def test_any_two_estates_can_be_compared():
    """Whatever one has and the other has not: networks, places, machines; what is open counts as gained, then as lost."""
    from portolan.public import described

    stories = [
        described(str(STORIES / name)) for name in ("first-light", "inside-only", "one-way-street", "hall-of-mirrors")
    ]
    for one in stories:
        for other in stories:
            there, back = one.compare(other), other.compare(one)
            assert [each.at for each in there.gained] == [each.at for each in back.lost]
            assert (there.differences == ()) is (back.differences == ())
        assert (one.compare(one).differences, one.compare(one).gained) == ((), ())
