"""From arguments to a loaded estate, a moment and a vantage."""

import argparse
import gc
import os
import stat
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from ipaddress import ip_address
from pathlib import Path
from typing import Any, Protocol

from portolan.cli.asking import asked
from portolan.cli.disk import DiskFiles, bounded
from portolan.cli.errors import UsageError
from portolan.cli.options import named_estate
from portolan.cli.streams import complain
from portolan.estate.estate import Estate
from portolan.estate.url import parse
from portolan.estate.vantage import AsIfVantage
from portolan.formats.change import new_names, operations
from portolan.formats.estate_file import Loaded, changed, load, patched
from portolan.formats.files import FileError, Files, KeptFiles
from portolan.formats.scalars import UnfitError, time
from portolan.formats.yaml_nodes import compose
from portolan.journey.moment import all_names
from portolan.journey.question import Question, question
from portolan.journey.world import World
from portolan.source.nearest import did_you_mean, nearest
from portolan.source.place import Span
from portolan.source.plain import one_line
from portolan.source.problem import EstateError
from portolan.source.value import Value

MAIN_FILES = ("estate.yaml", "estate.yml", "estate.json")


class Ready(Value, frozen=True):
    """An estate made ready, and how it was loaded."""

    loaded: Loaded
    world: World

    def apply(self, patch: list[dict[str, Any]]) -> Estate:
        """The estate with a change; raises EstateError where it does not fit."""
        return patched(self.loaded, patch).estate


#: A change's name, and what its file says.
Given = tuple[str, bytes]


def load_estate(arguments: argparse.Namespace, keep: bool = False) -> Loaded:
    """The estate that the arguments name, with their changes. Raises EstateError or UsageError."""
    loaded = load_path(named_estate(arguments), keep)
    # What is loaded stays until the command ends: later passes need not look through it again.
    gc.freeze()
    return with_changes(loaded, given_changes(arguments), complain)


def given_changes(arguments: argparse.Namespace) -> tuple[Given, ...]:
    """What the files of the arguments' changes say; read once, since standard input can be read no more often. Raises UsageError."""
    held: tuple[Given, ...] | None = getattr(arguments, "given", None)
    if held is not None:
        return held
    if "-" in arguments.changes and named_estate(arguments) == "-":
        raise UsageError("estate and change cannot both come from standard input", "Name a file for one of them.")
    arguments.given = tuple(
        ("(standard input)" if name == "-" else name, given_bytes(name, "change")) for name in arguments.changes
    )
    return given_changes(arguments)


def with_changes(loaded: Loaded, changes: Iterable[Given], tell: Callable[[str], None]) -> Loaded:
    """An estate with changes, one after the other; what they make new is told. Raises EstateError."""
    for shown, data in changes:
        try:
            steps = operations(compose(shown, data), loaded.root)
            for each in new_names(loaded.root, steps):
                tell(f"note: {each}")
            loaded = changed(loaded, steps)
        except EstateError as error:
            error.line_of = lambda span, name=shown, data=data: _line_of(span, name, data)  # type: ignore[misc]
            raise
    return loaded


def _line_of(span: Span, name: str, data: bytes) -> str | None:
    lines = data.split(b"\n")
    return lines[span.line - 1].decode("utf-8", "replace") if span.file == name and span.line <= len(lines) else None


def given_bytes(name: str, what: str) -> bytes:
    """What a file, a pipe or standard input holds that the user named. Raises UsageError."""
    try:
        handle = os.dup(0) if name == "-" else os.open(name, os.O_RDONLY | os.O_CLOEXEC)
        try:
            return bounded(handle)
        finally:
            os.close(handle)
    except (OSError, ValueError, FileError) as error:
        reason = error.strerror if isinstance(error, OSError) else str(error)
        shown = "standard input" if name == "-" else f"'{one_line(name)}'"
        raise UsageError(f"cannot read the {what} {shown}: {reason}", "Check the path.") from None


def load_path(given: str, keep: bool = False) -> Loaded:
    """The estate in a folder or a file; its files are kept as they were read, where others are to read the same. Raises EstateError or UsageError."""
    # A load makes many objects and no garbage: looking for cycles meanwhile would take most of the time.
    collecting = gc.isenabled()
    gc.disable()
    try:
        return _load_path(given, keep)
    finally:
        if collecting:
            gc.enable()


def _load_path(given: str, keep: bool) -> Loaded:
    try:
        if given == "-":
            return load_files(DiskFiles(Path("."), ".", given_bytes("-", "estate")), "-", keep)
        path = Path(given)
        kind = os.stat(path).st_mode
        if stat.S_ISDIR(kind):
            files = DiskFiles(path, given)
            held = set(os.listdir(path))
            return load_files(files, main_file(held, given), keep)
        if stat.S_ISFIFO(kind) or stat.S_ISCHR(kind):
            # What a shell puts in the place of a file: <(...).
            return load_files(DiskFiles(Path("."), ".", given_bytes(given, "estate")), "-", keep)
        return load_files(DiskFiles(path.parent, str(path.parent)), path.name, keep)
    except FileNotFoundError:
        raise UsageError(
            f"there is no estate at '{one_line(given)}'", "Name a folder or a file with -e PATH."
        ) from None
    except (OSError, ValueError) as error:
        reason = error.strerror if isinstance(error, OSError) else str(error)
        raise UsageError(f"cannot read '{one_line(given)}': {reason}", "Check the path and its rights.") from None


def main_file(held: set[str], given: str) -> str:
    found = [name for name in MAIN_FILES if name in held]
    if len(found) > 1:
        raise UsageError(f"the folder '{one_line(given)}' has {' and '.join(found)}", "Keep one of them.")
    if not found:
        near = nearest(MAIN_FILES[0], held)
        raise UsageError(
            f"the folder '{one_line(given)}' has no estate.yaml",
            f"Did you mean its '{one_line(near)}'? Then name it with -e {one_line(os.path.join(given, near))}."
            if near is not None
            else "Name an estate with -e PATH, or start one: portolan demo --copy DIR.",
        )
    return found[0]


class ShownFiles(Files, Protocol):
    """Files of which a problem's line can be shown."""

    def line(self, span: Span) -> str | None:
        """The line that a spot is on, of a text that was read."""


def load_files(files: ShownFiles, main: str, keep: bool = False) -> Loaded:
    """The estate whose main file is named. Raises EstateError."""
    try:
        return load(KeptFiles(files) if keep else files, main)
    except EstateError as error:
        error.line_of = files.line
        raise


def ready(arguments: argparse.Namespace, keep: bool = False) -> Ready:
    """The estate at its moment; with its files kept, where other processes are to read the same."""
    url = getattr(arguments, "url", None)
    if url is not None and "://" not in url and os.path.exists(url):
        raise UsageError(
            f"'{one_line(url)}' is no address, but stands on this disk", "An estate is named with -e PATH."
        )
    loaded = load_estate(arguments, keep)
    return Ready(loaded, World(loaded.estate, moment(arguments, loaded), None, booted_machines(arguments, loaded)))


def posed(arguments: argparse.Namespace, about: Ready) -> Question:
    """The question that the arguments ask, and a note of what they leave to be assumed. Raises UsageError."""
    with asked():
        found = question(about.world, arguments.url, arguments.vantage)
    for each in found.assumed:
        complain(f"note: {one_line(each, 400)}")
    return found


def as_if_at(asked: Question, address: str | None) -> Question:
    """The question as if the name that is asked led to an address. Raises UsageError."""
    if address is None:
        return asked
    try:
        there = ip_address(address)
    except ValueError:
        raise UsageError(
            f"--as-if-at: '{one_line(address)}' is no address", "Write one such as 203.0.113.40."
        ) from None
    return asked.but(vantage=AsIfVantage.of(asked.vantage, (parse(asked.url).host, there)))


def booted_machines(arguments: argparse.Namespace, loaded: Loaded) -> frozenset[str] | None:
    """The machines that have just booted; None for all. Raises UsageError."""
    named = arguments.booted
    if named is None:
        return frozenset()
    if "" in named:
        return None
    known = all_names(loaded.estate)
    for name in named:
        if name not in known:
            raise UsageError(
                f"--after-reboot: no machine is named '{one_line(name)}'",
                did_you_mean(name, known) or "Write --after-reboot=HOST, or put it behind the URL.",
            )
    return frozenset(named)


def moment(arguments: argparse.Namespace, loaded: Loaded) -> datetime:
    """The moment asked about: `--at`, else the estate's, else now."""
    if arguments.at is not None:
        try:
            return time(arguments.at)
        except UnfitError as unfit:
            raise UsageError(f"--at: expected {unfit.expected}, found '{one_line(arguments.at)}'") from None
    return loaded.estate.at or datetime.now(UTC).replace(microsecond=0)
