"""Asks an earlier revision the same questions about random zones: what differs, and who is right.

    python -m conformance.before REV [--questions N] [--seed S]

Both answer for the same estates in processes of their own; where they differ, real resolvers are asked (conformance/zones.py).
"""

import argparse
import json
import os
import subprocess
import sys
import tempfile
from collections import Counter
from pathlib import Path
from typing import Any

import portolan
from conformance.zones import RESOLVERS, Draw, comparable, observed
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World

_REPO = Path(__file__).parent.parent
Answer = list[Any]


def answered(folder: str, names: list[str]) -> list[list[Answer]]:
    """What this revision says of every name, by each resolver."""
    held = portolan.load(folder)
    found = []
    for name in names:
        by_resolver = []
        for program in RESOLVERS:
            try:
                resolution = held.follow(f"http://{name}/", program).exchanges[0].resolution
                detail = None if resolution.detail is None else str(resolution.detail)
                by_resolver.append([detail, sorted(map(str, resolution.addresses))])
            except Exception as error:
                by_resolver.append([type(error).__name__, []])
        found.append(by_resolver)
    return found


def main() -> int:
    """1 where this revision is wrong and the earlier one was right."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("revision", nargs="?")
    parser.add_argument("--questions", type=int, default=10_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--answer", help=argparse.SUPPRESS)
    arguments = parser.parse_args()
    if arguments.answer:
        tasks = json.loads(Path(arguments.answer).read_text("utf-8"))
        print(json.dumps([answered(each["folder"], each["names"]) for each in tasks]))
        return 0
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
        differs = [at for at in range(len(new)) if new[at] != old[at]]
        tally["asked"] += len(new) * len(RESOLVERS)
        if differs:
            _judged(task, new, old, differs, tally)
    print(", ".join(f"{count} {what}" for what, count in tally.items()))
    return 1 if tally["only the earlier one right"] else 0


def _drawn(arguments: argparse.Namespace, scratch: Path) -> list[dict[str, Any]]:
    tasks: list[dict[str, Any]] = []
    number = 0
    while sum(len(each["names"]) for each in tasks) * len(RESOLVERS) < arguments.questions:
        number += 1
        draw = Draw(arguments.seed * 100_000 + number)
        data = draw.estate()
        street = data["vantages"]["street"]
        data["vantages"] |= {program: {**street, "resolver": address} for program, address in RESOLVERS.items()}
        folder = scratch / f"estate-{number}"
        folder.mkdir()
        for name, text in {"estate.yaml": json.dumps(data), **draw.files}.items():
            (folder / name).write_text(text, "utf-8")
        tasks.append({"folder": str(folder), "names": draw.questions(120)})
    return tasks


def _answers(source: Path, listed: Path) -> list[list[list[Answer]]]:
    path = os.pathsep.join((str(source), str(_REPO)))
    command = [sys.executable, "-m", "conformance.before", "--answer", str(listed)]
    done = subprocess.run(
        command, env={**os.environ, "PYTHONPATH": path}, cwd=listed.parent, capture_output=True, text=True, check=False
    )
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
    seen, _ = observed(World(estate, estate.at), names, [], [])
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
