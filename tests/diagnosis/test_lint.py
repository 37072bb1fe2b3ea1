"""`check` finds what waits, from the estate alone: each lint by one changed fact, and nothing in a good estate."""

from datetime import UTC, datetime
from pathlib import Path

import pytest

import portolan
from portolan.diagnosis.base import Case
from portolan.diagnosis.lint import lint
from portolan.diagnosis.registry import recognise
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import OFFICE, loaded, swap, world
from tests.diagnosis.test_every_fault import BAD

FOUND = Path(__file__).parent.parent / "found"
REC = "      - visit 3600 A 203.0.113.40\n"


@pytest.mark.parametrize(
    ("changes", "code", "severity", "line"),
    [
        (
            [(REC, REC + "      - visit 60 CNAME other\n")],
            "name-alias-at-apex",
            "error",
            "      - visit 60 CNAME other",
        ),
        (
            [(REC, REC + "      - x.kestrel-ridge.example 60 A 203.0.113.40\n")],
            "name-doubled-origin",
            "warning",
            "      - x.kestrel-ridge.example 60 A 203.0.113.40",
        ),
        (
            [(REC, REC + "      - inner 60 A 10.20.0.15\n")],
            "name-private-address",
            "warning",
            "      - inner 60 A 10.20.0.15",
        ),
        ([(REC, REC + "      - old 60 CNAME gone\n")], "name-alias-dangling", "error", "      - old 60 CNAME gone"),
        ([(REC, "")], "name-missing", "warning", "            names: [visit.kestrel-ridge.example]"),
        (
            [("until: 2026-06-01", "until: 2026-03-01")],
            "cert-expired",
            "error",
            '  visit: {names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-03-01}',
        ),
        (
            [("until: 2026-06-01", "until: 2026-03-30")],
            "cert-expired",
            "warning",
            '  visit: {names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-03-30}',
        ),
        (
            [("from: 2026-01-01", "from: 2026-04-01")],
            "cert-not-yet",
            "error",
            '  visit: {names: ["*.kestrel-ridge.example"], from: 2026-04-01, until: 2026-06-01}',
        ),
        (
            [
                ("[10.20.0.0/24]", '[10.20.0.0/24, "2001:db8:20::/64"]'),
                (
                    "{dome: {address: 10.20.0.15}}",
                    '{dome: {address: [10.20.0.15, "2001:db8:20::15"]}}\n    filter: {inbound: {default: drop, rules: [{allow: tcp}]}}',
                ),
            ],
            "filter-basics-unsaid",
            "warning",
            "    filter: {inbound: {default: drop, rules: [{allow: tcp}]}}",
        ),
        (
            [("tcp: 443, to: 10.20.0.15}", "tcp: 443, to: 10.20.0.99}")],
            "forward-wrong-address",
            "warning",
            "      - {on: line, tcp: 443, to: 10.20.0.99}",
        ),
        (
            [("tcp: 443, to: 10.20.0.15}", "tcp: 443, to: 10.20.0.15, port: 4443}")],
            "forward-wrong-port",
            "warning",
            "      - {on: line, tcp: 443, to: 10.20.0.15, port: 4443}",
        ),
        (
            [("      web:\n", "      old: {kind: other, listens: [443]}\n      web:\n")],
            "service-port-taken",
            "error",
            "      web:",
        ),
        (
            [("    masquerade", "    filter: {inbound: {rules: [{drop: any}, {allow: tcp}]}}\n    masquerade")],
            "filter-order",
            "warning",
            "    filter: {inbound: {rules: [{drop: any}, {allow: tcp}]}}",
        ),
        (
            [("names: [other.kestrel-ridge.example]", "names: [visit.kestrel-ridge.example]")],
            "binding-shadowed",
            "warning",
            "            names: [visit.kestrel-ridge.example]",
        ),
        (
            [('url: "https://visit.kestrel-ridge.example/"', 'url: "https://visit.kestrel-ridge.example:99999/"')],
            "address-typed-wrong",
            "error",
            '  - {url: "https://visit.kestrel-ridge.example:99999/", from: street, page: visit/index.html}',
        ),
    ],
)
def test_each_lint(changes, code, severity, line):
    """The finding names its code and the line that it is about."""
    text = swap(OFFICE, *changes)
    found = lint(world(text))
    assert [(each.code, each.severity) for each in found] == [(code, severity)]
    assert text.split("\n")[found[0].place.span.line - 1] == line


def test_a_good_estate_has_no_finding():
    """No noise."""
    assert lint(world(OFFICE)) == []


def test_names_on_certificates_are_held_against_sites():
    """A site with a secure listener whose name is not covered."""
    found = lint(world(swap(OFFICE, ('["*.kestrel-ridge.example"]', "[visit.kestrel-ridge.example]"))))
    assert [(each.code, each.object) for each in found] == [("cert-name", "hosts.orion.services.web.sites.other.names")]


@pytest.mark.parametrize(
    ("bad", "severity"),
    [
        ("name-registration-lapsed", "error"), ("name-registration-lapsed, on hold", "error"), ("name-glue-wrong", "error"),
        ("name-glue-wrong, in the parent", "error"), ("name-zone-elsewhere", "error"), ("name-zone-elsewhere, not delegated", "warning"),
        ("name-signature-broken", "error"), ("name-signature-broken, ended", "error"), ("name-view-split, lacks it", "warning"),
        ("service-not-enabled, booted", "warning"), ("filter-not-permanent", "warning"), ("service-config-broken", "warning"),
        ("service-not-reloaded", "warning"), ("service-no-privilege", "error"), ("address-duplicate", "error"), ("forward-shadowed", "warning"),
        ("mask-wrong, at the server", "warning"), ("line-shared-address", "warning"),
        ("name-v6-dead", "warning"), ("name-address-changed", "error"), ("name-alias-loop", "error"), ("name-wrong-type", "warning"),
    ],
)  # fmt: skip
def test_checks_find_faults_of_names_before_any_visitor_does(bad, severity):
    """The same fault, cited, without a question."""
    found = lint(world(swap(OFFICE, *BAD[bad][0])))
    assert (bad.partition(",")[0], severity) in {(each.code, each.severity) for each in found}
    assert all(each.place is not None and each.place.span.line for each in found)


@pytest.mark.parametrize(
    ("records", "names", "expected"),
    [
        (['@ 60 CAA 0 issue "other.example"'], "visit.kestrel-ridge.example", True),
        (['@ 60 CAA 0 issue "letters.example; account=7"'], "visit.kestrel-ridge.example", False),
        (['@ 60 CAA 0 issue ";"'], "visit.kestrel-ridge.example", True), (['@ 60 CAA 0 iodef "mailto:a@b.example"'], "visit.kestrel-ridge.example", False),
        (['@ 60 CAA 0 issue ";"', 'visit 60 CAA 0 issue "letters.example"'], "visit.kestrel-ridge.example", False),
        (['@ 60 CAA 0 issue "letters.example"', '@ 60 CAA 0 issuewild ";"'], '"*.kestrel-ridge.example"', True),
        (['@ 60 CAA 0 issue "letters.example"'], '"*.kestrel-ridge.example"', False), ([], "visit.kestrel-ridge.example", False),
    ],
)  # fmt: skip
def test_authorities_that_caa_records_forbid(records, names, expected):
    """RFC 8659 section 3 (the closest name that has any decides) and section 4.3 (wildcards)."""
    text = swap(OFFICE, ('names: ["*.kestrel-ridge.example"], from', f"issuer: Letters, names: [{names}], from"),
                ("zones:\n", "authorities: {Letters: {caa_names: [letters.example]}}\nzones:\n"),
                (REC, REC + "".join(f"      - '{line}'\n" for line in records)))  # fmt: skip
    assert ("name-caa-forbids" in {each.code for each in lint(world(text))}) is expected


@pytest.mark.parametrize(
    ("changes", "code"),
    [([(REC, REC + "      - visit 60 A 203.0.113.99\n")], "name-one-address-dead"), ([(REC, REC + "      - visit 60 A 203.0.113.99\n"), ("203.0.113.99", "203.0.113.2")], "name-one-address-dead")],
)  # fmt: skip
def test_a_visit_that_was_slow_says_why(changes, code):
    """The expectation is met over the next address, and the dead one is named as a warning."""
    ready = world(swap(OFFICE, (REC, changes[0][1].replace(REC, "") + REC), *changes[1:]))
    found = visit(ready, "https://visit.kestrel-ridge.example/", ready.estate.vantages["street"])
    assert found.outcome.page == "visit/index.html"
    assert [(each.code, each.severity) for each in recognise(Case(ready, found, None))] == [(code, "warning")]


def test_what_websites_may_have_wrong_without_any_question():
    """Folders, error pages, names with a final dot, sites that wait, parts of pages."""
    site = "            files: [index.html, tonight.html, img/dome.jpg]\n"
    page = '<img src="img/dome.jpg"><img src="img/moon.jpg"><script src="http://cdn.example/x.js"></script>'
    text = swap(
        OFFICE,
        (site, "            copy: pages\n            parts: check\n            error_pages: {404: /lost.html}\n"),
        ("names: [other.kestrel-ridge.example]", "names: [other.kestrel-ridge.example, spare.kestrel-ridge.example.]"),
        (
            "certificates:\n",
            "          late: {names: [late.example], loaded: false, files: [x]}\n          gone: {names: [gone.example], copy: no-pages}\ncertificates:\n",
        ),
    )
    files = {"pages__index.html": page, "pages__img__dome.jpg": "x"}
    held = loaded(text, **files)
    found = {
        (each.code, each.place.span.short if each.place else "") for each in lint(World(held.estate, held.estate.at))
    }
    codes = {code for code, _ in found}
    assert {
        "page-part-missing",
        "page-part-plain",
        "error-page-broken",
        "binding-name-differs",
        "service-not-reloaded",
        "content-folder-missing",
    } <= codes
    assert ("page-part-missing", "pages/index.html:1") in found


@pytest.mark.parametrize(
    "estate",
    [
        "names/check-nobody-asks.yaml",
        "diagnosis/check-dot-name-missing.yaml",
        "diagnosis/check-name-in-view-only.yaml",
        "way/gateway-outside-range.yaml",
    ],
)
def test_what_is_right_has_no_finding(estate):
    """Servers that hold parent and child, names with all below them, names of views, rented machines' masks."""
    assert [each.code for each in _found(FOUND / estate)] == []


def test_a_resolver_that_nobody_has_beside_one_that_is_there(tmp_path):
    """One slip away from a described one it is doubted; further away it is somebody's."""
    text = (
        "portolan: 1\nhosts:\n  a: {interfaces: {up: {network: internet, address: 192.0.2.53}}, services: {dns: {kind: resolver}}}\n"
        "  b: {interfaces: {up: {network: internet, address: 198.51.100.60}}, services: {dns: {kind: resolver, forwards_to: [FORWARDER]}}}\n"
    )
    for forwarder, codes in (("192.0.2.54", ["name-resolver-mistyped"]), ("203.0.113.200", [])):
        (tmp_path / "estate.yaml").write_text(text.replace("FORWARDER", forwarder))
        assert [each.code for each in _found(tmp_path)] == codes


def _found(path):
    estate = portolan.load(path).estate
    return [*lint(World(estate, estate.at or datetime(2026, 3, 1, tzinfo=UTC)))]
