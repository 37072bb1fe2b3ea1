"""What is said instead of the recognisers' way: a smaller change that mends as much, or one where none of theirs mends at all."""

from functools import cached_property

from portolan.diagnosis.base import Case, Finding
from portolan.diagnosis.candidate import Candidate
from portolan.diagnosis.exposure import Exposure, exposure
from portolan.diagnosis.homeward import Homeward, homeward
from portolan.diagnosis.losing import assumes_instead, loses_content
from portolan.diagnosis.proposal import GUARDED, Proposal, Safety
from portolan.diagnosis.registry import proposals
from portolan.diagnosis.slip import slip
from portolan.diagnosis.smallest import CLEARLY, Mend, Sought, changed_place, cost_of, mends, sought
from portolan.diagnosis.trial import (
    HISTORY,
    Explanation,
    Remedy,
    Step,
    Trial,
    depth_of,
    missing_in,
    patch_of,
    rewrites_history,
    stops_services,
)
from portolan.estate.estate import Estate
from portolan.estate.slips import DEFAULT_COST
from portolan.journey.expectation import misses
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.place import Place
from portolan.source.value import Value

#: A known cause that costs no more needs no other beside it; what is cheaper by so much comes before it, and what is not is as likely.
_PLAIN, _FAR_NEARER = 1.0, 1.0
#: What it costs that a change lays more open than is needed, or what is expected; and that there are two of them.
_WEAKENING, _OPENING, _SECOND = 2.5, 0.1, 0.6
#: So many of the changes that mend are weighed by what they lay open, and so many told.
_MOST_WEIGHED, _MOST_TOLD = 10, 3
#: Of two changes: how many first ones are followed, and how many of one object.
_MOST_FOLLOWED, _MOST_OF_ONE = 4, 2
#: To so many other expectations that are mended what a change lays open is held.
_MOST_HELD_TO = 4
#: What it takes off that one more decision is behind.
_PAST = 0.4


class _Way(Value, frozen=True):
    """How many expectations a way mends, and what it costs to believe in it; `whole`: one known cause mends all that is missed."""

    mended: int
    cost: float
    whole: bool

    def yields_to(self, mended: int, cost: float) -> bool:
        """Whether a change that nobody recognises comes before it: what is known by name gives way to what is far nearer only."""
        if mended != self.mended:
            return mended > self.mended
        return cost < self.cost - (_FAR_NEARER if self.whole else CLEARLY)


class _Ended(Value, frozen=True):
    """What a visit ended by, every attempt of it, and how far it came."""

    what: tuple[tuple[str, str], ...]
    depth: tuple[int, int]
    #: The kinds of what stopped it, with the objects that they are about.
    kinds: frozenset[tuple[str, tuple[object, ...]]] = frozenset()

    def past(self, before: "_Ended") -> bool:
        """Whether something that ended another visit does not end this one."""
        return not set(before.what) <= set(self.what)


class _Further(Value, frozen=True):
    """A change after which the visit ends otherwise, and no earlier."""

    candidate: Candidate
    world: World
    visit: Visit
    depth: tuple[int, int]
    homeward: int
    #: Whether it ends by the same kind of thing at the same object as before.
    alike: bool

    @property
    def rank(self) -> tuple[float, ...]:
        """What leads furthest comes first: in more exchanges, nearer home, deeper, by something else, past more decisions; then what is nearest."""
        past = sum(len(each.decisions) for each in self.visit.tree)
        exchanges, depth = self.depth
        return (-exchanges, -self.homeward, -depth, self.alike, self.candidate.cost - _PAST * past)


class _Weighed(Value, frozen=True):
    """A change that mends, with what it lays open counted in its cost."""

    mend: Mend
    cost: float
    laid_open: Exposure

    @property
    def cause(self) -> Finding:
        """The cause that it is: in a recogniser's words where one names the same, else in those of the slip."""
        if self.mend.finding is not None:
            return self.mend.finding.but(place=self.mend.place)
        return slip(self.mend.wrong, self.mend.place)


class Repair:
    """Looks for the smallest change beside the way that recognisers found; `most` changes are tried."""

    def __init__(self, trial: Trial, most: int) -> None:
        self.trial = trial
        self.most = most
        self.bounded = False
        self._further: list[_Further] = []
        #: What changes lay open, by the world that they lead to.
        self._exposures: dict[int, tuple[Exposure, World]] = {}

    @cached_property
    def _case(self) -> Case:
        return Case(self.trial.world, self.trial.first, self.trial.expectation)

    @cached_property
    def _what(self) -> Sought:
        """What is looked for: all that is missed."""
        asked = [self.trial.text, *(each.url for each, _ in self.trial.others()[1])]
        return sought(self._case, [self.trial.first], asked)

    def instead_of(self, steps: list[Step], final: Visit | None) -> Explanation | None:
        """What the smallest change says, where it mends more than the recognisers' way, or is believed more readily."""
        trial = self.trial
        case = self._case
        if any(_of_the_past(case, step.finding) for step in steps[:1]):
            return None
        if steps and final is not None and getattr(trial.vantage, "turn", None) is not None:
            # What is missed at one member's turn alone lies with that member: no way past it is nearer.
            return None
        what = self._what
        known = self._known_way(steps, final, what)
        if known is not None and known.whole and known.cost <= _PLAIN:
            return None
        dearest = known.cost - _FAR_NEARER if known is not None and known.whole else DEFAULT_COST
        # Where a way is known, what is nearer than it comes early.
        bound = self.most // 2 if known is not None and (known.whole or len(steps) > 1) else self.most
        found, self.bounded = mends(case, what, self._attempt, self._extra, bound, dearest)
        weighed = self._classed(found)
        if not weighed:
            return None
        best = weighed[0]
        if best.laid_open.safety is Safety.WEAKENS and steps:
            return None
        if known is not None:
            # What is recognised first is likelier than what else is, and has words of its own.
            first = where_it_changes(trial.world.estate, steps[0]).finding.place
            recognised = known.whole and best.mend.finding is not None
            within = known.whole and _of_one_thing(best.mend.place, first)
            if recognised or not known.yields_to(best.mend.mended, best.cost):
                return None
            if within:
                # It says better what is wrong; the nearer change is a correction of the same thing.
                weighed[0] = best.but(mend=best.mend.but(finding=steps[0].finding))
        return self._told(steps, weighed)

    @cached_property
    def _homeward(self) -> Homeward:
        return homeward(self._case)

    @cached_property
    def _here(self) -> _Ended:
        return _ended(self.trial.first)

    def _attempt(self, candidate: Candidate) -> tuple[World, Visit, int] | None:
        """Tries a change: the world and visit where it mends, and how many expectations; else None.

        What ends otherwise than the visit does now, and no earlier, is kept: a second change may mend the rest.
        """
        trial, here = self.trial, self._here
        made = trial.changed(candidate.patch) if not rewrites_history(candidate.patch) else None
        if made is None:
            return None
        world, after = made
        missed, there = bool(misses(trial.expectation, after)), _ended(after)
        if missed and (candidate.alone or not there.past(here) or there.depth < here.depth):
            return None
        spoils = stops_services(trial.world, world) or loses_content(trial.world.estate, world.estate)
        if spoils or assumes_instead(candidate.patch, after):
            return None
        if missed:
            # What it takes from somebody else, a second change may give back.
            alike = bool(here.kinds) and here.kinds <= there.kinds
            self._further.append(_Further(candidate, world, after, there.depth, self._homeward.came(after), alike))
            return None
        return None if trial.breaks_others(world) else (world, after, trial.mended(world))

    def _known_way(self, steps: list[Step], final: Visit | None, what: Sought) -> _Way | None:
        """What the recognisers' way mends and costs; None where it does not lead to the end."""
        chosen = [step.chosen for step in steps if step.chosen is not None]
        if final is None or len(chosen) < len(steps):
            return None
        made = self.trial.changed(patch_of(steps))
        if made is None:
            return None
        cost = self.cost(steps)
        weakens = any(step.safety is Safety.WEAKENS for step in steps)
        mended = self.trial.mended(made[0])
        whole = len(steps) == 1 and not weakens and mended == len(what.asked)
        return _Way(mended, cost + _SECOND * (len(steps) - 1) + (_WEAKENING if weakens else 0.0), whole)

    def _classed(self, found: list[Mend]) -> list[_Weighed]:
        """The best of what mends, with what each lays open counted in; refusals that are meant stay."""
        trial = self.trial
        asked = trial.asked_for(trial.first)
        weighed = []
        for mend in found[:_MOST_WEIGHED]:
            laid_open = self._laid_open(mend)
            if laid_open.closed:
                trial.withheld.append(f"{mend.proposal.text}: the refusal is marked as meant")
            elif laid_open.safety is Safety.WEAKENS and asked.marks & GUARDED:
                trial.withheld.append(mend.proposal.text)
            else:
                weighed.append(_Weighed(mend, mend.cost + self._extra(mend), laid_open))
        return sorted(weighed, key=lambda each: (-each.mend.mended, round(each.cost, 2)))

    def _extra(self, mend: Mend) -> float:
        """What it costs to believe in a change, for what it lays open."""
        return {Safety.WEAKENS: _WEAKENING, Safety.OPENS: _OPENING}.get(self._laid_open(mend).safety, 0.0)

    def _laid_open(self, mend: Mend) -> Exposure:
        """What a change lays open, held to all that it mends."""
        known = self._exposures.get(id(mend.world))
        if known is None:
            known = self._exposures[id(mend.world)] = (self._compared(mend), mend.world)
        return known[0]

    def _compared(self, mend: Mend) -> Exposure:
        trial = self.trial
        laid_open = exposure(trial.world, mend.world, trial.asked_for(trial.first), mend.visit)
        for expectation, vantage in trial.others()[1][:_MOST_HELD_TO] if mend.mended > 1 else ():
            if laid_open.safety is not Safety.WEAKENS:
                break
            if not missing_in(mend.world, expectation, mend.world.there(vantage)):
                other = Trial(trial.world, expectation.url, vantage, trial.apply)
                after = visit(mend.world, expectation.url, mend.world.there(vantage))
                laid_open = laid_open.eased(exposure(trial.world, mend.world, other.asked_for(other.first), after))
        return laid_open

    def _told(self, steps: list[Step], weighed: list[_Weighed]) -> Explanation:
        """One change as an explanation: its remedies, and what would explain it as well."""
        best, cause = weighed[0], weighed[0].cause
        same = [each for each in weighed if each.cause.object == cause.object and each.mend.mended == best.mend.mended]
        remedies = [self._remedy(each, cause, 1) for each in same[:_MOST_TOLD]]
        advice = [
            remedy.but(cause=1)
            for step in steps[:1]
            for remedy in step.remedies
            if step.finding.code == cause.code and not remedy.patch
        ]
        return self._explanation((cause,), (*remedies, *advice), best.mend.visit, _equals(weighed))

    def _explanation(
        self,
        causes: tuple[Finding, ...],
        remedies: tuple[Remedy, ...],
        after: Visit,
        others: tuple[tuple[Finding, ...], ...] = (),
    ) -> Explanation:
        trial = self.trial
        missed = misses(trial.expectation, trial.first)
        withheld = tuple(dict.fromkeys(trial.withheld))
        return Explanation(
            trial.first, trial.expectation, missed, causes, remedies, after, withheld, others, self.bounded
        )

    def _remedy(self, each: _Weighed, cause: Finding, number: int) -> Remedy:
        mend, trial = each.mend, self.trial
        changes = trial.other_changes(trial.world, mend.world, each.laid_open)
        steps = trial.taken(mend.proposal.parts, []) or ()
        return Remedy(
            mend.proposal.text,
            mend.proposal.patch,
            each.laid_open.safety,
            (cause.code,),
            mend.visit.outcome,
            True,
            changes,
            cause.place,
            number,
            steps,
        )

    def followed(self) -> list[_Further]:
        """The first changes that are worth following: those that lead furthest, not all of one object, and the nearest of all."""
        held: dict[tuple[object, ...], int] = {}
        found = []
        for each in sorted(self._further, key=lambda one: one.rank):
            of = each.candidate.place.path[:4]
            held[of] = held.get(of, 0) + 1
            if held[of] <= _MOST_OF_ONE:
                found.append(each)
            if len(found) == _MOST_FOLLOWED:
                break
        nearest = min(self._further, key=lambda one: one.candidate.cost, default=None)
        return found if nearest is None or nearest in found else [*found[:1], nearest, *found[1:]]

    def step(self, first: _Further) -> Step:
        """A change that leads further as a step: the cause that it is, and its remedy."""
        trial, candidate = self.trial, first.candidate
        known = candidate.finding
        cause = slip(candidate.wrong, candidate.place) if known is None else known.but(place=candidate.place)
        safety = exposure(trial.world, first.world, trial.asked_for(trial.first), first.visit).safety
        remedy = Remedy(
            candidate.text, candidate.patch, safety, (cause.code,), first.visit.outcome, False, (), candidate.place
        )
        return Step(cause, Proposal(candidate.text, candidate.patch), (remedy,))

    def cost(self, steps: list[Step]) -> float:
        """What it costs to believe in several causes."""
        root, about = self.trial.world.estate.place.node, self._what.about
        return sum(cost_of(each.chosen.patch, root, about) for each in steps if each.chosen is not None)


def _equals(weighed: list[_Weighed]) -> tuple[tuple[Finding, ...], ...]:
    """What is as likely as the best: other objects, that mend as many at nearly the same cost."""
    best = weighed[0]
    named = {best.cause.object}
    found: list[tuple[Finding, ...]] = []
    for each in weighed[1:]:
        if each.mend.mended == best.mend.mended and each.cost - best.cost <= CLEARLY and each.cause.object not in named:
            named.add(each.cause.object)
            found.append((each.cause,))
    return tuple(found[:_MOST_TOLD])


def _of_the_past(case: Case, finding: Finding) -> bool:
    """Whether what was explains it (a memory, a cache, a moment): no setting is wrong then."""
    if finding.place is not None and set(finding.place.path) & HISTORY:
        return True
    return any(each.thought for each in proposals(case, finding))


def _ended(found: Visit) -> _Ended:
    depth = (len(found.exchanges), depth_of(found))
    if found.stop is None:
        return _Ended(((str(found.outcome), found.outcome.final_url),), depth)
    stops = [each for exchange in found.tree for each in exchange.decisions if each.stops]
    kinds = frozenset((each.kind, each.place.path if each.place is not None else ()) for each in stops)
    return _Ended(tuple((each.kind, each.text) for each in (*stops, found.stop)), depth, kinds)


def _of_one_thing(one: Place | None, other: Place | None) -> bool:
    """Whether a change is to what a recogniser names, a part of it, or a record of the same zone: it says better what is wrong."""
    if one is None or other is None or not other.path:
        return False
    return one.path[: len(other.path)] == other.path or (other.path[0] == "zones" and one.path[:2] == other.path[:2])


def where_it_changes(estate: Estate, step: Step) -> Step:
    """A cause with the place where its change is made: a cause is a change."""
    if step.chosen is None or not step.chosen.patch:
        return step
    place = changed_place(estate, step.finding.place, step.chosen.patch)
    if step.finding.place is not None and place.path == step.finding.place.path:
        return step
    return step.but(finding=step.finding.but(place=place))
