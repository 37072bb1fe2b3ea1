"""One request at an edge, stage by stage: its name, what it turns away itself, what it holds, its origin, its own pages."""

from collections.abc import Callable
from datetime import datetime

from portolan.edge.cache import Just, through_cache
from portolan.edge.names import Names
from portolan.edge.origin import asked_origin
from portolan.estate.client import EdgeClient, Saying
from portolan.estate.edge import EdgeService
from portolan.estate.url import Url
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Arrival, Exchange, Resolution, Response
from portolan.evidence.outcome import Detail
from portolan.evidence.request import Request, as_asked
from portolan.programs.protocol import EdgeWays
from portolan.source.value import Value

#: Lets the edge ask a URL: what it says, and at which moment (None: now).
Asking = Callable[[Url, Saying, datetime | None], Exchange]


class EdgeAnswer(Value, frozen=True):
    """A response, and the exchanges that it rests on."""

    response: Response
    inner: tuple[Exchange, ...] = ()


class _Turn(Value, frozen=True):
    """What an edge answers by itself."""

    status: int
    decision: Decision
    location: str | None = None


class AtEdge(Value, frozen=True):
    """An edge that is asked: its facts made ready, who it is as a client, the moment, what it took in this visit."""

    #: As it is for the path that is asked, and for all others.
    edge: EdgeService
    whole: EdgeService
    ways: EdgeWays
    names: Names
    arrival: Arrival
    client: EdgeClient
    now: datetime
    ask: Asking
    at_path: "Callable[[str], AtEdge]"
    just: Just
    #: Whether it has passed this request on itself.
    again: bool = False

    @property
    def label(self) -> str:
        """How it is named in decisions."""
        return self.whole.label


def respond_at_edge(at: AtEdge, request: Request) -> EdgeAnswer:
    """What an edge answers."""
    edge, listener = at.whole, at.arrival.listener
    if listener.tls and not request.encrypted:
        return _ended(400, http_kinds.PlainOnTls(listener, place=listener.place, subject=edge))
    if not request.host:
        # RFC 9112 section 3.2: a request without a host name, or with an empty one, gets 400.
        return _ended(400, http_kinds.HostRefused(edge.name, request.said or "", place=edge.place, subject=edge))
    if request.host in edge.held_by_others:
        taken = edge_kinds.EdgeNameTaken(
            request.host, at.label, edge.refuses_with, place=edge.place.key("held_by_others"), subject=edge
        )
        return _ended(edge.refuses_with, taken)
    pattern = at.names.told(request.host)
    if pattern is None:
        unknown = edge_kinds.EdgeNameUnknown(
            at.label, request.host, edge.refuses_with, place=edge.place.key("names"), subject=edge
        )
        return _ended(edge.refuses_with, unknown)
    takes = edge_kinds.EdgeTakes(at.label, pattern, place=edge.place.key("names"), subject=edge)
    if at.again and edge.recognises_itself:
        circle = edge_kinds.EdgeInCircle(at.label, place=edge.place.key("origin"), subject=edge)
        return EdgeAnswer(Response(at.ways.statuses["refused"], (takes, circle), edge, stop=circle))
    for stage in at.ways.order:
        turned = _STAGES[stage](at, request)
        if turned is not None:
            stop = turned.decision if turned.location is None else None
            both = (takes, turned.decision)
            return EdgeAnswer(Response(turned.status, both, edge, location=turned.location, stop=stop))
    decisions: tuple[Decision, ...] = (takes,)
    path = request.url.path
    if at.edge is not at.whole:
        other = edge_kinds.EdgePart(at.label, path, place=at.edge.place.key("path"), subject=at.edge)
        decisions = (*decisions, other)
    if path == "/" and edge.index_file is not None:
        path = "/" + edge.index_file.lstrip("/")
        document = edge_kinds.EdgeIndex(at.label, path, place=edge.place.key("index_file"), subject=edge)
        decisions = (*decisions, document)
    answer = _from_origin(at, request, path, decisions)
    return _with_page(at, request, answer)


def _ended(status: int, decision: Decision) -> EdgeAnswer:
    return EdgeAnswer(Response(status, (decision,), stop=decision))


# -- what it turns away by itself --


def _filter(at: AtEdge, request: Request) -> _Turn | None:
    access, source = at.whole.access, request.source
    if access is None:
        return None
    lacking = any(request.saying.header(name) != value for name, value in access.headers.items())
    if not access.keeps_out(source) and not lacking:
        return None
    return _Turn(403, edge_kinds.EdgeFilters(at.label, source, place=access.place, subject=access))


def _plain(at: AtEdge, request: Request) -> _Turn | None:
    edge = at.whole
    if request.encrypted or edge.plain == "serve":
        return None
    place = edge.place.key("plain")
    if edge.plain == "refuse":
        return _Turn(403, edge_kinds.EdgeRefusesPlain(at.label, place=place, subject=edge))
    target = f"https://{request.shown_host}{request.url.path}{request.url.query}"
    status = edge.plain_with
    return _Turn(status, edge_kinds.EdgeToSecure(at.label, target, status, place=place, subject=edge), target)


def _method(at: AtEdge, request: Request) -> _Turn | None:
    method, edge = request.saying.method, at.edge
    if method in at.ways.methods:
        return None
    refused = edge_kinds.EdgeMethodRefused(at.label, method, place=edge.place.key("methods"), subject=edge)
    return _Turn(edge.method_refused_with, refused)


_STAGES: dict[str, Callable[[AtEdge, Request], _Turn | None]] = {
    "filter": _filter,
    "plain": _plain,
    "method": _method,
}


# -- the origin --


def _from_origin(at: AtEdge, request: Request, path: str, decisions: tuple[Decision, ...]) -> EdgeAnswer:
    """The origin's answer, held or asked for."""
    asked = asked_origin(at.edge, at.ways, request, path)

    def fetch(moment: datetime | None, held: Url | None) -> Exchange:
        then = asked if held is None else asked_origin(at.edge, at.ways, as_asked(request, held), path)
        if isinstance(then, Decision):
            # Nothing can be asked; what is held may still be given.
            typed = str(at.edge.asks.at)
            resolution = Resolution(typed, (), Detail.NO_SUCH_NAME, (then,))
            return Exchange(request.url.but(host=typed), at.client, resolution)
        return at.ask(then.url, then.saying, moment)

    def failing(inner: Exchange) -> int:
        return at.ways.statuses[_what_failed(inner)]

    cached = through_cache(at.edge, at.ways, request, path, at.now, fetch, at.just, at.client, failing)
    inner, got = cached.exchange, cached.exchange.response
    if cached.decisions:
        decisions = (*decisions, *cached.decisions)
    elif not isinstance(asked, Decision):
        step = edge_kinds.EdgeAsks(at.label, str(asked.url), place=at.client.place, subject=at.edge)
        decisions = (*decisions, step)
    late = 0 if cached.held else _takes(inner)
    if late > at.edge.asks.answer_within:
        status = at.ways.statuses["no_answer"]
        slow = edge_kinds.EdgeTooSlow(
            late, at.label, at.edge.asks.answer_within, status, place=at.client.place, subject=at.edge
        )
        return EdgeAnswer(Response(status, (*decisions, slow), at.edge, stop=slow), (inner,))
    if got is None or got.protocol is not None:
        return EdgeAnswer(_failed(at, inner, decisions), (inner,))
    response = got.but(decisions=decisions, site=got.site or at.edge)
    return EdgeAnswer(response, (inner,))


def _takes(inner: Exchange) -> int:
    return getattr(inner.service, "answers_after", 0)


#: What went wrong with the origin, by the detail of the inner exchange; what is not here is a handshake.
_WRONG: dict[Detail | None, str] = {
    **dict.fromkeys((Detail.REFUSED, Detail.RESET), "refused"),
    **dict.fromkeys((Detail.TIMED_OUT, Detail.UNREACHABLE), "no_connect"),
    Detail.STALLED: "no_answer",
    **dict.fromkeys((Detail.CUT_OFF, Detail.EMPTY, Detail.GARBLED, Detail.BAD_HEADER, Detail.BROKEN_OFF), "garbled"),
}


def _what_failed(inner: Exchange) -> str:
    """What went wrong with an origin that gave nothing."""
    if inner.resolution.detail is not None:
        return "unknown_name"
    if inner.response is not None:
        return _WRONG[inner.response.protocol]
    return _WRONG.get(inner.detail, "handshake")


def _failed(at: AtEdge, inner: Exchange, decisions: tuple[Decision, ...]) -> Response:
    """What visitors get where the origin gave nothing."""
    status = at.ways.statuses[_what_failed(inner)]
    stop = edge_kinds.EdgeFails(at.label, status, place=at.client.place, subject=inner.stop)
    return Response(status, (*decisions, stop), at.edge, stop=stop)


# -- its own pages --


def _with_page(at: AtEdge, request: Request, answer: EdgeAnswer) -> EdgeAnswer:
    """The answer with the page of the edge's own that stands for its status."""
    response = answer.response
    page = at.whole.error_pages.get(response.status)  # type: ignore[call-overload]
    if page is None:
        return answer
    url = request.url.but(path=page, query="")
    asking = request.but(url=url, saying=request.saying.but(method="GET", body=0))
    shown = _from_origin(at.at_path(page), asking, page, ())
    inner = (*answer.inner, *shown.inner)
    place = at.whole.place.key("error_pages")
    status, given = response.status, shown.response
    if not 200 <= given.status < 300:
        failed = edge_kinds.EdgeErrorPageFails(at.label, page, status, place=place, subject=given.stop)
        return EdgeAnswer(response.but(decisions=(*response.decisions, failed)), inner[: len(answer.inner)] or inner)
    says = int(at.whole.error_pages_say.get(status, status))  # type: ignore[call-overload]
    step = edge_kinds.EdgeErrorPage(at.label, page, status, says, place=place, subject=at.whole)
    stop = response.stop if says >= 400 else None
    shown_page = given.page if says < 300 else None
    return EdgeAnswer(Response(says, (*response.decisions, step), given.site, shown_page, stop=stop), inner)
