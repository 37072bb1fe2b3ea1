"""Redirects without end between an edge and its origin: the leg is plain, and the origin forces secure."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, also
from portolan.diagnosis.edge_base import edge_of, origin_put, stated
from portolan.diagnosis.fronts import USUAL, forced_secure
from portolan.diagnosis.proposal import Patch, Proposal, put, remedy, remove
from portolan.diagnosis.redirect import path_of_rule
from portolan.estate.edge import EdgeService
from portolan.estate.service import StatedProgram, WebService
from portolan.estate.site import Redirect
from portolan.evidence.legs import Exchange
from portolan.programs.edges import ways_of


class LoopClue(msgspec.Struct, frozen=True):
    """The edge, its origin's program, and the rule there that forces secure."""

    edge: EdgeService
    origin: WebService
    rule: Redirect
    exchange: Exchange


def encrypted(edge: EdgeService, port: int | None, forced: bool = False) -> Iterator[Proposal]:
    """The leg to the origin encrypted and verified, else encrypted.

    Where the origin forced secure, nothing but the edge does so any more for whoever asks the edge plainly.
    """
    facts: dict[str, object] = {} if port in (None, 443) else {"port": port}
    kept = " with the visitor's host name" if ways_of(edge).host == "kept" else ""
    patch: Patch = put(edge.place, "plain", "to-secure") if forced and edge.plain == "serve" else []
    more = ", and send plain requests to the secure address itself" if patch else ""
    label = edge.label
    text = f"let {label} ask its origin encrypted and verified{kept}{more}"
    yield Proposal(text, [*patch, *origin_put(edge, leg="verified", **facts)])
    text = f"let {label} ask its origin encrypted, without checking the certificate{more}"
    yield Proposal(text, [*patch, *origin_put(edge, leg="encrypted", **facts)])


def forced_by(case: Case) -> tuple[Exchange, EdgeService, Redirect] | None:
    """The plain exchange of an edge with its origin, whose redirect leads back to what the visitor had asked securely."""
    return forced_secure(case, edge_of)


def loop_finding(case: Case) -> Finding | None:
    """What makes the redirects of an edge's origin lead round."""
    forced = forced_by(case)
    if forced is None:
        return None
    exchange, edge, rule = forced
    origin = exchange.service
    if not isinstance(origin, WebService):
        return None
    asked = _asked_as(rule)
    said = ways_of(edge).scheme_header
    clue = LoopClue(edge=edge, origin=origin, rule=rule, exchange=exchange)
    if asked is not None and asked != said:
        text = f"{origin.name} goes by {asked}, which {edge.label} does not pass on: it takes every request for plain"
        return Finding("redirect-scheme-not-trusted", text, edge.place, clue=clue)
    text = (
        f"{edge.label} asks {origin.name} plainly ({exchange.url}), and {origin.name} sends every plain request to the "
        f"secure address, which leads to {edge.label} again"
    )
    return Finding("redirect-loop-origin-plain", text, rule.place, clue=clue)


@also("redirect-scheme-not-trusted", "loop", "too-many")
def edge_scheme_not_trusted(case: Case) -> Finding | None:
    """The rule goes by a header field that the edge does not send."""
    finding = loop_finding(case)
    return finding if finding is not None and finding.code == "redirect-scheme-not-trusted" else None


@also("redirect-loop-origin-plain", "loop", "too-many")
def edge_loop(case: Case) -> Finding | None:
    """The origin sends the visitor to where the visitor is."""
    finding = loop_finding(case)
    return finding if finding is not None and finding.code == "redirect-loop-origin-plain" else None


def _asked_as(rule: Redirect) -> str | None:
    """The header field by which a rule asks for the scheme."""
    when = rule.when
    if when is None:
        return None
    return next((str(name) for name in (*when.header, *when.not_header) if "proto" in name or "scheme" in name), None)


@remedy("redirect-loop-origin-plain", "redirect-scheme-not-trusted")
def end_loop(case: Case, clue: LoopClue) -> Iterator[Proposal]:
    """In this order: verify the leg; encrypt it; the scheme's header believed, and the scheme in the key; stop forcing secure."""
    edge, rule = clue.edge, clue.rule
    own = stated(case, edge)
    for listener in clue.origin.listens:
        if listener.tls:
            yield from encrypted(own, listener.port, forced=True)
    yield from _believed(clue, own)
    text = f"let {clue.origin.name} no longer send plain requests to the secure address"
    yield Proposal(text, remove(path_of_rule(case, rule)))


def _believed(clue: LoopClue, edge: EdgeService) -> Iterator[Proposal]:
    """The origin goes by the header field that is really passed, and the edge keeps the schemes apart."""
    ways, patch = ways_of(edge), []
    asked, header = _asked_as(clue.rule), ways_of(edge).scheme_header
    done: list[str] = []
    if header is None or (asked is not None and asked != header):
        header = asked or USUAL.lower()
        patch += put(edge.place, "passes_scheme_as", header)
        done.append(f"let {edge.label} say the scheme in {header}")
    program = clue.origin.program
    if isinstance(program, StatedProgram) and program.believes_scheme is None and asked is None:
        patch += put(program.place, "believes_scheme", header)
        done.append(f"let {clue.origin.name} believe {header}")
    elif asked is None:
        patch += put(clue.rule.place, "when", {"not_header": {header: "https"}})
        done.append(f"let the rule of {clue.origin.name} go by {header}")
    if "scheme" not in ways.key:
        patch += put(edge.place, "key", ["scheme", *ways.key])
        done.append(f"put the scheme into the key of {edge.label}")
    if patch:
        yield Proposal(", and ".join(done), patch)
