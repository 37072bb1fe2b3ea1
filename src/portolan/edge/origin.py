"""Whom an edge asks: the origin's address as it was typed, and what is said there."""

import re
from functools import lru_cache

from portolan.estate.base import IPAddress
from portolan.estate.client import Saying, append_field, of_one_connection
from portolan.estate.edge import EdgeService, Origin
from portolan.estate.url import BadUrlError, Url, parse
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.request import Request
from portolan.programs.protocol import EdgeWays
from portolan.source.value import Value

_TYPED = re.compile(r"(?:(?P<scheme>[A-Za-z][A-Za-z0-9+.-]*)://)?(?P<name>[^/]*)(?P<path>/.*)?")


class Typed(Value, frozen=True):
    """An origin's name taken apart: what of it is a scheme or a path, and does not belong there."""

    scheme: str | None
    name: str
    path: str


def typed(origin: Origin) -> Typed:
    """What was typed as an origin's name."""
    return _taken_apart(origin.at or "")


@lru_cache(1024)
def _taken_apart(text: str) -> Typed:
    match = _TYPED.fullmatch(text)
    assert match is not None
    return Typed(match["scheme"], match["name"], (match["path"] or "").rstrip("/"))


def joined(prefix: str, path: str, ways: EdgeWays) -> str:
    """Prefix and path as one."""
    if not prefix:
        return path
    if ways.joins == "one-slash":
        return f"{prefix.rstrip('/')}/{path.lstrip('/')}"
    return prefix + (path[1:] if ways.joins == "in-place-of-slash" else path)


def server_of(origin: Origin, name: str) -> Url:
    """The URL of an origin's server, by the name or address as typed. Raises BadUrlError where that is none."""
    scheme = "https" if origin.secure else "http"
    port = f":{origin.port}" if origin.port is not None and ":" not in name else ""
    shown = f"[{name}]" if name.count(":") > 1 and not name.startswith("[") else name
    return parse(f"{scheme}://{shown}{port}")


class AskedOrigin(Value, frozen=True):
    """What is asked: a URL and what goes with it. `address` is asked whatever the URL's name is."""

    url: Url
    saying: Saying
    address: IPAddress | None = None


def asked_origin(edge: EdgeService, ways: EdgeWays, request: Request, path: str) -> AskedOrigin | Decision:
    """What an edge asks its origin for a request, or why it cannot.

    The name sent in the handshake is the host name sent, and the one that a verified leg checks.
    """
    origin = edge.asks
    parts = typed(origin)
    label = edge.label
    if parts.scheme is not None:
        why = f"'{parts.scheme}://' is a scheme"
        return edge_kinds.OriginNoName(label, str(origin.at), why, place=origin.place, subject=origin)
    try:
        url = server_of(origin, parts.name or request.host)
    except BadUrlError as error:
        return edge_kinds.OriginNoName(label, str(origin.at), str(error), place=origin.place, subject=origin)
    url = url.but(path=joined(parts.path + origin.prefix, path, ways), query=request.url.query)
    return AskedOrigin(url, said_to_origin(edge, ways, request))


def said_to_origin(edge: EdgeService, ways: EdgeWays, request: Request) -> Saying:
    """What an edge says with what it asks (RFC 9110 section 7.6)."""
    origin, saying = edge.asks, request.saying
    host: str | None = None
    if origin.host is not None and origin.host not in ("own", "kept"):
        host = str(origin.host)
    elif ways.host == "kept":
        host = request.host or request.url.host
    headers = dict(saying.headers)
    if not ways.upgrades:
        headers = of_one_connection(headers)
    scheme, source = request.scheme, None if request.source is None else str(request.source)
    if "forwarded" in (ways.scheme_header, ways.address_header):
        _forwarded(headers, ways, scheme, source)
    if ways.scheme_header not in (None, "forwarded"):
        headers[str(ways.scheme_header)] = scheme
    if ways.address_header not in (None, "forwarded") and source is not None:
        append_field(headers, str(ways.address_header), source)
    headers.update((str(name), value) for name, value in origin.sends.items())
    named = host if isinstance(ways.says_name, bool) else ways.says_name
    return Saying(
        saying.method,
        host,
        False,
        named,
        named,
        tuple(headers.items()),
        "1.1",
        saying.password,
        saying.body,
        signed_by=edge.name if origin.signs else "",
    )


def _forwarded(headers: dict[str, str], ways: EdgeWays, scheme: str, source: str | None) -> None:
    """Adds who asked the edge, and how, to the field that is made for it (RFC 7239 section 4)."""
    parts = []
    if ways.address_header == "forwarded" and source is not None:
        parts.append(f'for="[{source}]"' if ":" in source else f"for={source}")
    if ways.scheme_header == "forwarded":
        parts.append(f"proto={scheme}")
    if parts:
        append_field(headers, "forwarded", ";".join(parts))
