"""What is said to be looked at by hand, run in staged worlds: as the estate is true, and with one belief false.

    python -m conformance.by_hand N [--seed S] [--processes N]

Each command is run where it says, on the real thing. In a true world each prints what was said. With one belief false it differs at
the leg at which the belief is met, and nowhere before.
"""

import argparse
import os
import random
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple

import msgspec

from conformance.injected import NOW, base, broken_by, estates, tasks
from conformance.slips import Fault
from portolan.estate.estate import Estate
from portolan.estate.places import unwritten
from portolan.estate.vantage import Vantage
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.observing.by_hand import HandCheck, by_hand
from portolan.rehearsal.quoting import UnstageableError
from portolan.rehearsal.run import RehearsalError, Staging, carry_out, confinement, exclusion, plan_of


class Asked(NamedTuple):
    """A question with its checks, and the estate that is staged: the true one, or one with a fault."""

    name: str
    url: str
    vantage: str
    checks: tuple[HandCheck, ...]
    staged: Estate
    #: At which check the false belief is met; None where the estate is true.
    meets: int | None
    fault: Fault | None


def legs_of(found: Visit) -> Iterator[tuple[int, str, object]]:
    """What each leg of a visit comes to, by exchange and leg."""
    for number, exchange in enumerate(found.exchanges):
        resolution, connection = exchange.resolution, exchange.connection
        yield number, "name", (resolution.detail, frozenset(resolution.addresses))
        if connection is not None:
            yield number, "connect", (connection.address, connection.detail)
        if exchange.handshake is not None:
            yield number, "tls", exchange.handshake.detail
        if exchange.response is not None:
            yield number, "http", exchange.response.status


def first_difference(checks: tuple[HandCheck, ...], true: Visit, other: Visit) -> int | None:
    """The number of the check that first differs, by what both visits come to; None where no leg differs that is looked at."""
    theirs = {(number, leg): what for number, leg, what in legs_of(other)}
    for number, leg, what in legs_of(true):
        if theirs.get((number, leg)) != what:
            at = (
                each
                for each, check in enumerate(checks)
                if (check.exchange, check.leg) == (number, leg) and not check.inner
            )
            return next(at, None)
    return None


def drawn(seed: int) -> Iterator[Asked]:
    """Questions in healthy estates, each as it is true, then with faults of that estate."""
    rng = random.Random(seed)
    by_estate = {name: list(tasks([name])) for name in estates()}
    for held in by_estate.values():
        rng.shuffle(held)
    true_asked: set[tuple[str, str, str]] = set()
    while any(by_estate.values()):
        for name in estates():
            while by_estate[name]:
                found = _asked(by_estate[name].pop())
                if found is None:
                    continue
                key = (name, found.url, found.vantage)
                if key not in true_asked:
                    true_asked.add(key)
                    yield found._replace(staged=base(name).loaded.estate, meets=None, fault=None)
                yield found
                break


def _asked(task: tuple[str, int]) -> Asked | None:
    ready, fault, loaded, other, missed = broken_by(task)
    if loaded is None or other is None or not missed or fault.booted:
        return None
    url, vantage = missed[0]
    world = World(ready.loaded.estate, NOW)
    true = visit(world, url, world.estate.vantages[vantage])
    false = visit(other, url, other.estate.vantages[vantage])
    if exclusion(ready.loaded.estate, true) or exclusion(loaded.estate, false):
        return None
    checks = by_hand(world, true).checks
    meets = first_difference(checks, true, false)
    return None if meets is None else Asked(task[0], url, vantage, checks, loaded.estate, meets, fault)


def _standing(estate: Estate, names: list[str]) -> tuple[Estate, list[Vantage]]:
    """The estate with somebody at each place where a command is run."""
    places = [estate.vantages.get(name) or unwritten(estate, name) for name in names]
    held = [each for each in places if each is not None]
    return msgspec.structs.replace(estate, vantages={**estate.vantages, **{each.name: each for each in held}}), held


def run(asked: Asked, own: list[str]) -> list[tuple[HandCheck, str]] | None:
    """Every check with what its command printed; None where the estate cannot be staged."""
    names = list(dict.fromkeys([asked.vantage, *(each.on for each in asked.checks)]))
    sits = asked.staged.vantages[asked.vantage].host
    estate, places = _standing(asked.staged, [name for name in names if name != sits])
    try:
        plan = plan_of(Staging(estate, NOW, frozenset()), [(asked.url, each) for each in places])
    except UnstageableError:
        return None
    spots = dict(zip((each.name for each in places), plan["probes"], strict=True))
    if sits is not None:
        spots[sits] = spots[asked.vantage]
    plan["probes"] = [_probe(spots[each.on], each.command) for each in asked.checks]
    try:
        result = carry_out(plan, own, 240)
    except RehearsalError:
        return None
    printed = [f"{each['out']}\n{each['err']}" for each in result["results"]]
    return list(zip(asked.checks, printed, strict=True))


def _probe(like: dict[str, Any], command: str) -> dict[str, Any]:
    """A command as the client's own questions are run: with its resolver, its trust, its clock."""
    trust = like["command"][like["command"].index("--cacert") + 1]
    return {**like, "command": ["sh", "-c", f"CURL_CA_BUNDLE={trust} {command} 2>&1"], "limit": 30.0}


def wrong_in(asked: Asked, printed: list[tuple[HandCheck, str]]) -> str | None:
    """What is otherwise than it was said; None where nothing is."""
    for number, (check, output) in enumerate(printed):
        if asked.meets is not None and number > asked.meets:
            break
        if check.inner and asked.meets is not None:
            continue  # a machine behind may show it before the visitor meets it
        holds = check.holds(output)
        if asked.meets is None and not holds:
            return f"{check.leg} on {check.on}: {check.command}\n    said {check.prints}, printed {output.strip()[-300:]!r}"
        if asked.meets is not None and holds is (number == asked.meets):
            return f"{'does not differ' if holds else 'differs too early'}: {check.leg} on {check.on}: {check.command}\n    {output.strip()[-300:]!r}"
    return None


def main() -> int:
    """1 where a line is not what was said, or nothing was run."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--processes", type=int, default=os.cpu_count() or 1)
    arguments = parser.parse_args()
    own = confinement()
    every = drawn(arguments.seed)
    tally = {"true": 0, "false": 0, "commands": 0, "not staged": 0, "wrong": 0}

    def carried(asked: Asked) -> tuple[Asked, list[tuple[HandCheck, str]] | None]:
        printed = run(asked, own)
        # On a loaded machine clients give up early: what does not hold is run again.
        return asked, printed if printed is None or wrong_in(asked, printed) is None else run(asked, own)

    with ThreadPoolExecutor(arguments.processes) as pool:
        chosen = [each for each, _ in zip(every, range(arguments.count), strict=False)]
        for asked, printed in pool.map(carried, chosen):
            if printed is None:
                tally["not staged"] += 1
                continue
            tally["true" if asked.meets is None else "false"] += 1
            tally["commands"] += len(printed)
            wrong = wrong_in(asked, printed)
            if wrong is not None:
                tally["wrong"] += 1
                what = f"{asked.fault.kind} at {'.'.join(map(str, asked.fault.path))}" if asked.fault else "true"
                print(f"- {asked.name} {asked.url} {asked.vantage} ({what})\n    {wrong}")
    print(f"seed {arguments.seed}: " + ", ".join(f"{count} {what}" for what, count in tally.items()))
    return 1 if tally["wrong"] or not tally["commands"] else 0


if __name__ == "__main__":
    sys.exit(main())
