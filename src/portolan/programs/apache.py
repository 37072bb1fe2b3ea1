"""Apache httpd, as installed (measured on 2.4)."""

import re
from typing import Literal
from urllib.parse import unquote

from portolan.estate.client import Checks
from portolan.programs.protocol import Passing


class Apache:
    """The first site listed with a fitting name, exact or pattern, else the default site."""

    name = "Apache httpd"
    first_listed_wins = True
    unknown_name: Literal["default", "first"] | int = "default"
    letters_count = True
    #: LimitRequestLine.
    longest_line = 8191
    opens_only_named = False
    v6_apart = False
    merges_wildcards = False
    certificate_everywhere = True
    #: UseCanonicalPhysicalPort is off.
    tells_asked_port = True
    missing = 404
    no_document = 403
    default_documents: tuple[str, ...] = ("index.html",)
    passing = Passing(500, 503, 503, 503, 502, 502, 500, 200, Checks.NAME_AND_DATES, True, False)

    def path(self, raw: str) -> str | int:
        """It takes no encoded slash at all, unless it is told to (AllowEncodedSlashes)."""
        if "%" not in raw:
            return raw
        if re.search(r"%(?![0-9A-Fa-f]{2})", raw):
            return 400
        # A path that it does not take is no path of its: as if the file were missing.
        return 404 if re.search(r"%(?:2[fF]|00)", raw) else unquote(raw)

    def target(self, text: str) -> str:
        """Its rewrite rules take what is no URL for a path (measured)."""
        if text.startswith("/") or re.match(r"[A-Za-z][A-Za-z0-9+.-]*:", text):
            return text
        return f"/{text}"


APACHE = Apache()
