"""Every expectation asked from every vantage that it is for, in chunks that may be asked anywhere, and what they come to."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from fnmatch import fnmatchcase

from portolan.diagnosis.asking import missed_at
from portolan.diagnosis.base import Case
from portolan.diagnosis.registry import recognise
from portolan.diagnosis.search import explain
from portolan.diagnosis.smallest import MOST_IN_CHECK
from portolan.diagnosis.trial import Apply
from portolan.estate.vantage import Expectation, Vantage
from portolan.journey.expectation import expected_urls, vantages_for
from portolan.journey.question import place
from portolan.journey.world import World
from portolan.source.value import Value
from portolan.surveying.answered import Answered, Cause, Chunk, packed
from portolan.surveying.baseline import Since

#: So many questions are asked in one piece: by one process, which a fault costs no more than these.
CHUNK = 1000
#: For so many causes, in surveys of so many questions, the cause is proven by mending it; else it is the first that fits.
_MOST_PROVEN, _SMALL = 8, 300

Asked = tuple[Expectation, Vantage]


class Group(Value, frozen=True):
    """Missed questions with one cause; `text` says what is wrong, of the cause or, where none is known, of the end that they come to."""

    cause: Cause | None
    text: str
    missed: tuple[Answered, ...]
    #: Whether the cause was proven by mending it; else it is the first that explains what was seen.
    proven: bool = False


class Survey(Value, frozen=True):
    """What all questions came to."""

    at: datetime
    booted: frozenset[str] | None
    vantages: tuple[str, ...]
    expectations: int
    questions: int
    chunks: tuple[Chunk, ...]
    groups: tuple[Group, ...]
    #: Beside an earlier survey, where one was given.
    since: Since | None = None

    @property
    def answers(self) -> Iterator[Answered]:
        """Every answer in the order of the questions; of a million only a chunk is held at a time."""
        for chunk in self.chunks:
            yield from chunk

    @property
    def missed(self) -> Iterator[Answered]:
        """Those that miss, in the order of the questions."""
        for chunk in self.chunks:
            yield from chunk.missed

    @property
    def asked(self) -> int:
        """How many were answered."""
        return sum(chunk.count for chunk in self.chunks if not chunk.failed)

    @property
    def failed(self) -> tuple[Chunk, ...]:
        """The chunks that nobody could answer."""
        return tuple(chunk for chunk in self.chunks if chunk.failed)


def standing(world: World, names: Sequence[str]) -> tuple[World, tuple[Vantage, ...]]:
    """The world with the places of these names in it. Raises UnknownPlaceError."""
    found = []
    for name in names:
        world, vantage, _ = place(world, name)
        found.append(vantage)
    return world, tuple(world.there(each) for each in found)


def questions(world: World, vantages: Sequence[Vantage] = (), only: str | None = None) -> list[Asked]:
    """Every expectation with every vantage that it is for: of all vantages, or of those; of all addresses, or those of a pattern.

    An expectation whose URL is none is left out: `check` says so.
    """
    found: list[Asked] = []
    for expectation, url in expected_urls(world.estate):
        if only is not None and not any(fnmatchcase(each, only) for each in (expectation.url, str(url), url.host)):
            continue
        if vantages:
            found += [(expectation, each) for each in vantages if expectation.is_for(each.name)]
        else:
            found += [(expectation, each) for each in vantages_for(world.estate, expectation)]
    return found


def chunk(world: World, asked: Sequence[Asked], first: int) -> Chunk:
    """The answers to the questions from the one numbered `first` on."""
    part = asked[first : first + CHUNK]
    answers = [_answered(world, each, first + number) for number, each in enumerate(part)]
    return Chunk(first, len(part), packed(answers), tuple(each for each in answers if each.missed))


def _answered(world: World, asked: Asked, number: int) -> Answered:
    """One question: with its first cause where it is missed, always or at times."""
    expectation, vantage = asked
    found, missed = missed_at(world, expectation, vantage)
    place = expectation.place
    span = place.span if place.span.file != "(assumed)" else None
    if not missed:
        return Answered(number, str(expectation.url), vantage.name, place.pointer, span, found.outcome)
    first = missed[0]
    cause = next(iter(recognise(Case(world, first.visit, expectation))), None)
    stop = first.visit.stop
    return Answered(
        number,
        str(expectation.url),
        vantage.name,
        place.pointer,
        span,
        first.visit.outcome,
        tuple(dict.fromkeys(one.text for each in missed for one in each.misses)),
        tuple(each.turn.words for each in missed if each.turn is not None),
        stop.text if stop is not None else "",
        Cause.of(cause) if cause is not None else None,
    )


def collected(world: World, asked: Sequence[Asked], chunks: Iterable[Chunk], apply: Apply) -> Survey:
    """What the chunks come to, the missed ones grouped by cause, those that miss most first."""
    held = tuple(sorted(chunks, key=lambda each: each.first))
    groups = _grouped([each for chunk in held for each in chunk.missed])
    if len(asked) <= _SMALL and len(groups) <= _MOST_PROVEN:
        groups = _proven(world, asked, groups, apply)
    groups.sort(key=lambda group: (-len(group.missed), group.missed[0].number))
    people = tuple(dict.fromkeys(vantage.name for _, vantage in asked))
    stated = len({id(expectation) for expectation, _ in asked})
    return Survey(world.now, world.booted, people, stated, len(asked), held, tuple(groups))


def _key(cause: Cause | None, missed: Answered) -> tuple[str, str]:
    return (cause.rule, cause.object) if cause is not None else ("", missed.stop or missed.missed[0])


def _grouped(missed: list[Answered]) -> list[Group]:
    groups: dict[tuple[str, str], list[Answered]] = {}
    for each in missed:
        groups.setdefault(_key(each.cause, each), []).append(each)
    return [
        Group(held[0].cause, held[0].cause.text if held[0].cause is not None else text, tuple(held))
        for (_, text), held in groups.items()
    ]


def _proven(world: World, asked: Sequence[Asked], groups: list[Group], apply: Apply) -> list[Group]:
    """The groups by the causes that mend them; those whose causes turn out to be one are one group."""
    found: dict[tuple[str, str], Group] = {}
    for group in groups:
        first = group.missed[0]
        vantage = asked[first.number][1]
        causes = explain(world, first.url, vantage, apply, MOST_IN_CHECK).causes
        better = Cause.of(causes[0]) if causes else group.cause
        text = better.text if better is not None else group.text
        key = _key(better, first)
        held = found[key].missed if key in found else ()
        together = tuple(sorted((*held, *group.missed), key=lambda each: each.number))
        found[key] = Group(better, text, together, bool(causes))
    return list(found.values())
