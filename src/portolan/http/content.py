"""What a site's folder gives for a path: file, default document, folder redirect, listing, or nothing."""

from typing import Any, NamedTuple

from portolan.estate.service import Service, Site
from portolan.evidence.decision import Decision
from portolan.http import law


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


def content(site: Site | Service, path: str, shared: dict[Any, Any]) -> Content:
    """What the site gives for a request's path, its escapes resolved."""
    name = site.name
    asked = "/".join(part for part in path.split("/") if part)
    is_folder = path.endswith("/")
    documents = site.default_documents if isinstance(site, Site) else ("index.html",)
    folder = folder_of(site, shared) if isinstance(site, Site) else None
    place = site.place.key("files") if isinstance(site, Site) and site.files is not None else site.place
    if folder is None:
        page = "/".join(filter(None, (asked, documents[0] if is_folder and documents else "")))
        assumed = Decision(law.PAGE_ASSUMED, (name, page), site.place, site)
        return Content(200, page, (assumed, Decision(law.PAGE, (name, page), site.place, site)))
    if not is_folder:
        if asked in folder.files:
            return Content(200, asked, (Decision(law.PAGE, (name, asked), place, site),))
        if asked in folder.folders:
            return Content(301, None, (), needs_slash=True)
        return Content(404, None, (Decision(law.NOT_FOUND, (name, asked), place, site),))
    if asked not in folder.folders:
        return Content(404, None, (Decision(law.NOT_FOUND, (name, asked + "/"), place, site),))
    base = f"{asked}/" if asked else ""
    for document in documents:
        if base + document in folder.files:
            return Content(200, base + document, (Decision(law.PAGE, (name, base + document), place, site),))
    if isinstance(site, Site) and site.listing:
        return Content(200, base, (Decision(law.LISTED, (name, "/" + base), site.place.key("listing"), site),))
    facts = (name, "/" + base, " or ".join(documents) or "default document")
    return Content(403, None, (Decision(law.NO_DEFAULT, facts, place, site),))
