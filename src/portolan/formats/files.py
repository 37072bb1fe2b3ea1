"""The files of an estate, as the readers see them; the command line brings the real ones."""

from collections.abc import Callable, Mapping
from pathlib import PurePosixPath
from typing import Protocol, TypeVar

from portolan.source.plain import one_line

AnyRead = TypeVar("AnyRead")


class FileError(Exception):
    """A file cannot be read; the message says why, in words for the user."""


class MissingError(FileError):
    """There is no such file or folder; `near` is the path that was probably meant, if there is one."""

    def __init__(self, message: str, near: str | None = None) -> None:
        self.given = (message, near)
        super().__init__(message if near is None else f"{message}; did you mean '{one_line(near)}'?")
        self.near = near

    def __reduce__(self) -> "tuple[type[MissingError], tuple[str, str | None]]":
        return MissingError, self.given


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


class KeptFiles:
    """Files of which everything that is read is kept, refusals too, so that others can read exactly the same: it is sent to them."""

    def __init__(self, files: Files) -> None:
        self._files: Files | None = files
        self._contents: dict[str, bytes | FileError] = {}
        self._trees: dict[str, tuple[str, ...] | FileError] = {}
        self._shown: dict[str, str] = {}

    def __getstate__(self) -> dict[str, object]:
        return {**self.__dict__, "_files": None}

    def read(self, path: str) -> bytes:
        """The file's bytes. Raises FileError."""
        return self._again(self._contents, path, lambda files: files.read(path))

    def tree(self, path: str) -> tuple[str, ...]:
        """All files below a folder, relative to it, sorted. Raises FileError, MissingError where it is not there."""
        return self._again(self._trees, path, lambda files: files.tree(path))

    def shown(self, path: str) -> str:
        """The path as the user would write it."""
        if path not in self._shown and self._files is not None:
            self._shown[path] = self._files.shown(path)
        return self._shown.get(path, path)

    def _again(
        self, held: "dict[str, AnyRead | FileError]", path: str, read: "Callable[[Files], AnyRead]"
    ) -> "AnyRead":
        """What was read before, or is read now. Raises what was raised then."""
        if path not in held:
            if self._files is None:
                raise MissingError("no such file or folder")
            try:
                held[path] = read(self._files)
            except FileError as error:
                held[path] = error
        found = held[path]
        if isinstance(found, FileError):
            raise found
        return found


def inside(path: str) -> str | None:
    """The path in normal form when it stays inside the estate's folder, else None."""
    if not path or path.startswith(("/", "\\")) or "\0" in path or (len(path) > 1 and path[1] == ":"):
        return None
    parts = PurePosixPath(path).parts
    if ".." in parts or not parts:
        return None
    return "/".join(parts)
