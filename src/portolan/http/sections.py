"""What a site gives for a path: its own facts and those of its sections, as the program matches them.

nginx: an exact one; else the longest beginning, which a pattern beats unless it says otherwise; one section counts.
Apache httpd: all that fit count; the first listed says where content or answers come from, the last listed the rest.
"""

from typing import Any

import msgspec

from portolan.estate.base import in_short
from portolan.estate.service import Service
from portolan.estate.site import Access, Giving, RuleFile, Section, Site, Upstream
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import content as content_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Response
from portolan.evidence.request import Request
from portolan.http.binding import compiled
from portolan.programs.protocol import WebProgram
from portolan.source.shared import Shared
from portolan.source.value import Value


class Effective(Value, frozen=True):
    """What holds for a path. `source` says what content there is, `start` which part of the path leads to it.

    `sections` are those that count, `section` the one that decides where the answer comes from.
    """

    site: Site
    section: Section | None
    sections: tuple[Section, ...]
    source: Giving
    start: str
    upstream: Upstream | None
    #: Who says where scripts are run.
    scripts: Giving | None
    answer: Giving | None
    access: Access | None
    methods: tuple[str, ...]
    methods_from: Giving
    documents: tuple[str, ...]
    listing: bool
    fallback: str | None
    tries: tuple[str, ...]
    error_pages: dict[Any, str]
    error_pages_as: dict[Any, int]
    largest_body: int | None


def fits(section: Section, path: str, program: WebProgram, shared: Shared) -> bool:
    """Whether a section is for a path."""
    if section.exact is not None:
        return path == section.exact
    if section.pattern is not None:
        return compiled(section.pattern, shared).search(path) is not None
    start = str(section.path)
    if not path.startswith(start):
        return False
    return program.sections_split_names or start.endswith("/") or path[len(start) : len(start) + 1] in ("", "/")


def chosen(site: Site, path: str, program: WebProgram, shared: Shared) -> tuple[Section, ...]:
    """The sections that count for a path, in their order."""
    if not site.sections:
        return ()
    fitting = [each for each in site.sections if fits(each, path, program, shared)]
    if program.sections_merge or not fitting:
        return tuple(fitting)
    exact = next((each for each in fitting if each.exact is not None), None)
    if exact is not None:
        return (exact,)
    longest = max(
        (each for each in fitting if each.path is not None), key=lambda each: len(each.path or ""), default=None
    )
    if longest is not None and longest.first:
        return (longest,)
    pattern = next((each for each in fitting if each.pattern is not None), None)
    return tuple(each for each in (pattern or longest,) if each is not None)


def _gives(giving: Giving) -> bool:
    """Whether it says where an answer comes from."""
    return giving.upstream is not None or giving.answer is not None or giving.folder is not None or giving.told


def _merged(upstream: Upstream, sections: tuple[Section, ...]) -> Upstream:
    """The first listed says where to, the last listed how it is asked (measured: location blocks are merged in order)."""
    others = [
        each.upstream for each in sections if isinstance(each.upstream, Upstream) and each.upstream is not upstream
    ]
    if not others:
        return upstream
    last = others[-1]
    headers = {name: value for each in (upstream, *others) for name, value in each.headers.items()}
    return msgspec.structs.replace(upstream, host=last.host, replaces_errors=last.replaces_errors, headers=headers)


def passes_on(site: Site, section: Section) -> bool:
    """Whether what falls to a section is passed on, by its own word or the site's."""
    return section.upstream is not None or (
        not section.not_passed_on and not _gives(section) and site.upstream is not None
    )


def _deciding(site: Site, sections: tuple[Section, ...], program: WebProgram) -> Section | None:
    """The section that says where an answer comes from; None where none does, or the site's upstream comes first."""
    answering = next((each for each in sections if each.answer is not None), None)
    giving = next((each for each in sections if _gives(each)), None)
    if answering is not None or not program.upstreams_first:
        return answering or giving
    asked = next((each for each in sections if each.upstream is not None or each.not_passed_on), None)
    if asked is None and site.upstream is not None:
        return None
    if asked is None or asked.upstream is None:
        return next((each for each in sections if _gives(each) and each.upstream is None), None)
    return asked


def _error_pages(held: list[Giving], program: WebProgram) -> dict[Any, str]:
    """The pages for errors: of the innermost that has any, or of all, each for its statuses."""
    if not program.sections_merge:
        return next((dict(each.error_pages) for each in held if each.error_pages), {})
    return {status: page for each in reversed(held) for status, page in each.error_pages.items()}


def effective(site: Site, path: str, program: WebProgram, shared: Shared) -> Effective:
    """What holds for a path of a site; worked out once for its program and the sections that count."""
    sections = chosen(site, path, program, shared)
    return shared.of_all("effective", (site, program, *sections), lambda: _worked_out(site, sections, program))


def _worked_out(site: Site, sections: tuple[Section, ...], program: WebProgram) -> Effective:
    deciding = _deciding(site, sections, program)
    giving: Giving = deciding or site
    held = [*reversed(sections), site]

    def last(field: str) -> Any:
        return next((getattr(each, field) for each in held if getattr(each, field)), None)

    source = giving if giving.folder is not None or giving.told else site
    start = ""
    if source is not site and isinstance(source, Section) and source.path is not None:
        start = str(source.path)
    methods_from = next((each for each in held if each.methods), site)
    listing = next((each.listing for each in held if each.listing is not None), False)
    documents = next((each.index_files for each in held if each.index_files is not None), None)
    kept_out = giving is site and any(each.not_passed_on for each in sections)
    upstream = giving.upstream if isinstance(giving.upstream, Upstream) and not kept_out else None
    if upstream is not None and program.sections_merge:
        upstream = _merged(upstream, sections)
    return Effective(
        site,
        deciding or (sections[-1] if sections else None),
        sections,
        source,
        start,
        upstream,
        None if upstream is not None else next((each for each in held if each.scripts_at is not None), None),
        giving if giving.answer is not None else None,
        last("access"),
        methods_from.methods,
        methods_from,
        program.index_files if documents is None else documents,
        listing,
        last("fallback") if source is site else None,
        last("tries") or () if source is site or upstream is not None else (),
        _error_pages(held, program),
        next((dict(each.error_pages_as) for each in held if each.error_pages), {}),
        last("largest_body"),
    )


def says_to_caches(giving: Giving) -> bool:
    """Whether it says anything to caches."""
    unsaid = giving.cache_control is None and giving.expires_after is None and giving.age is None
    return giving.sets_cookie or not unsaid


def for_caches(response: Response, giving: Giving) -> Response:
    """A response with what is said to caches in its fields (RFC 9111 section 5)."""
    return response.but(
        cache_control=giving.cache_control or response.cache_control,
        cookie=response.cookie or giving.sets_cookie,
        expires=response.expires if giving.expires_after is None else giving.expires_after,
        age=response.age if giving.age is None else giving.age,
    )


def ruled(here: Effective, rules: list[RuleFile]) -> Effective:
    """What holds with files of rules: the deepest says who is let in, unless a section does, and which documents are tried."""
    access = next((each.access for each in reversed(rules) if each.access is not None), None)
    documents = next((each.index_files for each in reversed(rules) if each.index_files is not None), None)
    if access is not None and not any(each.access for each in here.sections):
        here = here.but(access=access)
    return here if documents is None else here.but(documents=documents)


def lost_behind(here: Effective, path: str, request: Request, program: WebProgram) -> Decision | None:
    """Why a request that stays in a section under another path finds nothing: the section's own folder is known by the asked path only.

    None where it can be found; where the method is refused, that comes first (measured with nginx).
    """
    section = here.section
    if program.rules_run_anew or section is None or here.source is not section or section.path is None:
        return None
    if request.saying.method in program.methods.content:
        return None
    facts = (here.site.name, path, section.shown)
    return content_kinds.MovedBehindFolder(*facts, place=section.place, subject=section)


def within_rate(here: Effective, request: Request) -> tuple[Decision, ...]:
    """How often one address may ask, as the last that says so has it."""
    site = here.site
    rate = next((each.rate for each in reversed(here.sections) if each.rate), site.rate) if here.sections else site.rate
    if rate is None:
        return ()
    facts = (site.name, rate.text, rate.refuses_with, request.source)
    return (content_kinds.WithinRate(*facts, place=rate.place, subject=rate),)


def lines_unread(holder: Service | Giving, name: str) -> Decision:
    """That of real configuration the estate has no word for some lines, on which an answer may rest."""
    place = holder.place.key("unread")
    return http_kinds.LinesUnread(name, in_short(holder.unread), place=place, subject=holder)
