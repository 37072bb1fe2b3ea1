"""What a rehearsal consists of: plain values that drivers make and the stage carries out."""

from typing import Any, NamedTuple

from portolan.estate.estate import Estate
from portolan.estate.machine import Machine
from portolan.estate.vantage import Vantage

#: Where every rehearsal's files live; a private tmpfs that only the rehearsal's own processes see.
BASE = "/run/rehearsal"


class Daemon(NamedTuple):
    """A program to start in a namespace, and what shows that it is ready: its sockets (`tcp`/`udp`, port), a `file`."""

    name: str
    space: str
    command: list[str]
    ready: list[list[Any]]
    kind: str = "program"


class Probe(NamedTuple):
    """A command of a real client in a namespace, with at most so many seconds."""

    space: str
    command: list[str]
    mounts: list[list[str]]
    limit: float = 30.0


class Round(NamedTuple):
    """Before the questions: files written anew, servers told so, and names asked of resolvers (space, address, names)."""

    files: dict[str, str]
    reloads: list[list[str]]
    queries: list[list[Any]]


class Plan:
    """Everything that the stage carries out, in order: links, set-up scripts, daemons, probes."""

    def __init__(self, estate: Estate) -> None:
        self.estate = estate
        self.spaces: dict[str, list[str]] = {}
        self.links: list[str] = []
        self.batches: dict[str, list[str]] = {}
        self.files: dict[str, str] = {}
        self.folders: list[str] = []
        self.daemons: list[Daemon] = []
        self.rounds: list[Round] = []
        self.probes: list[Probe] = []
        self._index = 100
        self._names: dict[int, str] = {}

    def space_of(self, stated: Machine | Vantage) -> str:
        """The namespace of a machine or of a visitor's own device."""
        if isinstance(stated, Vantage) and stated.host is not None:
            stated = self.estate.hosts.get(stated.host) or self.estate.routers[stated.host]
        name = self._names.get(id(stated))
        if name is None:
            name = self._names[id(stated)] = f"{'v' if isinstance(stated, Vantage) else 'm'}{len(self._names)}"
            self.spaces[name] = []
        return name

    def link(self, space: str, name: str, other: str, other_name: str) -> None:
        """Joins two namespaces. Every interface gets an index of its own: equal ones delay IPv6 by a second."""
        self._index += 2
        self.links.append(
            f"link add name {name} index {self._index} netns {space} type veth "
            f"peer name {other_name} index {self._index + 1} netns {other}"
        )

    def ip(self, space: str, *lines: str) -> None:
        """Adds lines for one call of `ip -batch` in a namespace."""
        self.batches.setdefault(space, []).extend(lines)

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
            "files": self.files,
            "folders": self.folders,
            "daemons": [daemon._asdict() for daemon in self.daemons],
            "rounds": [each._asdict() for each in self.rounds],
            "probes": [probe._asdict() for probe in self.probes],
        }
