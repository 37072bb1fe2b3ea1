"""What an authoritative server answers for a name in one zone (RFC 1034 section 4.3.2, RFC 4592)."""

from collections.abc import Mapping
from typing import NamedTuple

from portolan.estate.zone import Record, Zone

Types = Mapping[str, tuple[Record, ...]]


class Found(NamedTuple):
    """The node that answers; `wildcard` names the wildcard owner when one was expanded."""

    types: Types
    wildcard: str | None = None


class Cut(NamedTuple):
    """The name lies below a delegation."""

    name: str
    servers: tuple[Record, ...]


_EMPTY: Types = {}


class ZoneIndex:
    """A zone made ready for questions."""

    def __init__(self, zone: Zone) -> None:
        self.zone = zone
        self.apex = zone.name
        self.nodes = zone.data.nodes
        self._between: set[str] | None = None
        self._cuts = {owner for owner, types in self.nodes.items() if "NS" in types and owner != zone.name}

    def look(self, name: str) -> Found | Cut | None:
        """The answer for a name of the zone: a node, a cut, or None when there is no such name."""
        if self._cuts:
            cut = self._cut_above(name)
            if cut is not None:
                return Cut(cut, self.nodes[cut]["NS"])
        types = self.nodes.get(name)
        if types is not None:
            return Found(types)
        if name in self.between:
            return Found(_EMPTY)
        # RFC 4592 section 3.3.1: only the closest encloser's own wildcard may answer.
        encloser = name
        while encloser != self.apex:
            encloser = encloser.partition(".")[2]
            if encloser in self.nodes or encloser in self.between or encloser == self.apex:
                break
        wild = f"*.{encloser}" if encloser else "*"
        types = self.nodes.get(wild)
        return Found(types, wild) if types is not None else None

    @property
    def between(self) -> set[str]:
        """Empty non-terminals: names that exist because something lies below them (RFC 4592 section 2.2.2)."""
        if self._between is None:
            found: set[str] = set()
            for owner in self.nodes:
                above = owner
                while above != self.apex and above:
                    above = above.partition(".")[2]
                    if above in found or above in self.nodes:
                        if above in found:
                            break
                        continue
                    found.add(above)
            found.discard(self.apex)
            self._between = found
        return self._between

    def _cut_above(self, name: str) -> str | None:
        """The highest delegation at or above a name."""
        best = None
        while name != self.apex and name:
            if name in self._cuts:
                best = name
            name = name.partition(".")[2]
        return best
