"""Faults of a site's sections: another one takes a path than the one that is meant for it."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, fault
from portolan.diagnosis.proposal import Patch, Proposal, item_path, put, remedy
from portolan.estate.service import WebService
from portolan.estate.site import Section, Site
from portolan.evidence.kinds import http as http_kinds
from portolan.http.sections import effective, fits
from portolan.source.place import pointer


class OrderClue(msgspec.Struct, frozen=True):
    """The site, the section that takes the path, or None where the whole site's upstream does, and the one that is meant."""

    site: Site
    taken: Section | None
    meant: Section


@fault(
    "section-order",
    "A wider section takes the paths of another: it is listed first, or passes on what the other has a folder for",
    "the wrong page, or an error",
    "List the narrower section first. For a folder among what is passed on, also say that its paths are not passed on.",
    "*",
    "wrong-page",
)
def section_order(case: Case) -> Finding | None:
    """Another section fits the path more exactly, and is not the one that decides."""
    for exchange in case.visit.exchanges[-1].tree:
        response, connection = exchange.response, exchange.connection
        arrival = connection.arrival if connection is not None else None
        if response is None or arrival is None or not isinstance(arrival.service, WebService):
            continue
        site = response.site
        program = case.world.program(arrival.service)
        path = program.path(exchange.url.path)
        if not isinstance(site, Site) or not program.sections_merge or not isinstance(path, str):
            continue
        held = [each for each in site.sections if fits(each, path, program, case.world.shared)]
        here = effective(site, path, program, case.world.shared)
        meant = _narrower(held, here.section if here.upstream is not None or here.answer is not None else None)
        if meant is None or meant is here.section:
            continue
        taken = here.section if here.section in held and here.section is not meant else None
        if taken is None and here.upstream is None:
            continue
        why = (
            f"is listed before {meant.shown}"
            if meant.folder is None
            else "is passed on before any folder is looked for"
        )
        by = taken.shown if taken is not None else site.name
        text = f"{by} {why}, and takes {path}"
        return Finding("section-order", text, meant.place, clue=OrderClue(site, taken, meant))
    return None


def _narrower(held: list[Section], taken: Section | None) -> Section | None:
    """The narrowest of the sections that say where content comes from, if it is narrower than the one that takes the path."""
    giving = [each for each in held if each.upstream is not None or each.folder is not None or each.told]
    best = max(giving, key=_width, default=None)
    return None if best is None or (taken is not None and _width(best) <= _width(taken)) else best


def _width(section: Section) -> int:
    """How narrow it is: a single path, then the longer beginnings."""
    return 10_000 if section.exact is not None else len(section.path or "") if section.path is not None else 0


@remedy("section-order")
def narrower_first(_case: Case, clue: OrderClue) -> Iterator[Proposal]:
    """Lets the narrower one decide."""
    site, meant = clue.site, clue.meant
    words: list[str] = []
    patch: Patch = []
    if meant.upstream is None and not meant.not_passed_on:
        words.append(f"keep the paths of {meant.shown} of {site.name} from being passed on")
        patch += put(meant.place, "not_passed_on", True)
    at = [site.sections.index(each) for each in (meant, clue.taken) if each is not None]
    if len(at) == 2 and at[0] > at[1]:
        paths = [pointer(item_path(site.place, "sections", each)) for each in at]
        assert clue.taken is not None
        words.append(f"list {'it' if words else f'{meant.shown} of {site.name}'} before {clue.taken.shown}")
        patch.append({"op": "move", "from": paths[0], "path": paths[1]})
    if patch:
        yield Proposal(", and ".join(words), patch)


class BodyClue(msgspec.Struct, frozen=True):
    """The site, and what the request brings along, in octets."""

    site: Site
    length: int


@fault(
    "body-too-large",
    "The request brings more along than the site takes: an upload over the limit",
    "413",
    "Let the site take as much as its visitors bring; what passes it on, and the program behind, have limits of their own.",
    "body-too-large",
)
def body_too_large(case: Case) -> Finding | None:
    """The limit stands, or is the program's own."""
    stop = case.stop
    if not isinstance(stop, http_kinds.BodyTooLarge) or not isinstance(stop.subject, Site):
        return None
    return Finding("body-too-large", stop.text, stop.place, clue=BodyClue(stop.subject, stop.length))


@remedy("body-too-large")
def take_more(_case: Case, clue: BodyClue) -> Iterator[Proposal]:
    """Raises the limit to what is brought."""
    text = f"let {clue.site.name} take requests of {clue.length} octets"
    yield Proposal(text, put(clue.site.place, "largest_body", clue.length))
