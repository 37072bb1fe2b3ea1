"""Redirect rules: whether one applies to a request, and where it leads."""

import re
from typing import Any

from portolan.estate.names import answers_to
from portolan.estate.site import Redirect, Site, When
from portolan.estate.url import DEFAULT_PORTS
from portolan.evidence.legs import Arrival
from portolan.evidence.request import Request
from portolan.http.binding import compiled
from portolan.programs.protocol import WebProgram


def scheme_believed(request: Request, program: WebProgram) -> str:
    """The scheme that a program takes the request for: a front's word where it believes that, else the connection's."""
    if program.believes_scheme is not None:
        said = request.saying.header(program.believes_scheme).partition(",")[0].strip().lower()
        if said in DEFAULT_PORTS:
            return said
    return request.scheme


def target_of(
    redirect: Redirect,
    site: Site,
    request: Request,
    arrival: Arrival,
    program: WebProgram,
    shared: dict[Any, Any],
    path: str,
    above: str = "",
) -> str | None:
    """The target when the rule's condition holds for a path as the program goes on with it, else None.

    `above` is what a relative target is put behind.
    """
    held = captures(redirect.when, request, arrival, program, shared, path)
    if held is None:
        return None
    url = request.url
    known = {
        "scheme": scheme_believed(request, program),
        "host": _host_shown(request, program),
        "port": str(_port(request, arrival, program)),
        "path": program.escaped(path, False) if program.path_is_decoded else url.path,
        "query": url.query,
    }
    text = redirect.target(
        known | {name: program.escaped(part, False) for name, part in held.items()},
        known | {name: program.escaped(part, True) for name, part in held.items()},
    )
    if redirect.query != "as-written" and url.query:
        if "?" not in text:
            text += url.query
        elif redirect.query == "joined":
            text += "&" + url.query[1:]
    text = program.target(above + text if above and not re.match(r"/|[A-Za-z][A-Za-z0-9+.-]*:", text) else text)
    own = text.startswith("/") and (program.double_slash_is_path or not text.startswith("//"))
    return absolute(site, request, arrival, program, text) if own and not program.sends_paths else text


def captures(
    when: When | None, request: Request, arrival: Arrival, program: WebProgram, shared: dict[Any, Any], path: str
) -> dict[str, str] | None:
    """What a condition's star and groups hold of a path whose escapes are resolved; None where the condition does not."""
    if when is None:
        return {}
    host = request.host
    if when.scheme is not None and when.scheme != scheme_believed(request, program):
        return None
    if when.host and not any(answers_to(pattern, host) for pattern in when.host):
        return None
    if when.not_host and any(answers_to(pattern, host) for pattern in when.not_host):
        return None
    if when.port is not None and when.port != _port(request, arrival, program):
        return None
    if any(request.saying.header(name) != value for name, value in when.header.items()):
        return None
    if any(request.saying.header(name) == value for name, value in when.not_header.items()):
        return None
    asked = request.url.query.removeprefix("?")
    if when.query is not None and compiled(when.query, shared).search(asked) is None:
        return None
    if when.not_query is not None and compiled(when.not_query, shared).search(asked) is not None:
        return None
    return _path_held(when, path, shared)


def _path_held(when: When, path: str, shared: dict[Any, Any]) -> dict[str, str] | None:
    rest = when.rest_of(path)
    if rest is None:
        return None
    held = {"rest": rest}
    if when.pattern is not None:
        match = compiled(when.pattern, shared).search(path)
        if match is None:
            return None
        held.update({str(number): group or "" for number, group in enumerate(match.groups()[:9], 1)})
    return held


def _host_shown(request: Request, program: WebProgram) -> str:
    """The name asked for as rules see it: without its port; some programs leave a final dot."""
    said = request.said or ""
    if program.passing.keeps_host_exactly and said.partition(":")[0].endswith("."):
        return f"{request.host}."
    return request.shown_host


def _port(request: Request, arrival: Arrival, program: WebProgram) -> int:
    return request.port if program.tells_asked_port else arrival.port


def absolute(site: Site, request: Request, arrival: Arrival, program: WebProgram, path: str) -> str:
    """A server's own form of a path: absolute, with the name asked for and the port that the program tells, where the site says no other."""
    if site.redirects_to == "path-only":
        return path
    port = _port(request, arrival, program)
    scheme = scheme_believed(request, program)
    host, tells = request.shown_host, site.redirects_tell_port is not False
    own = next((str(name) for name in site.names if name and "*" not in name and name[0] != "."), None)
    if site.redirects_to == "own-address" and own is not None:
        # A program that knows the port by what was asked knows none of a name that was not.
        host, tells = own, tells and not program.tells_asked_port
    suffix = "" if port == DEFAULT_PORTS[scheme] or not tells else f":{port}"
    return f"{scheme}://{host}{suffix}{path}"
