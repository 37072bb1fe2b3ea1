"""What an edge holds: the key, how long, and what is given when the time is over (RFC 9111)."""

import re
from collections.abc import Callable
from datetime import datetime, timedelta
from urllib.parse import unquote

from portolan.estate.client import Client
from portolan.estate.edge import Edge, EdgeService, Held, KeyPart, url_of
from portolan.estate.url import Url, parse
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.legs import Exchange, Resolution, Response
from portolan.evidence.request import Request
from portolan.programs.protocol import EdgeWays
from portolan.source.place import Place
from portolan.source.value import Value

#: Asks the origin: now, or (for what was taken earlier) at a moment, and for the address of what is held since then.
Fetch = Callable[[datetime | None, Url | None], Exchange]
#: The status that visitors get where the origin gave nothing.
Failing = Callable[[Exchange], int]
#: What edges took in this visit, by edge and key; nothing where a write cleared what was held.
Just = dict[tuple[int, str], Exchange | None]

_HELD_METHODS = frozenset(("GET", "HEAD"))
#: Methods that change nothing (RFC 9110 section 9.2.1).
_SAFE = frozenset(("GET", "HEAD", "OPTIONS", "TRACE"))
_DIRECTIVE = re.compile(r"([A-Za-z-]+)(?:=\"?([^\",]*)\"?)?")


class Cached(Value, frozen=True):
    """The exchange with the origin that counts, and why it is one of earlier; without a word on that, it was asked now."""

    exchange: Exchange
    decisions: tuple[Decision, ...] = ()

    @property
    def held(self) -> bool:
        """Whether nobody was asked now."""
        return bool(self.decisions)


def directives(text: str) -> dict[str, str]:
    """The directives of a Cache-Control field in lower case (RFC 9111 section 5.2)."""
    return {match[1].lower(): match[2] or "" for match in _DIRECTIVE.finditer(text)}


def lifetime(edge: EdgeService, ways: EdgeWays, response: Response) -> int:
    """For how many seconds an answer is held; 0: not at all."""
    if (response.cookie and not edge.holds_cookies) or response.protocol is not None:
        return 0
    said = directives(response.cache_control) if edge.obeys_origin else {}
    if {"no-store", "private", "no-cache"} & said.keys():
        return 0
    stated = response.expires if edge.obeys_origin else None
    for name in ("max-age", "s-maxage"):  # RFC 9111 section 4.2.1: the one for caches that many share counts first.
        if name in said:
            stated = int(said[name]) if said[name].isdecimal() else 0
    if stated is not None:
        return stated - response.age if ways.counts_age else stated
    if response.status in ways.lifetimes:
        return ways.lifetimes[response.status]
    return ways.error_lifetime if response.status >= 400 else 0


def key_of(parts: tuple[KeyPart, ...], url: Url, host: str, secure: bool, path: str) -> str:
    """What an answer is known by."""
    text = ("https" if secure else "http") + "://" if "scheme" in parts else ""
    if "name" in parts:
        text += host
    if "normal-path" in parts:
        text += re.sub(r"/{2,}", "/", unquote(path))
    elif "path" in parts:
        text += path
    return text + url.query if "query" in parts else text


def through_cache(
    edge: EdgeService,
    ways: EdgeWays,
    request: Request,
    path: str,
    now: datetime,
    fetch: Fetch,
    just: Just,
    asker: Client,
    failing: Failing,
) -> Cached:
    """The origin's answer, held or asked for; `path` is the one that is asked of the origin, and part of the key.

    An exchange without a response that is held stands for the edge's own words on it. Requests that may change something, and those that bring a password, pass by (RFC 9111 section 3.5).
    """
    method = request.saying.method
    key = key_of(ways.key, request.url, request.host, request.encrypted, path)
    shown = key + "".join(f", {name}: {request.saying.header(name)}" for name in edge.key_headers)
    label, at = edge.label, (id(edge), shown)
    if (
        not edge.caches
        or method not in _HELD_METHODS
        or (request.saying.password and edge.program is None)
        or request.saying.upgrades
    ):
        written = fetch(None, None)
        if edge.writes_clear and method not in _SAFE and written.response is not None and written.response.status < 400:
            just[at] = None
        return Cached(written)
    cleared = at in just and just[at] is None
    found = just.get(at)
    if found is not None and found.response is not None:
        what = _what(found.response)
        note = edge_kinds.EdgeHoldsNow(label, shown, what, place=edge.place.key("key"), subject=edge)
        return Cached(found, (note,))
    old = None if cleared else _stated(edge, ways, key, now, fetch, asker, failing)
    if old is not None and now < old.until:
        what = f"{failing(old.exchange)}, its own" if old.response is None else _what(old.response)
        holds = edge_kinds.EdgeHolds(label, shown, old.since, old.until, what, place=old.held, subject=edge)
        return Cached(old.exchange, (holds,))
    as_told = old is not None and _may_be_given_old(edge, ways, old, now)
    if old is not None and not as_told and not _may_be_given_on_error(edge, old, now):
        old = None

    def given_old(held: _Old, why: str) -> Cached:
        stale = edge_kinds.EdgeGivesOld(label, shown, held.until, why, place=held.held, subject=edge)
        return Cached(held.exchange, (stale,))

    if old is not None and ways.after_time == "old-first" and as_told:
        return given_old(old, "the origin is asked behind")
    asked = fetch(None, None)
    answer = asked.response
    if old is not None and (answer is None or answer.protocol is not None or answer.status >= 500):
        why = "the origin does not answer" if answer is None else f"the origin answers {answer.status}"
        return given_old(old, why)
    if answer is not None and lifetime(edge, ways, answer) > 0:
        just[at] = asked
    return Cached(asked)


class _Old(Value, frozen=True):
    """What is held since some time."""

    exchange: Exchange
    response: Response | None
    since: datetime
    until: datetime
    held: Place


def _stated(
    edge: EdgeService, ways: EdgeWays, key: str, now: datetime, fetch: Fetch, asker: Client, failing: Failing
) -> "_Old | None":
    """What the edge holds for a key as stated, or as the origin gave it when it was last asked."""
    if any(_is_for(each, ways, key) for each in edge.purged):
        return None
    for each in edge.holds:
        if each.since <= now and _is_for(each.url, ways, key) and (each.stated or _was(edge, each.since)):
            exchange = _given_then(each, asker) or fetch(each.since, parse(url_of(each.url)))
            return _kept(edge, ways, exchange, each.since, each.keeps, each.place, failing)
    if edge.last_asked is not None and edge.last_asked <= now and _was(edge, edge.last_asked):
        asked = fetch(edge.last_asked, None)
        return _kept(edge, ways, asked, edge.last_asked, None, edge.place.key("last_asked"), failing)
    return None


def _was(edge: EdgeService, moment: datetime) -> bool:
    """Whether there was such an edge at a moment: before its settings were in effect only where others were."""
    return not isinstance(edge, Edge) or not edge.waits(moment) or bool(edge.before)


def _kept(
    edge: EdgeService,
    ways: EdgeWays,
    exchange: Exchange,
    since: datetime,
    stated: int | None,
    place: Place,
    failing: Failing,
) -> "_Old | None":
    response = exchange.response
    if stated is not None:
        seconds = stated
    elif response is None:
        # An edge's own words on an origin that failed are held only where it is told so for their status.
        seconds = edge.keeps.get(failing(exchange), 0)  # type: ignore[call-overload]
    else:
        seconds = lifetime(edge, ways, response)
    return _Old(exchange, response, since, since + timedelta(seconds=seconds), place) if seconds > 0 else None


def _is_for(address: str, ways: EdgeWays, key: str) -> bool:
    """Whether what is held or purged has the key of a request."""
    if address == "*":
        return True
    url = parse(url_of(address))
    own = key_of(ways.key, url, url.host.rstrip("."), url.secure, url.path)
    return key.startswith(own) if address.endswith("*") else key == own


def _given_then(held: Held, asker: Client) -> Exchange | None:
    """The answer that is stated; None where it is to be worked out."""
    if not held.stated:
        return None
    status = held.status or (301 if held.to is not None else 200)
    url = parse(url_of(held.url))
    page = held.page if status < 300 else None
    response = Response(int(status), (), None, page, held.to)
    return Exchange(url, asker, Resolution(url.host, (), None, ()), response=response)


def _may_be_given_old(edge: EdgeService, ways: EdgeWays, old: _Old, now: datetime) -> bool:
    """Whether a page may be given though its time is over (RFC 9111 section 4.2.4); nginx does not ask the origin's word (measured)."""
    if ways.after_time == "asks" or old.response is None:
        return False
    strictly = edge.obeys_origin and edge.program != "nginx"
    if strictly and "must-revalidate" in directives(old.response.cache_control):
        return False
    return edge.old_for is None or now <= old.until + timedelta(seconds=edge.old_for)


def _may_be_given_on_error(edge: EdgeService, old: _Old, now: datetime) -> bool:
    """Whether the origin itself lets a page be given where it fails (RFC 5861 section 4); nginx obeys without being told (measured)."""
    if edge.program != "nginx" or old.response is None or not edge.obeys_origin:
        return False
    seconds = directives(old.response.cache_control).get("stale-if-error", "")
    return seconds.isdecimal() and now <= old.until + timedelta(seconds=int(seconds))


def _what(response: Response) -> str:
    """An answer in words."""
    if response.location is not None:
        return f"{response.status} to {response.location}"
    return f"{response.status}" + (f", {response.page}" if response.page is not None else "")
