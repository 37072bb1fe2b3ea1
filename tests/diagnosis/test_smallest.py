"""The smallest change: what nobody named is found by trying what might have been meant, and is proven like everything else."""

import pytest

from conformance.injected import base
from portolan.diagnosis.search import explain
from portolan.diagnosis.smallest import MOST_TRIED
from portolan.estate.edge import Origin
from portolan.estate.machine import Forward
from portolan.estate.network import Interface
from portolan.estate.service import WebService
from portolan.estate.site import Redirect, Site
from portolan.estate.slips import Known, fields_of, otherwise_said, slips
from portolan.formats.estate_file import patched
from portolan.journey.expectation import misses, vantages_for
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.words import Words
from tests.conftest import NOW, OFFICE, loaded, swap

VISIT = "https://visit.kestrel-ridge.example/"
HOST = "{dome: {address: 10.20.0.15}}"
ABOUT = Known(
    Words({"10.20.0.15": 3, "10.20.0.16": 1, "203.0.113.40": 2, "2001:db8::15": 1}),
    Words({"visit.kestrel-ridge.example": 2, "www.kestrel-ridge.example": 1}),
    Words({"index.html": 2, "img/dome.jpg": 1}),
    ("443", "80", "8080"),
)

#: A field, what it says, and the nearest thing that was probably meant.
MEANT = [
    (Forward, "to", "10.20.0.16", "10.20.0.15"), (Forward, "to", "2001:db8::16", "2001:db8::15"), (Interface, "address", "10.20.0.15/30", "10.20.0.15"),
    (Forward, "tcp", "444", "443"), (Forward, "port", "8008", "8080"), (Forward, "hairpin", "off", "destination-only"), (Forward, "enabled", "false", "true"),
    (Site, "names", "visti.kestrel-ridge.example", "visit.kestrel-ridge.example"), (Site, "names", "visit.kestrel-ridge.example.", "visit.kestrel-ridge.example"),
    (Site, "files", "idnex.html", "index.html"), (Site, "files", "img/dmoe.jpg", "img/dome.jpg"), (WebService, "listens", "127.0.0.1:443 tls", "443 tls"),
    (WebService, "listens", "443", "443 tls"), (Redirect, "to", "http://{host}{path}{query}", "https://{host}{path}{query}"),
    (Redirect, "to", "https://visti.kestrel-ridge.example{path}{query}", "https://visit.kestrel-ridge.example{path}{query}"),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "key", "text", "meant"), MEANT, ids=[f"{key} {text}" for _, key, text, _ in MEANT])
def test_slips_stand_with_the_types(kind, key, text, meant):
    """The nearest comes first, and nothing is its own slip."""
    found = slips(fields_of(kind)[key][1], text, ABOUT)
    assert meant in [each.meant for each in found[:3]]
    assert text not in [each.meant for each in found]
    assert [each.cost for each in found] == sorted(each.cost for each in found)


def test_what_the_rest_says_counts():
    """Of two addresses that differ by a digit, the one that more of the estate states is meant."""
    holds = fields_of(Forward)["to"][1]
    up, down = slips(holds, "10.20.0.16", ABOUT)[0], slips(holds, "10.20.0.15", ABOUT)[0]
    assert (up.meant, down.meant) == ("10.20.0.15", "10.20.0.16")
    assert up.cost < down.cost


def explained(text, url=VISIT, vantage="street", most=MOST_TRIED):
    """What is said of an estate, with what applies its patches."""
    held = loaded(text)
    world = World(held.estate, held.estate.at)
    return explain(world, url, held.estate.vantages[vantage], lambda patch: patched(held, patch).estate, most), held


def all_met(held, patch):
    """Whether an estate with a change meets everything that it expects."""
    estate = patched(held, patch).estate
    world = World(estate, estate.at)
    asked = [(each, vantage) for each in estate.expected for vantage in vantages_for(estate, each)]
    return not any(misses(each, visit(world, each.url, vantage)) for each, vantage in asked)


#: One fact of the office that no recogniser has a name for, and where it stands.
ODD = {
    "a mask": ([("dome: {address: 10.20.0.1}", "dome: {address: 10.20.0.1/30}")], "routers.gateway.interfaces.dome.address"),
    "an address that is gone": ([("dome: {address: 10.20.0.1}", "dome: {}")], "routers.gateway.interfaces.dome.address"),
    "a forward on the inner line": ([("{on: line, tcp: 443,", "{on: dome, tcp: 443,")], "routers.gateway.forwards.1.on"),
    "a narrowed forward": ([("{on: line, tcp: 443,", "{on: line, from: 203.0.113.192/28, tcp: 443,")], "routers.gateway.forwards.1.from"),
}  # fmt: skip


@pytest.mark.parametrize("name", ODD)
def test_what_nobody_named_is_found_where_it_stands(name):
    """The first cause is at the very fact, and its change meets everything that is expected."""
    changes, place = ODD[name]
    found, held = explained(swap(OFFICE, *changes))
    assert [cause.object for cause in found.causes] == [place]
    assert found.best is not None
    assert found.best.patch
    assert all_met(held, found.best.patch)


def test_two_slips_are_both_named():
    """Neither mends by itself; the second is found where the first leads further, and both together meet what is expected."""
    found, held = explained(
        swap(OFFICE, (HOST, "{dome: {address: 10.20.0.15/30}}"), ("{on: line, tcp: 443,", "{on: dome, tcp: 443,"))
    )
    assert {cause.object for cause in found.causes} >= {"routers.gateway.forwards.1.on"}
    assert found.best is not None
    assert all_met(held, found.best.patch)


def test_equals_are_told():
    """Where the record and the address contradict each other, and nothing else speaks for either, both are told."""
    text = (
        "portolan: 1\nat: 2026-03-14T20:00:00Z\n"
        "hosts: {orion: {interfaces: {line: {network: internet, address: 203.0.113.15}}, services: {web: {program: nginx, sites: {visit: {names: [visit.kestrel-ridge.example], files: [index.html]}}}}}}\n"
        "zones: {kestrel-ridge.example: {records: [visit A 203.0.113.16]}}\nvantages: {street: {network: internet, address: 198.51.100.77}}\n"
        "expected: [{url: 'http://visit.kestrel-ridge.example/'}]\n"
    )
    found, _ = explained(text, "http://visit.kestrel-ridge.example/")
    named = {cause.object for cause in found.causes} | {
        cause.object for others in found.other_causes for cause in others
    }
    assert any(each.startswith("zones") for each in named)


def test_the_bound_is_kept_and_told():
    """Few changes tried: what is left out is said, and nothing is made up."""
    found, _ = explained(swap(OFFICE, (HOST, "{dome: {address: 10.20.0.16}}")), most=1)
    assert found.bounded or found.causes
    assert all(each.complete for each in found.remedies if each.patch and each.cause == 0)


def test_a_mistyped_name_is_answered_with_the_one_that_was_meant():
    """Nothing in the estate is wrong: what is handed out changes nothing, and is proven by asking it."""
    found, held = explained(OFFICE, "https://vsiit.kestrel-ridge.example/")
    assert found.best is not None
    assert (found.best.patch, found.best.ask) == ([], (VISIT, "street"))
    world = World(held.estate, held.estate.at)
    assert visit(world, found.best.ask[0], held.estate.vantages["street"]).outcome == found.best.outcome


def test_what_the_estate_states_was_not_mistyped():
    """A name of a record or an expectation is right by definition."""
    found, _ = explained(swap(OFFICE, (HOST, "{dome: {address: 10.20.0.15/30}}")))
    assert all(each.ask is None for each in found.remedies)


def test_a_word_left_unsaid_is_thought_of():
    """An origin's leg that is not said to be verified: no port is opened for it, and the strictest word comes first."""
    ready = base("edge-rack")
    broken = patched(ready.loaded, [{"op": "remove", "path": "/edges/reef/origin/leg"}])
    world = World(broken.estate, NOW)
    street = world.estate.vantages["street"]
    found = explain(
        world, "https://visit.kestrel-ridge.example/hours.html", street, lambda patch: patched(broken, patch).estate
    )
    assert [each.object for each in found.causes] == ["edges.reef.origin.leg"]
    assert found.best.patch == [{"op": "add", "path": "/edges/reef/origin/leg", "value": "verified"}]
    assert found.best.safety == "safe"
    assert otherwise_said(Origin)["leg"] == ("verified", "encrypted", "plain")
    assert "trusts" not in otherwise_said(Origin)


def test_what_no_decision_read_is_not_tried():
    """A router without the forward: nothing of the server behind it is changed, but where that states what was not found."""
    held = loaded(swap(OFFICE, ("      - {on: line, tcp: 443, to: 10.20.0.15}\n", "")))
    tried = []

    def apply(patch):
        tried.append(str(patch))
        return patched(held, patch).estate

    world = World(held.estate, held.estate.at)
    found = explain(world, VISIT, world.estate.vantages["street"], apply)
    assert [each.code for each in found.causes] == ["forward-missing"]
    assert any("/routers/gateway" in each for each in tried)
    assert not any("'/hosts/orion/" in each for each in tried)
