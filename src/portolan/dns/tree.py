"""Where names lie: the zones above them, among those of an estate."""

from portolan.dns.zone import Types
from portolan.estate.estate import Estate
from portolan.estate.records import Record
from portolan.estate.service import NameServer, Resolver
from portolan.estate.zone import Zone


class Tree:
    """The zones of an estate by where they lie."""

    def __init__(self, estate: Estate) -> None:
        self._zones = estate.zones
        #: Zones below which the estate has another.
        self.parents = {each for zone in estate.zones for each in above(zone)}

    def top(self, name: str) -> Zone | None:
        """The topmost described zone that holds a name."""
        top = None
        while name:
            top = self._zones.get(name, top)
            name = name.partition(".")[2]
        return top

    def holding(self, name: str, service: NameServer | Resolver) -> Zone | None:
        """The closest zone above a name that a service holds."""
        best = max((zone for zone in service.zones if within(name, zone)), key=len, default=None)
        return self._zones[best] if best is not None else None

    def undelegated(self, name: str, zone: Zone) -> Zone | None:
        """A described zone below one that holds a name, and to which that one does not delegate."""
        if zone.name not in self.parents:
            return None
        while name != zone.name and name:
            child = self._zones.get(name)
            if child is not None:
                return child
            name = name.partition(".")[2]
        return None

    def between(self, name: str, zone: Zone) -> tuple[str, ...]:
        """The described zones below a zone that hold a name."""
        if zone.name not in self.parents:
            return ()
        return tuple(each for each in (name, *above(name)) if each in self._zones and len(each) > len(zone.name))


def above(name: str) -> list[str]:
    """The names above a name."""
    found = []
    while "." in name:
        name = name.partition(".")[2]
        found.append(name)
    return found


def address_records(types: Types) -> list[Record]:
    """The address records of a node."""
    return [*types.get("AAAA", ()), *types.get("A", ())]


def within(name: str, zone: str) -> bool:
    """Whether a name is a zone's or lies below it."""
    return name == zone or name.endswith("." + zone) or zone == ""
