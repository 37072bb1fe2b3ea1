"""Faults of the pages that a site shows for errors: looked at before what caused the error, where the error is expected."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, all_homes, fault
from portolan.diagnosis.proposal import Proposal, append, put, remedy
from portolan.estate.site import Giving, Site
from portolan.evidence.kinds import content as content_kinds
from portolan.source.nearest import nearest


class PageClue(msgspec.Struct, frozen=True):
    """The site, the status, the page, and a page that is spelled nearly so."""

    giving: Giving
    status: int
    page: str
    near: str | None


@fault(
    "error-page-broken",
    "The page that a site shows for an error cannot be had itself",
    "a plain error, or another one",
    "Put the page where the site finds it without the program that fails.",
    "*",
)
def error_page_broken(case: Case) -> Finding | None:
    """An error was expected, with its page; the page's own fetch failed."""
    failed = [each for each in case.visit.decisions if isinstance(each, content_kinds.ErrorPageFails)]
    step = failed[-1] if failed else None
    expectation = case.expectation
    if step is None or expectation is None or expectation.status != step.status:
        return None
    giving = _giver(case, step)
    near = nearest(step.page.lstrip("/"), _pages_of(giving))
    reason = getattr(step.subject, "text", "")
    text = f"{step.text}{': ' if reason else ''}{reason}" + (f"; /{near} exists" if near else "")
    return Finding(
        "error-page-broken",
        text,
        step.place,
        clue=PageClue(giving=giving, status=step.status, page=step.page, near=near),
    )


def _pages_of(giving: Giving) -> list[str]:
    """The pages that a site, and sections with folders of their own, are known to have, by their addresses."""
    found = list(giving.files or ())
    for section in giving.sections if isinstance(giving, Site) else ():
        start = str(section.path or "").strip("/")
        found += [f"{start}/{name}".lstrip("/") for name in section.files or ()]
    return found


def _giver(case: Case, step: content_kinds.ErrorPageFails) -> Giving:
    """Who says the page: the site, or its section."""
    path = step.place.path[:-1] if step.place is not None else ()
    for home in all_homes(case.estate):
        if isinstance(home.site, Site):
            for each in (home.site, *home.site.sections):
                if each.place.path == path:
                    return each
    return Giving()


@remedy("error-page-broken")
def mend_page(_case: Case, clue: PageClue) -> Iterator[Proposal]:
    """Names the page that is there; puts it there; gives it a section of its own."""
    giving, page = clue.giving, clue.page
    if clue.near is not None:
        yield Proposal(
            f"show /{clue.near} for {clue.status}",
            put(giving.place, "error_pages", {**_pages(giving), str(clue.status): f"/{clue.near}"}),
        )
    if giving.files is not None and giving.copy is None and giving.inventory is None:
        yield Proposal(f"put {page.lstrip('/')} into the folder", append(giving.place, "files", page.lstrip("/")))
    elif isinstance(giving, Site) and giving.upstream is not None:
        own = {"exact": page, "folder": "/srv/pages", "files": [page.lstrip("/")]}
        yield Proposal(f"give {page} from a folder of the front itself", append(giving.place, "sections", own))
    rest = {key: value for key, value in _pages(giving).items() if key != str(clue.status)}
    yield Proposal(f"show no page of its own for {clue.status}", put(giving.place, "error_pages", rest))


def _pages(giving: Giving) -> dict[str, str]:
    return {str(int(status)): page for status, page in giving.error_pages.items()}
