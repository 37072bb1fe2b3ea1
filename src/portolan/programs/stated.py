"""A web server that is none of those known here: its ways as the estate states them."""

from typing import Literal
from urllib.parse import unquote

from portolan.estate.client import Checks
from portolan.estate.service import StatedProgram
from portolan.programs.protocol import Passing


class StatedWays:
    """A program made of stated behaviours; what cannot be stated is as the standards have it."""

    first_listed_wins = False
    longest_line = 8000  # RFC 9112 section 3 asks for at least so much
    opens_only_named = False
    v6_apart = False
    merges_wildcards = False
    certificate_everywhere = False
    tells_asked_port = True
    #: RFC 9110 sections 15.6.3 to 15.6.5; certificates are checked in full where nobody says otherwise.
    passing = Passing(502, 502, 502, 504, 504, 502, 502, 502, Checks.EVERYTHING, True, False)

    def __init__(self, stated: StatedProgram) -> None:
        self.name = "the program as described"
        self.unknown_name: Literal["default", "first"] | int = (
            stated.refuses_with if stated.unknown_name == "refused" else stated.unknown_name
        )
        self.letters_count = stated.letters_count
        self.missing = stated.missing
        self.no_document = stated.no_document
        self.default_documents = stated.default_documents

    def path(self, raw: str) -> str | int:
        """Escapes are decoded (RFC 3986 section 2.4)."""
        return unquote(raw) if "%" in raw else raw

    def target(self, text: str) -> str:
        """It sends what it is told."""
        return text
