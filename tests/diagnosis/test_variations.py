"""The same estate written otherwise: reordered, renamed, commented, split by includes. `check` says as little of it as before."""

import json
import random
import re

import pytest
import yaml

from conformance.injected import HEALTHY, NOW, base, estates, written
from portolan.diagnosis.asking import answers
from portolan.diagnosis.lint import lint
from portolan.formats.estate_file import load, patched
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World

#: So many of each estate: about 210 in all.
VARIATIONS = 10
#: Where the order is a fact: programs take the first of their sites for what nobody is named as.
_IN_ORDER = ("sites",)
#: Names that are keys of the format too.
_WORDS = ("gateway",)


def block(node, rename, rng, indent="", ordered=False):
    """A mapping over several lines, in another order, with comments; some of it on one line."""
    pairs = list(node.value)
    if not ordered:
        rng.shuffle(pairs)
    for key, value in pairs:
        if rng.random() < 0.3:
            yield f"{indent}# {key.value}: as it was found"
        if isinstance(value, yaml.MappingNode) and value.value and rng.random() < 0.8:
            yield f"{indent}{written(key, rename)}:  # below"
            yield from block(value, rename, rng, f"{indent}  ", key.value in _IN_ORDER)
        else:
            yield f"{indent}{written(key, rename)}: {written(value, rename)}"
            if rng.random() < 0.2:
                yield ""


def renamed(root, rng):
    """What exchanges the name of one machine or vantage for another, wherever it stands."""
    names = [
        key.value
        for section, held in root.value
        if section.value in ("hosts", "routers", "vantages")
        for key, _ in held.value
    ]
    old = rng.choice([each for each in names if each not in _WORDS])
    return lambda text: re.sub(rf"(?<![\w-]){re.escape(old)}(?![\w-])", f"{old}-two", text)


def files_of(root, rename, rng):
    """An estate's files: some of its sections in files of their own, which the main one includes."""
    parts = {"estate.yaml": []}
    for key, value in root.value:
        name = rng.choice(["estate.yaml", "more/one.yaml", "more/two.yaml"])
        text = "\n".join(block(yaml.MappingNode(root.tag, [(key, value)], root.start_mark, root.end_mark), rename, rng))
        parts.setdefault("estate.yaml" if key.value in ("portolan", "at") else name, []).append(text)
    others = [name for name in parts if name != "estate.yaml"]
    if others:
        parts["estate.yaml"].append(f"include: [{', '.join(others)}]")
    for held in parts.values():
        rng.shuffle(held)
    return {name: "\n".join(held) + "\n" for name, held in parts.items()}


def said(held):
    """What `check` says: its findings by code, and what is missed."""
    world = World(held.estate, NOW)
    found = answers(world, lambda patch: patched(held, patch).estate)
    return sorted(each.code for each in lint(world)), found.groups, found.asked


@pytest.mark.parametrize("name", estates())
def test_written_otherwise_it_is_the_same(name):
    """No finding more, no expectation missed."""
    held = base(name).loaded
    codes, groups, asked = said(held)
    assert groups == ()
    seen = set()
    for number in range(VARIATIONS):
        rng = random.Random(f"{name} {number}")
        # What files of its folder say cannot be renamed here.
        rename = renamed(held.root, rng) if not name.startswith("pem") and number % 2 else str
        text = files_of(held.root, rename, rng)
        seen.add(json.dumps(text))
        contents = dict(text)
        if name.startswith("pem"):
            folder = HEALTHY / name
            contents |= {
                str(path.relative_to(folder)): path.read_bytes()
                for path in folder.rglob("*.*")
                if path.name != "estate.yaml" and path.is_file()
            }
        after = load(MemoryFiles(contents), "estate.yaml")
        assert said(after) == (codes, (), asked), text
    assert len(seen) == VARIATIONS
