"""A name with several addresses: each is asked, and what one of them misses is missed now and then."""

import json
import subprocess
import sys

import pytest

ESTATE = """portolan: 1
at: 2026-03-14T20:00:00Z
hosts:
  one:
    interfaces: {internet: {address: 203.0.113.40}}
    services: {web: {program: nginx, listens: [80, 443 tls], certificate: whole, sites: {visit: {names: [visit.kestrel-ridge.example], files: [index.html]}}}}
  two:
    interfaces: {internet: {address: 203.0.113.41}}
    services: {web: {program: nginx, listens: [80, 443 tls], certificate: other, sites: {visit: {names: [visit.kestrel-ridge.example], files: [index.html]}}}}
authorities: {Between: {issued_by: public}}
certificates:
  whole: {names: [visit.kestrel-ridge.example], issuer: Between}
  other: {names: [visit.kestrel-ridge.example], issuer: Between}
zones: {kestrel-ridge.example: {records: [visit 60 A 203.0.113.40, visit 60 A 203.0.113.41]}}
vantages: {street: {network: internet, address: 198.51.100.77}}
expected: [{url: "https://visit.kestrel-ridge.example/", page: visit/index.html}]
"""
URL = "https://visit.kestrel-ridge.example/"
#: What is otherwise at the second machine, and the code; nothing where clients go on to the first by themselves.
OTHERWISE = {
    "its chain is not sent": ("  other: {names: [visit.kestrel-ridge.example], issuer: Between}", "  other: {names: [visit.kestrel-ridge.example], issuer: Between, sends_chain: false}", "cert-chain-incomplete"),
    "its page is not there": ("certificate: other, sites: {visit: {names: [visit.kestrel-ridge.example], files: [index.html]}}", "certificate: other, sites: {visit: {names: [visit.kestrel-ridge.example], files: [old.html]}}", "content-index-missing"),
    "it is stopped": ("certificate: other,", "state: stopped, certificate: other,", None),
    "all is the same": ("certificate: other,", "certificate: whole,", None),
}  # fmt: skip


def run(*arguments, cwd):
    """The installed program."""
    return subprocess.run(
        [sys.executable, "-m", "portolan", *arguments], cwd=cwd, capture_output=True, text=True, check=False
    )


@pytest.mark.parametrize("what", OTHERWISE)
def test_each_address_is_asked(tmp_path, what):
    """In `follow`, `check` and `explain`, with the address and how many there are."""
    old, new, code = OTHERWISE[what]
    text = ESTATE.replace(old, new, 1) if what != "all is the same" else ESTATE
    assert text != ESTATE or what == "all is the same"
    (tmp_path / "estate.yaml").write_text(text)
    followed = run("follow", URL, "--format", "json", cwd=tmp_path)
    data = json.loads(followed.stdout)
    checked = run("check", cwd=tmp_path)
    assert followed.returncode == (0 if code is None else 1)
    assert [each["address"] for each in data["addresses"]] == ([] if code is None else ["203.0.113.41"])
    assert data["expected"]["met"] is (code is None)
    assert ("now and then (1 of 2 addresses, 203.0.113.41)" in " ".join(checked.stdout.split())) is (code is not None)
    if code is not None:
        assert code in checked.stdout
        assert "Now and then (1 of 2 addresses" in run("follow", URL, cwd=tmp_path).stdout
        explained = json.loads(run("explain", URL, "--format", "json", cwd=tmp_path).stdout)
        assert [each["code"] for each in explained["causes"]] == [code]
        assert explained["after"]["page"] == "visit/index.html"
