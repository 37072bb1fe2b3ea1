"""Asks an earlier revision the same questions about random zones: what differs, and who is right.

    python -m conformance.before REV [--questions N] [--seed S]

Both answer for the same estates in processes of their own; where they differ, real resolvers are asked (conformance/zones.py).
"""

import argparse
import json
import os
import random
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path
from typing import Any

from conformance.zones import RESOLVERS, Draw, comparable, observed
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World
from portolan.rehearsal.run import confinement

_REPO = Path(__file__).parent.parent
Answer = list[Any]


class Siblings:
    """Zones whose servers are named in each other, with glue that is right, old or left out."""

    def __init__(self, seed: int) -> None:
        self.rng = random.Random(seed)
        self.files: dict[str, str] = {}
        self.zones = ("kestrel-ridge.example", "other.example", "third.example")

    def estate(self) -> dict[str, Any]:
        """The whole as plain data."""
        rng, addresses = self.rng, [f"192.0.2.{21 + number}" for number in range(3)]
        hosts: dict[str, Any] = {
            f"cache-{program}": {
                "interfaces": {"internet": {"address": address}},
                "services": {"cache": {"kind": "resolver", "program": program, "validates": False}},
            }
            for program, address in RESOLVERS.items()
        }
        for number, address in enumerate(addresses):
            held = [zone for zone in self.zones if rng.random() < 0.6]
            if held:
                service = {"kind": "name-server", "program": "knot", "zones": held}
                hosts[f"s{number}"] = {"interfaces": {"internet": {"address": address}}, "services": {"dns": service}}
        zones: dict[str, Any] = {}
        for zone in self.zones:
            servers = rng.sample([f"ns.{each}" for each in self.zones], rng.choice((1, 1, 2)))
            own = rng.sample(addresses, rng.choice((1, 1, 2)))
            records = [
                "@ 60 SOA ns m 1 60 60 60 60",
                *(f"@ 60 NS {each}." for each in servers),
                *(f"ns 60 A {each}" for each in own),
            ]
            glue = {
                each: rng.choice((*own, *addresses)) for each in servers if each.endswith(zone) and rng.random() < 0.8
            }
            zones[zone] = {
                "delegated_to": servers,
                "records": [*records, "www 60 A 203.0.113.5", "alias 60 CNAME www.other.example."],
            }
            zones[zone] |= {"glue": glue} if glue else {}
        street = {"network": "internet", "address": "198.51.100.77"}
        return {
            "portolan": 1,
            "at": "2026-03-14T20:00:00Z",
            "zones": zones,
            "hosts": hosts,
            "vantages": {"street": street},
        }

    def questions(self, _count: int) -> list[str]:
        """A name that is there, an alias, and one that is not, of each zone."""
        return [f"{label}.{zone}" for zone in self.zones for label in ("www", "alias", "none")]


def main() -> int:
    """1 where this revision is wrong and the earlier one was right."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("revision")
    parser.add_argument("--questions", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--siblings", action="store_true", help="zones whose servers are named in each other")
    arguments = parser.parse_args()
    with tempfile.TemporaryDirectory() as scratch:
        return _compare(arguments, Path(scratch))


def _compare(arguments: argparse.Namespace, scratch: Path) -> int:
    tree = scratch / "earlier"
    subprocess.run(["git", "-C", _REPO, "worktree", "add", "--detach", "-q", tree, arguments.revision], check=True)
    try:
        tasks = _drawn(arguments, scratch)
        listed = scratch / "tasks.json"
        listed.write_text(json.dumps(tasks), "utf-8")
        now, then = (_answers(path / "src", listed) for path in (_REPO, tree))
    finally:
        subprocess.run(["git", "-C", _REPO, "worktree", "remove", "--force", tree], check=True)
    tally: Counter[str] = Counter()
    for task, new, old in zip(tasks, now, then, strict=True):
        if old and old[0][0][0] == "refused":
            tally["refused by the earlier one"] += len(new) * len(RESOLVERS)
            continue
        differs = [at for at in range(len(new)) if new[at] != old[at]]
        tally["asked"] += len(new) * len(RESOLVERS)
        tally["with addresses"] += sum(bool(addresses) for each in new for _, addresses in each)
        if differs:
            _judged(task, new, old, differs, tally)
    print(", ".join(f"{count} {what}" for what, count in tally.items()))
    return 1 if tally["only the earlier one right"] else 0


def _drawn(arguments: argparse.Namespace, scratch: Path) -> list[dict[str, Any]]:
    tasks: list[dict[str, Any]] = []
    number = 0
    while sum(len(each["names"]) for each in tasks) * len(RESOLVERS) < arguments.questions:
        number += 1
        draw: Any = (Siblings if arguments.siblings else Draw)(arguments.seed * 100_000 + number)
        data = draw.estate()
        street = data["vantages"]["street"]
        for at, (program, address) in enumerate(RESOLVERS.items(), 1):
            data["vantages"][program] = {**street, "address": f"198.51.100.{80 + at}", "resolver": address}
        folder = scratch / f"estate-{number}"
        folder.mkdir()
        for name, text in {"estate.yaml": json.dumps(data), **draw.files}.items():
            (folder / name).write_text(text, "utf-8")
        tasks.append({"folder": str(folder), "names": draw.questions(120), "vantages": list(RESOLVERS)})
    return tasks


def _answers(source: Path, listed: Path) -> list[list[list[Answer]]]:
    command = [sys.executable, str(Path(__file__).with_name("earlier_answers.py")), str(listed)]
    environment = {**os.environ, "PYTHONPATH": str(source)}
    done = subprocess.run(command, env=environment, cwd=listed.parent, capture_output=True, text=True, check=False)
    if done.returncode:
        raise SystemExit(done.stderr)
    found: list[list[list[Answer]]] = json.loads(done.stdout)
    return found


def _judged(task: dict[str, Any], new: Any, old: Any, differs: list[int], tally: Counter[str]) -> None:
    folder, names = Path(task["folder"]), [task["names"][at] for at in differs]
    files = {each.name: each.read_text("utf-8") for each in folder.iterdir()}
    estate = load(MemoryFiles(files), "estate.yaml").estate
    assert estate.at is not None
    if not all(comparable(estate, zone) for zone in estate.zones.values()):
        tally["differ where resolvers choose"] += sum(
            new[at][k] != old[at][k] for at in differs for k in range(len(RESOLVERS))
        )
        return
    seen, _ = observed(World(estate, estate.at), names, [], confinement())
    for place, at in enumerate(differs):
        for number, program in enumerate(RESOLVERS):
            one, other = new[at][number], old[at][number]
            if one == other:
                continue
            kind, addresses = seen[program][place]
            real = [None if kind == "addresses" else kind, sorted(addresses)]
            who = {(True, False): "only this one right", (False, True): "only the earlier one right"}.get(
                (one == real, other == real), "both wrong"
            )
            tally[who] += 1
            if who != "only this one right":
                print(f"{folder.name} {names[place]} by {program}: now {one}, then {other}, really {real}: {who}")


if __name__ == "__main__":
    sys.exit(main())
