"""Every reader of listings, and a listing made into what a folder holds."""

from portolan.estate.base import FolderPath, Rights
from portolan.formats.inventories import lines, ls
from portolan.formats.inventories.protocol import Entry, InventoryReader
from portolan.source.value import Value

READERS: tuple[InventoryReader, ...] = (ls.Ls(), *lines.READERS)
_MOST_ENTRIES = 200_000
#: More octets than this do not fit one packet beside an answer's head.
LARGE = 1000


class Inventory(Value, frozen=True):
    """What a listing says of a folder; `other` are the numbers of lines that could not be kept."""

    files: tuple[str, ...]
    rights: dict[FolderPath, Rights]
    links: dict[FolderPath, str]
    other: tuple[int, ...]
    #: The files that are larger than one packet; None where it says no sizes.
    large: tuple[FolderPath, ...] | None = None


def inventory(text: str, folder: str | None) -> Inventory:
    """What a listing says of a folder whose path is known or not. Raises ValueError, for users, for what is no listing."""
    rows = text.replace("\r\n", "\n").split("\n")
    reader = next((each for each in READERS if each.recognises(rows)), None)
    if reader is None:
        known = ", ".join(each.name for each in READERS)
        raise ValueError(f"it is no listing known here ({known})")
    entries, other = reader.read(rows)
    if len(entries) > _MOST_ENTRIES:
        raise ValueError(f"it lists more than {_MOST_ENTRIES} files")
    base = _base(entries, folder)
    files: dict[str, None] = {}
    rights: dict[FolderPath, Rights] = {}
    links: dict[FolderPath, str] = {}
    large: list[FolderPath] = []
    sized = False
    for entry in entries:
        if not entry.path.isprintable() or ".." in entry.path.split("/"):
            raise ValueError(f"it holds a name that cannot be shown ({ascii(entry.path)[:80]})")
        path = _relative(entry.path, base)
        if path is None:
            if entry.rights is not None and (base + "/").startswith(entry.path.rstrip("/") + "/"):
                rights[FolderPath(entry.path)] = entry.rights
            continue
        if entry.rights is not None:
            rights[FolderPath(path or ".")] = entry.rights
        if path and entry.kind == "l" and entry.target:
            links[FolderPath(path)] = entry.target
        elif path:
            files[path + "/" if entry.kind == "d" else path] = None
            if entry.size is not None and entry.kind != "d":
                sized = True
                large += [FolderPath(path)] if entry.size > LARGE else []
    return Inventory(tuple(files), rights, links, tuple(other), tuple(large) if sized else None)


def _base(entries: list[Entry], folder: str | None) -> str:
    """The folder whose content is listed: the one that is known where the listing has it, else the one all is below."""
    paths = [entry.path for entry in entries]
    if folder is not None and any((each + "/").startswith(folder.rstrip("/") + "/") for each in paths):
        return folder.rstrip("/")
    first = paths[0] if paths else ""
    if first.startswith(("./", "/")) or first == "." or any(each.startswith(first + "/") for each in paths[1:]):
        return (
            first
            if entries[0].kind == "d" and all(each == first or each.startswith(first + "/") for each in paths)
            else ""
        )
    return ""


def _relative(path: str, base: str) -> str | None:
    path = path.removeprefix("./")
    base = base.removeprefix("./")
    if base in ("", "."):
        return None if path.startswith("/") else "" if path == "." else path
    if path == base:
        return ""
    return path[len(base) + 1 :] if path.startswith(base + "/") else None
