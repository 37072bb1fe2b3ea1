"""A value that does not change: what the rooms hand each other.

A class of this kind is made in a tenth of the time that the library's named tuples take, and a run makes over a hundred.
"""

from typing import Any, Self

import msgspec


class Value(msgspec.Struct, frozen=True):
    """Named facts that belong together; two are the same when they say the same."""

    def but(self, **changes: Any) -> Self:
        """The same with some facts otherwise."""
        return msgspec.structs.replace(self, **changes)
