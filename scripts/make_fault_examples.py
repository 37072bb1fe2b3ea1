"""The smallest estates that show each fault: made from the estates of tests/diagnosis, with all taken away that the fault does not need.

    python scripts/make_fault_examples.py [CODE ...]

Writes `bad` and `good` of src/portolan/faults/CODE.yaml; its words stay as they are.
"""

import json
import sys
from collections.abc import Iterator
from multiprocessing import Pool
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))

from portolan.diagnosis.registry import BY_CODE
from portolan.diagnosis.search import explain
from portolan.formats.estate_file import Loaded, load, patched
from portolan.formats.files import MemoryFiles
from portolan.formats.rewriting import CannotWriteError, flow, rewritten
from portolan.formats.yaml_nodes import compose, plain_data
from portolan.journey.expectation import expectation_for, misses
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.problem import EstateError
from tests.conftest import OFFICE, swap
from tests.diagnosis import test_edges_and_buckets, test_every_fault

PAGES = Path(__file__).parent.parent / "src" / "portolan" / "faults"
_WIDE = 96
#: So many changes are tried for each estate; and so deep lies what is taken away: settings of an object stay as somebody has them.
_MOST_TRIED, _DEEPEST = 24, 7


def bad_estates() -> dict[str, tuple[str, str, str]]:
    """By code: a bad estate, the URL, and the vantage."""
    found: dict[str, tuple[str, str, str]] = {}
    for code, (changes, url) in test_edges_and_buckets.BAD.items():
        if "," not in code:
            found[code] = (swap(test_edges_and_buckets.ARCHIVE, *changes), url, "street")
    for code, bad in test_every_fault.BAD.items():
        if bad is not None and "," not in code:
            changes, url, vantage = bad
            found[code] = (swap(OFFICE, *changes), url, vantage)
    return {code: each for code, each in found.items() if code in BY_CODE}


def text_of(document: Any) -> str:
    """A document as somebody would write it: short things on one line."""
    return "\n".join(_lines(document, 0)) + "\n"


def _lines(value: Any, depth: int) -> Iterator[str]:
    lead = "  " * depth
    for key, held in value.items():
        line = f"{lead}{flow(key)}: {flow(held)}"
        if isinstance(held, dict) and held and (depth < 2 or len(line) > _WIDE):
            yield f"{lead}{flow(key)}:"
            yield from _lines(held, depth + 1)
        elif (
            isinstance(held, list)
            and held
            and (depth == 0 or len(line) > _WIDE or (key in ("records", "forwards", "rules", "redirects")))
        ):
            yield f"{lead}{flow(key)}:"
            yield from (f"{lead}  - {flow(each)}" for each in held)
        else:
            yield line


def shows(document: Any, code: str, url: str, vantage: str) -> str | None:
    """The good estate, where the bad one shows the fault and no other; nothing (an empty text) where no change mends it; None where it does not."""
    text = text_of(document)
    try:
        held = load(MemoryFiles({"estate.yaml": text}), "estate.yaml")
        if vantage not in held.estate.vantages:
            return None
        world = World(held.estate, held.estate.at)
        found = explain(
            world, url, held.estate.vantages[vantage], lambda patch: patched(held, patch).estate, _MOST_TRIED
        )
    except (EstateError, KeyError, ValueError):
        return None
    if [each.code for each in found.causes] != [code]:
        return None
    best = next((each for each in found.remedies if each.complete and each.patch and each.safety != "weakens"), None)
    if best is None:
        return ""
    try:
        if plain_data(compose("estate.yaml", text.encode())) != document:
            print(f"{code}: its text says something else", file=sys.stderr)
        good = rewritten({"estate.yaml": text}, json.loads(json.dumps(best.patch)))["estate.yaml"]
        return good if _is_good(good, url, vantage) else None
    except (CannotWriteError, EstateError, ValueError) as error:
        print(f"{code}: {type(error).__name__} {error}\n{text}\n{best.patch}", file=sys.stderr)
        return None


def _is_good(text: str, url: str, vantage: str) -> bool:
    held: Loaded = load(MemoryFiles({"estate.yaml": text}), "estate.yaml")
    there = held.estate.vantages[vantage]
    return not misses(expectation_for(held.estate, url, there), visit(World(held.estate, held.estate.at), url, there))


def smaller(document: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The paths of all that may be taken away, the largest first."""
    held = document
    for step in path:
        held = held[step]
    keys = list(held) if isinstance(held, dict) else list(range(len(held))) if isinstance(held, list) else []
    for key in keys:
        if path or key not in ("portolan", "at"):
            yield (*path, key)
    for key in keys:
        if isinstance(held[key], dict | list) and len(path) + 1 < _DEEPEST:
            yield from smaller(document, (*path, key))


def without(document: Any, path: tuple[Any, ...]) -> Any:
    """A document without what a path leads to; an emptied holder stays."""
    if len(path) == 1:
        if isinstance(document, dict):
            return {key: each for key, each in document.items() if key != path[0]}
        return [each for number, each in enumerate(document) if number != path[0]]
    if isinstance(document, dict):
        return {key: without(each, path[1:]) if key == path[0] else each for key, each in document.items()}
    return [without(each, path[1:]) if number == path[0] else each for number, each in enumerate(document)]


def _at(document: Any, path: tuple[Any, ...]) -> Any:
    for step in path:
        document = document[step]
    return document


def _without(document: Any, path: tuple[Any, ...]) -> Any | None:
    try:
        return without(document, path)
    except (KeyError, IndexError, TypeError, AttributeError):
        return None  # its holder is gone


def smallest(task: tuple[str, tuple[str, str, str]]) -> tuple[str, str, str, str, str] | None:
    """The code, URL, vantage, bad and good estate; None where the fault is not shown by one estate alone."""
    code, (text, url, vantage) = task
    document = plain_data(compose("estate.yaml", text.encode()))
    if shows(document, code, url, vantage) is None:
        return None
    mended = shows(document, code, url, vantage) != ""
    taken: list[tuple[Any, ...]] = []
    for path in [*smaller(document)][::-1]:
        # From the end, so that no index of what is left moves; what holds it is tried after it.
        taken += [path] if isinstance(_at(document, path), dict | list) or isinstance(path[-1], int) else []
    for path in sorted(taken, key=len):
        less = _without(document, path)
        good = shows(less, code, url, vantage) if less is not None and less != document else None
        if good is not None and (good != "") == mended:
            document = less
    good = shows(document, code, url, vantage)
    return code, url, vantage, text_of(document), good or ""


def main() -> int:
    """Writes the files."""
    wanted = sys.argv[1:]
    every = [each for each in bad_estates().items() if not wanted or each[0] in wanted]
    with Pool() as pool:
        for found in pool.imap_unordered(smallest, every):
            if found is None:
                continue
            code, url, vantage, bad, good = found
            path = PAGES / f"{code}.yaml"
            said = plain_data(compose(path.name, path.read_bytes())) if path.exists() else {}
            write(path, {**said, "ask": url, "from": vantage, "bad": bad, "good": good})
    return 0


def write(path: Path, page: dict[str, Any]) -> None:
    """Writes a page's file."""
    lines = [_entry(key, page[key], 0) for key in ("comes", "prevent", "ask", "from", "bad", "good") if page.get(key)]
    lines += ["files:\n"] if "files" in page else []
    for name, held in page.get("files", {}).items():
        lines += [f"  {name}:\n", *(_entry(key, held[key], 4) for key in ("holds", "text"))]
    path.write_text("".join(lines), encoding="utf-8")


def _entry(key: str, held: str, depth: int) -> str:
    """A key with its text, of several lines as a block."""
    lead = " " * depth
    if "\n" not in held:
        return f"{lead}{key}: {json.dumps(held, ensure_ascii=False)}\n"
    return f"{lead}{key}: |\n" + "".join(f"{lead}  {line}\n" for line in held.rstrip("\n").split("\n"))


if __name__ == "__main__":
    sys.exit(main())
