"""A line of a web server's configuration, whichever program's, and what a text is that the program would not load."""

from portolan.source.value import Value
from portolan.transcribing.part import Spot


class UnfinishedError(Exception):
    """A text that the program would not load; says why, and where."""

    def __init__(self, spot: Spot, why: str) -> None:
        super().__init__(why)
        self.spot, self.why = spot, why


class Directive(Value, frozen=True):
    """A directive: its name, its words, and what its block holds; None where it has no block."""

    name: str
    words: tuple[str, ...]
    block: "tuple[Directive, ...] | None"
    spot: Spot

    @property
    def text(self) -> str:
        """The directive without its block, for people."""
        return " ".join((self.name, *self.words))
