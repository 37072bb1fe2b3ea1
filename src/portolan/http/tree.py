"""What lies at a path of a folder, for the identity that looks: files, folders, links, rights."""

from collections.abc import Iterable, Mapping
from typing import Any

from portolan.estate.base import Rights
from portolan.estate.content import Holding
from portolan.estate.machine import Machine
from portolan.estate.service import ScriptRunner, WebService
from portolan.estate.site import Giving
from portolan.source.shared import Shared
from portolan.source.value import Value

#: path_resolution(7): so many links at most.
_MOST_LINKS = 40


class Identity(Value, frozen=True):
    """Who looks: a user with groups (credentials(7))."""

    user: str
    groups: frozenset[str]

    def may(self, rights: Rights, bit: int) -> bool:
        """Whether one of read (4) and search (1) is granted; the owner's bits count for the owner alone (path_resolution(7))."""
        if self.user == "root":
            return True
        shift = 6 if rights.owner == self.user else 3 if rights.group in self.groups else 0
        return bool(rights.mode >> shift & bit)


def identity_of(service: WebService | ScriptRunner) -> Identity:
    """The identity of a web service, or of a program that runs scripts."""
    return Identity(service.runs_as, frozenset((service.runs_as, *service.runs_in)))


class Bar(Value, frozen=True):
    """What closes a way or a file: the path by which rights name it, and why in words."""

    closed: str
    why: str


class Look(Value, frozen=True):
    """What was found: a `file`, a `folder`, `nothing`, nothing since a file stands in the way (`inside`), a link that leads to
    nothing (`broken`) or round (`circle`), or a way that is `closed`.

    `path` is relative to the folder, absolute for what a link leads to outside of it; `bar` says what closes the way or the
    file, None where it can be read.
    """

    what: str
    path: str
    bar: Bar | None = None


class Tree:
    """A folder made ready. `base` is its absolute path, or nothing where none is known."""

    def __init__(
        self, holding: Holding, base: str, below: str = "", others: "tuple[Tree, ...]" = (), named: str = ""
    ) -> None:
        start = f"{below}/" if below else ""
        files = [name[len(start) :] for name in holding.files or () if name.startswith(start) and name != start]
        self.base = base
        self.holding = holding
        self.told = holding.told
        self.files = frozenset(name for name in files if name and not name.endswith("/"))
        self.links = _below(holding.links, start)
        self.folders = _folders(files, self.links)
        self.rights = {key.rstrip("/"): value for key, value in _below(holding.rights, start).items()}
        if start and below in holding.rights:
            self.rights["."] = holding.rights[below]  # type: ignore[index]
        self.above = _above(holding, base, below)
        self.unreadable = frozenset(key.rstrip("/") for key in _below(dict.fromkeys(holding.unreadable, ""), start))
        if any(below == each or below.startswith(each.rstrip("/") + "/") for each in holding.unreadable):
            self.unreadable |= {"."}
        self.plain = not (self.links or self.rights or self.above or self.unreadable)
        self.exists = not holding.absent and (
            not start or start in (holding.files or ()) or bool(files) or bool(self.links)
        )
        #: Whether a file stands where the folder is meant.
        self.is_file = bool(below) and below in (holding.files or ())
        self.others = others
        #: The folder's path as the program knows it, where a link on it leads elsewhere.
        self.named = named or base
        self._spelled: dict[str, str] | None = None

    def spelled(self, name: str) -> str:
        """A name as the folder spells it, where letters do not count; itself where nothing has that name."""
        if self._spelled is None:
            self._spelled = {each.lower(): each for each in (*self.folders, *self.files)}
        return self._spelled.get(name.lower(), name)

    def look(self, name: str, who: Identity) -> Look:
        """What lies at a relative path without slashes at its ends."""
        if self.plain:
            kind = self._kind(name)
            if kind == "nothing" and any(name.startswith(each + "/") for each in self._ancestors(name)):
                kind = "inside"
            return Look(kind, name)
        for path, rights in self.above:
            if not who.may(rights, 1):
                return Look("closed", name, Bar(path, f"{path} is {rights}"))
        return self._walk(name.split("/") if name else [], who)

    def _ancestors(self, name: str) -> list[str]:
        """The files among the folders that a path leads through."""
        parts = name.split("/")
        return [each for each in ("/".join(parts[:at]) for at in range(1, len(parts))) if each in self.files]

    def _kind(self, name: str) -> str:
        if name in self.files:
            return "file"
        if name in self.folders or not name:
            return "folder"
        return "file" if not self.told else "nothing"

    def _walk(self, parts: list[str], who: Identity) -> Look:
        at: list[str] = []
        links = 0
        bar = self.barred("", who)
        while parts:
            if bar is not None:
                return Look("closed", "/".join(at), bar)
            part = parts.pop(0)
            here = "/".join((*at, part))
            if here in self.links:
                links += 1
                target = self.links[here]
                found = self._followed(target, at)
                if links > _MOST_LINKS:
                    return Look("circle", here)
                if found is None:
                    return self._outside(target, at, parts, who)
                if self._kind("/".join(found)) == "nothing" and "/".join(found) not in self.links:
                    return Look("broken", here)
                if not found and not parts:
                    return Look("folder", "")
                at, parts = [], [*found, *parts]
                continue
            at.append(part)
            if parts:
                if self._kind(here) == "file" and self.told:
                    return Look("inside", here)
                bar = self.barred(here, who)
        name = "/".join(at)
        kind = self._kind(name)
        if kind == "nothing":
            return Look("nothing", name)
        return Look(kind, name, self.barred(name, who, 4))

    def _followed(self, target: str, at: list[str]) -> list[str] | None:
        """A link's target as a path of this folder; None for one outside."""
        if target.startswith("/"):
            if not self.base or not (target.rstrip("/") + "/").startswith(self.base.rstrip("/") + "/"):
                return None
            return [part for part in target[len(self.base.rstrip("/")) :].split("/") if part]
        found = list(at)
        for part in target.split("/"):
            if part == "..":
                if not found:
                    return None
                found.pop()
            elif part not in ("", "."):
                found.append(part)
        return found

    def _outside(self, target: str, at: list[str], parts: list[str], who: Identity) -> Look:
        """What a link out of this folder leads to: in another folder of the machine, where one is stated there."""
        whole = target if target.startswith("/") else f"{self.base}/{'/'.join((*at, target))}"
        path = "/" + "/".join(_plain([*whole.split("/"), *parts]))
        for tree in self.others:
            if (path + "/").startswith(tree.base.rstrip("/") + "/"):
                found = tree.look(path[len(tree.base) :].strip("/"), who)
                return found.but(path=f"{tree.base.rstrip('/')}/{found.path}".rstrip("/"))
        return Look("broken", path)

    def barred(self, name: str, who: Identity, bit: int = 1) -> Bar | None:
        """Why a folder may not be passed (1), or something not be read (4); None where it may."""
        key, shown = name or ".", name or "the folder"
        if key in self.unreadable:
            return Bar(key, f"{shown} is closed to it")
        rights = self.rights.get(key)
        return None if rights is None or who.may(rights, bit) else Bar(key, f"{shown} is {rights}")


def _plain(parts: Iterable[str]) -> list[str]:
    kept: list[str] = []
    for part in parts:
        if part == "..":
            kept = kept[:-1]
        elif part not in ("", "."):
            kept.append(part)
    return kept


def _below(held: dict[Any, Any], start: str) -> dict[str, Any]:
    """The entries below a start, relative to it; absolute ones are not among them."""
    return {
        str(key)[len(start) :].removeprefix("./") or ".": value
        for key, value in held.items()
        if str(key).startswith(start) and not str(key).startswith("/")
    }


def _folders(files: list[str], links: dict[str, str]) -> frozenset[str]:
    found = {""}
    for name in (*files, *links):
        above = name.rstrip("/") if name.endswith("/") else name.rpartition("/")[0]
        while above and above not in found:
            found.add(above)
            above = above.rpartition("/")[0]
    return frozenset(found)


def _above(holding: Holding, base: str, below: str) -> list[tuple[str, Rights]]:
    """The folders above that have stated rights, outermost first."""
    found = [
        (str(path), rights)
        for path, rights in holding.rights.items()
        if path.startswith("/")
        and (base.rstrip("/") + "/").startswith(path.rstrip("/") + "/")
        and path.rstrip("/") != base
    ]
    if below:
        outer = base[: -len(below) - 1]
        parts = below.split("/")
        inner = ["."] + ["/".join(parts[:at]) for at in range(1, len(parts))]
        found += [(f"{outer}/{each}", holding.rights[each]) for each in inner if each in holding.rights]  # type: ignore[index]
    return sorted(found, key=lambda pair: len(pair[0]))


def tree_of(giving: Giving, machine: Machine | None, shared: Shared) -> Tree | None:
    """The folder of a site or section, or None where nothing says what it holds."""
    folders = machine.folders if machine is not None else {}
    if not giving.told and not (giving.rights or giving.unreadable) and not (folders and giving.folder):
        return None
    return shared.of_all("tree", (giving, machine), lambda: _made(giving, machine))


def _made(giving: Giving, machine: Machine | None) -> Tree:
    base = str(giving.folder or "").rstrip("/")
    stated = {name.rstrip("/"): each for name, each in (machine.folders.items() if machine is not None else ())}
    others = tuple(Tree(each, name) for name, each in stated.items())
    if giving.told or not stated or not base:
        return Tree(giving, base, "", others)
    named, base = base, _led(base, stated)
    home = max((name for name in stated if (base + "/").startswith(name + "/")), key=len, default=None)
    if home is None:
        inner = {name: each for name, each in stated.items() if name.startswith(base + "/") and not each.absent}
        holding = _joined(base, inner) if inner else Holding(absent=True, files=())
        return Tree(holding, base, "", others, named)
    return Tree(stated[home], base, base[len(home) + 1 :], others, named)


def _joined(base: str, inner: Mapping[str, Holding]) -> Holding:
    """What a folder holds of which nothing is said but what lies in folders below it."""
    files: list[str] = []
    links: dict[Any, str] = {}
    rights: dict[Any, Rights] = {}
    unreadable: list[Any] = []
    for name, each in inner.items():
        start = name[len(base) + 1 :]
        files += [f"{start}/", *(f"{start}/{file}" for file in each.files or ())]
        links |= {f"{start}/{link}": target for link, target in each.links.items()}
        for key, value in each.rights.items():
            rights[key if key.startswith("/") else start if key == "." else f"{start}/{key}"] = value
        unreadable += [start if key == "." else f"{start}/{key}" for key in each.unreadable]
    place = next(iter(inner.values())).place
    told = all(each.told for each in inner.values())
    return Holding(
        place=place, files=tuple(files) if told else None, links=links, rights=rights, unreadable=tuple(unreadable)
    )


def _led(path: str, stated: Mapping[str, Holding]) -> str:
    """Where a folder's path leads when the links on the way are followed (path_resolution(7))."""
    links = {f"{home}/{name}".rstrip("/"): str(to) for home, each in stated.items() for name, to in each.links.items()}
    for _ in range(_MOST_LINKS if links else 0):
        link = next((each for each in links if (path + "/").startswith(each + "/")), None)
        if link is None:
            break
        start = "" if links[link].startswith("/") else link.rpartition("/")[0]
        path = "/" + "/".join(_plain(f"{start}/{links[link]}{path[len(link) :]}".split("/")))
    return path
