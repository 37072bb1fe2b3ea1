"""Whether the random worlds would notice a wrong engine: rules are broken on purpose, one after the other.

Usage: python -m conformance.sensitivity [N] [SEED]

The worlds are built once; what the real systems did is then held against the predictions of each broken engine.
"""

import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from typing import Any
from unittest.mock import patch

from conformance.run import drawn, held_against, side_by_side
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.net import filtering, law, walk
from portolan.rehearsal.run import Rehearsed, agree, confinement, exclusion


@contextmanager
def no_masquerade() -> Iterator[None]:
    """Source NAT does nothing."""
    with patch.object(walk, "source", lambda *_: None):
        yield


@contextmanager
def last_match_wins() -> Iterator[None]:
    """A filter takes the last rule that matches instead of the first."""
    real = filtering.through_filter

    def reversed_filter(device: Any, name: Any, *rest: Any) -> Any:
        chain = getattr(device.filter, name, None) if device.filter is not None else None
        if chain is None or len(chain.rules) < 2:
            return real(device, name, *rest)
        import msgspec

        turned = msgspec.structs.replace(chain, rules=tuple(reversed(chain.rules)))
        other = msgspec.structs.replace(device.filter, **{name: turned})
        with patch.object(device, "filter", other):
            return real(device, name, *rest)

    with patch.object(walk, "through_filter", reversed_filter):
        yield


@contextmanager
def errors_lost() -> Iterator[None]:
    """An ICMP port-unreachable is taken for silence."""
    with patch.dict(law.ICMP_RESULT, {"port-unreachable": "timed-out"}):
        yield


BREAKS = {
    "no masquerade": no_masquerade,
    "last match wins": last_match_wins,
    "port-unreachable is silence": errors_lost,
}


def main() -> int:
    """Prints for each broken rule the first world that notices it."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    own = confinement()
    worlds = list(drawn(count, seed))
    with ThreadPoolExecutor(side_by_side()) as pool:
        results: list[Rehearsed] = list(pool.map(lambda each: held_against(each[1], each[2], own), worlds))
    missed = 0
    for name, broken in BREAKS.items():
        noticed = None
        with broken():
            for number, ((_, text, _asked), found) in enumerate(zip(worlds, results, strict=True), 1):
                estate = load(MemoryFiles({"estate.yaml": text}), "estate.yaml").estate
                assert estate.at is not None
                world = World(estate, estate.at)
                for each in found.comparisons:
                    predicted = visit(world, each.url, estate.vantages[each.vantage])
                    if exclusion(estate, predicted) is None and not agree(predicted, each.observed):
                        noticed = number
                        break
                if noticed is not None:
                    break
        missed += noticed is None
        print(f"{name}: {f'noticed by world {noticed}' if noticed else f'not noticed by {count} worlds'}")
    return 1 if missed else 0


if __name__ == "__main__":
    sys.exit(main())
