"""Faults of the site: bindings and content."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, Home, all_homes, fault, listed
from portolan.diagnosis.folders import renamed, with_file
from portolan.diagnosis.proposal import Patch, Proposal, append, item_path, put, remedy, remove, replace
from portolan.estate.service import WebService, sites_of
from portolan.estate.site import Site
from portolan.evidence.kinds import content as content_kinds
from portolan.source.nearest import nearest


class SiteClue(msgspec.Struct, frozen=True):
    """The site that is concerned."""

    site: Site


class NamedClue(msgspec.Struct, frozen=True):
    """The site, and the name that it should answer to."""

    site: Site
    name: str


class SlipClue(msgspec.Struct, frozen=True):
    """The site, its name one slip away, and the name asked for."""

    site: Site
    near: str
    name: str


class CatchAllClue(msgspec.Struct, frozen=True):
    """The site that answers with an error, and whether it is bound to the name."""

    site: Site
    bound: bool


class UnboundClue(msgspec.Struct, frozen=True):
    """The service, the site that was meant, the name, and who took it."""

    service: WebService
    site: Site | WebService | None
    name: str
    default: Site | None


class ShadowClue(msgspec.Struct, frozen=True):
    """The site that took the name, and the one that was meant."""

    taker: Site
    site: Site
    name: str


class FolderClue(msgspec.Struct, frozen=True):
    """The folder without index file, and a file that may be one."""

    site: Site
    folder: str
    like: str | None
    documents: tuple[str, ...] = ()


class WantedClue(msgspec.Struct, frozen=True):
    """The document that should come first."""

    site: Site
    wanted: str
    documents: tuple[str, ...] = ()


class FileClue(msgspec.Struct, frozen=True):
    """The file that is missing, and one that is spelled nearly so."""

    site: Site
    asked: str
    near: str | None


_OTHER = (
    "wrong-page",
    "not-found",
    "no-index-file",
    "answers-error",
    "main-server",
    "name-mismatch",
    "wrong-status",
    "not-secure",
    "expired",
    "self-signed",
    "unknown-issuer",
    "incomplete-chain",
    "loop",
)


def _unbound(case: Case) -> tuple[WebService, Site | None] | None:
    """The service that took a request whose name none of its sites answers to, and its default site."""
    connection = case.exchange.connection
    if connection is None or connection.arrival is None:
        return None
    service, listener = connection.arrival.service, connection.arrival.listener
    if not isinstance(service, WebService) or not service.sites or case.exchange.url.literal is not None:
        return None
    chosen = case.world.table(service, listener).choose(case.host)
    if chosen.by_name or (chosen.site is not None and chosen.site.name == case.site_name):
        return None
    if case.site_name is None and case.symptom not in (
        "answers-error",
        "main-server",
        "not-found",
        "no-index-file",
        "name-mismatch",
    ):
        return None
    return service, chosen.site


def _bound_sites(service: WebService) -> list[Site]:
    """The sites that are switched on."""
    return [site for site in service.sites.values() if site.in_force]


def _holding_off(case: Case) -> WebService | None:
    """The service of the machine that was reached that holds the site, switched off: its listener may not even be open."""
    connection = case.exchange.connection
    if connection is None or (connection.arrival is not None and case.symptom != "plain-spoken"):
        return None
    return next((home.service for home in case.homes() if home.machine is connection.reached), None)


@fault(
    "site-not-enabled",
    "The site is written and not switched on",
    "another page",
    "Switch it on and reload.",
    *_OTHER,
    "plain-spoken",
    "nothing-listens",
)
def not_enabled(case: Case) -> Finding | None:
    """A disabled site answers to the name."""
    unbound = _unbound(case)
    service = unbound[0] if unbound is not None else _holding_off(case)
    if service is None:
        return None
    for site in service.sites.values():
        if not site.in_force and (case.host in site.names or site.name == case.site_name):
            file = f" (written in {site.written_in})" if site.written_in else ""
            if not site.enabled:
                text = f"the site {site.name} is not switched on in {service.name}{file}"
            elif not site.included:
                text = f"the site {site.name} is in a file that {service.name} does not include{file}"
            else:
                continue  # a reload is what is wanted
            return Finding("site-not-enabled", text, site.place, clue=SiteClue(site=site))
    return None


@fault(
    "binding-apex-or-www",
    "Of a name and the same name with www, only one is bound",
    "another page",
    "Bind both names, and send one to the other.",
    *_OTHER,
)
def apex_or_www(case: Case) -> Finding | None:
    """The twin with or without `www.` is bound."""
    unbound = _unbound(case)
    if unbound is None:
        return None
    twin = case.host.removeprefix("www.") if case.host.startswith("www.") else f"www.{case.host}"
    for site in _bound_sites(unbound[0]):
        if twin in site.names:
            return Finding(
                "binding-apex-or-www",
                f"the site {site.name} answers to {twin}, and not to {case.host}",
                site.place,
                clue=NamedClue(site=site, name=case.host),
            )
    return None


@fault(
    "binding-name-differs",
    "A site answers to a name that is a slip away",
    "another page, without an error",
    "Correct the name in the binding, or ask for the name that is bound. DNS, binding and URL must have the same one.",
    *_OTHER,
)
def name_differs(case: Case) -> Finding | None:
    """The names of the sites hold a near miss."""
    unbound = _unbound(case)
    if unbound is None:
        return None
    bound: dict[str, Site] = {name: site for site in reversed(_bound_sites(unbound[0])) for name in site.names}
    close = nearest(case.host, bound)
    if close is None:
        return None
    site = bound[close]
    text = f"no site answers to {case.host}; the site {site.name} answers to {close}, one slip away"
    if close == f"{case.host}.":
        text = (
            f"the site {site.name} is bound to {close}, with a final dot: requests lose theirs, and it matches nothing"
        )
    return Finding("binding-name-differs", text, site.place, clue=SlipClue(site=site, near=close, name=case.host))


@fault(
    "site-catch-all",
    "The site that takes it answers with an error on purpose",
    "that error",
    "Bind the name to the site that should take it.",
    "answers-error",
)
def catch_all(case: Case) -> Finding | None:
    """The site that took it gives an error to everything: the default one, or the one that was meant."""
    response = case.exchange.response
    site = response.site if response is not None else None
    if not isinstance(site, Site) or site.answer is None:
        return None
    unbound = _unbound(case)
    if unbound is not None and any(home.site is site for home in case.homes()):
        unbound = None  # it is the one that was meant, by its name or not
    if unbound is None:
        text = f"the site {site.name} answers {site.answer} to everything"
    elif case.homes():
        return None
    else:
        text = f"no site answers to {case.host}; the default site {site.name} answers {site.answer}"
    return Finding(
        "site-catch-all", text, site.place.key("answer"), clue=CatchAllClue(site=site, bound=unbound is None)
    )


@fault(
    "binding-missing",
    "No site answers to this name; the default one does",
    "another page, or 404",
    "Bind the name to the site.",
    *_OTHER,
)
def binding_missing(case: Case) -> Finding | None:
    """None of the service's sites has the name."""
    unbound = _unbound(case)
    if unbound is None:
        return None
    service, default = unbound
    meant = next((home for home in case.homes() if home.service is service), None)
    took = f"; the default site {default.name} takes it" if default is not None else ""
    text = f"no site of {service.name} answers to {case.host}{took}"
    if meant is None and case.site_name is not None and case.homes():
        return None  # the name leads to a machine that does not hold the site
    place = meant.site.place if meant is not None else service.place
    return Finding(
        "binding-missing",
        text,
        place,
        clue=UnboundClue(service=service, site=meant.site if meant else None, name=case.host, default=default),
    )


@fault(
    "binding-shadowed",
    "A more specific listener, or an earlier site, takes the request",
    "another page",
    "Bind the site to the listener that takes the request, or take the name from the other site.",
    "wrong-page",
    "not-found",
    "no-index-file",
    "answers-error",
    "name-mismatch",
)
def shadowed(case: Case) -> Finding | None:
    """Another site took the name although the expected one has it too."""
    connection = case.exchange.connection
    if connection is None or connection.arrival is None or case.site_name is None:
        return None
    service, listener = connection.arrival.service, connection.arrival.listener
    mine: Home | None = next((home for home in case.homes() if home.service is service), None)
    if (
        not isinstance(service, WebService)
        or mine is None
        or not isinstance(mine.site, Site)
        or case.host not in mine.site.names
        or not mine.site.in_force
    ):
        return None
    taker = case.world.table(service, listener).choose(case.host).site
    if taker is None or taker is mine.site:
        return None
    text = f"the site {taker.name} takes {case.host} on {listener} before {mine.site.name} does"
    return Finding("binding-shadowed", text, taker.place, clue=ShadowClue(taker=taker, site=mine.site, name=case.host))


@fault(
    "content-index-missing",
    "The folder has no index file, and may not be listed",
    "403",
    "Add the index file, or name the one that the folder has.",
    "no-index-file",
)
def default_missing(case: Case) -> Finding | None:
    """No file of the list is in the folder."""
    stop = case.stop
    if not isinstance(stop, content_kinds.NoIndexFile) or not isinstance(stop.subject, Site):
        return None
    site = stop.subject
    folder = stop.folder.lstrip("/")
    inner = [name[len(folder) :] for name in site.files or () if name.startswith(folder)]
    here = [name for name in inner if "/" not in name]
    folders = dict.fromkeys(f"{name.partition('/')[0]}/" for name in inner if "/" in name)
    wanted = [name.lower() for name in index_files_of(case, site)]
    like = next(
        (name for name in here if name.lower() in wanted or name.lower().startswith(("index.", "default.", "home."))),
        None,
    )
    held = f"; it holds {listed([*here, *folders])}" if inner else "; it is empty"
    return Finding(
        "content-index-missing",
        f"{stop.text}{held}",
        site.place,
        clue=FolderClue(site=site, folder=folder, like=like, documents=index_files_of(case, site)),
    )


@fault(
    "content-missing",
    "No such file, or other case of letters",
    "404",
    "Add the file, or ask for the one that exists; letters count.",
    "not-found",
)
def content_missing(case: Case) -> Finding | None:
    """The path leads to no file."""
    stop = case.stop
    if not isinstance(stop, content_kinds.NotFound) or not isinstance(stop.subject, Site):
        return None
    site, asked = stop.subject, stop.path
    files = site.files or ()
    other = next((name for name in files if name.lower() == asked.lower()), None) or nearest(asked, files)
    near = f"; {other} exists" if other else ""
    return Finding(
        "content-missing", f"{stop.text}{near}", site.place, clue=FileClue(site=site, asked=asked, near=other)
    )


@fault(
    "content-index-order",
    "An older document stands first in the order",
    "the old page",
    "Put the new document first, or take the old one away.",
    "wrong-page",
)
def default_order(case: Case) -> Finding | None:
    """Another index file of the same folder was expected."""
    page, expected = case.visit.outcome.page, case.expectation.page if case.expectation else None
    response = case.exchange.response
    if page is None or expected is None or response is None or not isinstance(response.site, Site):
        return None
    site = response.site
    folder, _, got = page.rpartition("/")
    if folder != expected.rpartition("/")[0] or not case.exchange.url.path.endswith("/"):
        return None
    wanted = expected.rpartition("/")[2]
    if wanted not in index_files_of(case, site):
        return None
    return Finding(
        "content-index-order",
        f"{site.name} tries {got} before {wanted}",
        site.place.key("index_files"),
        clue=WantedClue(site=site, wanted=wanted, documents=index_files_of(case, site)),
    )


# -- remedies --


@remedy("binding-missing", "binding-apex-or-www")
def bind(_case: Case, clue: NamedClue | UnboundClue) -> Iterator[Proposal]:
    """Binds the name to the site."""
    site, name = clue.site, clue.name
    if isinstance(site, Site):
        yield Proposal(f"let the site {site.name} answer to {name}", append(site.place, "names", name))
    elif isinstance(clue, UnboundClue):
        for each in clue.service.sites.values():
            if each is not clue.default and each.enabled and each.answer is None:
                yield Proposal(f"let the site {each.name} answer to {name}", append(each.place, "names", name))


@remedy("binding-name-differs")
def correct_name(_case: Case, clue: SlipClue) -> Iterator[Proposal]:
    """Corrects the bound name; or binds the asked one too."""
    site, near, name = clue.site, clue.near, clue.name
    path = item_path(site.place, "names", site.names.index(near))
    yield Proposal(f"let the site {site.name} answer to {name} instead of {near}", replace(path, name))
    yield Proposal(f"let the site {site.name} answer to {name} too", append(site.place, "names", name))
    yield Proposal(f"or ask for {near}, which is bound", [])


@remedy("site-not-enabled")
def enable(_case: Case, clue: SiteClue) -> Iterator[Proposal]:
    """Switches the site on."""
    site = clue.site
    if site.enabled:
        text = f"let the configuration include {site.written_in or 'its file'}, and reload"
        yield Proposal(text, [*put(site.place, "included", True), *put(site.place, "loaded", True)])
        return
    change = [*put(site.place, "enabled", True), *put(site.place, "loaded", True)]
    yield Proposal(f"switch the site {site.name} on, and reload", change if not site.loaded else change[:1])


@remedy("site-catch-all")
def ask_bound(case: Case, clue: CatchAllClue) -> Iterator[Proposal]:
    """Names what is bound."""
    site = clue.site
    connection = case.exchange.connection
    if connection is None or connection.arrival is None:
        return
    if clue.bound:
        yield Proposal(
            f"let the site {site.name} give its pages instead of {site.answer}", remove((*site.place.path, "answer"))
        )
        return
    for each in sites_of(connection.arrival.service).values():
        if each is not site and each.enabled:
            yield Proposal(f"let the site {each.name} answer to {case.host}", append(each.place, "names", case.host))


@remedy("binding-shadowed")
def unshadow(_case: Case, clue: ShadowClue) -> Iterator[Proposal]:
    """Frees the name, or binds the site to the listener that takes the request."""
    taker, site, name = clue.taker, clue.site, clue.name
    if site.listens:
        yield Proposal(f"bind the site {site.name} to every listener", remove((*site.place.path, "listens")))
    if name in taker.names and len(taker.names) > 1:
        path = item_path(taker.place, "names", taker.names.index(name))
        yield Proposal(f"take the name {name} from the site {taker.name}", remove(path))


@remedy("content-index-missing")
def add_default(case: Case, clue: FolderClue) -> Iterator[Proposal]:
    """Names the document that the folder has, or adds the one that is asked for."""
    site, folder, like = clue.site, clue.folder, clue.like
    if like and like.removesuffix(".txt") in clue.documents:
        text = f"name the file {folder}{like.removesuffix('.txt')}: {like} has an ending that the file browser hides"
        yield Proposal(text, renamed(case, site, folder + like, folder + like.removesuffix(".txt")))
    elif like:
        text = f"name {like} among the index files of {site.name}"
        yield Proposal(text, _index_files(site, clue.documents, like, False))
    wanted = clue.documents[0] if clue.documents else "index.html"
    yield Proposal(f"put {folder}{wanted} into the folder of {site.name}", with_file(case, site, folder + wanted))
    yield Proposal(f"let {site.name} list the folder", put(site.place, "listing", True))


def index_files_of(case: Case, site: Site) -> tuple[str, ...]:
    """The index files that are tried in a site: its own, else its program's."""
    if site.index_files is not None:
        return site.index_files
    home = next((home for home in all_homes(case.estate) if home.site is site), None)
    return case.world.program(home.service).index_files if home is not None else ("index.html",)


def _index_files(site: Site, documents: tuple[str, ...], name: str, first: bool) -> Patch:
    rest = [each for each in documents if each != name]
    return put(site.place, "index_files", [name, *rest] if first else [*rest, name])


@remedy("content-index-order")
def reorder(_case: Case, clue: WantedClue) -> Iterator[Proposal]:
    """Puts the expected document first."""
    site, wanted = clue.site, clue.wanted
    yield Proposal(f"let {site.name} try {wanted} first", _index_files(site, clue.documents, wanted, True))


@remedy("content-missing")
def add_file(case: Case, clue: FileClue) -> Iterator[Proposal]:
    """Adds the file."""
    site, asked, near = clue.site, clue.asked, clue.near
    if asked.endswith("/") and isinstance(site, Site):
        asked += next(iter(index_files_of(case, site)), "index.html")
    if asked:
        yield Proposal(f"put {asked} into the folder of {site.name}", with_file(case, site, asked))
    if near:
        yield Proposal(f"or ask for /{near}, which exists", [])
