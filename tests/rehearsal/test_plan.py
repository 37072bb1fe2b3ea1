"""Rehearsals: what the drivers plan, by itself; and one small world on real systems where this machine can."""

import contextlib
import json
import subprocess
import sys
import time
from pathlib import Path

import pytest

from portolan.journey.visit import visit
from portolan.rehearsal.clients import CLIENTS
from portolan.rehearsal.run import RehearsalError, Staging, agree, confinement, exclusion, missing_programs, plan_of
from portolan.rehearsal.secrets import hiding
from tests.conftest import OFFICE, swap, world

URL = "https://visit.kestrel-ridge.example/"


def observed(result):
    """What curl's result says."""
    return CLIENTS["curl"].observed(result)[0]


def rehearsed(program, *arguments):
    """What a rehearsal says. On a loaded machine real clients may give up: what differs is asked again."""
    done = program("rehearse", *arguments)
    for _ in range(3):
        if done.returncode == 0:
            break
        done = program("rehearse", *arguments)
    return done


def able(client: str = "curl") -> bool:
    """Whether this machine can rehearse with a client."""
    try:
        confinement()
    except RehearsalError:
        return False
    return not missing_programs(client)


def planned(text: str = OFFICE, url: str = URL):
    """The plan of a world with one question."""
    ready = world(text)
    return plan_of(Staging(ready.estate, ready.now), [(url, ready.estate.vantages["street"])])


def test_a_plan_is_plain_data_inside_its_own_folder():
    """Nothing of the machine's own is named as a place to write to."""
    plan = json.loads(json.dumps(planned()))
    assert all(not name.startswith("/") and ".." not in name for name in [*plan["files"], *plan["folders"]])
    assert {daemon["kind"] for daemon in plan["daemons"]} == {"program", "nginx"}
    assert all(daemon["command"][0].startswith("/usr/sbin/") for daemon in plan["daemons"])


@pytest.mark.parametrize(
    ("changes", "rule"),
    [
        ([], "iifname if0 ip daddr { 203.0.113.40 } tcp dport 443 counter dnat to 10.20.0.15"),
        ([], "oifname if0 counter masquerade"),
        ([("tcp: 443, to: 10.20.0.15}", "tcp: 443, to: 10.20.0.15, enabled: false}")], "tcp dport 80 counter dnat"),
        ([("    masquerade", "    hairpin: full\n    masquerade")], "ct mark and 0xffff == 2 oifname if1 ct status dnat counter masquerade"),
        ([("    masquerade", "    filter: {forward: {default: drop, rules: [{allow: tcp, ports: [80, 443], from: 10.0.0.0/8, in: dome, forwarded: false}]}}\n    masquerade")],
         "meta l4proto tcp iifname { if1 } tcp dport { 80, 443 } ct status & 0x20 == 0 meta nfproto ipv4 ip saddr { 10.0.0.0/8 } counter accept"),
        ([("    masquerade", "    filter: {inbound: {rules: [{reject: tcp, answer: tcp-reset}]}}\n    masquerade")], "meta l4proto tcp counter reject with tcp reset"),
    ],
)  # fmt: skip
def test_rules_of_the_router(changes, rule):
    """Facts of the estate as nf_tables rules."""
    plan = planned(swap(OFFICE, *changes))
    assert any(rule in text for name, text in plan["files"].items() if name.endswith(".nft"))


def test_certificates_are_twins_at_the_estates_moment():
    """Same names, our own key; valid now when it is valid at the estate's moment."""
    from cryptography import x509

    plan = planned()
    pem = next(text for name, text in plan["files"].items() if name.endswith("c0.pem"))
    twin = x509.load_pem_x509_certificate(pem.encode())
    names = twin.extensions.get_extension_for_class(x509.SubjectAlternativeName).value.get_values_for_type(x509.DNSName)
    assert names == ["*.kestrel-ridge.example"]
    assert twin.not_valid_before_utc.timestamp() < time.time() < twin.not_valid_after_utc.timestamp()


@pytest.mark.parametrize(
    ("exit_code", "status", "words", "expected"),
    [
        (0, 200, "", ("served", None)), (0, 404, "", ("http-error", None)), (6, 0, "", ("name-error", None)),
        (7, 0, "* connect to 192.0.2.1 port 80 failed: Connection refused", ("connect-error", "refused")),
        (7, 0, "* Immediate connect fail for 192.0.2.1: Network is unreachable", ("connect-error", "unreachable")),
        (7, 0, "* connect to 192.0.2.1 port 80 failed: No route to host", ("connect-error", "unreachable")),
        (28, 0, "", ("connect-error", "timed-out")), (35, 0, "wrong version number", ("tls-error", "not-tls")),
        (60, 0, "certificate has expired", ("tls-error", "expired")), (60, 0, "self-signed certificate", ("tls-error", "self-signed")),
        (60, 0, "no alternative certificate subject name matches target host name", ("tls-error", "name-mismatch")),
        (47, 301, "", ("redirect-error", "too-many")), (52, 0, "", ("protocol-error", "empty")),
    ],
)  # fmt: skip
def test_the_clients_words(exit_code, status, words, expected):
    """What curl says, in our words."""
    facts = {"exitcode": exit_code, "http_code": status, "errormsg": None}
    seen = observed({"out": f"visit/index.html\n{URL}\n{json.dumps(facts)}", "err": words})
    assert (seen.kind, seen.detail) == expected


@pytest.mark.parametrize(
    ("status", "error", "expected"),
    [
        (200, None, ("served", ())), (404, None, ("http-error", ())), (204, "net::ERR_ABORTED", ("served", ())),
        (403, "net::ERR_HTTP_RESPONSE_CODE_FAILURE", ("http-error", ())), (None, "net::ERR_ABORTED", ("redirect-error", ("bad-target",))),
        (None, "net::ERR_NAME_NOT_RESOLVED", ("name-error", ())), (None, "net::ERR_CONNECTION_REFUSED", ("connect-error", ("refused",))),
        (None, "net::ERR_CERT_DATE_INVALID", ("tls-error", ("expired", "not-yet-valid"))), (301, "net::ERR_TOO_MANY_REDIRECTS", ("redirect-error", ("too-many",))),
        (None, "no answer in time", ("connect-error", ("timed-out", "stalled"))), (None, "net::ERR_OF_A_NEW_KIND", ("client-failed", ())),
    ],
)  # fmt: skip
def test_the_browsers_words(status, error, expected):
    """What Chromium says, in our words."""
    out = json.dumps([{"url": URL, "status": status, "page": "x", "error": error}])
    seen = CLIENTS["chromium"].observed({"out": out, "err": ""})[0]
    assert (seen.kind, seen.details) == expected


def test_a_browser_decides_some_things_by_itself():
    """What it never asks anybody is not held against the prediction."""
    ready = world(OFFICE)
    street = ready.estate.vantages["street"]
    for url, told in (("http://203.0.113.40:25/", "port 25"), ("http://x.localhost/", "localhost"), (URL, None)):
        found = exclusion(ready.estate, visit(ready, url, street), "chromium")
        assert told in found if told else found is None


@pytest.mark.skipif(not able("chromium"), reason="needs namespaces, chromium and libnss3-tools")
def test_a_browser_rehearses(program, tmp_path):
    """The same estate asked by a browser."""
    (tmp_path / "estate.yaml").write_text(OFFICE)
    done = rehearsed(program, "--client", "chromium")
    assert (done.returncode, done.stderr) == (0, "")
    assert "all 1 agree" in done.stdout


@pytest.mark.skipif(not able(), reason="needs namespaces and the servers' packages; .ci/run installs them")
def test_either_web_server_may_agree(program, tmp_path):
    """A service that names no program is tried as both; what the other one does is told."""
    (tmp_path / "estate.yaml").write_text(
        swap(OFFICE, ("        program: nginx\n", ""), ("files: [index.html", "files: [start.html"))
    )
    done = rehearsed(program, URL, "--from", "street")
    assert done.returncode == 0, done.stdout
    text = (tmp_path / "estate.yaml").read_text()
    (tmp_path / "estate.yaml").write_text(
        text.replace("'443 tls'", "'[::]:443 tls'").replace("443 tls", "'[::]:443 tls'")
    )
    assert "otherwise" in rehearsed(program, URL, "--from", "street").stdout


@pytest.mark.skipif(not able(), reason="needs namespaces and the servers' packages; .ci/run installs them")
def test_nothing_compared_is_no_agreement(program, tmp_path):
    """A slow program excludes the questions that meet it, and those only; where all are excluded the status says so."""
    text = (Path(__file__).parent.parent / "found" / "danger" / "rehearse-excludes-all.yaml").read_text()
    (tmp_path / "estate.yaml").write_text(text)
    done = rehearsed(program)
    assert (done.returncode, "all 1 agree" in done.stdout) == (0, True)
    (tmp_path / "estate.yaml").write_text(swap(text, ("http://10.1.0.15/", "http://10.1.0.77:8080/")))
    done = rehearsed(program)
    assert done.returncode == 1
    assert "compared 0 of 1: nothing was held against the real systems" in " ".join(done.stdout.split())
    data = json.loads(rehearsed(program, "--format", "json").stdout)
    assert (data["compared"], data["questions"][0]["agree"], sum(data["excluded"].values())) == (0, None, 1)


SCRIPTS = """\
portolan: 1
hosts:
  orion:
    interfaces: {line: {network: internet, address: 203.0.113.40}}
    services:
      runner: {kind: scripts, listens: ["127.0.0.1:9000"], socket: /run/p.sock}
      web: {program: nginx, listens: [80], sites: {pages: {default: true, files: [a.php, x.html], sections: [{pattern: "[.]php$", scripts_at: AT}]}}}
  vela:
    interfaces: {line: {network: internet, address: 203.0.113.41}}
    services: {web: {program: apache, listens: [80], sites: {other: {default: true, files: [index.html]}}}}
vantages: {street: {network: internet, address: 198.51.100.7}}
expected: [{url: "http://203.0.113.40/a.php"}, {url: "http://203.0.113.40/none.php", status: 404}, {url: "http://203.0.113.41/"}]
"""


@pytest.mark.skipif(not able(), reason="needs namespaces and the servers' packages; .ci/run installs them")
@pytest.mark.parametrize(
    ("at", "more", "compared"),
    [("127.0.0.1:9000", "", 3), ("/run/p.sock", "", 3), ("/run/p.sock", ", socket_rights: 0660 www-data:www-data", 1), ("/run/q.sock", "", 3)],
)  # fmt: skip
def test_scripts_are_run(program, tmp_path, at, more, compared):
    """At an address and at a socket, also where nobody listens; a runner that is not staged leaves the rest as it is."""
    text = SCRIPTS.replace("AT", at).replace("socket: /run/p.sock", f"socket: /run/p.sock{more}")
    (tmp_path / "estate.yaml").write_text(text)
    data = json.loads(rehearsed(program, "--format", "json").stdout)
    assert [each["agree"] for each in data["questions"]].count(True) == data["compared"] == compared


@pytest.mark.skipif(not able(), reason="needs namespaces and the servers' packages; .ci/run installs them")
def test_what_is_not_staged_leaves_out_what_meets_it(program, tmp_path):
    """A socket at which nobody is described: the other machine is asked all the same."""
    text = SCRIPTS.replace("AT", "/run/p.sock").replace('      runner: {kind: scripts, listens: ["127.0.0.1:9000"], socket: /run/p.sock}\n', "")  # fmt: skip
    (tmp_path / "estate.yaml").write_text(text)
    data = json.loads(rehearsed(program, "--format", "json").stdout)
    assert (data["compared"], [each["agree"] for each in data["questions"]]) == (1, [None, None, True])
    assert "is not described cannot be staged" in next(iter(data["excluded"]))


def test_a_difference_is_a_disagreement():
    """The comparison can fail."""
    ready = world(OFFICE)
    predicted = visit(ready, URL, ready.estate.vantages["street"])
    facts = {"exitcode": 0, "http_code": 200, "errormsg": None}
    assert agree(predicted, observed({"out": f"visit/index.html\n{URL}\n{json.dumps(facts)}", "err": ""}))
    assert not agree(predicted, observed({"out": f"other/index.html\n{URL}\n{json.dumps(facts)}", "err": ""}))
    assert not agree(predicted, observed({"out": f"x\n{URL}\n{json.dumps({**facts, 'http_code': 404})}", "err": ""}))
    assert not agree(predicted, observed({"out": f"x\n{URL}\n{json.dumps({**facts, 'exitcode': 7})}", "err": ""}))


@pytest.mark.skipif(not able(), reason="needs namespaces and the servers' packages; .ci/run installs them")
def test_the_program_rehearses(program, tmp_path):
    """A small estate on real systems: all agree, as text and as JSON; nothing is left behind, even when it is killed."""
    (tmp_path / "estate.yaml").write_text(OFFICE)
    done = rehearsed(program)
    assert (done.returncode, done.stderr) == (0, "")
    assert "all 1 agree" in done.stdout
    data = json.loads(rehearsed(program, URL, "--format", "json").stdout)
    assert (data["disagreements"], len(data["questions"]), data["troubles"]) == (0, 2, [])
    running = subprocess.Popen(
        [sys.executable, "-m", "portolan", "rehearse", "http://192.0.2.1/"], cwd=tmp_path, stdout=subprocess.DEVNULL
    )
    try:
        limit = time.monotonic() + 20
        while len(below := _below(running.pid)) < 2 and time.monotonic() < limit:
            time.sleep(0.02)
        assert len(below) > 1
        assert "nothing was left over" in program("rehearse", "--sweep").stdout
        assert running.poll() is None
        below = _below(running.pid)
    finally:
        running.kill()
        running.wait()
    limit = time.monotonic() + 5
    while below & _all().keys() and time.monotonic() < limit:
        time.sleep(0.02)
    assert below & _all().keys() == set()


def _all() -> dict[tuple[int, str], int]:
    """The parent of every process, which its number and start tell from others."""
    found = {}
    for path in Path("/proc").glob("[0-9]*/stat"):
        with contextlib.suppress(OSError):
            fields = path.read_text("ascii", "replace").rpartition(")")[2].split()
            if fields[0] != "Z":
                found[int(path.parent.name), fields[19]] = int(fields[1])
    return found


def _below(pid: int) -> set[tuple[int, str]]:
    """The processes that a process started, and those that they did."""
    every, found, numbers = _all(), set(), {pid}
    for _ in range(30):
        found |= {each for each, parent in every.items() if parent in numbers}
        numbers |= {number for number, _ in found}
    return found


def test_what_is_missing_is_named(program, tmp_path):
    """No programs: one clear line, with the packages; a bad URL and an estate without expectations likewise."""
    (tmp_path / "estate.yaml").write_text(OFFICE)
    code = ("import portolan.rehearsal.run as r; r.missing_programs = lambda client: [('knotd', 'knot')]; "
            "import sys; from portolan.cli.main import main; sys.exit(main(['rehearse']))")  # fmt: skip
    done = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 2
    assert "knotd; apt-get install knot" in done.stderr
    (tmp_path / "estate.yaml").write_text(OFFICE[: OFFICE.index("expected:")])
    assert "expects nothing that could be asked" in program("rehearse").stderr or not able()


def test_secrets_are_taken_out_of_words():
    """Header values by which somebody is let in, in the words of clients and servers: behind their field, and by themselves."""
    text = swap(
        OFFICE, ("files: [index.html, tonight.html, img/dome.jpg]", "access: {headers: {X-Seal: SEKRET123, X-Day: ab}}")
    )
    hidden = hiding(world(text).estate)
    said = "> x-seal: SEKRET123\r\n> X-Day: ab\r\n> Host: absent"
    assert hidden(said) == "> x-seal: (not shown)\r\n> X-Day: (not shown)\r\n> Host: absent"
    assert hidden({"web": {"running": True, "words": ["no SEKRET123 here"]}}) == {
        "web": {"running": True, "words": ["no (not shown) here"]}
    }
    assert hiding(world(OFFICE).estate)(said) == said
