"""How large answers are: what does not fit a datagram is asked for again over TCP (RFC 7766 section 5).

Counted as servers write them, with names compressed (RFC 1035 section 4.1.4): the head, the question, and the records.
"""

from typing import Any, Protocol

from portolan.dns.answer import Answer, Asker
from portolan.dns.servers import Reached, program_of
from portolan.dns.zone import Below, Found, Types
from portolan.estate.base import IPAddress
from portolan.evidence.kinds import zone as zone_kinds
from portolan.evidence.legs import Connection
from portolan.evidence.outcome import Detail
from portolan.programs.protocol import ResolverProgram

#: What resolvers take by UDP, and servers give (EDNS buffers since 2020: named 9.18, unbound 1.17, NSD 4.6, Knot DNS 3.2), and what
#: a device's own lookup takes without EDNS (RFC 1035 section 4.2.1).
BY_UDP, PLAIN_UDP = 1232, 512
_HEAD, _OPTION = 12, 11
#: What a cookie adds (RFC 7873 section 4): the option's head, the client's part and the server's.
COOKIE = 28
#: A record without its data: a pointer to its name, type, class, TTL, length (RFC 1035 section 3.2.1).
_RECORD = 12
_DATA = {"A": 4, "AAAA": 16}


#: Up to so many records of a type fit anywhere, whatever their name.
FEW = 8


def few(types: Types) -> bool:
    """Whether an answer is small beyond doubt."""
    return all(len(records) <= FEW for records in types.values())


def longest(name: str, types: Types) -> tuple[int, str]:
    """The octets of the largest answer to a question for addresses, and its type."""
    base = _HEAD + _OPTION + len(name) + 2 + 4
    sizes = [(base + sum(_RECORD + _DATA[kind] for _ in types.get(kind, ())), kind) for kind in _DATA]
    return max(sizes)


class Reaching(Protocol):
    """Who asks the packet engine."""

    reach: Any


class Asking(Reaching, Protocol):
    """What is asked of the walk through the zones."""

    def ways_of(self, asker: Asker) -> ResolverProgram:
        """What the resolver does as its program does it."""


def comes(
    naming: Asking, name: str, found: Found | Below | None, server: Reached | None, asker: Asker, answer: Answer
) -> bool:
    """Whether an answer of that size comes: by UDP, or by TCP where it is larger (RFC 7766 section 5)."""
    if not isinstance(found, Found) or few(found.types):
        return True
    targets = server.targets if server is not None else ()
    cookies = server is not None and program_of(server.service) == "named" and naming.ways_of(asker).asks_cookies
    return taken(naming, name, found.types, targets, asker, answer, COOKIE if cookies else 0)


def taken(
    naming: Asking,
    name: str,
    types: Types,
    targets: tuple[IPAddress, ...],
    asker: Asker,
    answer: Answer,
    more: int = 0,
) -> bool:
    """Whether a resolver takes a large answer from those that it asks, by how many records it has and how it comes; else it is noted."""
    most = naming.ways_of(asker).most_records
    crowd = next((records for records in types.values() if most is not None and len(records) > most), None)
    if crowd is not None:
        facts = (asker.label, name, len(crowd), most or 0)
        stop = zone_kinds.TooManyRecords(*facts, place=crowd[0].place, subject=crowd[0])
        answer.fail(Detail.RESOLVER_FAILURE, stop)
        return False
    size, kind = longest(name, types)
    if size + more <= BY_UDP or not targets:
        return True
    return by_tcp(naming, asker.machine, name, types[kind], size + more, targets, answer)


def by_tcp(
    naming: Reaching,
    machine: Any,
    name: str,
    records: tuple[Any, ...],
    size: int,
    targets: tuple[IPAddress, ...],
    answer: Answer,
) -> bool:
    """Whether one of those that are asked is reached by TCP, as an answer of that size needs; else it is noted."""
    lost: Connection | None = None
    for address in targets:
        connection = naming.reach(machine, address, 53, "tcp")
        if connection.arrival is not None:
            return True
        lost = lost or connection
    assert lost is not None
    reason = lost.stop.text if lost.stop is not None else "no answer"
    facts = (name, records[0].type, size, targets[0], reason)
    stop = zone_kinds.LargeNeedsTcp(*facts, place=records[0].place, subject=lost.stop)
    answer.fail(Detail.RESOLVER_FAILURE, stop)
    return False
