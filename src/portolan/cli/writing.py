"""Writing files and folders: whole or not at all, whatever ends the program. New ones overwrite nothing and follow no link; output takes the place of earlier output."""

import contextlib
import errno
import os
import secrets
import shutil
import signal
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path

from portolan.cli.errors import UsageError
from portolan.source.plain import one_line


def new_file(path: str, text: str, mode: int = 0o644) -> None:
    """Writes a file that did not exist, with a mode. Raises UsageError.

    It is written without a name, where the system can do that, and named when it is whole (open(2), O_TMPFILE).
    """
    folder = os.path.dirname(path)
    data = text.encode("utf-8")
    try:
        handle = os.open(folder or ".", os.O_TMPFILE | os.O_WRONLY | os.O_CLOEXEC, mode)
    except OSError:
        _beside(folder, path, data, mode)
        return
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
            # Naming a folder's handle makes it linkat(2), which follows the handle's own link; link(2) does not.
            os.link(f"/proc/self/fd/{file.fileno()}", path, src_dir_fd=file.fileno(), follow_symlinks=True)
    except OSError as error:
        raise _cannot(path, error) from None


def _beside(folder: str, path: str, data: bytes, mode: int) -> None:
    """The same by way of a file with a name that nobody can guess."""
    part = os.path.join(folder, f".{secrets.token_hex(12)}")
    try:
        with _undisturbed():
            handle = os.open(part, os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_WRONLY | os.O_CLOEXEC, mode)
            try:
                with os.fdopen(handle, "wb") as file:
                    file.write(data)
                os.link(part, path, follow_symlinks=False)
            finally:
                os.unlink(part)
    except OSError as error:
        raise _cannot(path, error) from None


def can_put_out(path: str) -> None:
    """Whether output can go to a file, asked before the work begins. Raises UsageError."""
    if path == "-":
        return
    folder = os.path.dirname(path) or "."
    if os.path.isdir(path):
        raise UsageError(f"cannot write '{one_line(path)}': it is a folder", "Name a file in it.")
    if not os.path.isdir(folder):
        raise UsageError(f"cannot write '{one_line(path)}': there is no folder '{one_line(folder)}'", "Make it first.")
    if not os.access(folder, os.W_OK | os.X_OK) or (os.path.exists(path) and not os.access(path, os.W_OK)):
        raise UsageError(f"cannot write '{one_line(path)}': no permission", "Name a place that you may write to.")


def put_out(path: str, pieces: Iterable[str]) -> None:
    """Writes output piece by piece: to standard output, or to a file, which is exchanged when it is whole. Raises UsageError.

    Where the disk is full the part that is written is kept beside, and named.
    """
    if path == "-":
        for piece in pieces:
            sys.stdout.write(piece)
        return
    if os.path.exists(path) and not os.path.isfile(path):
        # A device or a pipe is written to as it is.
        with open(path, "w", encoding="utf-8") as file:
            file.writelines(pieces)
        return
    target = os.path.realpath(path)
    part = os.path.join(os.path.dirname(target), f".{secrets.token_hex(12)}")
    try:
        with _undisturbed():
            handle = os.open(part, os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_WRONLY | os.O_CLOEXEC, 0o644)
            _exchanged(handle, part, target, pieces)
    except OSError as error:
        raise _cannot(path, error) from None


def _exchanged(handle: int, part: str, target: str, pieces: Iterable[str]) -> None:
    """Fills a part and puts it in the place of the target; what a full disk cut short is kept under a name of its own."""
    try:
        with os.fdopen(handle, "w", encoding="utf-8", newline="") as file:
            file.writelines(pieces)
            file.flush()
            os.fsync(file.fileno())
        os.replace(part, target)
    except OSError as error:
        if error.errno not in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG) or not os.path.getsize(part):
            os.unlink(part)
            raise
        kept = f"{target}.partial"
        os.replace(part, kept)
        hint = "Make room, and ask again."
        message = f"cannot write '{one_line(target)}': {error.strerror}; what was written is kept in '{one_line(kept)}'"
        raise UsageError(message, hint) from None
    except BaseException:
        with contextlib.suppress(OSError):
            os.unlink(part)
        raise


@contextlib.contextmanager
def _undisturbed() -> Iterator[None]:
    """Lets signals that stop the program wait, so that no part of what is written stays; nobody clears up behind SIGKILL."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, (signal.SIGINT, signal.SIGTERM, signal.SIGHUP))
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


@contextlib.contextmanager
def exchanging(folder: str, files: Iterable[tuple[str, str, str]]) -> Iterator[None]:
    """Writes files of a folder anew when the block has ended: all of them, or none where one cannot be or the block raises.

    Each is a path, its text as it was read, and its text after; one that says something else by now is left as it is. Raises UsageError.
    """
    root = os.path.realpath(folder)
    parts: list[tuple[str, str]] = []
    try:
        with _undisturbed():
            try:
                for path, before, after in files:
                    target = _unchanged(root, path, before.encode("utf-8", "surrogateescape"))
                    parts.append((os.path.join(os.path.dirname(target), f".{secrets.token_hex(12)}"), target))
                    _like(*parts[-1], after.encode("utf-8", "surrogateescape"))
                yield
                for part, target in parts:
                    os.replace(part, target)
            finally:
                for part, _ in parts:
                    with contextlib.suppress(OSError):
                        os.unlink(part)
    except OSError as error:
        raise _cannot(str(error.filename or folder), error) from None


def _unchanged(root: str, path: str, before: bytes) -> str:
    """The real path of a file below a folder that says what it said, and may be written. Raises UsageError and OSError."""
    target = os.path.realpath(os.path.join(root, path))
    if os.path.commonpath([root, target]) != root:
        raise UsageError(f"'{one_line(path)}' lies outside the estate's folder", "Nothing was written.")
    if Path(target).read_bytes() != before:
        raise UsageError(f"'{one_line(path)}' has changed since it was read; nothing was written", "Ask again.")
    if not os.access(target, os.W_OK):
        raise UsageError(f"cannot write '{one_line(path)}': no permission; nothing was written", "Ask for it.")
    return target


def _like(part: str, target: str, data: bytes) -> None:
    """Writes a new file with the mode of another. Raises OSError."""
    handle = os.open(part, os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_WRONLY | os.O_CLOEXEC, 0o600)
    with os.fdopen(handle, "wb") as file:
        file.write(data)
        file.flush()
        os.fsync(file.fileno())
    os.chmod(part, os.stat(target).st_mode & 0o7777)


def new_folder(source: Path, target: str) -> None:
    """Copies a folder to a place where nothing is, or an empty folder. Raises UsageError.

    The copy is made beside it under a name that nobody can guess, readable by its owner only, and renamed when it is whole.
    """
    name = target.rstrip("/") or target
    part = os.path.join(os.path.dirname(name), f".{secrets.token_hex(12)}")
    try:
        if os.path.lexists(name) and (os.path.islink(name) or not os.path.isdir(name) or os.listdir(name)):
            raise UsageError(f"'{one_line(target)}' exists and is not an empty folder", "Name a new folder.")
        with _undisturbed():
            os.mkdir(part, 0o700)
            try:
                shutil.copytree(source, part, dirs_exist_ok=True, copy_function=shutil.copyfile)
                os.chmod(part, 0o755)
                os.rename(part, name)
            except BaseException:
                with contextlib.suppress(OSError):
                    shutil.rmtree(part)
                raise
    except OSError as error:
        raise _cannot(target, error) from None
    except shutil.Error as error:
        raise UsageError(
            f"cannot copy to '{one_line(target)}': {one_line(str(error))}", "Name another folder."
        ) from None


def _cannot(path: str, error: OSError) -> UsageError:
    if isinstance(error, FileExistsError):
        return UsageError(f"'{one_line(path)}' exists", "Name another file, or move that one away.")
    return UsageError(
        f"cannot write '{one_line(path)}': {error.strerror or error}", "Name a place that you may write to."
    )
