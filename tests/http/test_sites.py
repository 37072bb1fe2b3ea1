"""Sites against what nginx 1.22 and Apache httpd 2.4 were measured to do: each line by both, worked out by hand from the real ones."""

import re
from datetime import UTC, datetime, timedelta

import pytest

from conformance.web_common import VISITORS, U, behind, world
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import STORIES, ask, got, loaded, swap

FOUND = STORIES.parents[2] / "tests" / "found" / "web"
FULL = "files: [index.html, a.html, sub/index.html, empty/, list/x.txt, secret.html, sorry.html]"
CLOSED = f"{FULL}\nrights: {{secret.html: '0600 root:root', sub: '0744 root:root', .: '0755 root:root'}}"


def answer(program, facts, path, vantage="street", others="", machine="", service=""):
    """The status, or the page, that one site gives."""
    sites = "visit:\n  names: [visit.kestrel-ridge.example]\n" + "".join(f"  {line}\n" for line in facts.split("\n"))
    text = world(program, sites, [(U + path, vantage)], others=others, machine=machine, service=service).text
    estate = load(MemoryFiles({"estate.yaml": text}), "estate.yaml").estate
    return got(visit(World(estate, estate.at), U + path, estate.vantages[vantage]))


@pytest.mark.parametrize(
    ("facts", "path", "vantage", "nginx", "apache"),
    [
        (FULL, "/nope", "street", "404", "404"),
        (FULL, "/empty/", "street", "403", "403"),
        (FULL, "/a.html/", "street", "404", "404"),
        (FULL, "/a.html", "poster", "405", "visit/a.html"),
        (FULL, "/nope", "poster", "404", "404"),
        (FULL, "/empty/", "poster", "403", "404"),
        (FULL, "/nope", "putter", "405", "405"),
        (FULL, "/nope", "optioner", "405", "served"),
        (FULL, "/a.html", "tracer", "405", "served"),
        (f"{FULL}\nmethods: [GET]", "/a.html", "poster", "403", "405"),
        (f"{FULL}\nlisting: true", "/list/", "street", "visit/list/", "visit/list/"),
        (CLOSED, "/secret.html", "street", "403", "403"),
        (CLOSED, "/sub/index.html", "street", "403", "403"),
        (f"{FULL}\nlinks: {{to: gone}}", "/to", "street", "404", "403"),
        (f"{FULL}\nlinks: {{to: a.html}}", "/to", "street", "visit/to", "visit/to"),
        (f"{FULL}\naccess: {{password: true}}", "/a.html", "street", "401", "401"),
        (f"{FULL}\naccess: {{password: true}}", "/a.html", "member", "visit/a.html", "visit/a.html"),
        (f"{FULL}\naccess: {{password: true, from: 192.0.2.0/24}}", "/a.html", "member", "403", "403"),
        (f"{FULL}\naccess: {{password: true, nobody: true, either: true}}", "/a.html", "member", "visit/a.html", "visit/a.html"),
        (f"{FULL}\nerror_pages: {{404: /gone.html}}", "/nope", "street", "404", "404"),
        (f"{FULL}\nfallback: a.html", "/nope", "street", "visit/a.html", "visit/a.html"),
        (f"{FULL}\nfallback: a.html", "/nope", "poster", "405", "visit/a.html"),
        (f"{FULL}\nfallback: gone.html", "/nope", "street", "500", "500"),
        ("answer: 444", "/", "street", "empty", None),
        ("answer: 494", "/", "street", "400", None),
        (f"{FULL}\nsections: [{{path: /a, answer: 410}}]", "/a.html", "street", "410", "visit/a.html"),
        (f"{FULL}\nsections: [{{path: /sub/, answer: 410}}, {{pattern: index, answer: 404}}]", "/sub/", "street", "410", "410"),
        (f"{FULL}\nsections: [{{pattern: index, answer: 404}}]", "/sub/", "street", "404", "visit/sub/index.html"),
    ],
)  # fmt: skip
def test_content_as_measured(facts, path, vantage, nginx, apache):
    """Where the two servers differ, each is itself."""
    assert answer("nginx", facts, path, vantage) == nginx
    if apache is not None:
        assert answer("apache", facts, path, vantage) == apache


@pytest.mark.parametrize(
    ("said", "nginx", "apache"),
    [
        ("nobody", "400", "400"),
        ("empty", "400", "400"),
        ("twodots", "400", "400"),
        ("badport", "visit/index.html", "400"),
        ("dotted", "visit/index.html", "visit/index.html"),
        ("ported", "visit/index.html", "visit/index.html"),
        ("upper", "visit/index.html", "visit/index.html"),
        ("long", "400", "400"),
    ],
)
def test_host_names_as_they_are_said(said, nginx, apache):
    """RFC 9112 section 3.2, as far as each goes."""
    assert (answer("nginx", FULL, "/", said), answer("apache", FULL, "/", said)) == (nginx, apache)


FRONT = '{facts}\nsections: [{{path: {path}, upstream: {{to: "http://10.20.0.16:8080{to}"}}}}]'
INNER = "inner: {files: [index.html, app/x.html, x.html, base/x.html]}"


@pytest.mark.parametrize(
    ("path", "to", "asked", "nginx", "apache"),
    [
        ("/app/", "", "/app/x.html", "inner/app/x.html", "500"),
        ("/app/", "/", "/app/x.html", "inner/x.html", "inner/x.html"),
        ("/app", "/base", "/app/x.html", "inner/base/x.html", "inner/base/x.html"),
        ("/app", "/", "/application", "404", "404"),
        ("/app/", "/", "/app/a%2Fb", "404", "404"),
    ],
)
def test_what_is_passed_on(path, to, asked, nginx, apache):
    """A prefix is replaced by nginx where the upstream has a path, by Apache httpd always: a slash may be lost."""
    facts = FRONT.format(facts="files: [own.html]", path=path, to=to)
    others = behind("nginx", INNER)
    assert (answer("nginx", facts, asked, others=others), answer("apache", facts, asked, others=others)) == (
        nginx,
        apache,
    )


@pytest.mark.parametrize(
    ("when_asked", "nginx", "apache"),
    [("silent", "504", "502"), ("closes", "502", "502"), ("resets", "502", "502"), ("bad-header", "502", "502"), ("greets", "garbled", "served"), ("breaks-off", "broken-off", "broken-off")],
)  # fmt: skip
def test_programs_that_misbehave_behind_a_front(when_asked, nginx, apache):
    """Each failure has its status."""
    others = behind("nginx", INNER) + f"      odd: {{kind: other, listens: [7000], when_asked: {when_asked}}}\n"
    facts = 'upstream: "http://10.20.0.16:7000"'
    assert (answer("nginx", facts, "/", others=others), answer("apache", facts, "/", others=others)) == (nginx, apache)


def test_a_browser_shows_what_came_of_an_answer_that_breaks_off():
    """And says nothing (measured); curl says that the rest is missing."""
    others = behind("nginx", INNER) + "      odd: {kind: other, listens: [7000], when_asked: breaks-off}\n"
    facts = 'visit:\n  names: [visit.kestrel-ridge.example]\n  upstream: "http://10.20.0.16:7000"\n'
    text = world("nginx", facts, [(f"{U}/", "street")], others=others).text
    found = ask(swap(text, ("street: {", "street: {like: chromium, ")), f"{U}/")
    assert (found.outcome.kind, found.outcome.page) == ("served", None)
    assert re.fullmatch("visit passes on an answer of http://10.20.0.16:7000/? that breaks off", found.outcome.doubt)


def test_grants_are_judged_before_existence():
    """404 inside what is granted, 403 outside."""
    machine = "folders: {/srv/visit: {files: [index.html]}}"
    for grant, expected in (("/srv", "404"), ("/srv/visit", "403"), ("/srv/visti", "403")):
        assert answer("apache", "folder: /srv/visti", "/", machine=machine, service=f"grants: [{grant}]") == expected
    assert answer("nginx", "folder: /srv/visti", "/", machine=machine) == "404"


@pytest.mark.parametrize(
    ("name", "url", "vantage", "expected"),
    [
        ("two_defaults_nginx", "http://192.0.2.9:8080/", "street", "refused"),
        ("final_dot_in_server_name", "http://a.test/", "v", "first/index.html"),
        ("nginx_listener_without_site", "http://192.0.2.9/", "street", "refused"),
        ("copy-folder-mistyped", "http://clockhouse.example/", "street", "404"),
    ],
)
def test_what_reality_contradicted(name, url, vantage, expected):
    """The estates of the section Web."""
    estate = loaded((FOUND / f"{name}.yaml").read_text("utf-8")).estate
    from tests.conftest import NOW

    assert got(visit(World(estate, estate.at or NOW), url, estate.vantages[vantage])) == expected


def test_posted_requests_become_asked_ones_where_clients_do_so():
    """301 to 303 turn POST into GET; 307 and 308 do not (RFC 9110 section 15.4)."""
    for status, expected in (
        (301, "visit/a.html"),
        (302, "visit/a.html"),
        (303, "visit/a.html"),
        (307, "405"),
        (308, "405"),
    ):
        facts = f"files: [a.html]\nredirects: [{{when: {{path: /old}}, to: /a.html, status: {status}}}]"
        assert answer("nginx", facts, "/old", "poster") == expected


def test_an_expression_without_end_is_matched_in_no_time():
    """Nested repeats cost time linear to the text."""
    facts = 'files: [x]\nredirects: [{when: {pattern: "^/(a+)+$"}, to: /x}]'
    assert answer("nginx", facts, "/" + "a" * 60 + "!") == "404"
    assert set(VISITORS) >= {"street", "poster"}


def test_a_site_that_another_program_serves_is_worked_out_anew():
    """Worlds of one estate share what they work out; which program serves a site is part of it."""
    estate = loaded(
        "portolan: 1\n"
        "vantages: {street: {network: internet, address: 198.51.100.7}}\n"
        "hosts:\n  a:\n    interfaces: {eth0: {network: internet, address: 203.0.113.20/24}}\n    services:\n      web:\n        kind: web\n"
        "        sites: {visit: {names: [visit.kestrel-ridge.example], files: [index.html, a.html]}}\n"
        "        before: [{until: 2026-03-01, program: {index_files: [a.html]}}]\n"
    ).estate
    now = datetime(2026, 3, 2, tzinfo=UTC)
    later, url = World(estate, now), "http://203.0.113.20/"
    earlier = later.then(now - timedelta(days=7))
    found = [got(visit(each, url, each.estate.vantages["street"])) for each in (later, earlier, later)]
    assert found == ["visit/index.html", "visit/a.html", "visit/index.html"]
