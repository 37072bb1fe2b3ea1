"""The estate's types in words, for messages and the reference."""

_WORDS = {
    "FilterRule": "a filter rule",
    "GroupRule": "a group rule",
    "HostsFile": "a hosts file",
    "When": "a condition",
    "Estate": "an estate",
    "Interface": "an interface",
    "Authority": "an authority",
    "Upstream": "an upstream",
    "Edge": "an edge",
    "EdgeService": "an edge",
    "SwitchedEdge": "an edge",
    "Origin": "an origin",
    "Held": "a held answer",
    "Failures": "failures",
}


def a_type(kind: type) -> str:
    """A type's name with its article."""
    return _WORDS.get(kind.__name__, f"a {_title_of(kind)}")


def _title_of(kind: type) -> str:
    """A type's name in words."""
    return "".join(
        f" {char.lower()}" if char.isupper() and at else char.lower() for at, char in enumerate(kind.__name__)
    )
