"""What a site's folder gives for a path: file, index file, folder redirect, listing, fallback, or why nothing."""

from portolan.estate.machine import Machine
from portolan.estate.service import WebService
from portolan.estate.site import RULE_FILE, Giving, RuleFile, Site
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import content as content_kinds
from portolan.http.sections import Effective
from portolan.http.tree import Bar, Identity, Look, Tree, identity_of, tree_of
from portolan.programs.protocol import WebProgram
from portolan.source.place import Place
from portolan.source.shared import Shared
from portolan.source.value import Value


class Content(Value, frozen=True):
    """The status, the page's path in the site, and for 301 that a slash is missing behind `slash_behind`.

    `inside` is the path of a document that the program finds and then asks for as if the visitor had: with `whole`, every
    program does.
    """

    status: int
    page: str | None
    decisions: tuple[Decision, ...]
    slash_behind: str | None = None
    inside: str | None = None
    whole: bool = False


class Folder:
    """Looks into one folder for one site."""

    def __init__(
        self,
        site: Site | WebService,
        source: Giving | None,
        start: str,
        tree: Tree | None,
        service: WebService,
        program: WebProgram,
    ) -> None:
        self.site = site
        self.source = source
        #: What stands in front of its paths in addresses, as `app/`.
        self.prefix = start.strip("/") + "/" if start.strip("/") else ""
        self.tree = tree
        self.service = service
        self.program = program
        self.who: Identity = identity_of(service)

    def place(self, *keys: str) -> Place:
        """The first of the keys that says something about the content, else the site itself."""
        source = self.source if self.source is not None else self.site
        says = [source.place, *([self.tree.holding.place] if self.tree is not None else [])]
        return next((place.key(key) for place in says for key in keys if place.has(key)), source.place)

    @property
    def label(self) -> str:
        """The folder's path, for people."""
        return str(self.source.folder) if self.source is not None and self.source.folder else "its folder"

    def stop(self, status: int, decision: Decision) -> Content:
        """An end."""
        return Content(status, None, (decision,))

    def page(self, path: str, *before: Decision, file: str = "") -> Content:
        """A page, by the path that leads to it; `file` is what lies there, where links lead elsewhere."""
        name = self.prefix + path
        step = content_kinds.Page(
            self.site.name, name, place=self.place("files", "copy", "inventory"), subject=self.site
        )
        if file and file != path:
            shown = file if file.startswith("/") else self.prefix + file
            step = content_kinds.PageLinked(self.site.name, name, shown, place=self.place("links"), subject=self.site)
        return Content(200, name, (*before, step))

    def assumed(self, path: str) -> Content:
        """A page of which nothing says that it exists."""
        note = content_kinds.PageAssumed(self.site.name, self.prefix + path, place=self.site.place, subject=self.site)
        return self.page(path, note)

    def unreadable(self, path: str, bar: Bar | None, passing: bool = False) -> Content:
        """Something that the identity may not read, or a folder that it may not pass."""
        who = f"{self.service.name} ({self.who.user})"
        shown = self.prefix + path if path else "the folder"
        place = self.place("unreadable", "rights", "inventory", "files")
        bar = bar or Bar(path, "it is closed")
        facts = (who, shown, self.site.name, bar.why, bar.closed, passing)
        return self.stop(403, content_kinds.Unreadable(*facts, place=place, subject=self.site))

    def missing(self, path: str) -> Content:
        """Nothing there."""
        place = self.place("files", "copy", "inventory")
        name = self.prefix + path
        return self.stop(
            self.program.missing, content_kinds.NotFound(self.site.name, name, place=place, subject=self.site)
        )

    def broken(self, look: Look, path: str) -> Content:
        """A link that leads to nothing."""
        why = "which is not there" if self.follows else "and links are not followed"
        target = self.tree.links.get(look.path, look.path) if self.tree is not None else look.path
        decision = content_kinds.LinkBroken(
            self.prefix + path, self.site.name, target, why, place=self.place("links"), subject=self.site
        )
        exactly = self.tree is not None and path in self.tree.links
        status = self.program.broken_link if look.what != "circle" else 403
        return self.stop(status if self.follows else 403 if exactly else self.program.behind_unfollowed, decision)

    def link_to_root(self, tree: Tree) -> Content:
        """A folder that only a link leads to, where links are not followed."""
        facts = (tree.named, self.site.name, tree.base, "and links are not followed")
        stop = content_kinds.LinkBroken(*facts, place=self.place("folder"), subject=self.site)
        return self.stop(self.program.behind_unfollowed, stop)

    @property
    def follows(self) -> bool:
        """Whether links are followed."""
        return self.site.follows_links if isinstance(self.site, Site) else True


def folder_at(
    here: Effective, service: WebService, machine: Machine | None, program: WebProgram, shared: Shared
) -> Folder:
    """The folder from which a path's content comes."""
    tree = tree_of(here.source, machine, shared)
    return Folder(here.site, here.source, here.start, tree, service, program)


def closed(here: Effective, folder: Folder, path: str) -> Content | None:
    """What bars the way to a path before anything else is asked: a folder that may not be passed, a link that leads nowhere."""
    tree = folder.tree
    if tree is None:
        return None
    rest = path[len(here.start) :] if here.start else path
    look = tree.look("/".join(part for part in rest.split("/") if part), folder.who)
    if look.what == "closed":
        return folder.unreadable(look.path, look.bar, True)
    site = folder.site
    if look.what == "folder" and isinstance(site, Site) and site.reads_rule_files and folder.program.reads_rule_files:
        # It cannot see whether a file of rules lies there.
        bar = tree.barred(look.path, folder.who)
        return folder.unreadable(look.path, bar, True) if bar is not None else None
    return folder.broken(look, look.path) if look.what in ("broken", "circle") and folder.follows else None


def unpassable(folder: Folder, name: str) -> Content | None:
    """Why it cannot be seen what lies in a folder; None where it can."""
    tree = folder.tree
    if tree is None:
        return None
    look = tree.look(name, folder.who)
    bar = look.bar if look.what == "closed" else tree.barred(name, folder.who)
    return folder.unreadable(look.path, bar, True) if bar is not None else None


def barred(folder: Folder) -> Content | None:
    """What is wrong with the folder itself: no grant for it, or it is not there."""
    tree = folder.tree
    if tree is None:
        return None
    service, program, site = folder.service, folder.program, folder.site
    base = tree.named or "/"
    if program.judges_grants and service.grants is not None and tree.base:
        # The deepest folder that exists is judged: a missing one has no grant of its own.
        deepest = base if tree.exists and not tree.is_file else base.rpartition("/")[0] or "/"
        if not any((deepest.rstrip("/") + "/").startswith(each.rstrip("/") + "/") for each in service.grants):
            place = service.place.key("grants")
            return folder.stop(403, content_kinds.NotGranted(service.name, base, site.name, place=place, subject=site))
    if tree.told and not tree.exists:
        place = folder.place("folder", "copy", "files")
        return folder.stop(
            program.missing, content_kinds.FolderMissing(site.name, folder.label, place=place, subject=site)
        )
    return None


def rule_files_on(folder: Folder, site: Site, path: str) -> list[RuleFile]:
    """The files of rules that count for a path, outermost first; also one of which nothing is known but that it is there."""
    tree = folder.tree
    if not folder.program.reads_rule_files or not site.reads_rule_files or (tree is not None and not tree.exists):
        return []
    if not site.rule_files and (tree is None or tree.plain):
        return []
    name = path.strip("/")
    lies_in = name if tree is not None and tree.look(name, folder.who).what == "folder" else path.rpartition("/")[0]
    parts = [part for part in lies_in.split("/") if part]
    found: list[RuleFile] = []
    for within in ("/".join(parts[:depth]) for depth in range(len(parts) + 1)):
        stated = [each for each in site.rule_files if each.file_name == RULE_FILE and each.within.strip("/") == within]
        lies = tree is not None and f"{within}/{RULE_FILE}".lstrip("/") in tree.files
        found += stated or ([RuleFile(within=within, place=site.place)] if lies else [])
    return found


def unread_rules(file: RuleFile, folder: Folder) -> Content | None:
    """What a file of rules that cannot be read makes of every request below its folder (measured); None where it can."""
    within = file.within.strip("/")
    name = f"{within}/{file.file_name}".lstrip("/")
    hidden = unpassable(folder, within) if file.broken else None
    if hidden is None and folder.tree is not None:
        bar = folder.tree.barred(name, folder.who, 4)
        hidden = None if bar is None else folder.unreadable(name, bar)
    if hidden is not None or not file.broken:
        return hidden
    facts = (folder.service.name, name, folder.site.name, file.broken)
    return folder.stop(500, content_kinds.RuleFileBroken(*facts, place=file.place, subject=folder.site))


def content(here: Effective, folder: Folder, path: str, method: str) -> Content:
    """What the folder gives for a path, its escapes resolved, and a method."""
    tree, program = folder.tree, folder.program
    rest = path[len(here.start) :] if here.start else path
    asked = "/".join(part for part in rest.split("/") if part)
    is_folder = rest.endswith("/") or (not rest and here.start.endswith("/"))
    if here.tries and tree is not None:
        return _tried(here, folder, tree, path, method)
    if not program.methods.looks_first and method in program.methods.content and here.fallback is None:
        return _method(folder, method, 405)
    if tree is None:
        documents = here.documents
        name = "/".join(filter(None, (asked, documents[0] if is_folder and documents else "")))
        return _by_method(folder, method, "file") or folder.assumed(name)
    shut = barred(folder)
    if shut is not None:
        if isinstance(shut.decisions[-1], content_kinds.NotGranted):
            return shut
        if here.fallback is not None:
            return _fallen_back(here, folder, tree, method, asked)
        return _after_look(folder, method) or shut
    if rest and not rest.startswith("/") and here.start and not here.start.endswith("/"):
        return folder.missing(asked)
    if not program.letters_count:
        asked = tree.spelled(asked)
    look = tree.look(asked, folder.who)
    if not folder.follows and program.unfollowed_to_root and tree.named != tree.base:
        return folder.link_to_root(tree)
    if not folder.follows and any(asked == each or asked.startswith(each + "/") for each in tree.links):
        return folder.broken(look.but(path=asked), asked + ("/" if is_folder else ""))
    if look.what == "closed" and not (here.fallback is not None and program.asks_inside):
        return folder.unreadable(look.path, look.bar, True)
    return _found(here, folder, tree, look, _Asked(path, asked, is_folder, method))


def _tried(here: Effective, folder: Folder, tree: Tree, path: str, method: str) -> Content:
    """The first of several that is there: a file, or, where it ends in a slash, a folder; given as if it had been asked for."""
    as_asked = here.but(tries=(), fallback=None)
    by_rules = folder.program.methods.looks_first
    if by_rules and not tree.exists:
        # Where rules beside the content do it, there are none where the folder is not (measured).
        return content(as_asked, folder, path, method)
    taken = first_tried(here.tries, folder, tree, path)
    led = taken is not None or here.fallback is not None
    if by_rules and led and not path.endswith("/") and tree.look(path.strip("/"), folder.who).what == "folder":
        # Such rules wait until the slash of a folder was added; what they refuse is refused at once (measured).
        return content(as_asked, folder, path, method)
    if taken is not None:
        given = content(as_asked, folder, taken or "/", method)
        if taken == path:
            return given
        step = content_kinds.Tried(folder.site.name, path, taken, place=folder.place("tries"), subject=folder.site)
        return given.but(decisions=(step, *given.decisions))
    if by_rules and here.fallback is not None and tree.look(here.fallback.lstrip("/"), folder.who).what != "file":
        name = here.fallback.lstrip("/")
        return _after_look(folder, method) or folder.missing(name).but(inside=f"/{name}")
    return _fallen_back(here, folder, tree, method, path.strip("/"))


def first_tried(tries: tuple[str, ...], folder: Folder, tree: Tree, path: str) -> str | None:
    """The first of several paths at which a file lies, or, where it ends in a slash, a folder (then without the slash)."""
    for template in tries if tree.exists else ():
        there = template.replace("{path}", path)
        wants_folder = template.endswith("/")
        if there.endswith("/") and not wants_folder:
            continue
        name = "/".join(part for part in there.split("/") if part)
        found = tree.look(name if folder.program.letters_count else tree.spelled(name), folder.who)
        if found.what == ("folder" if wants_folder else "file"):
            return there[:-1] if wants_folder else there
    return None


def tries_anew(here: Effective, folder: Folder, document: str) -> bool:
    """Whether something is tried for a document that was found, too.

    Rules beside the content that only refuse leave a folder's document as it is, and end where they gave one (measured).
    """
    if not here.tries or folder.tree is None:
        return False
    if not folder.program.methods.looks_first:
        return True
    if here.fallback is not None:
        return document.lstrip("/") != here.fallback.lstrip("/")
    return first_tried(here.tries, folder, folder.tree, document) is not None


class _Asked(Value, frozen=True):
    """What is asked of a folder: the whole path, the part of it that leads into the folder, whether it ends in a slash."""

    path: str
    name: str
    is_folder: bool
    method: str

    @property
    def shown(self) -> str:
        """The part with its slash."""
        return self.name + ("/" if self.is_folder and self.name else "")


def _found(here: Effective, folder: Folder, tree: Tree, look: Look, asked: _Asked) -> Content:
    """What becomes of what lies there, or of nothing."""
    program, method = folder.program, asked.method
    bare = look.what == "folder" and not asked.is_folder
    if bare and program.methods.looks_first:
        return _bare(folder, look, asked.path)
    if here.fallback is not None and _absent(here, folder, look, asked.name, asked.is_folder):
        fallen = _fallen_back(here, folder, tree, method, asked.shown)
        if fallen.status == 500 or fallen.inside is not None:
            return fallen
    if bare:
        refused = _method(folder, method, 405) if method in program.methods.content else None
        return refused or _bare(folder, look, asked.path)
    bar = tree.barred(look.path, folder.who) if look.what == "folder" and program.methods.looks_first else None
    if bar is not None:
        return folder.unreadable(look.path + "/", bar, True)
    early = _by_method(folder, method, "any")
    if early is not None:
        return early
    if look.what == "folder":
        return _of_folder(here, folder, tree, look, asked.name, method)
    if look.what == "file" and not asked.is_folder:
        return _file(folder, look, asked.name, method)
    if look.what in ("broken", "circle"):
        return folder.broken(look, asked.name)
    if look.what in ("file", "inside") and not program.falls_back_in_files:
        return folder.missing(asked.shown)
    return _fallen_back(here, folder, tree, method, asked.shown)


def _absent(here: Effective, folder: Folder, look: Look, asked: str, is_folder: bool) -> bool:
    """Whether a fallback stands for what was found."""
    tree, program = folder.tree, folder.program
    assert tree is not None
    if look.what == "folder" and not program.asks_inside:
        documents = (f"{asked}/{each}".lstrip("/") for each in here.documents)
        return not any(tree.look(each, folder.who).what != "nothing" for each in documents)
    if look.what == "inside" or (look.what == "file" and is_folder):
        return program.falls_back_in_files
    return look.what in ("nothing", "closed") or (look.what in ("broken", "circle") and program.asks_inside)


def _method(folder: Folder, method: str, status: int) -> Content:
    return folder.stop(
        status, content_kinds.MethodRefused(folder.site.name, method, place=folder.site.place, subject=folder.site)
    )


def _by_method(folder: Folder, method: str, what: str) -> Content | None:
    """What a method gets at a file, or in place of a page."""
    methods = folder.program.methods
    if method in methods.bare:
        note = content_kinds.MethodAnswered(folder.site.name, method, place=folder.site.place, subject=folder.site)
        return Content(200, None, (note,))
    if method in methods.content or (what == "file" and method in methods.file):
        return _method(folder, method, 405)
    return None


def _after_look(folder: Folder, method: str) -> Content | None:
    return _by_method(folder, method, "any") if folder.program.methods.looks_first else None


def _file(folder: Folder, look: Look, asked: str, method: str) -> Content:
    if look.bar is not None:
        return folder.unreadable(asked, look.bar)
    if not look.path.startswith("/") and folder.tree is not None and not folder.tree.told:
        return _by_method(folder, method, "file") or folder.assumed(look.path)
    return _by_method(folder, method, "file") or folder.page(asked, file=look.path)


def _bare(folder: Folder, look: Look, path: str) -> Content:
    """A folder asked for without its slash."""
    tree = folder.tree
    assert tree is not None
    if folder.program.slash_needs_read and look.bar is not None:
        return folder.unreadable(look.path, look.bar)
    return Content(301, None, (), slash_behind=path)


def _of_folder(here: Effective, folder: Folder, tree: Tree, look: Look, asked: str, method: str) -> Content:
    """A folder: the first index file that is there, a listing, the fallback, or nothing."""
    program = folder.program
    base = f"{asked}/" if asked else ""
    closed = tree.barred(look.path, folder.who)
    if closed is not None and not look.path.startswith("/"):
        return folder.unreadable(base, closed, True)
    for document in here.documents:
        held = base + document if program.letters_count else tree.spelled(base + document)
        found = tree.look(held, folder.who)
        if found.what == "file" and tree.told:
            return _file(folder, found, held, method).but(inside=f"/{folder.prefix}{held}")
        if found.what == "folder":
            return Content(301, None, (), slash_behind=f"/{folder.prefix}{held}")
        if found.what == "closed":
            return folder.unreadable(found.path, found.bar, True)
        if not tree.told:
            return _file(folder, found, held, method)
    if program.keeps_error and here.fallback is not None:
        return _fallen_back(here, folder, tree, method, base)
    if method in program.methods.folder:
        return _method(folder, method, program.methods.folder[method])
    if here.listing:
        if look.bar is not None:
            return folder.unreadable(base, look.bar)
        place = folder.place("listing")
        shown = folder.prefix + base
        return Content(
            200, shown, (content_kinds.Listed(folder.site.name, "/" + shown, place=place, subject=folder.site),)
        )
    wanted = " or ".join(here.documents) or "index file"
    place = folder.place("files", "copy", "inventory")
    stop = content_kinds.NoIndexFile(
        folder.site.name, "/" + folder.prefix + base, wanted, place=place, subject=folder.site
    )
    return folder.stop(program.no_index_file, stop)


def _fallen_back(here: Effective, folder: Folder, tree: Tree, method: str, asked: str) -> Content:
    """The fallback document, where there is one; else nothing."""
    if here.fallback is None:
        return folder.missing(asked)
    name = here.fallback.lstrip("/")
    look = tree.look(name, folder.who)
    place = folder.place("fallback")
    if look.what != "file":
        path = "/" + folder.prefix + asked
        missing = content_kinds.FallbackMissing(folder.site.name, path, name, place=place, subject=folder.site)
        return folder.stop(500, missing).but(inside=f"/{name}", whole=True)
    step = content_kinds.FallbackGiven(
        folder.site.name, "/" + folder.prefix + asked, name, place=place, subject=folder.site
    )
    given = _file(folder, look, name, method)
    return given.but(decisions=(step, *given.decisions), inside=f"/{name}")
