"""One request and its response: what a program turns away, the site that takes it, and what that site answers."""

from portolan.estate.client import SWITCHING
from portolan.estate.service import OtherService, ScriptRunner, WebService
from portolan.estate.site import Site
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import content as content_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Arrival, Exchange, Response
from portolan.evidence.outcome import Detail
from portolan.evidence.request import Request
from portolan.http.access import believed_source, path_refused, unfit
from portolan.http.binding import led_site, table_of
from portolan.http.content import Folder
from portolan.http.serving import Serving
from portolan.http.upstream import Onward
from portolan.programs.protocol import WebProgram
from portolan.source.shared import Shared
from portolan.source.value import Value

#: What stands around the target in a request line.
_AROUND = len("GET  HTTP/1.1")


class Answer(Value, frozen=True):
    """A response, and the exchanges that it rests on."""

    response: Response
    inner: tuple[Exchange, ...] = ()


_DOES = {
    "silent": (Detail.STALLED, "says nothing"),
    "closes": (Detail.EMPTY, "closes the connection"),
    "resets": (Detail.CUT_OFF, "resets the connection"),
    "breaks-off": (Detail.BROKEN_OFF, "begins an answer, and closes before its end"),
    "bad-header": (Detail.BAD_HEADER, "answers with a line that is no header"),
    "long-header": (Detail.BAD_HEADER, "answers with a header longer than programs take"),
}


def no_http(arrival: Arrival, request: Request) -> Response:
    """What a program that speaks no HTTP, or no more of it than opens a websocket, says to a request."""
    service = arrival.service
    does = service.when_asked if isinstance(service, OtherService) else "greets"
    if does == "websocket" and isinstance(service, OtherService):
        return _of_sockets(service, request)
    if isinstance(service, ScriptRunner):
        does = "closes"
    if does != "greets":
        detail, words = _DOES[does]
        step = http_kinds.NotAnswered(
            service.name, arrival.listener, words, place=service.place.key("when_asked"), subject=service
        )
        return Response(200 if detail is Detail.BROKEN_OFF else 0, (step,), protocol=detail, stop=step)
    stop = http_kinds.NotWeb(service.name, arrival.listener, place=service.place, subject=service)
    return Response(0, (stop,), protocol=Detail.GARBLED, stop=stop)


def _of_sockets(service: OtherService, request: Request) -> Response:
    place = service.place.key("when_asked")
    if request.saying.upgrades and request.saying.method == "GET":
        opened = http_kinds.SocketOpened(service.name, place=place, subject=service)
        return Response(SWITCHING, (opened,))
    wanted = http_kinds.SocketWanted(service.name, _UPGRADE_REQUIRED, place=place, subject=service)
    return Response(_UPGRADE_REQUIRED, (wanted,), stop=wanted)


#: RFC 9110 section 15.5.22.
_UPGRADE_REQUIRED = 426


def respond(
    arrival: Arrival, service: WebService, request: Request, program: WebProgram, onward: Onward, shared: Shared
) -> Answer:
    """What the program at the end of a connection answers."""
    listener, url = arrival.listener, request.url
    if listener.tls and not request.encrypted:
        return _stop(400, http_kinds.PlainOnTls(listener, place=listener.place, subject=service))
    length = len(url.path) + len(url.query) + _AROUND
    if length > program.longest_line:
        limit = program.longest_line
        return _stop(414, http_kinds.LineTooLong(length, service.name, limit, place=service.place, subject=service))
    turned_away = unfit(service, request, program)
    if turned_away is not None:
        return _stop(turned_away.status, turned_away.decision)
    path = program.path(url.path)
    if path == 400:
        return _stop(400, http_kinds.PathRefused(service.name, url.path, place=service.place, subject=service))
    method = request.saying.method
    if method in program.methods.early:
        return _stop(405, content_kinds.MethodRefused(service.name, method, place=service.place, subject=service))
    if not service.sites:
        return Answer(_without_sites(service, request, program, path))
    chosen = table_of(service, listener, program, shared, arrival.address).choose(request.host)
    if chosen.site is None:
        if chosen.decision is not None:
            return _stop(int(program.unknown_name), chosen.decision)
        return _stop(404, http_kinds.MainServer(listener, service.name, place=service.place, subject=service))
    if request.encrypted:
        turned_elsewhere = _without_certificate(chosen.site, request, program) or _misdirected(
            chosen.site, arrival, service, request, program, shared
        )
        if turned_elsewhere is not None:
            return turned_elsewhere
    decisions = [chosen.decision] if chosen.decision is not None else []
    believed = believed_source(service, chosen.site, request, program)
    if believed is not None:
        source, step = believed
        request = request.but(source=source)
        decisions.append(step)
    site = led_site(chosen.site, request.host, program, shared)
    serving = Serving(arrival, service, site, request, program, onward, shared, decisions)
    return Answer(serving.given(path), tuple(serving.inner))


def _without_certificate(site: Site, request: Request, program: WebProgram) -> Answer | None:
    """A site that asks clients for certificates, in a program that judges them with the request."""
    if site.client_certificates is None or not program.asks_certificate_late:
        return None
    place = site.place.key("client_certificates")
    if request.server_name is not None and request.server_name.rstrip(".") != request.host:
        words = (request.server_name, request.host, site.name)
        return _stop(421, http_kinds.MisdirectedFromCertificate(*words, place=place, subject=site))
    why = site.refuses_client(request.saying.certificate)
    return (
        None
        if why is None
        else _stop(400, http_kinds.NeedsClientCertificate(site.name, why, place=place, subject=site))
    )


def _misdirected(
    site: Site,
    arrival: Arrival,
    service: WebService,
    request: Request,
    program: WebProgram,
    shared: Shared,
) -> Answer | None:
    """A request for another name than the handshake, where the two have certificates of their own (RFC 9110 section 15.5.20)."""
    named = request.server_name
    if not program.judges_server_name or named is None or named.rstrip(".") == request.host:
        return None
    shown = table_of(service, arrival.listener, program, shared, arrival.address).choose(named.lower().rstrip(".")).site
    if (
        shown is None
        or shown is site
        or (shown.certificate or service.certificate) == (site.certificate or service.certificate)
    ):
        return None
    decision = http_kinds.Misdirected(named, request.host, service.name, place=site.place, subject=site)
    return _stop(421, decision)


def _without_sites(service: WebService, request: Request, program: WebProgram, path: str | int) -> Response:
    """A service that answers every name with pages of its own."""
    only = http_kinds.SiteOnly(service.name, place=service.place, subject=service)
    if isinstance(path, int):
        return path_refused(service, path, [only], request, service)
    folder = Folder(service, None, "", None, service, program)
    documents = program.index_files
    asked = "/".join(part for part in path.split("/") if part)
    if path.endswith("/") and documents:
        asked = f"{asked}/{documents[0]}" if asked else documents[0]
    found = folder.assumed(asked)
    return Response(200, (only, *found.decisions), service, f"{service.name}/{found.page}")


def _stop(status: int, decision: Decision) -> Answer:
    return Answer(Response(status, (decision,), stop=decision))
