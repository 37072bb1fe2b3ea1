"""A bucket's inventory: a JSON list of objects, each with its key, size and date."""

from typing import Any

_MOST_OBJECTS = 500_000
_EXAMPLE = '[{"key": "index.html", "size": 512, "date": "2026-03-01T08:00:00Z"}]'


def object_keys(text: str) -> tuple[str, ...]:
    """The keys that an inventory lists, in its order. Raises ValueError, for users, for what is none."""
    import json  # only where an inventory is read

    try:
        held: Any = json.loads(text)
    except (ValueError, RecursionError) as error:
        line = getattr(error, "lineno", 1)
        raise ValueError(f"line {line}: it is no JSON; write for example {_EXAMPLE}") from None
    if isinstance(held, dict):
        held = held.get("objects")
    if not isinstance(held, list):
        raise ValueError(f"expected a list of objects such as {_EXAMPLE}")
    if len(held) > _MOST_OBJECTS:
        raise ValueError(f"it lists more than {_MOST_OBJECTS} objects")
    keys: dict[str, None] = {}
    for number, each in enumerate(held, 1):
        key = each.get("key") if isinstance(each, dict) else each
        if not isinstance(key, str) or not key or not key.isprintable():
            raise ValueError(f"object {number} has no 'key' that can be shown; write for example {_EXAMPLE}")
        size = each.get("size", 0) if isinstance(each, dict) else 0
        if isinstance(size, bool) or not isinstance(size, int) or size < 0:
            raise ValueError(f"object {number} ({key[:60]}): expected a size in octets")
        keys[key] = None
    return tuple(keys)
