"""The ladder: the same address from ever farther away, and the first rung that fails."""

import jsonschema
import pytest

from conformance.injected import HEALTHY, NOW
from portolan.cli.question import load_path
from portolan.diagnosis.ladder import ladder
from portolan.journey.question import question
from portolan.journey.world import World
from portolan.views.ladder import ladder_data
from portolan.views.schemas import schema_of
from tests.conftest import STORIES, loaded

ESTATES = [*sorted(HEALTHY.iterdir()), *sorted(each for each in STORIES.iterdir() if (each / "estate.yaml").exists())]


def climbed(path, url, name=None):
    """The ladder of an address in an estate."""
    held = load_path(str(path))
    return ladder(question(World(held.estate, held.estate.at or NOW), url, name))


@pytest.mark.parametrize("path", ESTATES, ids=lambda path: path.stem)
def test_every_estate_has_its_ladder(path):
    """It begins at the machine that gives the page, ends where the visitor asks, and its data fit the schema."""
    held = load_path(str(path))
    world = World(held.estate, held.estate.at or NOW)
    for each in held.estate.expected:
        found = ladder(question(world, each.url, (each.vantages or (None,))[0]))
        assert found.rungs
        assert len({(rung.name, rung.visit.url) for rung in found.rungs}) == len(found.rungs)
        jsonschema.validate(ladder_data(found, world.now), schema_of("ladder"))
        if found.machine is not None:
            assert found.rungs[0].name.startswith(f"{found.machine} itself, by loopback")


@pytest.mark.parametrize(
    ("story", "url", "broken"),
    [
        ("half-open", "http://visit.kestrel-ridge.example/", "orion itself, by loopback"),
        ("night-shift", "https://bookings.kestrel-ridge.example/", "vega itself, by name"),
        ("inside-only", "https://visit.kestrel-ridge.example/", "street, by 203.0.113.40"),
        ("one-way-street", "https://bookings.kestrel-ridge.example/", "a neighbour on rack, by name"),
        ("first-light", "https://visit.kestrel-ridge.example/", None),
    ],
)
def test_the_first_rung_that_fails(story, url, broken):
    """The story's cause lies between it and the rung before."""
    found = climbed(STORIES / story, url, "street")
    assert (found.broken.name if found.broken is not None else None) == broken
    if found.broken is not None:
        assert found.broken.missed
        assert found.broken.findings


def test_the_machine_is_asked_where_it_listens():
    """Behind a forward to another port, or plainly behind a front that ends TLS."""
    found = climbed(STORIES / "night-shift", "https://bookings.kestrel-ridge.example/", "street")
    assert found.rungs[0].visit.url.startswith("http://bookings.kestrel-ridge.example:")
    assert found.rungs[-1].visit.url == "https://bookings.kestrel-ridge.example/"


def test_what_is_expected_of_others_only_is_missed_by_nobody_else():
    """A desk for the office: the street is refused, and that is no failing rung."""
    text = """
portolan: 1
networks: {dome: {subnets: [10.20.0.0/24]}}
hosts:
  vela:
    interfaces: {internet: {address: 192.0.2.10}, dome: {address: 10.20.0.9}}
    services:
      web:
        program: nginx
        listens: [80]
        sites: {desk: {names: [desk.kestrel-ridge.example], files: [index.html], access: {from: [10.20.0.0/24]}}}
zones: {kestrel-ridge.example: {records: [desk 60 A 192.0.2.10]}}
expected: [{url: "http://desk.kestrel-ridge.example/", page: desk/index.html, from: "near:dome"}]
"""
    found = ladder(question(World(loaded(text).estate, NOW), "http://desk.kestrel-ridge.example/", "near:dome"))
    refused = next(each for each in found.rungs if each.name == "internet, by name")
    assert refused.visit.outcome.status == 403
    assert refused.missed == ()


def test_an_address_has_no_name_to_ask_by():
    """Its holder is the machine, and no rung is called by name."""
    found = climbed(STORIES / "night-shift", "http://10.20.0.16:8080/", "office")
    assert found.machine == "vega"
    assert not any("by name" in each.name for each in found.rungs)
