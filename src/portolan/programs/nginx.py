"""nginx, as installed (measured on 1.22)."""

import re
from typing import Literal
from urllib.parse import unquote

from portolan.estate.client import Checks
from portolan.programs.protocol import Passing


class Nginx:
    """The exact name, else the longest `*.rest`, else the longest `first.*`, else the default site."""

    name = "nginx"
    first_listed_wins = False
    unknown_name: Literal["default", "first"] | int = "default"
    letters_count = True
    #: Its large_client_header_buffers of 8 KB with the line's end.
    longest_line = 8190
    opens_only_named = True
    #: It sets IPV6_V6ONLY on its sockets.
    v6_apart = True
    #: It binds the wildcard only, and tells addresses apart by itself.
    merges_wildcards = True
    certificate_everywhere = False
    #: port_in_redirect.
    tells_asked_port = False
    missing = 404
    no_document = 403
    default_documents: tuple[str, ...] = ("index.html",)
    #: proxy_pass to a name is looked up at the start; proxy_ssl_verify and proxy_ssl_server_name are off.
    passing = Passing(None, 502, 502, 504, 504, 502, 502, None, Checks.NOTHING, False, True)

    def path(self, raw: str) -> str | int:
        """Every escape is decoded first, so that an encoded slash is a slash and may lead upwards."""
        if "%" not in raw:
            return raw
        if re.search(r"%(?![0-9A-Fa-f]{2})", raw) or "%00" in raw:
            return 400
        return _risen(unquote(raw))

    def target(self, text: str) -> str:
        """It sends what it is told."""
        return text


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


NGINX = Nginx()
