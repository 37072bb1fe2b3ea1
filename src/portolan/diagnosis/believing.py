"""Faults of who the visitor is taken for: behind a front everybody has the front's address, unless its word is believed."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, fault
from portolan.diagnosis.proposal import Patch, Proposal, in_order, put, remedy
from portolan.diagnosis.upstream import with_facts
from portolan.estate.base import IPAddress
from portolan.estate.client import EdgeClient, PassingProgram
from portolan.estate.edge import Edge
from portolan.estate.service import WebService
from portolan.estate.site import Access, Site, Upstream
from portolan.evidence.kinds import content as content_kinds

#: The field in which most fronts and edges say for whom they ask.
_USUAL = "X-Forwarded-For"


class FrontClue(msgspec.Struct, frozen=True):
    """The site that keeps everybody out, the upstream by which it is asked (None: an edge), and from where."""

    site: Site
    upstream: Upstream | None
    says: str | None
    ranges: tuple[str, ...]


@fault(
    "visitor-behind-front",
    "Rules of access see the front's address, or the edge's, and not the visitor's",
    "403 for everybody, or for nobody",
    "Let the front say for whom it asks, and the program behind believe it, from the front's address alone. Letting the front in lets everybody in.",
    "access-denied",
)
def behind_front(case: Case) -> Finding | None:
    """The visitor would be let in, and whoever asks for it is not."""
    stop, client = case.stop, case.client
    if not isinstance(stop, content_kinds.AccessDenied) or not isinstance(stop.subject, Access):
        return None
    if not isinstance(client, PassingProgram | EdgeClient):
        return None
    outer = case.visit.exchanges[-1].connection
    visitor: IPAddress | None = outer.arrival.source if outer is not None and outer.arrival is not None else None
    response, source = case.exchange.response, stop.address
    site = response.site if response is not None else None
    if visitor is None or source is None or not isinstance(site, Site) or stop.subject.nobody:
        return None
    if stop.subject.keeps_out(visitor) or source == visitor:
        return None
    upstream = client.upstream if isinstance(client, PassingProgram) else None
    ranges: tuple[str, ...] = (f"{source}/{source.max_prefixlen}",)
    if isinstance(client, EdgeClient) and isinstance(client.service, Edge) and client.service.asks_from:
        ranges = tuple(str(each) for each in client.service.asks_from)
    says = next((name for name, value in client.saying.headers if str(visitor) in value), None)
    text = f"{site.name} sees {source}, whoever the visitor is: {client.name} asks for all of them; {visitor} would be let in"
    return Finding("visitor-behind-front", text, stop.place, clue=FrontClue(site, upstream, says, ranges))


@remedy("visitor-behind-front")
def believe_it(case: Case, clue: FrontClue) -> Iterator[Proposal]:
    """Says it, and believes it from the front alone."""
    header = clue.says or _USUAL
    word = "-".join(part.capitalize() for part in header.split("-"))
    said: tuple[tuple[str, Patch], ...] = ()
    if clue.says is None and clue.upstream is not None:
        text = f"let what is passed on say for whom it is asked, in {word}"
        said = ((text, with_facts(clue.upstream, appends={word: "{client}"})),)
    service = case.exchange.service
    held = clue.site.believes_address or (service.believes_address if isinstance(service, WebService) else None)
    known = (
        held is not None and held.header == header.lower() and {str(each) for each in held.sources} >= set(clue.ranges)
    )
    if known and said:
        # Who is asked believes it already.
        yield in_order(*said)
        return
    believed = put(clue.site.place, "believes_address", {"header": word, "from": list(clue.ranges)})
    yield in_order(*said, (f"let {clue.site.name} believe {word} from {', '.join(clue.ranges)}", believed))
