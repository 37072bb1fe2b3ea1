"""What of an estate has to be looked at again: what changed since a clean one, and what rests on that."""

from collections import Counter
from collections.abc import Iterable, Iterator
from typing import Any

from portolan.estate.base import Stated
from portolan.estate.changing import others, stated_values
from portolan.estate.edge import EdgeService
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines, passes_on
from portolan.estate.machine import Machine
from portolan.estate.service import sites_of
from portolan.estate.site import Site
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Zone

#: The sections whose entries are machines.
_MACHINES = ("routers", "hosts")


class Since:
    """An estate beside a clean one that shares with it what is unchanged; without one, everything is new."""

    def __init__(self, estate: Estate, clean: Estate | None) -> None:
        self._estate = estate
        self._clean = clean
        #: Sections by name, as pairs of what was and what is; those that are the same are left out.
        self._changed: dict[str, tuple[Any, Any]] = {}
        for field in Estate.__struct_fields__:
            was, held = getattr(clean, field, None), getattr(estate, field)
            # What nobody states is empty, and each time another emptiness.
            if clean is None or (held is not was and (held or was)):
                self._changed[field] = was, held

    def entries(self, section: str) -> list[Any]:
        """The entries of a section that are not what they were."""
        was, held = self._changed.get(section, ({}, {}))
        return [each for name, each in held.items() if was is None or was.get(name) is not each]

    def _boxes(self) -> tuple[list[Machine], list[Machine]]:
        """The machines that are not what they were: as they were, and as they are."""
        before: list[Machine] = []
        for section in _MACHINES:
            was, held = self._changed.get(section, ({}, {}))
            before += [each for name, each in (was or {}).items() if held.get(name) is not each]
        return before, [each for section in _MACHINES for each in self.entries(section)]

    def _lost(self, section: str) -> bool:
        """Whether a name that could be referred to is gone."""
        was, held = self._changed.get(section, ({}, {}))
        return was is None or not was.keys() <= held.keys()

    def references(self) -> Iterator[Stated]:
        """The values whose references may lead nowhere now."""
        if any(self._lost(section) for section, (_, held) in self._changed.items() if isinstance(held, dict)):
            yield from stated_values(self._estate)
            return
        yield self._estate
        for section, (_, held) in self._changed.items():
            entries = self.entries(section) if isinstance(held, dict) else held
            for value in entries if isinstance(entries, list | tuple) else ():
                if isinstance(value, Stated):
                    yield from stated_values(value)

    def _ways(self) -> bool:
        """Whether what all machines and vantages are held to is otherwise: the networks, and who passes on between them."""
        if self._clean is None or "networks" in self._changed:
            return True
        was, held = self._boxes()
        return _passing(was) != _passing(held)

    def machines(self) -> list[Machine]:
        """The machines to look at."""
        return list(machines(self._estate)) if self._ways() else self._boxes()[1]

    def vantages(self) -> list[Vantage]:
        """The vantages to look at."""
        return list(self._estate.vantages.values()) if self._ways() else self.entries("vantages")

    def zones(self) -> list[Zone]:
        """The zones to look at: their names are held to each other."""
        was, held = self._changed.get("zones", ({}, {}))
        return list(held.values()) if was is None or was.keys() != held.keys() else self.entries("zones")

    def authorities(self) -> list[Any]:
        """The authorities to look at: they issue each other."""
        return list(self._estate.authorities.values()) if "authorities" in self._changed else []

    def edges_or_stores(self) -> bool:
        """Whether an edge or a store is otherwise, wherever it is stated."""
        estate = self._estate
        if self._changed.keys() & {"edges", "stores"} and (self._clean is not None or estate.edges or estate.stores):
            return True
        if any(zone.edge is not None for zone in self.entries("zones")):
            return True
        _, held = self._boxes()
        return any(isinstance(service, EdgeService) for each in held for service in each.services.values())

    def names_of_sites(self) -> frozenset[str] | None:
        """The names of all sites and buckets; None where every expected page is known to have one."""
        if self._clean is not None and not self._changed.keys() & {"expected", "stores"}:
            was, held = self._boxes()
            if _names_of_sites(was) <= _names_of_sites(held):
                return None
        buckets = {name for store in self._estate.stores.values() for name in (*store.buckets, *store.strangers)}
        return frozenset(_names_of_sites(machines(self._estate)) | buckets)


class Written:
    """The names of zones as they are written: which are written twice, and which lie above others."""

    def __init__(self, zones: dict[str, Zone]) -> None:
        self._zones = zones
        self._often = Counter(map(_plain, zones))

    def twice(self, zone: Zone, name: str) -> bool:
        """Whether another zone has a zone's name, `name`, in other letters."""
        return self._often[name] > (_plain(zone.name) == name)

    def above(self, name: str) -> str | None:
        """The nearest zone above a name."""
        labels = name.split(".")
        above = (".".join(labels[at:]) for at in range(1, len(labels)))
        return next((each for each in above if each in self._zones), None)


def _plain(name: str) -> str:
    return name.lower().rstrip(".")


def _passing(boxes: list[Machine]) -> list[tuple[Any, ...]]:
    """What others take for their way out: the addresses of what passes on, in the order written."""
    return [
        (box.name, interface.network, interface.address)
        for box in boxes
        if passes_on(box)
        for interface in box.interfaces.values()
    ]


def _names_of_sites(boxes: Iterable[Machine]) -> set[str]:
    """The names of machines' sites; a service without any is one itself. Other versions have theirs too."""
    names: set[str] = set()
    for machine in boxes:
        for service in machine.services.values():
            said: dict[str, Site] = sites_of(service)
            names.update(site.name for site in said.values())
            if not said:
                names.add(service.name)
            for other in others(service):
                names.update(site.name for site in other.facts.get("sites", {}).values())
    return names
