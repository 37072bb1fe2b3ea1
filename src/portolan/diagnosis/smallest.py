"""The smallest change: of all that might have been meant, what makes everything come true that is missed.

A change is tried in thought: the missed question first; only where that is met, the others. What breaks an expectation, stops a
service or loses content is none. The cheapest that mends most is the cause; equals are told.
"""

import re
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from portolan.diagnosis.base import Case, Finding
from portolan.diagnosis.candidate import Candidate, Wanted
from portolan.diagnosis.candidates import PROTECTIONS, candidates
from portolan.diagnosis.proposal import Patch, Proposal
from portolan.diagnosis.registry import proposals, recognise
from portolan.diagnosis.rests import absent, end_of, objects_read, sought_by
from portolan.estate.annotations import secret_keys
from portolan.estate.base import at_port
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.site import Site
from portolan.estate.slips import DEFAULT_COST, Known, apart, known, texts
from portolan.estate.url import BadUrlError, parse
from portolan.journey.visit import Visit
from portolan.journey.world import World
from portolan.source.place import Node, Place, keys_of, steps_to
from portolan.source.value import Value

#: So many changes are tried by default, and for each question of a check.
MOST_TRIED, MOST_IN_CHECK = 160, 24
#: As good as all.
EVERY = 1_000_000
#: With so many ranges that edges ask from, each visit counts once more.
_FEW_RANGES = 8
#: What costs no more than this beside another is as likely; what costs more beside a change that mends everything is not looked at.
CLEARLY = 0.3
_MARGIN = CLEARLY + 0.01


#: What a change costs beside itself, for what it lays open.
Extra = Callable[["Mend"], float]
#: Tries a change: the world and the visit where it mends what was asked, and how many expectations it mends; else None.
Attempt = Callable[[Candidate], tuple[World, Visit, int] | None]


class Try(Value, frozen=True):
    """A change to be tried, the cause that it would be, and the recogniser's proposal that it is."""

    candidate: Candidate
    finding: Finding | None
    proposal: Proposal | None


class Mend(Value, frozen=True):
    """A change that meets what was missed: how many expectations it mends, and what it costs to believe it.

    `finding` is the recogniser's where one names the same object, or proposed the change itself.
    """

    place: Place | None
    patch: Patch
    cost: float
    mended: int
    wrong: str
    proposal: Proposal
    world: World
    visit: Visit
    finding: Finding | None = None

    @property
    def rank(self) -> tuple[int, float]:
        """What mends most comes first, then what is believed most readily."""
        return (-self.mended, round(self.cost, 2))


class Sought(Value, frozen=True):
    """What is looked for: the addresses that are missed, the visits that missed them, what those ask for, and what the estate states."""

    asked: list[str]
    visits: list[Visit]
    wish: Wanted
    about: Known


#: A host and port inside a stated URL.
_AT_PORT = re.compile(r"(https?)://(?:[^/:\s]+|\[[^\]]*\]):(\d+)")


def wanted(case: Case, visits: list[Visit], asked: Iterable[str]) -> Wanted:
    """The names and ports that URLs ask for: the visitors', and those that programs ask others behind them; what leads home, and what was found nowhere."""
    estate = case.estate
    hosts: list[str] = []
    ports: list[tuple[int, bool]] = []
    missed: list[int] = []
    typed: set[str] = set()
    for text in asked:
        try:
            url = parse(text)
        except BadUrlError:
            continue
        if url.literal is None:
            hosts.append(url.host.rstrip("."))
        else:
            typed.add(str(url.literal))
        ports.append((url.port, url.secure))
        missed.append(url.port)
    for visit in visits:
        for exchange in visit.tree:
            if exchange.url.literal is None:
                hosts.append(exchange.url.host.rstrip("."))
            ports.append((exchange.url.port, exchange.url.secure))
            missed.append(exchange.url.port)
    for text in texts(estate.place.node, secret_keys()):
        ports += [(int(number), scheme == "https") for scheme, number in _AT_PORT.findall(text) if len(number) < 6]
    for machine in machines(estate):
        ports += [(forward.port, False) for forward in machine.forwards if forward.port]
    response = visits[0].exchanges[-1].response
    site = response.site if response is not None and isinstance(response.site, Site) else None
    return Wanted(
        tuple(dict.fromkeys(hosts)),
        tuple(dict.fromkeys(ports)),
        tuple(sorted(set(missed))),
        tuple(_homes(case)),
        # An address that somebody typed is what they typed, and nothing that something should have.
        frozenset[str]().union(*map(absent, visits)) - typed,
        site.place.path if site is not None else (),
        _sends(case, visits[0], site) if site is not None else None,
        frozenset[tuple[str | int, ...]]().union(*map(end_of, visits)),
    )


def sought(case: Case, visits: list[Visit], asked: list[str]) -> Sought:
    """What the missed questions ask for, and what the estate states about it."""
    wish = wanted(case, visits, asked)
    ports = [*(port for port, _ in wish.ports), *_ports(case.estate)]
    # What is led to and found nowhere may be what something should have, also where only a master file says it.
    about = known(case.estate.place.node, wish.hosts, ports, sorted(wish.absent))
    # A page is expected as SITE/PATH: its path, and every end of it, is a file that somebody has.
    for each in case.estate.expected:
        parts = (each.page or "").split("/")
        about.words.update("/".join(parts[start:]) for start in range(1, len(parts)))
    # What is asked for is a path, and lies in folders, that somebody may have meant.
    for seen in visits:
        parts = seen.exchanges[-1].url.path.split("/")
        about.words.update("/".join(parts[:end]) + "/" for end in range(2, len(parts)))
        about.words.update(["/".join(parts)])
    return Sought(asked, visits, wish, about)


def _homes(case: Case) -> Iterator[tuple[str, str]]:
    """Where the program listens that gives the page which is expected: what passes on to it leads home."""
    for home in case.sites.of_site(case.site_name) if case.site_name is not None else ():
        for address in home.machine.addresses:
            for listener in home.service.listens:
                scheme = "https" if listener.tls else "http"
                yield home.machine.name, f"{scheme}://{at_port(address, listener.port)}"


def _sends(case: Case, found: Visit, site: Site) -> dict[str, Any] | None:
    """The redirect by which the site that answered would send to the page that is expected elsewhere, or to the final address."""
    expectation = case.expectation
    if expectation is None:
        return None
    wanted, _, page = (expectation.page or "").partition("/")
    asked = found.exchanges[-1].url.path
    to = f"/{page}" if wanted == site.name and page else ""
    if expectation.final:
        to = expectation.final
    elif wanted != site.name:
        for home in case.sites.of_site(wanted):
            name = next((each for each in home.names if not each.startswith("*")), None)
            if name is not None:
                scheme = "https" if any(each.tls for each in home.service.listens) else "http"
                to = f"{scheme}://{name}" + ("{path}{query}" if page in (asked[1:], "index.html") else f"/{page}")
    if not to or to == asked:
        return None
    return {**({"when": {"path": asked}} if asked != "/" else {}), "to": to}


def tries(case: Case, what: Sought) -> Iterator[Try]:
    """What might be changed: the recognisers' proposals, then the slips of all that is stated, the likeliest first."""
    estate, findings = case.estate, recognise(case)
    for finding in findings:
        for proposal in proposals(case, finding):
            if proposal.patch and not proposal.thought:
                for each in (*_wider(proposal, what.wish), proposal):
                    cost = cost_of(each.patch, estate.place.node, what.about)
                    place = changed_place(estate, finding.place, each.patch)
                    yield Try(Candidate(place, each.patch, cost, finding.text, each.text, finding), finding, each)
    read = frozenset(("vantages", each.vantage.name) for each in what.visits).union(
        *(objects_read(estate, each) for each in what.visits)
    )
    sought = frozenset[str]().union(*map(sought_by, what.visits))
    for candidate in candidates(estate, what.about, what.wish, read, sought):
        named = next((finding for finding in findings if _same(finding.place, candidate.place)), None)
        yield Try(candidate, named, None)


def _wider(proposal: Proposal, wish: Wanted) -> Iterator[Proposal]:
    """A rule or a forward for one port, for every port that is missed: what was lost was hardly one of two alike."""
    ports = list(wish.missed)
    if len(ports) < 2 or len(proposal.patch) != 1:
        return
    (step,) = proposal.patch
    value = step.get("value")
    alone: Any = value[0] if isinstance(value, list) and len(value) == 1 else value
    if not isinstance(alone, dict):
        return

    def told(one: int) -> str:
        return f"{proposal.text}; the same for {', '.join(str(port) for port in ports if port != one)}"

    said: Any = alone.get("ports")
    one = said[0] if isinstance(said, list) and len(said) == 1 else said
    if one in ports:
        wider = {**alone, "ports": ports}
        yield Proposal(told(one), [{**step, "value": [wider] if isinstance(value, list) else wider}])
    elif isinstance(value, dict) and alone.get("tcp") in ports:
        yield Proposal(told(alone["tcp"]), [{**step, "value": {**alone, "tcp": port}} for port in ports])


def changed_place(estate: Estate, named: Place | None, patch: Patch) -> Place:
    """What a change is made to: what the recogniser named where that lies on the way, else the object that the change is in."""
    path = keys_of(patch[0]["path"])
    if named is not None and named.path and tuple(map(str, named.path[:2])) == path[:2]:
        said = tuple(map(str, named.path))
        held = len(said) - 1
        beside = len(path) > held >= 3 and path[:held] == said[:held] and path[held] != said[held]
        if path[0] == "zones" or not beside:
            return named
        # What decided is one key of a thing, and another one is changed: it is about the thing.
        path = (*path[:held], "")
    steps = steps_to(estate.place.node, path[:-1] if path[0] != "zones" else path[:2])
    if not steps:
        return estate.place
    _, name, node = steps[-1]
    return Place(tuple(key for key, _, _ in steps), node, name)


def _ports(estate: Estate) -> Iterator[int]:
    """The ports that something listens on, or is sent on from and to."""
    for machine in machines(estate):
        for service in machine.services.values():
            yield from (each.port for each in service.listens)
        for forward in machine.forwards:
            yield forward.outside.first
            if forward.port:
                yield forward.port


#: What a step of a recogniser's change costs: a value in another's place by their distance, something added, something taken away.
_ADDED, _TAKEN, _PROTECTED, _FITS = 1.9, 2.3, 2.5, 0.2
#: However many steps a known remedy has, it is one idea.
_ONE_IDEA = 2.6


def cost_of(patch: Patch, root: Node, about: Known) -> float:
    """What a recogniser's change costs, by what it writes in place of what; that it fits what ended the visit makes it likelier."""
    total = 0.0
    for step in patch:
        if step["op"] in ("move", "copy"):
            total += _ADDED
            continue
        path = keys_of(step["path"])
        steps = steps_to(root, path)
        old = list(texts(steps[-1][2])) if steps and len(steps) == len(path) else []
        new = _scalars(step.get("value"))
        gone, come = [each for each in old if each not in new], [each for each in new if each not in old]
        if step["op"] == "remove":
            gone, come = old[:1] or [""], []
        total += _exchanged(gone, come, path, about)
    return min(total, _ONE_IDEA) - _FITS


def _exchanged(gone: list[str], come: list[str], path: tuple[str, ...], about: Known) -> float:
    total = 0.0
    for number, each in enumerate(come):
        if number < len(gone):
            total += apart(gone[number], each, about) if number == 0 else 0.3
        else:
            total += _ADDED if number == 0 else 0.05
    if len(gone) > len(come):
        total += _TAKEN + (_PROTECTED if path[-1] in PROTECTIONS else 0.0)
    return total or 0.5


def _scalars(value: object) -> list[str]:
    if isinstance(value, dict):
        return [text for each in value.values() for text in _scalars(each)]
    if isinstance(value, list):
        return [text for each in value for text in _scalars(each)]
    return [] if value is None else [str(value).lower() if isinstance(value, bool) else str(value)]


def _same(one: Place | None, other: Place) -> bool:
    """Whether a finding is about what a change is made to: the very fact, or the object that holds it."""
    if one is None or not one.path:
        return False
    path, held = one.path, other.path
    return path == held or path == held[:-1] or held == path[:-1]


def mends(
    case: Case, what: Sought, attempt: Attempt, extra: Extra, bound: int, dearest: float = DEFAULT_COST
) -> tuple[list[Mend], bool]:
    """Every change within the bound that meets what was missed, the best first; and whether the bound was met.

    What costs as much as `dearest` is not looked at, nor what costs clearly more than a change that mends everything, with what that
    one lays open counted in (`extra`).
    """
    found: list[Mend] = []
    seen: set[str] = set()
    most = len(what.asked)
    # A visit to an edge asks its origin from each of its ranges, and counts for as many.
    weight = 1 + sum(len(edge.asks_from) for edge in case.estate.edges.values()) // _FEW_RANGES
    number = 0
    for tried in tries(case, what):
        each, finding, proposal = tried.candidate, tried.finding, tried.proposal
        if each.cost >= min(dearest, _best(found, most, each.cost, extra) + _MARGIN):
            if proposal is None:
                break  # they come in the order of their cost
            continue
        if str(each.patch) in seen:
            continue
        seen.add(str(each.patch))
        number += weight
        if number > bound:
            return sorted(found, key=lambda mend: mend.rank), True
        result = attempt(each)
        if result is not None:
            world, after, mended = result
            made = proposal or Proposal(each.text, each.patch)
            found.append(Mend(each.place, each.patch, each.cost, mended, each.wrong, made, world, after, finding))
    return sorted(found, key=lambda mend: mend.rank), False


def _best(found: list[Mend], most: int, cost: float, extra: Extra) -> float:
    """What the best change costs that mends everything; only of those that would keep one of a cost from being tried, what they lay open is worked out."""
    held = sorted((mend for mend in found if mend.mended >= most), key=lambda mend: mend.cost)
    best = DEFAULT_COST
    for mend in held:
        if mend.cost >= best or mend.cost + _MARGIN > cost:
            return min(best, mend.cost)
        best = min(best, mend.cost + extra(mend))
    return best
