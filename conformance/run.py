"""Holds worlds against real systems, several at once; prints worlds, questions, disagreements and worlds a second.

Usage: python -m conformance.run table [NAME ...]
       python -m conformance.run random N [--seed S] [--workers W]
       python -m conformance.run web N [--seed S] [--client chromium]
       python -m conformance.run edges N [--seed S]
       python -m conformance.run addresses N [--seed S] [--client chromium]
       python -m conformance.run sizes N [--seed S]
       python -m conformance.run names N [--seed S]
       python -m conformance.run connections N [--seed S] [--tables nft|iptables]
"""

import argparse
import random
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from conformance import edge_worlds, several_addresses, web_random
from conformance.edge_worlds import EDGE_WORLDS
from conformance.estates import estates, questions_of
from conformance.front_worlds import FRONT_WORLDS
from conformance.resolver_worlds import RESOLVER_WORLDS
from conformance.routing_worlds import ROUTING_WORLDS, drawn_sizes
from conformance.rule_worlds import RULE_WORLDS
from conformance.site_worlds import SITE_WORLDS
from conformance.way_worlds import BOOTED
from conformance.worlds import WORLDS, text_of
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.rehearsal.clients import CLIENTS
from portolan.rehearsal.run import RehearsalError, Rehearsed, Staging, confinement, rehearse
from portolan.source.problem import EstateError
from portolan.views.words import in_words

WEB_WORLDS = {**SITE_WORLDS, **RULE_WORLDS, **FRONT_WORLDS, **EDGE_WORLDS, **ROUTING_WORLDS, **RESOLVER_WORLDS}
KEPT = Path(__file__).with_name("kept")


def held_against(
    text: str, asked: list[tuple[str, str]], own: list[str], client: str = "curl", booted: bool = False
) -> Rehearsed:
    """One world rehearsed, as it is or after a boot of every machine."""
    estate = load(MemoryFiles({"estate.yaml": text}), "estate.yaml").estate
    assert estate.at is not None
    machines = None if booted else frozenset[str]()
    world = World(estate, estate.at, None, machines)
    questions = [(url, estate.vantages[name], visit(world, url, estate.vantages[name])) for url, name in asked]
    return rehearse(Staging(estate, estate.at, machines), questions, own, client=client)


def table(names: list[str]) -> Iterator[tuple[str, str, list[tuple[str, str]]]]:
    """The hand-written worlds, and those kept from disagreements."""
    for name, (_, urls, vantages) in WORLDS.items():
        if not names or name in names:
            yield name, text_of(name), [(url, vantage) for url in urls for vantage in vantages]
    for name, each in WEB_WORLDS.items():
        if not names or name in names or any(part.endswith("*") and name.startswith(part[:-1]) for part in names):
            yield name, each.text, each.asked
    for path in sorted(KEPT.glob("*.yaml")):
        if not names or path.stem in names:
            text = path.read_text("utf-8")
            yield f"kept: {path.stem}", text, questions_of(text)


def drawn(count: int, seed: int) -> Iterator[tuple[str, str, list[tuple[str, str]]]]:
    """Random worlds from the strategy; the same seed draws the same ones."""
    from hypothesis import HealthCheck, Phase, given, settings
    from hypothesis import seed as seeded

    texts: list[str] = []

    @seeded(seed)
    @settings(
        max_examples=count,
        database=None,
        phases=[Phase.generate],
        deadline=None,
        suppress_health_check=list(HealthCheck),
    )
    @given(estates())
    def collect(text: str) -> None:
        texts.append(text)

    while len(texts) < count:
        before = len(texts)
        collect()
        if len(texts) == before:
            break
        seed += 1
    for number, text in enumerate(texts[:count]):
        yield f"random {number}", text, questions_of(text)


def shrunk(text: str, own: list[str]) -> str:
    """The smallest estate near a disagreement that still disagrees: changed facts are put back one after the other."""
    from conformance.estates import simpler

    changed = True
    while changed:
        changed = False
        for candidate in simpler(text):
            try:
                if held_against(candidate, questions_of(candidate), own).disagreements:
                    text, changed = candidate, True
                    break
            except RehearsalError:
                continue
    return text


def run(
    worlds: Iterable[tuple[str, str, list[tuple[str, str]]]],
    workers: int,
    keep: Callable[[str, str], None] | None,
    client: str = "curl",
) -> int:
    """Rehearses worlds side by side; the number of questions in disagreement.

    On a loaded machine clients give up where real ones would not: a world that differs is asked again at the end, by
    itself, and what differs then counts.
    """
    own = confinement()
    start = time.monotonic()
    count = questions = wrong = excluded = 0
    doubtful = []

    def one(
        world: tuple[str, str, list[tuple[str, str]]],
    ) -> tuple[tuple[str, str, list[tuple[str, str]]], Rehearsed | str]:
        name, text, asked = world
        try:
            return world, held_against(text, asked, own, client, name in BOOTED)
        except (EstateError, RehearsalError) as error:
            return world, str(error)

    with ThreadPoolExecutor(workers) as pool:
        for world, found in pool.map(one, worlds):
            count += 1
            if isinstance(found, str) or found.disagreements or found.troubles or found.failed:
                doubtful.append(world)
                continue
            questions += len(found.comparisons)
            excluded += sum(each.excluded is not None for each in found.comparisons)
            if sys.stderr.isatty() and count % 10 == 0:
                print(f"\r{count} worlds", end="", file=sys.stderr)
    took = time.monotonic() - start
    for world in doubtful:
        for _ in range(2):
            _, found = one(world)
            if not isinstance(found, str) and not found.disagreements and not found.troubles and not found.failed:
                break
        name, text, _asked = world
        if isinstance(found, str):
            wrong += 1
            print(f"✗ {name}: {found}")
            continue
        questions += len(found.comparisons)
        excluded += sum(each.excluded is not None for each in found.comparisons)
        wrong += _told(name, found)
        if found.disagreements and keep is not None:
            keep(name, shrunk(text, own))
    print(
        f"{count} worlds, {questions} questions ({excluded} not comparable), {wrong} disagreements, {count / took:.1f} worlds a second"
        + (f"; {len(doubtful)} asked again by themselves" if doubtful else "")
    )
    if questions == excluded:
        print("nothing was held against the real systems: that is no agreement")
        return max(1, wrong)
    return wrong


def _told(name: str, found: Rehearsed) -> int:
    """Prints what is wrong with a world; how many questions disagree."""
    for trouble in (*found.troubles, *found.failed):
        print(f"! {name}: {trouble}")
    for each in found.disagreements:
        print(
            f"✗ {name}: {each.url} from {each.vantage}\n    predicted {in_words(each.predicted.outcome)} ({each.predicted.stop.kind if each.predicted.stop else ''})\n"
            f"    observed  {each.observed.kind} {each.observed.detail or ''} {each.observed.status or ''} {each.observed.page or ''} [{each.observed.words}]"
        )
    return len(found.disagreements) + bool(found.failed)


def side_by_side() -> int:
    """How many worlds at once this machine bears: fewer where starting a program takes long."""
    start = time.monotonic()
    for _ in range(10):
        subprocess.run(["true"], check=True)
    return 20 if time.monotonic() - start < 0.04 else 8


def many(kind: str, count: int, seed: int, workers: int, tables: str = "nft") -> int:
    """Random zones (or topologies): at least so many questions (connections); how many disagree."""
    from conformance import topologies, zones

    own = confinement()
    start = time.monotonic()
    worlds = asked = wrong = 0

    def one(at: int) -> tuple[str, list[str], int]:
        try:
            if kind == "connections":
                return topologies.compared(seed * 1000 + at, 15, own, tables)
            text, differing, questions = zones.compared(seed * 1000 + at, 60, own)
        except EstateError:
            return "", [], 0  # a draw that no estate can say
        except RehearsalError as error:
            return "", [str(error)], 0
        return text, [f"{name}: predicted {said}, observed {real}" for name, said, real in differing], questions

    doubtful = []
    with ThreadPoolExecutor(workers) as pool:
        at = 0
        while asked < count:
            for number, (_, differing, questions) in enumerate(pool.map(one, range(at, at + 4 * workers)), at):
                worlds, asked = worlds + bool(questions), asked + questions
                if differing:
                    doubtful.append(number)
            at += 4 * workers
    took = time.monotonic() - start
    for number in doubtful:  # asked again by themselves, as in `run`
        for _ in range(2):
            text, differing, _questions = one(number)
            if not differing:
                break
        wrong += len(differing)
        for line in differing[:5]:
            print(f"✗ {kind} {number}: {line}")
        if differing:
            print(text)
    print(
        f"{worlds} estates, {asked} {kind}, {wrong} disagreements, {asked / took:.0f} a second"
        + (f"; {len(doubtful)} asked again by themselves" if doubtful else "")
    )
    if not asked:
        print("nothing was held against the real systems: that is no agreement")
        return max(1, wrong)
    return wrong


def main() -> int:
    """The command."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    kinds = parser.add_subparsers(dest="kind", required=True)
    one = kinds.add_parser("table", help="the hand-written worlds")
    one.add_argument("names", nargs="*")
    two = kinds.add_parser("random", help="random worlds")
    two.add_argument("count", type=int)
    two.add_argument("--seed", type=int, default=None)
    two.add_argument("--keep", action="store_true", help="shrink disagreements and keep them in conformance/kept/")
    web = kinds.add_parser("web", help="random sites, sections, rights, fronts and redirects")
    web.add_argument("count", type=int)
    web.add_argument("--seed", type=int, default=None)
    three = kinds.add_parser("names", help="random zones and random names")
    four = kinds.add_parser("connections", help="random topologies and random connections")
    for each in (three, four):
        each.add_argument("count", type=int)
        each.add_argument("--seed", type=int, default=None)
    four.add_argument("--tables", choices=("nft", "iptables"), default="nft", help="what loads the rule sets")
    edges = kinds.add_parser("edges", help="random edges, fronts and stores")
    edges.add_argument("count", type=int)
    edges.add_argument("--seed", type=int, default=None)
    several = kinds.add_parser("addresses", help="random names with several addresses, of which some fail")
    several.add_argument("count", type=int)
    several.add_argument("--seed", type=int, default=None)
    sizes = kinds.add_parser("sizes", help="random places of smaller MTUs")
    sizes.add_argument("count", type=int)
    sizes.add_argument("--seed", type=int, default=None)
    for each in (one, two, web, edges, several, sizes, three, four):
        each.add_argument(
            "--workers", type=int, default=None, help="worlds at once (8 or 20, as the machine bears; with a browser 2)"
        )
        each.add_argument("--client", choices=tuple(CLIENTS), default="curl")
    arguments = parser.parse_args()
    workers = arguments.workers or (side_by_side() if arguments.client == "curl" else 2)
    if arguments.kind == "table":
        return 1 if run(table(arguments.names), workers, None, arguments.client) else 0
    seed = arguments.seed if arguments.seed is not None else random.randrange(1_000_000)
    print(f"seed {seed}")

    if arguments.kind in ("names", "connections"):
        tables = arguments.tables if arguments.kind == "connections" else "nft"
        return 1 if many(arguments.kind, arguments.count, seed, arguments.workers or 3, tables) else 0

    if arguments.kind == "sizes":
        return 1 if run(drawn_sizes(arguments.count, seed), workers, None, arguments.client) else 0
    if arguments.kind == "addresses":
        made = several_addresses.worlds(arguments.count, seed, arguments.client)
        return 1 if run(made, workers, None, arguments.client) else 0
    if arguments.kind == "edges":
        return 1 if run(edge_worlds.drawn(arguments.count, seed), workers, None, arguments.client) else 0
    if arguments.kind == "web":
        drawn_web = (
            (f"web {seed * 100000 + at}", web_random.drawn(seed * 100000 + at, arguments.client != "curl"))
            for at in range(arguments.count)
        )
        return 1 if run(((name, *each) for name, each in drawn_web), workers, None, arguments.client) else 0

    def keep(name: str, text: str) -> None:
        KEPT.mkdir(exist_ok=True)
        path = KEPT / f"seed-{seed}-{name.replace(' ', '-')}.yaml"
        path.write_text(text, "utf-8")
        print(f"  kept as {path.name}")

    worlds = drawn(arguments.count, seed)
    return 1 if run(worlds, workers, keep if arguments.keep else None, arguments.client) else 0


if __name__ == "__main__":
    sys.exit(main())
