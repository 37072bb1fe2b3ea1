"""Every fault has a page, and every example on one is run: it shows the fault first, and not where it is mended."""

import pytest

from portolan.cli.fault import page_of
from portolan.diagnosis.asking import answers
from portolan.diagnosis.lint import lint
from portolan.diagnosis.registry import BY_CODE
from portolan.diagnosis.search import explain
from portolan.formats.estate_file import patched
from portolan.journey.expectation import expectation_for, misses
from portolan.journey.visit import visit
from portolan.journey.world import World

PAGES = {code: page_of(code) for code in BY_CODE}


@pytest.mark.parametrize("code", sorted(BY_CODE))
def test_a_page_is_true(code):
    """How it comes and is prevented is said; the bad estate shows it, the good one does not."""
    page = PAGES[code]
    assert page.comes.endswith(".")
    assert page.prevent.endswith(".")
    example = page.example
    held = example.read(example.bad)
    world = World(held.estate, held.estate.at)
    good = example.read(example.good).estate if example.good else None
    if example.visit is None:
        assert code in named(held)
        assert good is None or code not in named(example.read(example.good))
        return
    there = world.estate.vantages[example.vantage]
    found = explain(world, example.url, there, lambda patch: patched(held, patch).estate)
    assert [each.code for each in found.causes][:1] == [code]
    assert example.checks
    if good is not None:
        again = visit(World(good, good.at), example.url, good.vantages[example.vantage])
        assert misses(expectation_for(good, example.url, good.vantages[example.vantage]), again) == ()


def named(held):
    """The codes that `check` names."""
    world = World(held.estate, held.estate.at)
    missed = answers(world, lambda patch: patched(held, patch).estate).groups
    return {each.code for each in lint(world)} | {each.cause.code for each in missed if each.cause is not None}
