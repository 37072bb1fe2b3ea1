"""Holds the JSON Schema of estates against the loader, on changed estates.

Usage: python -m fuzz.schema N [--seed S]

Both must take, or both refuse, but for what no schema can say: that a name which is referred to exists, that files hold what they
should, and that values fit each other across objects. Those problems are told apart by `beyond`.
"""

import argparse
import json
import random
import re
import sys
from collections import Counter
from typing import Any

from fuzz.mutate import Pool, data_change
from fuzz.run import FINDS, seedlings
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.formats.json_schema import estate_schema
from portolan.source.problem import EstateError

#: Problems that lie beyond a schema: names, files and what they hold, and one value against another elsewhere.
BEYOND = re.compile(
    "|".join(
        (
            # references, and files with what they hold
            "no .* is named",
            "no network has its name",
            "has no listener",
            "is not among 'delegated_to'",
            "cannot read",
            "no PEM block",
            "holds a private key",
            # lines as in a master file or a hosts file, dates and names that a pattern cannot judge
            "^the record ends too early",
            "^expected a record type",
            'closing " is missing',
            "^expected a name whose",
            "^not [A-Z]+ data",
            "no record of the zone",
            "expected one (name|IPv)",
            "^a '[()]'",
            "^expected \\$ORIGIN",
            "does not lie in the zone",
            "^expected (an IPv[46]|an IP) address, found",
            "names nothing",
            "expected (a time in seconds|a preference|primary|a serial|at least|a path inside)",
            "class .* is not for",
            "host bits are zero",
            "calendar has",
            "has an ASCII form",
            "half of a surrogate",
            "from the lower port",
            "found [0-9]+ fields",
            "^expected (one|a preference) ",
            # one value against another
            "lies outside the network",
            "leaves by no interface",
            "needs its prefix length",
            "is no public address",
            "is on no network",
            "is no address of",
            "only those of IPv6",
            "has several interfaces with IPv6",
            "is no line to the internet",
            "is the machine's own table",
            "gives packets the mark",
            "IPv6 needs",
            "a provider has a line",
            "different IP versions",
            "two gateways",
            "shares its networks",
            "is on interface",
            "latest (change|first)",
            "the latest",
            "written twice",
            "used twice",
            "ends before",
            "in a circle",
            "default (vantage|area) already",
            "name of a router too",
            "the parent zone",
            "addresses or an alias",
            "needs a 'when'",
            "has a meaning of its own",
            "a provider blocks",
            "the internet (has|is)",
            "public internet is one",
            "network named 'internet'",
            "DNS over TLS",
            "a chain is named",
            "chains deep",
            "what (the machine itself|is addressed)",
            "'forwarded' belongs",
            "expected a port, 1 to [0-9]+, found",
            "a zone's name is written",
            "brings its own",
            "written in the main file",
            "has no sites or certificate",
            "lies outside the zone",
            "belongs to .* already",
            "is the name of .* already",
            "no stranger's",
            "'error_pages' has no page",
            "is no (host name|IPv)",
            "which says what it holds",
            "^expected a regular expression",
            "^no page of the site's own stands",
            "does not start$",
            "^only a machine that passes packets on",
        )
    )
)


def beyond(message: str) -> bool:
    """Whether a problem is one that no schema can see."""
    return bool(BEYOND.search(message))


def problems(data: Any) -> list[str]:
    """What the loader says of an estate, as far as a schema could say it too."""
    try:
        load(MemoryFiles({"estate.json": json.dumps(data)}), "estate.json")
    except EstateError as error:
        return [each.message for each in error.problems if not beyond(each.message)] or [""]
    return []


def main() -> int:
    """Prints on how many changed estates the two agree, and samples of those on which they do not."""
    import jsonschema

    parser = argparse.ArgumentParser(description=__doc__.split("\n", maxsplit=1)[0])
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--keep", action="store_true", help="write what they do not agree on to fuzz/finds/")
    arguments = parser.parse_args()
    validator = jsonschema.Draft202012Validator(estate_schema())
    rng = random.Random(arguments.seed)
    seeds = [each.data for each in seedlings(rng) if isinstance(each.data, dict) and each.data]
    pool = Pool(seeds)
    agreed = excused = 0
    differing: Counter[str] = Counter()
    samples: dict[str, str] = {}
    for _ in range(arguments.count):
        data = data_change(rng, rng.choice(seeds), pool)
        said = problems(data)
        if said == [""]:
            excused += 1
            continue
        fits = validator.is_valid(data)
        if fits == (not said):
            agreed += 1
            continue
        if fits:
            key = "loader refuses: " + re.sub(r"'.*?'|\d+", "_", said[0])[:100]
            samples.setdefault(key, said[0][:160])
        else:
            error = next(validator.iter_errors(data))
            while error.context:
                error = max(error.context, key=lambda each: len(each.absolute_path))
            key = f"schema refuses: {'/'.join('*' if isinstance(part, int) else str(part) for part in list(error.absolute_path)[-2:])} {error.validator}"
            samples.setdefault(key, error.message[:200])
        differing[key] += 1
        if arguments.keep:
            FINDS.mkdir(exist_ok=True)
            (FINDS / f"schema-{arguments.seed}-{sum(differing.values())}.json").write_text(json.dumps(data), "utf-8")
    for key, count in differing.most_common(60):
        print(f"{count:6} {key}  {samples.get(key, '')}")
    wrong = sum(differing.values())
    print(
        f"seed {arguments.seed}: {arguments.count} changed estates, {agreed} agreed on, {excused} refused for what no schema sees, {wrong} not agreed on"
    )
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
