"""What edges go by: Expires and Age, cookies, writes, what was purged, other origins for some paths, what is said to origins."""

import pytest

from portolan.diagnosis.asking import answers
from portolan.diagnosis.lint import lint
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.turns import turns
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.problem import EstateError
from tests.conftest import got, loaded
from tests.diagnosis.test_edges_and_buckets import ARCHIVE

BOOKINGS = "https://bookings.kestrel-ridge.example/"
EDGE, SITE = "edges/desk", "hosts/vela/services/web/sites/bookings"
#: It was asked for all at seven, when the machine had another site.
OTHER = {"program": "nginx", "certificate": "images"}


def asked_at_seven(said=None, **edge):
    """What the site said to caches then, and what is otherwise at the edge."""
    site = {
        "default": True,
        "files": ["index.html"],
        "redirects": [{"when": {"path": "/"}, "to": "/old", "status": 301}],
    }
    web = {**OTHER, "listens": ["80", "443 tls"], "sites": {"bookings": {**site, **(said or {})}}}
    return {
        f"{EDGE}/last_asked": "2026-03-14T19:00:00Z",
        "hosts/vela/before": [{"until": "2026-03-14T19:30:00Z", "services": {"web": web}}],
        f"{EDGE}/keeps": {301: 86_400, 200: 86_400},
        **{f"{EDGE}/{key}": value for key, value in edge.items()},
    }


ASKED_NOW = "bookings/index.html"
KEPT = {"url": "https://bookings.kestrel-ridge.example/*", "since": "2026-03-14T19:00:00Z", "page": "bookings/old.html"}
HOLDS = {f"{EDGE}/holds": [KEPT]}
POSTS = {f"{EDGE}/methods": ["GET", "POST"], "vantages/street/method": "POST", "vantages/street/body": 3}
CLEARS = {f"{SITE}/redirects": [{"when": {"method": ["POST"]}, "to": "/", "status": 303}], **HOLDS, **POSTS}
ORIGIN = {"at": "rack.kestrel-ridge.example", "leg": "verified", "host": "kept"}
WANTS = {f"{EDGE}/passes_scheme_as": "Forwarded", f"{EDGE}/passes_address_as": "Forwarded"}
PART = {f"{EDGE}/by_path": [{"path": "/a", "caches": False}]}
API = {"path": "/api/*", "origin": "nowhere.kestrel-ridge.example"}
#: What is otherwise, and what somebody on the street gets at /.
GETS = [
    (asked_at_seven(), "404"),
    (asked_at_seven({"expires_after": 0}), ASKED_NOW),
    (asked_at_seven({"expires_after": 7200}), "404"),
    (asked_at_seven({"expires_after": 60}), ASKED_NOW),
    (asked_at_seven({"expires_after": 60, "cache_control": "max-age=7200"}), "404"),
    (asked_at_seven({"expires_after": 60}, obeys_origin=False), "404"),
    (asked_at_seven({"expires_after": 7200, "age": 7000}), ASKED_NOW),
    (asked_at_seven({"expires_after": 7200, "age": 7000}, counts_age=False), "404"),
    (asked_at_seven({"sets_cookie": True}), ASKED_NOW),
    (asked_at_seven({"sets_cookie": True}, holds_cookies=True), "404"),
    (HOLDS, "bookings/old.html"),
    ({**HOLDS, f"{EDGE}/purged": [BOOKINGS]}, ASKED_NOW),
    ({**HOLDS, f"{EDGE}/purged": [f"{BOOKINGS}other/*"]}, "bookings/old.html"),
    (CLEARS, "bookings/old.html"),
    ({**CLEARS, f"{EDGE}/writes_clear": True}, ASKED_NOW),
    ({f"{EDGE}/origin": {**ORIGIN, "says_name": "rack.kestrel-ridge.example"}}, ASKED_NOW),
    ({f"{EDGE}/origin": {**ORIGIN, "says_name": "rack.nights.example"}}, "502"),
    ({f"{EDGE}/by_path": [API]}, ASKED_NOW),
    ({f"{EDGE}/by_path": [{**API, "path": "/"}]}, "502"),
    ({f"{EDGE}/by_path": [{**API, "path": "/*"}, {**API, "path": "/", "origin": ORIGIN}]}, "502"),
    ({**HOLDS, f"{EDGE}/by_path": [{"path": "/", "caches": False}]}, ASKED_NOW),
    ({f"{EDGE}/methods": ["POST"], f"{EDGE}/by_path": [{"path": "/", "methods": ["GET"]}]}, ASKED_NOW),
    ({f"{EDGE}/origin/looked_up": "2026-03-14T19:59:00Z"}, ASKED_NOW),
]  # fmt: skip


def estate(facts):
    """The archive with some facts otherwise."""
    held = loaded(ARCHIVE)
    return changed(held, patch_operations([{"op": "add", "path": f"/{path}", "value": value} for path, value in facts.items()])).estate  # fmt: skip


@pytest.mark.parametrize(("facts", "expected"), GETS)
def test_what_somebody_gets(facts, expected):
    """By the rules of RFC 9111, and by what is stated."""
    made = estate(facts)
    assert got(visit(World(made, made.at), BOOKINGS, made.vantages["street"])) == expected


def test_what_is_said_to_the_origin():
    """One field that is made for it, with both parts (RFC 7239), behind what came with the request."""
    made = estate({**WANTS, "vantages/street/headers": {"Forwarded": "for=192.0.2.43"}})
    found = visit(World(made, made.at), BOOKINGS, made.vantages["street"])
    said = found.exchanges[-1].inner[0].client.saying.header("forwarded")
    assert said == "for=192.0.2.43, for=198.51.100.77;proto=https"


@pytest.mark.parametrize(("moment", "asked"), [("2026-03-14T19:56:00Z", "192.0.2.10"), ("2026-03-14T19:54:00Z", "192.0.2.11")])  # fmt: skip
def test_an_address_is_kept_for_its_ttl(moment, asked):
    """Of five minutes; then it is asked anew."""
    records = ["bookings 300 CNAME d9.edges.example.", "rack 300 A 192.0.2.11"]
    made = estate(
        {
            "zones/kestrel-ridge.example/records": records,
            "zones/kestrel-ridge.example/before": [
                {"until": "2026-03-14T19:58:00Z", "records": [records[0], "rack 300 A 192.0.2.10"]}
            ],
            f"{EDGE}/origin/looked_up": moment,
            f"{EDGE}/origin/keeps_ttl": True,
        }
    )
    found = visit(World(made, made.at), BOOKINGS, made.vantages["street"])
    assert [str(each) for each in found.exchanges[-1].inner[0].resolution.addresses] == [asked]


@pytest.mark.parametrize(
    ("facts", "complaint"),
    [
        ({f"{EDGE}/by_path": [{"path": "api"}]}, "expected a path such as /status or /api/*, found 'api'"),
        ({f"{EDGE}/by_path": [{"path": "/a"}, {"path": "/a"}]}, "'/a' stands in line"),
        ({f"{EDGE}/by_path": [{"path": "/a", "keeps": {200: -1}}]}, "expected a number of seconds for 200, found -1"),
        ({**PART, f"{EDGE}/key": ["path", "normal-path"]}, "two ways to have the path in the key"),
        ({**PART, f"{EDGE}/keeps": {200: -1}}, "expected a number of seconds for 200, found -1"),
        ({**PART, f"{EDGE}/origin/answer_within": 0}, "expected a number of seconds, found 0"),
        ({f"{EDGE}/purged": ["/old"]}, "scheme"),
        ({f"{EDGE}/origin/keeps_ttl": True}, "'keeps_ttl' goes with 'looked_up'"),
        ({f"{EDGE}/program": "nginx", f"{EDGE}/writes_clear": True}, "nginx has a way of its own there"),
        ({f"{SITE}/age": -1}, "expected a number of seconds, found -1"),
    ],
)
def test_what_cannot_be(facts, complaint):
    """One error that says what was expected; what a part does not say is not held against it."""
    with pytest.raises(EstateError) as caught:
        estate(facts)
    found = [str(each) for each in caught.value.problems]
    assert sum(complaint in each for each in found) == 1, found


#: What is otherwise at the edge, and the place that a refusal rests on.
REFUSED_BY = [
    ({f"{EDGE}/access": {"from": ["192.0.2.0/24"]}}, f"{EDGE}/access"),
    ({f"{EDGE}/plain": "refuse"}, f"{EDGE}/plain"),
    ({f"{EDGE}/by_path": [{"path": "/*", "methods": ["POST"]}]}, f"{EDGE}/by_path/0/methods"),
]


@pytest.mark.parametrize(("facts", "place"), REFUSED_BY)
def test_a_refusal_rests_on_the_edge_or_on_the_part_that_says_it(facts, place):
    """A part has no filter and no redirect of its own."""
    made = estate({f"{EDGE}/by_path": [{"path": "/*", "caches": False}], **facts})
    found = visit(World(made, made.at), BOOKINGS.replace("https", "http"), made.vantages["street"])
    assert (got(found), "/".join(map(str, found.stop.place.path))) == ("403", place)


@pytest.mark.parametrize(("part", "times"), [({}, 1), ({"origin": ORIGIN}, 2), ({"origin": "nowhere.kestrel-ridge.example"}, 1)])  # fmt: skip
def test_what_stands_open_past_an_edge_is_told_once_for_each_origin(part, times):
    """A part that asks whom the edge asks opens no other way."""
    made = estate({f"{EDGE}/by_path": [{"path": "/a", "caches": False, **part}]})
    assert [each.code for each in lint(World(made, made.at))].count("edge-bypassed") == times


IMAGES = "https://images.kestrel-ridge.example/"
BEFORE = {"edges/front/before": [{"until": "2026-03-14T19:00:00Z", "origin": "nowhere.kestrel-ridge.example"}]}


@pytest.mark.parametrize(
    ("facts", "now", "otherwise"),
    [({}, "kestrel-images/index.html", "no-such-name"), (BEFORE, "kestrel-images/index.html", "502")],
)
def test_a_deployment_whose_end_nobody_knows(facts, now, otherwise):
    """Both answers are told; what comes of the old settings is a cause of its own, and waiting mends it."""
    made = estate({"edges/front/in_effect_from": "unknown", **facts})
    world = World(made, made.at)
    found = visit(world, IMAGES, made.vantages["street"])
    (turn,) = turns(world, found, made.expected[0])
    assert (got(found), got(turn.visit), bool(turn.misses)) == (now, otherwise, True)
    (cause,) = (each.cause for each in answers(world, lambda _: made).groups if each.cause is not None)
    assert (cause.code, cause.object) == ("edge-not-in-effect", "edges.front.in_effect_from")


def test_what_is_known_to_be_in_effect_has_one_answer():
    """No turn comes of an edge whose settings are."""
    made = estate({"edges/front/in_effect_from": "2026-03-14T19:00:00Z", **BEFORE})
    world = World(made, made.at)
    assert turns(world, visit(world, IMAGES, made.vantages["street"]), made.expected[0]) == ()


NGINX = {"kind": "edge", "program": "nginx", "listens": [80], "names": ["bookings.kestrel-ridge.example"], "origin": "rack.kestrel-ridge.example"}  # fmt: skip


@pytest.mark.parametrize(("caches", "asked"), [(True, "GET"), (False, "HEAD")])
def test_head_at_nginx_with_a_cache(caches, asked):
    """What is held for HEAD is held for GET, and is asked for so (measured)."""
    made = estate(
        {
            "hosts/rim": {"interfaces": {"line": {"network": "internet", "address": "192.0.2.30"}}, "services": {"cache": {**NGINX, "caches": caches}}},
            "zones/kestrel-ridge.example/records": ["bookings 300 A 192.0.2.30", "rack 300 A 192.0.2.10"],
            "vantages/street/method": "HEAD",
        }
    )  # fmt: skip
    found = visit(World(made, made.at), "http://bookings.kestrel-ridge.example/", made.vantages["street"])
    assert [each.client.saying.method for each in found.exchanges[-1].inner] == [asked]


@pytest.mark.parametrize(
    ("facts", "url", "expected"),
    [
        ({"refuses_with": 421}, "http://192.0.2.30/", "421"),
        ({}, "http://192.0.2.30/", "404"),
        ({"unknown_in_tls": "rejected", "certificate": "images", "listens": [80, "443 tls"]}, "https://other.kestrel-ridge.example/", "other"),
    ],
)  # fmt: skip
def test_names_of_nobody_at_nginx(facts, url, expected):
    """A server of their own takes them where it says what they get; else the only one."""
    made = estate(
        {
            "hosts/rim": {"interfaces": {"line": {"network": "internet", "address": "192.0.2.30"}}, "services": {"cache": {**NGINX, **facts}}},
            "zones/kestrel-ridge.example/records": ["other 300 A 192.0.2.30", "rack 300 A 192.0.2.10"],
        }
    )  # fmt: skip
    assert got(visit(World(made, made.at), url, made.vantages["street"])) == expected
