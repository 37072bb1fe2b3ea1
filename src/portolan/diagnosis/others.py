"""Whose a change is to make: what the estate says of who runs a thing, from the thing itself outwards."""

from collections.abc import Iterator

from portolan.diagnosis.trial import Remedy
from portolan.estate.estate import Estate
from portolan.source.place import keys_of, steps_to


def runs(estate: Estate, path: tuple[str | int, ...]) -> str | None:
    """Who runs what stands at a path: what is said closest to it; None where nobody else does."""
    root = estate.place.node
    found: str | None = None
    for node in (root, *(each for _, _, each in steps_to(root, map(str, path)))):
        for pair in node.value if isinstance(node.value, list) else ():
            if isinstance(pair, tuple) and pair[0].value == "run_by" and isinstance(pair[1].value, str):
                found = pair[1].value
    return found


def must_be_asked(estate: Estate, remedy: Remedy) -> tuple[str, ...]:
    """Who else has to do something for a remedy; nobody where all of it is one's own to do."""
    return tuple(dict.fromkeys(_of(estate, remedy)))


def _of(estate: Estate, remedy: Remedy) -> Iterator[str]:
    paths = [keys_of(str(step["path"])) for step in remedy.patch]
    if not paths and remedy.place is not None:
        paths = [tuple(map(str, remedy.place.path))]
    for path in paths:
        who = runs(estate, path)
        if who is not None:
            yield who
