"""Redirect rules: whether one applies to a request, and where it leads."""

import re
from collections.abc import Callable, Iterator

from portolan.estate.base import bracketed
from portolan.estate.names import answers_to
from portolan.estate.site import Condition, Redirect, Site, When
from portolan.estate.url import DEFAULT_PORTS
from portolan.evidence.legs import Arrival
from portolan.evidence.request import Request
from portolan.http.binding import compiled, own_name
from portolan.programs.protocol import WebProgram
from portolan.source.shared import Shared
from portolan.source.value import Value


def scheme_believed(request: Request, program: WebProgram) -> str:
    """The scheme that a program takes the request for: a front's word where it believes that, else the connection's."""
    if program.believes_scheme is not None:
        said = request.saying.header(program.believes_scheme).partition(",")[0].strip().lower()
        if program.believes_scheme == "forwarded":
            # RFC 7239 section 5.4: the first element is the one of who was asked first.
            pairs = (each.partition("=") for each in said.split(";"))
            said = next((value.strip(' "') for name, _, value in pairs if name.strip() == "proto"), "")
        if said in DEFAULT_PORTS:
            return said
    return request.scheme


class Asked(Value, frozen=True):
    """What rules are asked about: the request, the path as the program goes on with it, whether a file or folder lies there."""

    site: Site
    request: Request
    arrival: Arrival
    program: WebProgram
    shared: Shared
    path: str
    lies: Callable[[str], str]
    on_machine: Callable[[str], bool]

    def known(self, held: dict[str, str], in_query: bool, within: bool) -> dict[str, str]:
        """The parts of the request for a rule's target; within the server what was matched stays as it is."""
        escaped = self.program.escaped
        raw = within and not in_query
        path = escaped(self.path, False) if self.program.path_is_decoded else self.request.url.path
        return {
            "scheme": scheme_believed(self.request, self.program),
            "host": _host_shown(self.site, self.request, self.program),
            "port": str(_port(self.request, self.arrival, self.program)),
            "path": self.path if raw else path,
            "query": self.request.url.query,
            **{name: part if raw else escaped(part, in_query) for name, part in held.items()},
        }


def moved_to(redirect: Redirect, at: Asked, held: dict[str, str]) -> tuple[str, str]:
    """The path under which a request goes on within the server, and its query with its question mark or nothing."""
    text = redirect.target(at.known(held, False, True), at.known(held, True, True))
    path, mark, query = text.partition("?")
    own = at.request.url.query
    if redirect.query == "joined" and own:
        query = f"{query}&{own[1:]}" if mark else own[1:]
    elif redirect.query == "unless-own" and not mark:
        query = own[1:]
    path = path if path.startswith("/") else f"/{path}"
    return path, f"?{query}" if query else ""


def target_of(redirect: Redirect, at: Asked, held: dict[str, str], above: str = "") -> str:
    """Where a rule leads whose condition holds; `above` is what a relative target is put behind."""
    program, request = at.program, at.request
    text = redirect.target(at.known(held, False, False), at.known(held, True, False))
    query = request.url.query
    if redirect.query != "as-written" and query:
        if "?" not in text:
            text += query
        elif redirect.query == "joined":
            text += "&" + query[1:]
    text = program.target(above + text if above and not re.match(r"/|[A-Za-z][A-Za-z0-9+.-]*:", text) else text)
    own = text.startswith("/") and (program.double_slash_is_path or not text.startswith("//"))
    return absolute(at.site, request, at.arrival, program, text) if own and not program.sends_paths else text


def in_their_turn(rules: tuple[Redirect, ...], program: WebProgram, late: bool, inside: bool) -> Iterator[Redirect]:
    """The rules that a program asks early or late; inside, where it asks itself for a folder's document, or outside."""
    for rule in rules:
        rewrites = rule.written_as != "redirect"
        # A rule with the flag R sends, or answers what has no flag of its own (F and G).
        unasked = inside and not program.sends_from_inside and rewrites and rule.inner is None
        comes_late = program.late_redirects and not rewrites
        if comes_late is late and not (unasked and rule.answer not in (403, 410)):
            yield rule


def captures(when: Condition | None, at: Asked) -> dict[str, str] | None:
    """What a condition's star and groups hold of a path whose escapes are resolved; None where the condition does not."""
    if when is None:
        return {}
    if not (_asked_there(when, at) and _said(when, at) and _lying(when, at) and _grouped(when, at)):
        return None
    return _path_held(when, at.path, at.shared)


def _asked_there(when: Condition, at: Asked) -> bool:
    """By scheme, name and port."""
    request, host = at.request, at.request.host
    if when.scheme is not None and when.scheme != scheme_believed(request, at.program):
        return False
    if when.host and not any(answers_to(pattern, host) for pattern in when.host):
        return False
    if when.not_host and any(answers_to(pattern, host) for pattern in when.not_host):
        return False
    return when.port is None or when.port == _port(request, at.arrival, at.program)


def _said(when: Condition, at: Asked) -> bool:
    """By what is said with the request: header fields, the query, the method."""
    saying, asked = at.request.saying, at.request.url.query.removeprefix("?")
    if any(saying.header(name) != value for name, value in when.header.items()):
        return False
    if any(saying.header(name) == value for name, value in when.not_header.items()):
        return False
    if any(not compiled(each, at.shared).search(saying.header(name)) for name, each in when.fits_header.items()):
        return False
    if when.query is not None and compiled(when.query, at.shared).search(asked) is None:
        return False
    if when.not_query is not None and compiled(when.not_query, at.shared).search(asked) is not None:
        return False
    if when.method and not taken(saying.method, when.method):
        return False
    return not (when.not_method and taken(saying.method, when.not_method))


def _lying(when: Condition, at: Asked) -> bool:
    """By what lies at the path, or on the machine."""
    wanted = (("file", when.file), ("folder", when.folder))
    if not all(each is None or each is (at.lies(at.path) == what) for what, each in wanted):
        return False
    if when.file_at is not None and at.lies(when.file_at.replace("{path}", at.path)) != "file":
        return False
    if when.while_file is not None and not at.on_machine(when.while_file):
        return False
    return when.unless_file is None or not at.on_machine(when.unless_file)


def _grouped(when: Condition, at: Asked) -> bool:
    """By further conditions."""
    if not isinstance(when, When) or not (when.any or when.none):
        return True
    if when.any and all(captures(each, at) is None for each in when.any):
        return False
    return all(captures(each, at) is None for each in when.none)


def taken(method: str, methods: tuple[str, ...]) -> bool:
    """Whether a method is one of some; HEAD goes with GET (RFC 9110 section 9.3.2)."""
    return method in methods or (method == "HEAD" and "GET" in methods)


def _path_held(when: Condition, path: str, shared: Shared) -> dict[str, str] | None:
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


def _host_shown(site: Site, request: Request, program: WebProgram) -> str:
    """The name asked for as rules see it: without its port; some programs leave a final dot, some say their own where none was asked."""
    said = request.said or ""
    if program.passing.keeps_host_exactly and said.partition(":")[0].endswith("."):
        return f"{request.host}."
    return request.shown_host or (own_name(site, program) or "" if program.first_name_is_own else "")


def _port(request: Request, arrival: Arrival, program: WebProgram) -> int:
    return request.port if program.tells_asked_port else arrival.port


def absolute(site: Site, request: Request, arrival: Arrival, program: WebProgram, path: str) -> str:
    """A server's own form of a path: absolute, with the name asked for and the port that the program tells, where the site says no other."""
    if site.redirects_to == "path-only":
        return path
    port = _port(request, arrival, program)
    scheme = scheme_believed(request, program)
    host, tells = request.shown_host, site.redirects_tell_port is not False
    own = own_name(site, program) if site.redirects_to == "own-address" or not host else None
    if site.redirects_to == "own-address" and (own is not None or program.first_name_is_own):
        # A program that knows the port by what was asked knows none of a name that was not; nginx knows the name of a site
        # without one as nothing, and the address leads nowhere (measured).
        host, tells = own or "", tells and not program.tells_asked_port
    elif not host:
        # Whoever says no name is sent to the address that was asked, or to the server's own name (measured).
        host = bracketed(arrival.address) if program.first_name_is_own else own or ""
    suffix = "" if port == DEFAULT_PORTS[scheme] or not tells else f":{port}"
    return f"{scheme}://{host}{suffix}{path}"
