"""Where the content of a site is stated, and edits of it that lose nothing: a file more, a file by another name."""

from typing import Any

from portolan.diagnosis.base import Case
from portolan.diagnosis.proposal import Patch, append, item_path, put, remove, replace
from portolan.estate.content import Holding
from portolan.estate.machine import Machine
from portolan.estate.service import WebService
from portolan.estate.site import Giving, Section, Site
from portolan.evidence.kinds import content as content_kinds
from portolan.source.place import pointer


def served_by(case: Case) -> tuple[Machine, WebService] | None:
    """Where the request arrived."""
    connection = case.exchange.connection
    arrival = connection.arrival if connection is not None else None
    if arrival is None or not isinstance(arrival.service, WebService):
        return None
    return arrival.machine, arrival.service


def source_of(case: Case, site: Site) -> Giving:
    """The site, or the section of it, from which content came."""
    taken = case.decision(content_kinds.SectionTakes)
    section = taken.subject if taken is not None else None
    return section if isinstance(section, Section) and (section.folder or section.told) else site


def with_file(case: Case, site: Site, name: str) -> Patch:
    """A file more in the folder that a site's content comes from."""
    holding, below = _stated(case, site)
    if holding.copy is None and holding.inventory is None:
        return append(holding.place, "files", below + name)
    return _listed(holding, [*(holding.files or ()), below + name], dict(holding.rights))


def renamed(case: Case, site: Site, old: str, new: str) -> Patch:
    """A file of that folder under another name; its mode and owner stay what they are."""
    holding, below = _stated(case, site)
    old, new = below + old, below + new
    files = holding.files or ()
    rights: dict[Any, Any] = dict(holding.rights)
    if holding.copy is not None or holding.inventory is not None or old not in files:
        kept = {new if key == old else key: each for key, each in rights.items()}
        return _listed(holding, [new if each == old else each for each in files], kept)
    patch = replace(item_path(holding.place, "files", files.index(old)), new)
    if old in rights:
        within = (*holding.place.path, "rights")
        patch.append({"op": "move", "from": pointer((*within, old)), "path": pointer((*within, new))})
    return patch


def _listed(holding: Holding, files: list[str], rights: dict[Any, Any]) -> Patch:
    """A folder's content written out, with the rights that its list told, in the place of the copy or the list."""
    gone = [
        step for key in ("copy", "inventory") if holding.place.has(key) for step in remove((*holding.place.path, key))
    ]
    told = {str(key): str(each) for key, each in rights.items()}
    return [*gone, *put(holding.place, "files", files), *(put(holding.place, "rights", told) if told else [])]


def _stated(case: Case, site: Site) -> tuple[Holding, str]:
    """Who states the content, and what stands there before the site's own paths: the site itself, a section, or the machine's folder."""
    giving, served = source_of(case, site), served_by(case)
    folder = str(giving.folder or "").rstrip("/")
    if giving.told or served is None or not folder:
        return giving, ""
    holders = [
        (name.rstrip("/"), each)
        for name, each in served[0].folders.items()
        if f"{folder}/".startswith(f"{name.rstrip('/')}/")
    ]
    if not holders:
        return giving, ""
    name, holder = max(holders, key=lambda each: len(each[0]))
    below = folder[len(name) :].strip("/")
    return holder, f"{below}/" if below else ""
