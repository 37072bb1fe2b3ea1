"""What is said to be looked at by hand, run in staged worlds: as the estate is true, and with one belief false.

    python -m conformance.by_hand N [--seed S] [--browsers N] [--processes N]

Each command is run where it says, on the real thing. In a true world each prints what was said. With one belief false it differs at
the leg at which the belief is met, and nowhere before. What logs have, what a ping gets and what a browser shows is said for the world
that is staged, true or not: the servers' real logs are read, ping is run, and the first N worlds are visited with Chromium.
"""

import argparse
import json
import os
import random
import re
import shlex
import shutil
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
from portolan.evidence.outcome import Kind
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.observing.by_hand import ByHand, HandCheck, Log, by_hand
from portolan.rehearsal.clients import CLIENTS
from portolan.rehearsal.quoting import UnstageableError
from portolan.rehearsal.run import RehearsalError, Staging, carry_out, confinement, exclusion, plan_of


class Asked(NamedTuple):
    """A question with its checks, and the estate that is staged: the true one, or one with a fault."""

    name: str
    url: str
    vantage: str
    checks: tuple[HandCheck, ...]
    staged: Estate
    #: What is said of the world that is staged, and what the visitor gets there.
    there: ByHand
    found: Visit
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
            onward = [str(each.url) for each in found.exchanges[number + 1 : number + 2]]
            yield number, "http", (exchange.response.status, onward)


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
                    yield _true(found)
                yield found
                break


def _true(asked: Asked) -> Asked:
    """The same question where the estate is true."""
    estate = base(asked.name).loaded.estate
    world = World(estate, NOW)
    found = visit(world, asked.url, world.estate.vantages[asked.vantage])
    return asked._replace(staged=estate, there=by_hand(world, found), found=found, meets=None, fault=None)


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
    if meets is None:
        return None
    return Asked(task[0], url, vantage, checks, loaded.estate, by_hand(other, false), false, meets, fault)


def _standing(estate: Estate, names: list[str]) -> tuple[Estate, list[Vantage]]:
    """The estate with somebody at each place where a command is run."""
    places = [estate.vantages.get(name) or unwritten(estate, name) for name in names]
    held = [each for each in places if each is not None]
    return msgspec.structs.replace(estate, vantages={**estate.vantages, **{each.name: each for each in held}}), held


class Printed(NamedTuple):
    """What every check printed, what the machines' logs have by machine, and what the ping printed; None where there is none."""

    checks: list[str]
    logs: dict[str, str]
    ping: str | None


def run(asked: Asked, own: list[str]) -> Printed | None:
    """Runs every check, then looks into the logs; None where the estate cannot be staged."""
    logs = list(dict.fromkeys(each.on for each in asked.there.logs))
    names = list(dict.fromkeys([asked.vantage, *(each.on for each in asked.checks), *logs]))
    sits = asked.staged.vantages[asked.vantage].host
    estate, places = _standing(asked.staged, [name for name in names if name != sits])
    try:
        plan = plan_of(Staging(estate, NOW, frozenset()), [(asked.url, each) for each in places])
    except UnstageableError:
        return None
    spots = dict(zip((each.name for each in places), plan["probes"], strict=True))
    if sits is not None:
        spots[sits] = spots[asked.vantage]
    _written(plan)
    visitor = spots[asked.vantage]
    plan["probes"] = [_probe(spots[each.on], each.command) for each in asked.checks]
    plan["probes"].append(_probe(visitor, _asks(asked)))
    ping = asked.there.ping.command
    if ping is not None:
        plan["spaces"][visitor["space"]].append(f"echo {_VISITOR} {_VISITOR} > /proc/sys/net/ipv4/ping_group_range")
        plan["probes"].append(_probe(visitor, ping))
    for name in logs:
        lines = [each for each in asked.there.logs if each.on == name]
        plan["probes"].append(_probe(spots[name], _looks(plan, spots[name]["space"], lines)))
    try:
        result = carry_out(plan, own, 240)
    except RehearsalError:
        return None
    printed = [f"{each['out']}\n{each['err']}" for each in result["results"]]
    held = dict(zip(logs, printed[len(printed) - len(logs) :], strict=True))
    count = len(asked.checks)
    return Printed(printed[:count], held, printed[count + 1] if ping is not None else None)


#: The group that the stage's visitors are in, which may ping.
_VISITOR = 1002
#: So many times, half a second apart, a log is looked into: no client waits longer.
_LOOKS = 28


def _written(plan: dict[str, Any]) -> None:
    """Lets the web servers write what they are asked, in the form that both write by default."""
    for name, text in plan["files"].items():
        folder = f"/run/rehearsal/{name.rpartition('/')[0]}"
        if name.endswith("/web.conf"):
            text = text.replace("access_log off;", f"access_log {folder}/log/access.log;")
            plan["files"][name] = text.replace(
                f"ErrorLog {folder}/log/error.log",
                f'ErrorLog {folder}/log/error.log\nCustomLog {folder}/log/access.log "%h %l %u %t \\"%r\\" %>s %O"',
            )


def _looks(plan: dict[str, Any], space: str, lines: list[Log]) -> str:
    """Reads the logs of a machine's web servers, when what is said of them is there, or would be."""
    folders = [each["name"] for each in plan["daemons"] if each["space"] == space]
    files = " ".join(f"/run/rehearsal/{each}/log/access.log" for each in folders)
    there = " && ".join(
        f"grep -hF {shlex.quote(f'{each.asked} HTTP/')} {files} | grep -qF {shlex.quote(_status(each))}"
        for each in lines
    )
    return f"n=0; until {there}; do n=$((n+1)); [ $n -gt {_LOOKS} ] && break; sleep 0.5; done; cat {files}"


def _status(log: Log) -> str:
    return f'" {log.status} '


def _asks(asked: Asked) -> str:
    """The visit itself, which the logs are about."""
    saying = asked.found.vantage.saying
    method = "" if saying.method == "GET" else " -I" if saying.method == "HEAD" else f" -X {shlex.quote(saying.method)}"
    return f"curl -sSL -m 12{method} -o /dev/null {shlex.quote(asked.url)}"


def _probe(like: dict[str, Any], command: str) -> dict[str, Any]:
    """A command as the client's own questions are run: with its resolver, its trust, its clock."""
    trust = like["command"][like["command"].index("--cacert") + 1]
    return {**like, "command": ["sh", "-c", f"CURL_CA_BUNDLE={trust} {command} 2>&1"], "limit": 30.0}


def wrong_in(asked: Asked, printed: Printed) -> str | None:
    """What is otherwise than it was said; None where nothing is."""
    ping = asked.there.ping
    if printed.ping is not None and not ping.holds(printed.ping):
        return f"{ping.command} on {ping.on}: said {ping.says}\n    printed {printed.ping.strip()[-300:]!r}"
    for log in asked.there.logs:
        if not log.holds(printed.logs[log.on]):
            return f"the log of {log.on}: said {log.line}\n    has {printed.logs[log.on].strip()[-600:]!r}"
    for number, (check, output) in enumerate(zip(asked.checks, printed.checks, strict=True)):
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


#: So many seconds are at once, on a machine with much to do.
_AT_ONCE = 6


def browsed(asked: Asked, own: list[str]) -> tuple[str, str | None] | None:
    """What Chromium shows of the staged world, and what is wrong with what was said of it; None where it is not asked."""
    if exclusion(asked.staged, asked.found, "chromium"):
        return None
    vantage = asked.staged.vantages[asked.vantage]
    try:
        plan = plan_of(Staging(asked.staged, NOW, frozenset()), [(asked.url, vantage)], client="chromium")
        (result,) = carry_out(plan, own, 240)["results"]
    except (UnstageableError, RehearsalError):
        return None
    (seen,) = json.loads(result["out"])
    (observed,) = CLIENTS["chromium"].observed(result)
    shown = str(seen["error"] or "").removeprefix("net::")
    said, outcome = asked.there.browser, asked.found.outcome
    # Where a name is not found the page names what its own probe came to, which the tools do not tell.
    code = re.search(r"\((ERR_[A-Z_]+)", said)
    fits = code is None or code[1] == shown or outcome.kind is Kind.NAME_ERROR or shown == "no answer in time"
    if outcome.kind is Kind.HTTP_ERROR:
        fits = f"status {seen['status']}" in said
    elif outcome.kind is Kind.SERVED:
        fits = said.startswith("shows a page")
    late = said.endswith(", at once") and seen["seconds"] > _AT_ONCE
    agrees = observed.kind == str(outcome.kind) and fits and not late
    told = f"a browser: said {said}\n    showed {seen['status']} {shown} after {seen['seconds']:.0f} s"
    return shown, None if agrees else told


def main() -> int:
    """1 where a line is not what was said, or nothing was run."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--browsers", type=int, default=0, help="visit so many of the worlds with Chromium, too")
    parser.add_argument("--processes", type=int, default=os.cpu_count() or 1)
    arguments = parser.parse_args()
    if shutil.which("ping") is None:
        print("by hand: ping is not installed: apt-get install iputils-ping")
        return 1
    own = confinement()
    every = drawn(arguments.seed)
    tally = dict.fromkeys(("true", "false", "commands", "pings", "log lines", "browsers", "not staged", "wrong"), 0)

    def carried(asked: Asked) -> tuple[Asked, Printed | None]:
        printed = run(asked, own)
        # On a loaded machine clients give up early: what does not hold is run again.
        return asked, printed if printed is None or wrong_in(asked, printed) is None else run(asked, own)

    def tell(asked: Asked, wrong: str | None) -> None:
        if wrong is not None:
            tally["wrong"] += 1
            what = f"{asked.fault.kind} at {'.'.join(map(str, asked.fault.path))}" if asked.fault else "true"
            print(f"- {asked.name} {asked.url} {asked.vantage} ({what})\n    {wrong}")

    with ThreadPoolExecutor(arguments.processes) as pool:
        chosen = [each for each, _ in zip(every, range(arguments.count), strict=False)]
        for asked, printed in pool.map(carried, chosen):
            if printed is None:
                tally["not staged"] += 1
                continue
            tally["true" if asked.meets is None else "false"] += 1
            tally["commands"] += len(printed.checks)
            tally["pings"] += printed.ping is not None
            tally["log lines"] += len(asked.there.logs)
            tell(asked, wrong_in(asked, printed))
    for asked in chosen:
        shown = browsed(asked, own) if tally["browsers"] < arguments.browsers else None
        if shown is not None:
            tally["browsers"] += 1
            tell(asked, shown[1])
    print(f"seed {arguments.seed}: " + ", ".join(f"{count} {what}" for what, count in tally.items()))
    looked = tally["commands"] and (tally["browsers"] or not arguments.browsers)
    return 1 if tally["wrong"] or not looked else 0


if __name__ == "__main__":
    sys.exit(main())
