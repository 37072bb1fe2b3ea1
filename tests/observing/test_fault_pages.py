"""Every fault has a page, and every example on one is run: it shows the fault first, and not where it is mended."""

import pytest

from portolan.cli.fault import page_of
from portolan.diagnosis.lint import lint
from portolan.diagnosis.registry import BY_CODE
from portolan.diagnosis.search import explain
from portolan.formats.estate_file import patched
from portolan.journey.expectation import expectation_for, misses
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import loaded

PAGES = {code: page_of(code) for code in BY_CODE}


@pytest.mark.parametrize("code", sorted(BY_CODE))
def test_a_page_is_true(code):
    """How it comes and is prevented is said; the bad estate shows it, the good one does not."""
    page = PAGES[code]
    assert page.comes.endswith(".")
    assert page.prevent.endswith(".")
    example = page.example
    if example is None:
        return
    held = loaded(example.bad)
    world = World(held.estate, held.estate.at)
    if example.visit is None:
        assert code in {each.code for each in lint(world)}
        good = loaded(example.good).estate if example.good else None
        assert good is None or code not in {each.code for each in lint(World(good, good.at))}
        return
    there = world.estate.vantages[example.vantage]
    found = explain(world, example.url, there, lambda patch: patched(held, patch).estate)
    assert [each.code for each in found.causes][:1] == [code]
    assert example.checks
    if example.good:
        good = loaded(example.good).estate
        again = visit(World(good, good.at), example.url, good.vantages[example.vantage])
        assert misses(expectation_for(good, example.url, good.vantages[example.vantage]), again) == ()


def test_most_faults_have_an_example():
    """Those without need files of their own, or what one estate alone does not show."""
    without = {code for code, page in PAGES.items() if page.example is None}
    alone = {"answer-by-other-line", "upgrade-lost", "upstream-member-differs"}
    assert all(code.startswith("cert-") or code in alone | {"page-part-refused"} for code in without)
