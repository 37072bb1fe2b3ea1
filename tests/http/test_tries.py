"""What is looked for one after the other: paths without their ending, folders, a page for all else (held against nginx and Apache httpd)."""

import pytest

from tests.conftest import OFFICE, ask, got, swap

FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"
HELD = "[index.html, about.html, blog/index.html, blog/one.html, both.html, both/index.html, only/x.html, app.html]"
ENDING = '["{path}", "{path}.html", "{path}/"]'
FIRST = '["{path}.html", "{path}/", "{path}"]'
INDEX = '["{path}", "{path}/index.html"]'
FOLDERS = '["{path}/", "{path}.html"]'
ELSE = '["{path}/", "/about.html"]'

#: What is tried, with what as the fallback, a path, and what comes at nginx and at Apache httpd.
CASES = [
    (ENDING, "", "/", "visit/index.html", None),
    (ENDING, "", "/about", "visit/about.html", None),
    (ENDING, "", "/about.html", "visit/about.html", None),
    (ENDING, "", "/about/", "404", None),
    (ENDING, "", "/blog", "visit/blog/index.html", None),
    (ENDING, "", "/blog/one", "visit/blog/one.html", None),
    (ENDING, "", "/both", "visit/both.html", "visit/both/index.html"),
    (ENDING, "", "/both/", "visit/both/index.html", None),
    (ENDING, "", "/only/", "403", None),
    (ENDING, "", "/gone", "404", None),
    (FIRST, "app.html", "/gone", "visit/app.html", None),
    (FIRST, "app.html", "/about", "visit/about.html", None),
    (FIRST, "gone.html", "/nothing", "500", "404"),
    (INDEX, "", "/blog", "visit/blog/index.html", None),
    (INDEX, "", "/gone", "404", None),
    # A folder's document is looked for in the same way.
    (FOLDERS, "", "/blog/", "404", "visit/blog/index.html"),
    (FOLDERS, "app.html", "/blog/", "500", "visit/app.html"),
    (ELSE, "", "/", "visit/about.html", None),
    (ELSE, "", "/blog/", "visit/about.html", None),
    # What only refuses waits for no slash.
    ('["{path}"]', "", "/blog", "404", None),
]


@pytest.mark.parametrize("program", ["nginx", "apache"])
@pytest.mark.parametrize("case", range(len(CASES)))
def test_what_is_tried(case, program):
    """The first that is there."""
    tries, fallback, path, nginx, apache = CASES[case]
    more = f"            fallback: {fallback}\n" if fallback else ""
    text = swap(OFFICE, (FILES, f"            files: {HELD}\n            tries: {tries}\n{more}"))
    text = text.replace("program: nginx", f"program: {program}")
    found = got(ask(text, f"https://visit.kestrel-ridge.example{path}"))
    assert found == (nginx if program == "nginx" or apache is None else apache)


def test_what_is_tried_is_said():
    """With the path that was asked and the one that is taken."""
    text = swap(OFFICE, (FILES, f"            files: {HELD}\n            tries: {ENDING}\n"))
    found = ask(text, "https://visit.kestrel-ridge.example/about")
    told = [each.text for each in found.exchanges[-1].response.decisions if each.kind == "tried"]
    assert told == ["visit has no /about, and tries /about.html, which is there"]
