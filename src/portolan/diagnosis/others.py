"""Whose a change is to make: what the estate says of who runs a thing, from the thing itself outwards."""

from collections.abc import Iterator

from portolan.diagnosis.trial import Remedy
from portolan.estate.estate import Estate
from portolan.source.place import Node, keys_of


def runs(estate: Estate, path: tuple[str | int, ...]) -> str | None:
    """Who runs what stands at a path: what is said closest to it; None where nobody else does."""
    found: str | None = None
    node: Node | None = estate.place.node
    for part in (*path, None):
        pairs = node.value if node is not None and isinstance(node.value, list) else []
        named = {each[0].value: each[1] for each in pairs if isinstance(each, tuple)}
        said = named.get("run_by")
        found = said.value if said is not None and isinstance(said.value, str) else found
        if part is None:
            break
        index = int(part) if str(part).isdigit() and not named else -1
        node = named.get(str(part)) if named else pairs[index] if 0 <= index < len(pairs) else None
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
