"""A decision: what was decided, with named facts, by which object and line.

Each kind of decision is a class, defined once in `evidence/kinds/`: its words, the standard that fixes it, and all that
views and diagnosis need to know of it. The engines make decisions of facts only. The words are put together when
somebody reads them, from the same object that decided: there is no second walk that explains what a first one did.
"""

from collections.abc import Iterator
from enum import StrEnum
from typing import ClassVar

import msgspec

from portolan.source.place import Place


class Leg(StrEnum):
    """The legs of an exchange, in their order."""

    NAME = "name"
    CONNECT = "connect"
    TLS = "tls"
    HTTP = "http"


class Decision(msgspec.Struct, frozen=True, eq=False, kw_only=True):
    """One decision. `place` is the line that it rests on; `subject` the estate's value, or the decision, that decided.

    `beside` are the other stated values that were read for it, refused alternatives too: were one of them otherwise,
    this could be.
    """

    place: Place | None = None
    subject: object = None
    beside: tuple[object, ...] = ()

    #: The leg that it belongs to.
    leg: ClassVar[Leg]
    #: The kind's code, in JSON and in the symptoms of faults.
    kind: ClassVar[str]
    #: The sentence, with the facts by their names.
    words: ClassVar[str]
    #: The section that fixes it.
    standard: ClassVar[str] = ""
    #: Whether the visit ends, or takes its outcome, here.
    stops: ClassVar[bool] = False
    #: Whether nothing in the estate states it.
    assumed: ClassVar[bool] = False
    #: Whether it is told whatever decided: what of real configuration could not be kept may always be the reason.
    loud: ClassVar[bool] = False
    #: Whether it is shown without asking for every step.
    shown: ClassVar[bool] = False
    #: How deep it stands in the tree of a name enlarged: whom the client asks, whom the resolver asks, what is said there.
    depth: ClassVar[int] = 2
    #: Whether it is about the answer's way back.
    of_the_answer: ClassVar[bool] = False
    #: Whether the exchanges that the response rests on are drawn under it.
    asks_on: ClassVar[bool] = False
    #: Whether the drawing of a way shows it without words.
    seen_by_itself: ClassVar[bool] = False
    #: Where something was found absent: the facts that it would have had, wherever in the estate it were stated.
    absent: ClassVar[tuple[str, ...]] = ()

    #: Where it is assumed: the keys of its subject that would say.
    unsaid: ClassVar[tuple[str, ...]] = ()

    @property
    def text(self) -> str:
        """The decision in words; not yet made harmless for printing."""
        return self.words.format_map(self.facts)

    @property
    def lacked(self) -> tuple[str, ...]:
        """What was looked for and found nowhere: an address, a name."""
        return tuple(str(getattr(self, each)) for each in self.absent)

    def read(self) -> "Iterator[object]":
        """Every stated value and every decision that this one rests on, itself first."""
        held: list[object] = [self]
        while held:
            each = held.pop()
            yield each
            if isinstance(each, Decision):
                held += [*each.beside, each.subject]

    @property
    def grounds(self) -> "Iterator[Decision]":
        """This decision, and those that it rests on, one behind the other."""
        at: object = self
        while isinstance(at, Decision):
            yield at
            at = at.subject

    @property
    def facts(self) -> dict[str, object]:
        """The facts by name."""
        own = self.__struct_fields__
        return {name: getattr(self, name) for name in own if name not in ("place", "subject", "beside")}


def every_kind(above: type[Decision] = Decision) -> Iterator[type[Decision]]:
    """Every kind that is defined in the modules loaded, in their order."""
    for each in above.__subclasses__():
        if "kind" in vars(each):
            yield each
        yield from every_kind(each)
