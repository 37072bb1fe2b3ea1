"""How long a survey takes, how much memory, and how both grow.

Usage: python bench/surveys.py [SITES VANTAGES] [--jobs N]; without numbers several sizes, and the exponent between them.
"""

import argparse
import math
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from big_estate import big_estate

#: So many faults miss one question in a hundred.
FAULTS = 20
_ONE = "vantages:\n  street: {network: internet, address: 198.51.100.77}\n"


def surveyed_estate(sites: int, vantages: int) -> str:
    """An estate of so many sites asked from so many places, of which one in a hundred is missed, by twenty kinds of slips."""
    people = "".join(
        f"  v{number}: {{network: internet, address: 198.51.{number // 200}.{number % 200 + 2}}}\n"
        for number in range(1, vantages)
    )
    text = big_estate(sites).replace(_ONE, _ONE + people, 1)
    for fault in range(FAULTS):
        for each in range(max(1, sites // 100 // FAULTS)):
            text = _slipped(text, fault % 4, fault * (sites // FAULTS) + each * 100)
    return text


def _slipped(text: str, kind: int, site: int) -> str:
    """The estate with one site's record, name, file or switch wrong."""
    name = f"s{site}"
    old, new = (
        (f"- {name} 3600 A 192.0.2.{site % 100 + 10}\n", f"- {name} 3600 A 192.0.2.250\n"),
        (f"- {name}.sites.example\n", f"- {name}x.sites.example\n"),
        (f"/srv/{name}\n            files: [index.html", f"/srv/{name}\n            files: [indx.html"),
        (
            f"          {name}:\n            names:",
            f"          {name}:\n            enabled: false\n            names:",
        ),
    )[kind]
    return text.replace(old, new, 1)


def taken(sites: int, vantages: int, jobs: int | None) -> tuple[float, float]:
    """Seconds of the whole command, and the most memory that one of its processes took, in MB."""
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "estate.yaml").write_text(surveyed_estate(sites, vantages), "utf-8")
        start = time.perf_counter()
        more = ["--jobs", str(jobs)] if jobs is not None else []
        done = subprocess.run(
            [sys.executable, "-m", "portolan", "survey", "-e", folder, "--format", "csv", "-o", "/dev/null", *more],
            check=False,
        )
        took = time.perf_counter() - start
        assert done.returncode == 1
    return took, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1000


def main() -> None:
    """Prints a line for each size, and the exponent between the first and the last."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("sizes", type=int, nargs="*", metavar="SITES VANTAGES")
    parser.add_argument("--jobs", type=int, default=None)
    arguments = parser.parse_args()
    given = arguments.sizes
    sizes = [(given[0], given[1])] if len(given) == 2 else [(1000, 10), (3000, 10), (10_000, 10)]
    measured = []
    for sites, vantages in sizes:
        took, memory = taken(sites, vantages, arguments.jobs)
        questions = sites * vantages
        measured.append((questions, took))
        print(
            f"{questions:>10,} questions  {took:7.1f} s  {questions / took:8,.0f} a second  {memory:6.0f} MB at most in one process"
        )
    if len(measured) > 1:
        (few, first), (many, last) = measured[0], measured[-1]
        print(f"grows by questions to the power of {math.log(last / first) / math.log(many / few):.2f}")


if __name__ == "__main__":
    main()
