"""The real files of an estate: only regular files that lie inside its folder, links resolved."""

import os
import stat
from pathlib import Path

from portolan.formats.files import FileError, inside

_MOST_BYTES = 512 * 1024 * 1024
_MOST_FILES = 200_000


class DiskFiles:
    """Read-only access to a folder. `given` is the folder as the user wrote it, for messages."""

    def __init__(self, folder: Path, given: str, standard_input: bytes | None = None) -> None:
        self._folder = folder
        self._given = given
        self._real = os.path.realpath(folder)
        self._input = standard_input

    def read(self, path: str) -> bytes:
        """The file's bytes. Raises FileError."""
        if path == "-" and self._input is not None:
            return self._input
        full = self._inside(path)
        try:
            status = os.stat(full)
            if stat.S_ISDIR(status.st_mode):
                raise FileError("it is a folder, not a file")
            if not stat.S_ISREG(status.st_mode):
                raise FileError("it is no regular file")
            if status.st_size > _MOST_BYTES:
                raise FileError(f"it has more than {_MOST_BYTES // 1048576} MiB")
            with open(full, "rb") as file:
                return file.read()
        except OSError as error:
            raise FileError(_reason(error)) from None

    def tree(self, path: str) -> tuple[str, ...]:
        """All files below a folder, relative to it, sorted. Raises FileError."""
        top = self._inside(path)
        if not os.path.isdir(top):
            raise FileError("it is no folder" if os.path.exists(top) else "no such folder")
        found = []
        for folder, folders, names in os.walk(top, followlinks=False):
            folders.sort()
            below = os.path.relpath(folder, top).replace(os.sep, "/")
            prefix = "" if below == "." else below + "/"
            found += [prefix + name for name in names]
            found += [prefix + name + "/" for name in folders]
            if len(found) > _MOST_FILES:
                raise FileError(f"it holds more than {_MOST_FILES} files")
        return tuple(sorted(found))

    def shown(self, path: str) -> str:
        """The path as the user would write it."""
        if path == "-":
            return "(standard input)"
        return path if self._given in ("", ".") else os.path.join(self._given, path)

    def _inside(self, path: str) -> str:
        normal = inside(path)
        if normal is None:
            raise FileError("it lies outside the estate's folder")
        try:
            full = os.path.realpath(os.path.join(self._real, normal))
        except (OSError, ValueError) as error:
            raise FileError(str(error)) from None
        if full != self._real and not full.startswith(self._real.rstrip(os.sep) + os.sep):
            raise FileError("it lies outside the estate's folder")
        return full


def _reason(error: OSError) -> str:
    if isinstance(error, FileNotFoundError):
        return "no such file"
    if isinstance(error, PermissionError):
        return "no permission to read it"
    return (error.strerror or str(error)).lower()
