"""The difference of two texts, in the unified form that `patch` and version control take (POSIX `diff -u`)."""

from difflib import unified_diff


def difference(name: str, before: str, after: str) -> str:
    """What changes in a file, with three lines around it; nothing where nothing does."""
    old, new = before.splitlines(keepends=True), after.splitlines(keepends=True)
    lines = []
    for line in unified_diff(old, new, f"a/{name}", f"b/{name}"):
        lines.append(line if line.endswith("\n") else f"{line}\n\\ No newline at end of file\n")
    return "".join(lines)
