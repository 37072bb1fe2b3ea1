"""Proven remedies carried out: the real configuration after the patch, asked by real clients.

    python -m conformance.carried_out N [--seed S] [--processes N]

Single faults are drawn from the injector (conformance/injected.py), each family in turn; what is handed out for one is applied to the
files, loaded anew, staged with real programs, and every expectation is asked. A remedy holds where each is met in reality as it was
predicted. Estates with edges and stores are staged with stand-ins, and counted apart.
"""

import argparse
import os
import random
import sys
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from typing import NamedTuple

from conformance.injected import NOW, anew, base, broken_by, estates, family, missed_in, tasks
from conformance.slips import Fault, faults
from portolan.diagnosis.search import explain
from portolan.formats.estate_file import patched
from portolan.journey.expectation import misses, vantages_for
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.rehearsal.run import RehearsalError, Staging, confinement, rehearse


class Remedied(NamedTuple):
    """A fault, what was handed out for it, and the estate after that."""

    estate: str
    fault: Fault
    text: str
    world: World


class Carried(NamedTuple):
    """What came of one: questions that were compared, and what was otherwise."""

    remedied: Remedied
    compared: int
    wrong: tuple[str, ...]
    #: Why a question was not compared, or nothing was staged.
    excluded: tuple[str, ...]

    @property
    def played(self) -> bool:
        """Whether stand-ins took part."""
        estate = self.remedied.world.stated
        return bool(estate.edges or estate.stores or any(zone.edge for zone in estate.zones.values()))


def remedied(task: tuple[str, int]) -> Remedied | None:
    """The estate after the remedy that is handed out for a fault; None where none is, or it is no change."""
    ready, fault, broken, world, missed = broken_by(task)
    if broken is None or world is None or not missed:
        return None
    url, vantage = missed[0]
    found = explain(world, url, broken.estate.vantages[vantage], lambda patch: patched(broken, patch).estate)
    best = found.best
    if best is None or not best.patch or not best.complete:
        return None
    after = World(anew(ready, patched(broken, best.patch)).estate, NOW, None, world.booted)
    return None if missed_in(after) else Remedied(task[0], fault, best.text, after)


def drawn(seed: int) -> Iterator[Remedied]:
    """Remedies, of each family in turn."""
    rng = random.Random(seed)
    by_family: dict[str, list[tuple[str, int]]] = {}
    for task in tasks(estates()):
        by_family.setdefault(family(faults(base(task[0]).document)[task[1]]), []).append(task)
    for held in by_family.values():
        rng.shuffle(held)
    while any(by_family.values()):
        for name in sorted(by_family):
            found = None
            while by_family[name] and found is None:
                found = remedied(by_family[name].pop())
            if found is not None:
                yield found


def carried_out(found: Remedied, own: list[str]) -> Carried:
    """Stages the estate after a remedy, and asks every expectation."""
    world = found.world
    asked = [
        (expectation, vantage)
        for expectation in world.estate.expected
        for vantage in vantages_for(world.estate, expectation)
    ]
    questions = [(each.url, vantage, visit(world, each.url, vantage)) for each, vantage in asked]
    assert not any(misses(each, question[2]) for (each, _), question in zip(asked, questions, strict=True))
    try:
        staged = rehearse(Staging(world.stated, world.now, world.booted), questions, own)
    except RehearsalError as error:
        return Carried(found, 0, (), (str(error),))
    wrong = tuple(f"{each.url} {each.vantage}: {each}" for each in staged.disagreements) + staged.failed
    return Carried(found, staged.compared, wrong, tuple(staged.excluded))


def main() -> int:
    """1 where a remedy does not hold, or nothing was compared."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--processes", type=int, default=os.cpu_count() or 1)
    arguments = parser.parse_args()
    own = confinement()
    done: list[Carried] = []
    again = 0
    every = drawn(arguments.seed)
    with ThreadPoolExecutor(arguments.processes) as pool:
        # What cannot be compared here, such as a carrier's box, is counted and drawn again.
        while sum(bool(each.compared) for each in done) < arguments.count:
            some = list(islice(every, arguments.count - sum(bool(each.compared) for each in done)))
            if not some:
                break
            played = list(pool.map(lambda each: carried_out(each, own), some))
            # On a loaded machine clients give up where real ones would not: what does not hold is staged again, by itself.
            done += [carried_out(each.remedied, own) if each.wrong else each for each in played]
            again += sum(bool(each.wrong) for each in played)
    tally: Counter[str] = Counter()
    for each in done:
        kind = "with stand-ins" if each.played else "with real programs"
        state = "wrong" if each.wrong else "held" if each.compared else "not compared"
        tally[f"{state} {kind}"] += 1
        tally["questions compared"] += each.compared
        if state != "held":
            fault = each.remedied.fault
            print(f"- {each.remedied.estate}: {fault.kind} at {'.'.join(map(str, fault.path))}; {each.remedied.text}")
            print("\n".join(f"    {line}" for line in (*each.wrong, *each.excluded)))
    families = Counter(family(each.remedied.fault) for each in done)
    print(
        f"seed {arguments.seed}: {len(done)} remedies carried out ({', '.join(f'{each} {count}' for each, count in families.items())})"
    )
    print(
        ", ".join(f"{count} {what}" for what, count in sorted(tally.items()))
        + (f"; {again} staged again by themselves" if again else "")
    )
    return 1 if any(each.wrong for each in done) or not any(each.compared for each in done) else 0


if __name__ == "__main__":
    sys.exit(main())
