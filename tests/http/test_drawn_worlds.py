"""Rules that random worlds showed, each held against the real server: the worlds' seeds stand beside."""

import pytest

from tests.conftest import OFFICE, ask, got, swap

SITE = "            files: [index.html, tonight.html, img/dome.jpg]"


@pytest.mark.parametrize(
    ("facts", "url", "what"),
    [
        # The top of a folder that nobody describes is a folder; what is below is not there (seed 12010000174).
        ("answer: 204\n            redirects: [{when: {file: false, folder: false}, answer: 410}]", "/", 204),
        ("answer: 204\n            redirects: [{when: {file: false, folder: false}, answer: 410}]", "/x", 410),
    ],
)
def test_the_top_of_an_unknown_folder_is_there(facts, url, what):
    text = swap(OFFICE, (SITE, f"            {facts}"))
    assert ask(text, f"https://visit.kestrel-ridge.example{url}").outcome.status == what


@pytest.mark.parametrize(("rule", "what"), [("/page", "visit/index.html"), ("/other", "403")])
def test_a_page_for_who_is_turned_away_is_passed_on_where_rules_lead_to_the_same_path(rule, what):
    """Apache httpd judges the page anew unless it comes to the very path that was turned away (seed 12010000674)."""
    text = swap(
        OFFICE,
        ("        program: nginx\n", "        program: apache\n"),
        (
            SITE,
            '            upstream: {to: "http://10.20.0.15:8080", host: kept}\n            access: {nobody: true}\n'
            "            error_pages: {403: /gone.html}\n"
            f"            redirects: [{{when: {{path: /gone.html}}, to: /page, inner: again}}, {{when: {{path: /}}, to: {rule}, inner: again}}]",
        ),
        (
            "certificates:\n",
            "      inner:\n        program: nginx\n        listens: [8080]\n        sites: {back: {files: [page]}}\ncertificates:\n",
        ),
    )
    found = ask(text)
    if what == "403":
        assert got(found) == "403"
    else:
        assert (found.outcome.status, found.exchanges[0].inner[-1].url.path) == (200, "/page")
