"""What can be found about websites without asking any question: folders, error pages, parts of pages, files that wait."""

from collections.abc import Iterator
from contextlib import suppress
from urllib.parse import unquote, urlsplit

from portolan.diagnosis.base import Case, Finding, Home, Severity, all_homes, warned
from portolan.diagnosis.proposal import Proposal, remedy
from portolan.estate.led import led_by_name
from portolan.estate.names import is_exact
from portolan.estate.site import Site
from portolan.estate.url import BadUrlError
from portolan.estate.vantage import Vantage
from portolan.evidence.kinds.content import WithinRate
from portolan.http.binding import bound, led_site
from portolan.http.content import content, folder_at
from portolan.http.sections import effective
from portolan.http.tree import tree_of
from portolan.journey.expectation import vantages_for
from portolan.journey.parts import Part, lacking
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.nearest import nearest

warned(
    "page-part-missing",
    "A page takes something from its own site that is not there",
    "a page without its image, style or script",
    "Put the file where the page looks for it, or correct the page; letters count.",
    __name__,
)
warned(
    "page-part-plain",
    "A secure page takes something from a plain address",
    "browsers do not load it",
    "Write https, or leave scheme and host out.",
    __name__,
)


warned(
    "page-part-refused",
    "A page takes something that its visitor may not have",
    "a page without its image, style or script",
    "Let whoever may have the page have its parts, too; a grant or a rule for the page alone is not enough.",
    __name__,
)


warned(
    "rate-shared",
    "A limit of requests counts everybody who comes through a front or an edge as one visitor",
    "now and then the status of the limit, when several people ask at once",
    "Let the program believe the front's word on who the visitor is, from the front's address alone; or limit at the front.",
    __name__,
)


@remedy("page-part-missing", "page-part-plain", "page-part-refused")
def correct_page(_case: Case, _clue: object) -> Iterator[Proposal]:
    """Pages are no part of the estate."""
    yield Proposal("correct the page, or put the file where it looks for it", [])


@remedy("rate-shared")
def count_visitors(_case: Case, _clue: object) -> Iterator[Proposal]:
    """Whose word is to be believed is said at the program, or the limit stands at the front."""
    yield Proposal("let the program believe whom the front asks for ('believes_address'), or limit at the front", [])


#: So many expectations, and vantages of each, are asked for the parts of their pages.
_MOST_ASKED, _MOST_VANTAGES = 2_000, 4


def _sites(world: World) -> Iterator[tuple[Home, Site]]:
    for home in all_homes(world.estate):
        if isinstance(home.site, Site) and home.site.in_force:
            yield home, home.site


def _serving(world: World) -> Iterator[tuple[Home, Site]]:
    """Sites as they serve: where the name leads to the folder, one for each of their names."""
    for home, site in _sites(world):
        if not led_by_name(site.folder):
            yield home, site
            continue
        program = world.program(home.service)
        yield from ((home, led_site(site, name, program, world.shared)) for name in site.names if is_exact(name))


def folders_exist(world: World) -> Iterator[Finding]:
    """Folders that sites serve and that are not there."""
    for home, site in _serving(world):
        for giving in (site, *site.sections):
            own = giving is site or giving.folder is not None or giving.told
            tree = tree_of(giving, home.machine, world.shared) if own and giving.upstream is None else None
            if tree is not None and tree.told and not tree.exists:
                what = (
                    f"its copy, {giving.copy}, is not in the estate"
                    if giving.absent and giving.copy
                    else "it is not there"
                )
                place = giving.place.key("folder" if giving.place.has("folder") else "copy")
                text = f"the folder of {site.name}, {giving.folder or giving.copy}, does not exist: {what}"
                yield Finding("content-folder-missing", text, place)


def error_pages_can_be_had(world: World) -> Iterator[Finding]:
    """Pages for errors that are missing, closed, or behind the program whose failing they tell of."""
    for home, site in _serving(world):
        program = world.program(home.service)
        for giving in (site, *site.sections):
            for status, page in giving.error_pages.items():
                if not page.startswith("/"):
                    continue
                here = effective(site, page, program, world.shared)
                place = giving.place.key("error_pages")
                if here.upstream is not None:
                    behind = {id(each.upstream) for each in (site, *site.sections) if each.upstream is not None}
                    if status >= 500 and (giving.upstream is here.upstream or len(behind) == 1):
                        text = f"the page {page} for the status {status} comes from the program that fails then"
                        yield Finding("error-page-broken", text, place, Severity.WARNING)
                    continue
                if here.answer is not None:
                    continue
                folder = folder_at(here, home.service, home.machine, program, world.shared)
                found = content(here, folder, page, "GET")
                if found.status >= 400:
                    text = f"the page {page} for the status {status} cannot be had: {found.decisions[-1].text}"
                    yield Finding("error-page-broken", text, place, Severity.WARNING)


def names_without_dots(world: World) -> Iterator[Finding]:
    """Names with a final dot, which match nothing."""
    for _, site in _sites(world):
        for index, name in enumerate(site.names):
            if name.endswith("."):
                text = f"the site {site.name} is bound to {name}, with a final dot: requests lose theirs, and it matches nothing"
                yield Finding("binding-name-differs", text, site.place.item("names", index))


def sites_that_wait(world: World) -> Iterator[Finding]:
    """Sites that are written and not in force, since nothing includes their file or nothing loaded it."""
    for home in all_homes(world.estate):
        site = home.site
        if not isinstance(site, Site) or not site.enabled:
            continue
        file = f", in {site.written_in}," if site.written_in else ""
        if not site.included:
            text = f"the site {site.name} is written{file} and no configuration includes it"
            yield Finding("site-not-enabled", text, site.place.key("included"), Severity.WARNING)
        elif not site.loaded:
            text = f"the site {site.name} is written{file} and not loaded: a reload is wanted"
            yield Finding("service-not-reloaded", text, site.place.key("loaded"), Severity.WARNING)


def parts_of_pages(world: World) -> Iterator[Finding]:
    """Images, styles and scripts that are missing, refused, or plain on a secure page; of pages that are expected, by asking."""
    told = set()
    for found in [*_parts_in_folders(world), *_parts_of_expected(world)]:
        key = (found.place.span, found.code) if found.place is not None else None
        if key not in told:
            told.add(key)
            yield found


def _parts_of_expected(world: World) -> Iterator[Finding]:
    """What pages that are expected take and whoever asks for them does not get."""
    buckets = (bucket for store in world.estate.stores.values() for bucket in store.buckets.values())
    if not any(site.page_parts for _, site in _sites(world)) and not any(each.page_parts for each in buckets):
        return
    for found in _expected(world, _MOST_VANTAGES):
        yield from (_part_lacking(part, found.vantage) for part in lacking(world, found))


def _expected(world: World, most: int) -> Iterator[Visit]:
    """What comes of each question that is expected, from so many vantages at most."""
    for expectation in world.estate.expected[:_MOST_ASKED]:
        for vantage in vantages_for(world.estate, expectation)[:most]:
            with suppress(BadUrlError):
                yield visit(world, expectation.url, vantage)


def limits_that_all_share(world: World) -> Iterator[Finding]:
    """Limits by address where the address is that of a front or an edge, for all who ask."""
    if not any(giving.rate is not None for _, site in _sites(world) for giving in (site, *site.sections)):
        return
    shared: dict[int, WithinRate] = {}
    for found in _expected(world, 1):
        arrivals = (each.connection.arrival for each in found.exchanges if each.connection is not None)
        visitors = {each.source for each in arrivals if each is not None}
        told = (step for exchange in found.tree for step in exchange.decisions if isinstance(step, WithinRate))
        for step in told:
            if step.source not in visitors:
                shared.setdefault(id(step.subject), step)
    for step in shared.values():
        text = f"{step.site} takes {step.rate} from one address, and {step.source} asks for everybody: all share it"
        yield Finding("rate-shared", text, step.place, Severity.WARNING)


def _part_lacking(part: Part, vantage: Vantage) -> Finding:
    takes, there, stop = f"{part.page} takes {part.stated.reference[:120]}", part.visit.outcome, part.visit.stop
    if part.plain:
        code, text = "page-part-plain", f"{takes} plainly: on the secure page it is not loaded"
    else:
        code = "page-part-refused" if there.status in (401, 403) else "page-part-missing"
        why = stop.text if stop is not None else f"what comes is {there.status or there.detail}"
        text = f"{takes}, which {vantage.name} does not get: {why}"
    return Finding(code, text, part.stated.place, Severity.WARNING)


def _parts_in_folders(world: World) -> Iterator[Finding]:
    """What pages take from their own site that its folder has not."""
    for home, site in _serving(world):
        if not site.page_parts:
            continue
        secure = any(each.tls and bound(site, each) for each in home.service.listens)
        tree = tree_of(site, home.machine, world.shared)
        names = {str(name) for name in site.names if "*" not in name}
        for part in site.page_parts:
            reference = part.reference
            if reference.lower().startswith("http://"):
                if secure:
                    text = (
                        f"{site.name}/{part.page} takes {reference[:120]} plainly: on the secure page it is not loaded"
                    )
                    yield Finding("page-part-plain", text, part.place, Severity.WARNING)
                if urlsplit(reference).hostname not in names:
                    continue
            name = _own_path(part.page, reference, names)
            if (
                name is None
                or tree is None
                or name in tree.files
                or name in tree.links
                or name.rstrip("/") in tree.folders
            ):
                continue
            near = nearest(name, tree.files)
            text = f"{site.name}/{part.page} takes {reference[:120]}, and {site.name} has no {name}"
            text += f"; {near} exists" if near else ""
            yield Finding("page-part-missing", text, part.place, Severity.WARNING)


def _own_path(page: str, reference: str, names: set[str]) -> str | None:
    """The path in the site's own folder that a reference leads to (RFC 3986 section 5.2); None for what lies elsewhere."""
    try:
        parts = urlsplit(reference)
    except ValueError:
        return None
    if parts.scheme not in ("", "http", "https") or (parts.netloc and parts.hostname not in names) or not parts.path:
        return None
    path = unquote(parts.path)
    if not path.startswith("/"):
        path = f"/{page.rpartition('/')[0]}/{path}"
    kept: list[str] = []
    for each in path.split("/"):
        if each == "..":
            kept = kept[:-1]
        elif each not in ("", "."):
            kept.append(each)
    return "/".join(kept)


WEB_LINTS = (
    folders_exist,
    error_pages_can_be_had,
    names_without_dots,
    sites_that_wait,
    parts_of_pages,
    limits_that_all_share,
)
