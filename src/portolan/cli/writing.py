"""Writing new files and folders: whole or not at all, whatever ends the program; nothing is overwritten, no link followed."""

import contextlib
import os
import secrets
import shutil
import signal
from collections.abc import Iterator
from pathlib import Path

from portolan.cli.errors import UsageError
from portolan.source.plain import one_line


def new_file(path: str, text: str) -> None:
    """Writes a file that did not exist. Raises UsageError.

    It is written without a name, where the system can do that, and named when it is whole (open(2), O_TMPFILE).
    """
    folder = os.path.dirname(path)
    data = text.encode("utf-8")
    try:
        handle = os.open(folder or ".", os.O_TMPFILE | os.O_WRONLY | os.O_CLOEXEC, 0o644)
    except OSError:
        _beside(folder, path, data)
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


def _beside(folder: str, path: str, data: bytes) -> None:
    """The same by way of a file with a name that nobody can guess."""
    part = os.path.join(folder, f".{secrets.token_hex(12)}")
    try:
        with _undisturbed():
            handle = os.open(part, os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_WRONLY | os.O_CLOEXEC, 0o644)
            try:
                with os.fdopen(handle, "wb") as file:
                    file.write(data)
                os.link(part, path, follow_symlinks=False)
            finally:
                os.unlink(part)
    except OSError as error:
        raise _cannot(path, error) from None


@contextlib.contextmanager
def _undisturbed() -> Iterator[None]:
    """Lets signals that stop the program wait, so that no part of what is written stays; nobody clears up behind SIGKILL."""
    before = signal.pthread_sigmask(signal.SIG_BLOCK, (signal.SIGINT, signal.SIGTERM, signal.SIGHUP))
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


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
