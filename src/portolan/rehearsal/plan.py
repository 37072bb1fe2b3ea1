"""What a rehearsal consists of: plain values that drivers make and the stage carries out."""

import json
from collections.abc import Iterator
from contextlib import contextmanager
from time import monotonic
from typing import Any, NamedTuple

from portolan.estate.estate import Estate
from portolan.estate.machine import Machine
from portolan.estate.vantage import Vantage
from portolan.rehearsal.quoting import TooMuchError, UnstageableError, batch_line

#: Where every rehearsal's files live; a private tmpfs that only the rehearsal's own processes see.
BASE = "/run/rehearsal"
#: What starts a stand-in of ours; the name of its file is missing.
_STAND_IN = "import sys; sys.path.insert(0, '/stage'); from portolan.rehearsal.standins.{} import main; main()"


class Daemon(NamedTuple):
    """A program to start in a namespace, and what shows that it is ready: its sockets (`tcp`/`udp`, port), a `file`.

    `privileged` leaves it the right to open ports below 1024; `clock` names the file that shifts its clock;
    `mounts` pairs files of the stage with where it sees them, and lets it start after all that has none.
    """

    name: str
    space: str
    command: list[str]
    ready: list[list[Any]]
    kind: str = "program"
    privileged: bool = True
    clock: str | None = None
    mounts: list[list[str]] = []


class Probe(NamedTuple):
    """A command of a real client in a namespace, with at most so many seconds.

    `mounts` pairs files of the stage with where the client sees them; `home` is a folder that it may write to;
    `syn_retries` how often its namespace's connections try again; `clock` the file that shifts its clock.
    """

    space: str
    command: list[str]
    mounts: list[list[str]]
    limit: float = 30.0
    home: str | None = None
    syn_retries: int | None = None
    clock: str | None = None


class Round(NamedTuple):
    """Another moment before the questions: files written anew (zones, clocks), servers told so, and names asked of resolvers.

    Each of `queries` is a namespace, a resolver's address as seen there, and names; `emptied` names programs that are to
    forget what they remember; `pause` is how many seconds after the first question the round ends at the earliest.
    """

    files: dict[str, str]
    reloads: list[list[str]]
    queries: list[list[Any]]
    emptied: tuple[str, ...] | list[str] = ()
    pause: float = 0


#: A plan is made outside the confinement, so it is bounded: namespaces, files, octets of all files, and seconds.
_MOST_SPACES, _MOST_FILES, _MOST_OCTETS, _MOST_SECONDS = 1_000, 20_000, 256_000_000, 120.0


class Files(dict[str, str]):
    """The files of a plan by their names. Raises TooMuchError where they become too many or too long, or take too long."""

    def __init__(self) -> None:
        super().__init__()
        self._octets = 0
        self._end = monotonic() + _MOST_SECONDS

    def __setitem__(self, name: str, text: str) -> None:
        self._octets += len(text) - len(self.get(name, ""))
        super().__setitem__(name, text)
        if len(self) > _MOST_FILES:
            raise TooMuchError(f"more than {_MOST_FILES:,} files")
        if self._octets > _MOST_OCTETS:
            raise TooMuchError(f"files of more than {_MOST_OCTETS // 1_000_000} MB")
        if monotonic() > self._end:
            raise TooMuchError(f"planning takes more than {_MOST_SECONDS:.0f} s")


class Plan:
    """Everything that the stage carries out, in order: links, set-up scripts, daemons, probes."""

    def __init__(self, estate: Estate) -> None:
        self.estate = estate
        self.spaces: dict[str, list[str]] = {}
        self.links: list[str] = []
        self.batches: dict[str, list[str]] = {}
        self.files = Files()
        self.folders: list[str] = []
        #: Folders that a `server` or a `visitor` may write to.
        self.owned: list[list[str]] = []
        #: Modes of paths, and whether a server, or its group, owns them; links with what they lead to.
        self.modes: list[list[Any]] = []
        self.symlinks: list[list[str]] = []
        self.daemons: list[Daemon] = []
        self.rounds: list[Round] = []
        self.probes: list[Probe] = []
        #: What cannot be staged, by its place in the estate, and why: the questions that meet it are left out.
        self.unstaged: dict[tuple[str | int, ...], str] = {}
        self._index = 100
        self._names: dict[int, str] = {}

    @contextmanager
    def by_itself(self, path: tuple[str | int, ...]) -> Iterator[None]:
        """What is built here stands by itself: where it cannot be staged, the rest is staged all the same."""
        lists: tuple[list[Any], ...] = (self.folders, self.owned, self.modes, self.symlinks, self.daemons)
        lengths = [len(each) for each in lists]
        try:
            yield
        except TooMuchError:
            raise
        except UnstageableError as error:
            for each, length in zip(lists, lengths, strict=True):
                del each[length:]
            self.unstaged[path] = str(error)

    def space_of(self, stated: Machine | Vantage) -> str:
        """The namespace of a machine or of a visitor's own device."""
        if isinstance(stated, Vantage) and stated.host is not None:
            stated = self.estate.hosts.get(stated.host) or self.estate.routers[stated.host]
        name = self._names.get(id(stated))
        if name is None:
            if len(self._names) == _MOST_SPACES:
                raise TooMuchError(f"more than {_MOST_SPACES:,} machines and visitors", stated.place)
            name = self._names[id(stated)] = f"{'v' if isinstance(stated, Vantage) else 'm'}{len(self._names)}"
            self.spaces[name] = []
        return name

    def link(self, space: str, name: str, other: str, other_name: str) -> None:
        """Joins two namespaces. Every interface gets an index of its own: equal ones delay IPv6 by a second."""
        self._index += 2
        self.links.append(
            batch_line(
                f"link add name {name} index {self._index} netns {space} type veth "
                f"peer name {other_name} index {self._index + 1} netns {other}"
            )
        )

    def ip(self, space: str, *lines: str) -> None:
        """Adds lines for one call of `ip -batch` in a namespace."""
        self.batches.setdefault(space, []).extend(map(batch_line, lines))

    def play(
        self, name: str, space: str, role: str, facts: dict[str, Any], ready: list[list[Any]], mounts: list[list[str]]
    ) -> None:
        """Starts a stand-in with its facts."""
        self.files[f"{name}/facts.json"] = json.dumps(facts)
        self.folders.append(name)
        self.owned.append([name, "server"])
        command = ["/usr/bin/python3", "-I", "-S", "-c", _STAND_IN.format(role), f"{BASE}/{name}/facts.json"]
        self.daemons.append(Daemon(name, space, command, ready, "stand-in", mounts=mounts))

    def data(self) -> dict[str, Any]:
        """The plan as plain data for the stage."""
        for space, lines in self.batches.items():
            self.files[f"{space}.ip"] = "".join(line + "\n" for line in lines)
            # Addresses first, then what else the set-up does (rules do not depend on either).
            self.spaces[space].append(f"ip -force -batch {space}.ip")
        self.batches = {}
        return {
            "base": BASE,
            "spaces": self.spaces,
            "links": self.links,
            "files": dict(self.files),
            "folders": self.folders,
            "owned": self.owned,
            "modes": self.modes,
            "symlinks": self.symlinks,
            "daemons": [daemon._asdict() for daemon in self.daemons],
            "rounds": [each._asdict() for each in self.rounds],
            "probes": [probe._asdict() for probe in self.probes],
        }
