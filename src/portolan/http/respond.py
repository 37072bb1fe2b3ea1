"""One request and its response: the site, its redirects in order, its content."""

import re
from typing import Any, NamedTuple

from portolan.estate.service import Redirect, Service, Site
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.results import Arrival, Response
from portolan.http.binding import fits, table_of
from portolan.http.content import content
from portolan.http.path import decoded
from portolan.http.url import DEFAULT_PORTS, Url

#: What stands around the target in a request line; and the longest that servers take as installed: nginx's
#: large_client_header_buffers of 8 KB with the line's end, Apache httpd's LimitRequestLine (both measured).
_AROUND, _LONGEST_LINE = len("GET  HTTP/1.1"), {"apache": 8191}
_LONGEST_LINE_NGINX = 8190


class Request(NamedTuple):
    """What the server sees: the URL as asked, and whether the connection is encrypted."""

    url: Url
    encrypted: bool

    @property
    def scheme(self) -> str:
        """The scheme that the server believes."""
        return "https" if self.encrypted else "http"


def respond(arrival: Arrival, request: Request, shared: dict[Any, Any]) -> Response:
    """What the program at the end of a connection answers."""
    service, listener = arrival.service, arrival.listener
    if service.kind != "web":
        return _stop(
            0, http_kinds.NotWeb(service.name, listener, place=service.place, subject=service), protocol="garbled"
        )
    if listener.tls and not request.encrypted:
        return _stop(400, http_kinds.PlainOnTls(listener, place=listener.place, subject=service))
    decisions: list[Decision] = []
    site: Site | Service
    length = len(request.url.path) + len(request.url.query) + _AROUND
    most = _LONGEST_LINE.get(service.program or "", _LONGEST_LINE_NGINX)
    if length > most:
        grown = (length, service.name, most)
        return _stop(414, http_kinds.LineTooLong(*grown, place=service.place, subject=service))
    path = decoded(request.url.path, service.program or "nginx")
    if path == 400:
        return _stop(400, http_kinds.PathRefused(service.name, request.url.path, place=service.place, subject=service))
    if not service.sites:
        site = service
        decisions.append(http_kinds.SiteOnly(service.name, place=service.place, subject=service))
    else:
        chosen = table_of(service, listener, shared).choose(request.url.shown_host)
        if chosen.site is None:
            return _stop(404, http_kinds.MainServer(listener, service.name, place=service.place, subject=service))
        site = chosen.site
        if chosen.decision is not None:
            decisions.append(chosen.decision)
        for redirect in site.redirects:
            target = _target(redirect, request, arrival)
            if target is not None:
                facts = (site.name, target, redirect.status)
                decisions.append(http_kinds.Redirected(*facts, place=redirect.place, subject=redirect))
                return Response(redirect.status, tuple(decisions), site, location=target)
        if site.answer is not None:
            kind = http_kinds.Answers if site.answer < 400 else http_kinds.AnswersError
            decision = kind(site.name, site.answer, place=site.place.key("answer"), subject=site)
            decisions.append(decision)
            page = f"{site.name}/" if site.answer < 300 else None
            return Response(site.answer, tuple(decisions), site, page, stop=decision if site.answer >= 400 else None)
    if isinstance(path, int):
        refused = http_kinds.PathRefused(service.name, request.url.path, place=service.place, subject=service)
        return Response(path, (*decisions, refused), site, stop=refused)
    return _content(site, path, request, arrival, decisions, shared)


def _content(
    site: Site | Service,
    path: str,
    request: Request,
    arrival: Arrival,
    decisions: list[Decision],
    shared: dict[Any, Any],
) -> Response:
    found = content(site, path, shared)
    decisions.extend(found.decisions)
    if found.needs_slash:
        if arrival.service.program is None and _asked_port(request) != arrival.port:
            decisions.append(
                http_kinds.ProgramAssumed(arrival.service.name, place=arrival.service.place, subject=arrival.service)
            )
        target = _absolute(request, arrival, f"{request.url.path}/{request.url.query}")
        decisions.append(http_kinds.FolderSlash(request.url.path, site.name, target, place=site.place, subject=site))
        return Response(301, tuple(decisions), site, location=target)
    page = f"{site.name}/{found.page}" if found.page is not None else None
    stop = decisions[-1] if found.status >= 400 else None
    return Response(found.status, tuple(decisions), site, page, stop=stop)


def _target(redirect: Redirect, request: Request, arrival: Arrival) -> str | None:
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
            "{port}": str(_asked_port(request)),
            "{path}": url.path,
            "{query}": url.query,
            "{rest}": rest,
        }
        for name, value in values.items():
            text = text.replace(name, value)
    if (
        arrival.service.program == "apache"
        and not text.startswith("/")
        and not re.match(r"[A-Za-z][A-Za-z0-9+.-]*:", text)
    ):
        text = f"/{text}"  # its rewrite rules take what is no URL for a path (measured); nginx sends it as it is
    return _absolute(request, arrival, text) if text.startswith("/") and not text.startswith("//") else text


def _host_fits(pattern: str, host: str) -> bool:
    return fits(pattern, host) if "*" in pattern else host == pattern


def _asked_port(request: Request) -> int:
    return request.url.port


def _absolute(request: Request, arrival: Arrival, path: str) -> str:
    """A server's own absolute form of a path.

    Both take the name asked for. nginx takes the port that it listens on (port_in_redirect), Apache httpd the port
    that the visitor asked for (UseCanonicalPhysicalPort off).
    """
    port = _asked_port(request) if arrival.service.program == "apache" else arrival.port
    suffix = "" if port == DEFAULT_PORTS[request.scheme] else f":{port}"
    return f"{request.scheme}://{request.url.shown_host}{suffix}{path}"


def _stop(status: int, decision: Decision, protocol: str | None = None) -> Response:
    return Response(status, (decision,), protocol=protocol, stop=decision)
