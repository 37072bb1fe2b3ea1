"""Mends in thought: finds the cause, applies a remedy, asks again, until the visitor has what was promised.

Every remedy that is shown was proven by asking again: the promise is kept, or the next fault is met in its place; and
no other promise fares worse. A cause that turns out not to be needed is not blamed.
"""

from collections.abc import Callable
from typing import NamedTuple

from portolan.estate.base import IPAddress
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.service import Site
from portolan.estate.vantage import Promise, Vantage
from portolan.faults.base import Case, Finding
from portolan.faults.registry import recognise
from portolan.journey.promise import breaches, promise_for
from portolan.journey.visit import Outcome, Visit, visit
from portolan.journey.world import World
from portolan.remedies.base import Patch, Proposal, Safety
from portolan.remedies.registry import proposals
from portolan.source.problem import EstateError
from portolan.web.url import BadUrlError

#: Turns a patch of the estate's document into the changed estate; raises EstateError when it does not fit.
Apply = Callable[[Patch], Estate]

MOST_CAUSES = 8
#: How many questions the list of who can newly reach what may ask; a larger estate's list is left out, and said so.
MOST_REACH = 6000


class Remedy(NamedTuple):
    """A proven remedy, or advice that changes nothing here (`patch` empty).

    `outcome` is what the visitor gets after this change and those of the causes before it; `complete` says whether
    that keeps the promise. `changes` says what else it changes for visitors; None where that was not looked at.
    """

    text: str
    patch: Patch
    safety: Safety
    fixes: tuple[str, ...]
    outcome: Outcome | None
    complete: bool
    changes: tuple[str, ...] | None = ()


class Explanation(NamedTuple):
    """Why a visit did not get what was promised, and what mends it."""

    visit: Visit
    promise: Promise | None
    broken: tuple[str, ...]
    causes: tuple[Finding, ...]
    remedies: tuple[Remedy, ...]
    after: Visit | None
    withheld: tuple[str, ...] = ()


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
        for finding in found:
            known = {(step.finding.code, step.finding.object) for step in before}
            if (finding.code, finding.object) in known:
                continue
            remedies: list[Remedy] = []
            chosen: Proposal | None = None
            following: tuple[World, Visit] | None = None
            for proposal in proposals(Case(world, current, self.promise), finding):
                if proposal.safety == "weakens" and self._forbidden(current):
                    self.withheld.append(proposal.text)
                    continue
                if not proposal.patch:
                    remedies.append(Remedy(proposal.text, [], "outside", (finding.code,), None, False, ()))
                    continue
                tried = self._try([*patch, *proposal.patch], finding, current)
                if tried is None:
                    continue
                complete = not breaches(self.promise, tried[1])
                remedies.append(Remedy(proposal.text, proposal.patch, proposal.safety, (finding.code,), tried[1].outcome,
                                       complete, self._other_changes(world, tried[0])))  # fmt: skip
                better = following is None or (complete and breaches(self.promise, following[1]))
                if better and (chosen is None or proposal.safety != "weakens"):
                    chosen, following = proposal, tried
            # What completes comes before what only leads on, within its class of safety.
            remedies = [each for each in remedies if each.complete or not any(other.complete for other in remedies)
                        or not each.patch]  # fmt: skip
            step = _Step(finding, chosen, tuple(remedies))
            if chosen is not None:
                return step, following
            fallback = fallback or step
        return fallback, None

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
                for vantage in _vantages(self.world.estate, promise):
                    if promise is self.promise and vantage.name == self.vantage.name:
                        continue
                    if not _breached(self.world, promise, vantage):
                        self._kept_before.append((promise, vantage))
        return any(
            _breached(world, promise, world.estate.vantages.get(vantage.name, vantage))
            for promise, vantage in self._kept_before
        )

    def _forbidden(self, current: Visit) -> bool:
        """Whether the site asked for bears a mark that forbids unsafe fixes."""
        marked = {site.name for machine in machines(self.world.estate) for service in machine.services.values()
                  for site in service.sites.values() if "takes-payments" in site.marks}  # fmt: skip
        promised = self.promise.page.partition("/")[0] if self.promise is not None and self.promise.page else None
        response = current.exchanges[-1].response
        site = response.site if response is not None else None
        host = current.exchanges[0].url.host
        names = {site.name for machine in machines(self.world.estate) for service in machine.services.values()
                 for site in service.sites.values() if host in site.names}  # fmt: skip
        return promised in marked or (isinstance(site, Site) and site.name in marked) or bool(names & marked)

    def _other_changes(self, before: World, after: World) -> tuple[str, ...] | None:
        """Promises that are newly kept, and who can newly reach what."""
        found = []
        for promise in self.world.estate.promises:
            for vantage in _vantages(self.world.estate, promise):
                if promise is self.promise and vantage.name == self.vantage.name:
                    continue
                if _breached(before, promise, vantage) and not _breached(
                    after, promise, after.estate.vantages.get(vantage.name, vantage)
                ):
                    found.append(f"keeps the promise of {promise.url} from {vantage.name} too")
        opened = _newly_reachable(before, after)
        return None if opened is None else (*found, *opened)

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
        classes: list[Safety] = ["safe", "opens", "weakens"]
        worst = max((step.chosen.safety for step in steps if step.chosen), key=classes.index)
        text = "; then ".join(step.chosen.text for step in steps if step.chosen)
        world = self.world.changed(self.apply(patch))
        return Remedy(text, patch, worst, tuple(step.finding.code for step in steps), final.outcome, True,
                      self._other_changes(self.world, world))  # fmt: skip


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


def _vantages(estate: Estate, promise: Promise) -> list[Vantage]:
    return [vantage for name, vantage in estate.vantages.items() if not promise.vantages or name in promise.vantages]


def _breached(world: World, promise: Promise, vantage: Vantage) -> bool:
    try:
        return bool(breaches(promise, visit(world, promise.url, vantage)))
    except BadUrlError:
        return True


def _newly_reachable(before: World, after: World) -> tuple[str, ...] | None:
    """Listeners that a vantage can connect to after a change, and could not before."""
    targets: dict[tuple[IPAddress, int], None] = {}
    for machine in machines(after.estate):
        ports = {
            binding.port for binding in after.topology.device(machine).sockets.bindings if binding.protocol == "tcp"
        }
        for forward in getattr(machine, "forwards", ()):
            if forward.protocol == "tcp" and forward.outside.last - forward.outside.first < 100:
                ports |= set(range(forward.outside.first, forward.outside.last + 1))
        for interface in machine.interfaces.values():
            for item in interface.address:
                for port in sorted(ports):
                    targets[item.ip, port] = None
        for pair in getattr(machine, "one_to_one", ()):
            holder = after.topology.holder(pair.inside)
            for binding in holder.sockets.bindings if holder is not None else ():
                if binding.protocol == "tcp":
                    targets[pair.outside, binding.port] = None
    if len(targets) * len(after.estate.vantages) > MOST_REACH:
        return None
    found = []
    for name, vantage in after.estate.vantages.items():
        old = before.estate.vantages.get(name)
        for address, port in targets:
            now = after.connect(vantage, address, port).arrival
            if now is None or (old is not None and before.connect(old, address, port).arrival is not None):
                continue
            found.append(f"{name} can newly reach {now.service.name} on {now.machine.name} at {address} port {port}")
    return tuple(found)
