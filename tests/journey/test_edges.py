"""Edges and stores as journeys meet them: the same whatever was asked before, at other moments, and in what is shown."""

import pytest

from portolan.diagnosis.lint import lint
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.problem import EstateError
from portolan.views.style import Style
from portolan.views.text import legs
from tests.conftest import ask, got, loaded, swap
from tests.diagnosis.test_edges_and_buckets import ARCHIVE, AT, BAD, FRONT, GRANT, IMAGES, PLANS

EVERY = sorted(
    {url for _, url in BAD.values()}
    | {"https://reef.edges.example/", "http://kestrel-images.pages.depot.example/domes"}
)


def outcomes(world, urls):
    """What the street gets for each URL."""
    return {url: visit(world, url, world.estate.vantages["street"]).outcome for url in urls}


@pytest.mark.parametrize("code", [each for each in BAD if "," not in each])
def test_answers_do_not_depend_on_what_was_asked_before(code):
    """One world asked forwards and backwards, and a world of its own for each question."""
    estate = loaded(swap(ARCHIVE, *BAD[code][0])).estate
    one, other = World(estate, estate.at), World(estate, estate.at)
    forwards, backwards = outcomes(one, EVERY), outcomes(other, EVERY[::-1])
    alone = {url: visit(World(estate, estate.at), url, estate.vantages["street"]).outcome for url in EVERY}
    assert forwards == backwards == alone == outcomes(one, EVERY)


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("/edges/front/origin", "kestrel-images.objects.depot.example"),
        ("/edges/front/names", ["*.kestrel-ridge.example"]),
        ("/edges/plans/origin/signs", False),
        ("/edges/desk/asks_from", ["203.0.113.128/28"]),
        ("/edges/front/program", "nginx"),
        ("/stores/depot/buckets/kestrel-images/sealed", True),
        ("/stores/depot/pages_at", "sites.depot.example"),
        ("/zones/kestrel-ridge.example/edge", {"names": ["rack.kestrel-ridge.example"]}),
    ],
)
def test_a_changed_estate_is_as_one_that_was_loaded_so(path, value):
    """What edges and stores bring along is made anew where they changed, and nowhere else."""
    held = loaded(ARCHIVE)
    before = World(held.estate, held.estate.at)
    outcomes(before, EVERY)
    try:
        patched = changed(held, patch_operations([{"op": "add", "path": path, "value": value}]))
    except EstateError:
        pytest.fail("the change does not fit")
    after = before.changed(patched.estate)
    assert outcomes(after, EVERY) == outcomes(World(patched.estate, patched.estate.at), EVERY)
    assert outcomes(before, EVERY) == outcomes(World(held.estate, held.estate.at), EVERY)


def test_settings_are_in_effect_from_their_moment_on():
    """Before it there is no such name, or what stood before; after it the page."""
    waiting = FRONT, f"{FRONT}    in_effect_from: 2026-03-14T20:15:00Z\n"
    estate = loaded(swap(ARCHIVE, waiting)).estate
    world = World(estate, estate.at)
    assert outcomes(world, [IMAGES])[IMAGES].detail == "no-such-name"
    assert (
        outcomes(world.then(estate.edges["front"].in_effect_from), [IMAGES])[IMAGES].page == "kestrel-images/index.html"
    )
    old = (
        FRONT,
        f"{FRONT}    in_effect_from: 2026-03-14T20:15:00Z\n    before: [{{until: 2026-03-14T20:15:00Z, index_file: error.html}}]\n",
    )
    estate = loaded(swap(ARCHIVE, old)).estate
    assert outcomes(World(estate, estate.at), [IMAGES])[IMAGES].page == "kestrel-images/error.html"


def test_what_is_held_comes_from_the_moment_at_which_it_was_taken():
    """A page of before is given until its time is over; the origin's word says when."""
    facts = [(FRONT, f"{FRONT}    last_asked: 2026-03-14T19:00:00Z\n"),
             (GRANT, f"{GRANT}\n        cache_control: max-age=7200\n        before: [{{until: 2026-03-14T19:30:00Z, index_file: error.html}}]")]  # fmt: skip
    estate = loaded(swap(ARCHIVE, *facts)).estate
    assert outcomes(World(estate, estate.at), [IMAGES])[IMAGES].page == "kestrel-images/error.html"
    short = loaded(swap(ARCHIVE, *facts).replace("max-age=7200", "max-age=60, must-revalidate")).estate
    assert outcomes(World(short, short.at), [IMAGES])[IMAGES].page == "kestrel-images/index.html"


def test_header_values_are_never_shown():
    """Neither what an edge sends nor what a site wants to see."""
    secret = "invented-7"
    wants = (
        "            files: [index.html]\n",
        f"            files: [index.html]\n            access: {{headers: {{x-from-edge: {secret}}}}}\n",
    )
    for sends in ("", f", sends: {{x-from-edge: {secret}}}"):
        text = swap(ARCHIVE, wants, ("leg: verified, host: kept", f"leg: verified, host: kept{sends}"))
        estate = loaded(text).estate
        world = World(estate, estate.at)
        seen = visit(world, "https://bookings.kestrel-ridge.example/", estate.vantages["street"])
        assert (seen.outcome.status == 200) is bool(sends)
        shown = "\n".join(legs(seen, Style(100), True)) + str([(each.text, each.facts) for each in seen.decisions])
        assert secret not in shown + str([each.text for each in lint(world)])


@pytest.mark.parametrize(
    ("method", "url", "status"),
    [("HEAD", IMAGES, 200), ("OPTIONS", IMAGES, 405), ("POST", IMAGES, 403), ("DELETE", PLANS, 403)],
)
def test_methods_at_an_edge_and_at_a_store(method, url, status):
    """An edge passes on what it was told; a store gives, and takes nothing."""
    estate = loaded(swap(ARCHIVE, ("address: 198.51.100.77,", f"address: 198.51.100.77, method: {method},"))).estate
    assert outcomes(World(estate, estate.at), [url])[url].status == status


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        ((AT, f"{AT}, leg: encypted"), "expected one of plain, encrypted, verified"),
        ((AT, "leg: plain"), "an edge needs 'origin'"),
        ((AT, f"{AT}, trusts: [public]"), "'trusts' is for a leg that is verified"),
        ((FRONT, f"{FRONT}    order: [filter, plain]\n"), "'order' names all of filter, plain and method"),
        ((FRONT, f"{FRONT}    key: [path, normal-path]\n"), "two ways to have the path in the key"),
        ((FRONT, f"{FRONT}    access: {{password: true}}\n"), "an edge's filter has"),
        ((FRONT, f"{FRONT}    refuses_with: 200\n"), "expected a status, 400 to 599"),
        ((FRONT, f"{FRONT}    holds: [{{url: 'https://a.example/', since: 2026-03-01, status: 301}}]\n"), "a held redirect needs 'to'"),
        ((FRONT, f"{FRONT}    addresses: [192.0.2.1]\n    program: nginx\n    order: [plain, filter, method]\n"), "nginx has a way of its own"),
        (("canonical: d8.edges.example", "canonical: reef.edges.example"), "is the name of front already"),
        (("    canonical: reef.edges.example\n", ""), "an edge needs 'canonical' or 'addresses'"),
        ((GRANT, "grants: [{on: kestrel-images/*}]"), "a grant has exactly one of"),
        ((GRANT, "sends_all_to: 'images kestrel'"), "expected a host name, with a scheme or without"),
        ((GRANT, "uploaded_under: site/"), "'uploaded_under' goes with 'copy'"),
        ((GRANT, "inventory: a.json"), "'objects' and 'inventory' both say what the bucket holds"),
        (("    objects_at: objects.depot.example\n", "    objects_at: pages.depot.example\n"), "is the name of depot already"),
        (("depot:\n    pages_at", "depot:\n    strangers: [kestrel-images]\n    pages_at"), "is here, and no stranger's"),
    ],
)  # fmt: skip
def test_what_contradicts_itself_is_an_error_at_its_line(change, expected):
    """One clear error, with its line."""
    with pytest.raises(EstateError) as caught:
        loaded(swap(ARCHIVE, change))
    told = [str(each) for each in caught.value.problems]
    assert any(expected in each for each in told), told
    assert all(each.startswith("estate.yaml:") for each in told)


def test_an_object_that_sends_elsewhere_and_a_grant_that_forbids():
    """At the pages' address only; what forbids counts before what allows."""
    grant = "grants: [{to: everyone, on: kestrel-images/*}]"
    sends = swap(
        ARCHIVE,
        (grant, f'{grant}\n        object_redirects: {{old.html: "https://images.kestrel-ridge.example/domes/"}}'),
    )
    found = ask(sends, "https://images.kestrel-ridge.example/old.html")
    assert got(found) == "kestrel-images/domes/index.html"
    forbids = swap(
        ARCHIVE, (grant, grant.replace("}]", "}, {to: everyone, on: kestrel-images/domes/*, denies: true}]"))
    )
    assert got(ask(forbids, "https://images.kestrel-ridge.example/")) == "kestrel-images/index.html"
    assert got(ask(forbids, "https://images.kestrel-ridge.example/domes/")) == "403"
