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
from portolan.estate.network import Network
from portolan.estate.service import Listener, Service, WebService
from portolan.estate.site import Site
from portolan.estate.store import Bucket

#: By kind of object: the facts that say who gets through, or how.
_MACHINE = ("filter", "forwards", "one_to_one", "own_services_first", "hairpin")
_INTERFACE = ("groups", "provider_blocks")
_SECTION = ("access", "redirects", "methods", "answer", "listing")
_SITE = (*_SECTION, "rule_files", "reads_rule_files")
_EDGE = ("access", "plain", "methods", "key", "key_headers", "caches")
_BUCKET = ("sealed", "grants")


def with_policy_of(before: Estate, after: Estate) -> Estate | None:
    """The changed estate with the policy of before at every object that both have; None where no policy was changed.

    What was saved already and comes into force is no new policy.
    """
    kept: dict[str, Any] = {}
    for section in ("routers", "hosts"):
        held = _each(getattr(before, section), getattr(after, section), _machine)
        if held is not None:
            kept[section] = held
    networks = _each(before.networks, after.networks, _network)
    if networks is not None:
        kept["networks"] = networks
    if before.groups is not after.groups and not same_facts(before.groups, after.groups):
        kept["groups"] = {**after.groups, **before.groups}
    edges = _each(before.edges, after.edges, _edge)
    if edges is not None:
        kept["edges"] = edges
    zones = _each(before.zones, after.zones, lambda was, now: _part(was, now, "edge", _edge))
    if zones is not None:
        kept["zones"] = zones
    stores = _each(before.stores, after.stores, lambda was, now: _parts(was, now, "buckets", _bucket))
    if stores is not None:
        kept["stores"] = stores
    return msgspec.structs.replace(after, **kept) if kept else None


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


def _machine(was: Any, now: Any) -> Any:
    if was is now:
        return now
    kept = _with(now, _facts(was, now, _MACHINE))
    kept = _parts(was, kept, "interfaces", lambda one, other: _with(other, _facts(one, other, _INTERFACE)))
    return _parts(was, kept, "services", _service)


def _network(was: Network, now: Network) -> Any:
    return _with(now, _facts(was, now, ("access_list",)))


def _service(was: Service, now: Service) -> Any:
    if type(was) is not type(now) or was is now:
        return now
    if isinstance(was, EdgeService) and isinstance(now, EdgeService):
        return _edge(was, now)
    saved = reloaded(was)
    listens = tuple(_narrowed(each, was.listens, saved.listens) for each in now.listens)
    kept = _with(now, {"listens": listens}) if listens != now.listens else now
    if isinstance(was, WebService) and isinstance(now, WebService):
        kept = _with(kept, _facts(was, now, ("program", "grants") if _believed(was) != _believed(now) else ("grants",)))
        return _parts(was, kept, "sites", _site)
    return kept


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


def _site(was: Site, now: Site) -> Any:
    if was is now:
        return now
    kept = _with(now, _facts(was, now, _SITE))
    if len(was.sections) != len(now.sections):
        return _with(kept, {"sections": was.sections})
    pairs = zip(was.sections, now.sections, strict=True)
    sections = tuple(_with(other, _facts(one, other, _SECTION)) for one, other in pairs)
    same = all(one is other for one, other in zip(sections, now.sections, strict=True))
    return kept if same else _with(kept, {"sections": sections})


def _edge(was: EdgeService, now: EdgeService) -> Any:
    return _with(now, _facts(was, now, _EDGE))


def _bucket(was: Bucket, now: Bucket) -> Any:
    return _with(now, _facts(was, now, _BUCKET))
