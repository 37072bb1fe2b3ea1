"""What a change would lose of what is stated: content of sites and buckets that is there before, and not after."""

from collections.abc import Iterator

from portolan.diagnosis.proposal import Patch
from portolan.estate.content import Holding
from portolan.estate.estate import Estate
from portolan.estate.guesses import changed_machines
from portolan.estate.led import led_by_name, may_lead_to
from portolan.estate.machine import Machine
from portolan.estate.service import sites_of
from portolan.estate.site import Giving
from portolan.journey.visit import Visit
from portolan.source.place import keys_of

#: Names, and the paths that have rights.
_Held = tuple[frozenset[str], frozenset[str]]


def loses_content(before: Estate, after: Estate) -> bool:
    """Whether files, objects or their rights are gone that nobody asked to go; a file under another name is still there."""
    for was, machine in changed_machines(before, after):
        # What lies on a machine is a fact, whether or not a site is led there.
        if _less(frozenset(was.folders), frozenset(machine.folders)) or _gone(_on_disk(was), _on_disk(machine)):
            return True
        held = dict(_sites(machine, was))
        for path, names in _sites(was, machine):
            # A site or section under another name is still the same.
            there = [held[path]] if path in held else [each for key, each in held.items() if key[0] == path[0]]
            if any(names) and all(_gone(names, each) for each in there):
                return True
    for name, store in after.stores.items():
        old = before.stores.get(name)
        for label, bucket in store.buckets.items() if old is not None and old is not store else ():
            known = old.buckets.get(label) if old is not None else None
            if known is not None and _less(frozenset(known.objects or ()), frozenset(bucket.objects or ())):
                return True
    return False


def assumes_instead(patch: Patch, after: Visit) -> bool:
    """Whether a visit rests on what is assumed of an object from which a change took a fact: nothing is mended by not saying it."""
    taken = [keys_of(step["path"]) for step in patch if step["op"] == "remove"]
    for exchange in after.tree if taken else ():
        for decision in exchange.decisions:
            if decision.unsaid and decision.place is not None:
                of, keys = tuple(map(str, decision.place.path)), [(key,) for key in decision.unsaid]
                # The last of several values is gone with the fact itself.
                if any(path[: len(of)] == of and path[len(of) :][:1] in keys for path in taken):
                    return True
    return False


def _on_disk(machine: Machine) -> _Held:
    """What the folders of a machine hold."""
    names = {f"{name}/{file}" for name, each in machine.folders.items() for file in each.files or ()}
    rights = {f"{name}/{key}" for name, each in machine.folders.items() for key in each.rights}
    return frozenset(names), frozenset(rights)


def _gone(before: _Held, after: _Held) -> bool:
    return any(_less(one, other) for one, other in zip(before, after, strict=True))


def _less(before: frozenset[str], after: frozenset[str]) -> bool:
    lost, new = before - after, after - before
    return len(lost) > 1 or len(lost) > len(new)


def _sites(machine: Machine, other: Machine) -> Iterator[tuple[tuple[str, str, str], _Held]]:
    """What the sites and sections of a machine hold, where the machine's other version has no configuration that was saved before."""
    for name, service in machine.services.items():
        twin = other.services.get(name)
        if twin is None or (twin.saved is None) is not (service.saved is None):
            continue
        for site in sites_of(service).values():
            yield (name, site.name, ""), _content(machine, site)
            for section in site.sections:
                yield (name, site.name, section.shown), _content(machine, section)


def _content(machine: Machine, giving: Giving) -> _Held:
    holders: list[tuple[str, Holding]] = [("", giving)]
    if led_by_name(giving.folder):
        # Every name has a folder of its own there.
        holders += [(name, each) for name, each in machine.folders.items() if may_lead_to(str(giving.folder), name)]
    elif not giving.told and giving.folder is not None:
        base = str(giving.folder).rstrip("/") + "/"
        holders += [(name, each) for name, each in machine.folders.items() if base.startswith(name.rstrip("/") + "/")]
    names: set[str] = set()
    rights: set[str] = set()
    for name, each in holders:
        start = name.rstrip("/") + "/" if name else ""
        names |= {start + file for file in each.files or ()}
        rights |= {str(key) if str(key).startswith("/") else start + str(key) for key in each.rights}
    return frozenset(names), frozenset(rights)
