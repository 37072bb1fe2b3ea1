"""`transcribe` against a real name server on the loopback address."""

import shutil
import socket
import subprocess
import time

import pytest

from tests.conftest import loaded

SECRET = "c2VjcmV0c2VjcmV0c2VjcmV0c2VjcmV0"
ZONE = """$ORIGIN kestrel-ridge.example.
@ 3600 SOA ns hostmaster 1 60 60 60 60
@ 3600 NS ns
ns A 192.0.2.53
visit A 203.0.113.40
*.w CNAME visit
t TXT "a b" "c;d"
u TYPE65400 \\# 2 abcd
s CAA 0 issue "letters.example"
h HTTPS 1 . alpn=h2
"""


@pytest.fixture(scope="module")
def server(tmp_path_factory):
    """Knot DNS with a zone that only a key may fetch; its port, and the folder with the keys."""
    if shutil.which("knotd", path="/usr/sbin:/usr/bin") is None:
        pytest.skip("knotd is not here")
    folder = tmp_path_factory.mktemp("knot")
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]
    (folder / "z.zone").write_text(ZONE)
    (folder / "good").write_text(f"k1 hmac-sha256 {SECRET}\n")
    (folder / "bad").write_text("k1 hmac-sha256 AAAA\n")
    (folder / "odd").write_text("k1 secret!\n")
    (folder / "k.conf").write_text(f"""
server:
    listen: 127.0.0.1@{port}
    rundir: "{folder}"
database:
    storage: "{folder}/db"
key:
  - id: k1
    algorithm: hmac-sha256
    secret: {SECRET}
acl:
  - id: own
    action: transfer
    key: k1
zone:
  - domain: kestrel-ridge.example
    storage: "{folder}"
    file: z.zone
    acl: own
""")
    process = subprocess.Popen(
        ["/usr/sbin/knotd", "-c", str(folder / "k.conf")], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )
    for _ in range(200):
        with socket.socket() as probe:
            if probe.connect_ex(("127.0.0.1", port)) == 0:
                break
        time.sleep(0.05)
    yield str(port), folder
    process.terminate()
    process.wait(10)


def test_a_zone_is_fetched_and_can_be_read(program, tmp_path, server):
    """What comes over the wire is what the file said, and the estate's reader takes it."""
    port, keys = server
    call = (
        "transcribe",
        "zone",
        "kestrel-ridge.example",
        "--server",
        "127.0.0.1",
        "--port",
        port,
        "--key",
        str(keys / "good"),
    )
    done = program(*call, "-o", "z.zone")
    assert done.returncode == 0
    assert done.stderr == ""
    fetched = (tmp_path / "z.zone").read_text()
    assert SECRET not in done.stdout + fetched
    text = "portolan: 1\nzones: {kestrel-ridge.example: {file: zones/z}}\n"
    there = loaded(text, zones__z=fetched).estate.zones["kestrel-ridge.example"].data.nodes
    here = loaded(text, zones__z=ZONE).estate.zones["kestrel-ridge.example"].data.nodes
    assert {(name, kind): {str(record.data) for record in records} for name, types in there.items() for kind, records in types.items()} == {
        (name, kind): {str(record.data) for record in records} for name, types in here.items() for kind, records in types.items()
    }  # fmt: skip
    again = program(*call, "-o", "z.zone")
    assert again.returncode == 2
    assert "exists" in again.stderr
    assert program(*call).stdout == fetched


@pytest.mark.parametrize(
    ("arguments", "status", "expected"),
    [
        ([], 1, "answered NOTAUTH for kestrel-ridge.example. It does not hold that zone, or does not hand it"),
        (["--key", "bad"], 1, "does not take the key"), (["--key", "odd"], 2, "expected one line: NAME ALGORITHM SECRET"),
        (["--key", "none"], 2, "No such file"), (["--key", "good", "-o", "nowhere/z"], 2, "cannot write 'nowhere/z'"),
        (["--port", "1"], 1, "refused the connection"), (["--port", "70000"], 2, "expected 1 to 65535"),
        (["--server", "ns1"], 2, "expected an address, found 'ns1'"),
    ],
)  # fmt: skip
def test_refusals_are_clear(program, server, arguments, status, expected):
    """One line, and nothing is written."""
    port, keys = server
    given = [str(keys / each) if at and arguments[at - 1] == "--key" else each for at, each in enumerate(arguments)]
    done = program("transcribe", "zone", "kestrel-ridge.example", "--server", "127.0.0.1", "--port", port, *given)
    assert (done.returncode, done.stdout) == (status, "")
    assert expected in done.stderr
    assert done.stderr.count("\n") == 1
