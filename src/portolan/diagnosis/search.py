"""Mends in thought: finds the cause, applies a remedy, asks again, until the visitor has what was expected.

Every remedy that is shown was proven by asking again: the expectation is met, or the next fault is met in its place; and
no other expectation fares worse. A cause that turns out not to be needed is not blamed.
"""

from portolan.diagnosis.base import Case, Finding
from portolan.diagnosis.exposure import Exposure, exposure
from portolan.diagnosis.gains import Asked
from portolan.diagnosis.instead import asked_instead
from portolan.diagnosis.losing import assumes_instead, loses_content
from portolan.diagnosis.proposal import GUARDED, ORDER, Patch, Proposal, Safety
from portolan.diagnosis.registry import proposals, recognise
from portolan.diagnosis.repair import Repair, where_it_changes
from portolan.diagnosis.smallest import MOST_TRIED
from portolan.diagnosis.trial import (
    Apply,
    Explanation,
    Remedy,
    Step,
    Trial,
    depth_of,
    patch_of,
    rewrites_history,
    stops_services,
)
from portolan.estate.estate import Estate
from portolan.estate.vantage import Vantage
from portolan.journey.expectation import misses
from portolan.journey.visit import Visit
from portolan.journey.world import World
from portolan.source.value import Value

#: What a visit ended by, where, and the code and object of the cause that fits it first.
_Met = tuple[str, str, int, tuple[str, str]]
MOST_CAUSES = 8
#: How many states are looked at before the search gives up, and how many changes are followed for one cause.
_MOST_STATES, _MOST_WAYS = 24, 3
#: What is known by name, and weakens nothing, gives way only to what is among the first in so small a part of the bound; a known way with
#: more causes than three gives way to one with fewer.
_PART, _LONG = 4, 3
#: So many changes that only lead further are followed one behind the other, where what is known by name does not lead home.
_DEEPER = 2


class _Tried(Value, frozen=True):
    """A proposal carried out: `onward` where the next fault is met on the same leg or a later one.

    `alone` is whether it can stand by itself: a change that spoils something else is none, but a second one may mend that too.
    """

    proposal: Proposal
    world: World
    visit: Visit
    complete: bool
    onward: bool
    exposure: Exposure
    alone: bool


class _State(Value, frozen=True):
    """Where a search stands: the changes so far, the world and the visit that they lead to, the steps taken."""

    world: World
    visit: Visit
    patch: Patch
    steps: tuple[Step, ...]


def explain(world: World, text: str, vantage: Vantage, apply: Apply, most: int = MOST_TRIED) -> Explanation:
    """Why a URL does not give a visitor what was expected (or a page), and the remedies, proven; `most` changes are tried."""
    return _Mending(world, text, vantage, apply, most).run()


class _Mending(Trial):
    def __init__(
        self,
        world: World,
        text: str,
        vantage: Vantage,
        apply: Apply,
        most: int,
        of_several: bool = False,
        deeper: int = _DEEPER,
    ) -> None:
        super().__init__(world, text, vantage, apply)
        self.most = most
        #: So many changes that only lead further may be followed one behind the other.
        self.deeper = deeper
        #: Whether it is one of several causes, all others of which are mended.
        self.of_several = of_several
        #: So many changes were tried beside others.
        self._tried = 0
        #: Causes that turned out not to be needed, by code and object.
        self.spared: set[tuple[str, str]] = set()

    def run(self) -> Explanation:
        """Looks for causes until none is left, then drops those that were not needed."""
        missed = misses(self.expectation, self.first)
        if not missed:
            return Explanation(self.first, self.expectation, (), (), (), None)
        steps, final = self._steps()
        if final is not None and len(steps) > 1:
            steps, final = self._needed(steps, final)
        repair = Repair(self, self.most)
        smaller = repair.instead_of(steps, final)
        if smaller is not None:
            return smaller.but(remedies=(*smaller.remedies, *asked_instead(self)))
        # A check, which tries little for each question, leaves the rest to who asks one.
        if self.most >= MOST_TRIED and not self.of_several:
            weak = final is not None and len(steps) > 1 and _weakening(steps)
            if final is None or len(steps) > _LONG or weak:
                # A cause that others have to mend is an answer: what several changes here would do instead is looked for less far.
                advised = any(not each.patch for step in steps[:1] for each in step.remedies)
                far = (final is None and not advised) or weak
                bound = self.most * (3 if far else 1 if final is not None else 2)
                other = self._further_on(
                    repair, bound, self.most * 3 // 4 if far else self.most // _PART, self.deeper if far else 0
                )
                if other is not None and (
                    final is None or (_weakening(other[0]), len(other[0])) < (_weakening(steps), len(steps))
                ):
                    steps, final = other
            if final is not None and len(steps) > 1:
                steps = self._in_turn(self._each_alone(steps))
        elif self.of_several and final is None and self.deeper:
            steps, final = self._further_on(repair, self.most, self.most // _PART, self.deeper) or (steps, final)
        steps = [where_it_changes(self.world.estate, step) for step in steps]
        remedies = [remedy.but(cause=number) for number, step in enumerate(steps, 1) for remedy in step.remedies]
        if (
            final is not None
            and len(steps) > 1
            and not any(step.chosen is not None and step.chosen.thought for step in steps)
        ):
            remedies.insert(0, self._together(steps, final))
        causes = tuple(step.finding for step in steps)
        return Explanation(
            self.first,
            self.expectation,
            missed,
            causes,
            (*remedies, *asked_instead(self)),
            final,
            tuple(dict.fromkeys(self.withheld)),
            bounded=repair.bounded,
        )

    def _steps(self) -> tuple[list[Step], Visit | None]:
        """The way to the end that the search finds; where it finds none, the first way that it went."""
        self._budget = _MOST_STATES
        self._first_way: list[Step] = []
        self._ways: list[_State] = []
        found = self._search(_State(self.world, self.first, [], ()), frozenset())
        if found is None:
            return self._first_way, None
        return list(found.steps), found.visit

    def _search(self, state: _State, met: frozenset[_Met]) -> _State | None:
        """Depth first, with a way back: the first way on which the expectation is met.

        At each state, changes that lead to the end or onward are followed for every cause that fits, in the order of the
        causes; only then those after which a fault on an earlier leg is met, which is progress too. No fault is met twice.
        """
        findings = recognise(Case(state.world, state.visit, self.expectation))
        here = _fault_met(state.visit, findings)
        if self._budget <= 0 or len(state.steps) >= MOST_CAUSES or here in met:
            return None
        self._budget -= 1
        met |= {here}
        back: list[_State] = []
        advice: Step | None = None
        known = {(step.finding.code, step.finding.object) for step in state.steps if step.leg == _leg(state.visit)}
        known |= self.spared
        for finding in findings:
            if (finding.code, finding.object) in known:
                continue
            step, tried = self._remedied(state, finding, here)
            advice = advice or step
            for each in tried[:_MOST_WAYS]:
                chosen = step.but(chosen=each.proposal)
                patch = [*state.patch, *each.proposal.patch]
                following = _State(each.world, each.visit, patch, (*state.steps, chosen))
                if each.complete:
                    return following
                if not each.onward:
                    back.append(following)
                    continue
                self._went(following)
                end = self._search(following, met)
                if end is not None:
                    return end
        for following in back:
            self._went(following)
            end = self._search(following, met)
            if end is not None:
                return end
        if advice is not None:
            self._went(state.but(steps=(*state.steps, advice)))
        return None

    def _went(self, state: _State) -> None:
        """Keeps the first way as far as it leads: each state on it adds to the one before."""
        way = list(state.steps)
        if way[-1].chosen is not None:
            self._ways.append(state)
        held = [step.finding for step in self._first_way]
        if [step.finding for step in way[: len(held)]] == held and len(way) > len(held):
            self._first_way = way

    def _remedied(self, state: _State, finding: Finding, here: _Met) -> tuple[Step, list[_Tried]]:
        """Every proposal for a cause, tried and weighed: the safest first."""
        asked = self.asked_for(state.visit)
        advice: list[Remedy] = []
        tried: list[_Tried] = []
        for proposal in proposals(Case(state.world, state.visit, self.expectation), finding):
            if not proposal.patch:
                text, codes = proposal.text, (finding.code,)
                advice.append(Remedy(text, [], Safety.OUTSIDE, codes, None, False, place=finding.place))
                continue
            if rewrites_history(proposal.patch) and not proposal.thought:
                continue
            result = self._try([*state.patch, *proposal.patch], finding, state.visit, here)
            if result is None:
                continue
            world, after, onward = result
            complete, breaks = not misses(self.expectation, after), self.breaks_others(world)
            if complete and breaks:
                continue
            laid_open = exposure(state.world, world, asked, after)
            lifts = laid_open.closed or (complete and state.steps and exposure(self.world, world, asked, after).closed)
            if lifts:
                self.withheld.append(f"{proposal.text}: the refusal is marked as meant")
            if complete and lifts:
                continue
            alone = not (breaks or lifts)
            tried.append(_Tried(proposal, world, after, complete, onward and alone, laid_open, alone))
        weighed = self._weighed(tried, asked)
        remedies = [
            Remedy(
                each.proposal.text,
                [] if each.proposal.thought else each.proposal.patch,
                Safety.OUTSIDE if each.proposal.thought else safety,
                (finding.code,),
                each.visit.outcome,
                each.complete,
                self.other_changes(state.world, each.world, each.exposure),
                finding.place,
                steps=self.taken(each.proposal.parts, state.patch) or (),
            )
            for safety, each in weighed
            if each.alone
        ]
        ordered = sorted([*remedies, *advice], key=lambda each: ORDER[each.safety])
        return Step(finding, None, tuple(ordered), _leg(state.visit)), [each for _, each in weighed]

    def _weighed(self, tried: list[_Tried], asked: Asked) -> list[tuple[Safety, _Tried]]:
        """What is handed out, the safest first; of one class what completes first, then what leads onward."""
        weighed = [(_class_of(each, tried), each) for each in tried]
        if asked.marks & GUARDED:
            self.withheld += [each.proposal.text for safety, each in weighed if safety is Safety.WEAKENS]
            weighed = [(safety, each) for safety, each in weighed if safety is not Safety.WEAKENS]
        weighed.sort(key=lambda pair: (ORDER[pair[0]], not pair[1].complete, not pair[1].onward))
        best = [pair for pair in weighed if pair[1].complete] or [pair for pair in weighed if pair[1].onward]
        return best or weighed

    def _try(self, patch: Patch, finding: Finding, current: Visit, here: _Met) -> tuple[World, Visit, bool] | None:
        """The world and visit after a patch, when it meets the expectation or another fault; else None.

        The last value says whether what is met next lies on the same leg or a later one. No change stops a service that runs, or loses content.
        """
        made = self.changed(patch)
        if made is None:
            return None
        world, after = made
        onward = True
        if misses(self.expectation, after):
            findings = recognise(Case(world, after, self.expectation))
            met = [(each.code, each.object) for each in findings]
            further = len(after.exchanges) > len(current.exchanges)
            if ((finding.code, finding.object) in met and not further) or _fault_met(after, findings) == here:
                return None
            onward = len(after.exchanges) >= len(current.exchanges) and depth_of(after) >= depth_of(current)
        spoils = stops_services(self.world, world) or loses_content(self.world.estate, world.estate)
        spoils |= assumes_instead(patch, after)
        return None if spoils else (world, after, onward)

    def _needed(self, steps: list[Step], final: Visit) -> tuple[list[Step], Visit]:
        """Takes away every cause without whose remedy the expectation is met all the same.

        What is left is worked out anew, so that each remedy tells what it does without the one taken away.
        """
        at = 0
        while at < len(steps) and len(steps) > 1:
            rest = steps[:at] + steps[at + 1 :]
            made = self.changed(patch_of(rest))
            if made is None or misses(self.expectation, made[1]):
                at += 1
                continue
            self.spared.add((steps[at].finding.code, steps[at].finding.object))
            again, after_all = self._steps()
            if after_all is not None and len(again) <= len(rest):
                steps, final, at = again, after_all, 0
            else:
                steps = rest
        return steps, final

    def _each_alone(self, steps: list[Step]) -> list[Step]:
        """Each cause as it is found where all others are mended: of several faults each is looked for like a single one."""
        for number, step in enumerate(steps):
            alone = self._alone(step, patch_of([*steps[:number], *steps[number + 1 :]]))
            instead = [*steps[:number], alone, *steps[number + 1 :]] if alone is not None else []
            if instead and self._mends(instead) is not None:
                steps = instead
        return steps

    def _alone(self, step: Step, mended: Patch) -> Step | None:
        """Another cause than a step's, with its remedies, in a world where all others are mended; None where it is the same."""
        if step.chosen is None or step.chosen.thought:
            return None
        made = self.changed(mended)
        if made is None:
            return None
        most = self.most if step.safety is Safety.WEAKENS else self.most // _PART
        found = self._from(made[0], mended, most, 0)
        return found[0] if len(found) == 1 and found[0].finding.object != step.finding.object else None

    def _from(self, world: World, patch: Patch, most: int, deeper: int) -> list[Step]:
        """What else is wrong in the world after a patch, each cause with its change; empty where that is not found."""

        def apply(more: Patch) -> Estate:
            self._tried += 1
            return self.apply([*patch, *more])

        there = world.there(self.vantage)
        found = _Mending(world, self.text, there, apply, most, of_several=True, deeper=deeper).run()
        best = found.best
        if best is None or not best.patch:
            return []
        steps: list[Step] = []
        for number, cause in enumerate(found.causes, 1):
            told = [each for each in found.remedies if each.ask is None and each.fixes == (cause.code,)]
            own = [each for each in told if each.cause in (0, number) and each.patch]
            if not own:
                return []
            chosen = Proposal(own[0].text, own[0].patch, tuple((each.text, each.patch) for each in own[0].steps))
            steps.append(Step(cause, chosen, tuple(told)))
        return steps

    def _further_on(self, repair: Repair, bound: int, part: int, deeper: int) -> tuple[list[Step], Visit] | None:
        """The way to the end from where a first change leads further: from each such state it is looked for as from a start.

        No further state is looked at when so many changes were tried; all states but the first are looked at with a part of the bound.
        """
        ways = sorted(self._ways, key=lambda each: (-len(each.visit.exchanges), -depth_of(each.visit)))
        # What leads furthest is looked at with the whole bound, the others with a part of it.
        starts = [(each, part if at else self.most) for at, each in enumerate(ways[:_MOST_WAYS])]
        for each in repair.followed():
            state = _State(each.world, each.visit, each.candidate.patch, (repair.step(each),))
            starts.append((state, part if starts else self.most))
        best: tuple[int, float, list[Step], Visit] | None = None
        # Two changes before three: from no start it is looked for further before all were looked at.
        for more in range(max(1, deeper)):
            until = self._tried + (bound if not more else self.most)
            for start, most in starts:
                if self._tried > until:
                    break
                steps = [*start.steps, *(rest := self._from(start.world, start.patch, most, more))]
                made = self._mends(steps) if rest else None
                if made is None:
                    continue
                steps, (world, final) = self._fewest(steps, made)
                laid_open = exposure(self.world, world, self.asked_for(self.first), final)
                cost = repair.cost(steps) - self.mended(world)
                if not laid_open.closed and (best is None or (len(steps), cost) < best[:2]):
                    best = len(steps), cost, steps, final
            if best is not None:
                return best[2:]
        return None

    def _fewest(self, steps: list[Step], made: tuple[World, Visit]) -> tuple[list[Step], tuple[World, Visit]]:
        """The steps without those that turn out not to be needed: what a later one wrote anew, an earlier one need not have written."""
        for step in steps[:-1]:
            rest = [each for each in steps if each is not step]
            without = self._mends(rest)
            if without is not None:
                steps, made = rest, without
        return steps, made

    def _in_turn(self, steps: list[Step]) -> list[Step]:
        """The steps, their remedies with what the visitor gets after each and all causes before it."""
        told: list[Step] = []
        patch: Patch = []
        for step in steps:
            remedies = []
            for each in step.remedies:
                made = self.changed([*patch, *each.patch]) if each.patch else None
                if made is not None:
                    each = each.but(outcome=made[1].outcome, complete=not misses(self.expectation, made[1]))
                remedies.append(each)
            told.append(step.but(remedies=tuple(remedies)))
            patch += patch_of([step])
        return told

    def _mends(self, steps: list[Step]) -> tuple[World, Visit] | None:
        """The world and the visit after the changes of all steps, where they meet the expectation and take from nobody what was met."""
        made = self.changed(patch_of(steps))
        return None if made is None or misses(self.expectation, made[1]) or self.breaks_others(made[0]) else made

    def _together(self, steps: list[Step], final: Visit) -> Remedy:
        parts = [
            part
            for step in steps
            if step.chosen
            for part in step.chosen.parts or ((step.chosen.text, step.chosen.patch),)
        ]
        orders = [sorted(parts, key=_rank), parts] if any(_rank(part) < _LAST for part in parts) else []
        if self.taken(tuple(parts), []) is None:
            # One step alone takes from somebody what another gives back: the other order may not.
            orders = [*orders[:1], parts[::-1]]
        taken = None
        for order in orders:
            taken = self.taken(tuple(order), [])
            if taken is not None and taken[-1].outcome == final.outcome:
                parts = order
                break
            taken = None
        patch: Patch = [change for _, part in parts for change in part]
        world = self.world.changed(self.apply(patch))
        asked = self.asked_for(self.first)
        laid_open = exposure(self.world, world, asked, final)
        classes = (step.safety or Safety.SAFE for step in steps)
        safety = max((*classes, laid_open.safety), key=lambda each: ORDER[each])
        return Remedy(
            "; then ".join(text for text, _ in parts),
            patch,
            safety,
            tuple(step.finding.code for step in steps),
            final.outcome,
            True,
            self.other_changes(self.world, world, laid_open),
            steps=taken or (),
        )


#: What of an estate is changed first where several settings depend on each other: a certificate before the name that it is for, a
#: seal before the grant that it refuses, an edge before the record that points at it.
_FIRST = ("certificates", "authorities", "stores", "edges")
_LAST = len(_FIRST)


def _rank(part: tuple[str, Patch]) -> int:
    """Where a step stands in that order; what is none of it comes last, in the order met."""
    sections = [str(change["path"]).split("/")[1] for change in part[1]]
    return min((_FIRST.index(each) if each in _FIRST else _LAST for each in sections), default=_LAST)


def _weakening(steps: list[Step]) -> bool:
    """Whether what was chosen for one of the causes weakens, or is not handed out at all."""
    changing = (step for step in steps if step.chosen is not None and step.chosen.patch)
    return any(step.safety in (None, Safety.WEAKENS) for step in changing)


def _class_of(each: _Tried, tried: list[_Tried]) -> Safety:
    """What the change lays open by itself; `weakens` where a smaller form of it does as well (house rule: no more than needed)."""
    own = each.exposure.safety
    smaller = any(
        other.complete >= each.complete
        and other.exposure.beside < each.exposure.beside
        and other.exposure.safety is not Safety.WEAKENS
        for other in tried
    )
    return Safety.WEAKENS if own is Safety.OPENS and smaller else own


def _fault_met(found: Visit, findings: list[Finding]) -> _Met:
    """What a visit ended by, in which of its exchanges (where nothing stopped it, what it got), and the cause that fits it first."""
    first = (findings[0].code, findings[0].object) if findings else ("", "")
    if found.stop is None:
        return str(found.outcome), found.outcome.final_url, len(found.exchanges), first
    return found.stop.kind, found.stop.text, len(found.exchanges), first


def _leg(found: Visit) -> int:
    """The number of the exchange that a visit ended in."""
    return len(found.exchanges)
