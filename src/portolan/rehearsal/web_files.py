"""The folders of websites on the stage: files that hold their own identity, with the rights, links and gaps that are stated."""

import posixpath
import re
from typing import NamedTuple
from urllib.parse import unquote

from portolan.estate.base import Rights
from portolan.estate.content import Holding
from portolan.estate.led import led_by_name
from portolan.estate.machine import Machine
from portolan.estate.service import WebService
from portolan.estate.site import Giving, Section, Site
from portolan.rehearsal import quoting
from portolan.rehearsal.plan import BASE, Plan
from portolan.source.place import Place


class Held(NamedTuple):
    """What a folder of the machine holds: its path there, and what says so."""

    path: str
    holding: Holding


class Room(NamedTuple):
    """A site's, or a section's, own copy of the machine's folders on the stage; `root` is the folder that it serves."""

    below: str
    path: str
    there: bool = True

    @property
    def root(self) -> str:
        """The served folder's whole path on the stage."""
        return f"{BASE}/{self.below}{self.path}"

    def fixed(self, place: Place) -> str:
        """The same, for what needs one folder whatever the name asked for, and where that is said."""
        if led_by_name(self.path):
            raise quoting.UnstageableError("what looks into a folder that the name leads to", self.path, place)
        return self.root

    def at(self, path: str) -> str:
        """Where a path of the machine is on the stage."""
        return f"{BASE}/{self.below}{_normal(path)}"


def _normal(path: str) -> str:
    """An absolute path that stays inside its root."""
    return posixpath.normpath("/" + path.lstrip("/"))


def furnish(
    plan: Plan,
    where: str,
    machine: Machine,
    service: WebService,
    site: Site | WebService,
    giving: Giving | None,
    paths: set[str],
) -> Room:
    """Lays out what a site or section serves."""
    path = _normal(str(giving.folder)) if giving is not None and giving.folder else "/site"
    room = Room(where, path)
    plan.folders.append(where)
    prefix = _prefix(giving)
    held = _held(machine, giving, path)
    if giving is not None and led_by_name(path) and (not held or any(each.holding.links for each in held)):
        what = "a folder that the name leads to, beside links or where nothing is said"
        raise quoting.UnstageableError(what, path, giving.place.key("folder"))
    if held is None:
        plan.folders.append(f"{where}{path}")
        documents = _index_files(site, giving)
        elsewhere = isinstance(giving, Site) and giving.folder is None and (giving.answer or giving.upstream)
        names = [] if elsewhere else _asked_for(paths, documents, prefix)
        for name in names:
            if not any(other.startswith(f"{name}/") for other in names):
                plan.files[f"{where}{path}/{name}"] = f"{site.name}/{prefix}{name}" + _filling(giving, name)
        if giving is not None:
            _rights(plan, where, Held(path, giving), service)
        return room
    behind = room._replace(path=_behind_links(path, held))
    room = room._replace(there=led_by_name(path) or any(_reaches(each, behind.path) for each in held))
    for each in held:
        if not each.holding.absent:
            _lay_out(plan, where, each, behind, f"{site.name}/{prefix}")
            _rights(plan, where, each, service)
    for file in site.rule_files if isinstance(site, Site) and giving is site else ():
        name = "/".join(filter(None, (file.within.strip("/"), file.file_name)))
        if not _fit(name.split("/")):
            raise quoting.UnstageableError("a file's name", name, file.place)
    return room


def _filling(holding: Holding | None, name: str) -> str:
    """What makes a file large that is said to be: empty lines."""
    said = holding.large if holding is not None else None
    return "\n" * 40_000 if said is True or (isinstance(said, tuple) and name in said) else ""


def _reaches(held: Held, path: str) -> bool:
    """Whether a folder is there, in what another one holds or by itself."""
    if held.holding.absent:
        return False
    if held.path == path:
        return True
    names = [f"{held.path}/{name}" for name in held.holding.files or ()]
    return any(name.startswith(path + "/") for name in names)


def _behind_links(path: str, held: list[Held]) -> str:
    """The folder that a path names when the stated links are followed: files say by its name who they are."""
    targets = {
        _normal(f"{each.path}/{name}"): posixpath.join(posixpath.dirname(f"{each.path}/{name}"), target)
        for each in held
        for name, target in each.holding.links.items()
    }
    for _ in targets:
        for link, target in targets.items():
            if path == link or path.startswith(link + "/"):
                path = _normal(target + path[len(link) :])
                break
    return path


def _prefix(giving: Giving | None) -> str:
    """What stands in front of a section's pages."""
    start = str(giving.path or "") if isinstance(giving, Section) else ""
    return start.strip("/") + "/" if start.strip("/") else ""


def _index_files(site: Site | WebService, giving: Giving | None) -> tuple[str, ...]:
    own = giving.index_files if giving is not None else None
    theirs = site.index_files if isinstance(site, Site) else None
    return own if own is not None else theirs if theirs is not None else ("index.html",)


def _held(machine: Machine, giving: Giving | None, path: str) -> list[Held] | None:
    """The folders to lay out: the site's own statement, or the machine's; None where nothing is said."""
    if giving is None:
        return None
    others = [Held(_normal(name), each) for name, each in machine.folders.items()]
    if giving.files is not None or giving.absent:
        return [Held(path, giving), *(each for each in others if not (each.path + "/").startswith(path + "/"))]
    return others if others and giving.folder else None


def _asked_for(paths: set[str], documents: tuple[str, ...], prefix: str) -> list[str]:
    """The files that will be asked for."""
    names = []
    for path in sorted({"/", *paths}):
        parts = [part for part in unquote(path, errors="surrogateescape").split("/") if part]
        if path.endswith("/") and documents:
            parts.append(documents[0])
        if not parts or not _fit(parts):
            continue
        name = "/".join(parts)
        names.append(name)
        if prefix and name.startswith(prefix):
            names.append(name[len(prefix) :])
    return [name for name in names if name]


def _lay_out(plan: Plan, where: str, held: Held, room: Room, identity: str) -> None:
    """Writes a folder's files; each says as which page of the site it is known."""
    below = f"{where}{held.path}"
    plan.folders.append(below)
    for name in held.holding.files or ():
        if not _fit(name.rstrip("/").split("/")):
            raise quoting.UnstageableError("a file's name", name, held.holding.place.key("files"))
        if name.endswith("/"):
            plan.folders.append(f"{below}/{name.rstrip('/')}")
            continue
        whole = f"{held.path}/{name}"
        inside = _inside(room.path, whole)
        page = identity + inside if inside is not None else identity.partition("/")[0] + "/" + whole
        plan.files[f"{below}/{name}"] = page + _filling(held.holding, name)
    for name, target in held.holding.links.items():
        if not _fit(str(name).split("/")) or "\0" in target:
            raise quoting.UnstageableError("a link's name", name, held.holding.place.key("links"))
        start = target if target.startswith("/") else f"{held.path}/{posixpath.dirname(name)}/{target}"
        # Whatever a link says: on the stage it stays inside the site's own copy.
        plan.symlinks.append([f"{below}/{name}", f"{BASE}/{where}{_normal(start)}"])


def _inside(folder: str, whole: str) -> str | None:
    """What stands behind a served folder in a path; the folder may be any that a name leads to."""
    if not led_by_name(folder):
        return whole[len(folder) + 1 :] if whole.startswith(folder + "/") else None
    pattern = "[^/]*".join(map(re.escape, re.split(r"\{[^{}]*\}", folder)))
    found = re.fullmatch(f"{pattern}/(.+)", whole)
    return found[1] if found is not None else None


def _fit(parts: list[str]) -> bool:
    """Whether a path's parts can be names of files at all (path_resolution(7))."""
    return all(
        part not in ("", ".", "..")
        and "\0" not in part
        and "/" not in part
        and len(part.encode("utf-8", "surrogateescape")) < 256
        for part in parts
    )


def _rights(plan: Plan, where: str, held: Held, service: WebService) -> None:
    """Gives files and folders the modes and owners that are stated."""
    if service.runs_as == "root":
        return
    groups = {service.runs_as, *service.runs_in}
    there = {f"{held.path}/{name.rstrip('/')}" for name in held.holding.files or ()} | {held.path}
    for each in list(there):
        while len(each) > len(held.path):
            each = posixpath.dirname(each)
            there.add(each)
    for name, rights in held.holding.rights.items():
        path = _normal(name if name.startswith("/") else f"{held.path}/{name}")
        above = (held.path + "/").startswith(path + "/")
        if (path in there or above) and path not in {f"{held.path}/{each}" for each in held.holding.links}:
            plan.modes.append([f"{where}{path}", rights.mode, *_whose(rights, service, groups)])
    for name in held.holding.unreadable:
        plan.modes.append([f"{where}{_normal(f'{held.path}/{name}')}", 0, False, False])


def _whose(rights: Rights, service: WebService, groups: set[str]) -> list[bool]:
    return [rights.owner == service.runs_as, rights.group in groups]
