"""Several faults met by one question: a first change is followed where it leads nearer home, and none is blamed without need."""

import pytest

from conformance.injected import NOW, base, missed_in
from portolan.diagnosis.base import Case
from portolan.diagnosis.homeward import homeward
from portolan.diagnosis.search import explain
from portolan.formats.estate_file import patched
from portolan.journey.visit import visit
from portolan.journey.world import World


def _set(path, value):
    return {"op": "add", "path": path, "value": value}


def _taken(path):
    return {"op": "remove", "path": path}


def explained(loaded, url, vantage):
    """What is said of an estate that something is wrong in."""
    world = World(loaded.estate, NOW)
    return explain(world, url, world.estate.vantages[vantage], lambda patch: patched(loaded, patch).estate)


#: A healthy estate, what is wrong in it, what is asked from where, and what the causes are about.
PAIRS = {
    # Another site answers: whoever was meant is nearer home than what makes the wrong one fail.
    "a site switched off, and its page astray": (
        "front-pool",
        [
            _set("/hosts/front/services/web/sites/ledger/enabled", False),
            {
                "op": "replace",
                "path": "/hosts/books/services/app/sites/pages/files/0",
                "value": "site/index.html",
            },
        ],
        ("https://ledger.kestrel-ridge.example/", "street"),
        {"hosts.front.services.web.sites.ledger.enabled", "hosts.books.services.app.sites.pages"},
    ),
    # Nobody at the wrong address is any nearer to it by its digits: whoever is beside the box is thought of.
    "handed on to one who is not beside it, and a rule narrowed": (
        "two-routers",
        [
            _set("/routers/box/forwards/0/to", "10.20.0.15"),
            _set("/routers/gateway/forwards/0/from", ["203.0.113.192/28"]),
        ],
        ("http://visit.kestrel-ridge.example/", "street"),
        {"routers.box.forwards.0.to", "routers.gateway.forwards.0.from"},
    ),
    # What the recognisers find leads home too, by opening a port: the same number of causes that open nothing comes before it.
    "a listener without TLS, and a name that its certificate lacks": (
        "edge-record",
        [
            {"op": "replace", "path": "/hosts/vela/services/web/listens/1", "value": 443},
            {"op": "replace", "path": "/certificates/rack/names/1", "value": "www.times.kestrel-ridge.example"},
        ],
        ("https://times.kestrel-ridge.example/", "street"),
        {"hosts.vela.services.web.listens.1", "certificates"},
    ),
}


@pytest.mark.parametrize("name", PAIRS)
def test_both_are_named_and_mended(name):
    """Each by its object, in one patch that meets everything which is expected."""
    estate, faults, (url, vantage), places = PAIRS[name]
    loaded = base(estate).loaded
    for fault in faults:
        loaded = patched(loaded, [fault])
    world = World(loaded.estate, NOW)
    assert (url, vantage) in missed_in(world)
    found = explained(loaded, url, vantage)
    assert {cause.object for cause in found.causes} == places
    assert found.best is not None
    assert not missed_in(World(patched(loaded, found.best.patch).estate, NOW))


def test_no_fact_is_written_twice():
    """Where a change only leads further and a later one writes the same fact anew, the first was not needed."""
    loaded = patched(base("two-routers").loaded, [_set("/routers/box/forwards/0/to", "10.20.0.15")])
    found = explained(loaded, "http://visit.kestrel-ridge.example/", "street")
    assert found.best is not None
    assert [(change["path"], change["value"]) for change in found.best.patch] == [
        ("/routers/box/forwards/0/to", "192.168.1.2")
    ]


#: In the estate of front-pool: what is otherwise, and how near home the visitor of the ledger comes.
NEARER = [
    ([], 4),
    ([_set("/hosts/front/services/web/sites/ledger/enabled", False)], 2),
    ([_set("/hosts/books/services/app/sites/pages/enabled", False)], 3),
    ([_taken("/hosts/front/services/web/listens")], 1),
    ([_taken("/zones")], 0),
]


@pytest.mark.parametrize(("changes", "near"), NEARER)
def test_how_near_home_a_visit_comes(changes, near):
    """To the page's own site, to what is named for the host, to a program of theirs, to a box of theirs, to none."""
    ready = base("front-pool").loaded
    world = World(ready.estate, NOW)
    url, vantage = "https://ledger.kestrel-ridge.example/", ready.estate.vantages["street"]
    expectation = next(each for each in ready.estate.expected if each.url == url)
    home = homeward(Case(world, visit(world, url, vantage), expectation))
    after = World(patched(ready, changes).estate, NOW)
    assert home.came(visit(after, url, after.there(vantage))) == near


def test_whichever_certificate_covers_the_name_was_meant():
    """However it is called: that mends every name of the service, and getting another one anew only the one that is asked for."""
    loaded = patched(base("many-sites").loaded, [_set("/hosts/vela/services/web/certificate", "press")])
    found = explained(loaded, "https://visit.kestrel-ridge.example/", "street")
    assert found.best is not None
    assert found.best.patch == [{"op": "replace", "path": "/hosts/vela/services/web/certificate", "value": "ridge"}]


def test_a_line_without_ipv6_gets_an_address_and_no_second_table():
    """Where a router has no address of a kind on its line, it answers by no other line: the provider has to give it one."""
    loaded = patched(base("dual-stack").loaded, [_taken("/routers/gateway/interfaces/line/address/1")])
    found = explained(loaded, "https://visit.kestrel-ridge.example/", "six")
    assert [cause.code for cause in found.causes] == ["route-missing"]
    assert not any(remedy.patch for remedy in found.remedies)
    assert any("IPv6 address for gateway from the provider" in remedy.text for remedy in found.remedies)
