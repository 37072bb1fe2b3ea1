"""What is asked, and trying a change in thought: what it does to every expectation, and to whoever is told."""

from collections.abc import Callable, Iterable
from functools import cached_property

from portolan.diagnosis.base import Case, Finding
from portolan.diagnosis.edge_base import edge_asked
from portolan.diagnosis.exposure import Exposure
from portolan.diagnosis.exposure_reach import for_some_only
from portolan.diagnosis.gains import Asked
from portolan.diagnosis.proposal import Patch, Proposal, Safety
from portolan.estate.estate import Estate
from portolan.estate.guesses import changed_machines, machines
from portolan.estate.service import sites_of
from portolan.estate.url import BadUrlError
from portolan.estate.vantage import Expectation, Vantage
from portolan.evidence.outcome import Kind, Outcome
from portolan.journey.expectation import Miss, expectation_for, misses, vantages_for
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.place import Place
from portolan.source.problem import EstateError
from portolan.source.value import Value

#: Turns a patch of the estate's document into the changed estate; raises EstateError when it does not fit.
Apply = Callable[[Patch], Estate]
#: An expectation, and a vantage that it is for.
Other = tuple[Expectation, Vantage]


class Remedy(Value, frozen=True):
    """A proven remedy, or advice that changes nothing here (`patch` empty).

    `safety` is computed from what the change lays open. `outcome` is what the visitor gets after this change and those of the
    causes before it; `complete` says whether that meets the expectation. `changes` says what else it changes for visitors.
    """

    text: str
    patch: Patch
    safety: Safety
    fixes: tuple[str, ...]
    outcome: Outcome | None
    complete: bool
    changes: tuple[str, ...] = ()
    #: What has to change; None where several things have to.
    place: Place | None = None
    #: The cause that it mends, by its number from 1; 0 for all of them.
    cause: int = 0
    #: Where its parts depend on each other: in which order they are done, each state proven.
    steps: tuple["Taken", ...] = ()
    #: Without a patch: what the visitor should ask instead, and from where, proven by asking it.
    ask: tuple[str, str] | None = None


class Taken(Value, frozen=True):
    """One step of a remedy, and what the visitor gets when it and those before it are done."""

    text: str
    patch: Patch
    outcome: Outcome


class Explanation(Value, frozen=True):
    """Why a visit did not get what was expected, and what mends it."""

    visit: Visit
    expectation: Expectation | None
    missed: tuple[Miss, ...]
    causes: tuple[Finding, ...]
    remedies: tuple[Remedy, ...]
    after: Visit | None
    withheld: tuple[str, ...] = ()
    #: Other sets of causes, each of which would explain it by itself.
    other_causes: tuple[tuple[Finding, ...], ...] = ()
    #: Whether more changes could have been tried than the bound allows.
    bounded: bool = False

    @property
    def best(self) -> Remedy | None:
        """The remedy to hand out: the first that mends it all and does not weaken, else advice; None where there is neither."""
        instead = [each for each in self.remedies if each.ask is not None]
        every = [cause.code for cause in self.causes]
        whole = [each for each in self.remedies if each.patch and each.complete and sorted(each.fixes) == sorted(every)]
        advice = [each for each in self.remedies if not each.patch]
        return next((each for each in (*instead, *whole, *advice) if each.safety is not Safety.WEAKENS), None)


class Step(Value, frozen=True):
    """A cause with what mends it; `chosen` is what the search went on with."""

    finding: Finding
    chosen: Proposal | None
    remedies: tuple[Remedy, ...]
    #: In which exchange of the visit it was met.
    leg: int = 0

    @property
    def safety(self) -> Safety | None:
        """What the remedy that was chosen lays open; None where none was chosen, or it is not handed out."""
        text = self.chosen.text if self.chosen is not None else None
        return next((each.safety for each in self.remedies if each.text == text), None)


def patch_of(steps: Iterable[Step]) -> Patch:
    """The changes of all steps, one after another."""
    return [change for each in steps if each.chosen is not None for change in each.chosen.patch]


class Trial:
    """A question in a world, and what changes of that world do to it and to all others that are expected."""

    def __init__(self, world: World, text: str, vantage: Vantage, apply: Apply) -> None:
        self.world = world
        self.text = text
        self.vantage = vantage
        self.apply = apply
        self.expectation = expectation_for(world.estate, text, vantage)
        self.first = visit(world, text, vantage)
        self.withheld: list[str] = []
        self._known_others: tuple[list[Other], list[Other]] | None = None

    def changed(self, patch: Patch) -> tuple[World, Visit] | None:
        """The world after a change, and what the visitor gets in it; None where it leaves no estate."""
        try:
            world = self.world.changed(self.apply(patch))
            return world, visit(world, self.text, world.there(self.vantage))
        except (EstateError, BadUrlError):
            return None

    def mended(self, world: World) -> int:
        """How many of the missed expectations a world meets, in which the one that is asked about is met."""
        return 1 + sum(not missing_in(world, each, world.there(vantage)) for each, vantage in self.others()[1])

    def others(self) -> tuple[list[Other], list[Other]]:
        """Every other expectation with every vantage that it is for: those that are met now, and those that are missed."""
        if self._known_others is None:
            met: list[Other] = []
            missed: list[Other] = []
            for expectation in self.world.estate.expected:
                for vantage in vantages_for(self.world.estate, expectation):
                    if expectation is not self.expectation or vantage.name != self.vantage.name:
                        held = missed if missing_in(self.world, expectation, vantage) else met
                        held.append((expectation, vantage))
            self._known_others = met, missed
        return self._known_others

    def breaks_others(self, world: World) -> bool:
        """Whether an expectation that was met is not met any more, or somebody newly gets a page who is meant to be refused."""
        if any(missing_in(world, each, world.there(vantage)) for each, vantage in self.others()[0]):
            return True
        return any(
            visit(world, each.url, world.there(vantage)).outcome.kind is Kind.SERVED for each, vantage in self._refused
        )

    @cached_property
    def _refused(self) -> list[Other]:
        """The expectations of a refusal that are missed, and where no page comes either."""
        return [
            (each, vantage)
            for each, vantage in self.others()[1]
            if each.status is not None
            and each.status >= 400
            and visit(self.world, each.url, vantage).outcome.kind is not Kind.SERVED
        ]

    def asked_for(self, current: Visit) -> Asked:
        """What is asked for, by whom, and what that says of who is meant to get it."""
        case = Case(self.world, self.first, self.expectation)
        return Asked(
            self.text, self.vantage, self.expectation, self._marks(current), self._closed(), for_some_only(case)
        )

    def _closed(self) -> bool:
        """Whether what is asked for is meant to be refused: the expectation says so, or the site, edge or bucket expected."""
        expectation, estate = self.expectation, self.world.estate
        if expectation is None:
            return False
        if "closed" in expectation.marks:
            return True
        met = [edge for edge in map(edge_asked, self.first.tree) if edge is not None]
        marks = [edge.marks for edge in met]
        for machine in machines(estate):
            for service in machine.services.values():
                marks += [site.marks for site in sites_of(service).values() if site.name == expectation.site]
        for store in estate.stores.values():
            marks += [bucket.marks for bucket in store.buckets.values() if bucket.name == expectation.site]
        return any("closed" in each for each in marks)

    def _marks(self, current: Visit) -> frozenset[str]:
        """The marks of what was asked for: of the expectation, of the site expected, of the one met, and of those with the name."""
        found = set(self.expectation.marks) if self.expectation is not None else set()
        expected = self.expectation.site if self.expectation is not None else None
        hosts = {exchange.url.host.rstrip(".") for exchange in (*self.first.tree, *current.tree)}
        met = {
            exchange.response.site for exchange in (*self.first.tree, *current.tree) if exchange.response is not None
        }
        for machine in machines(self.world.estate):
            for service in machine.services.values():
                for site in sites_of(service).values():
                    if site.name == expected or site in met or hosts & set(site.names):
                        found.update(site.marks)
        for exchange in (*self.first.tree, *current.tree):
            edge = edge_asked(exchange)
            found.update(edge.marks if edge is not None else ())
        for store in self.world.estate.stores.values():
            for bucket in store.buckets.values():
                if bucket.name == expected or bucket in met:
                    found.update(bucket.marks)
        return frozenset(found)

    def other_changes(self, before: World, after: World, laid_open: Exposure) -> tuple[str, ...]:
        """Expectations that are newly met, and what is laid open."""
        # What was met from the start is so still, or the change would not be looked at.
        newly: dict[str, list[str]] = {}
        for each, vantage in self.others()[1]:
            if missing_in(before, each, before.there(vantage)) and not missing_in(after, each, after.there(vantage)):
                newly.setdefault(each.url, []).append(vantage.name)
        found = [f"meets what is expected of {url} from {', '.join(who)} too" for url, who in newly.items()]
        rest = () if laid_open.whole else ("the estate is large: not everybody's way to every listener was compared",)
        return (*found, *laid_open.told, *rest)

    def taken(self, parts: tuple[tuple[str, Patch], ...], before: Patch) -> tuple[Taken, ...] | None:
        """What the visitor gets after each step; None where a state on the way is no estate, or takes from somebody what was met."""
        found: list[Taken] = []
        patch = [*before]
        for text, part in parts:
            patch = [*patch, *part]
            made = self.changed(patch)
            if made is None or self.breaks_others(made[0]):
                return None
            found.append(Taken(text, part, made[1].outcome))
        return tuple(found)


def depth_of(found: Visit) -> int:
    """How far the last exchange came."""
    last = found.exchanges[-1]
    if last.response is not None:
        return 4
    if last.handshake is not None:
        return 3
    return 2 if last.attempts else 1


#: What was, and what is expected: facts of the past, of memories and of deployments that no change to a setting makes otherwise.
HISTORY = frozenset(("before", "last_asked", "looked_up", "holds", "in_effect_from", "remembers_redirects", "strict"))


def rewrites_history(patch: Patch) -> bool:
    """Whether a change is to what was, to the moment, or to what is expected: no remedy, whatever its outcome."""
    paths = [str(change["path"]).split("/")[1:] for change in patch]
    return any(path[0] in ("at", "expected", "portolan") or HISTORY & set(path[2:]) for path in paths)


def stops_services(before: World, after: World) -> bool:
    """Whether a service that runs does not start any more."""
    return any(
        after.topology.device(machine).sockets.failures.keys() - before.topology.device(was).sockets.failures.keys()
        for was, machine in changed_machines(before.estate, after.estate)
    )


def missing_in(world: World, expectation: Expectation, vantage: Vantage) -> bool:
    try:
        return bool(misses(expectation, visit(world, expectation.url, vantage)))
    except BadUrlError:
        return True
