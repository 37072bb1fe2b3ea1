"""How a server writes redirects of its own: by the name asked, its own, or the bare path (held against nginx and Apache httpd)."""

import pytest

from tests.conftest import OFFICE, ask, problems, swap

SITE = "            names: [visit.kestrel-ridge.example]\n"
FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"
F80 = "      - {on: line, tcp: 80, to: 10.20.0.15}\n"
NAMES = "            names: [visit.kestrel-ridge.example, also.kestrel-ridge.example]\n"
RECORD = "      - visit 3600 A 203.0.113.40\n"
HOST = "also.kestrel-ridge.example"


def office(facts, program="nginx", front=""):
    """The office, whose site listens on port 8080 too, and has a folder and a rule that sends to a path."""
    rule = "            redirects: [{when: {path: /old}, to: /img/}]\n"
    return swap(
        OFFICE,
        (SITE, NAMES + "".join(f"            {each}\n" for each in facts)),
        (FILES, FILES.replace("index.html", "index.html, img/index.html") + rule),
        ("listens: [80, 443 tls]", "listens: [80, 443 tls, 8080]"),
        (
            F80,
            F80
            + "      - {on: line, tcp: 8080, to: 10.20.0.15}\n      - {on: line, tcp: 81, to: 10.20.0.15, port: 80}\n",
        ),
        (RECORD, f"{RECORD}      - also 3600 A 203.0.113.40\n"),
        ("program: nginx", f"program: {program}"),
    )


#: Facts of the site, what is asked, and where nginx and Apache httpd lead (None: as nginx, or not for it).
CASES = [
    ([], f"http://{HOST}:8080/img", f"http://{HOST}:8080/img/", None),
    ([], f"http://{HOST}:81/img", f"http://{HOST}/img/", f"http://{HOST}:81/img/"),
    (["redirects_to: path-only"], f"http://{HOST}:81/img", f"http://{HOST}:81/img/", "no"),
    (["redirects_to: path-only"], f"http://{HOST}:81/old", f"http://{HOST}:81/img/", "no"),
    (["redirects_to: own-address"], f"http://{HOST}/old", "http://visit.kestrel-ridge.example/img/", None),
    (["redirects_to: own-address"], f"http://{HOST}:8080/img", "http://visit.kestrel-ridge.example:8080/img/", "http://visit.kestrel-ridge.example/img/"),
    (["redirects_tell_port: false"], f"http://{HOST}:8080/img", f"http://{HOST}/img/", "no"),
    (["redirects_tell_port: false"], f"https://{HOST}/img", f"https://{HOST}/img/", "no"),
]  # fmt: skip


@pytest.mark.parametrize("program", ["nginx", "apache"])
@pytest.mark.parametrize("case", range(len(CASES)))
def test_where_its_own_redirects_lead(case, program):
    """The address of the last exchange."""
    facts, url, nginx, apache = CASES[case]
    if program == "apache" and apache == "no":
        assert "always writes the whole address" in problems(office(facts, "apache"))[0]
        return
    found = ask(office(facts, program), url)
    assert str(found.exchanges[1].url) == (nginx if program == "nginx" or apache is None else apache)
