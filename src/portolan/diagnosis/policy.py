"""What of an estate is policy: who is let through to what, encrypted or not, and what is refused.

A change lays something open where policy lets it: what works again because a box, a service, a route or a certificate does, was let in
all the time. To tell the two apart a change is looked at once more with the policy of before.
"""

from typing import Any

import msgspec

from portolan.estate.base import same_facts
from portolan.estate.changing import Changing, reloaded
from portolan.estate.edge import EdgeService
from portolan.estate.estate import Estate
from portolan.estate.filter import Chain, Filter
from portolan.estate.network import Network
from portolan.estate.service import Listener, Service, WebService
from portolan.estate.site import Site
from portolan.estate.store import Bucket
from portolan.source.value import Value


class Facts(Value, frozen=True):
    """By kind of object: the facts that say who gets through, or how."""

    machine: tuple[str, ...]
    interface: tuple[str, ...]
    service: tuple[str, ...]
    section: tuple[str, ...]
    site: tuple[str, ...]
    edge: tuple[str, ...]
    bucket: tuple[str, ...]


_MACHINE = ("filter", "forwards", "one_to_one", "own_services_first", "hairpin")
_INTERFACE = ("groups", "provider_blocks")
_REFUSALS = ("access", "redirects", "methods", "answer", "listing")
#: All of it.
EVERYTHING = Facts(
    _MACHINE,
    _INTERFACE,
    ("grants",),
    _REFUSALS,
    (*_REFUSALS, "listens", "rule_files", "reads_rule_files"),
    ("access", "plain", "methods", "key", "key_headers", "caches"),
    ("sealed", "grants"),
)
#: What lets pages go without encryption; who may read them is another matter.
PLAINNESS = Facts(_MACHINE, _INTERFACE, (), ("redirects",), ("redirects", "listens"), ("plain",), ())


def with_policy_of(before: Estate, after: Estate, facts: Facts = EVERYTHING) -> Estate | None:
    """The changed estate with the policy of before at every object that both have; None where no policy was changed.

    What was saved already and comes into force is no new policy.
    """
    return _Keeping(facts).estate(before, after)


class _Keeping:
    """Puts facts of before back, object by object; what has none of them is what it is."""

    def __init__(self, facts: Facts) -> None:
        self.facts = facts

    def estate(self, before: Estate, after: Estate) -> Estate | None:
        """The estate; None where nothing differs."""
        kept: dict[str, Any] = {}
        for section in ("routers", "hosts"):
            held = _each(getattr(before, section), getattr(after, section), self.machine)
            if held is not None:
                kept[section] = held
        networks = _each(before.networks, after.networks, self.network)
        if networks is not None:
            kept["networks"] = networks
        if before.groups is not after.groups and not same_facts(before.groups, after.groups):
            kept["groups"] = {**after.groups, **before.groups}
        edges = _each(before.edges, after.edges, self.edge)
        if edges is not None:
            kept["edges"] = edges
        zones = _each(before.zones, after.zones, lambda was, now: _part(was, now, "edge", self.edge))
        if zones is not None:
            kept["zones"] = zones
        stores = _each(before.stores, after.stores, lambda was, now: _parts(was, now, "buckets", self.bucket))
        if stores is not None:
            kept["stores"] = stores
        return msgspec.structs.replace(after, **kept) if kept else None

    def machine(self, was: Any, now: Any) -> Any:
        """The object with the facts of before."""
        if was is now:
            return now
        facts = _facts(was, now, self.facts.machine)
        if "filter" in facts:
            kept_filter = _filter(was.filter, now.filter)
            facts["filter"] = kept_filter
            if same_facts(kept_filter, now.filter):
                del facts["filter"]
        kept = _with(now, facts)
        kept = _parts(
            was, kept, "interfaces", lambda one, other: _with(other, _facts(one, other, self.facts.interface))
        )
        return _parts(was, kept, "services", self.service)

    def network(self, was: Network, now: Network) -> Any:
        """A network with what was let into it; what leaves it are answers, to all but those who are on it."""
        held, new = was.access_list, now.access_list
        if held is None or new is None or was is now:
            return _with(now, _facts(was, now, ("access_list",)))
        return _with(
            now,
            {"access_list": _with(new, {"inbound": held.inbound})} if not same_facts(held.inbound, new.inbound) else {},
        )

    def service(self, was: Service, now: Service) -> Any:
        """The object with the facts of before."""
        if type(was) is not type(now) or was is now:
            return now
        if isinstance(was, EdgeService) and isinstance(now, EdgeService):
            return self.edge(was, now)
        saved = reloaded(was)
        listens = tuple(_narrowed(each, was.listens, saved.listens) for each in now.listens)
        kept = _with(now, {"listens": listens}) if listens != now.listens else now
        if isinstance(was, WebService) and isinstance(now, WebService):
            kept = _with(
                kept,
                _facts(was, now, (*self.facts.service, *(("program",) if _believed(was) != _believed(now) else ()))),
            )
            return _parts(was, kept, "sites", self.site)
        return kept

    def site(self, was: Site, now: Site) -> Any:
        """The object with the facts of before."""
        if was is now:
            return now
        kept = _with(now, _facts(was, now, self.facts.site))
        if len(was.sections) != len(now.sections):
            return _with(kept, {"sections": was.sections})
        pairs = zip(was.sections, now.sections, strict=True)
        sections = tuple(_with(other, _facts(one, other, self.facts.section)) for one, other in pairs)
        same = all(one is other for one, other in zip(sections, now.sections, strict=True))
        return kept if same else _with(kept, {"sections": sections})

    def edge(self, was: EdgeService, now: EdgeService) -> Any:
        """The object with the facts of before."""
        return _with(now, _facts(was, now, self.facts.edge))

    def bucket(self, was: Bucket, now: Bucket) -> Any:
        """The object with the facts of before."""
        return _with(now, _facts(was, now, self.facts.bucket))


def _each(before: dict[str, Any], after: dict[str, Any], keep: Any) -> dict[str, Any] | None:
    """Named objects with the policy of before; None where none differs."""
    if before is after:
        return None
    found = {name: keep(before[name], now) if name in before else now for name, now in after.items()}
    return None if all(found[name] is after[name] for name in after) else found


def _facts(was: Any, now: Any, names: tuple[str, ...]) -> dict[str, Any]:
    """Those facts that differ, as they were, unless they were saved so."""
    if was is now:
        return {}
    saved = reloaded(was) if isinstance(was, Changing) else was
    return {
        name: getattr(was, name)
        for name in names
        if not same_facts(getattr(was, name), getattr(now, name))
        and not same_facts(getattr(saved, name), getattr(now, name))
    }


def _with(now: Any, facts: dict[str, Any]) -> Any:
    return msgspec.structs.replace(now, **facts) if facts else now


def _parts(was: Any, now: Any, field: str, keep: Any) -> Any:
    held = _each(getattr(was, field), getattr(now, field), keep) if was is not now else None
    return now if held is None else _with(now, {field: held})


def _part(was: Any, now: Any, field: str, keep: Any) -> Any:
    one, other = getattr(was, field), getattr(now, field)
    if one is None or other is None or one is other:
        return now
    kept = keep(one, other)
    return now if kept is other else _with(now, {field: kept})


def networks_let_out(before: Estate, after: Estate) -> frozenset[str]:
    """The networks whose own rules for what leaves them were changed."""
    return frozenset(
        name
        for name, now in after.networks.items()
        if (was := before.networks.get(name)) is not None
        and was is not now
        and not same_facts(was.access_list and was.access_list.outbound, now.access_list and now.access_list.outbound)
    )


def _filter(was: Filter | None, now: Filter | None) -> Filter | None:
    """The filter of before, with what passes first as it is now, and with rules for answers to what was let in."""
    if was is None or now is None:
        return was
    kept: dict[str, Any] = {"basics": now.basics, "stateful": now.stateful}
    for name in ("inbound", "forward", "outbound"):
        one, other = getattr(was, name), getattr(now, name)
        if one is not None and other is not None and same_facts(_new_only(one), _new_only(other)):
            kept[name] = other
    held: Filter = _with(was, kept)
    return held


def _new_only(chain: Chain) -> tuple[Any, ...]:
    """A chain without the rules that are for known connections only."""
    known = {"established", "related"}
    return (chain.default, *(each for each in chain.rules if not each.state or not {*each.state} <= known))


def _narrowed(listener: Listener, before: tuple[Listener, ...], saved: tuple[Listener, ...]) -> Listener:
    """A listener of every address whose port was bound to single ones only, as it was; else itself."""
    if listener.address is not None and int(listener.address):
        return listener
    same = [each for each in before if each.port == listener.port]
    narrow = [each for each in same if each.address is not None and int(each.address)]
    wide_saved = any(each.port == listener.port and not (each.address and int(each.address)) for each in saved)
    return narrow[0] if narrow and len(narrow) == len(same) and not wide_saved else listener


def _believed(service: WebService) -> object:
    """The header field whose word a program takes for the visitor's scheme."""
    return getattr(service.program, "believes_scheme", None)
