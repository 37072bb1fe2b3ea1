"""Sites that pass everything on: what the client gets, the tree of exchanges, and what a diagnosis says of it."""

import json

import pytest

from conformance.upstream_worlds import FAILING, OTHER, PLAIN, UPSTREAM_WORLDS, _behind
from portolan.diagnosis.base import Case
from portolan.diagnosis.proposal import Safety
from portolan.diagnosis.search import explain
from portolan.estate.client import PassingProgram
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import OFFICE, ask, got, loaded, problems, schema, swap
from tests.diagnosis.test_wrong_once import causes

#: What real nginx and Apache httpd answer (conformance/upstream_worlds.py holds both sides together).
STATUS = {
    "refused": ("502", "503"), "silent": ("504", "503"), "rejected": ("502", "503"), "nobody": ("502", "503"), "far away": ("504", "503"),
    "no TLS there": ("502", "500"), "TLS there": ("400", "400"), "another name's certificate": ("inner/sub/index.html", "500"),
    "its own certificate": ("inner/sub/index.html", "inner/sub/index.html"), "no HTTP": ("garbled", "served"), "unknown name": ("refused", "500"),
}  # fmt: skip


@pytest.mark.parametrize("what", FAILING)
def test_each_program_makes_its_own_of_a_failure(what):
    """Statuses differ, and so does what is checked of a certificate."""
    for program, expected in zip(("nginx", "apache"), STATUS[what], strict=True):
        text = swap(OFFICE, *_behind(program, "nginx", FAILING[what]))
        assert got(ask(text, f"{PLAIN}/sub/")) == expected


@pytest.mark.parametrize(("path", "final"), [("/sub", "/sub/"), ("/full", "/sub/"), ("/old", "/sub/")])
def test_nginx_turns_redirects_that_are_exactly_its_upstreams(path, final):
    """The visitor stays at the front's address."""
    found = ask(swap(OFFICE, *_behind("nginx", "nginx", "http://10.20.0.16:8080")), f"{OTHER}{path}")
    assert (found.outcome.page, found.outcome.final_url) == ("inner/sub/index.html", f"{OTHER}{final}")


def test_a_redirect_without_the_port_leaks():
    """It leads to an address that the internet does not carry."""
    found = ask(swap(OFFICE, *_behind("nginx", "nginx", "http://10.20.0.16:8080")), f"{PLAIN}/leak")
    assert (found.outcome.kind, found.outcome.final_url) == ("connect-error", "http://10.20.0.16/sub/")


def test_the_exchange_is_a_tree():
    """Each inner exchange has the program that made it as its client."""
    held = loaded(swap(OFFICE, *_behind("nginx", "nginx", "http://10.20.0.16:8082")))
    world = World(held.estate, held.estate.at)
    found = visit(world, f"{PLAIN}/", held.estate.vantages["street"])
    outer, inner = found.tree
    assert (outer.client.name, inner.client.name, inner.client.host) == ("street", "web", "orion")
    assert isinstance(inner.client, PassingProgram)
    assert outer.innermost is inner
    case = Case(world, found, None)
    assert (case.exchange is inner, case.client is inner.client, case.device.name) == (True, True, "orion")
    assert case.stop.kind == "filter-drops"


@pytest.mark.parametrize(
    ("what", "code"),
    [
        ("refused", "upstream-wrong-address"),
        ("silent", "upstream-wrong-address"),
        ("nobody", "upstream-wrong-address"),
        ("no TLS there", "listener-plain-on-tls"),
    ],
)
def test_the_cause_is_looked_for_behind(what, code):
    """The status is the front's, the cause is not."""
    text = swap(
        OFFICE,
        *_behind("nginx", "nginx", FAILING[what]),
        ("expected:\n", f"expected:\n  - {{url: '{PLAIN}/sub/', page: inner}}\n"),
    )
    assert causes(text, f"{PLAIN}/sub/")[0][0] == code


def test_json_and_text_walk_the_tree(program, tmp_path):
    """The inner exchange stands in the answer, and the schema knows it."""
    from jsonschema import Draft202012Validator

    (tmp_path / "estate.yaml").write_text(swap(OFFICE, *_behind("nginx", "nginx", "http://10.20.0.16:8080")), "utf-8")
    data = json.loads(program("follow", f"{PLAIN}/sub/", "--from", "street", "--format", "json").stdout)
    Draft202012Validator(schema("follow")).validate(data)
    inner = data["exchanges"][0]["inner"][0]
    assert inner["client"] == {"kind": "program", "name": "web", "machine": "orion"}
    assert {step["leg"] for step in inner["response"]["steps"]} == {"http"}
    assert inner["connection"]["steps"][-1]["facts"]["service"] == "inner"
    said = program("follow", f"{PLAIN}/sub/", "--from", "street").stdout
    assert (
        "\n    connect · vega takes the connection: inner listens on 8080" in said
        or "\n    connect * vega takes the request" in said
    )


def test_endless_upstreams_end():
    """A program that passes on to itself runs out of connections."""
    for name in ("upstream: nginx, itself", "upstream: apache, itself"):
        assert got(ask(swap(OFFICE, *UPSTREAM_WORLDS[name][0]), f"{PLAIN}/")) == "502"


@pytest.mark.parametrize(
    ("upstream", "said"),
    [
        ("http://10.20.0.16/app?x=1", "expected an upstream such as http://10.20.0.16:8080"),
        ("ftp://10.20.0.16", "expected an upstream such as"),
        ("10.20.0.16:8080", "expected an upstream such as"),
        ('"http://10.20.0.16"\n            answer: 404', "'answer' and 'upstream' both say what the site gives"),
    ],
)
def test_an_upstream_is_a_program(upstream, said):
    """One clear error with its line."""
    written = upstream if upstream.startswith('"') else f'"{upstream}"'
    found = problems(swap(OFFICE, ("files: [index.html]\n", f"upstream: {written}\n")))
    assert any(said in each for each in found), found


WAYS = "program: {{unknown_name: {}, letters_count: false, index_files: [default.htm, index.html], missing: 410, no_index_file: 404}}"


@pytest.mark.parametrize(
    ("unknown", "url", "page"),
    [
        ("refused", f"{OTHER}/", "other/index.html"), ("refused", f"{OTHER}/INDEX.html", "other/index.html"), ("refused", f"{OTHER}/nothing", "410"),
        ("refused", "https://third.kestrel-ridge.example/", "404"), ("first", "https://third.kestrel-ridge.example/", "visit/index.html"),
        ("default", "https://third.kestrel-ridge.example/", "other/index.html"),
    ],
)  # fmt: skip
def test_a_program_is_what_it_does(unknown, url, page):
    """Unknown names, letters, documents and statuses as stated."""
    text = swap(OFFICE, ("program: nginx", WAYS.format(unknown)), ("names: [other.kestrel-ridge.example]", "names: [other.kestrel-ridge.example]\n            default: true"),
                ("      - other 3600", "      - third 60 A 203.0.113.40\n      - other 3600"))  # fmt: skip
    assert got(ask(text, url)) == page


def test_what_a_program_behind_needs_is_not_more_than_is_needed():
    """What works again because its program runs was let in all the time: nothing is laid open."""
    held = loaded(
        swap(
            OFFICE,
            *_behind("nginx", "nginx", "http://10.20.0.16:8080"),
            (
                "      inner:\n        program: nginx\n",
                "      inner:\n        program: nginx\n        state: stopped\n",
            ),
        )
    )
    world = World(held.estate, held.estate.at)
    found = explain(
        world, f"{PLAIN}/", held.estate.vantages["street"], lambda patch: changed(held, patch_operations(patch)).estate
    )
    assert [each.code for each in found.causes] == ["upstream-down"]
    assert [each.safety for each in found.remedies][:1] == [Safety.SAFE]
