"""A web server that is none of those known here: its ways as the estate states them."""

from typing import Literal
from urllib.parse import quote, unquote

from portolan.estate.client import Checks
from portolan.estate.service import StatedProgram
from portolan.programs.protocol import Methods, Passing


class StatedWays:
    """A program made of stated behaviours; what cannot be stated is as the standards have it."""

    first_listed_wins = False
    longest_line = 8000  # RFC 9112 section 3 asks for at least so much
    opens_only_named = False
    v6_apart = False
    merges_wildcards = False
    certificate_everywhere = False
    answers_by_handshake = True
    default_rules_versions = False
    asks_certificate_late = False
    reads_keys_loosely = False
    refuses_other_kind = True
    refuses_weak = False
    path_is_decoded = False
    rules_run_anew = False
    sends_from_inside = True
    tells_asked_port = True
    first_name_is_own = False
    #: RFC 9110 sections 15.6.3 to 15.6.5; certificates are checked in full where nobody says otherwise.
    passing = Passing(
        unknown_name=502,
        refused=502,
        unreachable=502,
        timed_out=504,
        stalled=504,
        cut_off=502,
        tls=502,
        garbled=502,
        checks=Checks.EVERYTHING,
        sends_server_name=True,
        turns_redirects=False,
        replaces_path=False,
        checks_host_sent=False,
        sends_pool_name=False,
        passes_over_silence=False,
        keeps_host_exactly=True,
        says_for_whom=False,
        limits_body=True,
    )
    #: RFC 9110 section 9: others than GET and HEAD are for programs that know what to do with them.
    methods = Methods(
        content=frozenset(("PUT", "DELETE", "PATCH", "TRACE")), file=frozenset(("POST",)), bare=frozenset(("OPTIONS",))
    )
    longest_header = 8000
    largest_body: int | None = None
    sections_merge = False
    sections_split_names = False
    adds_section_slash = False
    upstreams_first = False
    judges_grants = False
    slash_needs_read = False
    broken_link = 404
    nameless_is_unsaid = False
    judges_path_first = False
    method_not_allowed = 405
    judges_method_first = False
    double_slash_is_path = False
    takes_old_empty = True
    behind_unfollowed = 403
    unfollowed_to_root = False
    asks_inside = False
    falls_back_in_files = False
    late_redirects = False
    reads_rule_files = False
    password_file: dict[str, int] = {"missing": 500, "unreadable": 500}
    passes_over_known = False
    judges_server_name = False
    keeps_error = True
    upstream_page_succeeds = False
    special_answers: dict[int, int | None] = {}
    says_to_caches = frozenset(range(200, 400))

    def __init__(self, stated: StatedProgram) -> None:
        self.name = "the program as described"
        self.unknown_name: Literal["default", "first"] | int = (
            stated.refuses_with if stated.unknown_name == "refused" else stated.unknown_name
        )
        self.believes_scheme: str | None = stated.believes_scheme
        self.letters_count = stated.letters_count
        self.missing = stated.missing
        self.no_index_file = stated.no_index_file
        self.index_files = stated.index_files
        self.sends_paths = stated.sends_paths

    def takes_host(self, host: str) -> bool:
        """Every one that is not empty (RFC 9112 section 3.2)."""
        return bool(host)

    def path(self, raw: str) -> str | int:
        """Escapes are decoded (RFC 3986 section 2.4)."""
        return unquote(raw) if "%" in raw else raw

    def target(self, text: str) -> str:
        """It sends what it is told."""
        return text

    def escaped(self, text: str, in_query: bool) -> str:
        """What no path or query takes is escaped (RFC 3986 section 3.3)."""
        return quote(text, safe="!$'()*,-./:;=@_~" if in_query else "!$&'()*+,-./:;=@_~")
