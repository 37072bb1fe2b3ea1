"""Prints how fast Portolan is; absolute times drift with the machine, so every start-up time has its ratio too.

Usage: python bench/run.py [--quick]
"""

import argparse
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from functools import partial
from ipaddress import ip_address, ip_network
from pathlib import Path

from big_estate import big_estate, many_hosts
from big_zone import big_zone, names_in
from chains import NAME, many_chains
from edges import archive
from originals import many_files, many_rules
from surveys import taken
from web_sites import fronts, many_sites

from portolan.cli.question import load_path
from portolan.diagnosis.lint import lint
from portolan.diagnosis.search import explain
from portolan.diagnosis.trial import Explanation
from portolan.estate.service import WebService
from portolan.estate.vantage import Vantage
from portolan.formats.estate_file import Loaded, load, patched
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.net.connect import connect
from portolan.net.rules import Spans, Stretch, matches
from portolan.source.shared import Shared
from portolan.tls.facts import shown_by
from portolan.tls.verify import verify

ROOT = Path(__file__).resolve().parent.parent
STORY = ROOT / "src" / "portolan" / "stories" / "half-open"
PEM_STORY = STORY.with_name("first-light")
PLAIN = "http://nowhere.kestrel-ridge.example/"
URL = "https://visit.kestrel-ridge.example/"


#: As after an installation: with compiled modules.
_ENVIRONMENT = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}


#: An office that is right on paper, and what is seen of it.
SEEN = ["http://visit.kestrel-ridge.example/", "-e", str(STORY.with_name("shut-door")), "--seen", "street=time-out", "--seen", "office=200"]  # fmt: skip


def _once(arguments: list[str]) -> float:
    start = time.perf_counter()
    subprocess.run([sys.executable, *arguments], capture_output=True, check=False, env=_ENVIRONMENT)
    return (time.perf_counter() - start) * 1000


def cold(arguments: list[str], runs: int) -> tuple[float, float]:
    """A whole process: its median time in milliseconds, and how many times that of a bare interpreter which ran just before.

    The machine is shared and its speed drifts: each run is paired with a bare one, and the median of the ratios is told.
    """
    _once(arguments)
    pairs = [(_once(["-c", "pass"]), _once(arguments)) for _ in range(runs)]
    return statistics.median(took for _, took in pairs), statistics.median(took / bare for bare, took in pairs)


def best(action: Callable[[], object]) -> float:
    """The shortest of several runs, in seconds: the machine is shared, and what others take is no part of it."""
    times = []
    for _ in range(7):
        start = time.perf_counter()
        action()
        times.append(time.perf_counter() - start)
    return min(times)


def per_second(action: Callable[[], object], seconds: float) -> float:
    """How often an action runs in a second, on one core: in the best fifty of all, since the machine is shared."""
    action()
    start, shortest = time.perf_counter(), float("inf")
    while time.perf_counter() - start < seconds:
        begin = time.perf_counter()
        for _ in range(50):
            action()
        shortest = min(shortest, time.perf_counter() - begin)
    return 50 / shortest


def line(what: str, value: str, goal: str = "") -> None:
    """One row of the report."""
    print(f"{what:<44} {value:>26}   {goal}")


def survey_of(sites: int, vantages: int) -> None:
    """A whole survey, as the command asks it."""
    took, memory = taken(sites, vantages, None)
    questions = sites * vantages
    line(
        f"survey of {sites:,} sites from {vantages} places",
        f"{took:.1f} s, {questions / took:,.0f} a second, {memory:.0f} MB",
        "10,000 sites: 15 s on two cores",
    )


def main() -> None:
    """Runs every measurement."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("--quick", action="store_true", help="fewer runs, a smaller estate")
    quick = parser.parse_args().quick
    runs, sites = (5, 1000) if quick else (15, 10_000)
    for what, arguments, goal in (
        ("portolan --version", ["--version"], "at most 4 times"),
        ("portolan follow, main story", ["follow", URL, "-e", str(STORY)], "9 times; at most 300 ms"),
        ("portolan explain, main story", ["explain", URL, "-e", str(STORY)], "11 times"),
        ("follow, a PEM named and not met", ["follow", PLAIN, "-e", str(PEM_STORY)], "11 times"),
        ("follow, a PEM met", ["follow", URL, "-e", str(PEM_STORY)], "14 times"),
        ("portolan explain --seen, an office", ["explain", *SEEN], "at most 500 ms"),
        ("portolan demo", ["demo"], "under 2 s"),
    ):
        took, ratio = cold(["-m", "portolan", *arguments], runs)
        line(what, f"{took:.0f} ms, {ratio:.1f} x bare", goal)
    loaded = load_path(str(STORY))
    assert loaded.estate.at is not None
    world = World(loaded.estate, loaded.estate.at)
    vantage = loaded.estate.vantages["street"]
    # What a world keeps of ways and names is thrown away before each visit, then kept.
    fresh = per_second(lambda: visit(World(loaded.estate, world.now), URL, vantage), 1)
    line("visits a second, each in a world of its own", f"{fresh:,.0f}")
    cleared = per_second(lambda: forgetful(world, vantage), 2)
    line("visits a second, nothing kept between them", f"{cleared:,.0f}", "at least 8,000")
    line("visits a second, main story", f"{per_second(lambda: visit(world, URL, vantage), 2):,.0f}", "at least 16,000")
    asked, device = ip_address("203.0.113.40"), world.topology.device(vantage)
    rate = per_second(lambda: connect(world.topology, device, asked, 80), 2)
    line("connections a second, each walked", f"{rate:,.0f}", "at least 25,000")
    verifications(200)
    websites(10_000)
    survey_of(1000 if quick else 10_000, 10)
    edges(10_000)
    searches()
    thousand(1000)
    rules(10_000 if quick else 100_000)
    with tempfile.TemporaryDirectory() as folder:
        share = 5 if quick else 1
        for what, source in (
            (f"web, {5000 // share:,} files", ["web", str(many_files(Path(folder), 5000 // share))]),
            (f"filter, {20_000 // share:,} rules", ["filter", str(many_rules(Path(folder), 20_000 // share))]),
        ):
            took = _once(["-m", "portolan", "transcribe", *source, "-o", f"{folder}/{source[0]}-estate"]) / 1000
            line(f"transcribe {what}", f"{took:.1f} s", "" if quick else "at most 10 s")
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
        line(f"visits a second among {sites:,} sites", f"{rate:,.0f}")
    zones(100_000 if quick else 1_000_000, 20_000 if quick else 100_000)


def verifications(count: int) -> None:
    """Chains of three that were read and never verified before, of both common kinds of keys."""
    for kind, elliptic in (("elliptic", True), ("RSA", False)):
        loaded = load(MemoryFiles(many_chains(count, elliptic)), "estate.yaml")
        estate, vantage = loaded.estate, loaded.estate.vantages["street"]
        assert estate.at is not None
        times = []
        for _ in range(7):
            shared = Shared()
            for certificate in estate.certificates.values():
                shown_by(certificate, estate, shared)
            start = time.perf_counter()
            found = [
                verify(each, NAME, None, vantage, estate.at, estate, shared) for each in estate.certificates.values()
            ]
            times.append(time.perf_counter() - start)
            assert all(each.detail is None for each in found)
        line(f"verifications a second, {kind} keys", f"{count / min(times):,.0f}", "at least 2,000")


def edges(names: int) -> None:
    """Choice of a name at an edge, and visits through an edge and a store."""
    loaded = load(MemoryFiles({"estate.yaml": archive(names)}), "estate.yaml")
    assert loaded.estate.at is not None
    world = World(loaded.estate, loaded.estate.at)
    told = world.edge(world.estate.edges["front"])[1]
    asked = [f"n{number * 37 % names}.images.example" for number in range(500)]
    asked += [f"x.n{(number * 38 + 1) % names}.images.example" for number in range(500)]
    took = best(lambda: [told.told(each) for each in asked])
    line(f"choice at an edge with {names:,} names", f"{took / len(asked) * 1e6:.2f} us", "at most 5 us")
    vantage = loaded.estate.vantages["street"]
    url = "https://images.kestrel-ridge.example/domes/77.html"
    assert visit(world, url, vantage).outcome.page == "kestrel-images/domes/77.html"
    rate = per_second(lambda: visit(world, url, vantage), 2)
    line("visits a second through an edge and a store", f"{rate:,.0f}", "at least 5,000")


def websites(count: int) -> None:
    """The choice among many sites of a listener, and a visit through three fronts."""
    estate = load(MemoryFiles({"estate.yaml": many_sites(count)}), "estate.yaml").estate
    service = estate.hosts["orion"].services["web"]
    assert isinstance(service, WebService)
    world = World(estate, datetime(2026, 3, 14, tzinfo=UTC))
    table = world.table(service, service.listens[0])
    names = [f"s{number}.sites.example" for number in range(0, count, 7)]
    names += [f"x.t{number}.sites.example" for number in range(0, count, 11)]
    chosen = best(lambda: [table.choose(name) for name in names]) / len(names)
    line(f"a choice among {count:,} sites of a listener", f"{chosen * 1e6:.2f} us", "at most 5 us")
    behind = load(MemoryFiles({"estate.yaml": fronts(3)}), "estate.yaml").estate
    assert behind.at is not None
    through = World(behind, behind.at)
    url, vantage = "http://visit.kestrel-ridge.example/", behind.vantages["street"]
    assert visit(through, url, vantage).outcome.page == "visit/index.html"
    rate = per_second(lambda: visit(through, url, vantage), 1)
    line("visits a second through three fronts", f"{rate:,.0f}", "at least 4,000")


def forgetful(world: World, vantage: Vantage) -> None:
    """A visit by a world that keeps no way and no name."""
    world.forget()
    visit(world, URL, vantage)


def thousand(hosts: int) -> None:
    """One wrong record among many hosts, each with a record and an expectation of its own."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "estate.yaml"
        path.write_text(many_hosts(hosts), "utf-8")
        url = f"http://s{hosts // 2}.sites.example/"
        took, _ = cold(["-m", "portolan", "explain", url, "-e", str(path)], 3)
        line(f"explain one wrong record among {hosts:,} hosts", f"{took / 1000:.2f} s", "under 1 s for 1,000")
        took, _ = cold(["-m", "portolan", "explain", url, "-e", str(path), "--seen", "refused"], 3)
        line(f"what is seen otherwise among {hosts:,} hosts", f"{took / 1000:.2f} s", "at most 2 s for 1,000")


#: A story with one cause and one with two, as (folder, address, vantage).
_SEARCHED = (
    ("a single fault", STORY.with_name("night-shift"), "https://bookings.kestrel-ridge.example/", "at most 8 times"),
    ("two faults", STORY, URL, "at most 20 times"),
)


def searches() -> None:
    """What it takes to find causes, beside reading the estate: both as times of a bare interpreter."""
    bare = min(_once(["-c", "pass"]) for _ in range(7))
    for what, folder, url, goal in _SEARCHED:
        loaded = load_path(str(folder))
        assert loaded.estate.at is not None
        asker = next(each for each in loaded.estate.vantages.values() if each.default)
        reading = best(partial(load_path, str(folder))) * 1000

        def found(held: Loaded = loaded, asked: str = url, by: Vantage = asker) -> Explanation:
            assert held.estate.at is not None
            return explain(World(held.estate, held.estate.at), asked, by, lambda patch: patched(held, patch).estate)

        assert found().causes
        took = best(found) * 1000
        line(f"read the estate of {what}", f"{reading:.0f} ms, {reading / bare:.1f} x bare")
        line(f"find {what}", f"{took:.0f} ms, {took / bare:.1f} x bare", goal)


def rules(count: int) -> None:
    """A long filter: preparing it, a decision in it, and how much longer a plain scan takes."""
    from big_filter import big_filter, packets

    chain = big_filter(count)
    start = time.perf_counter()
    prepared = Stretch(chain)
    took = time.perf_counter() - start
    asked = packets(3000)
    start = time.perf_counter()
    for packet, at in asked[:100]:
        prepared.first(packet, at)  # the first packet of each kind still prepares
    took += time.perf_counter() - start
    found = [prepared.first(packet, at) for packet, at in asked]
    decision = best(lambda: [prepared.first(packet, at) for packet, at in asked]) / len(asked)
    few = asked[:20]
    start = time.perf_counter()
    scanned = [next((rule for rule in chain if matches(rule, packet, at)), None) for packet, at in few]
    scan = (time.perf_counter() - start) / len(few)
    assert scanned == found[:20]
    line(f"prepare a filter of {count:,} rules", f"{took:.2f} s")
    line("a decision in it", f"{decision * 1e6:.1f} us, scan {scan / decision:,.0f} x", "at most 20 us")
    ranges = tuple(ip_network((number * 1009 * 256 % (1 << 32), 24)) for number in range(30_000))
    took = best(lambda: Spans(ranges))
    line("prepare a set of 30,000 ranges", f"{took:.2f} s", "at most 0.3 s")


def zones(records: int, library: int) -> None:
    """Loads a large zone, beside the DNS library's own loader, and asks for names in it."""
    import resource

    import dns.zone

    from portolan.dns.client import resolve

    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "estate.yaml").write_text(ESTATE_OF_ZONE, "utf-8")
        (Path(folder) / "big.zone").write_text(big_zone(records), "utf-8")
        start = time.perf_counter()
        estate = load_path(folder).estate
        took = time.perf_counter() - start
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    line(f"load a zone of {records:,} records", f"{took:.1f} s, {peak:.2f} GB", "at most 20 s and 2 GB for 1,000,000")
    text = big_zone(library)
    start = time.perf_counter()
    dns.zone.from_text(text, origin="big.example.", relativize=False)
    ratio = (time.perf_counter() - start) / library / (took / records)
    line("the DNS library's own load, a record", f"{ratio:.1f} x ours")
    assert estate.at is not None
    world = World(estate, estate.at)
    vantage = estate.vantages["street"]
    names = names_in(records, 20_000)
    resolve(world.naming, "nope.big.example", None, vantage)
    rate = len(names) / best(lambda: [resolve(world.naming, name, None, vantage) for name in names])
    line("resolutions a second in that zone", f"{rate:,.0f}", "at least 50,000")


ESTATE_OF_ZONE = """portolan: 1
at: 2026-03-14T20:00:00Z
zones: {big.example: {file: big.zone}}
vantages: {street: {network: internet, address: 198.51.100.77}}
"""


if __name__ == "__main__":
    main()
