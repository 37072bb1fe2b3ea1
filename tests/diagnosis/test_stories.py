"""What is said of the shipped stories: their causes, at the objects where they are mended."""

import json

import pytest

import portolan
from tests.conftest import STORIES

#: By story, the codes of its causes in the order met.
CAUSES = {
    "half-open": ["forward-missing", "cert-name"],
    "two-signs": ["redirect-loop-names"],
    "inside-only": ["filter-drops"],
    "old-ledger": ["name-zone-elsewhere"],
    "one-way-street": ["list-blocks-replies"],
    "night-shift": ["listener-wrong-port"],
    "borrowed-port": ["forward-not-for-own"],
    "first-word": ["filter-replies-forgotten"],
    "lost-shelf": ["content-folder-missing", "content-folder-missing", "content-unreadable"],
    "closed-desk": ["upstream-down"],
    "revolving-door": ["redirect-loop-origin-plain"],
    "three-locks": ["cert-name", "edge-origin-address", "bucket-sealed"],
    "private-drawer": ["bucket-grant-missing"],
    "hall-of-mirrors": ["redirect-loop-origin-plain"],
    "dark-window": ["upgrade-lost"],
    "closed-chapter": ["edge-error-page"],
    "factory-seal": ["cert-private-name"],
    "old-seal": ["cert-not-reloaded"],
    "last-bell": [],
    "open-gallery": [],
    "first-light": [],
    "fresh-ink": ["service-not-reloaded"],
    "long-tunnel": ["packets-too-large"],
    "works-for-me": [],
    "shut-door": [],
    "second-line": ["answer-by-other-line"],
}  # fmt: skip


@pytest.mark.parametrize("name", CAUSES)
def test_a_story_has_its_causes(name):
    """Each with a patch or advice, and none that says less than before."""
    (story,) = [each for each in json.loads((STORIES / "index.json").read_text("utf-8")) if each["name"] == name]
    held = portolan.load(str(STORIES / name))
    vantages = list(held.estate.vantages.values())
    asker = next((each.name for each in vantages if each.default), vantages[0].name if vantages else story["vantage"])
    found = held.explain(story["url"], asker)
    assert [each.code for each in found.causes] == CAUSES[name]
    assert (found.best is None) == (CAUSES[name] == [])
    assert not any(
        step["op"] == "remove" and "folder" in step["path"] for each in found.remedies for step in each.patch
    )


def test_every_story_is_here():
    """None is added without its causes."""
    assert set(CAUSES) == {each["name"] for each in json.loads((STORIES / "index.json").read_text("utf-8"))}
