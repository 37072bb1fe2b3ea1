"""Conditions on the query of an address (held against nginx and Apache httpd)."""

import pytest

from tests.conftest import OFFICE, ask, swap

FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"
RULES = """\
            redirects:
              - {when: {path: /page, query: "(^|&)id=7(&|$)"}, to: "https://visit.kestrel-ridge.example/seven"}
              - {when: {path: /page, not_query: "id="}, to: "https://visit.kestrel-ridge.example/none"}
"""


@pytest.mark.parametrize("program", ["nginx", "apache"])
@pytest.mark.parametrize(
    ("query", "led"),
    [("?id=7", "/seven"), ("?a&id=7&b", "/seven"), ("?id=77", None), ("", "/none"), ("?", "/none"), ("?ID=7", "/none"), ("?x", "/none")],
)  # fmt: skip
def test_what_a_query_decides(query, led, program):
    """As it is sent, without its question mark."""
    text = swap(
        OFFICE,
        (FILES, FILES.replace("index.html", "index.html, page") + RULES),
        ("program: nginx", f"program: {program}"),
    )
    found = ask(text, f"https://visit.kestrel-ridge.example/page{query}")
    assert found.exchanges[-1].url.path == (led or "/page")
