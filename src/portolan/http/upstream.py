"""Requests that are passed on: what is sent where, and what the client gets of the inner exchange."""

from collections.abc import Callable
from typing import NamedTuple
from urllib.parse import quote

from portolan.estate.client import Saying, append_field, of_one_connection
from portolan.estate.site import Site, Upstream
from portolan.estate.url import DEFAULT_PORTS, Url
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Exchange, Response
from portolan.evidence.outcome import Detail
from portolan.evidence.request import Request
from portolan.programs.protocol import Passing, WebProgram
from portolan.source.value import Value

#: Methods that may be repeated without harm (RFC 9110 section 9.2.2).
REPEATABLE = frozenset(("GET", "HEAD", "OPTIONS", "PUT", "DELETE", "TRACE"))
#: What stays as it is in a path that is passed on.
PLAIN = "/:@!$&'()*+,;=~-._"


class Front(Value, frozen=True):
    """The side that passes on: the site and its upstream, the part of the path that leads there, the program's ways.

    `whole` says that no part of the path leads there, but a pattern that it fits.
    """

    site: Site
    upstream: Upstream
    start: str
    program: WebProgram
    whole: bool = False


class Onward(NamedTuple):
    """How a program asks others: `ask` asks a URL for a site, `members` gives whom of a pool, in which order."""

    ask: Callable[[Front, Url, Saying], Exchange]
    members: Callable[[Upstream], tuple[Url, ...]]


def asked_there(front: Front, member: Url, url: Url, path: str) -> Url | str:
    """The address that a member is asked for; the text itself where that is no address (a slash was lost)."""
    passing, start = front.program.passing, front.start or "/"
    if not passing.replaces_path and not member.path:
        return member.but(path=url.path, query=url.query)
    rest = path[len(start) :] if path.startswith(start) else ""
    if front.whole:
        # Behind a pattern that keeps nothing of it the whole path is added (ProxyPassMatch, measured).
        start, rest = "/", path
    if not passing.replaces_path:
        return member.but(path=_escaped(member.path + rest), query=url.query)
    if not front.start and not member.path:
        start, rest = "/", path
    text = f"{member.scheme}://{member.shown_host}" + (
        "" if member.port == DEFAULT_PORTS[member.scheme] else f":{member.port}"
    )
    if not member.path and rest and not rest.startswith("/"):
        return text + rest
    return member.but(path=_escaped(member.path + rest) or "/", query=url.query)


def _escaped(path: str) -> str:
    return quote(path, safe=PLAIN)


def said_there(front: Front, request: Request, own_port: int) -> Saying:
    """What the program says with the request (RFC 9110 section 7.6)."""
    upstream, program, saying = front.upstream, front.program, request.saying
    passing = program.passing
    host: str | None = None
    if upstream.host == "as-sent":
        host = request.said if request.said is not None else request.host
    elif upstream.host == "kept":
        host = request.said if passing.keeps_host_exactly else request.shown_host
        host = host if host is not None else request.host
    elif upstream.host != "own":
        host = str(upstream.host)
    elif len(upstream.members) > 1 and passing.sends_pool_name:
        host = upstream.pool
    headers = dict(saying.headers)
    if not upstream.upgrades:
        headers = of_one_connection(headers)
    if passing.says_for_whom:
        append_field(headers, "x-forwarded-for", _source(request))
        append_field(headers, "x-forwarded-host", request.said or request.host)
    if upstream.headers or upstream.appends:
        values = {"{scheme}": request.scheme, "{host}": request.host, "{port}": str(own_port)}
        values["{client}"] = _source(request)
        for name, text in upstream.headers.items():
            headers[name] = _filled(text, values)
        for name, text in upstream.appends.items():
            append_field(headers, name, _filled(text, values))
    name_sent = checked = None
    if passing.checks_host_sent and host is not None:
        name_sent = checked = host.partition(":")[0].lower()
    return Saying(
        saying.method,
        host,
        False,
        name_sent,
        checked,
        tuple([each for each in headers.items() if each[1]]),
        "1.1",
        saying.password,
        saying.body,
    )


def _source(request: Request) -> str:
    return str(request.source) if request.source is not None else ""


def _filled(text: str, values: dict[str, str]) -> str:
    for name, value in values.items():
        text = text.replace(name, value)
    return text


def goes_on(front: Front, inner: Exchange, method: str) -> bool:
    """Whether the next member of a pool is asked: after a refusal always, after silence or a close where that does no harm."""
    if inner.response is not None:
        failed = inner.response.protocol is not None and front.program.passing.passes_over_silence
        return (failed or inner.response.status in front.upstream.next_on) and method in REPEATABLE
    if inner.resolution.detail is not None:
        return False
    if inner.detail in (Detail.REFUSED, Detail.UNREACHABLE, Detail.RESET):
        return True
    return front.program.passing.passes_over_silence and method in REPEATABLE


def passed_on(front: Front, inner: Exchange, own: str, decisions: tuple[Decision, ...]) -> Response:
    """The response that a program makes of what its upstream gave; `own` is its own address, up to the path."""
    passing, got, site = front.program.passing, inner.response, front.site
    if got is None:
        return _failed(front, status_of_failed(passing, inner), inner.stop, decisions)
    late = _too_late(front, inner)
    if late is not None:
        return _failed(front, passing.stalled, late, decisions)
    if got.protocol is not None:
        return _no_http(front, inner, got, decisions)
    location = got.location
    if location is not None:
        location, step = _turned(front, got, location, own)
        decisions = (*decisions, step)
    return Response(
        got.status,
        decisions,
        site,
        got.page,
        location,
        stop=got.stop,
        cache_control=got.cache_control,
        cookie=got.cookie,
        expires=got.expires,
        age=got.age,
    )


def _failed(front: Front, status: int, why: Decision | None, decisions: tuple[Decision, ...]) -> Response:
    """The program's own answer where its upstream gave none, or too late."""
    shown, place = str(front.upstream.to[-1]), front.upstream.place
    stop = http_kinds.UpstreamFails(front.site.name, shown, status, place=place, subject=why)
    return Response(status, (*decisions, stop), front.site, stop=stop)


def _no_http(front: Front, inner: Exchange, got: Response, decisions: tuple[Decision, ...]) -> Response:
    """What came is no HTTP: some programs pass it on as it is."""
    passing, site = front.program.passing, front.site
    shown, place = str(front.upstream.to[-1]), front.upstream.place
    if got.protocol is Detail.BROKEN_OFF:
        # What came was passed on as it came: the status is out when the end is missing (measured).
        breaks = http_kinds.UpstreamBreaksOff(site.name, shown, place=place, subject=inner.stop)
        return Response(got.status, (*decisions, breaks), site, protocol=got.protocol, stop=breaks)
    if got.protocol is not Detail.GARBLED:
        status = passing.stalled if got.protocol is Detail.STALLED else passing.cut_off
        return _failed(front, status, inner.stop, decisions)
    garbled = http_kinds.UpstreamGarbled(site.name, shown, place=place, subject=inner.stop)
    if passing.garbled is None:
        return Response(0, (*decisions, garbled), site, protocol=got.protocol, stop=garbled)
    return Response(passing.garbled, (*decisions, garbled), site)


def _too_late(front: Front, inner: Exchange) -> Decision | None:
    """The decision that an answer comes after the program has given up waiting for it."""
    service, waits = inner.service, front.upstream.answer_within
    takes = getattr(service, "answers_after", 0)
    if service is None or takes <= waits:
        return None
    return http_kinds.TakesTooLong(
        service.name, takes, front.site.name, waits, place=service.place.key("answers_after"), subject=service
    )


def _turned(front: Front, got: Response, location: str, own: str) -> tuple[str, Decision]:
    """A redirect of the upstream as the client gets it: turned only where it is exactly the upstream's address as written."""
    upstream, site, passing = front.upstream, front.site, front.program.passing
    for theirs, ours in upstream.turned.items():
        if location.startswith(theirs):
            to = own.rstrip("/") + ours if ours.startswith("/") else ours
            location = to + location[len(theirs) :]
            return location, http_kinds.RedirectTurned(site.name, location, place=upstream.place, subject=site)
    usual = passing.turns_redirects and not upstream.turned
    turns = usual if upstream.turns_redirects is None else upstream.turns_redirects
    member = upstream.to[0]
    start = front.start or "/"
    written = str(member)
    if len(upstream.members) > 1 and passing.sends_pool_name:
        written = f"{member.scheme}://{upstream.pool}{member.path}"
    if not passing.replaces_path and not member.path:
        # Where the path is kept, the whole of the upstream stands for the whole of the front.
        written, start = written + "/", "/"
    elif not front.start and not written.endswith("/") and not member.path:
        written += "/"
    if turns and location.startswith(written):
        location = own + start.lstrip("/") + location[len(written) :]
        return location, http_kinds.RedirectTurned(site.name, location, place=upstream.place, subject=site)
    return location, http_kinds.RedirectPassed(site.name, location, place=got.decisions[-1].place)


def status_of_failed(passing: Passing, inner: Exchange) -> int:
    """The status for an upstream that gave no response."""
    if inner.resolution.detail is not None:
        return passing.unknown_name or passing.refused
    if inner.handshake is not None and inner.handshake.detail is not None:
        return passing.tls
    return {
        Detail.REFUSED: passing.refused,
        Detail.RESET: passing.refused,
        Detail.UNREACHABLE: passing.unreachable,
        Detail.TIMED_OUT: passing.timed_out,
        Detail.STALLED: passing.stalled,
        Detail.CUT_OFF: passing.cut_off,
    }[inner.detail or Detail.REFUSED]
