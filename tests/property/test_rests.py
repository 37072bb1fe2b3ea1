"""What no decision of a visit read changes nothing of it, and neither does what fits nothing that it found absent."""

import random

import pytest

from conformance.injected import NOW, base, estates
from conformance.slips import faults
from portolan.diagnosis.rests import objects_read, sought_by
from portolan.formats.estate_file import patched
from portolan.journey.expectation import vantages_for
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.problem import EstateError

#: So many worlds of each estate, the healthy one first, and so many changes of each.
WORLDS, CHANGES = 7, 14


def questions(world):
    """What is expected, asked: by whom, what, and the visit."""
    for each in world.estate.expected:
        for vantage in vantages_for(world.estate, each):
            yield vantage, each.url, visit(world, each.url, vantage)


def told(found):
    """All that a visit says."""
    return str(found.outcome), [(each.kind, each.text) for exchange in found.tree for each in exchange.decisions]


def additions(document):
    """What an estate could have beside all that it has: boxes, names, ports and rules that nobody asks for."""
    for name, network in (document.get("networks") or {}).items():
        for subnet in network.get("subnets", ()):
            free = subnet.split("/")[0].rsplit("." if "." in subnet else ":", 1)[0] + (
                ".233" if "." in subnet else ":fff3"
            )
            yield (
                "/hosts/newcomer",
                {
                    "interfaces": {name: {"address": free}},
                    "services": {"web": {"kind": "web", "sites": {"newcomer": {"names": ["newcomer.example"]}}}},
                },
            )
    yield "/zones/newcomer.example", {"records": ["@ 300 A 192.0.2.201"]}
    yield "/vantages/newcomer", {"network": "internet", "address": "198.51.100.233"}
    for name, zone in (document.get("zones") or {}).items():
        if isinstance(zone.get("records"), list):
            yield f"/zones/{name}/records/-", "newcomer 300 A 192.0.2.202"
    for name, router in (document.get("routers") or {}).items():
        if router.get("forwards"):
            yield f"/routers/{name}/forwards/-", {**router["forwards"][-1], "tcp": 9999}
    for name, host in (document.get("hosts") or {}).items():
        for service, held in (host.get("services") or {}).items():
            if isinstance(held.get("listens"), list):
                yield f"/hosts/{name}/services/{service}/listens/-", "9998"


def changed(held, patch):
    """An estate after a change, with its world; None where it is none."""
    try:
        after = patched(held, patch)
    except EstateError:
        return None
    return after, World(after.estate, NOW)


def worlds(ready, rng):
    """The healthy estate, and some that are broken in one fact."""
    yield ready.loaded, World(ready.loaded.estate, NOW)
    for fault in rng.sample(faults(ready.document), WORLDS - 1):
        made = changed(ready.loaded, fault.patch)
        if made is not None:
            yield made


@pytest.mark.parametrize("name", estates())
def test_what_was_not_read_changes_nothing(name):
    """Changes and removals of other objects, and additions of what nobody looked for: the same decisions, word for word."""
    ready = base(name)
    rng = random.Random(name)
    compared = 0
    for held, world in worlds(ready, rng):
        asked = [
            (vantage, url, told(found), objects_read(world.estate, found), sought_by(found))
            for vantage, url, found in questions(world)
        ]
        others = rng.sample(faults(ready.document), CHANGES)
        changes = [(each.path[:2], each.patch) for each in others]
        changes += [(None, [{"op": "add", "path": path, "value": value}]) for path, value in additions(ready.document)]
        for at, patch in changes:
            after = changed(held, patch)
            for vantage, url, said, read, sought in asked if after is not None else ():
                if at is not None and (at in read or at == ("vantages", vantage.name)):
                    continue
                if any(each in str(patch) for each in sought):
                    continue
                compared += 1
                assert told(visit(after[1], url, after[1].there(vantage))) == said, (patch, url, vantage.name)
    assert compared > 20
