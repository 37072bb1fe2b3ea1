"""Folders that the name asked for leads to: one site, and a folder of its own for each of its names.

`{name}` is the whole name, `{label:2}` its second label, `{label:-1}` its last one, `{label:2+}` the second and all behind
it, `{label:-2+}` all up to the last but one; `{1}` to `{9}` are the groups of the name pattern that fitted.
"""

import re
from collections.abc import Sequence

PLACE = re.compile(r"\{(?:(name)|label:(-?)([1-9])(\+?)|([1-9]))\}")

#: What stands where a name has no such label (measured: Apache httpd's `mod_vhost_alias`).
_NO_LABEL = "_"


def led_by_name(folder: str | None) -> bool:
    """Whether a folder's path depends on the name asked for."""
    return folder is not None and "{" in folder and PLACE.search(folder) is not None


def folder_for(folder: str, name: str, groups: Sequence[str]) -> str:
    """The folder that a name leads to; `groups` are those of the name pattern that fitted, the first one first."""
    labels = name.split(".")

    def filled(place: re.Match[str]) -> str:
        whole, back, number, more, group = place.groups()
        if whole:
            return name
        if group:
            return groups[int(group) - 1] if int(group) <= len(groups) else ""
        at = int(number)
        if at > len(labels):
            return _NO_LABEL
        if back:
            return ".".join(labels[: len(labels) - at + 1]) if more else labels[-at]
        return ".".join(labels[at - 1 :]) if more else labels[at - 1]

    return PLACE.sub(filled, folder)


def may_lead_to(folder: str, path: str) -> bool:
    """Whether some name leads to a path, or to a folder inside it or above it."""
    wanted, parts = path.strip("/").split("/"), folder.strip("/").split("/")
    return all(PLACE.search(part) or part == other for part, other in zip(parts, wanted, strict=False))
