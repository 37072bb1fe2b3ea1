"""Surveys: what is asked, how it is grouped, every form of output, processes side by side, earlier surveys, bad input."""

import csv
import io
import json
import os
import signal
import xml.etree.ElementTree as ElementTree
from pathlib import Path

import jsonschema
import junitparser
import pytest

from portolan.cli import jobs, pool
from portolan.diagnosis.registry import BY_CODE
from portolan.formats.files import FileError, KeptFiles, MemoryFiles
from portolan.journey.question import UnknownPlaceError
from portolan.surveying.answered import Chunk
from portolan.surveying.baseline import OtherEstateError, since
from portolan.surveying.survey import CHUNK, chunk, collected, questions, standing
from portolan.views.formats import FORMATS, form_of
from portolan.views.style import Style
from tests.conftest import OFFICE, STORIES, loaded, schema, swap, world

#: Two names, three places; one rule keeps everybody outside from both.
KEPT_OUT = swap(
    OFFICE,
    ("    masquerade: [line]", "    masquerade: [line]\n    hairpin: full"),
    (
        "    services:\n      web:",
        "    filter: {inbound: {default: drop, rules: [{allow: tcp, from: 10.20.0.0/24}]}}\n    services:\n      web:",
    ),
    (
        '  - {url: "https://visit.kestrel-ridge.example/", from: street, page: visit/index.html}',
        '  - {url: "https://visit.kestrel-ridge.example/", page: visit/index.html}\n'
        '  - {url: "https://other.kestrel-ridge.example/", page: other/index.html}\n'
        '  - {url: "http://visit.kestrel-ridge.example/nope", from: [office], status: 404}',
    ),
    (
        "  office: {network: dome, address: 10.20.0.50}",
        "  office: {network: dome, address: 10.20.0.50}\n  phone: {network: internet, address: 198.51.100.99}",
    ),
)


def surveyed(text, vantages=(), only=None):
    """A survey in this process."""
    held = loaded(text)
    ready, people = standing(world(text), vantages)
    asked = questions(ready, people, only)
    from portolan.formats.estate_file import patched

    return collected(
        ready,
        asked,
        [chunk(ready, asked, first) for first in range(0, len(asked), CHUNK)],
        lambda patch: patched(held, patch).estate,
    )


def test_one_rule_that_misses_many_is_one_cause():
    """Grouped by the object that must change, proven by mending it; met and missed add up."""
    found = surveyed(KEPT_OUT)
    assert (found.questions, found.asked, found.expectations) == (7, 7, 3)
    assert [(each.cause.rule, len(each.missed), each.proven) for each in found.groups] == [("filter-drops", 4, True)]
    assert [each.number for each in found.missed] == [0, 2, 3, 5]
    assert [each.met for each in found.answers] == [False, True, False, False, True, False, True]
    assert found.vantages == ("street", "office", "phone")


@pytest.mark.parametrize(
    ("vantages", "only", "asked"),
    [
        (("street",), None, 2),
        (("office",), None, 3),
        (("internet",), None, 2),
        (("near:dome",), "*/nope", 0),
        ((), "*.kestrel-ridge.example", 7),
        ((), "visit.*", 4),
        ((), "https://other*", 3),
        ((), "nowhere", 0),
    ],
)
def test_what_is_asked(vantages, only, asked):
    """An expectation that names places is asked from those; a pattern is for whole addresses or host names."""
    found = surveyed(KEPT_OUT, vantages, only)
    assert (found.questions, len(list(found.answers))) == (asked, asked)


def test_an_unknown_place_is_named():
    with pytest.raises(UnknownPlaceError):
        standing(world(OFFICE), ("moon",))


def test_a_survey_says_what_each_visit_says():
    """Outcomes and misses are those of single questions, in every story."""
    from portolan.diagnosis.asking import missed_at
    from portolan.public import described

    compared = 0
    for story in ("first-light", "half-open", "three-locks", "lost-shelf"):
        estate = described(str(STORIES / story))
        found = estate.survey()
        ready = estate._world(None, ())
        for each, (expectation, vantage) in zip(found.answers, questions(ready), strict=True):
            visit, missed = missed_at(ready, expectation, vantage)
            assert each.met is not bool(missed)
            assert each.outcome == (missed[0].visit.outcome if missed else visit.outcome)
            compared += 1
    assert compared > 20


# -- forms --


def shown(text, form, **more):
    return "".join(form_of("survey", form)(surveyed(text, **more), Style(width=120)))


def test_every_form_tells_of_the_same_misses():
    """JSON by its schema, CSV by the standard reader, JUnit XML as CI servers read it."""
    data = json.loads(shown(KEPT_OUT, "json"))
    jsonschema.validate(data, schema("survey"))
    missed = {(each["url"], each["vantage"]) for each in data["answers"] if not each["met"]}
    assert (len(missed), data["missed"], data["causes"][0]["missed"]) == (4, 4, 4)
    rows = list(csv.DictReader(io.StringIO(shown(KEPT_OUT, "csv"))))
    assert {(each["url"], each["from"]) for each in rows if each["met"] == "no"} == missed
    assert {each["cause"] for each in rows if each["met"] == "no"} == {"filter-drops"}
    suites = junitparser.JUnitXml.fromstring(shown(KEPT_OUT, "junit").encode())
    assert (suites.tests, suites.failures, suites.errors) == (7, 4, 0)
    cases = [case for suite in suites for case in suite]
    assert {(case.name, case.classname) for case in cases if case.result} == missed
    told = shown(KEPT_OUT, "markdown")
    assert "| 4 | `filter-drops` |" in told
    text = shown(KEPT_OUT, "text")
    assert text.startswith("✗ 4  filter-drops")
    assert "4 of 7 questions miss" in text
    assert "street" in text.split("https://visit")[-2]  # the matrix's head, where there is room


def test_sarif_is_what_the_standard_asks_for():
    """SARIF 2.1.0: version, driver and rules (3.19), results with rule index, level, message (3.27), regions from 1 (3.30)."""
    document = json.loads(shown(KEPT_OUT, "sarif"))
    assert document["version"] == "2.1.0"
    assert document["$schema"].endswith("sarif-schema-2.1.0.json")
    (run,) = document["runs"]
    rules = run["tool"]["driver"]["rules"]
    assert len({each["id"] for each in rules}) == len(rules) == 1
    assert rules[0]["help"]["text"] == BY_CODE["filter-drops"].help
    for result in run["results"]:
        assert rules[result["ruleIndex"]]["id"] == result["ruleId"]
        assert result["level"] in ("none", "note", "warning", "error")
        assert result["message"]["text"]
        assert result["occurrenceCount"] == 4
        for place in (*result["locations"], *result["relatedLocations"]):
            physical = place["physicalLocation"]
            assert not physical["artifactLocation"]["uri"].startswith("/")
            assert physical["artifactLocation"]["uriBaseId"] in run["originalUriBaseIds"]
            assert min(physical["region"].values()) >= 1
        assert result["locations"][0]["logicalLocations"][0]["fullyQualifiedName"].startswith("hosts.orion")
        assert len({each["id"] for each in result["relatedLocations"]}) == len(result["relatedLocations"])


HOSTILE = "<img src=x onerror=alert(1)> `a` |b| ]]> &amp; www.evil.example https://evil.example/"


@pytest.mark.parametrize("form", sorted(FORMATS["survey"]))
def test_hostile_text_stays_text(form):
    """Names and pages from the estate are no formulas, no markup, no second columns."""
    text = swap(
        OFFICE,
        ("page: visit/index.html", f"page: 'visit/{HOSTILE}'"),
        ("  street: {", "  '=2+3': {"),
        ("from: street", "from: '=2+3'"),
    )
    out = shown(text, form)
    assert out.isprintable() or set(out) - {"\n", "\r"} == {each for each in out if each.isprintable()}
    if form == "csv":
        (row,) = csv.DictReader(io.StringIO(out))
        assert HOSTILE in row["missed"]
        assert row["from"] == "'=2+3"
        assert all(not cell.startswith(("=", "+", "-", "@")) for cell in row.values())
    elif form == "junit":
        case = ElementTree.fromstring(out)[0][0]
        assert (HOSTILE in case[0].get("message"), case.get("classname")) == (True, "=2+3")
    elif form in ("json", "sarif"):
        assert HOSTILE in json.dumps(json.loads(out), ensure_ascii=False)
    elif form == "markdown":
        assert "<img" not in out.replace("\\<img", "")
        assert "https://evil" not in out
        assert "www.evil" not in out
        assert all(line.count("|") - line.count("\\|") in (0, 5) for line in out.splitlines())


def test_a_form_is_one_module_that_shows():
    """Whatever stands in the table has a module with that function; no command asks for a form by name."""
    for what, forms in FORMATS.items():
        for name in forms:
            assert callable(form_of(what, name)), (what, name)
    chains = {
        path.name: path.read_text("utf-8").count('format == "json"') for path in Path(jobs.__file__).parent.glob("*.py")
    }
    # A story is told in a way of its own, and a rehearsal keeps evidence for JSON.
    assert {name: count for name, count in chains.items() if count} == {"demo.py": 1, "rehearse.py": 1}


# -- earlier surveys --


def test_beside_an_earlier_survey():
    """New, mended, still missed; two expectations of one question must both be met; another estate is refused."""
    now = list(surveyed(KEPT_OUT).answers)
    url = "https://visit.kestrel-ridge.example/"
    earlier = {
        (url, "street"): True,
        (url, "office"): False,
        (url, "phone"): False,
        ("https://gone.example/", "x"): True,
    }
    found = since(now, earlier)
    assert [(each.url, each.vantage) for each in found.new][0] == (url, "street")
    assert found.mended == ((url, "office"),)
    assert [(each.url, each.vantage) for each in found.still] == [(url, "phone")]
    assert (found.asked_first, found.asked_no_more) == (4, 1)
    with pytest.raises(OtherEstateError):
        since(now, {("https://elsewhere.example/", "street"): True})


@pytest.mark.parametrize(
    ("content", "said"),
    [
        ("{", "is no JSON"),
        ("[]", "is no survey: it has no list of answers"),
        ('{"portolan": 9, "answers": []}', "is of version 9, and this Portolan reads version 1"),
        ('{"portolan": 1, "answers": [{"url": 5}]}', "its answer 1 has no url, vantage and met"),
        (
            '{"portolan": 1, "answers": [{"url": "https://a.example/", "vantage": "v", "met": true}]}',
            "is of another estate",
        ),
        ("[" * 100_000, "is no JSON"),
    ],
)
def test_a_baseline_that_is_none(program, tmp_path, content, said):
    """One clear error, and no answer."""
    (tmp_path / "estate.yaml").write_text(OFFICE, "utf-8")
    (tmp_path / "old.json").write_text(content, "utf-8")
    done = program("survey", "--baseline", "old.json")
    assert (done.returncode, done.stdout) == (2, "")
    assert said in done.stderr
    assert done.stderr.count("\n") == 1


# -- the program --


def test_the_command_writes_whole_files_or_none(program, tmp_path):
    """A file takes the place of an earlier one; what cannot be written is told before anything is asked."""
    (tmp_path / "estate.yaml").write_text(KEPT_OUT, "utf-8")
    (tmp_path / "out.json").write_text("old", "utf-8")
    done = program("survey", "--format", "json", "-o", "out.json")
    assert (done.returncode, done.stdout, done.stderr) == (1, "", "")
    first = json.loads((tmp_path / "out.json").read_text("utf-8"))
    again = program("survey", "--baseline", "out.json", "--format", "json")
    assert json.loads(again.stdout)["since"]["still_missed"] == [
        {"url": each["url"], "vantage": each["vantage"]} for each in first["answers"] if not each["met"]
    ]
    for path, said in (("no/out", "there is no folder"), (".", "it is a folder")):
        refused = program("survey", "-o", path)
        assert (refused.returncode, refused.stdout) == (2, "")
        assert said in refused.stderr
    assert sorted(each.name for each in tmp_path.iterdir()) == ["estate.yaml", "out.json"]
    full = program("survey", "-o", "/dev/full")
    assert full.returncode == 2
    assert "No space left" in full.stderr


def test_usage_errors_are_one_line(program, tmp_path):
    (tmp_path / "estate.yaml").write_text(OFFICE, "utf-8")
    for arguments, said in (
        (("--jobs", "0"), "--jobs: expected a number from 1 on"),
        (("--from", "stret"), "Did you mean 'street'?"),
        (("--format", "jsn"), "Did you mean 'json'?"),
    ):
        done = program("survey", *arguments)
        assert (done.returncode, done.stdout, done.stderr.count("\n")) == (2, "", 1)
        assert said in done.stderr
    nothing = program("survey", "--only", "nowhere.example")
    assert nothing.returncode == 1
    assert "nothing was asked" in nothing.stdout


# -- processes side by side --


def many(count):
    """A server with so many sites, one of which nobody switched on; more questions than one chunk."""
    sites = "".join(
        f"          s{number}: {{names: [s{number}.sites.example], files: [index.html]{', enabled: false' * (number == 7)}}}\n"
        for number in range(count)
    )
    return (
        "portolan: 1\nat: 2026-03-14T20:00:00Z\nhosts:\n  orion:\n    interfaces: {internet: {address: 203.0.113.40}}\n    services:\n"
        f"      web:\n        program: nginx\n        listens: [80]\n        sites:\n{sites}"
        "zones: {sites.example: {records: ['* 60 A 203.0.113.40']}}\n"
        "vantages:\n  street: {network: internet, address: 198.51.100.77}\n  phone: {network: internet, address: 198.51.100.78}\n"
        "expected:\n"
        + "".join(f"  - {{url: 'http://s{n}.sites.example/', page: s{n}/index.html}}\n" for n in range(count))
    )


def test_any_number_of_processes_says_the_same(program, tmp_path):
    """Byte for byte, in two forms."""
    (tmp_path / "estate.yaml").write_text(many(1100), "utf-8")
    for form in ("json", "text"):
        one = program("survey", "--format", form, "--jobs", "1")
        two = program("survey", "--format", form, "--jobs", "3")
        assert (one.stdout, one.returncode) == (two.stdout, two.returncode)
        assert one.returncode == 1
    assert "site-not-enabled" in one.stdout
    # A change on standard input is read once, and asked by all.
    change = '{"hosts": {"orion": {"services": {"web": {"sites": {"s7": {"enabled": true}}}}}}}'
    mended = program("survey", "--with", "-", "--jobs", "2", stdin=change)
    assert (mended.returncode, mended.stderr) == (0, "")


def test_a_process_that_dies_costs_its_chunk_only(monkeypatch):
    """What kills whoever asks it is asked once more by itself, then told as not answered; all else is answered."""
    text = many(1700)
    files = KeptFiles(MemoryFiles({"estate.yaml": text}))
    ready = world(text)
    from portolan.formats.estate_file import load

    load(files, "estate.yaml")
    task = jobs.Task(files, "estate.yaml", (), ready.now, frozenset(), (), None)
    monkeypatch.setattr(pool, "_ask", _dies_at_the_second)
    asked = questions(ready)
    chunks = list(jobs.side_by_side(task, len(asked), 2, lambda first: Chunk(first, 0)))
    found = collected(ready, asked, chunks, lambda patch: ready.stated)
    assert (found.questions, found.asked, [each.first for each in found.failed]) == (3400, 2400, [1000])
    assert sorted(each.first for each in found.chunks) == [0, 1000, 2000, 3000]
    assert found.groups[0].cause.rule == "site-not-enabled"
    document = ElementTree.fromstring("".join(form_of("survey", "junit")(found, Style())))
    assert (document.get("errors"), document.get("tests")) == ("1", "2401")
    assert "1,000 questions could not be answered" in "".join(form_of("survey", "text")(found, Style(width=300)))


def _dies_at_the_second(first):
    if first == 1000:
        os.kill(os.getpid(), signal.SIGKILL)
    return pool._HELD and chunk(*pool._HELD[0], first)


def test_kept_files_give_again_what_was_read():
    """Also the refusals, when nobody holds the files any more."""
    import pickle

    kept = KeptFiles(MemoryFiles({"a": "1", "folder/b": "2"}))
    assert (kept.read("a"), kept.tree("folder"), kept.shown("a")) == (b"1", ("b",), "a")
    with pytest.raises(FileError) as first:
        kept.read("none")
    again = pickle.loads(pickle.dumps(kept))
    assert (again.read("a"), again.tree("folder"), again.shown("a")) == (b"1", ("b",), "a")
    for path in ("none", "never asked"):
        with pytest.raises(FileError) as second:
            again.read(path)
    assert str(second.value)
    assert type(first.value) is type(second.value)


def test_watched_estates_are_asked_again(tmp_path):
    """At once, after each change of a file, through an estate that does not load meanwhile; stopped at the keyboard."""
    import subprocess
    import sys
    import time

    estate = tmp_path / "estate.yaml"
    estate.write_text(OFFICE, "utf-8")
    told = []
    steps = [
        ("every expectation is met", KEPT_OUT),
        ("4 of 7 questions miss", "portolan: 1\nhosts: ["),
        ("nothing was answered", OFFICE),
        ("every expectation is met", None),
    ]
    with subprocess.Popen(
        [sys.executable, "-m", "portolan", "survey", "--watch"],
        cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
    ) as running:  # fmt: skip
        try:
            for wanted, following in steps:
                while wanted not in (line := running.stdout.readline()):
                    assert line, told
                    told.append(line)
                if following is not None:
                    time.sleep(0.5)  # the watch begins when the answer is out
                    estate.write_text(following, "utf-8")
            running.send_signal(signal.SIGINT)
            assert running.wait(20) == 130
        finally:
            running.kill()
    assert sum("estate.yaml changed" in line for line in told) == 3


def test_standard_input_cannot_be_watched(program):
    done = program("check", "--watch", "-e", "-", stdin=OFFICE)
    assert (done.returncode, done.stdout) == (2, "")
    assert "standard input is read once" in done.stderr


def test_wide_letters_take_two_columns():
    """Rows end where the terminal does, whatever the script of a name."""
    from portolan.views.style import columns_of, row, wrapped

    assert [columns_of(each) for each in ("abc", "天文台", "e\u0301", "✗")] == [3, 6, 1, 1]
    (line,) = row(Style(width=40), "  ", 2, "天文台 is open", "estate.yaml:4")
    assert columns_of(line) == 40
    lines = wrapped("天文台 " * 12 + "天" * 40, 30)
    assert all(columns_of(each) <= 30 for each in lines)
    assert "".join(lines).replace(" ", "") == "天文台" * 12 + "天" * 40


def test_a_cluster_says_the_same_though_a_worker_is_killed(tmp_path, program):
    """A worker dies in the middle of a chunk: what comes is, byte for byte, what one process says."""
    distributed = pytest.importorskip("distributed")
    from portolan.cli.cluster import on_cluster
    from portolan.formats.estate_file import load

    text = many(2100)
    (tmp_path / "estate.yaml").write_text(text, "utf-8")
    files = KeptFiles(MemoryFiles({"estate.yaml": text}))
    ready = world(text)
    load(files, "estate.yaml")
    task = jobs.Task(files, "estate.yaml", (), ready.now, frozenset(), (), None)
    asked = questions(ready)
    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, silence_logs=50
    ) as cluster:
        found, killed = [], []
        for each in on_cluster(task, len(asked), cluster.scheduler_address, 2):
            found.append(each)
            if not killed:
                with distributed.Client(cluster) as client:
                    killed.append(next(iter(client.run(os.getpid).values())))
                os.kill(killed[0], signal.SIGKILL)
    theirs = collected(ready, asked, found, lambda patch: ready.stated)
    own = collected(
        ready, asked, [chunk(ready, asked, first) for first in range(0, len(asked), CHUNK)], lambda patch: ready.stated
    )
    assert len(found) == len(range(0, len(asked), CHUNK))
    for form in ("json", "csv", "junit"):
        shown = ["".join(form_of("survey", form)(each, Style())) for each in (theirs, own)]
        assert shown[0] == shown[1]
        assert len(shown[0]) > 100_000
    refused = program("survey", "--cluster", "tcp://127.0.0.1:9")
    assert (refused.returncode, refused.stdout) == (2, "")
    assert "no cluster answers at 'tcp://127.0.0.1:9'" in refused.stderr
