"""Pools with spare members, and the next member after a status (held against nginx and Apache httpd)."""

import pytest

from tests.conftest import OFFICE, ask, problems, swap

FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"
SITE = "      web:\n        program: nginx"
BEHIND = """\
      good: {program: nginx, listens: [8080], sites: {good: {default: true, names: [x.example], files: [index.html]}}}
      bad: {program: nginx, listens: [8081], sites: {bad: {default: true, names: [x.example], answer: 503}}}
"""
GOOD, BAD, DEAD, GONE = (f"http://10.20.0.15:{port}" for port in (8080, 8081, 8082, 8083))


def office(upstream, method="GET"):
    """The office with two programs behind its site."""
    return swap(
        OFFICE,
        (FILES, f"            upstream: {upstream}\n"),
        (SITE, BEHIND + SITE),
        ("address: 198.51.100.77,", f"address: 198.51.100.77, method: {method},"),
    )


#: The upstream, the method, and the status.
CASES = [
    (f'{{to: "{DEAD}", spare: ["{GOOD}"]}}', "GET", 200),
    (f'{{to: "{DEAD}", spare: ["{GOOD}"]}}', "POST", 405),
    (f'{{to: "{GOOD}", spare: ["{BAD}"]}}', "GET", 200),
    (f'{{to: "{BAD}", spare: ["{GOOD}"]}}', "GET", 503),
    (f'{{to: "{BAD}", spare: ["{GOOD}"], next_on: [503]}}', "GET", 200),
    (f'{{to: "{BAD}", spare: ["{GOOD}"], next_on: [404]}}', "GET", 503),
    (f'{{to: "{BAD}", spare: ["{GOOD}"], next_on: [503]}}', "POST", 503),
    (f'{{to: ["{BAD}", "{GOOD}"], next_on: [503]}}', "GET", 200),
    (f'{{to: ["{DEAD}", "{GONE}"], spare: ["{BAD}"]}}', "GET", 503),
    (f'{{to: "{DEAD}", spare: ["{GONE}"]}}', "GET", 502),
]


@pytest.mark.parametrize("case", range(len(CASES)))
def test_who_answers_of_a_pool(case):
    """The spare members last, the next one after a failure or a stated status."""
    upstream, method, status = CASES[case]
    assert ask(office(upstream, method)).outcome.status == status


@pytest.mark.parametrize(
    ("upstream", "said"),
    [
        (f'{{to: "{GOOD}", spare: ["https://10.20.0.15:8443"]}}', "one scheme and one path"),
        (f'{{to: "{GOOD}", next_on: [418]}}', "expected one of 403"),
    ],
)
def test_bad_pools(upstream, said):
    """Each with one error at its key."""
    assert said in problems(office(upstream))[0]
