"""Remedies for bindings and content."""

from collections.abc import Iterator

from portolan.estate.service import Service, Site
from portolan.faults.base import Case, Finding
from portolan.remedies.base import Patch, Proposal, append, item_path, put, remedy, remove, replace


@remedy("binding-missing", "binding-apex-or-www")
def bind(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Binds the name to the site."""
    site, name = finding.hints["site"], str(finding.hints["name"])
    if isinstance(site, Site):
        yield Proposal(f"let the site {site.name} answer to {name}", append(site.place, "names", name))
        return
    service = finding.hints.get("service")
    if isinstance(service, Service):
        default = finding.hints.get("default")
        for each in service.sites.values():
            if each is not default and each.enabled and each.answer is None:
                yield Proposal(f"let the site {each.name} answer to {name}", append(each.place, "names", name))


@remedy("binding-name-differs")
def correct_name(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Corrects the bound name; or binds the asked one too."""
    site, near, name = finding.hints["site"], str(finding.hints["near"]), str(finding.hints["name"])
    if isinstance(site, Site):
        path = item_path(site.place, "names", site.names.index(near))
        yield Proposal(f"let the site {site.name} answer to {name} instead of {near}", replace(path, name))
        yield Proposal(f"let the site {site.name} answer to {name} too", append(site.place, "names", name))
        yield Proposal(f"or ask for {near}, which is bound", [])


@remedy("site-not-enabled")
def enable(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Switches the site on."""
    site = finding.hints["site"]
    yield Proposal(f"switch the site {site.name} on, and reload", put(site.place, "enabled", True))


@remedy("site-catch-all")
def ask_bound(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Names what is bound."""
    site = finding.hints["site"]
    connection = case.last.connection
    if connection is None or connection.arrival is None:
        return
    if finding.hints["bound"]:
        yield Proposal(
            f"let the site {site.name} give its pages instead of {site.answer}", remove((*site.place.path, "answer"))
        )
        return
    for each in connection.arrival.service.sites.values():
        if each is not site and each.enabled:
            yield Proposal(f"let the site {each.name} answer to {case.host}", append(each.place, "names", case.host))


@remedy("binding-shadowed")
def unshadow(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Frees the name, or binds the site to the listener that takes the request."""
    taker, site, name = finding.hints["taker"], finding.hints["site"], str(finding.hints["name"])
    if isinstance(site, Site) and site.listens:
        yield Proposal(f"bind the site {site.name} to every listener", remove((*site.place.path, "listens")))
    if isinstance(taker, Site) and name in taker.names and len(taker.names) > 1:
        path = item_path(taker.place, "names", taker.names.index(name))
        yield Proposal(f"take the name {name} from the site {taker.name}", remove(path))


@remedy("content-default-missing")
def add_default(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Names the document that the folder has, or adds the one that is asked for."""
    site, folder, like = finding.hints["site"], str(finding.hints["folder"]), finding.hints["like"]
    if not isinstance(site, Site):
        return
    if like:
        yield Proposal(f"name {like} among the default documents of {site.name}", _documents(site, str(like), False))
    wanted = site.default_documents[0] if site.default_documents else "index.html"
    yield Proposal(f"put {folder}{wanted} into the folder of {site.name}", _files(site, folder + wanted))
    yield Proposal(f"let {site.name} list the folder", put(site.place, "listing", True))


def _documents(site: Site, name: str, first: bool) -> Patch:
    rest = [each for each in site.default_documents if each != name]
    return put(site.place, "default_documents", [name, *rest] if first else [*rest, name])


def _files(site: Site, name: str) -> Patch:
    if site.copy is None:
        return append(site.place, "files", name)
    return [*remove((*site.place.path, "copy")), *put(site.place, "files", [*(site.files or ()), name])]


@remedy("content-default-order")
def reorder(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Puts the promised document first."""
    site, wanted = finding.hints["site"], str(finding.hints["wanted"])
    yield Proposal(f"let {site.name} try {wanted} first", _documents(site, wanted, True))


@remedy("content-missing")
def add_file(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Adds the file."""
    site, asked, near = finding.hints["site"], str(finding.hints["asked"]), finding.hints["near"]
    if isinstance(site, Site) and asked and not asked.endswith("/"):
        yield Proposal(f"put {asked} into the folder of {site.name}", _files(site, asked))
    if near:
        yield Proposal(f"or ask for /{near}, which exists", [])
