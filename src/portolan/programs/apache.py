"""Apache httpd, as installed (measured on 2.4)."""

import re
from typing import Literal
from urllib.parse import quote, unquote

from portolan.estate.client import Checks
from portolan.programs.protocol import Methods, Passing

_HOST_TAKEN = re.compile(r"(?:\[[0-9A-Fa-f:.]+\]|[!-9;-~]+)(?::[0-9]+)?")


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
    answers_by_handshake = True
    default_rules_versions = False
    asks_certificate_late = False
    reads_keys_loosely = True
    refuses_other_kind = True
    refuses_weak = True
    #: REQUEST_URI has its escapes resolved.
    path_is_decoded = True
    rules_run_anew = True
    #: A rule with the flag R is passed over in subrequests, as which mod_dir looks for a document (measured).
    sends_from_inside = False
    #: UseCanonicalPhysicalPort is off.
    tells_asked_port = True
    first_name_is_own = False
    missing = 404
    no_index_file = 403
    index_files: tuple[str, ...] = ("index.html",)
    passing = Passing(
        unknown_name=500,
        refused=503,
        unreachable=503,
        timed_out=503,
        stalled=502,
        cut_off=502,
        tls=500,
        garbled=200,
        checks=Checks.NAME_AND_DATES,
        sends_server_name=True,
        turns_redirects=False,
        replaces_path=True,
        checks_host_sent=True,
        sends_pool_name=False,
        passes_over_silence=False,
        keeps_host_exactly=True,
        says_for_whom=True,
        limits_body=False,
    )
    methods = Methods(
        content=frozenset(("PUT", "DELETE", "PATCH")),
        folder={"POST": 404},
        echoes=frozenset(("TRACE",)),
        bare=frozenset(("OPTIONS",)),
        looks_first=True,
    )
    #: LimitRequestFieldSize.
    longest_header = 8190
    largest_body: int | None = 1 << 30
    sections_merge = True
    sections_split_names = False
    adds_section_slash = False
    upstreams_first = True
    judges_grants = True
    slash_needs_read = False
    broken_link = 403
    nameless_is_unsaid = False
    judges_path_first = True
    method_not_allowed = 405
    judges_method_first = False
    sends_paths = False
    double_slash_is_path = True
    takes_old_empty = True
    behind_unfollowed = 403
    unfollowed_to_root = False
    asks_inside = False
    falls_back_in_files = False
    late_redirects = True
    reads_rule_files = True
    password_file: dict[str, int] = {"missing": 500, "unreadable": 500}
    passes_over_known = True
    judges_server_name = True
    keeps_error = True
    upstream_page_succeeds = True
    special_answers: dict[int, int | None] = {}
    believes_scheme: str | None = None
    #: Header set, without `always`: not with its own redirects (measured).
    says_to_caches = frozenset(range(200, 300))

    def takes_host(self, host: str) -> bool:
        """Letters, digits and the signs of names and addresses; a port that is a number; no two dots in a row."""
        return ".." not in host and _HOST_TAKEN.fullmatch(host) is not None and "/" not in host

    def path(self, raw: str) -> str | int:
        """It takes no encoded slash at all, unless it is told to (AllowEncodedSlashes)."""
        if "%" not in raw:
            return re.sub("/{2,}", "/", raw) if "//" in raw else raw
        if re.search(r"%(?![0-9A-Fa-f]{2})", raw):
            return 400
        # A path that it does not take is no path of its: as if the file were missing.
        return 404 if re.search(r"%(?:2[fF]|00)", raw) else re.sub("/{2,}", "/", unquote(raw))

    def target(self, text: str) -> str:
        """Its rewrite rules take what is no URL for a path (measured)."""
        if text.startswith("/") or re.match(r"[A-Za-z][A-Za-z0-9+.-]*:", text):
            return text
        return f"/{text}"

    def escaped(self, text: str, in_query: bool) -> str:  # noqa: ARG002  (the same in both)
        """Its escapes have small letters (measured)."""
        kept = quote(text, safe="$-_.+!*'(),:;@&=/~")
        return re.sub("%..", lambda match: match[0].lower(), kept) if "%" in kept else kept


APACHE = Apache()
