"""What costs more than its line: how many of it an estate may have in all."""

from yaml.nodes import Node

from portolan.source.place import Span
from portolan.source.plain import one_line
from portolan.source.problem import Problems
from portolan.source.value import Value


class Bound(Value, frozen=True):
    """What is counted, and how many of it there may be."""

    what: str
    most: int


#: By the object and the key that say it.
BOUNDS: dict[tuple[str, str], Bound] = {
    ("an upstream", "to"): Bound("members of pools", 10_000),
    ("a bucket", "grants"): Bound("grants of buckets", 10_000),
    ("a site", "files"): Bound("files of sites", 1_000_000),
    ("a bucket", "objects"): Bound("objects of buckets", 1_000_000),
    ("a named set", "addresses"): Bound("members of sets", 1_000_000),
    ("a named set", "ports"): Bound("members of sets", 1_000_000),
}
PATTERNS = Bound("regular expressions", 10_000)
#: A set's members count anew in each rule that names it.
NAMED_MEMBERS = Bound("members of sets in rules", 2_000_000)


def counted(problems: Problems, bound: Bound, number: int, node: Node, path: tuple[str | int, ...]) -> None:
    """Counts so many at a node; notes where they became too many."""
    mark = node.start_mark
    where = ".".join(one_line(str(part), 60) for part in path)
    problems.count(bound.what, number, bound.most, Span(mark.name, mark.line + 1, mark.column + 1), where)
