"""The worlds about routing, sizes and resolvers: each question as the kernel and the name programs answered it.

`seen.json` beside this file is written by `python -m tests.net.test_routing_worlds` after `python -m conformance.run table 'routing: *'
'resolver: *'` has found no disagreement.
"""

import json
from functools import cache
from pathlib import Path

import pytest

from conformance.resolver_worlds import RESOLVER_WORLDS
from conformance.routing_worlds import ROUTING_WORLDS
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World

SEEN = Path(__file__).with_name("seen.json")
WORLDS = {**ROUTING_WORLDS, **RESOLVER_WORLDS}


@cache
def seen() -> dict[str, list[str]]:
    """What was seen, by world."""
    return json.loads(SEEN.read_text("utf-8"))


def outcomes(name: str) -> list[str]:
    """What the engine says of a world's questions."""
    world = WORLDS[name]
    estate = load(MemoryFiles({"estate.yaml": world.text}), "estate.yaml").estate
    engine = World(estate, estate.at)
    found = (visit(engine, url, estate.vantages[vantage]).outcome for url, vantage in world.asked)
    return [" ".join(str(each) for each in (one.kind, one.detail, one.page) if each) for one in found]


@pytest.mark.parametrize("name", WORLDS)
def test_as_it_was_seen(name):
    """Every question of the world."""
    assert outcomes(name) == seen()[name]


def test_every_kind_of_end_is_among_them():
    """The table would notice an engine that says one thing of all."""
    every = {each.partition(" ")[0] for held in seen().values() for each in held}
    assert every == {"served", "connect-error", "name-error", "http-error"}
    assert len({each for held in seen().values() for each in held}) > 12


if __name__ == "__main__":
    SEEN.write_text(json.dumps({name: outcomes(name) for name in WORLDS}, indent=0) + "\n", "utf-8")
