"""Ends commands at random moments by signals: nothing is half written, nothing is left running, nobody sees a traceback.

Usage: python -m fuzz.signals N [--seed S]
"""

import argparse
import json
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from fuzz.run import STORIES

URL = "https://visit.kestrel-ridge.example/"
#: What is ended: a command line, in a folder that holds the estate `e`.
COMMANDS = (
    ["--version"], ["demo"], ["demo", "half-open", "--copy", "made"], ["check", "-e", "e"], ["check", "-e", "e", "--format", "json"],
    ["follow", URL, "-e", "e", "--from", "street"], ["explain", URL, "-e", "e", "--from", "street"], ["explain", URL, "-e", "e", "--format", "patch"],
    ["survey", "-e", "e"], ["survey", "-e", "e", "--format", "json", "-o", "out.json"], ["exposed", "-e", "e"], ["report", "-e", "e"], ["draw", "-e", "e"],
    ["fault", "cert-name"], ["schema", "estate"], ["completion", "bash"], ["rehearse", URL, "-e", "e", "--from", "street"],
)  # fmt: skip
SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP, signal.SIGINT)


def _is_json(path: Path) -> bool:
    """Whether a file was written whole."""
    try:
        json.loads(path.read_text("utf-8"))
    except (OSError, ValueError):
        return False
    return True


def ended(rng: random.Random, folder: Path, longest: dict[str, float]) -> tuple[str, str | None]:
    """One command, one signal: how it ended, and what must not be."""
    words, sent = rng.choice(COMMANDS), rng.choice(SIGNALS)
    name = " ".join(words[:1])
    begin = time.monotonic()
    process = subprocess.Popen(
        [sys.executable, "-m", "portolan", *words], cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )  # fmt: skip
    time.sleep(rng.uniform(0, longest.get(name, 0.4)))
    process.send_signal(sent)
    try:
        _, said = process.communicate(timeout=30)
    except subprocess.TimeoutExpired:
        process.kill()
        return name, f"{words} did not end within 30 s of {sent.name}"
    took = time.monotonic() - begin
    if process.returncode in (0, 1, 2):
        longest[name] = max(longest.get(name, 0.4), took)
    if process.returncode not in (0, 1, 2, 130, -signal.SIGTERM, -signal.SIGHUP, -signal.SIGINT):
        return name, f"{words} ended with {process.returncode} at {sent.name}: {said[-3000:]}"
    # Until the first module of ours is loaded, it is the interpreter that is stopped.
    if "Traceback" in said and "/portolan/" in said:
        return name, f"{words} at {sent.name}: {said[-3000:]}"
    made = {each.name for each in folder.iterdir()} - {"e"}
    whole = {"made"} if (folder / "made" / "estate.yaml").exists() else set()
    whole |= {"out.json"} if _is_json(folder / "out.json") else set()
    for each in made:
        if (folder / each).is_dir():
            shutil.rmtree(folder / each)
        else:
            (folder / each).unlink()
    if made - whole and sent is not signal.SIGHUP:
        return name, f"{words} at {sent.name} left {sorted(made - whole)}"
    return name, None


def stages() -> list[str]:
    """The stages of rehearsals whose starter is gone."""
    found = []
    for each in Path("/proc").iterdir():
        if each.name.isdecimal():
            try:
                words = (each / "cmdline").read_bytes().split(b"\0")
                parent = (each / "stat").read_text().rpartition(")")[2].split()[1]
            except OSError:
                continue
            if b"portolan-stage" in words and parent == "1":
                found.append(each.name)
    return found


def main() -> int:
    """Prints how many commands were ended, and what must not be."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    arguments = parser.parse_args()
    rng, longest = random.Random(arguments.seed), dict[str, float]()
    counts: Counter[str] = Counter()
    wrong: list[str] = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        shutil.copytree(STORIES / "half-open", folder / "e")
        for _ in range(arguments.count):
            command, said = ended(rng, folder, longest)
            counts[command] += 1
            wrong += [said] if said else []
    time.sleep(1)
    wrong += [f"a stage is left: {each}" for each in stages()]
    for text in wrong[:20]:
        print(f"✗ {text}")
    print(
        f"seed {arguments.seed}: {sum(counts.values())} commands ended by signals ({dict(counts)}), {len(wrong)} wrong"
    )
    return 1 if wrong else 0


if __name__ == "__main__":
    os.environ.setdefault("PYTHONUTF8", "1")
    sys.exit(main())
