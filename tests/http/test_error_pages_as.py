"""Pages for errors with a status of their own, as single-page applications have them (held against nginx)."""

import pytest

from tests.conftest import OFFICE, ask, got, problems, swap

FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"


def office(*facts):
    """The office with more facts of its site."""
    return swap(OFFICE, (FILES, FILES + "".join(f"            {each}\n" for each in facts)))


@pytest.mark.parametrize(
    ("facts", "path", "expected"),
    [
        (["error_pages: {404: /index.html}", "error_pages_as: {404: 200}"], "/deep/link", "visit/index.html"),
        (["error_pages: {404: /index.html}"], "/deep/link", "404"),
        (["error_pages: {404: /gone.html}", "error_pages_as: {404: 200}"], "/deep/link", "404"),
        (["error_pages: {403: /index.html}", "error_pages_as: {403: 410}"], "/img/", "410"),
        (["error_pages: {403: /index.html}", "error_pages_as: {403: 410}"], "/deep", "404"),
    ],
)
def test_the_status_of_a_page_for_errors(facts, path, expected):
    """The page with its status; the error where there is no such page."""
    assert got(ask(office(*facts), f"https://visit.kestrel-ridge.example{path}")) == expected


@pytest.mark.parametrize(
    ("facts", "said"),
    [
        (["error_pages_as: {404: 200}"], "no page of the site's own stands for 404"),
        (["error_pages: {404: /index.html}", "error_pages_as: {404: 99}"], "expected a status"),
    ],
)
def test_bad_statuses(facts, said):
    """One error at the key."""
    assert said in problems(office(*facts))[0]
