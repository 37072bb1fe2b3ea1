"""Mends in thought: finds the cause, applies a remedy, asks again, until the visitor has what was expected.

Every remedy that is shown was proven by asking again: the expectation is met, or the next fault is met in its place; and
no other expectation fares worse. A cause that turns out not to be needed is not blamed.
"""

from typing import NamedTuple

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
    rewrites_history,
    stops_services,
)
from portolan.estate.vantage import Vantage
from portolan.journey.expectation import misses
from portolan.journey.visit import Visit
from portolan.journey.world import World

#: What a visit ended by, where, and the code and object of the cause that fits it first.
_Met = tuple[str, str, int, tuple[str, str]]
MOST_CAUSES = 8
#: How many states are looked at before the search gives up, and how many changes are followed for one cause.
_MOST_STATES, _MOST_WAYS = 24, 3


class _Tried(NamedTuple):
    """A proposal carried out: `onward` where the next fault is met on the same leg or a later one."""

    proposal: Proposal
    world: World
    visit: Visit
    complete: bool
    onward: bool
    exposure: Exposure


class _State(NamedTuple):
    """Where a search stands: the changes so far, the world and the visit that they lead to, the steps taken."""

    world: World
    visit: Visit
    patch: Patch
    steps: tuple[Step, ...]


def explain(world: World, text: str, vantage: Vantage, apply: Apply, most: int = MOST_TRIED) -> Explanation:
    """Why a URL does not give a visitor what was expected (or a page), and the remedies, proven; `most` changes are tried."""
    return _Mending(world, text, vantage, apply, most).run()


class _Mending(Trial):
    def __init__(self, world: World, text: str, vantage: Vantage, apply: Apply, most: int) -> None:
        super().__init__(world, text, vantage, apply)
        self.most = most
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
            return smaller._replace(remedies=(*smaller.remedies, *asked_instead(self)))
        steps = [where_it_changes(self.world.estate, step) for step in steps]
        remedies = [remedy._replace(cause=number) for number, step in enumerate(steps, 1) for remedy in step.remedies]
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
                chosen = step._replace(chosen=each.proposal)
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
            self._went(state._replace(steps=(*state.steps, advice)))
        return None

    def _went(self, state: _State) -> None:
        """Keeps the first way as far as it leads: each state on it adds to the one before."""
        way = list(state.steps)
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
            laid_open = exposure(state.world, world, asked, after)
            if laid_open.closed:
                self.withheld.append(f"{proposal.text}: the refusal is marked as meant")
                continue
            complete = not misses(self.expectation, after)
            tried.append(_Tried(proposal, world, after, complete, onward, laid_open))
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
        for wanted in ("complete", "onward"):
            best = [pair for pair in weighed if getattr(pair[1], wanted)]
            if best:
                return best
        return weighed

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
        return None if spoils or self.breaks_others(world) else (world, after, onward)

    def _needed(self, steps: list[Step], final: Visit) -> tuple[list[Step], Visit]:
        """Takes away every cause without whose remedy the expectation is met all the same.

        What is left is worked out anew, so that each remedy tells what it does without the one taken away.
        """
        at = 0
        while at < len(steps) and len(steps) > 1:
            rest = steps[:at] + steps[at + 1 :]
            patch: Patch = [change for step in rest if step.chosen for change in step.chosen.patch]
            made = self.changed(patch)
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

    def _together(self, steps: list[Step], final: Visit) -> Remedy:
        parts = [
            part
            for step in steps
            if step.chosen
            for part in step.chosen.parts or ((step.chosen.text, step.chosen.patch),)
        ]
        taken = None
        for order in (sorted(parts, key=_rank), parts) if any(_rank(part) < _LAST for part in parts) else ():
            taken = self.taken(tuple(order), [])
            if taken is not None and taken[-1].outcome == final.outcome:
                parts = order
                break
            taken = None
        patch: Patch = [change for _, part in parts for change in part]
        world = self.world.changed(self.apply(patch))
        asked = self.asked_for(self.first)
        laid_open = exposure(self.world, world, asked, final)
        own = {remedy.text: remedy.safety for step in steps for remedy in step.remedies}
        worst = max(
            (own.get(step.chosen.text, Safety.SAFE) for step in steps if step.chosen), key=lambda each: ORDER[each]
        )
        safety = max((worst, laid_open.safety), key=lambda each: ORDER[each])
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
