"""Scripts that another program runs (FastCGI), as measured with nginx, Apache httpd and a real runner of scripts."""

import pytest

from conformance.front_worlds import FRONT_WORLDS
from tests.conftest import OFFICE, all_got, ask, got, problems, swap

FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"
SCRIPTS = """\
            folder: /srv/visit
            files: [index.php, a.php, x.html, in/index.php, shut.php]
            rights: {shut.php: "0600 root:root"}
            index_files: [index.php, index.html]
            sections: [{pattern: "[.]php$", scripts_at: AT}]
"""
RUNNER = "    services:\n      pages: {kind: scripts, FACTS}\n      web:"


def office(program: str, facts: str, at: str, more: str = "") -> str:
    """The visit site with scripts, and who runs them."""
    runner = RUNNER.replace("FACTS", facts) if facts else "    services:\n      web:"
    return swap(
        OFFICE.replace("program: nginx", f"program: {program}"),
        (FILES, SCRIPTS.replace("AT", at) + more),
        ("    services:\n      web:", runner),
    )


#: Where it listens, where it is asked, the path; what nginx and Apache httpd give.
MEASURED = [
    ("socket: /run/p.sock", "/run/p.sock", "/", "visit/index.php", "visit/index.php"),
    ("socket: /run/p.sock", "/run/p.sock", "/a.php", "visit/a.php", "visit/a.php"),
    ("socket: /run/p.sock", "/run/p.sock", "/in/", "visit/in/index.php", "visit/in/index.php"),
    ("socket: /run/p.sock", "/run/p.sock", "/x.html", "visit/x.html", "visit/x.html"),
    ("socket: /run/p.sock", "/run/p.sock", "/none.php", "404", "404"),
    ("socket: /run/p.sock", "/run/p.sock", "/shut.php", "403", "403"),
    ("socket: /run/p.sock", "/run/q.sock", "/a.php", "502", "503"),
    ("socket: /run/p.sock", "/run/q.sock", "/none.php", "502", "503"),
    ("socket: /run/p.sock, state: stopped", "/run/p.sock", "/a.php", "502", "503"),
    ('socket: /run/p.sock, socket_rights: "0660 x:x"', "/run/p.sock", "/a.php", "502", "503"),
    ('socket: /run/p.sock, socket_rights: "0660 x:www-data"', "/run/p.sock", "/a.php", "visit/a.php", "visit/a.php"),
    ("listens: [127.0.0.1:9000]", "127.0.0.1:9000", "/a.php", "visit/a.php", "visit/a.php"),
    ("listens: [127.0.0.1:9000]", "127.0.0.1:9001", "/a.php", "502", "503"),
    ("listens: [127.0.0.1:9000]", "127.0.0.1:80", "/a.php", "502", "503"),
    ("", "/run/p.sock", "/a.php", "visit/a.php", "visit/a.php"),
]


@pytest.mark.parametrize("case", range(len(MEASURED)))
@pytest.mark.parametrize("program", ["nginx", "apache"])
def test_scripts(program, case):
    """What runs, and what comes where nobody runs it."""
    facts, at, path, nginx, apache = MEASURED[case]
    found = ask(office(program, facts, at), f"https://visit.kestrel-ridge.example{path}")
    assert got(found) == (nginx if program == "nginx" else apache)


def test_who_is_not_described_is_assumed():
    """A socket of which nothing says who listens there."""
    found = ask(office("nginx", "", "/run/p.sock"), "https://visit.kestrel-ridge.example/a.php")
    assert "scripts-assumed" in [each.kind for each in found.assumptions]


def test_a_page_of_the_site_for_everything():
    """What publishing programs have: what lies there, else the first script."""
    more = '            tries: ["{path}", "{path}/"]\n            fallback: index.php\n'
    text = office("nginx", "socket: /run/p.sock", "/run/p.sock", more)
    assert got(ask(text, "https://visit.kestrel-ridge.example/orders/5")) == "visit/index.php"
    assert got(ask(text, "https://visit.kestrel-ridge.example/x.html")) == "visit/x.html"


@pytest.mark.parametrize(
    ("at", "complaint"),
    [("9000", "expected an address and port or a socket's path"), ("run/p.sock", "expected an address and port")],
)
def test_where_nobody_can_be_asked(at, complaint):
    """An address and port, or a whole path."""
    assert any(complaint in each for each in problems(office("nginx", "socket: /run/p.sock", f"'{at}'")))


def test_a_runner_says_where_it_is_asked():
    """Neither listeners nor a socket."""
    text = office("nginx", "state: running", "/run/p.sock")
    assert any("needs 'listens' or 'socket'" in each for each in problems(text))


#: What came in worlds in which a program on another machine runs them; a blank is `_`.
IN_WORLDS = {
    "front: scripts (nginx)": "index.php a.php x.html in/index.php in/index.php 404 404 index.php a.php 405 in/index.php in/index.php 404 404",
    "front: scripts that nobody runs (nginx)": "502 502 x.html 502 502 502 502 502 502 405 502 502 502 502",
    "front: scripts that nobody runs (apache)": "503 503 x.html 503 503 503 503 503 503 x.html 503 503 503 503",
    "front: scripts for all that is missing (nginx)": "index.php a.php x.html in/index.php in/index.php 404 404 index.php a.php 405 in/index.php in/index.php 404 404",
}  # fmt: skip


@pytest.mark.parametrize("name", IN_WORLDS)
def test_as_in_the_worlds(name):
    """Held against both servers, with a program of ours that runs them."""
    world = FRONT_WORLDS[name]
    assert all_got(world.text, world.asked) == IN_WORLDS[name].split()
