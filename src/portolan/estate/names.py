"""Whether a name is what a pattern says: one place for sites and edges."""

from collections.abc import Hashable
from fnmatch import fnmatchcase
from typing import Generic, TypeVar

_Held = TypeVar("_Held", bound=Hashable)


def is_exact(pattern: str) -> bool:
    """Whether it is one name, and no pattern of several, nor nothing."""
    return pattern != "" and "*" not in pattern and pattern[0] != "."


def starred_within(pattern: str) -> bool:
    """Whether a name has a star in another place than as its first or its last label alone."""
    stars = pattern.count("*")
    return stars > 1 or (stars == 1 and not pattern.startswith("*.") and not pattern.endswith(".*"))


def fits(pattern: str, name: str) -> bool:
    """Whether a name is what a pattern with a star says."""
    if starred_within(pattern):
        return name != "" and fnmatchcase(name, pattern)
    if pattern.startswith("*."):
        return name.endswith(pattern[1:]) and len(name) > len(pattern) - 1
    return name.startswith(pattern[:-1]) and len(name) > len(pattern) - 1


def answers_to(pattern: str, name: str) -> bool:
    """Whether a name is what any pattern says: exact, `*.rest`, `first.*`, or `.rest` (the name and all below)."""
    if pattern.startswith("."):
        return name == pattern[1:] or name.endswith(pattern)
    return fits(pattern, name) if "*" in pattern else pattern == name


class ByName(Generic[_Held]):
    """What answers to names, ready to be asked for many: exact names are looked up, only patterns are tried."""

    def __init__(self) -> None:
        self._exact: dict[str, set[_Held]] = {}
        self._patterns: list[tuple[str, _Held]] = []

    def add(self, name: str, held: _Held) -> None:
        """Adds what answers to a name, or to a pattern of names."""
        if is_exact(name) or not name:
            self._exact.setdefault(name, set()).add(held)
        else:
            self._patterns.append((name, held))

    def of(self, name: str) -> set[_Held]:
        """All that answers to a name."""
        return self._exact.get(name, set()) | {held for pattern, held in self._patterns if answers_to(pattern, name)}
