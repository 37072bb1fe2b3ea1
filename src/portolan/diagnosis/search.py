"""Mends in thought: finds the cause, applies a remedy, asks again, until the visitor has what was promised.

Every remedy that is shown was proven by asking again: the promise is kept, or the next fault is met in its place; and
no other promise fares worse. A cause that turns out not to be needed is not blamed.
"""

from collections.abc import Callable
from typing import NamedTuple

from portolan.diagnosis.base import Case, Finding
from portolan.diagnosis.exposure import Asked, Exposure, exposure
from portolan.diagnosis.proposal import ORDER, Patch, Proposal, Safety
from portolan.diagnosis.registry import proposals, recognise
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.url import BadUrlError
from portolan.estate.vantage import Promise, Vantage
from portolan.evidence.outcome import Outcome
from portolan.journey.promise import breaches, promise_for, vantages_for
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.problem import EstateError

#: Turns a patch of the estate's document into the changed estate; raises EstateError when it does not fit.
Apply = Callable[[Patch], Estate]

MOST_CAUSES = 8
#: Marks under which nothing that weakens is handed out.
GUARDED = frozenset(("takes-payments", "private"))


class Remedy(NamedTuple):
    """A proven remedy, or advice that changes nothing here (`patch` empty).

    `safety` is computed from what the change lays open. `outcome` is what the visitor gets after this change and those of the
    causes before it; `complete` says whether that keeps the promise. `changes` says what else it changes for visitors.
    """

    text: str
    patch: Patch
    safety: Safety
    fixes: tuple[str, ...]
    outcome: Outcome | None
    complete: bool
    changes: tuple[str, ...] = ()


class Explanation(NamedTuple):
    """Why a visit did not get what was promised, and what mends it."""

    visit: Visit
    promise: Promise | None
    broken: tuple[str, ...]
    causes: tuple[Finding, ...]
    remedies: tuple[Remedy, ...]
    after: Visit | None
    withheld: tuple[str, ...] = ()

    @property
    def best(self) -> Remedy | None:
        """The remedy to hand out: the first that mends it all and does not weaken, else advice; None where there is neither."""
        every = [cause.code for cause in self.causes]
        whole = [each for each in self.remedies if each.patch and each.complete and sorted(each.fixes) == sorted(every)]
        advice = [each for each in self.remedies if not each.patch]
        return next((each for each in (*whole, *advice) if each.safety != "weakens"), None)


class _Tried(NamedTuple):
    proposal: Proposal
    world: World
    visit: Visit
    complete: bool
    exposure: Exposure


class _Step(NamedTuple):
    finding: Finding
    chosen: Proposal | None
    remedies: tuple[Remedy, ...]


def explain(world: World, text: str, vantage: Vantage, apply: Apply) -> Explanation:
    """Why a URL does not give a visitor what was promised (or a page), and the remedies, proven."""
    return _Mending(world, text, vantage, apply).run()


class _Mending:
    def __init__(self, world: World, text: str, vantage: Vantage, apply: Apply) -> None:
        self.world = world
        self.text = text
        self.vantage = vantage
        self.apply = apply
        self.promise = promise_for(world.estate, text, vantage)
        self.first = visit(world, text, vantage)
        self.withheld: list[str] = []
        #: Causes that turned out not to be needed, by code and object.
        self.spared: set[tuple[str, str]] = set()
        self._kept_before: list[tuple[Promise, Vantage]] | None = None

    def run(self) -> Explanation:
        """Looks for causes until none is left, then drops those that were not needed."""
        broken = breaches(self.promise, self.first)
        if not broken:
            return Explanation(self.first, self.promise, (), (), (), None)
        steps, final = self._steps()
        if final is not None and len(steps) > 1:
            steps, final = self._needed(steps, final)
        remedies = [remedy for step in steps for remedy in step.remedies]
        if final is not None and len(steps) > 1:
            remedies.insert(0, self._together(steps, final))
        causes = tuple(step.finding for step in steps)
        return Explanation(self.first, self.promise, broken, causes, tuple(remedies), final, tuple(self.withheld))

    def _steps(self) -> tuple[list[_Step], Visit | None]:
        steps: list[_Step] = []
        patch: Patch = []
        world, current = self.world, self.first
        while len(steps) < MOST_CAUSES:
            found = [
                each
                for each in recognise(Case(world, current, self.promise))
                if (each.code, each.object) not in self.spared
            ]
            step, following = self._step(world, current, patch, found, steps)
            if step is None:
                break
            steps.append(step)
            if step.chosen is None or following is None:
                return steps, None
            patch = [*patch, *step.chosen.patch]
            world, current = following
            if not breaches(self.promise, current):
                return steps, current
        return steps, None

    def _step(
        self, world: World, current: Visit, patch: Patch, found: list[Finding], before: list[_Step]
    ) -> tuple[_Step | None, tuple[World, Visit] | None]:
        """The first cause with a remedy that proves right; else the first cause, with advice only."""
        fallback: _Step | None = None
        known = {(step.finding.code, step.finding.object) for step in before}
        for finding in found:
            if (finding.code, finding.object) in known:
                continue
            step, following = self._remedied(world, current, patch, finding)
            if step.chosen is not None:
                return step, following
            fallback = fallback or step
        return fallback, None

    def _remedied(
        self, world: World, current: Visit, patch: Patch, finding: Finding
    ) -> tuple[_Step, tuple[World, Visit] | None]:
        """Every proposal for a cause, tried and weighed: the safest first."""
        asked = Asked(self.text, self.vantage, self.promise, self._marks(current))
        advice: list[Remedy] = []
        tried: list[_Tried] = []
        for proposal in proposals(Case(world, current, self.promise), finding):
            if not proposal.patch:
                advice.append(Remedy(proposal.text, [], "outside", (finding.code,), None, False))
                continue
            result = self._try([*patch, *proposal.patch], finding, current)
            if result is None:
                continue
            laid_open = exposure(world, result[0], asked, result[1])
            if laid_open.closed:
                self.withheld.append(f"{proposal.text}: the refusal is marked as meant")
                continue
            tried.append(_Tried(proposal, *result, not breaches(self.promise, result[1]), laid_open))
        weighed = [(_class_of(each, tried), each) for each in tried]
        if asked.marks & GUARDED:
            self.withheld += [each.proposal.text for safety, each in weighed if safety == "weakens"]
            weighed = [(safety, each) for safety, each in weighed if safety != "weakens"]
        # What completes comes before what only leads on, within its class of safety.
        weighed.sort(key=lambda pair: (ORDER[pair[0]], not pair[1].complete))
        if any(each.complete for _, each in weighed):
            weighed = [pair for pair in weighed if pair[1].complete]
        remedies = [
            Remedy(
                each.proposal.text,
                each.proposal.patch,
                safety,
                (finding.code,),
                each.visit.outcome,
                each.complete,
                self._other_changes(world, each.world, each.exposure),
            )
            for safety, each in weighed
        ]
        ordered = sorted([*remedies, *advice], key=lambda each: ORDER[each.safety])
        if not weighed:
            return _Step(finding, None, tuple(ordered)), None
        best = weighed[0][1]
        return _Step(finding, best.proposal, tuple(ordered)), (best.world, best.visit)

    def _try(self, patch: Patch, finding: Finding, current: Visit) -> tuple[World, Visit] | None:
        """The world and visit after a patch, when it keeps the promise or meets another fault; else None."""
        try:
            world = self.world.changed(self.apply(patch))
            vantage = world.estate.vantages.get(self.vantage.name, self.vantage)
            after = visit(world, self.text, vantage)
        except (EstateError, BadUrlError):
            return None
        if breaches(self.promise, after):
            again = {(each.code, each.object) for each in recognise(Case(world, after, self.promise))}
            if not again and after.outcome == current.outcome and _stop_of(after) == _stop_of(current):
                return None
            if (
                (finding.code, finding.object) in again
                or len(after.exchanges) < len(current.exchanges)
                or (_depth(after) < _depth(current))
            ):
                return None
        return None if self._breaks_others(world) else (world, after)

    def _breaks_others(self, world: World) -> bool:
        """Whether a promise that was kept is not kept any more."""
        if self._kept_before is None:
            self._kept_before = []
            for promise in self.world.estate.promises:
                for vantage in vantages_for(self.world.estate, promise):
                    if promise is self.promise and vantage.name == self.vantage.name:
                        continue
                    if not _breached(self.world, promise, vantage):
                        self._kept_before.append((promise, vantage))
        return any(
            _breached(world, promise, world.estate.vantages.get(vantage.name, vantage))
            for promise, vantage in self._kept_before
        )

    def _marks(self, current: Visit) -> frozenset[str]:
        """The marks of what was asked for: of the expectation, of the site expected, of the one met, and of those with the name."""
        found = set(self.promise.marks) if self.promise is not None else set()
        promised = self.promise.page.partition("/")[0] if self.promise is not None and self.promise.page else None
        hosts = {exchange.url.host.rstrip(".") for exchange in (*self.first.exchanges, *current.exchanges)}
        met = {
            exchange.response.site
            for exchange in (*self.first.exchanges, *current.exchanges)
            if exchange.response is not None
        }
        for machine in machines(self.world.estate):
            for service in machine.services.values():
                for site in service.sites.values():
                    if site.name == promised or site in met or hosts & set(site.names):
                        found.update(site.marks)
        return frozenset(found)

    def _other_changes(self, before: World, after: World, laid_open: Exposure) -> tuple[str, ...]:
        """Promises that are newly kept, and what is laid open."""
        found = []
        for promise in self.world.estate.promises:
            for vantage in vantages_for(self.world.estate, promise):
                if promise is self.promise and vantage.name == self.vantage.name:
                    continue
                if _breached(before, promise, vantage) and not _breached(
                    after, promise, after.estate.vantages.get(vantage.name, vantage)
                ):
                    found.append(f"keeps the promise of {promise.url} from {vantage.name} too")
        rest = () if laid_open.whole else ("the estate is large: not everybody's way to every listener was compared",)
        return (*found, *laid_open.told, *rest)

    def _needed(self, steps: list[_Step], final: Visit) -> tuple[list[_Step], Visit]:
        """Takes away every cause without whose remedy the promise is kept all the same.

        What is left is worked out anew, so that each remedy tells what it does without the one taken away.
        """
        at = 0
        while at < len(steps) and len(steps) > 1:
            rest = steps[:at] + steps[at + 1 :]
            patch: Patch = [change for step in rest if step.chosen for change in step.chosen.patch]
            try:
                world = self.world.changed(self.apply(patch))
                after = visit(world, self.text, world.estate.vantages.get(self.vantage.name, self.vantage))
                kept = not breaches(self.promise, after)
            except (EstateError, BadUrlError):
                kept = False
            if not kept:
                at += 1
                continue
            self.spared.add((steps[at].finding.code, steps[at].finding.object))
            again, after_all = self._steps()
            if after_all is not None and len(again) <= len(rest):
                steps, final, at = again, after_all, 0
            else:
                steps = rest
        return steps, final

    def _together(self, steps: list[_Step], final: Visit) -> Remedy:
        patch: Patch = [change for step in steps if step.chosen for change in step.chosen.patch]
        text = "; then ".join(step.chosen.text for step in steps if step.chosen)
        world = self.world.changed(self.apply(patch))
        asked = Asked(self.text, self.vantage, self.promise, self._marks(self.first))
        laid_open = exposure(self.world, world, asked, final)
        own = {remedy.text: remedy.safety for step in steps for remedy in step.remedies}
        worst = max((own.get(step.chosen.text, "safe") for step in steps if step.chosen), key=lambda each: ORDER[each])
        safety = max((worst, laid_open.safety), key=lambda each: ORDER[each])
        return Remedy(
            text,
            patch,
            safety,
            tuple(step.finding.code for step in steps),
            final.outcome,
            True,
            self._other_changes(self.world, world, laid_open),
        )


def _class_of(each: _Tried, tried: list[_Tried]) -> Safety:
    """What the change lays open by itself; `weakens` where a smaller form of it does as well (house rule: no more than needed)."""
    own = each.exposure.safety
    smaller = any(
        other.complete >= each.complete
        and other.exposure.beside < each.exposure.beside
        and other.exposure.safety != "weakens"
        for other in tried
    )
    return "weakens" if own == "opens" and smaller else own


def _stop_of(found: Visit) -> tuple[str, str]:
    return (found.stop.kind, found.stop.text) if found.stop is not None else ("", "")


def _depth(found: Visit) -> int:
    """How far the last exchange came."""
    last = found.exchanges[-1]
    if last.response is not None:
        return 4
    if last.handshake is not None:
        return 3
    return 2 if last.attempts else 1


def _breached(world: World, promise: Promise, vantage: Vantage) -> bool:
    try:
        return bool(breaches(promise, visit(world, promise.url, vantage)))
    except BadUrlError:
        return True
