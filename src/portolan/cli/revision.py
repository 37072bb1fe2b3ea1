"""The files of an estate as a revision of a repository has them: read by git's own plumbing, nothing is checked out."""

import os
import subprocess
from collections.abc import Sequence

from portolan.cli.disk import most_bytes
from portolan.cli.errors import UsageError
from portolan.formats.files import FileError, MissingError, inside
from portolan.source.place import Span
from portolan.source.plain import one_line

#: How long git may take for one answer, in seconds.
_PATIENCE = 60


class RevisionFiles:
    """Read-only access to a folder of a revision. Links are not followed: a revision has no disk to follow them on."""

    def __init__(self, repository: str, revision: str, folder: str) -> None:
        self._repository = repository
        self._given = revision
        #: The commit that the name meant when it was asked: another one that it means later is not read.
        self._commit = _resolved(repository, revision)
        self._folder = folder.strip("/")
        self._texts: dict[str, bytes] = {}
        self._entries = self._listed()

    def _listed(self) -> dict[str, tuple[str, str]]:
        """Mode and object of every file below the folder, by its path there."""
        tree = f"{self._commit}:{self._folder}" if self._folder else self._commit
        listed = _git(self._repository, ("ls-tree", "-r", "-z", "--full-tree", tree))
        found = {}
        for line in listed.split(b"\0"):
            facts, _, name = line.partition(b"\t")
            if name:
                mode, _, object_name = facts.decode("ascii").split(" ")
                found[name.decode("utf-8", "surrogateescape")] = (mode, object_name)
        return found

    def read(self, path: str) -> bytes:
        """The file's bytes. Raises FileError."""
        if inside(path) is None:
            raise FileError("it lies outside the estate's folder")
        found = self._entries.get(inside(path) or "")
        if found is None:
            raise MissingError("no such file or folder")
        mode, object_name = found
        if mode == "120000":
            raise FileError("it is a link, and links are not followed in a revision")
        if mode == "160000":
            raise FileError("it is another repository")
        size = int(_git(self._repository, ("cat-file", "-s", object_name)))
        if size > most_bytes():
            raise FileError(f"it has more than {most_bytes() // 1_000_000} MB (PORTOLAN_MOST_MB sets the limit)")
        data = _git(self._repository, ("cat-file", "blob", object_name))
        self._texts[self.shown(path)] = data
        return data

    def tree(self, path: str) -> tuple[str, ...]:
        """All files below a folder, and the folders with a final slash, sorted. Raises FileError."""
        start = (inside(path) or "").rstrip("/") + "/"
        found = {name[len(start) :] for name in self._entries if name.startswith(start)}
        if not found:
            raise MissingError("no such file or folder")
        for name in tuple(found):
            parts = name.split("/")[:-1]
            found |= {"/".join(parts[: count + 1]) + "/" for count in range(len(parts))}
        return tuple(sorted(found))

    def shown(self, path: str) -> str:
        """The path as git writes it."""
        return f"{self._given}:{self._folder}/{path}" if self._folder else f"{self._given}:{path}"

    def names(self) -> set[str]:
        """What lies in the folder itself."""
        return {name for name in self._entries if "/" not in name}

    def line(self, span: Span) -> str | None:
        """The line that a spot is on, of a text that was read."""
        lines = self._texts.get(span.file, b"").split(b"\n")
        return lines[span.line - 1].decode("utf-8", "replace").rstrip("\r") if 0 < span.line <= len(lines) else None


def revision_of(text: str, beside: str) -> tuple[RevisionFiles, str | None]:
    """The files that `REVISION:PATH` names, and the main file where PATH is one; `beside` is an estate that lies in the repository.

    As git has it: without PATH the folder of the other estate, from `./` on as seen from here. Raises UsageError.
    """
    revision, _, path = text.partition(":")
    here = beside if os.path.isdir(beside) else os.path.dirname(beside) or "."
    repository = _repository(here)
    if not path:
        path = os.path.relpath(os.path.realpath(here), os.path.realpath(repository))
    elif path.startswith(("./", "../")) or path == ".":
        path = os.path.relpath(os.path.realpath(path), os.path.realpath(repository))
    path = os.path.normpath(path)
    if path.startswith(".."):
        raise UsageError(f"'{one_line(text)}' leads out of the repository", "Name a folder in it.")
    folder, main = ("" if path == "." else path), None
    if path.endswith((".yaml", ".yml", ".json")):
        folder, main = os.path.split(path)
    return RevisionFiles(repository, revision, folder), main


def _repository(here: str) -> str:
    """The folder of the repository that a folder lies in, else of the one here; one without files of its own has itself. Raises UsageError."""
    for folder, command in ((here, "--show-toplevel"), (".", "--show-toplevel"), (".", "--absolute-git-dir")):
        try:
            told = _git(folder, ("rev-parse", command))
        except UsageError:
            continue
        return told.decode("utf-8", "surrogateescape").rstrip("\n")
    raise UsageError("no repository is here, and a revision is read from one", "Ask from within it.")


def _resolved(repository: str, revision: str) -> str:
    """The commit that a name means. Raises UsageError."""
    try:
        told = _git(repository, ("rev-parse", "--verify", "--quiet", "--end-of-options", f"{revision}^{{commit}}"))
    except UsageError:
        raise UsageError(f"'{one_line(revision)}' is no revision of this repository", "See 'git log'.") from None
    return told.decode("ascii").strip()


def _git(folder: str, command: Sequence[str]) -> bytes:
    """What git's plumbing answers. Raises UsageError."""
    environment = {**os.environ, "GIT_TERMINAL_PROMPT": "0", "GIT_OPTIONAL_LOCKS": "0", "LC_ALL": "C"}
    # What a repository's own settings may run on the side is switched off.
    told = ["git", "-c", "core.fsmonitor=false", "-c", "core.pager=cat", "-C", folder, *command]
    try:
        done = subprocess.run(
            told, capture_output=True, check=False, timeout=_PATIENCE, env=environment, stdin=subprocess.DEVNULL
        )
    except FileNotFoundError:
        raise UsageError("git is not installed, and a revision is read by it", "Install it: apt install git.") from None
    except subprocess.TimeoutExpired:
        raise UsageError("git does not answer", "Look at the repository.") from None
    if done.returncode:
        reason = one_line(done.stderr.decode("utf-8", "replace").strip().removeprefix("fatal: "), 200)
        raise UsageError(f"git cannot read the revision: {reason or 'it says nothing'}", "Name it as REVISION:PATH.")
    return done.stdout
