"""Two states of an estate side by side: what differs for visitors, who gains and loses access, which expectations change."""

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import Literal

import msgspec

from portolan.diagnosis.asking import missed_at
from portolan.diagnosis.exposure import besides
from portolan.diagnosis.gains import Asked as Meant
from portolan.diagnosis.gains import Gain
from portolan.diagnosis.policy import with_policy_of
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines, whole_edges
from portolan.estate.names import is_exact
from portolan.estate.service import sites_of
from portolan.estate.url import BadUrlError, parse
from portolan.estate.vantage import Expectation, Vantage
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.legs import Exchange
from portolan.evidence.outcome import Outcome
from portolan.journey.expectation import expected_urls, vantages_for
from portolan.journey.question import UnknownPlaceError, place
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.place import Span
from portolan.source.value import Value
from portolan.surveying.cells import without
from portolan.surveying.exposed import MACHINES, Exposed, Reached, exposed, shown_ranges

#: So many questions are asked of both; a larger estate's are those that it expects something of first.
MOST_ASKED = 20_000
What = Literal["outcome", "page", "redirects", "way", "security"]


class Seen(Value, frozen=True):
    """What a visitor got, and by what way: the addresses asked, the programs met, how safe each leg was."""

    outcome: Outcome
    redirects: tuple[str, ...]
    way: tuple[str, ...]
    legs: tuple[int, ...]


#: How safe a leg is, in words, by its rank.
SAFETY = ("plain", "encrypted and not verified", "encrypted and verified")


class Difference(Value, frozen=True):
    """A question with another answer: what differs of it, and whether a leg of its way is less safe than before."""

    url: str
    vantage: str
    what: tuple[What, ...]
    before: Seen
    after: Seen
    weaker: bool = False


class Changed(Value, frozen=True):
    """An expectation that is met on one side only; `span` is where it stands, `missed` what is not as expected."""

    url: str
    vantage: str
    span: Span | None
    missed: tuple[str, ...]


class Access(Value, frozen=True):
    """Somebody who gains, or loses, access to a program at an address and port."""

    who: str
    machine: str
    service: str
    at: str
    protocol: str
    everybody: bool


class Compared(Value, frozen=True):
    """Two states side by side. `opened` and `weakened` say in sentences what else is laid open, and what is less safe."""

    at: datetime
    questions: int
    left: int
    differences: tuple[Difference, ...]
    broken: tuple[Changed, ...]
    mended: tuple[Changed, ...]
    #: Missed on both sides; and how many are met on both, stated on the second side only, and on the first only.
    still_missed: int
    still_met: int
    newly_stated: int
    stated_no_more: int
    gained: tuple[Access, ...]
    lost: tuple[Access, ...]
    opened: tuple[str, ...]
    weakened: tuple[str, ...]

    def worse(self, named: Iterable[str]) -> bool:
        """Whether an expectation is newly missed, or something happens that is named: `opens`, `breaks`, `weakens`."""
        opens = bool(self.gained or self.opened)
        weakens = bool(self.weakened) or any(each.weaker for each in self.differences)
        return bool(self.broken) or ("opens" in named and opens) or ("weakens" in named and weakens)


def compared(before: World, after: World) -> Compared:
    """What differs between two states of an estate."""
    asked, left = _questions(before, after)
    differences = []
    for url, name in asked:
        pair = _both(before, after, url, name)
        if pair is not None:
            found = difference(url, name, *pair)
            differences += [found] if found is not None else []
    broken, mended, still = _expected(before, after)
    gained, lost = _access(before, after)
    opened, weakened = _laid_open(before, after, asked)
    return Compared(
        after.now,
        len(asked),
        left,
        tuple(differences),
        broken,
        mended,
        *still,
        gained,
        lost,
        opened,
        weakened,
    )


# -- what visitors get --


def seen(found: Visit) -> Seen:
    """A visit as it is compared with another."""
    tree = list(found.tree)
    return Seen(
        found.outcome,
        tuple(str(each.url) for each in found.exchanges),
        tuple(_met(each) for each in tree),
        # Where nobody answered, nothing was said that somebody could read on the way.
        tuple(_safety(each) for each in tree if each.response is not None),
    )


def _met(each: Exchange) -> str:
    """The program that an exchange came to, or how it ended."""
    connection = each.connection
    if connection is None:
        return f"{each.url.host}: {each.detail or 'not asked'}"
    if connection.arrival is None:
        return f"{connection.address} port {connection.port}: {connection.detail}"
    arrival = connection.arrival
    return f"{arrival.machine.name}: {arrival.service.name}"


def _safety(each: Exchange) -> int:
    """How safe an exchange is, as a number of `SAFETY`."""
    if each.handshake is None:
        return 0
    unchecked = any(isinstance(one, tls_kinds.Unchecked) for one in each.handshake.decisions)
    return 1 if unchecked else 2


def difference(url: str, vantage: str, before: Seen, after: Seen) -> Difference | None:
    """What differs between two answers to a question; None where nothing does."""
    one, other = before.outcome, after.outcome
    what: list[What] = []
    if (one.kind, one.detail, one.status) != (other.kind, other.detail, other.status):
        what.append("outcome")
    if one.page != other.page:
        what.append("page")
    if before.redirects != after.redirects:
        what.append("redirects")
    if before.way != after.way:
        what.append("way")
    if before.legs != after.legs:
        what.append("security")
    return Difference(url, vantage, tuple(what), before, after, _weaker(before, after)) if what else None


def _weaker(before: Seen, after: Seen) -> bool:
    """Whether a leg is less safe than it was, or, where there are other legs, the weakest of them."""
    if len(before.legs) == len(after.legs):
        return any(now < then for then, now in zip(before.legs, after.legs, strict=True))
    return bool(before.legs and after.legs) and min(after.legs) < min(before.legs)


def _both(before: World, after: World, url: str, name: str) -> tuple[Seen, Seen] | None:
    """What a question comes to on both sides; None where one of them has no such place."""
    try:
        one, here, _ = place(before, name)
        other, there, _ = place(after, name)
        return seen(visit(one, url, one.there(here))), seen(visit(other, url, other.there(there)))
    except (UnknownPlaceError, BadUrlError):
        return None


def _questions(before: World, after: World) -> tuple[list[tuple[str, str]], int]:
    """What is asked of both: all that either expects, then every name that either serves, plainly and securely."""
    found: dict[tuple[str, str], None] = {}
    for world in (after, before):
        for expectation, _ in expected_urls(world.estate):
            for vantage in vantages_for(world.estate, expectation):
                found[str(expectation.url), vantage.name] = None
    places = list(dict.fromkeys(each.name for world in (after, before) for each in _written(world)))
    for url in dict.fromkeys(url for world in (after, before) for url in _names(world.stated)):
        for name in places:
            found[url, name] = None
    every = list(found)
    return every[:MOST_ASKED], max(0, len(every) - MOST_ASKED)


def _written(world: World) -> list[Vantage]:
    every = list(world.estate.vantages.values())
    return [each for each in every if each.written] or every


def _usable(url: str) -> bool:
    try:
        parse(url)
    except BadUrlError:
        return False
    return True


def _names(estate: Estate) -> Iterator[str]:
    """The addresses of every name that sites and edges answer to."""
    sites = [
        str(name)
        for machine in machines(estate)
        for service in machine.services.values()
        for site in sites_of(service).values()
        for name in site.names
    ]
    edges = [str(name) for edge in whole_edges(estate) for name in edge.names]
    for name in (*sites, *edges):
        for url in (f"https://{name}/", f"http://{name}/"):
            if is_exact(name) and _usable(url):
                yield url


# -- expectations --

_Expected = tuple[str, str, str | None, str | None, bool | None, int | None]


def _facts(each: Expectation, vantage: Vantage) -> _Expected:
    final = str(each.final) if each.final is not None else None
    return (str(each.url), vantage.name, each.page, final, each.secure, each.status)


def _judged(world: World) -> dict[_Expected, tuple[Expectation, Vantage]]:
    """Every expectation of a world from every place, by what it says."""
    return {
        _facts(each, vantage): (each, vantage)
        for each, _ in expected_urls(world.estate)
        for vantage in vantages_for(world.estate, each)
    }


def _expected(
    before: World, after: World
) -> tuple[tuple[Changed, ...], tuple[Changed, ...], tuple[int, int, int, int]]:
    """Expectations newly missed, and mended; and how many are missed and met on both sides, new, and gone."""
    then, now = _judged(before), _judged(after)
    broken, mended, missed_still, met_still = list[Changed](), list[Changed](), 0, 0
    for facts, (expectation, vantage) in now.items():
        missed = _missed(after, expectation, vantage)
        known = then.get(facts)
        was = _missed(before, *known) if known is not None else ()
        changed = Changed(facts[0], facts[1], _span(expectation), missed or was)
        if missed and not was:
            broken.append(changed)
        elif was and not missed:
            mended.append(changed)
        elif missed:
            missed_still += 1
        else:
            met_still += 1
    counts = (missed_still, met_still, len(now.keys() - then.keys()), len(then.keys() - now.keys()))
    return tuple(broken), tuple(mended), counts


def _missed(world: World, expectation: Expectation, vantage: Vantage) -> tuple[str, ...]:
    _, missed = missed_at(world, expectation, vantage)
    return tuple(dict.fromkeys(one.text for each in missed for one in each.misses))


def _span(expectation: Expectation) -> Span | None:
    span = expectation.place.span
    return span if span.file != "(assumed)" else None


# -- access --


def _access(before: World, after: World) -> tuple[tuple[Access, ...], tuple[Access, ...]]:
    """Who gets through to a program now and did not, and the other way round."""
    then, now = exposed(before), exposed(after)
    return tuple(_more(then, now)), tuple(_more(now, then))


def _more(less: Exposed, more: Exposed) -> Iterator[Access]:
    """Who gets through in the second that did not in the first."""
    known = {_key(each): each for each in less.reached}
    for each in more.reached:
        held = known.get(_key(each))
        ranges = without(each.strangers, held.strangers if held is not None else ())
        if ranges:
            everybody = each.everywhere and (held is None or not held.strangers)
            yield _gains(each, "everybody on the internet" if everybody else shown_ranges(ranges), True)
        near = dict(held.near) if held is not None else {}
        for network, who in each.near:
            fresh = [
                one for one in who if one not in near.get(network, ()) and "everybody" not in near.get(network, ())
            ]
            if fresh:
                named = f"the machine {', '.join(fresh)}" if network == MACHINES else f"{', '.join(fresh)} on {network}"
                yield _gains(each, named, False)


def _key(each: Reached) -> tuple[str, str, int, str, str, int]:
    return (each.machine, each.service, each.port, each.protocol, str(each.address), each.asked)


def _gains(each: Reached, who: str, everybody: bool) -> Access:
    at = f"{each.address} port {each.asked}"
    return Access(who, each.machine, each.service, at, each.protocol, everybody)


def _laid_open(before: World, after: World, asked: list[tuple[str, str]]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """What else is newly open to somebody, and what is less safe, in sentences."""
    found: dict[tuple[str, ...], Gain] = {}
    # Who asks must be there on both sides, at the same network; who else asks is no matter of what is newly open.
    common = {
        name: each
        for name, each in after.stated.vantages.items()
        if (was := before.stated.vantages.get(name)) is not None
        and (was.network, was.host) == (each.network, each.host)
    }
    vantage = next(iter(common.values()), None)
    if vantage is not None and asked:
        now = World(msgspec.structs.replace(after.stated, vantages=common), after.now, None, after.booted)
        vantage = now.there(vantage)
        policy = with_policy_of(before.stated, now.stated)
        kept = now.changed(policy) if policy is not None else None
        meant = Meant(asked[0][0], vantage, None, frozenset())
        for gain in besides(before, now, kept, meant, visit(now, asked[0][0], vantage)):
            found.setdefault(gain.key, gain)
    opens = [each.text for each in found.values() if each.kind in ("readable", "lifted")]
    weak = [each.text for each in found.values() if each.kind in ("plain", "unencrypted", "unverified", "trusted")]
    return tuple(dict.fromkeys(opens)), tuple(dict.fromkeys(weak))
