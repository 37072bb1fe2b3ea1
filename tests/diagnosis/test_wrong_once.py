"""What was wrong once, and must not be again: each with the smallest estate that showed it."""

import pytest

from portolan.diagnosis.search import explain
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.world import World
from tests.conftest import OFFICE, ask, got, loaded, swap

VISIT = "https://visit.kestrel-ridge.example/"


def causes(text, url=VISIT, vantage="street", booted=frozenset()):
    """The codes of the causes, and the outcome once all is mended (None: it is not)."""
    held = loaded(text)
    world = World(held.estate, held.estate.at, None, booted)
    found = explain(
        world, url, held.estate.vantages[vantage], lambda patch: changed(held, patch_operations(patch)).estate
    )
    return [each.code for each in found.causes], found.after.outcome.page if found.after is not None else None


@pytest.mark.parametrize("written", ["443", "'0443'", "'*:443'", "443.0", "'443 tls'"])
def test_a_site_names_its_listener_in_any_spelling(written):
    """The site is bound to it, whatever the spelling."""
    text = swap(
        OFFICE,
        (
            "names: [visit.kestrel-ridge.example]",
            f"names: [visit.kestrel-ridge.example]\n            listens: [{written}]",
        ),
    )
    assert got(ask(text, VISIT)) == "visit/index.html"


@pytest.mark.parametrize(
    "written", ["[2001:db8:20::15]:443", "[2001:DB8:20:0:0:0:0:15]:443", "[2001:0db8:0020::0015]:0443 tls"]
)
def test_so_with_addresses_of_version_6(written):
    """One address has many spellings (RFC 4291 section 2.2)."""
    text = swap(
        OFFICE,
        ("listens: [80, 443 tls]", "listens: [80, 443 tls, '[2001:db8:20::15]:443 tls']"),
        ("names: [visit.kestrel-ridge.example]", f"names: [visit.kestrel-ridge.example]\n            listens: ['{written}']"),
        ("dome: {subnets: [10.20.0.0/24]}", "dome: {subnets: [10.20.0.0/24, '2001:db8:20::/64']}"),
        ("address: 10.20.0.15}", "address: [10.20.0.15, '2001:db8:20::15']}"),
        ("office: {network: dome, address: 10.20.0.50}", "office: {network: dome, address: [10.20.0.50, '2001:db8:20::50']}"),
        ("      - visit 3600 A 203.0.113.40", "      - visit 3600 AAAA 2001:db8:20::15"),
    )  # fmt: skip
    assert got(ask(text, VISIT, "office")) == "visit/index.html"


def test_a_site_that_answers_with_an_error_on_purpose_is_named():
    """It is the cause, and what is done about it is proven."""
    text = swap(OFFICE, ("files: [index.html, tonight.html, img/dome.jpg]", "answer: 404"))
    assert causes(text)[0] == ["site-catch-all"]


@pytest.mark.parametrize(
    "words",
    [
        "cannot load certificate visit.pem",
        "the key of the certificate is wrong",
        "no certificate; without that privilege",
    ],
)
def test_no_code_is_chosen_by_words(words):
    """What the program's own test says is for people."""
    text = swap(OFFICE, ("        program: nginx\n", f"        program: nginx\n        saved: {{broken: '{words}'}}\n"))
    assert causes(text, booted=frozenset(["orion"]))[0] == ["service-config-broken"]


def test_a_fault_on_an_earlier_leg_is_progress_too():
    """The hosts file leads to another machine; without its line the name is not found."""
    text = swap(
        OFFICE,
        ("      - visit 3600 A 203.0.113.40\n", ""),
        ("hosts:\n", "hosts:\n  vega:\n    interfaces: {internet: {address: 192.0.2.9}}\n    services: {web: {program: nginx, listens: [443 tls], certificate: visit, sites: {wrong: {files: []}}}}\n"),
        ("street: {network: internet, address: 198.51.100.77", "street: {network: internet, address: 198.51.100.77, hosts_file: {lines: [192.0.2.9 visit.kestrel-ridge.example]}"),
    )  # fmt: skip
    assert causes(text) == (["name-hosts-override", "name-missing"], "visit/index.html")
