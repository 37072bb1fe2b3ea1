"""Journeys always end, in one of the outcomes; and when explain says that it is mended, it is."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from portolan.diagnosis.search import explain
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.expectation import misses
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.net.listeners import Binding, _choose
from tests.conftest import OFFICE, loaded, swap

KINDS = {"served", "http-error", "name-error", "connect-error", "tls-error", "redirect-error", "protocol-error"}

#: Facts of the office that may be otherwise; any subset may be changed together.
FACTS = [
    ("      - {on: line, tcp: 443, to: 10.20.0.15}\n", ["", "      - {on: line, tcp: 443, to: 10.20.0.77}\n", "      - {on: line, tcp: 443, to: 10.20.0.15, enabled: false}\n"]),
    ("      - {on: line, tcp: 80, to: 10.20.0.15}\n", [""]),
    ("    masquerade: [line]\n", ["", "    masquerade: [line]\n    hairpin: full\n", "    masquerade: [line]\n    filter: {forward: {default: drop}}\n"]),
    ("interfaces: {dome: {address: 10.20.0.15}}", ["interfaces: {dome: {address: 10.20.0.16}}", "interfaces: {dome: {address: 10.20.0.15}}\n    filter: {inbound: {default: reject}}",
                                                   "interfaces: {dome: {address: 10.20.0.15}}\n    gateway: none"]),
    ("program: nginx", ["program: apache", "program: nginx\n        state: stopped"]),
    ("listens: [80, 443 tls]", ["listens: [80]", "listens: [80, '127.0.0.1:443 tls']", "listens: [8080, 443 tls]", "listens: [80, '443']"]),
    ("names: [visit.kestrel-ridge.example]", ["names: [visti.kestrel-ridge.example]", "names: []"]),
    ("files: [index.html, tonight.html, img/dome.jpg]", ["files: [tonight.html]", 'redirects: [{to: "https://{host}/"}]', "answer: 404"]),
    ("until: 2026-06-01", ["until: 2026-02-01"]),
    ("visit 3600 A 203.0.113.40", ["visti 3600 A 203.0.113.40", "visit 3600 A 203.0.113.44", "visit 3600 CNAME other", "visit 3600 A 10.20.0.15"]),
]  # fmt: skip


@st.composite
def offices(draw):
    """An office with some facts otherwise."""
    text = OFFICE
    for fact, others in FACTS:
        choice = draw(st.one_of(st.none(), st.none(), st.sampled_from(others)))
        if choice is not None:
            text = text.replace(fact, choice, 1)
    return loaded(text)


URLS = st.tuples(st.sampled_from(["http", "https"]), st.sampled_from(["visit.kestrel-ridge.example", "other.kestrel-ridge.example", "203.0.113.40", "10.20.0.15"]),
                 st.sampled_from(["/", "/tonight.html", "/img"])).map(lambda part: f"{part[0]}://{part[1]}{part[2]}")  # fmt: skip


@given(offices(), URLS, st.sampled_from(["street", "office"]))
def test_journeys_end(held, url, vantage):
    """Every visit ends in an outcome, and a bad one names the decision that ended it."""
    found = visit(World(held.estate, held.estate.at), url, held.estate.vantages[vantage])
    assert found.outcome.kind in KINDS
    assert (found.stop is None) == (found.outcome.kind == "served")
    assert all(decision.text for decision in found.decisions)
    assert len(found.exchanges) <= 51


@given(offices(), st.sampled_from(["street", "office"]))
def test_what_explain_mends_is_mended(held, vantage):
    """The whole change meets the expectation; taking any one cause's part away does not."""
    mended(held, vantage)


#: What random exploration found: changes of the office, and the vantage.
KEPT = [
    ([("names: [visit.kestrel-ridge.example]", "names: []"), ("files: [index.html, tonight.html, img/dome.jpg]", "answer: 404")], "street"),
    ([("    masquerade: [line]\n", "")], "office"),
    ([("    masquerade: [line]\n", "    masquerade: [line]\n    hairpin: full\n    filter: {forward: {default: drop}}\n")], "office"),
]  # fmt: skip


@pytest.mark.parametrize(("changes", "vantage"), KEPT)
def test_what_was_found_stays_mended(changes, vantage):
    """Each find as an example of its own."""
    mended(loaded(swap(OFFICE, *changes)), vantage)


def mended(held, vantage):
    """Every failure has a cause, and what is said to mend it does."""
    url = "https://visit.kestrel-ridge.example/"
    world = World(held.estate, held.estate.at)

    def apply(patch):
        return changed(held, patch_operations(patch)).estate

    found = explain(world, url, held.estate.vantages[vantage], apply)
    if not found.missed:
        return
    assert found.causes
    if found.after is None:
        return
    whole = next(each for each in found.remedies if each.complete and len(each.fixes) == len(found.causes))
    after = visit(world.changed(apply(whole.patch)), url, held.estate.vantages[vantage])
    assert misses(found.expectation, after) == ()
    assert after.outcome != found.visit.outcome


@given(
    st.lists(st.sampled_from(["10.0.0.1", "10.0.0.2", None]), max_size=4),
    st.sampled_from(["10.0.0.1", "10.0.0.2", "10.0.0.3"]),
)
def test_exact_listener_before_wildcard(bound, asked):
    """An exact address wins over the wildcard, whatever the order."""
    from ipaddress import ip_address

    bindings = [Binding(ip_address(each) if each else None, (4,), 80, "tcp", None, None) for each in bound]
    chosen = _choose(bindings, ip_address(asked), 80, "tcp")
    if asked in bound:
        assert str(chosen.address) == asked
    else:
        assert (chosen is not None and chosen.address is None) == (None in bound)
