"""Prints how fast Portolan is; absolute times drift with the machine, so every start-up time has its ratio too.

Usage: python bench/run.py [--quick]
"""

import argparse
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from big_estate import big_estate

from portolan.cli.question import load_path
from portolan.faults.lint import lint
from portolan.journey.visit import visit
from portolan.journey.world import World

ROOT = Path(__file__).resolve().parent.parent
STORY = ROOT / "src" / "portolan" / "stories" / "half-open"
URL = "https://visit.kestrel-ridge.example/"


def cold(arguments: list[str], runs: int) -> float:
    """The median time of a whole process, in milliseconds."""
    times = []
    for _ in range(runs):
        start = time.perf_counter()
        subprocess.run([sys.executable, *arguments], capture_output=True, check=False)
        times.append((time.perf_counter() - start) * 1000)
    return statistics.median(times)


def per_second(action: Callable[[], object], seconds: float) -> float:
    """How often an action runs in a second, on one core."""
    action()
    count, start = 0, time.perf_counter()
    while time.perf_counter() - start < seconds:
        for _ in range(50):
            action()
        count += 50
    return count / (time.perf_counter() - start)


def line(what: str, value: str, goal: str = "") -> None:
    """One row of the report."""
    print(f"{what:<44} {value:>26}   {goal}")


def main() -> None:
    """Runs every measurement."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("--quick", action="store_true", help="fewer runs, a smaller estate")
    quick = parser.parse_args().quick
    runs, sites = (5, 1000) if quick else (15, 10_000)
    bare = cold(["-c", "pass"], runs)
    line("bare interpreter", f"{bare:.0f} ms")
    for what, arguments, goal in (
        ("portolan --version", ["--version"], "at most 60 ms over the bare interpreter"),
        ("portolan follow, main story", ["follow", URL, "-e", str(STORY)], "at most 300 ms"),
        ("portolan explain, main story", ["explain", URL, "-e", str(STORY)], ""),
        ("portolan demo", ["demo"], "under 2 s"),
    ):
        took = cold(["-m", "portolan", *arguments], runs)
        line(what, f"{took:.0f} ms, {took / bare:.1f} x bare", goal)
    loaded = load_path(str(STORY))
    assert loaded.estate.at is not None
    world = World(loaded.estate, loaded.estate.at)
    vantage = loaded.estate.vantages["street"]
    line("journeys a second, main story", f"{per_second(lambda: visit(world, URL, vantage), 2):,.0f}", "at least 5,000")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "estate.yaml"
        text = big_estate(sites)
        path.write_text(text, "utf-8")
        start = time.perf_counter()
        big = load_path(str(path))
        took = time.perf_counter() - start
        line(f"load {sites:,} sites, {text.count(chr(10)):,} lines", f"{took:.2f} s")
        assert big.estate.at is not None
        many = World(big.estate, big.estate.at)
        findings = lint(many)
        whole = time.perf_counter() - start
        goal = "at most 10 s" if sites == 10_000 else ""
        line(f"load and check them ({len(findings)} findings)", f"{whole:.2f} s", goal)
        chosen = next(iter(big.estate.vantages.values()))
        rate = per_second(lambda: visit(many, "https://s77.sites.example/", chosen), 1)
        line(f"journeys a second among {sites:,} sites", f"{rate:,.0f}")


if __name__ == "__main__":
    main()
