"""Changes of texts and of data that a careless or a hostile hand might make; all drawn from one seeded generator."""

import copy
import json
import random
from collections.abc import Callable, Iterable, Iterator
from typing import Any

#: What a slip, a copy from elsewhere, or malice puts in the place of a value.
WORDS = (
    "",
    "null",
    "~",
    "[]",
    "{}",
    "-",
    "0",
    "-1",
    "1e3",
    "99999999999999999999",
    "true",
    "no",
    "*",
    "&a",
    "*a",
    "!!str x",
    "'",
    '"',
    "\\",
    "%",
    "a: b",
    "? [a]",
    "[[[[",
    "{{{{",
    "10.20.0.15",
    "10.20.0.0/33",
    "::",
    "::1%eth0",
    "fe80::1/200",
    "256.1.1.1",
    "443 tls",
    "[::]:80 v6-only",
    "*:0",
    "80-79",
    "http://",
    "https://[::1",
    "http://a.example:99999/",
    "//x",
    "\u202e",
    "\u200b",
    "\u2028",
    "\x00",
    "\x1b[2J",
    "\ud800",
    "a..b",
    "-a.example",
    "x" * 70,
    "x." * 130,
    "*.",
    "*.*.example",
    "\\000",
    "\\999",
    "\\;",
    "$INCLUDE z",
    "$ORIGIN .",
    "$TTL x",
    "@",
    "IN",
    "CNAME",
    "TXT \\# 4 0a",
    "A \\# 4 C0000201",
    "2026-02-30",
    "2026-03-14T25:00:00Z",
    "9999-12-31T23:59:59Z",
    "0001-01-01",
    "self",
    "public",
    "none",
    "any",
    "{host}",
    "{nope}",
    "{",
    "}",
    "../x",
    "/etc/passwd",
    "-",
    "10.20.0.16",
    "203.0.113.41",
    "80",
    "8080",
    "443 tls",
    "apache",
    "stopped",
    "drop",
    "reject",
    "visit.kestrel-ridge.example",
    "visit A 10.20.0.15",
    "* CNAME visit",
    "x NS y",
    "2026-01-01T00:00:00Z",
    "<<",
    "=",
    "#",
    "---",
    "...",
    "\t",
    "é",
    "xn--a",
    "xn--",
    "😀",
)
_VALUES: tuple[Any, ...] = (
    None,
    True,
    False,
    0,
    -1,
    443,
    65536,
    10**30,
    1.5,
    float(10),
    [],
    {},
    [[]],
    [None],
    {"": ""},
    {"a": {"b": []}},
    "",
    "x",
    *WORDS,
)


def line_change(rng: random.Random, text: str) -> str:
    """Some lines cut, doubled, moved, indented, or with a word replaced."""
    lines = text.split("\n")
    for _ in range(rng.choice((1, 1, 2, 4))):
        at = rng.randrange(len(lines))
        kind = rng.randrange(7)
        if kind == 0:
            del lines[at : at + rng.randint(1, 3)]
        elif kind == 1:
            lines.insert(at, lines[rng.randrange(len(lines))])
        elif kind == 2:
            lines[at] = " " * rng.randint(1, 5) + lines[at]
        elif kind == 3:
            head, colon, _ = lines[at].partition(rng.choice((": ", " ", ", ", "[")))
            lines[at] = head + colon + rng.choice(WORDS)
        elif kind == 4:
            lines[at] = lines[at][: rng.randint(0, len(lines[at]))]
        elif kind == 5:
            lines[at] = lines[at].replace(rng.choice((":", " ", "1", "e", ".")), rng.choice(WORDS), rng.randint(1, 3))
        else:
            words = lines[at].split(" ")
            words[rng.randrange(len(words))] = rng.choice(WORDS)
            lines[at] = " ".join(words)
        lines = lines or [""]
    return "\n".join(lines)


def byte_change(rng: random.Random, text: str) -> bytes:
    """Some bytes replaced, cut, or put in."""
    data = bytearray(text.encode("utf-8", "surrogatepass"))
    for _ in range(rng.randint(1, 6)):
        at = rng.randrange(len(data) + 1)
        kind = rng.randrange(3)
        if kind == 0 and at < len(data):
            data[at] = rng.randrange(256)
        elif kind == 1:
            del data[at : at + rng.choice((1, 1, 2, 40))]
        else:
            data[at:at] = bytes(rng.choices(b"\x00\xff\xc0\xed\xa0\x80:[]{}\"'\\,-#&*!|>%@`\n\t ", k=rng.randint(1, 4)))
    return bytes(data)


class Pool:
    """What estates say, by where it stands: keys with values that may be put where somebody else has them."""

    def __init__(self, every: Iterable[Any]) -> None:
        self._held: dict[tuple[int, str], list[tuple[str, Any]]] = {}
        seen = set()
        for data in every:
            for path, node in _nodes(data):
                for key, value in node.items() if isinstance(node, dict) else ():
                    text = json.dumps(value, default=str)
                    for place in _contexts(path):
                        if len(text) < 400 and (place, key, text) not in seen:
                            seen.add((place, key, text))
                            self._held.setdefault(place, []).append((str(key), json.loads(text)))

    def graft(self, rng: random.Random, value: Any) -> None:
        """Puts a key with its value where such keys stand, in place."""
        nodes = [(path, node) for path, node in _nodes(value) if isinstance(node, dict)]
        path, node = rng.choice(nodes) if nodes else ((), None)
        fitting = next((held for place in _contexts(path) if (held := self._held.get(place))), None)
        if node is not None and fitting is not None:
            wanted = rng.choice(sorted({key for key, _ in fitting}))  # as often for rare keys as for common ones
            node[wanted] = copy.deepcopy(rng.choice([each for key, each in fitting if key == wanted]))


def _nodes(data: Any) -> Iterator[tuple[tuple[str, ...], Any]]:
    """Every node of data with the keys that lead to it."""
    held: list[tuple[tuple[str, ...], Any]] = [((), data)]
    while held:
        path, node = held.pop()
        yield path, node
        inner = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
        held += [((*path, str(key)), each) for key, each in inner]


def _contexts(path: tuple[str, ...]) -> list[tuple[int, str]]:
    """What a place is like: an object by the section that it stands in, else by its own key."""
    own = (1, path[-1] if path else "")
    return [(2, path[-2]), own] if len(path) > 1 else [own]


def data_change(rng: random.Random, value: Any, pool: Pool | None = None) -> Any:
    """The data with a node of it replaced, taken away, renamed, or doubled; or with something that others say put in."""
    value = json.loads(json.dumps(value))
    for _ in range(rng.choice((1, 1, 1, 2, 3))):
        if pool is not None and rng.random() < 0.4:
            pool.graft(rng, value)
            continue
        held = [value]
        spots: list[tuple[Any, Any]] = []
        while held:
            node = held.pop()
            inner = (
                list(node.items())
                if isinstance(node, dict)
                else list(enumerate(node))
                if isinstance(node, list)
                else []
            )
            spots += [(node, key) for key, _ in inner]
            held += [item for _, item in inner]
        if not spots:
            return copy.deepcopy(rng.choice(_VALUES))
        node, key = rng.choice(spots)
        kind = rng.randrange(5)
        if kind <= 1:
            node[key] = copy.deepcopy(rng.choice(_VALUES))
        elif kind == 2:
            del node[key]
        elif kind == 3 and isinstance(node, dict):
            node[rng.choice((*WORDS[:40], f"{key}x", str(key).upper()))] = node.pop(key)
        else:
            other, where = rng.choice(spots)
            copied = json.loads(json.dumps(other[where])) if _there(other, where) else None
            if _there(node, key):
                node[key] = copied
    return value


def _there(node: Any, key: Any) -> bool:
    return key in node if isinstance(node, dict) else key < len(node)


def url_change(rng: random.Random, url: str) -> str:
    """A URL with parts of it otherwise."""
    for _ in range(rng.randint(1, 3)):
        at = rng.randint(0, len(url))
        put: Callable[[], str] = rng.choice(
            (
                lambda: rng.choice(WORDS),
                lambda: rng.choice("/?#:@[]%&\\ \t."),
                lambda: "%2f..",
                lambda: "x" * 9000 if rng.random() < 0.02 else "x",
            )
        )
        url = url[:at] + put() + url[at + rng.choice((0, 0, 1, 5)) :]
    return url.replace("\0", "") or "http:"
