"""`$GENERATE`: one line for many, as named has it (`$GENERATE first-last[/step] owner [TTL] [class] type data`)."""

import re

#: So many lines at most may come of one.
_MOST = 65536
#: And so many of all in an estate: somebody else's few lines are not to cost minutes and gigabytes.
MOST_GENERATED = 300_000
_RANGE = re.compile(r"([0-9]{1,9})-([0-9]{1,9})(?:/([0-9]{1,9}))?")
#: `$`, or `${offset[,width[,base]]}`; `\\$` is a dollar sign.
_FORM = re.compile(r"\\\$|\$(?:\{(-?[0-9]{1,9})(?:,([0-9]{1,3})(?:,([doxXnN]))?)?\})?")


def generated(arguments: list[str], left: int) -> list[list[str]]:
    """The lines that a directive's arguments stand for, each as its words; `left` says how many there may be yet. Raises ValueError."""
    found = _RANGE.fullmatch(arguments[0])
    if found is None:
        raise ValueError(f"expected a range such as 1-20 or 0-100/5, found '{arguments[0]}'")
    first, last, step = int(found[1]), int(found[2]), int(found[3] or 1)
    if last < first or step < 1:
        raise ValueError(f"expected a range from the lower number to the higher, found '{arguments[0]}'")
    if (last - first) // step >= _MOST:
        raise ValueError(f"expected at most {_MOST} lines of one $GENERATE, found '{arguments[0]}'")
    if (last - first) // step >= left:
        raise ValueError(
            f"expected at most {MOST_GENERATED} lines of every $GENERATE of an estate, found more at '{arguments[0]}'"
        )
    owner, *between, data = arguments[1:]
    return [[_filled(owner, number), *between, _filled(data, number)] for number in range(first, last + 1, step)]


def _filled(text: str, number: int) -> str:
    """A text with its number in every place."""

    def put(match: "re.Match[str]") -> str:
        if match[0] == "\\$":
            return "$"
        value, width, base = number + int(match[1] or 0), int(match[2] or 0), match[3] or "d"
        if base in "nN":
            return _nibbles(value, width, base)
        if value < 0 and base != "d":
            raise ValueError(f"expected a number that is not negative behind '{text}'")
        return format(value, f"0{width}{base}" if width else base)

    return _FORM.sub(put, text)


def _nibbles(value: int, width: int, base: str) -> str:
    """The hexadecimal digits backwards, with dots between them, as ip6.arpa has them; the width counts the dots too."""
    found = []
    left = width or 1
    # A negative number is written as named writes it: in 32 bits.
    value &= 0xFFFFFFFF
    while True:
        found.append(format(value & 15, "X" if base == "N" else "x"))
        value >>= 4
        left -= 2
        if value == 0 and left <= 0:
            return ".".join(found)
