"""What a reader of listings is, and what a listing holds."""

import re
from typing import Protocol

from portolan.estate.base import Rights
from portolan.source.value import Value


class Entry(Value, frozen=True):
    """One file, folder or link of a listing; `kind` is the first letter of its mode as `ls` writes it.

    `rights` is None for a folder that is only named.
    """

    path: str
    kind: str
    rights: Rights | None
    target: str | None = None
    size: int | None = None


class InventoryReader(Protocol):
    """Reads what one program prints."""

    #: The program, for messages.
    name: str

    def recognises(self, lines: list[str]) -> bool:
        """Whether a listing's lines are of this program."""

    def read(self, lines: list[str]) -> tuple[list[Entry], list[int]]:
        """The entries, and the numbers of the lines that say something else."""


MODE = re.compile(r"([-dlbcpsD])([-r][-w][-xsS][-r][-w][-xsS][-r][-w][-xtT])[.+@]?")


def bits(text: str) -> int:
    """The bits of nine letters such as `rwxr-x---`."""
    value = 0
    for char in text:
        value = value << 1 | (char in "rwxst")
    return value


def with_target(name: str, kind: str) -> tuple[str, str | None]:
    """A name, and what a link leads to where the name says so."""
    if kind == "l" and " -> " in name:
        name, _, target = name.partition(" -> ")
        return name, target
    return name, None
