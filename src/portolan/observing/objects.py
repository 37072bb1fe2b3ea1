"""What people may call the things of an estate: by dotted path, JSON Pointer, or file:line."""

import re
from collections.abc import Iterator

from portolan.estate.estate import Estate
from portolan.source.place import Node, keys_of

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


def dotted(name: str) -> str:
    """A thing's dotted path, from that or its JSON Pointer."""
    return ".".join(keys_of(name)) if name.startswith("/") else name


def is_object(estate: Estate, name: str) -> bool:
    """Whether something is called so; of a place in a file it is not asked."""
    named = dotted(name)
    return bool(_LINE.fullmatch(name)) or any(each == named or each.startswith(f"{named}.") for each in objects(estate))
