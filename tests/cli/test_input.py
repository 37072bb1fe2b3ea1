"""Bad input, bad streams and bad moments: status 2 with the place and the next thing to do, never a traceback."""

import contextlib
import json
import os
import random
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest

from portolan.cli.disk import DiskFiles
from portolan.formats.files import FileError
from portolan.transcribing import transfer
from tests.conftest import OFFICE, STORIES, problems, swap

FOUND = Path(__file__).parent.parent / "found" / "input"
SITE = "http://10.20.0.15/"

#: What each estate or change that once crashed, hung or ate all memory must come to: status, and a piece of what is said.
ENDS = {
    "change-deep-list-key": (2, "change-deep-list-key:1:11: a key must be a word"), "change-host-is-a-number": (2, "1:40: expected a host with keys, found '7'"),
    "change-index-of-5000-digits": (2, "1:3: '/expected/99999"), "change-is-a-list-key": (2, "1:3: a key must be a word"), "change-key-is-a-list": (2, "1:39: a key must be a word"),
    "earlier-router-without-its-line.yaml": (2, "8:13: no interface is named 'line' on this machine (at routers.gateway.before)"),
    "escaped-semicolon.yaml": (0, ""), "glue-empty.yaml": (0, "works inside only"), "glue-twice.yaml": (2, "5:117: the name 'ns1.a.example' is written twice"),
    "include-tree": (2, "the zone includes more than 200 files in all"), "json-surrogates.json": (0, ""), "names-with-escapes.yaml": (2, "Take U+001B out."),
    "record-is-a-list.yaml": (2, "5:52: expected a line of text, found a list"), "rfc3597-address.yaml": (0, ""), "target-without-scheme.yaml": (0, ""),
    "view-without-bad-name.yaml": (2, "no record of the zone fits 'a..b'"),
}  # fmt: skip


@pytest.mark.parametrize("name", ENDS)
def test_what_was_found(program, name):
    """Answered, or refused at its place."""
    given = (
        ["-e", str(STORIES / "first-light"), "--with", str(FOUND / name)]
        if name.startswith("change")
        else ["-e", str(FOUND / name)]
    )
    done = program("check", *given)
    status, said = ENDS[name]
    assert done.returncode == status, done.stderr
    assert said in " ".join((done.stdout + done.stderr).split()) or said in done.stdout + done.stderr


@pytest.mark.parametrize(("name", "url", "expected"), [
    ("rfc3597-address.yaml", "http://visit.a.example/", "page"), ("target-without-scheme.yaml", SITE, "414"), ("escaped-semicolon.yaml", "http://visit.a.example/", "203.0.113.40"),
])  # fmt: skip
def test_what_was_found_is_answered_rightly(program, tmp_path, name, url, expected):
    """Data of known types in the unknown form, growing addresses, escapes in strings."""
    text = (FOUND / name).read_text("utf-8").replace("redirect_limit: 16", "redirect_limit: 50")
    if "vantages" not in text:
        text += "vantages: {desk: {network: internet, address: 198.51.100.7}}\n"
    (tmp_path / "estate.yaml").write_text(text)
    assert expected in program("follow", url, "--format", "json").stdout


@pytest.mark.parametrize("name", ["bad-version.pem", "unsupported-curve.pem"])
def test_certificates_that_no_library_reads(program, tmp_path, name):
    """Said with the line that names the file."""
    (tmp_path / "c.pem").write_bytes((FOUND / name).read_bytes())
    (tmp_path / "estate.yaml").write_text(
        swap(OFFICE, ('names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-06-01', "file: c.pem"))
    )
    done = program("follow", "https://visit.kestrel-ridge.example/")
    assert done.returncode == 2
    assert "in the file cannot be read" in done.stderr


@pytest.mark.parametrize(("changes", "expected"), [
    ([("other:\n            names", '"a\\nestate.yaml:1:1: error: x":\n            names')], "Write it on one line."),
    ([("  street:", '  "str\\u2028eet":')], "Take U+2028 out."), ([("  street:", '  "str\\u200beet":')], "Take U+200B out."), ([("  street:", '  "street\\u3164":')], "Take U+3164 out."),
    ([("files: [index.html, t", 'files: ["a\\u202eb", t')], "Take U+202E out."), ([("address: 10.20.0.50", 'address: "fe80::1%eth0"')], "expected an IP address"), ([("at: 2026-03-14T20:00:00Z", "at: 9999-12-31")], "Between the years"),
])  # fmt: skip
def test_text_that_nobody_sees(changes, expected):
    """Names, targets, paths and patterns hold nothing that hides; no name fakes a second problem."""
    found = problems(swap(OFFICE, *changes))
    assert any(expected in line for line in found)
    assert all("\n" not in line and line.isprintable() for line in found)


def test_problems_show_their_line(program, tmp_path):
    """The line as it stands, with a caret under the place; a hundred at most, and how many more there are."""
    (tmp_path / "estate.yaml").write_text(
        "portolan: 1\nvantages: {street: {netwrok: internet}}\n" + "".join(f"k{number}: 1\n" for number in range(5000))
    )
    done = program("check")
    lines = done.stderr.split("\n")
    assert lines[0].startswith("estate.yaml:2:21: unknown key 'netwrok'")
    assert lines[1] == "  2  vantages: {street: {netwrok: internet}}"
    assert lines[2].index("^") == lines[1].index("netwrok")
    assert "and 4901 more" in done.stderr
    assert "portolan: 5001 problems in the input" in done.stderr


def test_json_has_places_of_its_own(program, tmp_path):
    """What JSON can say is read; what it cannot is told with line, column and caret."""
    long = "k" * 2000
    (tmp_path / "estate.json").write_text(
        '{"portolan": 1,\n "title": "\\ud83d\\ude00 \x7f",\n "networks": {"' + long + '": {}}}'
    )
    assert program("check").returncode == 0
    for text, place in (
        ('{"portolan": 1,\n "a": }', "2:7"),
        ('{"portolan": 1,}', "1:16"),
        ('{"portolan": 1} x', "1:17"),
        ('{"title": "\\ud83d"}', "1:11"),
        ("[" * 100, "1:66"),
    ):
        (tmp_path / "estate.json").write_text(text)
        done = program("check")
        assert (done.returncode, done.stderr.split(": ")[0]) == (2, f"estate.json:{place}")


def test_only_the_estates_own_files_are_read(tmp_path):
    """Links inside are followed by hand; what leads out, a pipe or a device is refused, and waiting for nobody."""
    (tmp_path / "outside").write_text("secret")
    folder = tmp_path / "estate"
    (folder / "sub").mkdir(parents=True)
    (folder / "sub" / "file").write_text("held")
    for name, target in (
        ("in", "sub/file"),
        ("up", "sub/../sub/file"),
        ("absolute", str(folder / "sub" / "file")),
        ("out", "../outside"),
        ("far", str(tmp_path / "outside")),
        ("round", "round"),
        ("folder", "sub"),
    ):
        (folder / name).symlink_to(target)
    os.mkfifo(folder / "pipe")
    files = DiskFiles(folder, "estate")
    assert [files.read(name) for name in ("in", "up", "absolute", "folder/file")] == [b"held"] * 4
    for name, reason in (
        ("out", "outside"),
        ("far", "outside"),
        ("round", "circle"),
        ("pipe", "no regular file"),
        ("sub", "folder"),
        ("nope", "no such"),
        ("sub/file/x", "no folder"),
        ("x" * 300, "too long"),
    ):
        with pytest.raises(FileError, match=reason):
            files.read(name)
    deep = folder / "deep"
    for _ in range(40):
        deep.joinpath(*"abc").mkdir(parents=True)
        deep = deep.joinpath(*"abc")
    with pytest.raises(FileError, match="more than 100 deep"):
        files.tree("deep")
    assert files.tree("sub") == ("file",)
    # An exchange after the folder was opened changes nothing of what is reached.
    folder.rename(tmp_path / "moved")
    (tmp_path / "estate").symlink_to("/etc")
    assert files.read("in") == b"held"


def test_sizes_and_pipes(tmp_path):
    """A limit in megabytes that can be set; estates and changes out of a shell's pipe."""

    def run(command, **environment):
        return subprocess.run(["bash", "-c", command.replace("PORTOLAN", f"{sys.executable} -m portolan")], capture_output=True, text=True, cwd=tmp_path,
                              env={**os.environ, **environment}, timeout=60, check=False)  # fmt: skip

    assert "it has more than 1 MB" in run("PORTOLAN check -e <(head -c 3000000 /dev/zero)", PORTOLAN_MOST_MB="1").stderr
    assert run("PORTOLAN check -e /dev/zero").returncode == 2
    assert run(f'PORTOLAN check -e <(cat {FOUND}/glue-empty.yaml) --with <(echo \'{{"title": "x"}}\')').returncode == 0


@pytest.mark.parametrize(("streams", "status", "said"), [
    ("> /dev/full", 2, "cannot write the answer"), (">&-", 2, "standard output is closed"), ("2>&-", 0, ""), ("<&-", 0, ""), ("| head -c 1", 0, ""), ("2>/dev/full", 0, ""),
])  # fmt: skip
def test_streams_that_fail(tmp_path, streams, status, said):
    """Full, closed or broken."""
    for rest in (f"check -e {STORIES / 'first-light'}", "--help", "demo --list"):
        done = subprocess.run(
            ["bash", "-c", f"{sys.executable} -m portolan {rest} {streams}"],
            capture_output=True,
            errors="replace",
            text=True,
            cwd=tmp_path,
            timeout=60,
            check=False,
        )
        assert (done.returncode, "Traceback" in done.stderr) == (status, False), done.stderr
        assert said in done.stderr


def test_interrupts_at_any_moment(tmp_path):
    """Ended at once, without a word of where it was."""
    rng = random.Random(3)
    code = "import os, sys; sys.argv = ['portolan', 'explain', 'https://visit.kestrel-ridge.example/', '-e', sys.argv[1]]; from portolan.cli import entry; entry.signal(2, entry._stopped); print(flush=True); sys.exit(entry.main())"
    for _ in range(12):
        running = subprocess.Popen(
            [sys.executable, "-c", code, str(STORIES / "half-open")],
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            cwd=tmp_path,
        )
        assert running.stdout is not None
        running.stdout.readline()  # the interpreter runs; from here on it is ours
        time.sleep(0.02 + rng.random() * 0.3)
        running.send_signal(signal.SIGINT)
        _, said = running.communicate(timeout=30)
        assert running.returncode in (1, 130)
        assert said in ("", "portolan: stopped\n")


def test_a_copy_is_whole_or_not_there(program, tmp_path):
    """Killed at any moment it leaves all or nothing under its name, and the next one succeeds."""
    rng = random.Random(4)
    expected = sorted(str(path.relative_to(STORIES / "first-light")) for path in (STORIES / "first-light").rglob("*"))
    for number in range(12):
        target = tmp_path / f"copy{number}"
        running = subprocess.Popen(
            [sys.executable, "-m", "portolan", "demo", "first-light", "--copy", str(target)], stdout=subprocess.DEVNULL
        )
        time.sleep(rng.random() * 0.2)
        running.kill()
        running.wait()
        if target.exists():
            assert sorted(str(path.relative_to(target)) for path in target.rglob("*")) == expected
        else:
            assert program("demo", "first-light", "--copy", str(target)).returncode == 0
    for end in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP) * 3:
        folder = tmp_path / f"stopped{rng.random()}"
        folder.mkdir()
        running = subprocess.Popen(
            [sys.executable, "-m", "portolan", "demo", "first-light", "--copy", str(folder / "copy")],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        while running.poll() is None and not os.listdir(folder):
            pass
        running.send_signal(end)
        running.wait()
        assert os.listdir(folder) == ["copy"]
    (tmp_path / "link").symlink_to(tmp_path / "elsewhere")
    assert program("demo", "first-light", "--copy", "link").returncode == 2
    assert not (tmp_path / "elsewhere").exists()


def test_a_transfer_that_never_ends(monkeypatch):
    """Given up after so many octets, and after so long."""
    with socket.create_server(("127.0.0.1", 0)) as server:

        def flood():
            with contextlib.suppress(OSError):
                while True:
                    caller, _ = server.accept()
                    with caller, contextlib.suppress(OSError):
                        while True:
                            caller.sendall(b"\xff\xff" + bytes(65535))

        threading.Thread(target=flood, daemon=True).start()
        monkeypatch.setattr(transfer, "MOST_OCTETS", 60_000)
        with pytest.raises(transfer.TransferError, match="more than 0 MB"):
            transfer.transferred("kestrel-ridge.example", "127.0.0.1", server.getsockname()[1], None)
        monkeypatch.setattr(transfer, "MOST_OCTETS", 10**9)
        monkeypatch.setattr(transfer, "LIMIT", 0.0)
        with pytest.raises(transfer.TransferError, match="did not answer in time"):
            transfer.transferred("kestrel-ridge.example", "127.0.0.1", server.getsockname()[1], None)


def test_a_file_is_never_overwritten(program, tmp_path):
    """Neither the file that is named nor what a link of that name leads to."""
    (tmp_path / "kept").write_text("kept")
    (tmp_path / "link").symlink_to("kept")
    for name in ("kept", "link"):
        done = program("transcribe", "zone", "a.example", "--server", "127.0.0.1", "-o", name)
        assert (done.returncode, json.dumps(done.stderr)) == (
            2,
            json.dumps(f"portolan: '{name}' exists. Name another file, or move that one away.\n"),
        )
    assert (tmp_path / "kept").read_text() == "kept"


@pytest.mark.parametrize(
    "path", sorted((Path(__file__).parents[2] / "fuzz" / "corpus").glob("*.yaml")), ids=lambda path: path.stem
)
def test_what_noise_found_is_answered(program, path):
    """Finds of the fuzzer: never a fault of Portolan itself, by any command."""
    for arguments in (["check"], ["follow", "http://192.0.2.1/"], ["explain", "http://192.0.2.1/"]):
        done = program(*arguments, "-e", path)
        assert done.returncode in (0, 1, 2)
        assert "Traceback" not in done.stderr


@pytest.mark.parametrize(("arguments", "expected"), [
    (["check", "-e", "tab.yaml"], "a tab at 'dome: {}'. Indent with spaces"), (["check", "-e", "forgotten.yaml"], "Add 'portolan: 1'."),
    (["check", "tab.yaml"], "An estate is named with '-e tab.yaml'."), (["check", "-e", "beside"], "Then name it with -e beside/estates.yaml."),
    (["check", "-e", "far.yaml"], "unknown key 'proxy_pass' for a site (at hosts.o.services.web.sites.v). Known here: access, age,"),
    (["check", "-e", "folders.yaml"], "there is no folder 'pages/vist' (at hosts.o.services.web.sites.v). Did you mean 'pages/visit'?"),
    (["check", "-e", "folders.yaml"], "there is no folder 'imagse' (at stores.s.buckets.b). Did you mean 'images'?"),
    (["check", "-e", "folders.yaml"], "cannot read the zone file 'kestral.zone': no such file or folder; did you mean 'kestrel.zone'?"),
    (["check", "-e", "right.yaml", "--with", "new.yaml"], "note: new.yaml:1:9: 'hosts.oo' is new"),
    (["check", "-e", "right.yaml", "--with", "near.yaml"], "'hosts.o.services.wbe' is new; did you mean 'web'?"),
])  # fmt: skip
def test_slips_are_named_with_what_was_meant(program, tmp_path, arguments, expected):
    """A tab, a forgotten first line, a file without -e, an estate of another name, far-off keys, mistyped folders, new names."""
    site = "hosts: {o: {services: {web: {kind: web, listens: [80], sites: {v: {%s}}}}}}\n"
    stores = (
        "stores: {s: {pages_at: p.example, buckets: {b: {copy: imagse}}}}\nzones: {k.example: {file: kestral.zone}}\n"
    )
    for name, text in {
        "tab.yaml": "portolan: 1\nnetworks:\n\tdome: {}\n", "forgotten.yaml": site % "", "beside/estates.yaml": "portolan: 1\n",
        "far.yaml": "portolan: 1\n" + site % "proxy_pass: x", "folders.yaml": "portolan: 1\n" + site % "copy: pages/vist" + stores,
        "pages/visit/index.html": "x", "images/index.html": "x", "kestrel.zone": "", "right.yaml": "portolan: 1\n" + site % "",
        "new.yaml": "hosts: {oo: {}}\n", "near.yaml": "hosts: {o: {services: {wbe: {kind: other, listens: [99]}}}}\n",
    }.items():  # fmt: skip
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).write_text(text)
    assert expected in " ".join(program(*arguments).stderr.split())
