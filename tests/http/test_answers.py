"""Answers: which site, which page, which redirect."""

import pytest

from portolan.estate.url import BadUrlError, Url, join, parse
from tests.conftest import OFFICE, ask, got, swap

SITES = """\
        sites:
          first: {names: [first.kestrel-ridge.example, "*.kestrel-ridge.example"], files: [index.html]}
          visit: {names: [visit.kestrel-ridge.example], files: [index.html]}
          deep: {names: ["*.deep.kestrel-ridge.example"], files: [index.html]}
          tail: {names: [tail.*], files: [index.html]}
          off: {names: [off.kestrel-ridge.example], enabled: false, files: [index.html]}
"""
START = OFFICE.index("        sites:\n")
NAMED = swap(OFFICE[:START] + SITES + OFFICE[OFFICE.index("certificates:\n") :], ("      - visit 3600", '      - "*.deep 60 A 203.0.113.40"\n      - "* 60 A 203.0.113.40"\n      - visit 3600'),
             ("listens: [80, 443 tls]", "listens: [80]"), ("zones:\n", "zones:\n  other.example: {records: [\"* 60 A 203.0.113.40\"]}\n"))  # fmt: skip


@pytest.mark.parametrize(
    ("host", "nginx", "apache"),
    [
        ("visit.kestrel-ridge.example", "visit", "first"),
        ("VISIT.kestrel-ridge.example.", "visit", "first"),
        ("first.kestrel-ridge.example", "first", "first"),
        ("x.kestrel-ridge.example", "first", "first"),
        ("x.deep.kestrel-ridge.example", "deep", "first"),
        ("tail.other.example", "tail", "tail"),
        ("off.kestrel-ridge.example", "first", "first"),
        ("none.other.example", "first", "first"),
        ("203.0.113.40", "first", "first"),
    ],
)
def test_which_site(host, nginx, apache):
    """nginx takes the most exact name, Apache httpd the first in order."""
    assert got(ask(NAMED, f"http://{host}/")) == f"{nginx}/index.html"
    assert got(ask(swap(NAMED, ("program: nginx", "program: apache")), f"http://{host}/")) == f"{apache}/index.html"


def test_listeners_come_before_names():
    """The most specific address wins before any name is looked at."""
    text = swap(NAMED, ("listens: [80]", "listens: [80, '10.20.0.15:80']"), ("tail: {names: [tail.*],", "tail: {names: [tail.*], listens: ['10.20.0.15:80'],"),
                ("visit: {names: [visit.kestrel-ridge.example],", "visit: {names: [visit.kestrel-ridge.example], listens: [80],"))  # fmt: skip
    assert got(ask(text, "http://visit.kestrel-ridge.example/")) == "first/index.html"
    assert (
        got(ask(swap(text, ("program: nginx", "program: apache")), "http://visit.kestrel-ridge.example/")) == "refused"
    )


def test_the_default_site_may_be_named():
    """A site that says default takes the rest."""
    assert (
        got(ask(swap(NAMED, ("tail: {", "tail: {default: true, ")), "http://none.other.example/")) == "tail/index.html"
    )


CONTENT = swap(
    OFFICE,
    (
        "files: [index.html, tonight.html, img/dome.jpg]",
        "files: [index.html, img/dome.jpg, a b.html, sub/index.html, Case.html]",
    ),
)


@pytest.mark.parametrize(
    ("path", "expected"),
    [
        ("/", "visit/index.html"), ("", "visit/index.html"), ("/index.html", "visit/index.html"), ("/img/dome.jpg", "visit/img/dome.jpg"),
        ("/img/", "403"), ("/img", "403"), ("/sub", "visit/sub/index.html"), ("/sub/", "visit/sub/index.html"), ("/nope", "404"),
        ("/nope/", "404"), ("/case.html", "404"), ("/a%20b.html", "visit/a b.html"), ("/a b.html", "visit/a b.html"),
        ("/img/../index.html", "visit/index.html"), ("//index.html", "visit/index.html"), ("/index.html?x=1#y", "visit/index.html"),
        ("/index.html/", "404"),
    ],
)  # fmt: skip
def test_content(path, expected):
    """Files, folders, index files, and what is missing."""
    assert got(ask(CONTENT, f"https://visit.kestrel-ridge.example{path}")) == expected


@pytest.mark.parametrize(("program", "port", "expected"), [("nginx", 8080, "http://visit.kestrel-ridge.example/sub/?q=1"),
                         ("apache", 8080, "http://visit.kestrel-ridge.example:8080/sub/?q=1")])  # fmt: skip
def test_the_missing_slash_behind_a_forward(program, port, expected):
    """nginx writes its own port into the target, Apache httpd the port asked for."""
    text = swap(CONTENT, ("      - {on: line, tcp: 80, to: 10.20.0.15}", "      - {on: line, tcp: 8080, to: 10.20.0.15, port: 80}"),
                ("program: nginx", f"program: {program}"))  # fmt: skip
    found = ask(text, f"http://visit.kestrel-ridge.example:{port}/sub?q=1")
    assert found.exchanges[0].response.location == expected


def redirecting(*rules: str) -> str:
    """The office whose visit site has redirect rules."""
    return swap(
        OFFICE,
        (
            "            certificate: visit\n            files: [index.html, ton",
            "            redirects: ["
            + ", ".join(rules)
            + "]\n            certificate: visit\n            files: [index.html, ton",
        ),
    )


SECURE = '{when: {scheme: http}, to: "https://{host}{path}{query}"}'


@pytest.mark.parametrize(
    ("rules", "url", "expected", "final"),
    [
        ([SECURE], "http://visit.kestrel-ridge.example/tonight.html?a=b", "visit/tonight.html", "https://visit.kestrel-ridge.example/tonight.html?a=b"),
        (['{when: {path: /old}, to: /tonight.html}'], "https://visit.kestrel-ridge.example/old", "visit/tonight.html", "https://visit.kestrel-ridge.example/tonight.html"),
        (['{when: {path: "/o/*"}, to: "/{rest}"}'], "https://visit.kestrel-ridge.example/o/img/dome.jpg", "visit/img/dome.jpg", "https://visit.kestrel-ridge.example/img/dome.jpg"),
        (['{when: {host: other.kestrel-ridge.example}, to: "https://elsewhere.example/"}'], "https://visit.kestrel-ridge.example/", "visit/index.html", "https://visit.kestrel-ridge.example/"),
        (['{to: "https://{host}/"}'], "http://visit.kestrel-ridge.example/", "loop", "https://visit.kestrel-ridge.example/"),
        (['{to: "https://{host}/x{path}"}'], "http://visit.kestrel-ridge.example/", "too-many", None),
        (['{to: "ftp://{host}/"}'], "http://visit.kestrel-ridge.example/", "bad-target", "http://visit.kestrel-ridge.example/"),
        (['{to: "https://other.kestrel-ridge.example{path}"}'], "http://visit.kestrel-ridge.example/", "other/index.html", "https://other.kestrel-ridge.example/"),
        (['{to: "http://inner/"}'], "https://visit.kestrel-ridge.example/", "no-such-name", "http://inner/"),
    ],
)  # fmt: skip
def test_redirects(rules, url, expected, final):
    """Conditions, placeholders, loops and dead ends."""
    found = ask(redirecting(*rules), url)
    assert got(found) == expected
    assert final is None or found.outcome.final_url == final


def test_fixed_answers_and_wrong_protocols():
    """A catch-all's status; plain HTTP to a TLS port; something else on the port."""
    assert got(ask(swap(OFFICE, ("files: [index.html, tonight.html, img/dome.jpg]", "answer: 404")))) == "404"
    assert got(ask(swap(OFFICE, ("files: [index.html, tonight.html, img/dome.jpg]", "answer: 204")))) == "visit/"
    assert got(ask(OFFICE, "http://visit.kestrel-ridge.example:443/")) == "400"
    text = swap(OFFICE, ("      web:\n", "      mail: {kind: other, listens: [25]}\n      web:\n"))
    assert got(ask(text, "http://10.20.0.15:25/", "office")) == "garbled"
    assert got(ask(text, "https://10.20.0.15:25/", "office")) == "not-tls"


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("HTTP://Visit.Example", "http://visit.example/"), ("https://a.example:443/x", "https://a.example/x"),
        ("http://a.example:8080", "http://a.example:8080/"), ("http:\\\\a.example\\x", "http://a.example/x"),
        ("http://u:p@a.example/", "http://a.example/"), (" http://a.example/\n", "http://a.example/"),
        ("http://a.example/%7Ex/./y/../z", "http://a.example/%7Ex/z"), ("http://a.example?q", "http://a.example/?q"),
        ("http://127.1/", "http://127.0.0.1/"), ("http://[2001:DB8::1]:81/", "http://[2001:db8::1]:81/"),
        ("http://b\u00fccher.example/\u00e9", "http://xn--bcher-kva.example/%C3%A9"), ("http://a.example/a b", "http://a.example/a%20b"),
    ],
)  # fmt: skip
def test_urls_as_typed(text, expected):
    """WHATWG URL section 4, for what is typed."""
    assert str(parse(text)) == expected


@pytest.mark.parametrize("text", ["visit.example", "visit.example:80/", "ftp://a.example/", "http://", "http:///", "http://a.example:0/", "http://a.example:99999/",
                                  "http://a.example:x/", "http://2001:db8::1/", "http://[2001:db8::1/", "http://[zz]/", "http://a b/", "http://1.2.3.4.5/",
                                  "http://256.1.1.1/", "http://a..b/", "", "http://xn--\u0000/", "http://%zz/"])  # fmt: skip
def test_urls_that_are_none(text):
    """Each says why."""
    with pytest.raises(BadUrlError, match=r"\w\."):
        parse(text)


@pytest.mark.parametrize(
    ("reference", "expected"),
    [("g", "http://a/b/c/g"), ("./g", "http://a/b/c/g"), ("/g", "http://a/g"), ("//g", "http://g/"), ("?y", "http://a/b/c/d?y"), ("../g", "http://a/b/g"),
     ("../../../g", "http://a/g"), ("g?y#s", "http://a/b/c/g?y"), ("https://h/", "https://h/"), ("..", "http://a/b/")],
)  # fmt: skip
def test_references(reference, expected):
    """RFC 3986 section 5.4."""
    base = Url("http", "a", 80, "/b/c/d", "?q")
    assert str(join(base, reference)) == expected


#: What a client makes of a place that is written with backslashes or the wrong number of slashes, measured with curl 7.88 and
#: Chromium; None where it goes nowhere (URL standard, section 4.4: a browser takes a backslash before the query for a slash).
ODD_PLACES = {
    "\\new": ("http://a/b/c/%5Cnew", "http://a/new"),
    "\\\\h\\x": ("http://a/b/c/%5C%5Ch%5Cx", "http://h/x"),
    "/\\h/x": ("http://a/%5Ch/x", "http://h/x"),
    "sub\\page": ("http://a/b/c/sub%5Cpage", "http://a/b/c/sub/page"),
    "..\\up": ("http://a/b/c/..%5Cup", "http://a/b/up"),
    "?y=\\z": ("http://a/b/c/d?y=\\z", "http://a/b/c/d?y=\\z"),
    "http:\\\\h\\x": (None, "http://h/x"),
    "http://h\\x": (None, "http://h/x"),
    "//h\\x": (None, "http://h/x"),
    "HTTP:/h/x": ("http://h/x", "http://a/h/x"),
    "https:/h/x": ("https://h/x", "https://h/x"),
    "////h/x": (None, "http://h/x"),
    "http:///h/x": ("http://h/x", "http://h/x"),
    "///h/x": ("http://h/x", "http://h/x"),
    "http:new": (None, "http://a/b/c/new"),
    "https:h/x": (None, "https://h/x"),
    "http:?y": (None, "http://a/b/c/d?y"),
    "http:": (None, "http://a/b/c/d?q"),
    "//": (None, None),
}


@pytest.mark.parametrize("reference", ODD_PLACES)
@pytest.mark.parametrize(("at", "like"), [(0, "curl"), (1, "chromium")])
def test_odd_places(reference, at, like):
    """Where clients differ, each goes its own way."""
    base, expected = Url("http", "a", 80, "/b/c/d", "?q"), ODD_PLACES[reference][at]
    if expected is None:
        with pytest.raises(BadUrlError, match=r"\w\."):
            join(base, reference, like)
    else:
        assert str(join(base, reference, like)) == expected
