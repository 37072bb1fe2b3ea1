"""The files of an estate, as the readers see them; the command line brings the real ones."""

from collections.abc import Mapping
from pathlib import PurePosixPath
from typing import Protocol

from portolan.source.plain import one_line


class FileError(Exception):
    """A file cannot be read; the message says why, in words for the user."""


class MissingError(FileError):
    """There is no such file or folder; `near` is the path that was probably meant, if there is one."""

    def __init__(self, message: str, near: str | None = None) -> None:
        super().__init__(message if near is None else f"{message}; did you mean '{one_line(near)}'?")
        self.near = near


class Files(Protocol):
    """Read-only access to an estate's folder; paths are relative to it, with forward slashes."""

    def read(self, path: str) -> bytes:
        """The file's bytes. Raises FileError."""

    def tree(self, path: str) -> tuple[str, ...]:
        """All files below a folder, relative to it, sorted. Raises FileError, MissingError where it is not there."""

    def shown(self, path: str) -> str:
        """The path as the user would write it, for messages."""


class MemoryFiles:
    """Files held in memory: for tests, and for estates that were made by a program."""

    def __init__(self, contents: Mapping[str, str | bytes]) -> None:
        self._contents = {name: text.encode() if isinstance(text, str) else text for name, text in contents.items()}

    def read(self, path: str) -> bytes:
        """The file's bytes. Raises FileError."""
        try:
            return self._contents[path]
        except KeyError:
            raise MissingError("no such file") from None

    def tree(self, path: str) -> tuple[str, ...]:
        """All files below a folder, relative to it, sorted. Raises FileError."""
        below = path.rstrip("/") + "/"
        found = tuple(sorted(name[len(below) :] for name in self._contents if name.startswith(below)))
        if not found:
            raise MissingError("no such folder")
        return found

    def shown(self, path: str) -> str:
        """The path itself."""
        return path


def inside(path: str) -> str | None:
    """The path in normal form when it stays inside the estate's folder, else None."""
    if not path or path.startswith(("/", "\\")) or "\0" in path or (len(path) > 1 and path[1] == ":"):
        return None
    parts = PurePosixPath(path).parts
    if ".." in parts or not parts:
        return None
    return "/".join(parts)
