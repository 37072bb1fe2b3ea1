"""What a server makes of a path before it looks for anything: escapes, dots, and what it refuses (measured on both).

nginx decodes every escape first, so that an encoded slash is a slash and may lead upwards. Apache httpd takes no encoded
slash at all, unless it is told to (AllowEncodedSlashes).
"""

import re
from urllib.parse import unquote


def decoded(path: str, program: str) -> str | int:
    """The path as the program goes on with it, or the status with which it refuses (RFC 3986 sections 2.4 and 5.2.4)."""
    if "%" not in path:
        return path
    if re.search(r"%(?![0-9A-Fa-f]{2})", path):
        return 400
    if program == "apache":
        # A path that it does not take is no path of its: as if the file were missing.
        return 404 if re.search(r"%(?:2[fF]|00)", path) else unquote(path)
    if "%00" in path:
        return 400
    return _risen(unquote(path))


def _risen(path: str) -> str | int:
    """A decoded path without dot segments and doubled slashes; 400 for one that leads out at the top."""
    kept: list[str] = []
    segments = path.split("/")[1:]
    for segment in segments:
        if segment == "..":
            if not kept:
                return 400
            kept.pop()
        elif segment not in ("", "."):
            kept.append(segment)
    ends = segments[-1] in ("", ".", "..")
    return "/" + "/".join(kept) + ("/" if ends and kept else "")
