"""What is worked out of values that never change: made once, and kept with those very values."""

from collections.abc import Callable, Hashable
from typing import Any, TypeVar

_Made = TypeVar("_Made")
#: So many of a kind are kept of what is large: an estate as it is, and some of those that it is changed to.
_MOST_LATELY = 8


class Shared:
    """What was worked out, for all worlds of one estate and of those it is changed to.

    A value is known by its identity, and is held as long as what was made of it: no other one gets that identity meanwhile.
    """

    __slots__ = ("_kept", "_lately")

    def __init__(self) -> None:
        self._kept: dict[Hashable, tuple[Any, object]] = {}
        self._lately: dict[str, dict[Hashable, tuple[Any, object]]] = {}

    def of(self, what: str, value: object, make: Callable[[], _Made], *also: Hashable) -> _Made:
        """What is made of a value (`what` says which of all that is made of it), and of more that is compared by equality."""
        return self._once((what, id(value), *also), make, value)

    def of_all(self, what: str, values: tuple[object, ...], make: Callable[[], _Made], *also: Hashable) -> _Made:
        """What is made of several values together."""
        return self._once((what, *map(id, values), *also), make, values)

    def by(self, what: str, key: Hashable, make: Callable[[], _Made]) -> _Made:
        """What is made of something that is compared by equality: a text, a moment, octets."""
        return self._once((what, key), make, None)

    def lately(self, what: str, values: tuple[object, ...], make: Callable[[], _Made], *also: Hashable) -> _Made:
        """What is made of much, such as of all machines together: only what was asked for lately is kept."""
        held = self._lately.setdefault(what, {})
        key = (*map(id, values), *also)
        found = held.pop(key, None)
        if found is None:
            found = (make(), values)
            if len(held) == _MOST_LATELY:
                del held[next(iter(held))]
        held[key] = found
        made: _Made = found[0]
        return made

    def _once(self, key: Hashable, make: Callable[[], _Made], holding: object) -> _Made:
        found = self._kept.get(key)
        if found is None:
            found = self._kept[key] = (make(), holding)
        made: _Made = found[0]
        return made
