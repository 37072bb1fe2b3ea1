"""Faults of what a filter must let pass before anything works: known connections, neighbour discovery, loopback."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, fault, warned
from portolan.diagnosis.filtering import filter_of
from portolan.diagnosis.proposal import Patch, Proposal, append, put, remedy
from portolan.estate.base import IPAddress, is_loopback
from portolan.estate.filter import Basic, OneFilter
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.packet import State
from portolan.net.filtering import DISCOVERY


class BasicClue(msgspec.Struct, frozen=True):
    """The filter, whose it is, and what it should let pass."""

    filter: OneFilter
    owner: str
    basic: Basic


_Stop = connect_kinds.FilterDrops | connect_kinds.FilterRejects
#: Whose filter decided, the filter, and the owner's addresses.
_Held = tuple[str, OneFilter, tuple[IPAddress, ...]]


def _stopped(case: Case) -> tuple[_Stop, _Held] | None:
    """What a filter stopped, behind the basics: none pass before the chain for everything that arrives."""
    stop, found = case.stop, filter_of(case)
    if not isinstance(stop, _Stop) or found is None or stop.place is None or "arriving" in stop.place.path:
        return None
    return stop, found


@fault(
    "filter-basics-missing",
    "A filter stops neighbour discovery, or what the machine sends to itself",
    "no IPv6 at all, or nothing for the machine itself",
    "Let neighbour discovery (ICMPv6 types 133 to 136) and the loopback interface pass before the other rules.",
    "filter-drops",
    "filter-rejects",
)
def basics_missing(case: Case) -> Finding | None:
    """What was stopped is a message of neighbour discovery, or a packet of a machine to itself."""
    found = _stopped(case)
    if found is None:
        return None
    stop, (owner, filtering, own) = found
    basic: Basic | None = None
    if stop.packet.protocol in DISCOVERY:
        basic = "neighbour-discovery"
    elif _is_own(stop.packet.src, own) and _is_own(stop.packet.dst, own):
        basic = "loopback"
    if basic is None or filtering.passes(basic):
        return None
    clue = BasicClue(filter=filtering, owner=owner, basic=basic)
    why = "without neighbour discovery there is no IPv6" if basic != "loopback" else f"{owner} sent it to itself"
    return Finding("filter-basics-missing", f"{stop.text}; {why}", stop.place, clue=clue)


@fault(
    "filter-replies-forgotten",
    "A filter lets connections in or out, and not what belongs to them afterwards",
    "a time-out, before or after the connection opens",
    "Let packets of known connections (the states established and related) pass before the other rules.",
    "filter-drops",
    "filter-rejects",
)
def replies_forgotten(case: Case) -> Finding | None:
    """What was stopped belongs to a connection that was let in, or out."""
    found = _stopped(case)
    if found is None:
        return None
    stop, (owner, filtering, _) = found
    if filtering.passes("known-connections") or stop.packet.state not in (State.ESTABLISHED, State.RELATED):
        return None
    clue = BasicClue(filter=filtering, owner=owner, basic="known-connections")
    text = f"{stop.text}; it belongs to a connection that was let pass, and no rule takes what follows"
    return Finding("filter-replies-forgotten", text, stop.place, clue=clue)


warned(
    "filter-basics-unsaid",
    "A filter drops, and does not say what passes before its rules",
    "nothing, as long as neighbour discovery does pass: a warning",
    "Say 'basics': what the machine's rules let pass first. Written by hand, rules often forget neighbour discovery (ICMPv6 "
    "types 133 to 136).",
    __name__,
)


def _is_own(address: IPAddress, own: tuple[IPAddress, ...]) -> bool:
    return address in own or is_loopback(address)


# -- remedies --

_WHAT: dict[Basic, str] = {
    "loopback": "what the machine sends to itself (the interface lo)",
    "neighbour-discovery": "neighbour discovery",
    "known-connections": "packets of known connections (the states established and related)",
}


@remedy("filter-basics-unsaid")
def say_basics(_case: Case, _clue: object) -> Iterator[Proposal]:
    """Only a look at the machine tells."""
    yield Proposal("look at the machine's rules, and write 'basics' with what they let pass first", [])


@remedy("filter-basics-missing", "filter-replies-forgotten")
def let_pass_first(_case: Case, clue: BasicClue) -> Iterator[Proposal]:
    """Lets it pass before the rules."""
    filtering = clue.filter
    patch: Patch = (
        append(filtering.place, "basics", clue.basic)
        if filtering.basics is not None
        else put(filtering.place, "stateful", True)
    )
    yield Proposal(f"let {_WHAT[clue.basic]} pass first in {clue.owner}'s filter", patch)
