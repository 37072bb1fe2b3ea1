"""Faults between a front and the origin behind it: the scheme that is lost on the way, and loops that come of it."""

from collections.abc import Callable, Iterator
from typing import TypeVar

import msgspec

from portolan.diagnosis.base import Case, Finding, fault
from portolan.diagnosis.proposal import Patch, Proposal, put, remedy, remove
from portolan.diagnosis.redirect import path_of_rule
from portolan.diagnosis.upstream import with_facts
from portolan.estate.client import Client, PassingProgram
from portolan.estate.service import StatedProgram, WebService
from portolan.estate.site import Redirect, Site, Upstream
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Exchange

_Asker = TypeVar("_Asker")
#: The header field by which fronts usually say the scheme of the visitor's request.
USUAL = "X-Forwarded-Proto"


class OriginClue(msgspec.Struct, frozen=True):
    """The front's site and upstream, the origin, and the rule there that forces secure."""

    site: Site
    upstream: Upstream
    origin: WebService
    rule: Redirect
    #: The header field by which the scheme is said, or that the rule asks for.
    header: str | None
    said: bool


def forced_secure(case: Case, asker: Callable[[Client], _Asker | None]) -> tuple[Exchange, _Asker, Redirect] | None:
    """The plain inner exchange whose redirect leads back to what the visitor had asked securely; `asker` tells whose are looked at."""
    if case.symptom not in ("loop", "too-many"):
        return None
    for outer in reversed(case.visit.exchanges):
        for exchange in outer.tree:
            found, response = asker(exchange.client), exchange.response
            if found is None or response is None or exchange.url.secure or not outer.url.secure:
                continue
            rule = next((each.subject for each in response.decisions if isinstance(each, http_kinds.Redirected)), None)
            secure = response.location is not None and response.location.startswith("https:")
            if isinstance(rule, Redirect) and secure:
                return exchange, found, rule
    return None


def _forced(case: Case) -> tuple[Exchange, PassingProgram, Redirect] | None:
    return forced_secure(case, lambda client: client if isinstance(client, PassingProgram) else None)


def _said_as(upstream: Upstream) -> str | None:
    """The header field by which a front says the scheme."""
    for name, value in (*upstream.headers.items(), *upstream.appends.items()):
        if "{scheme}" in value or value == "https":
            return str(name)
    return None


def _always_plain(upstream: Upstream) -> str | None:
    """The header field in which a front says `http` for everybody."""
    return next(
        (str(name) for name, value in (*upstream.headers.items(), *upstream.appends.items()) if value == "http"), None
    )


def _asked_as(rule: Redirect) -> str | None:
    """The header field by which a rule asks for the scheme."""
    when = rule.when
    if when is None:
        return None
    return next((str(name) for name in (*when.header, *when.not_header)), None)


@fault(
    "redirect-scheme-not-trusted",
    "The scheme of the visitor's request is passed on and not believed, or not passed on",
    "redirects without end",
    "Let the front say the scheme in a header field, and the rule behind it go by that field.",
    "loop",
    "too-many",
)
def scheme_not_trusted(case: Case) -> Finding | None:
    """One side does its half."""
    forced = _forced(case)
    if forced is None:
        return None
    exchange, client, rule = forced
    said, asked = _said_as(client.upstream), _asked_as(rule)
    origin, wrong = exchange.service, _always_plain(client.upstream)
    if not isinstance(origin, WebService) or (said == asked and wrong is None):
        return None
    if wrong is not None and said is None:
        text = f"{client.site.name} says http in {wrong} for everybody: {origin.name} takes those who came by https for plain too"
        place, asked = client.upstream.place, wrong
    elif asked is not None and said != asked:
        text = f"{origin.name} goes by {asked}, which {client.site.name} does not pass on: it takes every request for plain"
        place = client.upstream.place
    else:
        text = f"{client.site.name} says the scheme in {said}, and {origin.name} does not believe it: it takes every request for plain"
        place = rule.place
    clue = OriginClue(
        client.site, client.upstream, origin, rule, asked or said, said is not None and said == (asked or said)
    )
    return Finding("redirect-scheme-not-trusted", text, place, clue=clue)


@fault(
    "redirect-loop-origin-plain",
    "The front asks plainly, and the origin forces secure",
    "redirects without end",
    "Encrypt the way to the origin, or let it know the scheme that the visitor used. To stop forcing secure weakens.",
    "loop",
    "too-many",
)
def loop_origin_plain(case: Case) -> Finding | None:
    """The origin sends the visitor to where the visitor is."""
    forced = _forced(case)
    if forced is None:
        return None
    exchange, client, rule = forced
    origin = exchange.service
    if not isinstance(origin, WebService):
        return None
    text = (
        f"{client.site.name} asks {origin.name} plainly ({exchange.url}), and {origin.name} sends every plain request "
        f"to the secure address, which leads to {client.site.name} again"
    )
    clue = OriginClue(client.site, client.upstream, origin, rule, None, False)
    return Finding("redirect-loop-origin-plain", text, rule.place, clue=clue)


@remedy("redirect-loop-origin-plain", "redirect-scheme-not-trusted")
def end_loop(case: Case, clue: OriginClue) -> Iterator[Proposal]:
    """Encrypts the leg, verified and else unverified; lets the origin know the scheme; stops forcing secure."""
    if clue.header is not None:
        yield from _say_scheme(clue, clue.header)
    else:
        yield from _encrypt(clue)
        yield from _say_scheme(clue, USUAL)
    text = f"let {clue.origin.name} no longer send plain requests to the secure address"
    yield Proposal(text, remove(path_of_rule(case, clue.rule)))


def _encrypt(clue: OriginClue) -> Iterator[Proposal]:
    member = clue.upstream.to[0]
    for listener in clue.origin.listens:
        if not listener.tls:
            continue
        secure = str(member.but(scheme="https", port=listener.port))
        for verified in (True, False):
            facts: dict[str, object] = {"to": secure}
            if clue.upstream.host != "own":
                facts["host"] = str(clue.upstream.host)
            if verified:
                facts |= {"verifies": True, "server_name": True}
            how = "encrypted and verified" if verified else "encrypted, without checking the certificate"
            patch: Patch = [
                {
                    "op": "replace" if not clue.upstream.place.has("to") else "add",
                    "path": clue.upstream.place.pointer,
                    "value": facts,
                }
            ]
            yield Proposal(f"let {clue.site.name} ask {clue.origin.name} {how} ({secure})", patch)


def _say_scheme(clue: OriginClue, header: str) -> Iterator[Proposal]:
    """The front says the scheme, and the rule goes by it: what of the two is not done yet."""
    patch: Patch = []
    done = []
    if not clue.said and _said_as(clue.upstream) != header.lower():
        kept = (
            {"host": str(clue.upstream.host)}
            if not clue.upstream.place.has("to") and clue.upstream.host != "own"
            else {}
        )
        others = {
            str(name): value for name, value in clue.upstream.headers.items() if str(name).lower() != header.lower()
        }
        headers = {**others, header: "{scheme}"}
        patch += with_facts(clue.upstream, **kept, headers=headers)
        done.append(f"let {clue.site.name} say the scheme in {header}")
    program = clue.origin.program
    if isinstance(program, StatedProgram) and program.believes_scheme is None and _asked_as(clue.rule) is None:
        patch += put(program.place, "believes_scheme", header)
        done.append(f"let {clue.origin.name} believe it")
    elif _asked_as(clue.rule) is None and not _believes(program, header):
        when = {key: value for key, value in _written_when(clue.rule).items() if key != "scheme"}
        patch += put(clue.rule.place, "when", {**when, "not_header": {header: "https"}})
        done.append(f"let the rule of {clue.origin.name} go by it")
    if patch:
        yield Proposal(" and ".join(done), patch)


def _believes(program: object, header: str) -> bool:
    return isinstance(program, StatedProgram) and str(program.believes_scheme or "").lower() == header.lower()


def _written_when(rule: Redirect) -> dict[str, object]:
    """The rule's condition as it is written, for the keys that have plain values."""
    when = rule.when
    if when is None:
        return {}
    found: dict[str, object] = {}
    for key in ("scheme", "path", "pattern", "port"):
        value = getattr(when, key)
        if value is not None:
            found[key] = value if isinstance(value, int) else str(value)
    for key in ("host", "not_host"):
        if getattr(when, key):
            found[key] = [str(each) for each in getattr(when, key)]
    return found
