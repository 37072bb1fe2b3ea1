"""Feeds changed estates, zones, certificates, changes, URLs and options to the commands, in one process each.

Usage: python -m fuzz.run N [--seed S] [--processes P]

Every input must end with status 0, 1 or 2, within 2 seconds of processor time (an explanation within 6), and all of them within 500 MB. One that does not is
written to fuzz/finds/ with its command line; once mended it belongs in fuzz/corpus/, where every run starts from.
"""

import argparse
import contextlib
import gc
import io
import json
import os
import random
import resource
import shlex
import shutil
import sys
import tempfile
import time
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any, NamedTuple

from conformance.run import table
from fuzz.mutate import Pool, byte_change, data_change, line_change, url_change
from portolan.source.plain import unseen
from portolan.views.formats import FORMATS

ROOT = Path(__file__).resolve().parent.parent
STORIES = ROOT / "src" / "portolan" / "stories"
FOUND = ROOT / "tests" / "found"
HEALTHY = ROOT / "conformance" / "healthy"
CORPUS, FINDS = Path(__file__).with_name("corpus"), Path(__file__).with_name("finds")
MOST_SECONDS, MOST_BYTES = 2.0, 500 * 1024 * 1024
#: An explanation tries a bounded number of changes, each of which is a load and a question: it may take so many times as long.
_EXPLAINS = 3
#: A survey of a small estate proves its causes, and a report explains each of several.
_LONGER = {"explain": _EXPLAINS, "survey": _EXPLAINS, "report": 3 * _EXPLAINS}


class Input(NamedTuple):
    """Files of a folder, and the command line that reads them."""

    files: dict[str, bytes]
    command: list[str]


class Seedling(NamedTuple):
    """What inputs grow from: an estate's files, its data, and questions that fit."""

    files: dict[str, str]
    data: Any
    urls: list[str]
    vantages: list[str]


#: So many of the worlds that are held against real systems are grown from at a time.
_SOME_WORLDS = 150


def seedlings(rng: random.Random) -> list[Seedling]:
    """The shipped stories, healthy estates, what was found earlier, the corpus, and some of the worlds of all kinds."""
    from portolan.formats.yaml_nodes import compose, plain_data
    from portolan.source.problem import EstateError

    found = []
    folders = [path for path in (*STORIES.iterdir(), *FOUND.glob("input/*"), *CORPUS.glob("*")) if path.is_dir()]
    for folder in sorted(folders):
        files = {
            str(path.relative_to(folder)): path.read_text("utf-8", "replace")
            for path in sorted(folder.rglob("*"))
            if path.is_file()
        }
        if "estate.yaml" in files:
            found.append(files)
    found += [
        {"estate.yaml": path.read_text("utf-8", "replace")}
        for path in sorted((*FOUND.rglob("*.yaml"), *CORPUS.glob("*.yaml")))
        if path.name != "estate.yaml"
    ]
    found += [{"estate.yaml": path.read_text("utf-8")} for path in sorted(HEALTHY.glob("*.yaml"))]
    # Worlds that are held against real systems load, and between them say all that can be said.
    found += [{"estate.yaml": text} for _, text, _ in rng.sample([*table([])], _SOME_WORLDS)] + found[:8] * 20
    grown = []
    for files in found:
        data: Any = {}
        with contextlib.suppress(EstateError):
            data = plain_data(compose("estate.yaml", files["estate.yaml"].encode()))
        expectations = data.get("expected") if isinstance(data, dict) else None
        urls = [str(each["url"]) for each in expectations or () if isinstance(each, dict) and "url" in each]
        vantages = list(data.get("vantages") or ()) if isinstance(data, dict) else []
        grown.append(
            Seedling(files, data, urls or ["http://10.20.0.15/"], [str(each) for each in vantages] or ["desk"])
        )
    return grown


def drawn(rng: random.Random, seeds: list[Seedling], pool: Pool) -> Input:
    """One input."""
    seed = rng.choice(seeds)
    files = {name: text.encode("utf-8", "surrogatepass") for name, text in seed.files.items()}
    kind = rng.choice((0, 1, 2, 3, 4, 5, 5, 6, 6, 7, 7, 8, 9))
    main, extra = "estate.yaml", []
    if kind <= 3:
        name = rng.choice(list(files))
        files[name] = line_change(rng, seed.files[name]).encode("utf-8", "surrogatepass")
    elif kind == 4:
        name = rng.choice(list(files))
        files[name] = byte_change(rng, seed.files[name])
    elif kind <= 7:
        del files["estate.yaml"]
        main = "estate.json"
        files[main] = json.dumps(data_change(rng, seed.data, pool)).encode("utf-8", "surrogatepass")
    elif kind == 8:
        change = [
            {
                "op": rng.choice(("add", "remove", "replace", "test", "move", "copy")),
                "path": pointer(rng, seed.data),
                "value": "x",
                "from": pointer(rng, seed.data),
            }
        ]
        text = json.dumps(data_change(rng, change) if rng.random() < 0.7 else data_change(rng, seed.data))
        files["change"] = (
            line_change(rng, text).encode("utf-8", "surrogatepass") if rng.random() < 0.3 else text.encode()
        )
        extra = ["--with", "change"]
    url = rng.choice(seed.urls)
    if kind == 9 or rng.random() < 0.1:
        url = url_change(rng, url)
    return Input(files, command(rng, main, url, rng.choice(seed.vantages), extra))


def pointer(rng: random.Random, data: Any) -> str:
    """A JSON Pointer that fits, or nearly."""
    parts: list[str] = []
    while isinstance(data, dict | list) and data and rng.random() < 0.8:
        key = rng.choice(list(data)) if isinstance(data, dict) else rng.randrange(len(data))
        parts.append(str(key))
        data = data[key]
    if rng.random() < 0.3:
        parts.append(rng.choice(("-", "0", "x", "00", "9" * 30, "~1", "")))
    return "".join("/" + part for part in parts)


def command(rng: random.Random, main: str, url: str, vantage: str, extra: list[str]) -> list[str]:
    """A command line about the estate."""
    form = ["--format", rng.choice(("text", "text", "json"))]
    moment = (
        ["--at", rng.choice(("2026-03-14", "1970-01-01", "9999-12-31T23:59:59Z", "x"))] if rng.random() < 0.1 else []
    )
    boot = ["--after-reboot"] if rng.random() < 0.1 else []
    common = ["-e", main, *extra, *moment]
    word = rng.random()
    if word < 0.36:
        return ["check", *common, *form, *boot]
    if word < 0.4:
        return glance(rng, main, url, [*common, *boot], extra)
    asker = ["--from", vantage] if rng.random() < 0.9 else []
    large = ["--zoom", rng.choice(("name", "connect"))] if rng.random() < 0.3 and form[1] == "text" else []
    return ["follow" if word < 0.85 else "explain", *common, *asker, *form, *large, *boot, "--", url]


def glance(rng: random.Random, main: str, url: str, common: list[str], changes: list[str]) -> list[str]:
    """A command line that looks at all of an estate."""
    word = rng.choice(("survey", "survey", "exposed", "compare", "draw", "draw", "report"))
    if word == "survey":
        return ["survey", *common, "--jobs", "1", "--format", rng.choice(tuple(FORMATS["survey"]))]
    if word == "compare":
        sides = [] if changes else ["--", main, main]
        return ["compare", *common, "--format", rng.choice(tuple(FORMATS["compare"])), *sides]
    if word == "exposed":
        return ["exposed", *common, "--format", rng.choice(("text", "json"))]
    return ["draw", *common, "--", url] if word == "draw" and rng.random() < 0.7 else [word, *common]


def carried_out(each: Input, folder: Path) -> tuple[int, float, str]:
    """Runs a command on its files: status, seconds of processor time, and what it said."""
    from portolan.cli import main as program

    for name, data in each.files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
    out, err = io.StringIO(), io.StringIO()
    os.chdir(folder)
    begin = time.process_time()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        status = program.main(each.command)
    took = time.process_time() - begin
    for path in folder.iterdir():
        shutil.rmtree(path) if path.is_dir() else path.unlink()
    said = out.getvalue() + err.getvalue()
    return status, took, said


def wrong_with(status: int, took: float, said: str, most: float) -> str | None:
    """What must not be, in words."""
    if status not in (0, 1, 2):
        return f"status {status}: {said[-300:]}"
    if took > most:
        return f"{took:.1f} s"
    bad = unseen(said, "\n\r")
    return f"raw character U+{ord(bad):04X} in the output" if bad is not None else None


def stretch(seed: int, count: int) -> tuple[Counter[int], list[str], int]:
    """Many inputs in one process: how they ended, what went wrong, and the most memory used."""
    gc.freeze = lambda: None  # one process, many estates: nothing of an earlier one is to be kept
    rng = random.Random(seed)
    seeds = seedlings(rng)
    pool = Pool(each.data for each in seeds)
    ended: Counter[int] = Counter()
    wrong = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for number in range(count):
            each = drawn(rng, seeds, pool)
            status, took, said = carried_out(each, folder)
            ended[status] += 1
            most = MOST_SECONDS * _LONGER.get(each.command[0], 1)
            reason = wrong_with(status, took, said, most)
            if reason is not None:
                place = FINDS / f"{seed}-{number}"
                for path, data in each.files.items():
                    (place / path).parent.mkdir(parents=True, exist_ok=True)
                    (place / path).write_bytes(data)
                (place / "command.txt").write_text(shlex.join(each.command), "utf-8", "backslashreplace")
                wrong.append(f"{place.relative_to(ROOT)}: {reason}")
        os.chdir("/")
    return ended, wrong, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024


def main() -> int:
    """Prints how the inputs ended, and what must not be."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--processes", type=int, default=os.cpu_count() or 1)
    arguments = parser.parse_args()
    begin = time.monotonic()
    parts = 4 * arguments.processes
    sizes = [arguments.count // parts + (number < arguments.count % parts) for number in range(parts)]
    ended: Counter[int] = Counter()
    wrong: list[str] = []
    most = 0
    with ProcessPoolExecutor(arguments.processes, max_tasks_per_child=1) as pool:
        for found, said, memory in pool.map(
            stretch, [arguments.seed * 1000 + number for number in range(parts)], sizes
        ):
            ended += found
            wrong += said
            most = max(most, memory)
    for text in wrong[:20]:
        print(f"✗ {text}")
    if most > MOST_BYTES:
        wrong.append("memory")
    took = time.monotonic() - begin
    print(
        f"seed {arguments.seed}: {sum(ended.values())} inputs ({', '.join(f'{count} ended with {status}' for status, count in sorted(ended.items()))}), "
        f"{len(wrong)} wrong, at most {most // 1_000_000} MB, {sum(ended.values()) / took:.0f} a second"
    )
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
