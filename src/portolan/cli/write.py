"""`portolan explain --write N`: a remedy as a difference of the estate's own files, shown, and written when it is agreed to."""

import argparse
import os
import sys
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from portolan.cli.disk import UNDO_FOLDER
from portolan.cli.errors import UsageError
from portolan.cli.options import named_estate
from portolan.cli.streams import complain
from portolan.cli.writing import exchanging, new_file
from portolan.formats.rewriting import CannotWriteError
from portolan.formats.secrets import HIDDEN, secret_values
from portolan.formats.written_into import written_into
from portolan.source.difference import difference
from portolan.source.plain import one_line, plain
from portolan.source.problem import EstateError

if TYPE_CHECKING:
    from portolan.cli.question import Ready
    from portolan.diagnosis.trial import Explanation, Remedy


def written(arguments: argparse.Namespace, about: "Ready", found: "Explanation") -> int:
    """Shows the difference, asks, and writes; 0 where it was written. Raises UsageError."""
    folder = _folder(arguments)
    remedy = _chosen(arguments.write, found)
    try:
        files = written_into(about.loaded, remedy.patch)
    except (CannotWriteError, EstateError) as error:
        why = error.problems[0].message if isinstance(error, EstateError) else str(error)
        message = f"remedy {arguments.write} cannot be written into the files: {one_line(why, 300)}"
        first = "It may rest on another one: write that first, or the whole. " if remedy.cause > 1 else ""
        raise UsageError(message, f"{first}Else make the change by hand: --format patch prints it.") from None
    shown = "".join(difference(each.path, each.before, each.after) for each in files)
    sys.stdout.write(f"{plain(remedy.text)}\n\n{_harmless(about, shown)}\n")
    sys.stdout.flush()
    if not arguments.yes and not _agreed():
        complain("portolan: nothing was written")
        return 1
    back = "".join(difference(each.path, each.after, each.before) for each in files)
    with exchanging(folder, [(each.path, each.before, each.after) for each in files]):
        undo = _undo_record(folder, back)
    names = ", ".join(one_line(each.path) for each in files)
    complain(f"written: {names}. To undo it: patch -p1 -d '{one_line(folder)}' < '{one_line(undo)}'")
    return 0


def _harmless(about: "Ready", text: str) -> str:
    """A difference as a terminal may show it, and without what is never shown."""
    held = {value for _, value in secret_values(about.loaded.estate) if value}
    for value in sorted(held, key=len, reverse=True):
        text = text.replace(value, HIDDEN)
    return "\n".join(plain(line) for line in text.split("\n"))


def _folder(arguments: argparse.Namespace) -> str:
    """The estate's folder. Raises UsageError where the estate is no file of its own."""
    given = named_estate(arguments)
    if arguments.changes:
        raise UsageError(
            "--write is about the files, and --with asks as if they said something else", "Leave --with out."
        )
    if given == "-" or not (os.path.isdir(given) or os.path.isfile(given)):
        raise UsageError("the estate was read from a stream, and has no file to write into", "Name a folder or a file.")
    return given if os.path.isdir(given) else os.path.dirname(given) or "."


def _chosen(number: int, found: "Explanation") -> "Remedy":
    """A remedy by its number. Raises UsageError."""
    usable = [str(at) for at, each in enumerate(found.remedies, 1) if each.patch and each.safety != "weakens"]
    hint = (
        f"There are: {', '.join(usable)}." if usable else "There is none that can be written; see what 'explain' says."
    )
    remedy = numbered(found, number, hint)
    if not remedy.patch:
        raise UsageError(f"remedy {number} changes nothing in this estate", hint)
    if remedy.safety == "weakens":
        raise UsageError(f"remedy {number} opens more than is needed, and is not handed out", hint)
    return remedy


def numbered(found: "Explanation", number: int, hint: str) -> "Remedy":
    """A remedy by the number that is shown with it. Raises UsageError, with a hint."""
    if not 1 <= number <= len(found.remedies):
        raise UsageError(f"there is no remedy {number} here", hint)
    return found.remedies[number - 1]


def _agreed() -> bool:
    """Whether somebody at the terminal says yes. Raises UsageError where there is nobody."""
    if not sys.stdin.isatty():
        raise UsageError("nobody can be asked here whether it is to be written", "Add --yes to write it.")
    sys.stderr.write("Write it? [y/N] ")
    sys.stderr.flush()
    return sys.stdin.readline().strip().lower() in ("y", "yes")


def _undo_record(folder: str, text: str) -> str:
    """Writes the way back into a folder that no load reads; its path."""
    held = os.path.join(folder, UNDO_FOLDER)
    try:
        os.makedirs(held, mode=0o755, exist_ok=True)
    except OSError as error:
        raise UsageError(f"cannot make '{one_line(held)}': {error.strerror}", "Nothing was written.") from None
    stamp = datetime.now(UTC).strftime("%Y%m%dT%H%M%SZ")
    for number in range(1, 100):
        path = os.path.join(held, f"undo-{stamp}{f'-{number}' if number > 1 else ''}.diff")
        if not os.path.lexists(path):
            # It holds what stands around the change: nobody else is to read it.
            new_file(path, text, 0o600)
            return path
    raise UsageError(f"'{one_line(held)}' holds too many records of this second", "Ask again.")
