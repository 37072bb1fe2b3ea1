"""What is seen, several places, letters and files that are written, by the installed program."""

import json
import shutil
import subprocess

import jsonschema
import pytest

from tests.conftest import STORIES, schema

URL = "https://visit.kestrel-ridge.example/"
PLAIN = "http://visit.kestrel-ridge.example/"


@pytest.fixture
def estate(tmp_path):
    """A copy of a story's estate."""
    shutil.copytree(STORIES / "inside-only", tmp_path / "estate")
    return tmp_path / "estate"


def test_what_is_seen(tmp_path, program):
    """1 where it is otherwise than predicted, 0 where it is not; the next check goes on from there."""
    where = ("-e", str(STORIES / "shut-door"), "--format", "json")
    done = program("explain", PLAIN, *where, "--seen", "street=time-out", "--seen", "office=200")
    found = json.loads(done.stdout)
    assert (done.returncode, found["agrees"]) == (1, False)
    assert found["suspects"][0]["object"] == "routers.gateway.interfaces.line"
    assert sum(each["likely"] for each in (*found["suspects"], *found["in_part"])) == pytest.approx(1, abs=0.01)
    add = found["next"]["answers"][0]["add"].split(" ", 1)
    again = program(
        "explain", PLAIN, *where, "--seen", "street=time-out", "--seen", "office=200", add[0], add[1].strip("'")
    )
    assert len(json.loads(again.stdout)["suspects"]) < len(found["suspects"])
    met = program("explain", PLAIN, *where, "--seen", "street=200")
    assert (met.returncode, json.loads(met.stdout)["agrees"]) == (0, True)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["--seen", "street=slwo 5"], "Did you mean 'slow'?"),
        (["--seen", "stret=200"], "did you mean 'street'?"),
        (["--seen", "street=200", "--seen", "street=time-out"], "contradict each other. Leave one of them out."),
        (["--seen", "street=404", "--checked", "routers.gatway=right"], "Did you mean 'routers.gateway'?"),
        (["--seen", "street=404", "--checked", "routers.gateway=maybe"], "Write OBJECT=right or OBJECT=wrong."),
        (["--checked", "routers.gateway=right"], "--checked goes with --seen. Say what is seen, too"),
        (["--seen", "street=404", "--format", "patch"], "what is seen is no remedy"),
        (["--write", "9", "--yes"], "there is no remedy 9 here. There is none that can be written"),
        (["--yes"], "--yes goes with --write. Say which remedy"),
        (["--letter", "3"], "there is no remedy 3 here. There is nothing to ask for."),
    ],
)
def test_bad_input_is_one_line(words, said, program):
    """With the next thing to do."""
    done = program("explain", PLAIN, "-e", str(STORIES / "shut-door"), *words)
    assert (done.returncode, done.stdout) == (2, "")
    errors = [line for line in done.stderr.strip().split("\n") if not line.startswith("note: ")]
    assert len(errors) == 1
    assert said.lower() in errors[0].lower()


def test_several_places(program):
    """Side by side; 1 where it is missed from one."""
    done = program("follow", URL, "-e", str(STORIES / "inside-only"), "--from", "all", "--format", "json")
    found = json.loads(done.stdout)
    assert done.returncode == 1
    assert {each["vantage"]: each["met"] for each in found["places"]}["office"] is True
    assert found["parting"]["leg"] == "connect"
    alone = program("follow", URL, "-e", str(STORIES / "inside-only"), "--from", "a,b", "--by-hand")
    assert (alone.returncode, alone.stderr.strip()) == (
        2,
        "portolan: --by-hand is for one place. Name one with --from.",
    )


def test_the_new_place_under_the_real_name(program):
    """Before the records move."""
    done = program("follow", PLAIN, "-e", str(STORIES / "shut-door"), "--as-if-at", "203.0.113.99", "--format", "json")
    assert (done.returncode, json.loads(done.stdout)["outcome"]["kind"]) == (1, "connect-error")
    bad = program("follow", PLAIN, "-e", str(STORIES / "shut-door"), "--as-if-at", "here")
    assert bad.stderr.strip().endswith("--as-if-at: 'here' is no address. Write one such as 203.0.113.40.")


def test_a_remedy_is_written_and_undone(estate, program):
    """Shown first, written whole, with a way back that no load reads."""
    before = (estate / "estate.yaml").read_text("utf-8")
    (estate / "estate.yaml").chmod(0o640)
    refused = program("explain", URL, "-e", str(estate), "--write", "1")
    assert refused.returncode == 2
    assert "Add --yes to write it." in refused.stderr
    assert "+          - {allow: tcp, ports: [443]}" in refused.stdout
    assert (estate / "estate.yaml").read_text("utf-8") == before
    done = program("explain", URL, "-e", str(estate), "--write", "1", "--yes")
    assert done.returncode == 0
    after = (estate / "estate.yaml").read_text("utf-8")
    assert len(after.split("\n")) == len(before.split("\n")) + 1
    assert (estate / "estate.yaml").stat().st_mode & 0o777 == 0o640
    assert program("check", "-e", str(estate)).returncode == 0
    (undo,) = (estate / ".portolan").iterdir()
    subprocess.run(["patch", "-s", "-p1", "-i", str(undo)], cwd=estate, check=True)
    assert (estate / "estate.yaml").read_text("utf-8") == before


def test_undo_records_are_no_part_of_an_estate(estate, program):
    """Whoever names their folder is refused."""
    (estate / ".portolan").mkdir()
    (estate / ".portolan" / "more.yaml").write_text("hosts: {}\n")
    (estate / "estate.yaml").write_text("portolan: 1\ninclude: [.portolan/more.yaml]\n")
    done = program("check", "-e", str(estate))
    assert done.returncode == 2
    assert "undo records" in done.stderr


def test_a_change_is_not_written_over_another(estate):
    """A file that changed since it was read, or may not be written, is left as it is."""
    from portolan.cli.errors import UsageError
    from portolan.cli.writing import exchanging

    text = (estate / "estate.yaml").read_text("utf-8")
    with (
        pytest.raises(UsageError, match="has changed since it was read"),
        exchanging(str(estate), [("estate.yaml", f"{text}\n", "portolan: 1\n")]),
    ):
        pass
    with pytest.raises(UsageError, match="lies outside"), exchanging(str(estate), [("../other", "", "x")]):
        pass
    assert (estate / "estate.yaml").read_text("utf-8") == text
    assert not [each.name for each in estate.iterdir() if each.name.startswith(".")]


def test_a_letter(estate, program):
    """To whom it is said; the text can be sent as it stands."""
    main = estate / "estate.yaml"
    main.write_text(main.read_text("utf-8").replace("  orion:\n", "  orion:\n    run_by: the hosting company\n"))
    told = program("explain", URL, "-e", str(estate))
    assert "for the hosting company to do" in " ".join(told.stdout.split())
    done = program("explain", URL, "-e", str(estate), "--letter", "1")
    assert done.returncode == 0
    assert done.stdout.startswith("To: the hosting company\nSubject: ")
    assert max(map(len, done.stdout.split("\n"))) <= 130


def test_a_probe_of_this_machine(tmp_path, program):
    """The real thing on loopback: what is seen is what the estate says; what no line names is not asked."""
    from http.server import BaseHTTPRequestHandler, HTTPServer
    from threading import Thread

    class Gives(BaseHTTPRequestHandler):
        status = 200

        def do_GET(self):
            self.send_response(self.status)
            self.end_headers()

        def log_message(self, *_):
            pass

    server = HTTPServer(("127.0.0.1", 0), Gives)
    port = server.server_address[1]
    Thread(target=server.serve_forever, daemon=True).start()
    text = f"portolan: 1\nhosts:\n  box:\n    interfaces: {{net: {{network: internet, address: 203.0.113.40}}}}\n    services: {{web: {{program: nginx, listens: [{port}], sites: {{visit: {{default: true, files: [index.html]}}}}}}}}\n"  # fmt: skip
    (tmp_path / "estate.yaml").write_text(f'{text}expected: [{{url: "http://127.0.0.1:{port}/", from: box}}]\n')
    try:
        where = ("-e", str(tmp_path), "--from", "box", "--format", "json")
        done = program("probe", f"http://127.0.0.1:{port}/", *where)
        found = json.loads(done.stdout)
        assert (done.returncode, found["differs"], found["seen"]) == (0, False, "200")
        assert [leg["leg"] for leg in found["exchanges"][0]["legs"]] == ["connect", "http"]
        Gives.status = 404
        off = program("probe", f"http://127.0.0.1:{port}/", *where)
        assert (off.returncode, json.loads(off.stdout)["doubt"]["agrees"]) == (1, False)
        listed = json.loads(program("probe", f"http://127.0.0.1:{port}/", *where, "--dry-run").stdout)
        assert (listed["exchanges"], listed["seen"]) == (None, None)
        strange = program("probe", "https://elsewhere.example/", "-e", str(tmp_path))
        assert strange.returncode == 2
        assert "no line of the estate names elsewhere.example, and it is not asked" in strange.stderr
    finally:
        server.shutdown()
        server.server_close()


#: What is asked, and the schema of its JSON.
FORMS = [
    ("doubt", ["explain", PLAIN, "-e", "{shut-door}", "--seen", "street=time-out"]),
    ("doubt", ["explain", PLAIN, "-e", "{shut-door}", "--seen", "street=200"]),
    ("several", ["follow", URL, "-e", "{inside-only}", "--from", "all"]),
    ("several", ["follow", URL, "-e", "{shut-door}", "--from", "street"]),
    ("follow", ["follow", URL, "-e", "{shut-door}", "--by-hand", "--rests-on"]),
    ("explain", ["explain", URL, "-e", "{inside-only}", "--by-hand"]),
    ("letter", ["explain", URL, "-e", "{inside-only}", "--letter", "1"]),
    ("fault", ["fault"]),
    ("fault", ["fault", "forward-missing"]),
    ("fault", ["fault", "cert-use"]),
    ("fault", ["fault", "rate-shared"]),
    ("probe", ["probe", URL, "-e", "{inside-only}", "--dry-run"]),
]


@pytest.mark.parametrize(("form", "words"), FORMS)
def test_the_json_is_as_its_schema_says(form, words, program):
    """Of each new form."""
    asked = [str(STORIES / word[1:-1]) if word.startswith("{") else word for word in words]
    found = json.loads(program(*asked, "--format", "json").stdout)
    jsonschema.validate(found, schema("follow" if form == "several" and "places" not in found else form))
