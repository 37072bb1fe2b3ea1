"""A seed names worlds: whoever draws them again, in whatever process, gets the same ones."""

import os
import subprocess
import sys

_DRAWS = """
from hashlib import sha256
from conformance import edge_worlds, run, web_random
texts = [web_random.drawn(500000 + number).text for number in range(400)]
texts += [text for _, text, _ in (*edge_worlds.drawn(40, 9), *run.drawn(20, 9))]
print(sha256("".join(texts).encode()).hexdigest())
"""


def test_a_seed_draws_the_same_worlds_in_every_process():
    drawn = [
        subprocess.run(
            [sys.executable, "-c", _DRAWS],
            env={**os.environ, "PYTHONHASHSEED": hashes},
            capture_output=True,
            text=True,
            check=True,
        ).stdout
        for hashes in ("1", "2")
    ]
    assert len(drawn[0]) > 60
    assert drawn[0] == drawn[1]
