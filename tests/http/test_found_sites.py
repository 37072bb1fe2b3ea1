"""Sites and fronts where real programs contradicted: what they answer, and what is named as the cause."""

from pathlib import Path

import pytest

import portolan
from portolan.diagnosis.search import explain
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.turns import turns
from portolan.journey.world import World

FOUND = Path(__file__).parent.parent / "found" / "web"
LAB = "http://www.lab.example"

#: File, URL, vantage; the status and the page, or the address that was ended at; the first cause; how the first remedy begins.
ROWS = [
    ("alias-before-proxy", f"{LAB}/static/a.css", "desk", 200, "app/", None, None),
    ("capture-drops-path", f"{LAB}/none", "desk", 404, f"{LAB}/none/", "content-missing", "put none/"),
    ("encoded-redirect", f"{LAB}/alte%20seite", "desk", 200, "www/neu", None, None),
    ("encoded-redirect", f"{LAB}/a//b", "desk", 200, "www/neu", None, None),
    ("hosts-final-dot", f"{LAB}./", "desk", 200, "www/index.html", None, None),
    ("htaccess-unreadable", f"{LAB}/", "desk", 403, f"{LAB}/", "content-unreadable", "give .htaccess to the group www-data"),
    ("htaccess-unreadable", f"{LAB}/x", "desk", 403, f"{LAB}/x", "content-unreadable", "give .htaccess to the group www-data"),
    ("linked-page-name", f"{LAB}/l.html", "desk", 200, "www/l.html", None, None),
    ("linked-page-name", f"{LAB}/out.html", "desk", 200, "www/out.html", None, None),
    ("minor-http", f"{LAB}/d%69r", "desk", 403, f"{LAB}/dir/", "content-index-missing", None),
    ("minor-http", f"{LAB}/zz", "desk", 404, f"{LAB}/zz", "content-missing", None),
    ("minor-http", f"{LAB}/", "colon", 400, f"{LAB}/", None, None),
    ("no-cause", f"{LAB}/app/x", "desk", 500, f"{LAB}/app/x", "differs-by-a-slip", "write http://10.7.0.20:8080/ in place of"),
    ("no-cause", f"{LAB}/api/x", "desk", 200, "app/", "section-order", "list /api/ of www before"),
    ("no-cause", f"{LAB}/up", "poster", 413, f"{LAB}/up", "body-too-large", "let www take requests of 2000000 octets"),
    ("plain-leg-to-tls", f"{LAB}/", "desk", 400, f"{LAB}/", "differs-by-a-slip", "write https://10.7.0.20:8443"),
    ("redirect-slash-lost", f"{LAB}/a.html", "street", None, "https://www.lab.examplea.html/", "redirect-target-dead", "let the redirect lead to https://www.lab.example/{1}"),
    ("rule-file-relative-target", f"{LAB}/old", "desk", 404, f"{LAB}/srv/a/new.html", "content-missing", None),
    ("same-address-vantages", f"{LAB}/", "desk", 200, "www/index.html", None, None),
    ("same-address-vantages", f"{LAB}/", "poster", 200, "www/index.html", None, None),
    ("symlinked-root", f"{LAB}/", "desk", 200, "www/index.html", None, None),
]  # fmt: skip


@pytest.mark.parametrize(
    ("name", "url", "vantage", "status", "ends", "cause", "remedy"),
    ROWS,
    ids=[f"{row[0]} {row[1][22:]}" for row in ROWS],
)
def test_what_real_programs_answer(name, url, vantage, status, ends, cause, remedy):
    """The answer is theirs; where it is none that was wanted, the cause and the change that mends it are named."""
    described = portolan.load(FOUND / f"{name}.yaml")
    outcome = described.follow(url, vantage).outcome
    assert outcome.status == status
    assert ends in (outcome.page, outcome.final_url)
    if cause is None:
        return
    found = described.explain(url, vantage)
    assert found.causes[0].code == cause
    if remedy is not None:
        assert found.remedies[0].text.startswith(remedy)


def test_a_member_of_a_pool_that_fails_is_told_of():
    """Whose turn it is changes from one request to the next: every second visitor meets the other."""
    described = portolan.load(FOUND / "pool-second-bad.yaml")
    world = World(described.estate, described.estate.at)
    found = described.follow(f"{LAB}/", "desk")
    (other,) = turns(world, found, described.estate.expected[0])
    assert (found.outcome.status, other.visit.outcome.status) == (200, 500)
    assert other.words == "now and then (1 of 2 members, http://10.7.0.21:8080)"
    because = explain(
        world, f"{LAB}/", other.visit.vantage, lambda patch: changed(described.loaded, patch_operations(patch)).estate
    )
    assert because.causes[0].code == "upstream-member-differs"
    assert because.remedies[0].text == "take http://10.7.0.21:8080 out of the pool of www"
