"""Originals of noise: configurations, tables, rulesets and answers of machines, changed at random, and read.

    python -m fuzz.originals N [--seed S]

Each ends as an estate that loads or as one clear error, within two seconds.
"""

import argparse
import random
import sys
import time
import traceback
from typing import Any

from conformance.transcribed_filters import iptables, nft
from conformance.unread import configurations, read
from portolan.transcribing.assembling import transcript
from portolan.transcribing.filtering import filters
from portolan.transcribing.machine import machine
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.sources import Held, SourceError
from tests.transcribing.test_machine import ANSWERS, NFT

_NOISE = (
    "{", "}", ";", '"', "'", "\\", "\n", "#", "$", "${x", "\0", "\u202e", "<", "</VirtualHost>", "<VirtualHost *:80>", "include *;", "-j", "!", "-m", "*nat", ":X -",
    "location / {", "if ($a = b) {", "return 301", "~^(", "[", "]", "999999999999", "::", "0.0.0.0/0", "proxy_pass http://", "RewriteRule", "Use x", "%{HTTP_HOST}", "a" * 300,
)  # fmt: skip
_SLOW = 2.0


def mutated(rng: random.Random, text: str) -> str:
    """A text with a few changes."""
    for _ in range(rng.choice((1, 1, 2, 3, 8))):
        at, to = sorted((rng.randrange(len(text) + 1), rng.randrange(len(text) + 1)))
        to = min(to, at + rng.choice((0, 1, 5, 40)))
        piece = rng.choice((rng.choice(_NOISE), "", text[at:to] * 2, chr(rng.randrange(1, 0x2FF))))
        text = text[:at] + piece + text[to:]
    return text


def once(rng: random.Random, known: list[tuple[str, str, str]]) -> tuple[str, str]:
    """One original, read; which it was."""
    kind = rng.choice(("web", "web", "iptables", "nft", "machine"))
    text = ""
    try:
        if kind == "web":
            program, title, whole = rng.choice(known)
            text = mutated(rng, whole)
            kind = f"{program}: {title}"
            read(program, text)
        elif kind == "machine":
            name = rng.choice(list(ANSWERS))
            text = mutated(rng, ANSWERS[name])
            kind = name
            machine(Held({**{path: each.encode() for path, each in ANSWERS.items()}, name: text.encode()}), "orion")
        else:
            text = mutated(rng, iptables(rng, 4) if kind == "iptables" else __import__("json").dumps(NFT))
            here = Part(Spot("f", 1))
            networks: dict[str, Any] = {}
            filters([(text, kind)]).into(here, networks)
            transcript("server", here, {}, {}, networks)
    except SourceError:
        pass
    return kind, text


def main() -> int:
    """Reads N of them; 1 where one ended otherwise, or took too long."""
    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    asked = parser.parse_args()
    known, wrong, longest = list(configurations()), 0, 0.0
    # Nothing of nft's own is drawn for its rulesets: they are lists already.
    assert nft(random.Random(1))
    for number in range(asked.count):
        rng = random.Random(asked.seed * 1_000_000 + number)
        start = time.process_time()
        try:
            kind, text = once(rng, known)
        except Exception:
            wrong += 1
            print(f"number {number}:")
            traceback.print_exc(limit=-3)
            continue
        took = time.process_time() - start
        longest = max(longest, took)
        if took > _SLOW:
            wrong += 1
            print(f"number {number}: {kind} took {took:.1f} s\n{text[:300]}")
    print(f"{asked.count} originals, {wrong} wrong, the slowest {longest:.2f} s")
    return 1 if wrong or not asked.count else 0


if __name__ == "__main__":
    sys.exit(main())
