"""Websockets: asked for, passed on or not by fronts and edges, and never mixed up with pages."""

import pytest

from conformance.front_worlds import FRONT_WORLDS
from portolan.diagnosis.search import explain
from portolan.estate.client import opening
from portolan.estate.url import BadUrlError, join, parse
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import ask, got, loaded, swap
from tests.diagnosis.test_edges_and_buckets import ARCHIVE

LIVE = "ws://visit.kestrel-ridge.example/live/x"
#: What came for a websocket, for a page at its address, for a websocket at a page's; as measured on both servers.
MEASURED = {
    "front: websockets (nginx)": ["101", "426", "200"],
    "front: websockets (apache)": ["101", "426", "200"],
    "front: websockets, not passed on (nginx)": ["426", "426", "200"],
    "front: websockets, not passed on (apache)": ["426", "426", "200"],
}


@pytest.mark.parametrize("name", MEASURED)
def test_as_measured(name):
    """An upgrade belongs to one connection: who passes on says it anew, or not."""
    world = FRONT_WORLDS[name]
    found = [ask(world.text, url, who).outcome for url, who in world.asked]
    assert [str(each.status) for each in found] == MEASURED[name]
    assert [each.kind == "served" for each in found] == [each.status == 101 for each in found]


@pytest.mark.parametrize("program", ["nginx", "apache"])
def test_what_is_lost_on_the_way_is_a_cause(program):
    """The front is told to pass it on, and then it opens."""
    expected = f'expected: [{{url: "{LIVE}", from: street, status: 101}}]\n'
    held = loaded(FRONT_WORLDS[f"front: websockets, not passed on ({program})"].text + expected)
    found = explain(
        World(held.estate, held.estate.at),
        LIVE,
        held.estate.vantages["street"],
        lambda patch: changed(held, patch_operations(patch)).estate,
    )
    assert [each.code for each in found.causes] == ["upgrade-lost"]
    assert found.after is not None
    assert found.after.outcome.status == 101


EDGE = "wss://bookings.kestrel-ridge.example/"
TAKES = [
    ("        program: nginx\n", "        kind: other\n        when_asked: websocket\n"),
    ("listens: [80, 443 tls]\n        certificate: images\n", "listens: [80]\n"),
    ("leg: verified, host: kept", "leg: plain, host: kept"),
]
SITES = ARCHIVE[ARCHIVE.index("        sites:\n          bookings:") : ARCHIVE.index("certificates:\n")]


@pytest.mark.parametrize(
    ("said", "expected"),
    [("", "101"), ("    passes_upgrades: false\n", "426"), ("    holds: [{url: 'https://bookings.kestrel-ridge.example/', since: 2026-03-14T19:59:00Z, page: old/old.html, keeps: 3600}]\n", "101")],
)  # fmt: skip
def test_at_an_edge(said, expected):
    """It passes it on unless it is told otherwise, and gives nobody a page that it holds."""
    canonical = "    canonical: d9.edges.example\n"
    text = swap(ARCHIVE.replace(SITES, ""), *TAKES, (canonical, canonical + said))
    text = text[: text.index("expected:")]
    found = ask(text, EDGE)
    assert (str(found.outcome.status), found.outcome.final_url) == (expected, EDGE)


def test_addresses_of_websockets():
    """They keep their scheme; no redirect of a page leads to one."""
    assert [str(parse(each)) for each in (LIVE, "wss://a.example:443/x?y", "WSS://a.example")] == [LIVE, "wss://a.example/x?y", "wss://a.example/"]  # fmt: skip
    assert parse("wss://a.example/").secure
    with pytest.raises(BadUrlError, match="for websockets, and no page"):
        join(parse("http://a.example/"), "ws://b.example/")
    saying = opening(ask(ARCHIVE, "http://x.example/").vantage.saying)
    assert saying.upgrades
    assert not saying.but(headers=(("upgrade", "h2c"), ("connection", "Upgrade"))).upgrades


def test_a_redirect_opens_none():
    """Who asks for a websocket fails at every other answer (RFC 6455 section 4.1)."""
    made = loaded(swap(ARCHIVE, ("            files: [index.html]\n", "            redirects: [{to: /x}]\n"))).estate
    found = visit(World(made, made.at), EDGE, made.vantages["street"])
    assert (found.outcome.kind, found.outcome.status, len(found.exchanges)) == ("http-error", 301, 1)
    assert got(visit(World(made, made.at), EDGE.replace("wss", "https"), made.vantages["street"])) == "loop"
