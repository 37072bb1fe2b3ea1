"""A message, ready to send, to whoever runs what has to change: what is asked for, why, how it was found, how to see that it worked."""

from portolan.diagnosis.others import must_be_asked
from portolan.diagnosis.trial import Explanation, Remedy
from portolan.estate.estate import Estate
from portolan.evidence.decision import Decision
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.observing.by_hand import HandCheck, by_hand
from portolan.source.value import Value

#: So many steps of the way are told.
_MOST_STEPS = 12


class Letter(Value, frozen=True):
    """A letter: to whom, what for, and all that it tells."""

    to: str
    wanted: str
    url: str
    vantage: str
    gets: Visit
    why: tuple[str, ...]
    steps: tuple[str, ...]
    before: HandCheck | None
    after: HandCheck | None


def letter(world: World, found: Explanation, remedy: Remedy, changed: Estate | None) -> Letter:
    """The letter about a remedy; `changed` is the estate with it, where it is a change."""
    seen = found.visit
    to = ", ".join(must_be_asked(world.stated, remedy)) or "whoever runs this"
    # A stated thing is told by its words, not by our files: who reads this has others.
    steps = tuple(each.text for each in seen.decisions if each.shown or each.stops or _ended(seen, each))[-_MOST_STEPS:]
    checks = [each for each in by_hand(world, seen).checks if not each.inner]
    before, after = (checks[-1] if checks else None), None
    if changed is not None and before is not None:
        there = world.changed(changed)
        again = visit(there, seen.url, there.there(seen.vantage))
        held = [each for each in by_hand(there, again).checks if not each.inner]
        # The same command tells both; where the way goes on now, the last one tells that it does.
        after = next((each for each in held if each.command == before.command), held[-1] if held else None)
    why = tuple(each.text for each in found.causes)
    return Letter(to, remedy.text, seen.url, seen.vantage.name, seen, why, steps, before, after)


def _ended(seen: Visit, decision: Decision) -> bool:
    return seen.stop is not None and any(each is decision for each in seen.stop.grounds)
