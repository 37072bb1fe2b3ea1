"""Where readers read: a folder, an archive or one file, each seen as the machine's own files by their absolute paths."""

import fnmatch
import io
import os
import posixpath
import stat
import tarfile
from collections.abc import Iterable, Mapping
from typing import Protocol

from portolan.source.plain import one_line

#: Larger files are no configuration, and so many files are no folder of one; all in all so much is held.
MOST_BYTES = 32_000_000
MOST_FILES = 100_000
MOST_IN_ALL = 512_000_000
_DEEPEST = 64


class SourceError(Exception):
    """A source cannot be read; says what is wrong, and what to do."""

    def __init__(self, message: str, hint: str = "") -> None:
        super().__init__(message)
        self.message, self.hint = message, hint


class Source(Protocol):
    """Files by their paths on the machine that they are from."""

    def read(self, path: str) -> bytes | None:
        """A file's bytes; None where it is not there."""

    def paths(self) -> Iterable[str]:
        """Every file, in order."""

    def matching(self, pattern: str) -> list[str]:
        """The files and folders whose paths fit a shell's pattern, in the order of their names."""

    def is_folder(self, path: str) -> bool:
        """Whether it is a folder with something in it."""

    def changed(self, path: str) -> float | None:
        """When a file was last written, in seconds since 1970; None where that is not known."""


class Held:
    """Files in memory: an archive's members, or one text under a path."""

    def __init__(self, files: Mapping[str, bytes], times: Mapping[str, float] | None = None) -> None:
        self._files = {posixpath.normpath("/" + path.lstrip("/")): data for path, data in files.items()}
        self._times = dict(times or {})
        self._folders = {parent for path in self._files for parent in _parents(path)}

    def read(self, path: str) -> bytes | None:
        """A file's bytes; None where it is not there."""
        return self._files.get(posixpath.normpath(path))

    def paths(self) -> Iterable[str]:
        """Every file, in order."""
        return sorted(self._files)

    def matching(self, pattern: str) -> list[str]:
        """The files and folders whose paths fit a shell's pattern, in the order of their names."""
        wanted = posixpath.normpath(pattern).split("/")
        held = (*self._files, *self._folders)
        return sorted(path for path in set(held) if _fits(path.split("/"), wanted))

    def is_folder(self, path: str) -> bool:
        """Whether it is a folder with something in it."""
        return posixpath.normpath(path) in self._folders

    def changed(self, path: str) -> float | None:
        """When a file was last written, in seconds since 1970; None where that is not known."""
        return self._times.get(posixpath.normpath(path))


class Live(Held):
    """A folder of this machine's own configuration; a file elsewhere that it names is read where it lies."""

    def __init__(self, folder: str, at: str) -> None:
        self.hold(folder_files(folder, at))

    def hold(self, files: Mapping[str, bytes]) -> None:
        """Takes files for what is held."""
        super().__init__(files)

    @staticmethod
    def read_here(path: str) -> bytes | None:
        """A file of this machine; None where it is not there, or may not be read."""
        return _bytes(path)

    def read(self, path: str) -> bytes | None:
        """A file's bytes; None where it is not there, or may not be read."""
        held = super().read(path)
        return held if held is not None else _bytes(path)

    def changed(self, path: str) -> float | None:
        """When a file was last written, in seconds since 1970."""
        try:
            return os.stat(path).st_mtime
        except OSError:
            return None


def _parents(path: str) -> Iterable[str]:
    while path != "/":
        path = posixpath.dirname(path)
        yield path


def _fits(parts: list[str], wanted: list[str]) -> bool:
    """Whether a path fits a pattern, part by part; what begins with a dot fits only what says so (glob(7))."""
    return len(parts) == len(wanted) and all(
        fnmatch.fnmatchcase(part, want) and (not part.startswith(".") or want.startswith("."))
        for part, want in zip(parts, wanted, strict=True)
    )


def from_folder(folder: str, at: str) -> Held:
    """A folder of configuration, as it lies at `at` on its machine. Links inside are followed, others left out.

    Raises SourceError.
    """
    return Held(folder_files(folder, at))


def folder_files(folder: str, at: str) -> dict[str, bytes]:
    """The files of a folder by the paths that they have on its machine. Raises SourceError."""
    files: dict[str, bytes] = {}
    root = os.path.realpath(folder)
    size = 0
    seen = 0
    for here, folders, names in os.walk(root, followlinks=False):
        depth = os.path.relpath(here, root).count(os.sep)
        if depth > _DEEPEST:
            raise SourceError(
                f"'{one_line(folder)}' is deeper than {_DEEPEST} folders", "Name the configuration's own folder."
            )
        folders.sort()
        links = [name for name in folders if os.path.islink(os.path.join(here, name))]
        for name in [*links, *sorted(names)]:
            seen += 1
            if seen > MOST_FILES:
                raise SourceError(
                    f"'{one_line(folder)}' holds more than {MOST_FILES} files", "Name the configuration's own folder."
                )
            path = os.path.join(here, name)
            shown = posixpath.join(at, os.path.relpath(path, root))
            data = _file(path, root, at)
            if data is None:
                continue
            size += len(data)
            if size > MOST_IN_ALL:
                raise SourceError(f"'{one_line(folder)}' holds more than {MOST_IN_ALL // 1_000_000} MB")
            files[shown] = data
    return files


def _file(path: str, root: str, at: str) -> bytes | None:
    """A regular file's bytes; a link's where it leads inside, also as the machine's own path; None for all else."""
    try:
        if os.path.islink(path):
            target = os.path.normpath(os.path.join(os.path.dirname(path), os.readlink(path)))
            # A link to the machine's own path, in a copy of its folder.
            if os.path.isabs(os.readlink(path)) and (os.readlink(path) + "/").startswith(at.rstrip("/") + "/"):
                target = os.path.join(root, os.path.relpath(os.readlink(path), at))
            real = os.path.realpath(target)
            if not (real + "/").startswith(root.rstrip("/") + "/"):
                return None
            path = real
    except OSError:
        return None
    return _bytes(path)


def _bytes(path: str) -> bytes | None:
    """A regular file's bytes; None where it is none, is too large or may not be read."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)
        with os.fdopen(handle, "rb") as file:
            told = os.fstat(file.fileno())
            if not stat.S_ISREG(told.st_mode) or told.st_size > MOST_BYTES:
                return None
            return file.read(MOST_BYTES + 1)
    except OSError:
        return None


def read_named(path: str) -> bytes:
    """The bytes of a file that was named, one more than the most where it is larger. Raises SourceError."""
    try:
        with open(path, "rb") as file:
            return file.read(MOST_BYTES + 1)
    except OSError as error:
        raise SourceError(f"cannot read '{one_line(path)}': {error.strerror or error}", "Check the path.") from None


def from_archive(data: bytes, name: str) -> Held:
    """A tar archive's members, packed or not. Raises SourceError."""
    files: dict[str, bytes] = {}
    times: dict[str, float] = {}
    links: dict[str, str] = {}
    size = 0
    try:
        with tarfile.open(fileobj=io.BytesIO(data)) as archive:
            for number, member in enumerate(archive):
                if number > MOST_FILES:
                    raise SourceError(f"'{one_line(name)}' holds more than {MOST_FILES} members")
                path = posixpath.normpath("/" + member.name.lstrip("/"))
                if member.issym() or member.islnk():
                    lead = member.linkname if member.issym() else "/" + member.linkname.lstrip("/")
                    links[path] = posixpath.normpath(posixpath.join(posixpath.dirname(path), lead))
                elif member.isfile() and member.size <= MOST_BYTES:
                    size += member.size
                    if size > MOST_IN_ALL:
                        raise SourceError(f"'{one_line(name)}' holds more than {MOST_IN_ALL // 1_000_000} MB")
                    held = archive.extractfile(member)
                    files[path] = held.read() if held is not None else b""
                    times[path] = float(member.mtime)
    except (tarfile.TarError, EOFError, OSError, ValueError) as error:
        raise SourceError(
            f"'{one_line(name)}' is no whole archive: {one_line(str(error))}", "Make it anew with tar."
        ) from None
    for path, target in links.items():
        for _ in range(20):
            if target not in links:
                break
            target = links[target]
        if target in files:
            files.setdefault(path, files[target])
            times.setdefault(path, times[target])
    return Held(files, times)
