"""Which names an edge takes, and which certificate it shows for them."""

from portolan.estate.edge import Edge, EdgeService
from portolan.estate.names import answers_to
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import edge as edge_kinds
from portolan.source.value import Value


class Names:
    """The names that an edge was told, made ready for choosing: one look for exact names, one a label for stars."""

    def __init__(self, edge: EdgeService) -> None:
        self.edge = edge
        self.exact: dict[str, str] = {}
        self.below: dict[str, str] = {}
        self.others: list[str] = []
        for pattern in edge.names:
            name = str(pattern)
            if name.startswith("*."):
                self.below.setdefault(name[1:], name)
            elif "*" in name or name.startswith("."):
                self.others.append(name)
            else:
                self.exact.setdefault(name.rstrip("."), name)
        if isinstance(edge, Edge) and edge.canonical is not None:
            self.exact.setdefault(str(edge.canonical), str(edge.canonical))

    def told(self, host: str) -> str | None:
        """The pattern by which a name was told; the exact one first, then the longest star. None: it was not."""
        found = self.exact.get(host)
        if found is not None:
            return found
        at = host.find(".") if self.below else -1
        while at > 0:
            found = self.below.get(host[at:])
            if found is not None:
                return found
            at = host.find(".", at + 1)
        return next((each for each in self.others if answers_to(each, host)), None)


class ShownByEdge(Value, frozen=True):
    """The certificate shown, by its name in the estate (None: no handshake), and why."""

    certificate: str | None
    decision: Decision


def shown_by_edge(names: Names, named: str | None, providers: str, awaited: bool = False) -> ShownByEdge:
    """The certificate for the name in the handshake (RFC 6066 section 3); `providers` is the provider's own.

    `awaited` says that the edge's own was asked for, and nobody has it yet.
    """
    edge, host = names.edge, (named or "").lower().rstrip(".")
    label = edge.label
    if (named is not None and names.told(host) is None) or host in edge.held_by_others:
        place = edge.place.key("names")
        if edge.unknown_in_tls == "rejected":
            return ShownByEdge(None, edge_kinds.EdgeRejects(label, host, place=place, subject=edge))
        why = f"it was not told the name {host}"
        return ShownByEdge(providers, edge_kinds.EdgeShowsProviders(label, why, place=place, subject=edge))
    if named is None:
        why = "no name is said in the handshake"
        return ShownByEdge(
            providers if awaited else edge.certificate or providers,
            edge_kinds.EdgeShowsProviders(label, why, place=edge.place, subject=edge),
        )
    canonical = isinstance(edge, Edge) and edge.canonical == host
    if canonical:
        why = f"{host} is its canonical name"
        return ShownByEdge(providers, edge_kinds.EdgeShowsProviders(label, why, place=edge.place, subject=edge))
    if edge.certificate is None:
        why = "it was given no other"
        return ShownByEdge(providers, edge_kinds.EdgeShowsProviders(label, why, place=edge.place, subject=edge))
    if awaited:
        why, place = (
            f"the certificate {edge.certificate} was asked for and is not validated yet",
            edge.place.key("certificate"),
        )
        return ShownByEdge(providers, edge_kinds.EdgeShowsProviders(label, why, place=place, subject=edge))
    decision = edge_kinds.EdgeShows(label, edge.certificate, host, place=edge.place.key("certificate"), subject=edge)
    return ShownByEdge(edge.certificate, decision)
