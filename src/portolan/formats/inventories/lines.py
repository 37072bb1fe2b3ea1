"""Listings with one entry a line, each with its whole path: `find`, `stat` and `tar`."""

import re

from portolan.estate.base import Rights
from portolan.formats.inventories.protocol import MODE, Entry, bits, with_target


class ByLine:
    """A program that prints mode, owner, group and path, in a form of its own."""

    def __init__(self, name: str, form: str, escapes: bool = False) -> None:
        self.name = name
        self._escapes = escapes
        self._form = re.compile(form.replace("MODE", MODE.pattern.replace("(", "(?:", 2)))

    def recognises(self, lines: list[str]) -> bool:
        """Whether the first line with something on it has the form."""
        first = next((line for line in lines if line.strip()), "")
        return self._form.fullmatch(first) is not None

    def read(self, lines: list[str]) -> tuple[list[Entry], list[int]]:
        """The entries, and the numbers of the lines that say something else."""
        found, other = [], []
        for number, line in enumerate(lines, 1):
            match = self._form.fullmatch(line)
            if match is None:
                if line.strip():
                    other.append(number)
                continue
            mode = match["mode"]
            shown = re.sub(r"\\(.)", r"\1", match["path"]) if self._escapes else match["path"]
            path, target = with_target(shown, mode[0])
            if mode[0] == "l" and "target" in match.groupdict():
                target = match["target"]
            rights = Rights(bits(mode[1:10]), match["owner"], match["group"])
            size = match.groupdict().get("size")
            found.append(Entry(path.rstrip("/") or "/", mode[0], rights, target, int(size) if size else None))
        return found, other


_WHO = r"(?P<owner>[^\s/:]+)\s+(?P<group>[^\s/:]+)"
READERS = (
    ByLine(
        "find -ls",
        rf"\s*\d+\s+\d+\s+(?P<mode>MODE)\s+\d+\s+{_WHO}\s+(?:\d+,\s+)?(?P<size>\d+)\s+\w{{3}}\s+\d+\s+[\d:]+\s(?P<path>.+)",
        escapes=True,
    ),
    ByLine(
        "tar -tv",
        r"(?P<mode>MODE)\s+(?P<owner>[^\s/]+)/(?P<group>\S+)\s+(?P<size>\d+)\s+\d{4}-\d\d-\d\d\s+[\d:]+\s(?P<path>.+)",
    ),
    ByLine("find -printf or stat", rf"(?P<mode>MODE)\s+{_WHO}\s+(?P<path>\.?/.*|\.|(?!\d+\s+\w{{3}}\s|\d).+)"),
)
