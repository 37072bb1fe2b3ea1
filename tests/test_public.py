"""The interface for programs: typed results, the same as the commands give."""

import gc
from datetime import UTC, datetime

import pytest

import portolan
from portolan.evidence.decision import Decision
from portolan.journey.world import World
from tests.conftest import STORIES


def test_a_program_asks_as_a_person_does():
    """Follow, explain, apply the best remedy, ask again, check."""
    estate = portolan.load(str(STORIES / "night-shift"))
    url = "https://bookings.kestrel-ridge.example/"
    assert estate.follow(url, "street").outcome.status == 502
    found = estate.explain(url, "street")
    assert [each.code for each in found.causes] == ["listener-wrong-port"]
    mended = estate.changed(found.best.patch)
    assert mended.follow(url, "street").outcome.page == "desk/index.html"
    assert (len(estate.check().groups), len(mended.check().groups)) == (1, 0)


def test_moments_boots_and_names():
    """A moment after the certificate's end; every machine booted; a vantage that is not there."""
    estate = portolan.load(str(STORIES / "night-shift"))
    url = "https://visit.kestrel-ridge.example/"
    assert estate.follow(url, "street", at=datetime(2026, 6, 1, tzinfo=UTC)).outcome.detail == "expired"
    assert estate.follow(url, "street", after_reboot=None).outcome.page == "visit/index.html"
    with pytest.raises(LookupError):
        estate.follow(url, "moon")


def test_nothing_is_kept_of_estates_that_were_asked():
    """Many estates, one after another, in one process: what was answered goes with whoever holds it."""

    def kept() -> int:
        gc.collect()
        return sum(isinstance(each, World | Decision) for each in gc.get_objects())

    before = kept()
    for _ in range(3):
        estate = portolan.load(str(STORIES / "night-shift"))
        answered, found = estate.check(), estate.explain("https://bookings.kestrel-ridge.example/", "street")
        assert (len(answered.groups), len(found.causes)) == (1, 1)
        assert kept() > before
        del estate, answered, found
    assert kept() == before
