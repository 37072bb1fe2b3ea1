"""Random zones, and random questions to them: what the engine says against Knot DNS and Unbound."""

import json
import random
from pathlib import Path

from portolan.dns.answer import Answer, Asker
from portolan.dns.naming import address_records
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World
from portolan.rehearsal.naming import Naming
from portolan.rehearsal.network import RESOLVER, RESOLVERS_4, build_network
from portolan.rehearsal.plan import Plan, Probe
from portolan.rehearsal.run import carry_out

ZONES = ("kestrel-ridge.example", "other.example", "sub.kestrel-ridge.example", "deep.sub.kestrel-ridge.example")
_LABELS = ("a", "b", "c", "sub", "deep", "www", "x")
Result = tuple[str, tuple[str, ...]]


def drawn(rng: random.Random) -> str:
    """An estate of a few zones that point at each other, with slips."""
    held = ["kestrel-ridge.example", *(zone for zone in ZONES[1:] if rng.random() < 0.6)]
    lines = ["portolan: 1", "at: 2026-03-14T20:00:00Z", "networks: {}", "zones:"]
    for zone in held:
        lines += [f"  {zone}:", "    records:", '      - "@ 60 SOA ns m 1 60 60 60 60"']
        taken: dict[str, set[str]] = {"@": {"SOA"}}
        for _ in range(rng.randint(1, 14)):
            owner, kind, data = _record(rng, zone)
            kinds = taken.setdefault(owner, set())
            # Now and then an alias stands beside other data, and the zone does not load.
            if kinds and ("CNAME" in (kind, *kinds) or "DNAME" in (kind, *kinds)) and rng.random() > 0.01:
                continue
            kinds.add(kind)
            lines.append(f'      - "{owner} 60 {kind} {data}"')
        for child in held:
            if child.endswith("." + zone) and rng.random() < 0.9:
                lines.append(f'      - "{child}. 60 NS ns.{child}."')
    return "\n".join(lines) + "\n"


def _record(rng: random.Random, zone: str) -> tuple[str, str, str]:
    labels = [rng.choice(_LABELS) for _ in range(rng.choice((0, 1, 1, 1, 2, 2, 3)))]
    if rng.random() < 0.2:
        labels.insert(0, "*")
    owner = ".".join(labels) or "@"
    kind = rng.choice(("A", "A", "A", "AAAA", "TXT", "CNAME", "CNAME", "DNAME", "MX", "NS"))
    if kind in ("CNAME", "DNAME") and owner == "@":
        kind = "A"
    if kind == "NS":
        if owner == "@" or "*" in owner or rng.random() > 0.2:
            kind = "TXT"
        else:
            return owner, kind, f"ns.{owner}"
    data = {
        "A": f"192.0.2.{rng.randint(1, 250)}",
        "AAAA": f"2001:db8::{rng.randint(1, 999):x}",
        "TXT": "x",
        "MX": "10 a",
    }.get(kind)
    return owner, kind, data or name(rng, zone) + "."


def name(rng: random.Random, zone: str | None = None) -> str:
    """A name that may or may not exist."""
    labels = [rng.choice(_LABELS) for _ in range(rng.choice((0, 1, 1, 2, 2, 3, 4)))]
    base = zone if zone is not None and rng.random() < 0.7 else rng.choice(ZONES)
    return ".".join([*labels, base])


def predicted(world: World, asked: str) -> Result:
    """What the engine says that an ordinary resolver answers."""
    answer = Answer()
    world.naming.recurse(asked, Asker("an ordinary resolver"), answer)
    if answer.detail is not None:
        return answer.detail, ()
    found = tuple(sorted(str(record.data) for record in address_records(answer.types)))
    return ("addresses", found) if found else ("no-address", ())


def observed(world: World, names: list[str], own: list[str]) -> tuple[list[Result], list[str]]:
    """What Unbound answers, with Knot DNS behind it."""
    plan = Plan(world.estate)
    build_network(plan)
    naming = Naming(plan, world.now)
    naming.build()
    naming.ordinary(False, None)
    naming.finish(())
    plan.files["names.txt"] = "\n".join(names)
    plan.files["ask_names.py"] = Path(__file__).with_name("ask_names.py").read_text("utf-8")
    plan.probes.append(
        Probe(RESOLVER, ["python3", "-I", "-S", "ask_names.py", "names.txt", RESOLVERS_4.format(53)], [], 100)
    )
    result = carry_out(plan.data(), own)
    answer = result["results"][0]
    if not answer["out"]:
        return [("nothing", ())] * len(names), [answer["err"], *result["troubles"]]
    return [(kind, tuple(found)) for kind, found in json.loads(answer["out"])], result["troubles"]


def compared(seed: int, questions: int, own: list[str]) -> tuple[str, list[tuple[str, Result, Result]], int]:
    """One random estate and its questions: the estate's text, what disagrees, how many were asked."""
    rng = random.Random(seed)
    text = drawn(rng)
    estate = load(MemoryFiles({"estate.yaml": text}), "estate.yaml").estate
    assert estate.at is not None
    world = World(estate, estate.at)
    names = list(dict.fromkeys(name(rng) for _ in range(questions)))
    seen, troubles = observed(world, names, own)
    wrong = []
    for asked, real in zip(names, seen, strict=True):
        said = predicted(world, asked)
        if said != real:
            wrong.append((asked, said, real))
    if wrong and troubles:
        wrong.append(("; ".join(troubles), ("", ()), ("", ())))
    return text, wrong, len(names)
