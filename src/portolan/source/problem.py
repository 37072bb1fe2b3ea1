"""Problems of input: each names its spot, what was found, what was expected and the next thing to do."""

from collections.abc import Iterable
from typing import NamedTuple

from portolan.source.place import Span


class Problem(NamedTuple):
    """One thing wrong with the input."""

    span: Span
    message: str
    path: str = ""
    hint: str = ""

    def __str__(self) -> str:
        where = f" (at {self.path})" if self.path else ""
        hint = f" {self.hint}" if self.hint else ""
        return f"{self.span}: {self.message}{where}.{hint}"


class EstateError(Exception):
    """The estate cannot be used; carries every problem of the load, in file order."""

    def __init__(self, problems: Iterable[Problem]) -> None:
        self.problems = tuple(sorted(set(problems), key=lambda problem: (problem.span, problem.message)))
        super().__init__("\n".join(str(problem) for problem in self.problems))


class Problems:
    """Collects problems during a load, so that all of them come at once."""

    #: More would not be read; the rest is counted.
    LIMIT = 200

    def __init__(self) -> None:
        self.found: list[Problem] = []

    def add(self, span: Span, message: str, path: str = "", hint: str = "") -> None:
        """Notes one problem."""
        self.found.append(Problem(span, message, path, hint))

    def raise_any(self) -> None:
        """Raises EstateError when anything was noted."""
        if self.found:
            raise EstateError(self.found)
