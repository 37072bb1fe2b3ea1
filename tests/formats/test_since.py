"""A changed estate is read and checked only where it was touched: it says, and holds, what a reading of the whole says and holds."""

import random
from pathlib import Path

import pytest

from conformance.injected import plain
from portolan.cli.question import load_path
from portolan.estate.base import Stated
from portolan.estate.estate import Estate
from portolan.formats.change import apply, patch_operations
from portolan.formats.complete import Completing
from portolan.formats.crosscheck import crosscheck
from portolan.formats.estate_file import changed
from portolan.formats.reader import BAD
from portolan.source.place import pointer
from portolan.source.problem import EstateError, Problems

HEALTHY = Path(__file__).parents[2] / "conformance" / "healthy"


def spots(held, path=()):
    """Every key and item of a document, with what it holds."""
    inner = held.items() if isinstance(held, dict) else enumerate(held) if isinstance(held, list) else ()
    for key, value in inner:
        yield (*path, key), value
        yield from spots(value, (*path, key))


def whole(root, files):
    """The estate that a document is, read from the start, and what is said of it."""
    problems = Problems()
    reader = Completing(problems, files)
    estate = reader.read(Estate, root)
    read = list(problems.found)
    if estate is not BAD and not read:
        crosscheck(estate, problems)
    return estate, read, problems.found


def held_by(value):
    """What a value holds, with where each part stands."""
    if isinstance(value, Stated):
        fields = {field: held_by(getattr(value, field)) for field in value.__struct_fields__ if field != "place"}
        return type(value).__name__, value.place.path, value.place.span, fields
    if isinstance(value, dict):
        return {key: held_by(each) for key, each in value.items()}
    return [held_by(each) for each in value] if isinstance(value, tuple) else value


def compared(held, patch):
    """What is said of a change; the same problems, or the same estate, as of the whole."""
    root = apply(held.root, patch_operations(patch))
    estate, read, found = whole(root, held.files)
    try:
        after = held_by(changed(held, patch_operations(patch)).estate)
        said = []
    except EstateError as error:
        after, said = None, error.problems
    assert sorted(map(str, said)) == sorted(map(str, read or found)), patch
    assert after is None or after == held_by(estate), patch
    return said


@pytest.mark.parametrize("name", ["office", "edge-record", "private-store", "split-view", "containers", "front-pool", "after-boot", "hand-filter"])  # fmt: skip
def test_a_change_is_read_as_the_whole_would_be(name):
    """Anything taken away, and any word exchanged for another of the document: the same problems, or the same estate."""
    held = load_path(str(HEALTHY / f"{name}.yaml"))
    every = [(path, value) for path, value in spots(plain(held.root)) if path != ("portolan",)]
    words = [value for _, value in every if isinstance(value, str)]
    rng = random.Random(name)
    told: set[str] = set()
    for path, value in rng.choices(every, k=90):
        patch = [{"op": "remove", "path": pointer(path)}]
        if isinstance(value, str) and rng.random() < 0.7:
            patch = [{"op": "replace", "path": pointer(path), "value": rng.choice(words)}]
        said = compared(held, patch)
        told.update(each.message for each in said)
    assert len(told) > 3


@pytest.mark.parametrize(
    ("name", "patch", "told"),
    [
        ("office", {"op": "copy", "from": "/zones/kestrel-ridge.example", "path": "/zones/Kestrel-Ridge.example"}, "the zone kestrel-ridge.example is written twice"),
        ("edge-record", {"op": "add", "path": "/zones/kestrel-ridge.example/edge/refuses_with", "value": 200}, "expected a status, 400 to 599"),
        ("site-of-store", {"op": "add", "path": "/hosts/reefs/services/cache/refuses_with", "value": 200}, "expected a status, 400 to 599"),
    ],
)  # fmt: skip
def test_what_rests_on_others_is_looked_at_again(name, patch, told):
    """Names that are held to each other, and edges wherever they are stated."""
    said = compared(load_path(str(HEALTHY / f"{name}.yaml")), [patch])
    assert any(told in each.message for each in said)
