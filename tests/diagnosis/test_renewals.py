"""The next renewal, rehearsed: what stops an authority, by each way to prove a name."""

import pytest

from portolan.diagnosis.lint import lint
from portolan.diagnosis.renewals import renewals
from portolan.diagnosis.search import explain
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed, load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World
from tests.conftest import OFFICE, swap

CERTIFICATE = 'names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-06-01'
ONE = "names: [visit.kestrel-ridge.example], from: 2026-01-01, until: 2026-06-01"
F80 = "      - {on: line, tcp: 80, to: 10.20.0.15}\n"
F443 = "      - {on: line, tcp: 443, to: 10.20.0.15}\n"
RECORD = "      - visit 3600 A 203.0.113.40\n"
FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"
MASQ = "    masquerade: [line]\n"


def by(way, more=""):
    """The certificate with a way to renew it."""
    return CERTIFICATE, f"{ONE}, renews: {{by: {way}{more}}}"


def world_of(*changes):
    """The office with changes."""
    estate = load(MemoryFiles({"estate.yaml": swap(OFFICE, *changes)}), "estate.yaml").estate
    return World(estate, estate.at)


#: Changes of the office, and a part of what stops the renewal; nothing where it succeeds.
WORLDS = {
    "http-01": ([by("http-01")], None),
    "dns-01": ([by("dns-01")], None),
    "port 80 is closed": ([by("http-01"), (F80, "")], "port 80"),
    "port 80 is closed, and the zone is used": ([by("dns-01"), (F80, "")], None),
    "the filter takes the office only": (
        [by("http-01"), (MASQ, f"{MASQ}    filter: {{forward: {{default: drop, rules: [{{allow: tcp, ports: [443]}}]}}}}\n")],
        "drop",
    ),
    "everything is sent to https": (
        [by("http-01"), (FILES, f"{FILES}            redirects: [{{when: {{scheme: http}}, to: 'https://visit.kestrel-ridge.example{{path}}'}}]\n")],
        None,
    ),
    "sent to another port": (
        [by("http-01"), (FILES, f"{FILES}            redirects: [{{to: 'https://visit.kestrel-ridge.example:8443{{path}}'}}]\n")],
        "follows to 80 and 443 only",
    ),
    "only some are let in": (
        [by("http-01"), (FILES, f"{FILES}            access: {{from: [10.20.0.0/24]}}\n")],
        "does not let 198.18.99.78 in",
    ),
    "a program behind answers": (
        [by("http-01"), (FILES, "            upstream: 'http://127.0.0.1:8080'\n")],
        "what comes is not the file",
    ),
    "a folder that nobody looks in": (
        [by("http-01", ", folder: /var/www/challenges"), (FILES, f"{FILES}            folder: /var/www/visit\n")],
        "the file is put into /var/www/challenges",
    ),
    "the folder that is looked in": (
        [by("http-01", ", folder: /var/www/visit"), (FILES, f"{FILES}            folder: /var/www/visit\n")],
        None,
    ),
    "asked for by another machine": (
        [by("http-01", ", on: gateway")],
        "and put on gateway",
    ),
    "the second address leads nowhere": (
        [by("http-01"), (RECORD, f"{RECORD}      - visit 3600 A 203.0.113.99\n")],
        "203.0.113.99, 1 of 2 addresses",
    ),
    "the name has no address": ([by("http-01"), (RECORD, "")], "visit.kestrel-ridge.example"),
    "a program that cannot": ([by("tls-alpn-01")], "acme-tls/1"),
    "a program that can": ([by("tls-alpn-01"), ("program: nginx", "program: apache")], None),
    "port 443 is closed": ([by("tls-alpn-01"), ("program: nginx", "program: apache"), (F443, "")], "port 443"),
    "a star and files": ([(CERTIFICATE, f"{CERTIFICATE}, renews: {{by: http-01}}")], "by its zone only"),
    "a star and its zone": ([(CERTIFICATE, f"{CERTIFICATE}, renews: {{by: dns-01}}")], None),
    "an authority of the house": (
        [(CERTIFICATE, f"{ONE}, issuer: House"), ("certificates:", "authorities: {House: {public: false}}\ncertificates:")],
        "no renewal",
    ),
}  # fmt: skip


@pytest.mark.parametrize("what", WORLDS)
def test_what_stops_a_renewal(what):
    """By the way that is stated."""
    changes, said = WORLDS[what]
    found = renewals(world_of(*changes))
    if said == "no renewal":
        assert found == ()
        return
    assert len(found) == 1
    assert [bool(each.why) for each in found[0].challenges] == [said is not None]
    assert bool(found[0].blocked) == (said is not None)
    if said is not None:
        assert said in found[0].blocked[0].words


#: CAA records at or above the name, by which way, for which account, and whether the authority (letters.example) may issue
#: (RFC 8659 section 4, RFC 8657 sections 3 to 5).
CAA = [
    ("", "http-01", "", True),
    ('@ CAA 0 issue "letters.example"', "http-01", "", True),
    ('@ CAA 0 issue "LETTERS.example"', "http-01", "", True),
    ('@ CAA 0 issue "ca1.example.net"', "http-01", "", False),
    ('@ CAA 0 issue ";"', "dns-01", "", False),
    ('@ CAA 0 issue "malformed record %%%%%"', "dns-01", "", False),
    ('visit CAA 0 issue ";"|@ CAA 0 issue "letters.example"', "http-01", "", False),
    ('visit CAA 0 issue "letters.example"|@ CAA 0 issue ";"', "http-01", "", True),
    ('@ CAA 0 issuewild "ca1.example.net"', "http-01", "", True),
    ('@ CAA 128 tbs "Unknown"', "http-01", "", False),
    ('@ CAA 0 tbs "Unknown"', "http-01", "", True),
    ('@ CAA 0 iodef "mailto:keeper@kestrel-ridge.example"', "http-01", "", True),
    ('@ CAA 0 issue "ca1.example.net"|@ CAA 0 issue "letters.example"', "http-01", "", True),
    ('@ CAA 0 issue "letters.example; validationmethods=dns-01"', "http-01", "", False),
    ('@ CAA 0 issue "letters.example; validationmethods=dns-01"', "dns-01", "", True),
    ('@ CAA 0 issue "letters.example; validationmethods=http-01,dns-01"', "http-01", "", True),
    (
        '@ CAA 0 issue "letters.example; accounturi=https://letters.example/7"',
        "http-01",
        "https://letters.example/7",
        True,
    ),
    (
        '@ CAA 0 issue "letters.example; accounturi=https://letters.example/7"',
        "http-01",
        "https://letters.example/8",
        False,
    ),
    ('@ CAA 0 issue "letters.example; accounturi=https://letters.example/7"', "http-01", "", True),
    (
        '@ CAA 0 issue "letters.example; validationmethods=dns-01"|@ CAA 0 issue "letters.example; validationmethods=http-01"',
        "http-01",
        "",
        True,
    ),
]


@pytest.mark.parametrize(("records", "way", "account", "may"), CAA)
def test_who_may_issue(records, way, account, may):
    """As the two standards have it."""
    lines = "".join(f"      - '{each.replace('CAA', '3600 CAA')}'\n" for each in records.split("|") if each)
    more = f", account: '{account}'" if account else ""
    world = world_of(
        (CERTIFICATE, f"{ONE}, issuer: Letters, renews: {{by: {way}{more}}}"),
        ("certificates:", "authorities: {Letters: {caa_names: [letters.example]}}\ncertificates:"),
        (RECORD, RECORD + lines),
    )
    (found,) = renewals(world)
    assert bool(found.blocked) != may
    assert any(each.code == "name-caa-forbids" for each in lint(world)) != may


def test_check_warns_of_a_way_that_is_stated_or_where_there_is_none():
    """Of several ways the one that works is enough, where nobody says which is used."""
    said = [each.text for each in lint(world_of((CERTIFICATE, ONE), (F80, ""))) if each.code == "renewal-blocked"]
    assert said == []
    said = [each.text for each in lint(world_of(by("http-01"), (F80, ""))) if each.code == "renewal-blocked"]
    assert len(said) == 1
    assert "is tried from 2026-05-11" in said[0]
    assert "ends on 2026-06-01" in said[0]


def test_a_certificate_that_was_asked_for_and_is_not_there():
    """The service does not start; what keeps the authority from giving it is named."""
    held = load(
        MemoryFiles(
            {"estate.yaml": swap(OFFICE, (CERTIFICATE, f"{ONE}, requested: true, renews: {{by: http-01}}"), (F80, ""))}
        ),
        "estate.yaml",
    )
    world = World(held.estate, held.estate.at)
    found = explain(
        world,
        "https://visit.kestrel-ridge.example/",
        held.estate.vantages["street"],
        lambda patch: changed(held, patch_operations(patch)).estate,
    )
    assert found.visit.outcome.detail == "refused"
    assert found.causes[0].code == "renewal-blocked"
    assert "http-01 fails for visit.kestrel-ridge.example" in found.causes[0].text


def test_why_a_certificate_was_not_renewed_is_said_with_its_remedy():
    """Renewing it mends the visit; its own way to do so fails."""
    held = load(
        MemoryFiles(
            {
                "estate.yaml": swap(
                    OFFICE, (CERTIFICATE, f"{ONE.replace('06-01', '03-01')}, renews: {{by: http-01}}"), (F80, "")
                )
            }
        ),
        "estate.yaml",
    )
    found = explain(
        World(held.estate, held.estate.at),
        "https://visit.kestrel-ridge.example/",
        held.estate.vantages["street"],
        lambda patch: changed(held, patch_operations(patch)).estate,
    )
    assert [each.code for each in found.causes] == ["cert-expired"]
    assert "its own way (http-01) fails" in found.remedies[0].text
    assert "port 80" in found.remedies[0].text
