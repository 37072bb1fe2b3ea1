"""What readers make: objects of the estate as plain data, each fact with the line of the original that it was read from."""

import re
from collections.abc import Iterator
from typing import Any

from portolan.formats import read_from
from portolan.source.plain import one_line
from portolan.source.plain import plain as plain_words
from portolan.source.value import Value

#: A line that could not be kept is shown so far.
_LONGEST = 160
#: Words that make what stands beside them likely a secret.
_SECRET = re.compile(
    r"(?i)pass(?:word|wd|phrase)\b|secret|token|\bkey\b|api.?key|credential|\bauth(?!_basic\b|_request\b)|cookie"
)
_LOGIN = re.compile(r"://[^/\s@]*@")


def is_secret(text: str) -> bool:
    """Whether what goes by a name, or stands in a line, is likely a secret."""
    return _SECRET.search(text) is not None or _LOGIN.search(text) is not None


class Spot(Value, frozen=True):
    """A line of an original; line counts from 1."""

    file: str
    line: int

    def __str__(self) -> str:
        return f"{self.file}:{self.line}"


class Part:
    """An object of the estate in the making: keys with values, and what could not be kept."""

    def __init__(self, spot: Spot) -> None:
        self.spot = spot
        self.facts: dict[str, Any] = {}
        self.spots: dict[str, Spot] = {}
        self.unread: list[tuple[Spot, str]] = []

    def say(self, key: str, value: object, spot: Spot | None = None) -> None:
        """States a fact, and where it was read; a later one takes the place of an earlier one."""
        self.facts[key] = value
        self.spots[key] = spot or self.spot

    def lose(self, spot: Spot, words: str) -> None:
        """Notes what could not be kept; of a line that may hold a secret only its first word."""
        words = words.partition(" ")[0] if is_secret(words) else words
        entry = (spot, plain_words(one_line(words, _LONGEST)))
        if entry not in self.unread:
            self.unread.append(entry)

    def losses(self) -> Iterator[tuple[Spot, str]]:
        """What could not be kept, here and in every object within."""
        yield from self.unread
        yield from _losses(self.facts)

    def data(self) -> dict[str, Any]:
        """The object as the estate writes it."""
        made = {key: plain(value) for key, value in self.facts.items()}
        if self.unread:
            made["unread"] = [f"{spot} {words}" for spot, words in self.unread]
        own = (self.spot.file, self.spot.line)
        keys = {
            key: (spot.file, spot.line)
            for key, spot in self.spots.items()
            if key in self.facts and not _has_own(self.facts[key])
        }
        return {read_from.KEY: read_from.written(own, keys), **made}


def _has_own(value: object) -> bool:
    """Whether what stands under a key says itself where it was read from."""
    if isinstance(value, Part):
        return True
    held = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return any(isinstance(each, Part) for each in held)


def _losses(value: object) -> Iterator[tuple[Spot, str]]:
    if isinstance(value, Part):
        yield from value.losses()
    elif isinstance(value, dict):
        for each in value.values():
            yield from _losses(each)
    elif isinstance(value, list):
        for each in value:
            yield from _losses(each)


def items(value: Any) -> list[Any]:
    """A list as it is; what stands alone as a list of one."""
    return value if isinstance(value, list) else [value]


def plain(value: object) -> Any:
    """Plain data, each object as the estate writes it."""
    if isinstance(value, Part):
        return value.data()
    if isinstance(value, dict):
        return {key: plain(each) for key, each in value.items()}
    if isinstance(value, list):
        return [plain(each) for each in value]
    return value
