"""The real files of an estate: only regular files below its folder, read through one handle of that folder.

Every step of a path is taken from the handle of the step before, and links are followed by hand (path_resolution(7)): an
exchange of a folder or a link in between cannot lead outside.
"""

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from portolan.formats.files import FileError, MissingError, inside
from portolan.source.nearest import nearest
from portolan.source.place import Span

_MOST_FILES = 200_000
_MOST_LINKS = 40
#: The folder of undo records, which no load reads (cli/write.py).
UNDO_FOLDER = ".portolan"
#: How deep folders may lie in a copied one: nothing that is published lies so deep, and each level holds a handle open.
_DEEPEST = 100
#: Texts that are kept for showing a problem's line.
_MOST_KEPT = 64
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
#: Opening must not wait for a pipe's other end, nor make a terminal one's own; what it is is looked at before it is read.
_FILE = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC


def most_bytes() -> int:
    """How many bytes a file may have: 64 MB, or what PORTOLAN_MOST_MB says."""
    wish = os.environ.get("PORTOLAN_MOST_MB", "")
    return int(wish) * 1_000_000 if wish.isascii() and wish.isdecimal() and 0 < len(wish) < 7 else 64_000_000


class DiskFiles:
    """Read-only access to a folder. `given` is the folder as the user wrote it, for messages."""

    def __init__(self, folder: Path, given: str, standard_input: bytes | None = None) -> None:
        self._given = given
        self._input = standard_input
        self._root = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        self._real = os.path.realpath(folder)
        self._texts: dict[str, bytes] = {}
        #: The lines of the text that was asked for last.
        self._split: tuple[str, list[bytes]] = ("", [])

    def __del__(self) -> None:
        root = getattr(self, "_root", -1)
        if root >= 0:
            os.close(root)

    def read(self, path: str) -> bytes:
        """The file's bytes. Raises FileError."""
        if path == "-" and self._input is not None:
            data = self._input
        else:
            with self._reached(path) as (folder, name):
                data = _content(os.open(name, _FILE, dir_fd=folder))
        if len(self._texts) < _MOST_KEPT:
            self._texts[self.shown(path)] = data
        return data

    def tree(self, path: str) -> tuple[str, ...]:
        """All files below a folder, relative to it, sorted; links are named and not followed. Raises FileError."""
        found: list[str] = []
        with self._reached(path) as (folder, name):
            top = os.open(name, _FOLDER, dir_fd=folder)
            try:
                _gather(top, "", found)
            finally:
                os.close(top)
        bad = next((each for each in found if not each.isprintable()), None)
        if bad is not None:
            raise FileError(f"it holds a file whose name cannot be shown ({ascii(bad)[:80]})")
        return tuple(sorted(found))

    def shown(self, path: str) -> str:
        """The path as the user would write it."""
        if path == "-":
            return "(standard input)"
        return path if self._given in ("", ".") else os.path.join(self._given, path)

    def line(self, span: Span) -> str | None:
        """The line that a spot is on, of a text that was read."""
        data = self._texts.get(span.file)
        if data is None:
            return None
        if self._split[0] != span.file:
            self._split = (span.file, data.split(b"\n"))
        lines = self._split[1]
        return lines[span.line - 1].decode("utf-8", "replace").rstrip("\r") if span.line <= len(lines) else None

    @contextmanager
    def _reached(self, path: str) -> Iterator[tuple[int, str]]:
        """The handle of the folder that holds a file, and the file's own name there: links are resolved. Raises FileError."""
        normal = inside(path)
        if normal is None:
            raise FileError("it lies outside the estate's folder")
        if normal.split("/")[0] == UNDO_FOLDER:
            raise FileError("it holds undo records, which belong to no estate")
        handles: list[int] = []
        try:
            yield self._walk(path, handles)
        except FileNotFoundError:
            raise MissingError("no such file or folder") from None
        except NotADirectoryError:
            raise FileError("it is no folder, or leads through a file") from None
        except (OSError, ValueError) as error:
            raise FileError(_reason(error)) from None
        finally:
            for handle in handles:
                os.close(handle)

    def _walk(self, path: str, handles: list[int]) -> tuple[int, str]:
        parts = [part for part in path.split("/") if part not in ("", ".")]
        links = 0
        while parts:
            here = handles[-1] if handles else self._root
            part = parts.pop(0)
            if part == "..":
                if not handles:
                    raise FileError("it lies outside the estate's folder")
                os.close(handles.pop())
                continue
            try:
                status = os.stat(part, dir_fd=here, follow_symlinks=False)
            except FileNotFoundError:
                meant, steps = nearest(part, os.listdir(here)), path.split("/")
                near = None
                if meant is not None and steps.count(part) == 1:
                    near = "/".join(meant if each == part else each for each in steps)
                raise MissingError("no such file or folder", near) from None
            if stat.S_ISLNK(status.st_mode):
                links += 1
                if links > _MOST_LINKS:
                    raise FileError("its links go round in a circle")
                target = os.readlink(part, dir_fd=here)
                if target.startswith("/"):
                    target = self._from_root(target)
                    while handles:
                        os.close(handles.pop())
                parts[:0] = [each for each in target.split("/") if each not in ("", ".")]
                if not parts:
                    return here, "."
                continue
            if not parts:
                return here, part
            handles.append(os.open(part, _FOLDER, dir_fd=here))
        return (handles[-1] if handles else self._root), "."

    def _from_root(self, target: str) -> str:
        """An absolute link's target counted from the estate's folder. Raises FileError."""
        prefix = self._real.rstrip("/") + "/"
        if not (target + "/").startswith(prefix):
            raise FileError("it lies outside the estate's folder")
        return target[len(prefix) :]


def _gather(folder: int, prefix: str, found: list[str]) -> None:
    """What lies in an open folder and below, as paths; a folder ends with a slash. Raises FileError."""
    if prefix.count("/") > _DEEPEST:
        raise FileError(f"its folders lie more than {_DEEPEST} deep in each other")
    with os.scandir(folder) as entries:
        held = sorted((each.name, each.is_dir(follow_symlinks=False)) for each in entries)
    found += [f"{prefix}{name}/" if is_folder else prefix + name for name, is_folder in held]
    if len(found) > _MOST_FILES:
        raise FileError(f"it holds more than {_MOST_FILES} files")
    for name, is_folder in held:
        if name == UNDO_FOLDER:
            continue
        if is_folder:
            below = os.open(name, _FOLDER, dir_fd=folder)
            try:
                _gather(below, f"{prefix}{name}/", found)
            finally:
                os.close(below)


def _content(handle: int) -> bytes:
    """A regular file's bytes; closes its handle. Raises FileError."""
    try:
        status = os.fstat(handle)
        if stat.S_ISDIR(status.st_mode):
            raise FileError("it is a folder, not a file")
        if not stat.S_ISREG(status.st_mode):
            raise FileError("it is no regular file")
        return bounded(handle)
    finally:
        os.close(handle)


def bounded(handle: int) -> bytes:
    """What can be read from a handle, up to the limit. Raises FileError."""
    most = most_bytes()
    parts: list[bytes] = []
    size = 0
    while True:
        part = os.read(handle, 1 << 20)
        if not part:
            return b"".join(parts)
        parts.append(part)
        size += len(part)
        if size > most:
            raise FileError(f"it has more than {most // 1_000_000} MB (PORTOLAN_MOST_MB sets the limit)")


def _reason(error: OSError | ValueError) -> str:
    if isinstance(error, PermissionError):
        return "no permission to read it"
    if isinstance(error, OSError):
        return (error.strerror or str(error)).lower()
    return str(error)
