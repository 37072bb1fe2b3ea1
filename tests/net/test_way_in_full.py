"""Translations, lists, jumps, areas, routes, masks, boots: each behaviour by one changed fact of the small estate.

The same worlds are held against the kernel in conformance/way_worlds.py.
"""

import json
from datetime import UTC, datetime
from ipaddress import ip_address

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conformance.topologies import Draw
from conformance.way_worlds import BOOTED, WAY_WORLDS
from portolan.estate.areas import SERVICES, service_ports
from portolan.estate.base import PortRange
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.problem import EstateError
from tests.conftest import OFFICE, got, loaded, swap, world

#: world: what each question comes to (questions in the order of the table: URLs, and for each the vantages).
EXPECTED = {
    "way: one-to-one": [
        "visit/index.html",
        "timed-out",
        "visit/index.html",
        "timed-out",
        "visit/index.html",
        "refused",
    ],
    "way: one-to-one, asked from inside with hairpin": ["visit/index.html", "visit/index.html"],
    "way: fixed source": ["page/index.html", "timed-out"],
    "way: the router's own page first": ["admin/index.html", "admin/index.html", "admin/index.html", "timed-out"],
    "way: carrier's shared address": ["refused", "refused", "refused", "refused", "timed-out", "visit/index.html"],
    "way: provider blocks": ["timed-out", "refused", "visit/index.html", "refused"],
    "way: addresses before a change": ["timed-out", "visit/index.html"],
    "way: addresses after a change": ["visit/index.html", "timed-out"],
    "way: jump and return": ["visit/index.html", "timed-out"],
    "way: return to the default": ["visit/index.html", "timed-out"],
    "way: areas": ["visit/index.html", "refused", "refused", "unreachable", "timed-out", "visit/index.html"],
    "way: area that nothing belongs to": ["timed-out", "refused", "timed-out", "visit/index.html"],
    "way: list denies in": ["visit/index.html", "timed-out"],
    "way: list denies the answers": ["timed-out"],
    "way: list allows the answers": ["visit/index.html"],
    "way: list within the segment": ["timed-out", "visit/index.html", "timed-out", "resolver-timeout"],
    "way: route that ends at the router, blackhole": ["timed-out", "refused", "timed-out", "visit/index.html"],
    "way: route that ends at the router, prohibit": ["unreachable", "refused", "timed-out", "visit/index.html"],
    "way: host-only beside a segment": ["page/index.html", "timed-out", "refused", "resolver-timeout"],
    "way: not privileged": ["refused", "refused"],
    "boot: not started": ["refused", "refused"],
    "boot: the saved filter": ["visit/index.html", "refused", "timed-out", "refused"],
    "boot: broken configuration": ["refused", "refused"],
    "boot: saved listeners": ["refused", "name-mismatch"],
}


@pytest.mark.parametrize("name", sorted(EXPECTED))
def test_worlds_of_the_way(name):
    """What the kernel was seen to do."""
    changes, urls, vantages = {**WAY_WORLDS, **BOOTED}[name]
    estate = loaded(swap(OFFICE, *changes)).estate
    ready = World(estate, estate.at, None, None if name in BOOTED else frozenset())
    found = [got(visit(ready, url, estate.vantages[vantage])) for url in urls for vantage in vantages]
    assert sorted(found) == sorted(EXPECTED[name])


def test_every_box_shows_the_packet_as_it_came_and_went():
    """There with the rewritten addresses, and back with every one undone."""
    ready = world(swap(OFFICE, ("    masquerade: [line]", "    masquerade: [line, dome]")))
    connection = ready.connect(ready.estate.vantages["street"], ip_address("203.0.113.40"), 443)
    shown = [
        (hop.label, f"{hop.before[0]} {hop.before[2]}", f"{hop.after[0]} {hop.after[2]}", hop.answer)
        for hop in connection.hops
    ]
    outer, inner = "198.51.100.77 203.0.113.40", "10.20.0.1 10.20.0.15"
    back, back_in = "203.0.113.40 198.51.100.77", "10.20.0.15 10.20.0.1"
    assert shown == [
        ("the visitor (street)", outer, outer, False), ("gateway", outer, inner, False), ("orion", inner, inner, False),
        ("orion", back_in, back_in, True), ("gateway", back_in, back, True), ("the visitor (street)", back, back, True),
    ]  # fmt: skip


def test_an_error_about_a_translated_packet_comes_from_the_address_that_was_asked():
    """The box gave the packet its own inner source; what it says of a host that is not there has that undone."""
    text = swap(OFFICE, ("masquerade: [line]", "masquerade: [line, dome]"), ("to: 10.20.0.15", "to: 10.20.0.99"))
    ready = world(text)
    found = ready.connect(ready.estate.vantages["street"], ip_address("203.0.113.40"), 443)
    assert (found.detail, found.stop.kind) == ("unreachable", "neighbour-missing")


def test_what_follows_an_answer_may_be_lost():
    """The answer goes back by a router that saw no question: what the server sends next is translated there."""
    text = swap(
        OFFICE,
        ("{dome: {address: 10.20.0.15}}", "{dome: {address: 10.20.0.15/28}}"),
        ("masquerade: [line]", "masquerade: [line, dome]"),
    )
    ready = world(text)
    found = visit(ready, "http://10.20.0.15/", ready.estate.vantages["office"])
    assert (found.outcome.detail, found.stop.kind) == ("cut-off", "later-rejected")


def test_two_boxes_with_one_address_tell_the_bad_case():
    """Now one answers, now the other; the visitor is told of the one that is not the site's."""
    text = swap(OFFICE, ("hosts:\n", "hosts:\n  vela:\n    interfaces: {dome: {address: 10.20.0.15}}\n"))
    ready = world(text)
    found = visit(ready, "https://visit.kestrel-ridge.example/", ready.estate.vantages["street"])
    assert found.outcome.detail == "refused"
    assert any(each.kind == "address-twice" for each in found.assumptions)


def test_a_moment_has_its_addresses():
    """An interface's earlier addresses count until they changed."""
    text = swap(OFFICE, ("address: 203.0.113.40}", "address: 203.0.113.40, before: [{until: 2026-03-10T00:00:00Z, address: 203.0.113.8}, "
                         "{until: 2026-03-01T00:00:00Z, address: 203.0.113.7}]}"))  # fmt: skip
    estate = loaded(text).estate
    for day, last in ((28, 7), (5, 8), (12, 40)):
        moment = datetime(2026, 2 if day == 28 else 3, day, tzinfo=UTC)
        assert (
            str(next(iter(World(estate, moment).estate.routers["gateway"].interfaces.values())).address[0].ip)
            == f"203.0.113.{last}"
        )


@settings(max_examples=40)
@given(st.integers(0, 100_000))
def test_no_topology_breaks_the_walk(seed):
    """Every connection of a random estate comes to an end that has words, twice the same."""
    draw = Draw(seed)
    data = draw.estate()
    try:
        ready = world(json.dumps(data))
    except EstateError:
        return
    for vantage, address, port in draw.questions(data["vantages"], 4):
        first = ready.connect(ready.estate.vantages[vantage], ip_address(address), port)
        assert first.detail in (None, "refused", "timed-out", "unreachable", "stalled", "cut-off")
        assert (first.detail is None) is (first.arrival is not None) is (first.stop is None)
        assert all(each.text for each in first.decisions)
        again = ready.connect(ready.estate.vantages[vantage], ip_address(address), port)
        assert [each.text for each in again.decisions] == [each.text for each in first.decisions]


def test_services_by_name_and_by_port():
    """IANA's names, or ports with their protocol."""
    assert service_ports("https")[0] == ("tcp", PortRange(443, 443))
    assert service_ports("6000-6010/udp") == [("udp", PortRange(6000, 6010))]
    assert all(service_ports(name) for name in SERVICES)
    for wrong in ("htttp", "80", "80/sctp", "0/tcp", "9-8/tcp", "80-/tcp", "70000/tcp"):
        with pytest.raises(ValueError, match="8080/tcp"):
            service_ports(wrong)
