"""What one question of a survey came to, small enough that a million of them are kept: packed by the thousand."""

import zlib
from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Finding
from portolan.evidence.outcome import Outcome
from portolan.source.place import Span, pointer
from portolan.source.value import Value


class Cause(Value, frozen=True):
    """What is wrong, as a value that outlives the world it was found in; `rule` is the finding's code."""

    rule: str
    severity: str
    object: str
    text: str
    pointer: str | None = None
    span: Span | None = None

    @staticmethod
    def of(finding: Finding) -> "Cause":
        """The same, of a finding."""
        place = finding.place
        span = None if place is None or place.span.file == "(assumed)" else place.span
        at = pointer(place.path) if place is not None else None
        return Cause(finding.code, str(finding.severity), finding.object, finding.text, at, span)


class Answered(Value, frozen=True):
    """One expectation asked from one vantage; `number` is its place among all questions, from 0.

    `missed` is empty where it is met; `at_times` says when it is missed, where that is not always. `stop` is what ended the
    visit badly, in a sentence, and `cause` the first thing that explains it.
    """

    number: int
    url: str
    vantage: str
    pointer: str
    span: Span | None
    outcome: Outcome
    missed: tuple[str, ...] = ()
    at_times: tuple[str, ...] = ()
    stop: str = ""
    cause: Cause | None = None

    @property
    def met(self) -> bool:
        """Whether what is expected comes, always."""
        return not self.missed


class Chunk(Value, frozen=True):
    """The answers to questions that follow each other, packed; and those of them that miss. `failed` says why there are none."""

    first: int
    count: int
    packed: bytes = b""
    missed: tuple[Answered, ...] = ()
    failed: str = ""

    def __iter__(self) -> Iterator[Answered]:
        """Each answer, unpacked."""
        if self.packed:
            yield from _DECODER.decode(zlib.decompress(self.packed))


#: Words of the estate have types of their own; here they are words.
_ENCODER = msgspec.msgpack.Encoder(enc_hook=str)
_DECODER = msgspec.msgpack.Decoder(list[Answered])


def packed(answers: list[Answered]) -> bytes:
    """Answers made small."""
    return zlib.compress(_ENCODER.encode(answers), 1)
