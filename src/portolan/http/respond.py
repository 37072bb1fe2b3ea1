"""One request and its response: the site, its redirects in order, its content, or what its upstream gives."""

from collections.abc import Callable
from typing import Any, NamedTuple

from portolan.estate.service import Redirect, Service, Site, WebService
from portolan.estate.url import DEFAULT_PORTS, Url
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Arrival, Exchange, Response
from portolan.evidence.outcome import Detail
from portolan.http.binding import fits, table_of
from portolan.http.content import content
from portolan.http.upstream import passed_on
from portolan.programs.protocol import WebProgram

#: What stands around the target in a request line.
_AROUND = len("GET  HTTP/1.1")
#: Lets the program that was asked ask a URL by itself, for a site.
Asking = Callable[[Site, Url], Exchange]


class Request(NamedTuple):
    """What the server sees: the URL as asked, and whether the connection is encrypted."""

    url: Url
    encrypted: bool

    @property
    def scheme(self) -> str:
        """The scheme that the server believes."""
        return "https" if self.encrypted else "http"


class Answer(NamedTuple):
    """A response, and the exchanges that it rests on."""

    response: Response
    inner: tuple[Exchange, ...] = ()


def no_http(arrival: Arrival) -> Response:
    """What a program that speaks no HTTP says to a request."""
    service = arrival.service
    stop = http_kinds.NotWeb(service.name, arrival.listener, place=service.place, subject=service)
    return Response(0, (stop,), protocol=Detail.GARBLED, stop=stop)


def respond(
    arrival: Arrival, service: WebService, request: Request, program: WebProgram, ask: Asking, shared: dict[Any, Any]
) -> Answer:
    """What the program at the end of a connection answers."""
    listener, url = arrival.listener, request.url
    if listener.tls and not request.encrypted:
        return _stop(400, http_kinds.PlainOnTls(listener, place=listener.place, subject=service))
    length = len(url.path) + len(url.query) + _AROUND
    if length > program.longest_line:
        limit = program.longest_line
        return _stop(414, http_kinds.LineTooLong(length, service.name, limit, place=service.place, subject=service))
    path = program.path(url.path)
    if path == 400:
        return _stop(400, http_kinds.PathRefused(service.name, url.path, place=service.place, subject=service))
    if not service.sites:
        only = http_kinds.SiteOnly(service.name, place=service.place, subject=service)
        if isinstance(path, int):
            return _refused(service, path, [only], request, service)
        return Answer(_content(service, path, request, arrival, program, [only], shared))
    chosen = table_of(service, listener, program, shared).choose(url.shown_host)
    if chosen.site is None:
        if chosen.decision is not None:
            return _stop(int(program.unknown_name), chosen.decision)
        return _stop(404, http_kinds.MainServer(listener, service.name, place=service.place, subject=service))
    decisions = [chosen.decision] if chosen.decision is not None else []
    return _from_site(chosen.site, path, request, arrival, program, decisions, ask, shared)


def _from_site(
    site: Site,
    path: str | int,
    request: Request,
    arrival: Arrival,
    program: WebProgram,
    decisions: list[Decision],
    ask: Asking,
    shared: dict[Any, Any],
) -> Answer:
    """In this order: redirects, a fixed answer, the path's own fitness, the upstream, the content."""
    for redirect in site.redirects:
        target = _target(redirect, request, arrival, program)
        if target is not None:
            step = http_kinds.Redirected(site.name, target, redirect.status, place=redirect.place, subject=redirect)
            return Answer(Response(redirect.status, (*decisions, step), site, location=target))
    if site.answer is not None:
        kind = http_kinds.Answers if site.answer < 400 else http_kinds.AnswersError
        decision = kind(site.name, site.answer, place=site.place.key("answer"), subject=site)
        page = f"{site.name}/" if site.answer < 300 else None
        stop = decision if site.answer >= 400 else None
        return Answer(Response(site.answer, (*decisions, decision), site, page, stop=stop))
    if isinstance(path, int):
        return _refused(site, path, decisions, request, arrival.service)
    if site.upstream is not None:
        upstream = site.upstream
        url = upstream._replace(path=request.url.path, query=request.url.query)
        passing = http_kinds.PassesOn(site.name, str(site.upstream), place=site.place.key("upstream"), subject=site)
        inner = ask(site, url)
        own = absolute(request, arrival, program, "/")
        return Answer(passed_on(site, inner, program, own, (*decisions, passing)), (inner,))
    return Answer(_content(site, path, request, arrival, program, decisions, shared))


def _refused(
    site: Site | WebService, status: int, decisions: list[Decision], request: Request, service: Service
) -> Answer:
    refused = http_kinds.PathRefused(service.name, request.url.path, place=service.place, subject=service)
    return Answer(Response(status, (*decisions, refused), site, stop=refused))


def _content(
    site: Site | WebService,
    path: str,
    request: Request,
    arrival: Arrival,
    program: WebProgram,
    decisions: list[Decision],
    shared: dict[Any, Any],
) -> Response:
    found = content(site, path, program, shared)
    decisions.extend(found.decisions)
    if found.needs_slash:
        service = arrival.service
        if isinstance(service, WebService) and service.program is None and request.url.port != arrival.port:
            decisions.append(http_kinds.ProgramAssumed(service.name, place=service.place, subject=service))
        target = absolute(request, arrival, program, f"{request.url.path}/{request.url.query}")
        decisions.append(http_kinds.FolderSlash(request.url.path, site.name, target, place=site.place, subject=site))
        return Response(301, tuple(decisions), site, location=target)
    page = f"{site.name}/{found.page}" if found.page is not None else None
    stop = decisions[-1] if found.status >= 400 else None
    return Response(found.status, tuple(decisions), site, page, stop=stop)


def _target(redirect: Redirect, request: Request, arrival: Arrival, program: WebProgram) -> str | None:
    """The target when the rule's condition holds."""
    url = request.url
    rest = ""
    when = redirect.when
    if when is not None:
        if when.scheme is not None and when.scheme != request.scheme:
            return None
        if when.host and not any(_host_fits(pattern, url.host.rstrip(".")) for pattern in when.host):
            return None
        if when.path is not None:
            if when.path.endswith("*"):
                if not url.path.startswith(when.path[:-1]):
                    return None
                rest = url.path[len(when.path) - 1 :]
            elif url.path != when.path:
                return None
    text = str(redirect.to)
    if "{" in text:
        values = {
            "{scheme}": request.scheme,
            "{host}": url.shown_host,
            "{port}": str(url.port),
            "{path}": url.path,
            "{query}": url.query,
            "{rest}": rest,
        }
        for name, value in values.items():
            text = text.replace(name, value)
    text = program.target(text)
    return absolute(request, arrival, program, text) if text.startswith("/") and not text.startswith("//") else text


def _host_fits(pattern: str, host: str) -> bool:
    return fits(pattern, host) if "*" in pattern else host == pattern


def absolute(request: Request, arrival: Arrival, program: WebProgram, path: str) -> str:
    """A server's own absolute form of a path, with the name asked for and the port that the program tells."""
    port = request.url.port if program.tells_asked_port else arrival.port
    suffix = "" if port == DEFAULT_PORTS[request.scheme] else f":{port}"
    return f"{request.scheme}://{request.url.shown_host}{suffix}{path}"


def _stop(status: int, decision: Decision) -> Answer:
    return Answer(Response(status, (decision,), stop=decision))
