"""`ls -lR`: folders one after the other, each with its entries."""

import re

from portolan.estate.base import Rights
from portolan.formats.inventories.protocol import MODE, Entry, bits, with_target

_TIME = r"(?:\w{3}\s+\d+\s+[\d:]+|\d+\s+\w{3}\s+[\d:]+|\d{4}-\d\d-\d\d\s+[\d:.]+(?:\s[+-]\d{4})?)"
_ENTRY = re.compile(
    rf"(?P<mode>{MODE.pattern.replace('(', '(?:', 2)})\s+\d+\s+(?P<owner>\S+)\s+(?P<group>\S+)\s+(?:\d+,\s+)?(?P<size>\d+)\s+{_TIME}\s(?P<name>.+)"
)
_HEAD = re.compile(r"(?P<folder>.+):")
_TOTAL = re.compile(r"total \d+.*")


class Ls:
    """The long listing of folders and all below them."""

    name = "ls -lR"

    def recognises(self, lines: list[str]) -> bool:
        """Whether it begins as a folder's heading, a total or an entry."""
        first = next((line for line in lines if line.strip()), "")
        return bool(_ENTRY.fullmatch(first) or _TOTAL.fullmatch(first)) or (
            bool(_HEAD.fullmatch(first))
            and any(_TOTAL.fullmatch(line) or _ENTRY.fullmatch(line) for line in lines[1:3])
        )

    def read(self, lines: list[str]) -> tuple[list[Entry], list[int]]:
        """The entries, and the numbers of the lines that say something else."""
        found: list[Entry] = []
        other: list[int] = []
        folder = ""
        for number, line in enumerate(lines, 1):
            entry, head = _ENTRY.fullmatch(line), _HEAD.fullmatch(line)
            if entry is not None:
                found += self._entry(entry, folder)
            elif head is not None and (number == 1 or not lines[number - 2].strip()):
                folder = head["folder"].rstrip("/") + "/"
                found += [] if number > 1 else [Entry(folder.rstrip("/") or "/", "d", None)]
            elif line.strip() and not _TOTAL.fullmatch(line):
                other.append(number)
        return found, other

    def _entry(self, match: re.Match[str], folder: str) -> list[Entry]:
        mode = match["mode"]
        name, target = with_target(match["name"], mode[0])
        rights = Rights(bits(mode[1:10]), match["owner"], match["group"])
        if name == "..":
            above = folder.rstrip("/").rpartition("/")[0]
            return [Entry(above, "d", rights)] if above.startswith("/") else []
        path = folder.rstrip("/") or "." if name == "." else folder + name
        return [Entry(path, mode[0], rights, target, int(match["size"]))]
