"""Fields whose values are never shown, also not where something is wrong with them."""

from collections.abc import Callable
from typing import Any, Protocol, TypeVar, cast

from portolan.source.problem import Problems


class _Reading(Protocol):
    """A reader, as far as its problems."""

    problems: Problems


_Read = TypeVar("_Read", bound=Callable[..., Any])


def hushed(read: _Read) -> _Read:
    """A converter whose problems do not say what was found."""

    def quietly(reader: _Reading, node: Any, path: Any) -> Any:
        before = len(reader.problems.found)
        value = read(reader, node, path)
        told = reader.problems.found
        told[before:] = [
            each._replace(message=each.message.partition(", found '")[0] + ", found another value")
            if ", found '" in each.message
            else each
            for each in told[before:]
        ]
        return value

    return cast(_Read, quietly)
