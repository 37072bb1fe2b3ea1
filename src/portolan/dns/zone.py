"""What an authoritative server answers for a name in one zone (RFC 1034 section 4.3.2, RFC 4592)."""

from collections.abc import Mapping

from portolan.estate.records import Record, ZoneData
from portolan.source.value import Value

Types = Mapping[str, tuple[Record, ...]]


class Found(Value, frozen=True):
    """The node that answers; `wildcard` names the wildcard owner when one was expanded."""

    types: Types
    wildcard: str | None = None


class Below(Value, frozen=True):
    """The name lies below a DNAME record (RFC 6672 section 2.3)."""

    record: Record

    def renamed(self, name: str) -> str:
        """The name with the owner's part replaced by the target's."""
        return name[: -len(self.record.owner)] + str(self.record.data)


class Cut(Value, frozen=True):
    """The name lies below a delegation."""

    name: str
    servers: tuple[Record, ...]


_EMPTY: Types = {}


class ZoneIndex:
    """A zone made ready for questions."""

    def __init__(self, apex: str, data: ZoneData) -> None:
        self.apex = apex
        self.nodes = data.nodes
        self._between: set[str] | None = None
        #: Owners below which the zone's own names do not count: delegations and DNAME records.
        self._breaks = {
            owner for owner, types in self.nodes.items() if "DNAME" in types or ("NS" in types and owner != apex)
        }

    def look(self, name: str) -> Found | Cut | Below | None:
        """The answer for a name of the zone: a node, a cut, a DNAME above it, or None when there is no such name."""
        if self._breaks:
            broken = self._break_above(name)
            if broken is not None:
                return broken
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
        expanded: Types | None = self.nodes.get(wild)
        if expanded is None and wild in self.between:
            expanded = _EMPTY  # RFC 4592 section 2.2.2: it exists, for something lies below it
        return Found(expanded, wild) if expanded is not None else None

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

    def _break_above(self, name: str) -> Cut | Below | None:
        """The highest delegation at or above a name, or DNAME record above it."""
        best: Cut | Below | None = None
        asked = name
        while name:
            if name in self._breaks:
                types = self.nodes[name]
                if "NS" in types and name != self.apex:
                    best = Cut(name, types["NS"])
                elif name != asked and "DNAME" in types:
                    best = Below(types["DNAME"][0])
            if name == self.apex:
                break
            name = name.partition(".")[2]
        return best

    def negative_ttl(self) -> int:
        """How long the absence of a name is remembered: the lesser of the SOA's TTL and its minimum (RFC 2308 section 5)."""
        soa = self.nodes.get(self.apex, {}).get("SOA")
        return min(soa[0].ttl, soa[0].data.minimum) if soa else 0
