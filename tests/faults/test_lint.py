"""`check` finds what waits, from the estate alone: each lint by one changed fact, and nothing in a good estate."""

import pytest

from portolan.faults.lint import lint
from tests.conftest import OFFICE, swap, world

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
