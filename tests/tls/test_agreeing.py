"""Versions, clients' certificates and rejected handshakes, as nginx and Apache httpd have them (held against both)."""

import pytest

from portolan.diagnosis.search import explain
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed, load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World
from tests.conftest import OFFICE, swap

SITE = "            names: [visit.kestrel-ridge.example]\n"
OTHER = "            names: [other.kestrel-ridge.example]\n"
STREET = "address: 198.51.100.77,"
APACHE = ("program: nginx", "program: apache")
VISIT, OTHERS = "https://visit.kestrel-ridge.example/", "https://other.kestrel-ridge.example/"


def site(facts, at=SITE):
    """More facts of a site."""
    return at, f"{at}            {facts}\n"


def visitor(facts):
    """More facts of the visitor."""
    return STREET, f"{STREET} {facts},"


OLD, NEW = visitor('tls_versions: ["1.2"]'), visitor('tls_versions: ["1.3"]')
REQUIRED, ASKED = site("client_certificates: required"), site("client_certificates: asked")
GOOD, BAD = visitor("client_certificate: good"), visitor("client_certificate: bad")

#: Changes, what is asked, what comes at nginx and at Apache httpd, and the code of the cause.
CASES = [
    ([site('tls_versions: ["1.3"]'), OLD], VISIT, "no-common-version", "no-common-version", "tls-version"),
    ([site('tls_versions: ["1.2"]'), OLD], VISIT, "served", "served", None),
    ([site('tls_versions: ["1.3"]', OTHER), OLD], OTHERS, "served", "no-common-version", "tls-version"),
    ([site('tls_versions: ["1.3"]'), OLD], OTHERS, "no-common-version", "served", "tls-version"),
    ([site('tls_versions: ["1.2"]'), site('tls_versions: ["1.3"]', OTHER), NEW], OTHERS, "no-common-version", "served", "tls-version"),
    ([REQUIRED], VISIT, "400", "client-certificate", "client-certificate"),
    ([REQUIRED, GOOD], VISIT, "served", "served", None),
    ([REQUIRED, BAD], VISIT, "400", "client-certificate", "client-certificate"),
    ([ASKED], VISIT, "served", "served", None),
    ([ASKED, BAD], VISIT, "400", "client-certificate", "client-certificate"),
    ([REQUIRED], OTHERS, "served", "served", None),
    ([REQUIRED, GOOD, visitor("says_host: visit.kestrel-ridge.example")], OTHERS, "421", "421", "client-certificate"),
    ([site("rejects_handshake: true")], VISIT, "other", "other", "handshake-rejected"),
    ([site("rejects_handshake: true")], OTHERS, "served", "served", None),
    ([site("rejects_handshake: true"), ("[other.kestrel-ridge.example]", "[others.kestrel-ridge.example]")], OTHERS, "other", "other", "handshake-rejected"),
]  # fmt: skip


@pytest.mark.parametrize("program", ["nginx", "apache"])
@pytest.mark.parametrize("case", range(len(CASES)))
def test_what_is_agreed_on(case, program):
    """What comes, and the cause with a remedy that works."""
    changes, url, nginx, apache, code = CASES[case]
    text = swap(OFFICE, *changes, *([APACHE] if program == "apache" else []))
    held = load(MemoryFiles({"estate.yaml": text}), "estate.yaml")
    world = World(held.estate, held.estate.at)
    found = explain(
        world, url, held.estate.vantages["street"], lambda patch: changed(held, patch_operations(patch)).estate
    )
    expected = nginx if program == "nginx" else apache
    outcome = found.visit.outcome
    got = (
        "served"
        if outcome.kind == "served"
        else str(outcome.status)
        if outcome.kind == "http-error"
        else outcome.detail
    )
    if expected == "421" and program == "apache":
        # It compares the certificates of the two sites only, which are one.
        expected = "served"
    assert got == expected
    if got == "served":
        assert found.causes == ()
        return
    if code is not None and expected != "421":
        assert [each.code for each in found.causes] == [code]
        assert found.after is not None
        assert found.after.outcome.kind == "served"
