"""Faults of a site's folder: where it lies, who may read it, who is let in, files of rules in it."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, all_homes, fault
from portolan.diagnosis.folders import served_by, source_of
from portolan.diagnosis.proposal import Patch, Proposal, append, item_path, put, remedy, remove, replace
from portolan.estate.base import IPAddress, Rights
from portolan.estate.content import Holding
from portolan.estate.led import led_by_name
from portolan.estate.machine import Machine
from portolan.estate.service import WebService
from portolan.estate.site import RULE_FILE, Access, Giving, RuleFile, Section, Site
from portolan.evidence.kinds import content as content_kinds
from portolan.journey.furnish import made_up
from portolan.source.nearest import nearest
from portolan.source.place import pointer


class FolderClue(msgspec.Struct, frozen=True):
    """Who says the folder, what it should perhaps be, and the service that is granted folders."""

    giving: Giving
    near: str | None
    service: WebService


class GrantClue(msgspec.Struct, frozen=True):
    """The service, the folder that it is not granted, the grant that is a slip away, and who serves the folder."""

    service: WebService
    folder: str
    near: str | None
    giving: Giving
    known: tuple[str, ...] = ()


class RightsClue(msgspec.Struct, frozen=True):
    """Who says what the folder holds, the path that is closed, whether to pass it or to read it, and the service."""

    giving: Giving
    holder: tuple[str | int, ...]
    path: str
    rights: Rights | None
    passing: bool
    service: WebService


class AccessClue(msgspec.Struct, frozen=True):
    """The rule that keeps the visitor out, who the visitor is, and whether the password is what is wanted."""

    access: Access
    address: IPAddress | None
    password: bool


class RuleFileClue(msgspec.Struct, frozen=True):
    """The site and its file of rules."""

    site: Site
    file: RuleFile


def _known_folders(case: Case, machine: Machine, giving: Giving) -> list[str]:
    """Every folder of the machine that is known: stated, inside those, or served by other sites."""
    found: dict[str, None] = {}
    for name, folder in machine.folders.items():
        found[name.rstrip("/")] = None
        for file in folder.files or ():
            above = file.rpartition("/")[0]
            while above:
                found[f"{name.rstrip('/')}/{above}"] = None
                above = above.rpartition("/")[0]
    for home in all_homes(case.estate):
        if home.machine is machine and isinstance(home.site, Site):
            for each in (home.site, *home.site.sections):
                if each is not giving and each.folder and each.told and not each.absent:
                    found[str(each.folder)] = None
    return list(found)


@fault(
    "content-folder-missing",
    "The folder that a site serves does not exist, or is not granted to the server",
    "404, or 403",
    "Write the folder's path as it is on the disk, at the site and in the grant beside it: letters count.",
    "folder-missing",
    "not-granted",
)
def folder_missing(case: Case) -> Finding | None:
    """The folder is not there; or the grant is for another one."""
    stop, served = case.stop, served_by(case)
    if served is None or not isinstance(stop, content_kinds.FolderMissing | content_kinds.NotGranted):
        return None
    machine, service = served
    site = stop.subject
    if not isinstance(site, Site):
        return None
    giving = source_of(case, site)
    known = _known_folders(case, machine, giving)
    folder = str(giving.folder or "")
    near = nearest(folder, known) if folder else None
    if isinstance(stop, content_kinds.NotGranted) and folder not in known and not _exists(machine, folder, giving):
        grant = nearest(folder, service.grants or ())
        text = f"{stop.text}; the folder does not exist either" + (f", {near or grant} does" if near or grant else "")
        if near is not None:
            return Finding(
                "content-folder-missing",
                text,
                giving.place.key("folder"),
                clue=FolderClue(giving=giving, near=near, service=service),
            )
    if isinstance(stop, content_kinds.NotGranted):
        grant = nearest(folder, service.grants or ())
        text = f"{stop.text}; {grant} is granted, one slip away" if grant else stop.text
        clue = GrantClue(service, folder, grant, giving, tuple(known))
        return Finding("content-folder-missing", text, service.place.key("grants"), clue=clue)
    if giving.absent and giving.copy is not None:
        own = folder.rstrip("/").rpartition("/")[2]
        near = own if own and own != giving.copy and nearest(str(giving.copy), [own]) else None
        text = f"the folder of {site.name} does not exist: its copy, {giving.copy}, is not in the estate"
        text += f"; did you mean {near}?" if near else ""
        return Finding(
            "content-folder-missing",
            text,
            giving.place.key("copy"),
            clue=FolderClue(giving=giving, near=near, service=service),
        )
    text = stop.text + (f"; {near} does" if near else "")
    if led_by_name(service.sites[site.name].folder):
        # The name leads there, and other names elsewhere: no other path may stand in its place.
        near = None
    return Finding(
        "content-folder-missing", text, stop.place, clue=FolderClue(giving=giving, near=near, service=service)
    )


def _exists(machine: Machine, folder: str, giving: Giving) -> bool:
    return (giving.told and not giving.absent) or any(
        (folder + "/").startswith(name.rstrip("/") + "/") for name in machine.folders
    )


@remedy("content-folder-missing")
def correct_folder(_case: Case, clue: FolderClue | GrantClue) -> Iterator[Proposal]:
    """Writes the path that exists, at the site or in the grant."""
    if isinstance(clue, GrantClue):
        grants = clue.service.grants or ()
        if clue.near is not None:
            index = next(at for at, each in enumerate(grants) if each == clue.near)
            path = item_path(clue.service.place, "grants", index)
            yield Proposal(
                f"grant {clue.service.name} {clue.folder} instead of {clue.near}", replace(path, clue.folder)
            )
        yield Proposal(
            f"grant {clue.service.name} the folder {clue.folder}", append(clue.service.place, "grants", clue.folder)
        )
        if clue.near in clue.known and clue.giving.folder:
            yield Proposal(
                f"let the site serve {clue.near}, which is granted", put(clue.giving.place, "folder", clue.near)
            )
        return
    giving, near = clue.giving, clue.near
    key = "copy" if giving.absent and giving.copy is not None else "folder"
    if near is not None:
        change = put(giving.place, key, near)
        slip = nearest(near, clue.service.grants or ()) if key == "folder" else None
        if slip is not None and slip == str(giving.folder):
            index = list(clue.service.grants or ()).index(slip)  # type: ignore[arg-type]
            change = [*change, *replace(item_path(clue.service.place, "grants", index), near)]
        yield Proposal(f"let the site serve {near}", change)
    yield Proposal(f"{'or ' if near is not None else ''}put the content into {giving.folder or giving.copy}", [])


# -- rights --


@fault(
    "content-unreadable",
    "The identity that serves may not read a file, or pass a folder above it",
    "403",
    "Let the server's user or group read the file and search every folder above it; rights are not inherited by copying.",
    "unreadable",
)
def unreadable(case: Case) -> Finding | None:
    """Rights keep the server out."""
    stop, served = case.stop, served_by(case)
    if served is None or not isinstance(stop, content_kinds.Unreadable) or not isinstance(stop.subject, Site):
        return None
    machine, service = served
    giving = source_of(case, stop.subject)
    place, path, rights = _closed(machine, giving, stop)
    clue = RightsClue(giving=giving, holder=place, path=path, rights=rights, passing=stop.passing, service=service)
    return Finding("content-unreadable", stop.text, stop.place, clue=clue)


def _closed(
    machine: Machine, giving: Giving, stop: content_kinds.Unreadable
) -> tuple[tuple[str | int, ...], str, Rights | None]:
    """Where the estate says the rights that keep the server out: the path of the holding, the key there, the rights."""
    closed = stop.closed
    if giving.told or not machine.folders or not giving.folder:
        return giving.place.path, closed, giving.rights.get(closed)  # type: ignore[call-overload]
    base = str(giving.folder).rstrip("/")
    home = max((name for name in machine.folders if (base + "/").startswith(name.rstrip("/") + "/")), key=len)
    folder = machine.folders[home]
    below = base[len(home.rstrip("/")) :].strip("/")
    inner = closed
    if closed.startswith(home.rstrip("/") + "/"):
        inner = closed[len(home.rstrip("/")) + 1 :].removesuffix("/.") or "."
    elif not closed.startswith("/") and below:
        inner = below if closed == "." else f"{below}/{closed}"
    return folder.place.path, inner, folder.rights.get(inner)  # type: ignore[call-overload]


@remedy("content-unreadable")
def open_rights(case: Case, clue: RightsClue) -> Iterator[Proposal]:
    """Gives the server's group what is missing; else everybody on the machine."""
    bit = 1 if clue.passing else 4
    does = "pass" if clue.passing else "read"
    if clue.rights is None:
        yield from _uncover(case, clue)
        return
    mode, owner, group = clue.rights.mode, clue.rights.owner, clue.rights.group
    who = clue.service.runs_as
    # The user nobody has no group of its name on systems that people run.
    own = next(iter(clue.service.runs_in), "") if who == "nobody" else who
    path = (*clue.holder, "rights", clue.path)
    if owner == who:
        yield Proposal(
            f"let its owner {who} {does} {clue.path}", _rights(case, path, Rights(mode | bit << 6, owner, group))
        )
        return
    if group not in (who, *clue.service.runs_in):
        if own:
            given = Rights(mode | bit << 3, owner, own)
            yield Proposal(f"give {clue.path} to the group {own}, and let it {does} it", _rights(case, path, given))
    else:
        yield Proposal(
            f"let the group {group} {does} {clue.path}", _rights(case, path, Rights(mode | bit << 3, owner, group))
        )
        return
    yield Proposal(
        f"let everybody on the machine {does} {clue.path}", _rights(case, path, Rights(mode | bit, owner, group))
    )


def _rights(case: Case, path: tuple[str | int, ...], rights: Rights) -> Patch:
    """Writes rights where they are stated, or beside the listing that states them."""
    holder = path[:-2]
    written = _holder_has(case, holder)
    if not written:
        return [{"op": "add", "path": pointer((*holder, "rights")), "value": {str(path[-1]): str(rights)}}]
    return [{"op": "add", "path": pointer(path), "value": str(rights)}]


def _holder_has(case: Case, holder: tuple[str | int, ...]) -> bool:
    """Whether the holding at a path writes `rights` itself."""
    return any(each.place.has("rights") for each in _holders(case) if each.place.path == holder)


def _holders(case: Case) -> Iterator[Holding]:
    """Everything that says what a folder holds."""
    for home in all_homes(case.estate):
        yield from home.machine.folders.values()
        if isinstance(home.site, Site):
            yield from (home.site, *home.site.sections)


def _uncover(case: Case, clue: RightsClue) -> Iterator[Proposal]:
    """What is closed for other reasons than its mode."""
    text = f"let {clue.service.runs_as} read {clue.path}"
    for each in _holders(case):
        if each.place.path == clue.holder and clue.path in each.unreadable:
            path = item_path(each.place, "unreadable", [str(name) for name in each.unreadable].index(clue.path))
            yield Proposal(f"{text} (its access list or label)", remove(path))
            return
    yield Proposal(text, [])


# -- who is let in --


class InnerClue(msgspec.Struct, frozen=True):
    """The section that is for the program's own requests."""

    section: Section


@fault(
    "section-inner-only",
    "The path is for the program's own requests only",
    "404",
    "Take the mark off the section, if visitors are meant to ask for it; or give them another path.",
    "inner-only",
)
def inner_only(case: Case) -> Finding | None:
    """The section is marked so."""
    stop = case.stop
    if stop is None or not isinstance(stop.subject, Section):
        return None
    return Finding("section-inner-only", stop.text, stop.place, clue=InnerClue(section=stop.subject))


@remedy("section-inner-only")
def for_visitors_too(_case: Case, clue: InnerClue) -> Iterator[Proposal]:
    """Visitors may ask for it."""
    yield Proposal(f"let visitors ask for {clue.section.shown}", remove((*clue.section.place.path, "inner_only")))


@fault(
    "access-denied",
    "A rule does not let the visitor in",
    "403, or 401",
    "Let the visitor's range in, if the refusal is not meant; who is asked for a password needs one.",
    "access-denied",
    "password-wanted",
)
def access_denied(case: Case) -> Finding | None:
    """By address, or for want of a password."""
    stop = case.stop
    if not isinstance(stop, content_kinds.AccessDenied | content_kinds.PasswordWanted) or not isinstance(
        stop.subject, Access
    ):
        return None
    connection = case.exchange.connection
    address = connection.arrival.source if connection is not None and connection.arrival is not None else None
    wanted = isinstance(stop, content_kinds.PasswordWanted)
    clue = AccessClue(access=stop.subject, address=address, password=wanted)
    return Finding("access-denied", stop.text, stop.place, clue=clue)


@remedy("access-denied")
def let_in(_case: Case, clue: AccessClue) -> Iterator[Proposal]:
    """Lets this visitor in, and nobody else; or takes the rule away."""
    access = clue.access
    if clue.address is not None and made_up(clue.address):
        # Nobody lets in an address that was made up here.
        return
    if clue.password:
        yield Proposal("give the visitor the password", [])
        yield Proposal("ask nobody for a password any more", remove((*access.place.path, "password")))
        return
    if access.sources and not access.nobody:
        yield Proposal(f"let {clue.address} in", append(access.place, "from", str(clue.address)))
    for index, each in enumerate(access.not_sources):
        if clue.address in each:
            yield Proposal(f"no longer keep {each} out", remove(item_path(access.place, "not_from", index)))
    if access.nobody:
        narrow: Patch = [*remove((*access.place.path, "nobody")), *append(access.place, "from", str(clue.address))]
        yield Proposal(f"let {clue.address} in, and nobody else", narrow)
        yield Proposal("let everybody in", remove(access.place.path))


# -- files of rules --


@fault(
    "rule-file-broken",
    "A file of rules in the folder cannot be read, and breaks all that lies beside and below it",
    "500",
    "Mend the line that the program's log names, or take the file away.",
    "rule-file-broken",
)
def rule_file_broken(case: Case) -> Finding | None:
    """The program stops at it."""
    stop = case.stop
    if not isinstance(stop, content_kinds.RuleFileBroken) or not isinstance(stop.subject, Site):
        return None
    file = next((each for each in stop.subject.rule_files if each.place is stop.place), None)
    if file is None:
        return None
    return Finding("rule-file-broken", stop.text, stop.place, clue=RuleFileClue(site=stop.subject, file=file))


@remedy("rule-file-broken")
def mend_rule_file(_case: Case, clue: RuleFileClue) -> Iterator[Proposal]:
    """Mends it, or takes it away."""
    file = clue.file
    yield Proposal(f"mend what it says ({file.broken})", remove((*file.place.path, "broken")))
    yield Proposal("take the file away", remove(file.place.path))


@fault(
    "rule-file-ignored",
    "A file of rules lies in the folder, and nobody reads it",
    "the site without those rules",
    "Let the program read it, give it the name that the program looks for, or write its rules at the site.",
    "*",
)
def rule_file_ignored(case: Case) -> Finding | None:
    """Its rules would meet the expectation, and the program does not read them, or not under that name."""
    response = case.exchange.response
    site = response.site if response is not None else None
    served = served_by(case)
    if not isinstance(site, Site) or served is None or not site.rule_files:
        return None
    program = case.world.program(served[1])
    for file in site.rule_files:
        named = file.file_name == RULE_FILE
        if file.broken or (named and program.reads_rule_files and site.reads_rule_files):
            continue
        why = (
            f"{program.name} reads no such files"
            if not program.reads_rule_files
            else f"it looks for .htaccess, and this file is {file.file_name}"
            if not named
            else "it is not told to read them"
        )
        text = f"the rules of {file.file_name} in the folder of {site.name} do not count: {why}"
        return Finding("rule-file-ignored", text, file.place, clue=RuleFileClue(site=site, file=file))
    return None


@remedy("rule-file-ignored")
def heed_rule_file(case: Case, clue: RuleFileClue) -> Iterator[Proposal]:
    """Renames it, lets it be read, or writes its redirects at the site."""
    site, file = clue.site, clue.file
    served = served_by(case)
    reads = served is not None and case.world.program(served[1]).reads_rule_files
    named = file.file_name == RULE_FILE
    if reads:
        change: Patch = [] if named else remove((*file.place.path, "file_name"))
        change += [] if site.reads_rule_files else put(site.place, "reads_rule_files", True)
        what = "name it .htaccess" if not named else "let the program read it"
        if change:
            yield Proposal(what, change)
    if file.redirects and not file.within.strip("/"):
        rules = [_written(rule) for rule in file.redirects]
        change = [step for rule in rules for step in append(site.place, "redirects", rule)][:1]
        if len(rules) == 1:
            yield Proposal(f"write its redirect at the site {site.name}", change)


def _written(rule: object) -> object:
    """A value as it is written in the estate's file."""
    node = getattr(rule, "place").node  # noqa: B009
    return _plain(node)


def _plain(node: object) -> object:
    value = getattr(node, "value", None)
    if isinstance(value, list):
        if value and isinstance(value[0], tuple):
            return {str(key.value): _plain(item) for key, item in value}
        return [_plain(each) for each in value]
    text = str(value)
    plain = getattr(node, "style", None) is None
    return int(text) if plain and text.isdecimal() else text
