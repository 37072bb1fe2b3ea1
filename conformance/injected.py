"""Single faults in healthy estates, explained, and judged by the document.

    python -m conformance.injected [--sample N] [--seed S] [--estate NAME] [--processes N] [--list KIND]

Of every fault that makes an expectation missed, the first missed question is explained. `right`: the first cause touches the
injected object, or its patch is a change of the same size that mends as well and lays open no more. `innocents`: named causes that
are neither. The patch that is handed out is applied to the files and loaded anew: `mended` where it then meets every expectation,
`open` where more lies open than in the healthy estate (conformance/openness.py, by asking), `past` where it rewrites history.
What the fault itself laid open is `open` too where the patch leaves it so; the exit status goes by what the patch lays open.
"""

import argparse
import json
import os
import random
import re
import sys
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from functools import cache
from multiprocessing import Pool
from pathlib import Path
from shutil import copytree
from typing import Any, NamedTuple

import yaml

from conformance.openness import Open, asked_by, beyond, openness
from conformance.slips import Fault, faults
from conformance.slips import Path as Pointer
from portolan.cli.question import load_path
from portolan.diagnosis.search import explain
from portolan.diagnosis.trial import Explanation, Remedy
from portolan.formats.estate_file import Loaded, patched
from portolan.journey.expectation import misses, vantages_for
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.problem import EstateError

HEALTHY = Path(__file__).parent / "healthy"
#: Scalars that mean the same without quotes.
_PLAIN = re.compile(r"^[A-Za-z0-9][\w./+-]*(?::[\w./+-]+)*$")
NOW = datetime(2026, 3, 14, 20, tzinfo=UTC)
_PAST = ("before", "last_asked", "holds", "remembers_redirects", "strict", "looked_up", "in_effect_from")
_FAMILIES = {
    "zones": "names",
    "certificates": "certificates",
    "edges": "edges and stores",
    "stores": "edges and stores",
}


class Judged(NamedTuple):
    """What became of one fault."""

    estate: str
    fault: Fault
    #: `refused` (the estate does not load), `harmless`, or `missed`.
    state: str
    url: str = ""
    vantage: str = ""
    causes: tuple[str, ...] = ()
    right: bool = False
    innocents: int = 0
    #: `mended`, `partly`, `breaks`, `advice`, or `none`.
    patch: str = "none"
    opened: tuple[str, ...] = ()
    #: Those of them that did not lie open in the broken estate: the patch's own doing.
    by_patch: tuple[str, ...] = ()
    past: bool = False
    #: By class: how many complete remedies there are, and how many of them open more than the healthy estate.
    classes: tuple[tuple[str, bool], ...] = ()
    crash: str = ""


class Base(NamedTuple):
    """A healthy estate made ready."""

    path: Path
    loaded: Loaded
    document: dict[str, Any]
    urls: frozenset[str]


@cache
def base(name: str) -> Base:
    """A healthy estate by name; asserts that it is healthy."""
    path = HEALTHY / name if (HEALTHY / name).is_dir() else HEALTHY / f"{name}.yaml"
    loaded = load_path(str(path))
    assert not missed_in(World(loaded.estate, NOW)), f"{name} is not healthy"
    return Base(path, loaded, plain(loaded.root), asked_by(loaded.estate))


def plain(node: Any) -> Any:
    """A document's nodes as lists, dicts and texts."""
    if isinstance(node, yaml.MappingNode):
        return {key.value: plain(value) for key, value in node.value}
    if isinstance(node, yaml.SequenceNode):
        return [plain(each) for each in node.value]
    return node.value


def written(node: Any, called: Callable[[str], str] = str) -> str:
    """A document as YAML text, each scalar as it was written: plain or quoted; `called` exchanges names in it."""
    if isinstance(node, yaml.MappingNode):
        return "{" + ", ".join(f"{written(key, called)}: {written(value, called)}" for key, value in node.value) + "}"
    if isinstance(node, yaml.SequenceNode):
        return "[" + ", ".join(written(each, called) for each in node.value) + "]"
    text = called(node.value)
    return text if _PLAIN.match(text) and not node.style else json.dumps(text)


def missed_in(world: World) -> list[tuple[str, str]]:
    """The expectations that are missed, with the vantages."""
    return [
        (expectation.url, vantage.name)
        for expectation in world.estate.expected
        for vantage in vantages_for(world.estate, expectation)
        if misses(expectation, visit(world, expectation.url, vantage))
    ]


@cache
def open_before(name: str, booted: bool, urls: frozenset[str]) -> frozenset[Open]:
    """What lies open in a healthy estate."""
    return openness(World(base(name).loaded.estate, NOW, None, None if booted else frozenset()), urls)


def anew(ready: Base, loaded: Loaded) -> Loaded:
    """A changed document written out beside the estate's other files, and loaded as a user's would be."""
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder) / "estate"
        if ready.path.is_dir():
            copytree(ready.path, place)
        else:
            place.mkdir()
        (place / "estate.yaml").write_text(written(loaded.root))
        return load_path(str(place))


class Broken(NamedTuple):
    """A healthy estate with one fault: None where it does not load any more; and what it misses then."""

    ready: Base
    fault: Fault
    loaded: Loaded | None
    world: World | None = None
    missed: tuple[tuple[str, str], ...] = ()


def broken_by(task: tuple[str, int]) -> Broken:
    """Injects one fault, and asks every expectation."""
    name, number = task
    ready = base(name)
    fault = faults(ready.document)[number]
    try:
        loaded = patched(ready.loaded, fault.patch)
    except EstateError:
        return Broken(ready, fault, None)
    world = World(loaded.estate, NOW, None, None if fault.booted else frozenset())
    return Broken(ready, fault, loaded, world, tuple(missed_in(world)))


def judge(task: tuple[str, int]) -> Judged:
    """Injects one fault, and judges what is said of it."""
    name, _ = task
    ready, fault, broken, world, missed = broken_by(task)
    if broken is None or world is None or not missed:
        return Judged(name, fault, "refused" if broken is None else "harmless")
    url, vantage = missed[0]
    try:
        found = explain(world, url, broken.estate.vantages[vantage], lambda patch: patched(broken, patch).estate)
    except Exception as error:
        return Judged(name, fault, "missed", url, vantage, crash=f"{type(error).__name__}: {error}")
    return _judged(ready, Judged(name, fault, "missed", url, vantage), broken, found)


class Several(NamedTuple):
    """What became of several faults at once."""

    estate: str
    faults: tuple[Fault, ...]
    state: str
    #: Of the faults, how many a cause touches; how many are named as they rightly are alone (an equal change elsewhere); of the causes,
    #: how many are neither.
    touched: int = 0
    named: int = 0
    innocents: int = 0
    causes: tuple[str, ...] = ()
    patch: str = "none"

    @property
    def right(self) -> bool:
        """Whether every fault is named."""
        return self.named == len(self.faults)


def judge_several(task: tuple[str, tuple[int, ...]]) -> Several:
    """Injects faults that each make something missed, and judges what is said of all that are met by one question."""
    name, numbers = task
    ready = base(name)
    chosen = tuple(faults(ready.document)[number] for number in numbers)
    alone = [set(broken_by((name, number)).missed) for number in numbers]
    within = any(one.path[: len(other.path)] == other.path for one in chosen for other in chosen if one is not other)
    if any(each.booted for each in chosen) or within or not all(alone):
        return Several(name, chosen, "harmless")
    try:
        loaded = ready.loaded
        # From the end of the document, so that no path of another is moved.
        for fault in sorted(chosen, key=lambda each: [str(step).zfill(4) for step in each.path], reverse=True):
            loaded = patched(loaded, fault.patch)
    except EstateError:
        return Several(name, chosen, "refused")
    world = World(loaded.estate, NOW)
    # A question that each of them alone makes missed shows them all.
    shared = [each for each in missed_in(world) if all(each in missed for missed in alone)]
    if not shared:
        return Several(name, chosen, "apart")
    url, vantage = shared[0]
    found = explain(world, url, loaded.estate.vantages[vantage], lambda patch: patched(loaded, patch).estate)
    touch = [
        [_touches(cause.place.path if cause.place is not None else (), each) for cause in found.causes]
        for each in chosen
    ]
    told = [f"{each.code} at {each.object}" for each in found.causes]
    equal = [[] if any(row) else _named_alone((name, number)) for number, row in zip(numbers, touch, strict=True)]
    as_alone = [[each in names for each in told] for names in equal]
    named = sum(any(row) or any(same) for row, same in zip(touch, as_alone, strict=True))
    innocents = sum(not any(row[at] for row in (*touch, *as_alone)) for at in range(len(told)))
    patch = "none"
    if found.best is not None and found.best.patch:
        try:
            after = World(anew(ready, patched(loaded, found.best.patch)).estate, NOW)
            patch = "mended" if (url, vantage) not in missed_in(after) else "partly"
        except EstateError:
            patch = "unreadable"
    return Several(name, chosen, "missed", sum(map(any, touch)), named, innocents, tuple(told), patch)


def _named_alone(task: tuple[str, int]) -> list[str]:
    """What a fault by itself is rightly called, though it is not what was touched: a change of the same size that mends as well."""
    judged = judge(task)
    return list(judged.causes[:1]) if judged.right else []


def several(arguments: argparse.Namespace) -> int:
    """Draws faults together, and prints how many are named; 1 where a patch does not do what it says."""
    rng = random.Random(arguments.seed)
    names = arguments.estate or estates()
    counts = {name: len(faults(base(name).document)) for name in names}
    drawn = [rng.choice(names) for _ in range(arguments.together * arguments.of)]
    every = [(name, tuple(sorted(rng.sample(range(counts[name]), arguments.of)))) for name in drawn]
    judged: list[Several] = []
    with Pool(arguments.processes) as pool:
        for each in pool.imap(judge_several, every, chunksize=8):
            if each.state == "missed":
                judged.append(each)
            if len(judged) == arguments.together:
                break
        pool.terminate()
    right, innocent = sum(each.right for each in judged), sum(bool(each.innocents) for each in judged)
    mended, wrong = (
        sum(each.patch == "mended" for each in judged),
        [each for each in judged if each.patch in ("partly", "unreadable")],
    )
    strict = sum(each.touched == len(each.faults) for each in judged)
    print(
        f"{len(judged)} times {arguments.of} faults that one question meets: all named {right} (touched {strict}), with an innocent "
        f"{innocent}, mended {mended}, wrong patches {len(wrong)}"
    )
    for each in judged if arguments.list else ():
        if not each.right:
            print(
                f"- {each.estate}: {[(fault.kind, '.'.join(map(str, fault.path))) for fault in each.faults]}\n    {each.patch} {each.causes}"
            )
    return 1 if wrong or not judged else 0


def _judged(ready: Base, so_far: Judged, broken: Loaded, found: Explanation) -> Judged:
    fault = so_far.fault
    whole = [each for each in found.remedies if each.patch and each.complete and len(each.fixes) == len(found.causes)]
    outcomes = {id(each): _outcome(ready, so_far, broken, each) for each in whole}
    by_patch: tuple[str, ...] = ()
    best = found.best
    patch, opened, past = "none", (), False
    if best is not None and not best.patch:
        patch = "advice"
    elif best is not None:
        patch, opened = outcomes[id(best)]
        if opened:
            world = World(broken.estate, NOW, None, None if fault.booted else frozenset())
            already = set(_told(openness(world, asked_by(broken.estate) | ready.urls)))
            by_patch = tuple(each for each in opened if each not in already)
        past = any(set(str(op["path"]).split("/")[3:]) & set(_PAST) or str(op["path"]).startswith(("/at", "/expected"))
                   for op in best.patch)  # fmt: skip
    same_size = (
        len(found.causes) == 1
        and best is not None
        and patch == "mended"
        and not opened
        and len(best.patch) <= len(fault.patch)
    )
    touched = [_touches(cause.place.path if cause.place is not None else (), fault) for cause in found.causes]
    return so_far._replace(
        causes=tuple(f"{cause.code} at {cause.object}" for cause in found.causes),
        right=bool(touched) and (touched[0] or same_size),
        innocents=0 if same_size else touched.count(False),
        patch=patch,
        opened=opened,
        by_patch=by_patch,
        past=past,
        classes=tuple(
            (str(each.safety), bool(outcomes[id(each)][1])) for each in whole if outcomes[id(each)][0] == "mended"
        ),
    )


def _outcome(ready: Base, so_far: Judged, broken: Loaded, remedy: Remedy) -> tuple[str, tuple[str, ...]]:
    """What a remedy's patch does to the files, and what lies open then that did not in the healthy estate."""
    try:
        loaded = anew(ready, patched(broken, remedy.patch))
    except EstateError:
        return "unreadable", ()
    world = World(loaded.estate, NOW, None, None if so_far.fault.booted else frozenset())
    missed = missed_in(world)
    before = set(missed_in(World(broken.estate, NOW, None, world.booted)))
    state = "mended" if not missed else "breaks" if set(missed) - before else "partly"
    urls = asked_by(loaded.estate) | ready.urls
    newly = beyond(openness(world, urls), open_before(so_far.estate, so_far.fault.booted, urls))
    return state, _told(newly)


def _told(newly: frozenset[Open]) -> tuple[str, ...]:
    return tuple(sorted(f"{each.kind}: {each.who} {'/'.join(each.what)}" for each in newly))


def _touches(path: Pointer, fault: Fault) -> bool:
    """Whether a cause is the injected fact, the object that holds it, or lies within what was changed."""
    injected = fault.path
    if not path:
        return False
    holder = injected[: max(2, len(injected) - 1)]
    return path[: len(injected)] == injected or path[: len(holder)] == holder or (
        len(path) >= max(2, len(holder) - 1) and holder[: len(path)] == path
    )  # fmt: skip


def family(fault: Fault) -> str:
    """Where a fault belongs, for the table."""
    path = fault.path
    if path[0] in _FAMILIES:
        return _FAMILIES[str(path[0])]
    if "sites" in path or "folders" in path:
        return "sites"
    if "services" in path:
        return "services"
    return "names" if "hosts_file" in path or "resolver" in path else "the way"


def estates() -> list[str]:
    """The healthy estates by name."""
    return sorted(each.stem for each in HEALTHY.iterdir())


def tasks(names: list[str]) -> list[tuple[str, int]]:
    """Every fault of these estates."""
    return [(name, number) for name in names for number in range(len(faults(base(name).document)))]


_COLUMNS = ("faults", "right", "innocent", "mended", "partly", "breaks", "advice", "none", "open", "past")


def table(judged: list[Judged]) -> Iterator[str]:
    """The figures by family, and remedies by class."""
    rows: dict[str, Counter[str]] = {}
    classes: Counter[tuple[str, bool]] = Counter()
    for each in judged:
        if each.state != "missed":
            continue
        for name in (family(each.fault), "all"):
            row = rows.setdefault(name, Counter())
            row["faults"] += 1
            row["right"] += each.right
            row["innocent"] += bool(each.innocents)
            row[each.patch] += 1
            row["open"] += bool(each.opened)
            row["past"] += each.past
        classes.update(each.classes)
    yield f"{'':18}" + "".join(f"{each:>9}" for each in _COLUMNS)
    for name in sorted(rows, key=lambda each: (each == "all", each)):
        yield f"{name:18}" + "".join(f"{rows[name][each]:>9}" for each in _COLUMNS)
    whole = rows.get("all", Counter())
    if whole["faults"]:
        right, innocent, opened = (100 * whole[each] / whole["faults"] for each in ("right", "innocent", "open"))
        yield f"right first {right:.1f} %, with an innocent {innocent:.1f} %, patches that open more {opened:.1f} %"
    yield "complete remedies by class, and how many open more than the healthy estate:"
    for safety in ("safe", "opens", "weakens"):
        yield f"  {safety:8} {classes[safety, False] + classes[safety, True]:6}  {classes[safety, True]:6}"
    states = Counter(each.state for each in judged)
    yield f"{len(judged)} faults: {states['missed']} missed, {states['harmless']} harmless, {states['refused']} refused"


def main() -> int:
    """Runs the faults; 1 where a patch that is handed out opens more, rewrites history or breaks something, or a fault crashed."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--sample", type=int, default=0, help="so many faults, drawn with the seed; 0: all")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--estate", action="append")
    parser.add_argument("--processes", type=int, default=os.cpu_count() or 1)
    parser.add_argument(
        "--list", choices=("wrong", "open", "innocent", "breaks", "past", "none", "weakens", "partly", "advice")
    )
    parser.add_argument("--together", type=int, default=0, help="draw so many groups of faults, instead of single ones")
    parser.add_argument("--of", type=int, default=2, help="of so many faults each")
    arguments = parser.parse_args()
    if arguments.together:
        return several(arguments)
    every = tasks(arguments.estate or estates())
    if arguments.sample:
        every = random.Random(arguments.seed).sample(every, min(arguments.sample, len(every)))
    with Pool(arguments.processes) as pool:
        judged = pool.map(judge, every, chunksize=8)
    print("\n".join(table(judged)))
    for each in judged:
        if each.crash or (arguments.list and _listed(each, arguments.list)):
            print(f"- {each.estate}: {each.fault.kind} at {'.'.join(map(str, each.fault.path))} {each.fault.patch} [{each.url} {each.vantage}]"
                  f"\n    {each.crash or each.patch} {list(each.causes)} {list(each.opened)}")  # fmt: skip
    bad = [
        each for each in judged if each.crash or each.by_patch or each.past or each.patch in ("breaks", "unreadable")
    ]
    print(f"{len(bad)} of {sum(each.state == 'missed' for each in judged)} with a patch that must not be handed out")
    return 1 if bad or not any(each.state == "missed" for each in judged) else 0


def _listed(each: Judged, what: str) -> bool:
    if each.state != "missed":
        return False
    return {
        "wrong": not each.right,
        "open": bool(each.opened),
        "innocent": bool(each.innocents),
        "past": each.past,
        "weakens": any(safety == "weakens" and not more for safety, more in each.classes),
    }.get(what, each.patch == what)


if __name__ == "__main__":
    sys.exit(main())
