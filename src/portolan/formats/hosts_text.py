"""Hosts files: `ADDRESS NAME [NAME ...]`, `#` starts a comment."""

from ipaddress import ip_address

from portolan.estate.machine import HostsLine
from portolan.source.place import Span, place_in_file
from portolan.source.plain import one_line
from portolan.source.problem import Problems


def hosts_lines(
    text: str, shown: str, problems: Problems, path: tuple[str | int, ...], first: int = 1
) -> list[HostsLine]:
    """The lines that name something; a line that cannot be read is noted."""
    found = []
    for number, line in enumerate(text.split("\n"), first):
        words = line.partition("#")[0].split()
        if not words:
            continue
        try:
            address = ip_address(words[0].partition("%")[0])
        except ValueError:
            problems.add(
                Span(shown, number, 1),
                f"expected an IP address, found '{one_line(words[0])}'",
                ".".join(map(str, path)),
                "A line is: ADDRESS NAME [NAME ...].",
            )
            continue
        if len(words) < 2:
            problems.add(
                Span(shown, number, 1),
                "the line names nothing",
                ".".join(map(str, path)),
                "A line is: ADDRESS NAME [NAME ...].",
            )
            continue
        names = tuple(word.lower().rstrip(".") for word in words[1:])
        found.append(HostsLine(place=place_in_file(path, shown, number), address=address, names=names))
    return found
