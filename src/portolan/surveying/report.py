"""All that somebody has to be told of an estate: what is missed and why, what mends it, what was assumed, what is open, what ends."""

from collections.abc import Callable, Iterable, Sequence
from datetime import datetime

from portolan.diagnosis.asking import missed_at
from portolan.diagnosis.renewals import renewals
from portolan.diagnosis.search import explain
from portolan.diagnosis.trial import Apply, Explanation
from portolan.evidence.outcome import Outcome
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.source.value import Value
from portolan.surveying.exposed import Exposed, exposed
from portolan.surveying.picture import Picture, picture
from portolan.surveying.plan import Plan, plan
from portolan.surveying.survey import Asked, Group, Survey
from portolan.tls.facts import shown_by

#: So many causes are explained and drawn; the rest is listed.
MOST_EXPLAINED = 12
#: So many met expectations are asked again for what they rest on.
_MOST_ASSUMED = 200


class Told(Value, frozen=True):
    """A cause, what mends it, and the way that breaks there."""

    group: Group
    explanation: Explanation
    picture: Picture


class Ends(Value, frozen=True):
    """A certificate that ends: when, who renews it, and why the next renewal fails, where it does."""

    name: str
    ends: datetime
    by: str
    blocked: str = ""


class Report(Value, frozen=True):
    """All of it, ready to be shown."""

    title: str
    about: str
    at: datetime
    survey: Survey
    told: tuple[Told, ...]
    plan: Plan
    exposed: Exposed
    assumptions: tuple[str, ...]
    ends: tuple[Ends, ...]


def report(
    world: World, survey: Survey, asked: Sequence[Asked], apply: Apply, words: Callable[[Outcome], str]
) -> Report:
    """A report of a survey of the same world; `words` puts outcomes in words."""
    told = []
    for group in survey.groups[:MOST_EXPLAINED]:
        first = group.missed[0]
        expectation, vantage = asked[first.number]
        # Where it is missed at times, the time at which it is missed is what is shown.
        _, missed = missed_at(world, expectation, vantage)
        found = explain(world, first.url, missed[0].vantage if missed else vantage, apply)
        told.append(Told(group, found, picture(found.visit, False, words(found.visit.outcome))))
    return Report(
        world.stated.title or "The estate",
        world.stated.about or "",
        world.now,
        survey,
        tuple(told),
        plan(world),
        exposed(world),
        tuple(_assumed(world, asked)),
        tuple(_ends(world)),
    )


def _assumed(world: World, asked: Sequence[Asked]) -> Iterable[str]:
    """What answers rest on that no line states, each once."""
    found: dict[str, None] = {}
    for expectation, vantage in asked[:_MOST_ASSUMED]:
        for each in visit(world, str(expectation.url), vantage).assumptions:
            found[each.text] = None
    return found


def _ends(world: World) -> list[Ends]:
    """Certificates with their ends, the nearest first."""
    renewed = {each.certificate.name: each for each in renewals(world)}
    found = []
    for name, certificate in world.stated.certificates.items():
        until = shown_by(certificate, world.estate, world.shared).leaf.until
        if until is not None:
            renewal = renewed.get(name)
            why = next((one.why for one in renewal.blocked), None) if renewal is not None else None
            found.append(Ends(name, until, (renewal.by or "") if renewal is not None else "", why or ""))
    return sorted(found, key=lambda each: each.ends)
