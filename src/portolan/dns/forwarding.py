"""Resolvers that pass questions on: by zone or all, to resolvers and to name servers; and what a name server alone answers."""

from typing import Any, Protocol

from portolan.dns.answer import Answer, Asker
from portolan.dns.memory import FAILED
from portolan.dns.sizes import few, taken
from portolan.dns.tree import Tree, within
from portolan.dns.versions import Held, version_at
from portolan.dns.zone import Below, Cut, Found
from portolan.estate.base import IPAddress
from portolan.estate.service import NameServer, Resolver, Service
from portolan.estate.zone import Zone
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.kinds import zone as zone_kinds
from portolan.evidence.outcome import Detail
from portolan.programs.protocol import ResolverProgram


class Passing(Protocol):
    """What passing on asks of the walk through the zones."""

    tree: Tree
    now: Any
    #: Whether any resolver of the estate does not look some names up on purpose.
    refusing: bool

    #: Asks the packet engine, and whether some described box has an address.
    reach: Any
    described: Any

    def ask(self, *args: Any, **facts: Any) -> None:
        """Puts a question to whoever has an address."""

    def look(
        self, name: str, zone: Zone, held: Held, answer: Answer, server: Service | None
    ) -> Found | Below | Cut | None:
        """What one version of a zone says about a name."""

    def fresh(self, name: str, asker: Asker, answer: Answer) -> Found | Below | None:
        """What stands at a name, from no memory."""

    def ways_of(self, asker: Asker) -> ResolverProgram:
        """What the resolver does as its program does it."""


def passes_to(service: Resolver | None, name: str) -> tuple[tuple[IPAddress, ...], str]:
    """Whom a resolver passes a name on to, by its most particular setting, and the key of that; nobody: it asks by itself."""
    if service is None:
        return (), "forwards_to"
    zone = max((each for each in service.forwards_zones if within(name, each)), key=len, default=None)
    return (service.forwards_to, "forwards_to") if zone is None else (service.forwards_zones[zone], "forwards_zones")


def passed_on(naming: Passing, name: str, asker: Asker, answer: Answer) -> Found | Below | None:
    """A forwarding resolver: the first of its resolvers that answers, decides.

    What a name server answers to it is no more than that one's zones hold: an alias out of them is asked for anew, and where it
    names others (a referral) nothing is found there.
    """
    service, machine = asker.service, asker.machine
    assert service is not None
    addresses, by = passes_to(service, name)
    place = service.place.key(by)
    key = f"{asker.label}/{service.name}"
    if key in asker.passed:
        answer.fail(Detail.RESOLVER_FAILURE, name_kinds.ResolversInCircle(place=place, subject=service))
        return None
    for number, address in enumerate(addresses):
        answer.decisions.append(name_kinds.ResolverPassesOn(asker.label, address, place=place, subject=service))
        inner = Answer()
        naming.ask(
            name, machine or asker.label, address, inner, place, (*asker.passed, key), asker.validates, at=asker.at
        )
        answer.decisions += inner.decisions
        last = number + 1 == len(addresses)
        if (inner.detail in FAILED or inner.referred) and not last:
            continue
        answer.aliases += inner.aliases
        answer.zone = inner.zone
        if inner.leads_out:
            # The answer is an alias without its target: the resolver asks for that as for any name.
            target, here = inner.aliases[-1], f"{key} {name}"
            if here in asker.passed or target == name:
                chain = f"{name} -> {target}"
                answer.fail(Detail.RESOLVER_FAILURE, name_kinds.AliasLoop(chain, place=place, subject=service))
                return None
            return naming.fresh(target, asker.but(passed=(*asker.passed, here)), answer)
        if inner.detail is not None:
            ways = naming.ways_of(asker)
            endless = any(isinstance(each, zone_kinds.DnameEndless) for each in inner.decisions[-1:])
            failed = inner.detail in FAILED or (inner.referred and not ways.referred_is_empty)
            # Whoever follows an answer's aliases by itself meets what never ends.
            failed = failed or (endless and ways.fails_on_endless)
            answer.detail = Detail.RESOLVER_FAILURE if failed else inner.detail
            return None
        if inner.aliases and naming.refusing and not _alias_asked(naming, asker, address, inner, answer):
            return None
        described = (address,) if naming.described(address) else ()
        if not few(inner.types) and not taken(naming, name, inner.types, described, asker, answer):
            return None
        return Found(inner.types)
    return None


def _alias_asked(naming: Passing, asker: Asker, address: IPAddress, inner: Answer, answer: Answer) -> bool:
    """Whether an alias's target is answered for where a forwarding resolver asks for it by itself, as they do."""
    service = asker.service
    assert service is not None
    for target in dict.fromkeys(inner.aliases):
        again = Answer()
        passed = (*asker.passed, f"{asker.label}/{service.name}")
        naming.ask(target, asker.machine or asker.label, address, again, service.place, passed, at=asker.at)
        refuses = again.decisions and isinstance(again.decisions[-1], name_kinds.ResolverRefuses)
        if again.detail is not None and refuses:
            answer.fail(again.detail, again.decisions[-1])
            return False
    return True


def authoritative(naming: Passing, name: str, service: NameServer, client: IPAddress | None, answer: Answer) -> None:
    """What a name server without recursion answers; it follows aliases within its own zones."""
    seen: set[str] = set()
    while True:
        zone = naming.tree.holding(name, service)
        if zone is None and not seen:
            answer.fail(
                Detail.REFUSED,
                name_kinds.ResolverNotRecursive(service.name, name, place=service.place, subject=service),
            )
            return
        if zone is None or name in seen:
            answer.leads_out = zone is None
            facts = (next(iter(seen)), name)
            answer.fail(Detail.NO_ADDRESS, zone_kinds.OutOfZone(*facts, place=service.place, subject=service))
            return
        seen.add(name)
        found = naming.look(name, zone, version_at(zone, naming.now, client), answer, service)
        if found is None:
            return
        if isinstance(found, Cut):
            answer.referred = True
            answer.fail(Detail.NO_ADDRESS, zone_kinds.Referred(name, place=found.servers[0].place, subject=service))
            return
        if isinstance(found, Below):
            name = found.renamed(name)
            answer.aliases.append(name)
        elif "CNAME" in found.types:
            record = found.types["CNAME"][0]
            answer.decisions.append(name_kinds.Alias(name, record.data, place=record.place, subject=record))
            answer.aliases.append(record.data)
            name = record.data
        else:
            answer.types, answer.name = found.types, name
            return
