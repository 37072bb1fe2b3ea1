"""A law is one kind of decision that the world makes; a decision is a law met with facts.

The engines build decisions from laws and raw facts only. The words are put together when somebody reads them, from
the same object that decided: there is no second walk that explains what a first one did.
"""

from typing import Any, Literal, NamedTuple

import msgspec

from portolan.source.place import Place

Leg = Literal["name", "way", "secure", "answer"]


class Law(NamedTuple):
    """One kind of decision; each room lists its own in its law.py.

    `wording` takes the facts by position. `stops` says that the visit ends or takes its outcome here. `assumed` says
    that nothing in the estate states it. `standard` names the section that fixes it.
    """

    leg: Leg
    kind: str
    wording: str
    standard: str = ""
    stops: bool = False
    assumed: bool = False


class Decision(msgspec.Struct, frozen=True, eq=False, gc=False):
    """A law met with facts. `place` is the line that it rests on; `subject` the estate's value that decided."""

    law: Law
    facts: tuple[Any, ...] = ()
    place: Place | None = None
    subject: Any = None

    @property
    def text(self) -> str:
        """The decision in words; not yet made harmless for printing."""
        return self.law.wording.format(*self.facts)

    @property
    def kind(self) -> str:
        """The law's kind."""
        return self.law.kind
