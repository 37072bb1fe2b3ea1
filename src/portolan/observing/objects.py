"""What people may call the things of an estate: by dotted path, JSON Pointer, or file:line."""

import re
from collections.abc import Iterator

from portolan.estate.estate import Estate
from portolan.source.place import Node

_LINE = re.compile(r".+:\d+(?::\d+)?")


def objects(estate: Estate) -> Iterator[str]:
    """The dotted path of everything that is written."""
    held: list[tuple[str, Node]] = [("", estate.place.node)]
    while held:
        path, node = held.pop()
        if path:
            yield path
        for number, item in enumerate(node.value if isinstance(node.value, list) else ()):
            key, inner = (item[0].value, item[1]) if isinstance(item, tuple) else (str(number), item)
            held.append((f"{path}.{key}" if path else str(key), inner))


def is_object(estate: Estate, name: str) -> bool:
    """Whether something is called so; of a place in a file it is not asked."""
    dotted = name.strip("/").replace("~1", "/").replace("~0", "~").replace("/", ".") if name.startswith("/") else name
    return bool(_LINE.fullmatch(name)) or any(
        each == dotted or each.startswith(f"{dotted}.") for each in objects(estate)
    )
