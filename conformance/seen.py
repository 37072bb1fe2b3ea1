"""The estate healthy, the world not: is the false belief found from what is seen, and do the checks lead to it?

    python -m conformance.seen N [--seed S] [--processes N] [--list]

Single faults are drawn from the injector (conformance/injected.py). The *world* has the fault, the estate does not. What every
written place sees in the world is told; the false belief is to be among the first three suspects. Then the next check is answered
by the world, four times at most: what is left is to hold the false belief, alone or with what one look shows.
"""

import argparse
import os
import random
import sys
from collections import Counter
from functools import partial
from multiprocessing import Pool
from typing import NamedTuple

from conformance.injected import NOW, _touches, broken_by, estates, tasks
from conformance.slips import Fault
from portolan.estate.vantage import Vantage
from portolan.formats.estate_file import patched
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.observing.next_check import NextCheck, further_places, looks_at, next_check
from portolan.observing.observation import Seen, of
from portolan.observing.suspects import MOST_TRIED, Doubt, Suspect, doubt, is_of
from portolan.source.place import Place, place_in_file

_MOST_CHECKS = 4


class Found(NamedTuple):
    """What became of one false belief."""

    estate: str
    fault: Fault
    url: str
    #: `unseen`: what is seen is what the estate says; else `first three`, `later`, `missed`.
    state: str
    rank: int | None
    #: How many checks it took, and how many suspects were left that no look shows together.
    checks: int
    left: int
    #: `alone`, `with others`, or `thrown out`.
    ended: str
    objects: tuple[str, ...]


def judge(task: tuple[str, int], most: int = MOST_TRIED) -> Found | None:
    """Tells what is seen in a broken world of the healthy estate; None where nothing is missed, or the estate does not load."""
    ready, fault, loaded, other, missed = broken_by(task)
    if loaded is None or other is None or not missed or fault.booted:
        return None
    url = missed[0][0]
    world = World(ready.loaded.estate, NOW)
    told: dict[str, tuple[Vantage, tuple[Seen, ...]]] = {
        name: (each, _seen(other, url, each)) for name, each in world.estate.vantages.items()
    }
    places = further_places(world, told)
    world = world.with_vantages(*(each for each in places if each.name not in world.estate.vantages))
    other = other.with_vantages(*(each for each in places if each.name not in other.estate.vantages))

    def ask(checked: list[tuple[str, bool]]) -> Doubt:
        return doubt(world, url, told.values(), lambda patch: patched(ready.loaded, patch).estate, most, checked)

    found = ask([])
    objects = tuple(each.object for each in found.suspects[:4])
    rank = next((number for number, each in enumerate(found.suspects) if _is(each, fault)), None)
    if found.agrees:
        return Found(task[0], fault, url, "unseen", None, 0, 0, "unseen", objects)
    state = "missed" if rank is None else "first three" if rank < 3 else "later"
    if rank is None:
        return Found(task[0], fault, url, state, None, 0, len(found.suspects), "missed", objects)
    checked: list[tuple[str, bool]] = []
    count = 0
    while count < _MOST_CHECKS and not _told_apart(world, found):
        following = next_check(found, [each for each in places if each.name not in told])
        if following is None:
            break
        count += 1
        _answered(following, world, other, url, told, checked, fault)
        found = ask(checked)
    held = any(_is(each, fault) for each in (*found.suspects, *found.in_part))
    ended = "thrown out" if not held else "alone" if _told_apart(world, found) else "with others"
    return Found(task[0], fault, url, state, rank, count, len(found.suspects), ended, objects)


def _seen(other: World, url: str, vantage: Vantage) -> tuple[Seen, ...]:
    return (of(visit(other, url, other.there(vantage)).outcome),)


def _is(suspect: Suspect, fault: Fault) -> bool:
    return _touches(suspect.belief.path, fault)


def _told_apart(world: World, found: Doubt) -> bool:
    """Whether one suspect is left, or those that one look shows."""
    shown = [{look.object for look in looks_at(world.estate, each.belief)} for each in found.suspects]
    return len(found.suspects) <= 1 or bool(set.intersection(*shown))


def _answered(
    following: NextCheck,
    world: World,
    other: World,
    url: str,
    told: dict[str, tuple[Vantage, tuple[Seen, ...]]],
    checked: list[tuple[str, bool]],
    fault: Fault,
) -> None:
    """The world's answer to a check."""
    add = following.answers[0].add
    if add.startswith("--checked "):
        name = add.removeprefix("--checked ").rpartition("=")[0]
        checked.append((name, not _within(fault, name)))
        return
    place = add.removeprefix("--seen '").partition("=")[0]
    vantage = world.estate.vantages[place]
    told[place] = (vantage, _seen(other, url, vantage))


def _within(fault: Fault, name: str) -> bool:
    """Whether somebody who looks at an object sees the fault there: it is what is looked at, or lies in it, or holds it."""
    held = base_place(fault)
    return is_of(held, name) or name.startswith(f"{held.object}.")


def base_place(fault: Fault) -> Place:
    """Where a fault is."""
    return place_in_file(fault.path, "(fault)", 1)


def main() -> int:
    """1 where fewer are found than nine in ten, one is thrown out by a check, or nothing was drawn."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--processes", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--most", type=int, default=MOST_TRIED)
    parser.add_argument("--list", action="store_true")
    arguments = parser.parse_args()
    every = tasks(estates())
    random.Random(arguments.seed).shuffle(every)
    found: list[Found] = []
    with Pool(arguments.processes) as pool:
        for each in pool.imap(partial(judge, most=arguments.most), every, chunksize=8):
            if each is not None:
                found.append(each)
            if sum(one.state != "unseen" for one in found) == arguments.count:
                break
        pool.terminate()
    states, ended = Counter(each.state for each in found), Counter(each.ended for each in found)
    seen = len(found) - states["unseen"]
    first = states["first three"]
    print(f"seed {arguments.seed}: {seen} false beliefs that are seen ({states['unseen']} are not): {dict(states)}")
    print(
        f"among the first three {100 * first / max(1, seen):.1f} %; after at most {_MOST_CHECKS} checks: {dict(ended)}"
    )
    for each in found if arguments.list else ():
        if each.state in ("later", "missed") or each.ended in ("thrown out", "with others"):
            path = ".".join(map(str, each.fault.path))
            print(f"- {each.estate}: {each.fault.kind} at {path} [{each.url}] rank {each.rank}, {each.checks} checks, {each.left} left, {each.ended}\n    {each.objects}")  # fmt: skip
    return 1 if ended["thrown out"] or not seen or first < 0.85 * seen else 0


if __name__ == "__main__":
    sys.exit(main())
