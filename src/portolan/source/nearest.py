"""Near misses: the spelling that was probably meant."""

from collections.abc import Iterable


def distance(left: str, right: str, limit: int) -> int:
    """Edits (insert, delete, replace, swap of neighbours) from left to right; `limit + 1` when there are more."""
    if abs(len(left) - len(right)) > limit:
        return limit + 1
    # What both begin and end with needs no edit.
    start, most = 0, min(len(left), len(right))
    while start < most and left[start] == right[start]:
        start += 1
    end = 0
    while end < most - start and left[-1 - end] == right[-1 - end]:
        end += 1
    left, right = left[start : len(left) - end], right[start : len(right) - end]
    before: list[int] = []
    row = list(range(len(right) + 1))
    for i, a in enumerate(left, 1):
        last, before, row = before, row, [i] + [0] * len(right)
        for j, b in enumerate(right, 1):
            row[j] = min(before[j] + 1, row[j - 1] + 1, before[j - 1] + (a != b))
            if last and j > 1 and a == right[j - 2] and left[i - 2] == b:
                row[j] = min(row[j], last[j - 2] + 1)
        if min(row) > limit:
            return limit + 1
    return min(row[-1], limit + 1)


def nearest(word: str, known: Iterable[str], limit: int = 2) -> str | None:
    """The known spelling closest to a word, at most `limit` edits (fewer for short words) away; None without one."""
    allowed = min(limit, max(1, len(word) // 3))
    best: tuple[int, str] | None = None
    lowered = word.lower()
    for candidate in known:
        if candidate == word:
            continue
        edits = distance(lowered, candidate.lower(), allowed)
        if edits <= allowed and (best is None or (edits, candidate) < best):
            best = (edits, candidate)
    return best[1] if best else None


def did_you_mean(word: str, known: Iterable[str], show: int = 12) -> str:
    """A hint that names the nearest spelling, or the whole choice when it is no longer than `show`."""
    choices = sorted(set(known))
    close = nearest(word, choices)
    if close is not None:
        return f"Did you mean '{close}'?"
    if not choices:
        return ""
    if len(choices) <= show:
        return f"Known here: {', '.join(choices)}."
    return ""
