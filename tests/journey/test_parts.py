"""The parts of a page: asked for as a browser does, and told where they do not come."""

import pytest

from portolan.diagnosis.lint import lint
from portolan.journey.parts import lacking
from portolan.journey.visit import visit
from tests.conftest import OFFICE, problems, swap, world
from tests.diagnosis.test_edges_and_buckets import ARCHIVE, GRANT, IMAGES

FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"
SITE = "https://visit.kestrel-ridge.example/"


def takes(*parts, before=""):
    """What the first page takes."""
    return f"{before}takes: [{{page: index.html, parts: [{', '.join(map(repr, parts))}]}}]"


def told(text, url):
    """The parts that do not come: the address, and what comes instead."""
    ready = world(text)
    found = lacking(ready, visit(ready, url, ready.estate.vantages["street"]))
    return [(each.url, "plain" if each.plain else each.visit.outcome.status or each.visit.outcome.detail) for each in found]  # fmt: skip


#: What a page of a site takes, and what of it does not come.
PARTS = [
    (["img/dome.jpg", "/tonight.html", "data:image/png;base64,AA", "#top"], []),
    (["img/Dome.jpg"], [(f"{SITE}img/Dome.jpg", 404)]),
    (["https://elsewhere.example/x.js"], []),
    ([f"http{SITE[5:]}img/dome.jpg"], [(f"http{SITE[5:]}img/dome.jpg", "plain")]),
    ([r"\img\dome.jpg", "//visit.kestrel-ridge.example/gone.css"], [(f"{SITE}gone.css", 404)]),
    (["https://nobody.kestrel-ridge.example/x.js"], [("https://nobody.kestrel-ridge.example/x.js", "no-such-name")]),
]


@pytest.mark.parametrize(("parts", "expected"), PARTS)
def test_parts_of_a_sites_page(parts, expected):
    """Missing, plain on a secure page; of hosts that nobody described nothing is said."""
    assert told(swap(OFFICE, (FILES, f"{FILES}            {takes(*parts)}\n")), SITE) == expected


def test_parts_of_a_buckets_page_behind_an_edge():
    """A grant for pages alone leaves their parts out; check says so, too."""
    grant = f"grants: [{{to: everyone, on: kestrel-images/*.html}}]\n        {takes('domes/north.svg', 'error.html')}"
    text = swap(ARCHIVE, (GRANT, grant))
    assert told(text, IMAGES) == [(f"{IMAGES}domes/north.svg", 403)]
    (found,) = (each for each in lint(world(text)) if each.code == "page-part-refused")
    assert "takes domes/north.svg, which street does not get: no grant lets the public" in found.text
    assert told(text, f"{IMAGES}domes/") == []


@pytest.mark.parametrize("under", ["", "site/"])
def test_what_is_read_from_copies(under):
    """Of a bucket's copy, as of a site's; its pages are its keys, with what they were uploaded under."""
    page = '<link rel="stylesheet" href="gone.css"><img src="north.svg">'
    text = swap(
        ARCHIVE,
        (
            "objects: [index.html, domes/index.html, domes/north.svg, error.html]",
            f"copy: c\n        uploaded_under: '{under}'\n        parts: check",
        ),
        (
            "{at: kestrel-images.pages.depot.example}",
            f"{{at: kestrel-images.pages.depot.example{', prefix: /site' if under else ''}}}",
        ),
    )
    files = {"c__index.html": page, "c__north.svg": "<svg/>", "c__error.html": ""}
    ready = world(text, **files)
    found = lacking(ready, visit(ready, IMAGES, ready.estate.vantages["street"]))
    assert [(each.url, each.stated.place.span.file) for each in found] == [(f"{IMAGES}gone.css", "c/index.html")]
    assert any("'parts' looks at the pages of a 'copy'" in each for each in problems(text.replace("copy: c\n", "objects: [a]\n"), **files))  # fmt: skip
