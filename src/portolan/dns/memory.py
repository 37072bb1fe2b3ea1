"""What a cache that was filled earlier still holds: sets of records by name and type, absences by type, DNAME records, each
with an end of its own (RFC 1034 section 4.3.5, RFC 2181 section 5, RFC 2308 section 5, RFC 6672 section 3).

What was held then is found as a resolver finds it now, at that moment; how long it is kept is its program's.
"""

from datetime import datetime
from typing import Protocol

from portolan.dns.answer import Answer, Asker
from portolan.dns.versions import Held, absence_until, kept_until, version_at
from portolan.dns.zone import Below, Found, ZoneIndex
from portolan.estate.estate import Estate
from portolan.estate.records import Record
from portolan.estate.zone import Zone
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.outcome import Detail
from portolan.programs.protocol import ResolverProgram

#: The types that a visitor's device asks for, each a question of its own.
ASKED = ("A", "AAAA", "HTTPS")
#: What no other question to the same resolver would mend.
FAILED = (Detail.RESOLVER_FAILURE, Detail.RESOLVER_TIMEOUT, Detail.REFUSED)


class Resolving(Protocol):
    """What memory asks of the walk through the zones."""

    estate: Estate
    now: datetime

    def fresh(self, name: str, asker: Asker, answer: Answer) -> Found | Below | None:
        """What stands at a name at the asker's moment, from no memory."""

    def index(self, zone: Zone, held: Held | None = None) -> ZoneIndex:
        """A version of a zone made ready."""

    def ways_of(self, asker: Asker) -> ResolverProgram:
        """What the resolver does as its program does it."""


class ForgottenError(Exception):
    """Nothing is remembered of it."""


def remembered(naming: Resolving, name: str, kind: str, asker: Asker, answer: Answer) -> Found | Below | None:
    """What a cache still holds for a name and type, which is noted; None where it is that there is none.

    Raises ForgottenError where nothing is held.
    """
    since, moment = asker.since, asker.at or naming.now
    if since is None or since > moment:
        raise ForgottenError
    old = Answer()
    found = naming.fresh(name, asker.but(since=None, at=since), old)
    ways = naming.ways_of(asker)
    if isinstance(found, Below):
        _note(naming, name, "DNAME", asker, (found.record,), old.zone, answer)
        return found
    if found is not None:
        for held in ("CNAME", kind):
            if held in found.types:
                _note(naming, name, held, asker, found.types[held], old.zone, answer)
                return Found({held: found.types[held]}, found.wildcard)
    elif old.detail is not Detail.NO_SUCH_NAME or old.zone is None:
        raise ForgottenError
    zone = naming.estate.zones[old.zone or ""]
    version = version_at(zone, since, asker.client)
    until = absence_until(naming.index(zone, version), since, ways)
    expired = until <= moment
    if expired and not _gives_expired(asker):
        raise ForgottenError
    answer.zone = zone.name
    facts = (asker.label, name, when(since), when(until), kind)
    if expired:
        answer.decisions.append(name_kinds.RememberedExpired(*facts, place=version.place, subject=zone))
    stop = name_kinds.RememberedAbsent(*facts, place=version.place, subject=zone)
    answer.fail(Detail.NO_SUCH_NAME if found is None else Detail.NO_ADDRESS, stop)
    return None


def _gives_expired(asker: Asker) -> bool:
    """Whether a resolver goes on to give what has ended (RFC 8767)."""
    return asker.service is not None and asker.service.serves_expired


def _note(
    naming: Resolving,
    name: str,
    kind: str,
    asker: Asker,
    records: tuple[Record, ...],
    zone: str | None,
    answer: Answer,
) -> None:
    assert asker.since is not None
    until = kept_until(records, asker.since, naming.ways_of(asker))
    expired = until <= (asker.at or naming.now)
    if expired and not _gives_expired(asker):
        raise ForgottenError
    answer.zone = zone
    facts = (asker.label, name, when(asker.since), when(until), kind)
    subject = naming.estate.zones.get(zone or "")
    if expired:
        old = name_kinds.RememberedExpired(*facts, place=records[0].place, subject=subject)
        answer.decisions.append(old)
        return
    answer.decisions.append(name_kinds.Remembered(*facts, place=records[0].place, subject=subject))


def together(parts: list[Answer], answer: Answer) -> None:
    """One answer out of those to each type's question: addresses where any came, else the worst that was heard.

    A client that hears of no such name for one type and of no records for the other has no address (RFC 8305 section 3).
    """
    came = [part for part in parts if part.detail is None]
    leading = next((part for part in came if {"A", "AAAA"} & set(part.types)), None)
    failed = next((part for part in parts if part.detail in FAILED), None)
    if leading is None and failed is not None:
        leading = failed
    if leading is None:
        leading = next(iter(came), parts[0])
        absent = [part.detail for part in parts[:2]]
        if leading.detail is None and absent != [None, None]:
            leading = next(part for part in parts[:2] if part.detail is not None)
    seen: set[str] = set()
    for part in (leading, *(part for part in parts if part is not leading and part.detail is None)):
        for decision in part.decisions:
            if decision.text not in seen:
                seen.add(decision.text)
                answer.decisions.append(decision)
    for part in came:
        answer.types = {**answer.types, **part.types}
    answer.name, answer.zone, answer.aliases = leading.name, leading.zone, leading.aliases
    answer.detail = leading.detail
    if answer.detail is Detail.NO_SUCH_NAME and any(part.detail is not Detail.NO_SUCH_NAME for part in parts[:2]):
        answer.detail = Detail.NO_ADDRESS


def heard_now(part: Answer) -> bool:
    """Whether a resolver was told just now, not long ago, that a name does not exist."""
    told = part.decisions[-1] if part.decisions else None
    fresh = not isinstance(told, name_kinds.RememberedAbsent)
    return part.detail is Detail.NO_SUCH_NAME and part.zone is not None and fresh and not part.aliases


def when(moment: datetime) -> str:
    """A moment as decisions show it: to the second where it is not on a minute."""
    return f"{moment:%Y-%m-%d %H:%M:%S} UTC" if moment.second else f"{moment:%Y-%m-%d %H:%M} UTC"
