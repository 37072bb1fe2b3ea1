"""What a site's folder gives for a path: file, default document, folder redirect, listing, or nothing."""

from typing import Any, NamedTuple

from portolan.estate.service import Site, WebService
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.programs.protocol import WebProgram


class Content(NamedTuple):
    """The status, the page's path in the site, and for 301 that a slash is missing."""

    status: int
    page: str | None
    decisions: tuple[Decision, ...]
    needs_slash: bool = False


class Folder:
    """A site's files made ready: which paths are files, which are folders."""

    def __init__(self, files: tuple[str, ...]) -> None:
        self.files = frozenset(name.rstrip("/") for name in files if not name.endswith("/"))
        folders = {""}
        for name in files:
            above = name.rstrip("/") if name.endswith("/") else name.rpartition("/")[0]
            while above:
                folders.add(above)
                above = above.rpartition("/")[0]
        self.folders = frozenset(folders)
        self._spelled: dict[str, str] | None = None

    def spelled(self, name: str) -> str:
        """A name as the folder spells it, where letters do not count; itself where nothing has that name."""
        if self._spelled is None:
            self._spelled = {each.lower(): each for each in (*self.folders, *self.files)}
        return self._spelled.get(name.lower(), name)


def folder_of(site: Site, shared: dict[Any, Any]) -> Folder | None:
    """The site's folder, or None where nothing says what it holds."""
    if site.files is None:
        return None
    key = ("folder", id(site))
    found = shared.get(key)
    if found is None:
        found = shared[key] = (Folder(site.files), site)
    folder: Folder = found[0]
    return folder


def content(site: Site | WebService, path: str, program: WebProgram, shared: dict[Any, Any]) -> Content:
    """What the site gives for a request's path, its escapes resolved."""
    name = site.name
    asked = "/".join(part for part in path.split("/") if part)
    is_folder = path.endswith("/")
    documents = site.default_documents if isinstance(site, Site) else program.default_documents
    folder = folder_of(site, shared) if isinstance(site, Site) else None
    place = site.place.key("files") if isinstance(site, Site) and site.files is not None else site.place
    if folder is None:
        page = "/".join(filter(None, (asked, documents[0] if is_folder and documents else "")))
        assumed = http_kinds.PageAssumed(name, page, place=site.place, subject=site)
        return Content(200, page, (assumed, http_kinds.Page(name, page, place=site.place, subject=site)))
    if not program.letters_count:
        asked = folder.spelled(asked)
    if not is_folder:
        if asked in folder.files:
            return Content(200, asked, (http_kinds.Page(name, asked, place=place, subject=site),))
        if asked in folder.folders:
            return Content(301, None, (), needs_slash=True)
        return Content(program.missing, None, (http_kinds.NotFound(name, asked, place=place, subject=site),))
    if asked not in folder.folders:
        return Content(program.missing, None, (http_kinds.NotFound(name, asked + "/", place=place, subject=site),))
    base = f"{asked}/" if asked else ""
    for document in documents:
        held = base + document if program.letters_count else folder.spelled(base + document)
        if held in folder.files:
            return Content(200, held, (http_kinds.Page(name, held, place=place, subject=site),))
    if isinstance(site, Site) and site.listing:
        return Content(200, base, (http_kinds.Listed(name, "/" + base, place=site.place.key("listing"), subject=site),))
    wanted = " or ".join(documents) or "default document"
    stop = http_kinds.NoDefault(name, "/" + base, wanted, place=place, subject=site)
    return Content(program.no_document, None, (stop,))
