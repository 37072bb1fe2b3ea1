"""Names: what each visitor's device makes of them."""

import pytest

from tests.conftest import OFFICE, ask, got, swap

ZONE = """\
$ORIGIN kestrel-ridge.example.
$TTL 1h
@ IN SOA ns1 keeper ( 1 2h 15m
  2w 5m ) ; minimum
  IN NS ns1
ns1 A 192.0.2.53
Visit A 203.0.113.40
alias CNAME visit
far CNAME www.elsewhere.example.
one CNAME two
two CNAME one
text TXT "only; text" "and more"
doubled.kestrel-ridge.example A 203.0.113.40
*.wild A 203.0.113.40
exists.wild TXT "x"
deep.empty.wild A 203.0.113.40
sub NS ns1.sub
ns1.sub A 192.0.2.54
odd TYPE65280 \\# 2 abcd
  3600 IN HINFO "A" "B"
"""
BASE = swap(
    OFFICE,
    ("    records:\n      - visit 3600 A 203.0.113.40\n      - other 3600 A 203.0.113.40\n", "    file: ridge.zone\n"),
)


def resolved(name: str, zone: str = ZONE, text: str = BASE, vantage: str = "street", **files: str):
    """The resolution of a name."""
    return ask(text, f"http://{name}/", vantage, **{"ridge.zone": zone, **files}).exchanges[0].resolution


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        ("visit.kestrel-ridge.example", "203.0.113.40"),
        ("VISIT.Kestrel-Ridge.example.", "203.0.113.40"),
        ("alias.kestrel-ridge.example", "203.0.113.40"),
        ("far.kestrel-ridge.example", "no-such-name"),
        ("one.kestrel-ridge.example", "resolver-failure"),
        ("text.kestrel-ridge.example", "no-address"),
        ("odd.kestrel-ridge.example", "no-address"),
        ("doubled.kestrel-ridge.example", "no-such-name"),
        ("doubled.kestrel-ridge.example.kestrel-ridge.example", "203.0.113.40"),
        ("any.wild.kestrel-ridge.example", "203.0.113.40"),
        ("any.thing.wild.kestrel-ridge.example", "203.0.113.40"),
        ("wild.kestrel-ridge.example", "no-address"),
        ("exists.wild.kestrel-ridge.example", "no-address"),
        ("under.exists.wild.kestrel-ridge.example", "no-such-name"),
        ("empty.wild.kestrel-ridge.example", "no-address"),
        ("other.empty.wild.kestrel-ridge.example", "no-such-name"),
        ("x.sub.kestrel-ridge.example", "no-such-name"),
        ("nothing.kestrel-ridge.example", "no-such-name"),
        ("elsewhere.example", "no-such-name"),
        ("localhost", "::1"),
        ("a.localhost", "::1"),
        ("192.0.2.1", "192.0.2.1"),
        ("[2001:db8::1]", "2001:db8::1"),
        ("0xC0.2.1", "192.2.0.1"),
        ("3221225985", "192.0.2.1"),
    ],
)
def test_each_answer(name, expected):
    """Addresses, or why there are none (RFC 1034, 2308, 4592, 6761)."""
    found = resolved(name)
    assert (found.detail or str(found.addresses[0])) == expected


def test_international_names():
    """A typed name meets its ASCII form (RFC 5891)."""
    zone = ZONE + "xn--kppe-0qa A 203.0.113.40\n"
    assert str(
        resolved("k\u00f6ppe.kestrel-ridge.example", zone.replace("xn--kppe-0qa", "xn--kppe-5qa")).detail or "found"
    )
    assert resolved("xn--kppe-0qa.kestrel-ridge.example", zone).detail is None


def test_the_hosts_file_comes_first():
    """A line left behind wins over every resolver."""
    text = swap(
        BASE,
        (
            "address: 198.51.100.77,",
            "address: 198.51.100.77, hosts_file: {lines: ['192.0.2.9 visit.kestrel-ridge.example old # x']},",
        ),
    )
    assert [str(each) for each in resolved("visit.kestrel-ridge.example", text=text).addresses] == ["192.0.2.9"]
    assert [str(each) for each in resolved("old", text=text).addresses] == ["192.0.2.9"]


def test_delegation_inside_the_estate():
    """A child zone answers only when its parent delegates to it."""
    text = swap(BASE, ("    file: ridge.zone\n", "    file: ridge.zone\n  sub.kestrel-ridge.example: {records: [x 60 A 203.0.113.40]}\n"
                "  lost.kestrel-ridge.example: {records: [x 60 A 203.0.113.40]}\n"))  # fmt: skip
    assert resolved("x.sub.kestrel-ridge.example", text=text).detail is None
    lost = resolved("x.lost.kestrel-ridge.example", text=text)
    assert lost.detail == "no-such-name"
    assert "delegation-missing" in [each.kind for each in lost.decisions]


SERVED = swap(
    BASE,
    ("hosts:\n", "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.53}}\n    services:\n"
     "      names: {kind: name-server, zones: [kestrel-ridge.example]}\n"),
    ("    file: ridge.zone\n", "    file: ridge.zone\n    delegated_to: [ns1.kestrel-ridge.example]\n"),
)  # fmt: skip


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        (None, None),
        (("zones: [kestrel-ridge.example]}", "zones: [kestrel-ridge.example], state: stopped}"), "resolver-failure"),
        (("{address: 192.0.2.53}}", "{address: 192.0.2.54}}"), "resolver-failure"),
        (("{address: 192.0.2.53}}", "{address: 192.0.2.53, groups: []}}"), "resolver-failure"),
        (("delegated_to: [ns1.", "delegated_to: [ns9."), "resolver-failure"),
        (
            (
                "delegated_to: [ns1.kestrel-ridge.example]",
                "delegated_to: [ns9.kestrel-ridge.example, ns1.kestrel-ridge.example]",
            ),
            None,
        ),
        (("    delegated_to: [ns1.kestrel-ridge.example]\n", ""), None),
    ],
)
def test_described_name_servers_must_answer(change, expected):
    """A zone that somebody described serves is asked there, over the packet engine."""
    text = swap(SERVED, change) if change else SERVED
    assert resolved("visit.kestrel-ridge.example", text=text).detail == expected


def test_a_resolver_of_the_estate():
    """It must be reached, be a resolver, and reach the servers itself."""
    inside = "address: 10.20.0.50, resolver: 10.20.0.15}"
    text = swap(
        SERVED,
        ("address: 10.20.0.50}", inside),
        ("    services:\n      web:", "    services:\n      cache: {kind: resolver}\n      web:"),
    )
    assert resolved("visit.kestrel-ridge.example", text=text, vantage="office").detail is None
    silent = swap(
        text, ("{dome: {address: 10.20.0.15}}", "{dome: {address: 10.20.0.15}}\n    filter: {inbound: {default: drop}}")
    )
    assert resolved("visit.kestrel-ridge.example", text=silent, vantage="office").detail == "resolver-timeout"
    closed = swap(text, ("{kind: resolver}", "{kind: resolver, state: stopped}"))
    assert resolved("visit.kestrel-ridge.example", text=closed, vantage="office").detail == "resolver-failure"
    authority = swap(SERVED, ("address: 198.51.100.77,", "address: 198.51.100.77, resolver: 192.0.2.53,"))
    assert resolved("visit.kestrel-ridge.example", text=authority).detail is None
    assert resolved("www.elsewhere.example", text=authority).detail == "refused"


def test_an_alias_beside_other_data_breaks_the_zone():
    """Real servers do not load such a zone (RFC 1034 section 3.6.2)."""
    assert resolved("visit.kestrel-ridge.example", ZONE + "@ CNAME visit\n").detail == "resolver-failure"
    assert resolved("visit.kestrel-ridge.example", ZONE + "text CNAME visit\n").detail == "resolver-failure"


def test_a_long_chain_of_aliases():
    """The resolver gives up."""
    links = "".join(f"c{n} CNAME c{n + 1}\n" for n in range(20))
    assert resolved("c0.kestrel-ridge.example", ZONE + links + "c20 A 203.0.113.40\n").detail == "resolver-failure"
    assert resolved("c12.kestrel-ridge.example", ZONE + links + "c20 A 203.0.113.40\n").detail is None


def test_withdrawn_records_are_gone():
    """The estate can ask what would be without a record of its file."""
    text = swap(
        BASE,
        (
            "    file: ridge.zone\n",
            "    file: ridge.zone\n    without: [visit A]\n    records: [new 60 A 203.0.113.40]\n",
        ),
    )
    assert resolved("visit.kestrel-ridge.example", text=text).detail == "no-such-name"
    assert resolved("new.kestrel-ridge.example", text=text).detail is None


def test_dead_addresses_are_passed_over():
    """Several addresses: the visitor goes on to the next."""
    zone = ZONE + "both A 192.0.2.200\nboth A 203.0.113.40\n"
    text = swap(BASE, ("names: [visit.", "names: [both.kestrel-ridge.example, visit."))
    assert got(ask(text, "http://both.kestrel-ridge.example/", **{"ridge.zone": zone})) == "visit/index.html"
