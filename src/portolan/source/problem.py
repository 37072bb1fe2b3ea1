"""Problems of input: each names its spot, what was found, what was expected and the next thing to do."""

from collections.abc import Callable, Iterable
from typing import NamedTuple

from portolan.source.place import Span
from portolan.source.plain import one_line

#: So many columns of a long line are shown around the spot.
_WIDEST = 72


class Problem(NamedTuple):
    """One thing wrong with the input."""

    span: Span
    message: str
    path: str = ""
    hint: str = ""

    def __str__(self) -> str:
        """The problem on one line, whatever its texts hold."""
        where = f" (at {self.path})" if self.path else ""
        hint = f" {self.hint}" if self.hint else ""
        return one_line(f"{self.span}: {self.message}{where}.{hint}", 1000)


def shown_with_line(problem: Problem, line: str | None) -> str:
    """A problem, its line as it stands in the file, and a caret under the place."""
    if line is None or not line.strip():
        return str(problem)
    at = max(0, min(problem.span.column - 1, len(line)))
    start = max(0, at - _WIDEST // 2)
    start = 0 if len(line) <= _WIDEST else min(start, len(line) - _WIDEST)
    before, rest = (
        one_line(line[start:at].replace("\t", " "), 1000),
        one_line(line[at : start + _WIDEST].replace("\t", " "), 1000),
    )
    number = str(problem.span.line)
    margin = " " * (len(number) + 4)
    return f"{problem}\n  {number}  {before}{rest}\n{margin}{' ' * len(before)}^"


class EstateError(Exception):
    """The estate cannot be used; carries every problem of the load, in file order.

    `more` counts those that were not kept; `line_of` gives a problem's line where the text is at hand.
    """

    def __init__(self, problems: Iterable[Problem], more: int = 0) -> None:
        self.problems = tuple(sorted(set(problems), key=lambda problem: (problem.span, problem.message)))
        self.more = more
        self.line_of: Callable[[Span], str | None] = lambda _: None
        super().__init__("\n".join(str(problem) for problem in self.problems[:100]))


class Problems:
    """Collects problems during a load, so that all of them come at once."""

    #: More are counted, and not kept: nobody reads so many.
    LIMIT = 1000

    def __init__(self) -> None:
        self.found: list[Problem] = []
        self.more = 0
        self._counted: dict[str, int] = {}

    @property
    def full(self) -> bool:
        """Whether further problems are only counted; what would be said of them need not be worked out."""
        return len(self.found) >= self.LIMIT

    def left(self, what: str, most: int) -> int:
        """How many more of something an estate may have, before `count` says that it is too much."""
        return most - self._counted.get(what, 0)

    def count(self, what: str, number: int, most: int, span: Span, path: str = "") -> bool:
        """Counts things of which an estate may have so many in all; notes once where they became too many.

        Returns whether they still fit. Somebody else's few lines are not to cost minutes and gigabytes.
        """
        before = self._counted.get(what, 0)
        self._counted[what] = before + number
        if before <= most < before + number:
            self.add(span, f"the estate has more than {most:,} {what} in all", path, "Split it, or leave some out.")
        return before + number <= most

    def add(self, span: Span, message: str, path: str = "", hint: str = "") -> None:
        """Notes one problem."""
        if self.full:
            self.more += 1
        else:
            self.found.append(Problem(span, message, path, hint))

    def raise_any(self) -> None:
        """Raises EstateError when anything was noted."""
        if self.found:
            raise EstateError(self.found, self.more)
