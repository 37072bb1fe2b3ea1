"""Faults of the program behind an edge, by the codes that fronts have for them: its port, whether it runs, how long it takes."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, all_homes, also
from portolan.diagnosis.edge_base import edge_of, origin_place, origin_put, stated
from portolan.diagnosis.origins import OtherClue, leads_on, other_origin
from portolan.diagnosis.proposal import Proposal, put, remedy
from portolan.estate.client import EdgeClient
from portolan.estate.edge import EdgeService
from portolan.estate.service import Service, WebService
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.kinds import http as http_kinds


class BehindClue(msgspec.Struct, frozen=True):
    """The edge, the program behind it, and how long that takes to answer, in seconds."""

    edge: EdgeService
    service: Service
    takes: int = 0


@also(
    "upstream-wrong-address",
    "nothing-listens",
    "neighbour-missing",
    "internet-unknown",
    "not-web",
    "service-stopped",
    "not-found",
    "wrong-page",
)
def origin_elsewhere(case: Case) -> Finding | None:
    """The origin's address or port is not where its program listens."""
    edge = edge_of(case.client)
    if edge is None or edge.asks.at is None:
        return None
    secure = edge.asks.secure
    connection = case.exchange.connection
    reached = connection.reached if connection is not None else None
    ideas: list[tuple[str, dict[str, object]]] = []
    for machine, service in [(home.machine, home.service) for home in all_homes(case.estate)]:
        ports = [listener.port for listener in service.listens if listener.tls is secure]
        if machine is reached:
            ideas += [(f"port {port}", {"port": port}) for port in ports]
        elif case.site_name in service.sites:
            ideas += [
                (f"{address} port {port}", {"at": str(address), "port": port})
                for address in machine.addresses
                for port in ports
            ]
    found = [(words, facts) for words, facts in dict(ideas).items() if leads_on(case, edge, **facts)]
    if not found:
        return None
    told = case.stop.text if case.stop is not None else "another page is there"
    text = f"{edge.label} asks {case.exchange.url}, and what is meant is not there: {told}"
    others = tuple((f"let {edge.label} ask {words}", facts) for words, facts in found[:3])
    return Finding("upstream-wrong-address", text, origin_place(edge), clue=OtherClue(edge=edge, others=others))


remedy("upstream-wrong-address")(other_origin)


@also("upstream-down", "service-stopped", "service-failed", "not-answered")
def origin_down(case: Case) -> Finding | None:
    """The program behind does not run, or breaks off."""
    edge, stop = edge_of(case.client), case.stop
    service = stop.subject if stop is not None else None
    if edge is None or stop is None or not isinstance(case.client, EdgeClient) or not isinstance(service, Service):
        return None
    if isinstance(stop, http_kinds.NotAnswered) and getattr(service, "when_asked", "") == "silent":
        return None
    text = f"{edge.label} asks {case.exchange.url}: {stop.text}"
    return Finding("upstream-down", text, service.place, clue=BehindClue(edge=edge, service=service))


@also("upstream-silent", "edge-too-slow", "not-answered")
def origin_silent(case: Case) -> Finding | None:
    """The edge gives up waiting."""
    stop = case.visit.stop
    if isinstance(stop, edge_kinds.EdgeTooSlow) and isinstance(stop.subject, EdgeService):
        behind = case.visit.exchanges[-1].innermost.service
        if behind is None:
            return None
        clue = BehindClue(edge=stop.subject, service=behind, takes=stop.takes)
        return Finding("upstream-silent", stop.text, origin_place(stop.subject), clue=clue)
    edge, met = edge_of(case.client), case.stop
    service = met.subject if isinstance(met, http_kinds.NotAnswered) else None
    if edge is None or met is None or not isinstance(service, Service) or not isinstance(case.client, EdgeClient):
        return None
    if getattr(service, "when_asked", "") != "silent":
        return None
    return Finding("upstream-silent", met.text, met.place, clue=BehindClue(edge=edge, service=service))


@remedy("upstream-down", "upstream-silent")
def mend_behind(case: Case, clue: BehindClue) -> Iterator[Proposal]:
    """Starts it; waits longer; or says where to look."""
    service, edge = clue.service, clue.edge
    if service.state == "stopped":
        yield Proposal(f"start {service.name} on {service.place.path[1]}", put(service.place, "state", "running"))
    elif clue.takes:
        own = stated(case, edge)
        text = f"let {edge.label} wait {clue.takes} s for an answer"
        yield Proposal(text, origin_put(own, answer_within=clue.takes))
        yield Proposal("look why the program behind takes so long, and start it anew", [])
    else:
        what = (
            "let it answer as HTTP has it" if not isinstance(service, WebService) else "its own log says what keeps it"
        )
        yield Proposal(f"mend {service.name}: {what}", [])
