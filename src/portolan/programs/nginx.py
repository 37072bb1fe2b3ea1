"""nginx, as installed (measured on 1.22)."""

import re
from typing import Literal
from urllib.parse import quote, unquote

from portolan.estate.client import Checks
from portolan.programs.protocol import Methods, Passing

_NOT_IN_HOST = re.compile(r"[\x00-\x20\x7f/]|\.\.")


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
    answers_by_handshake = False
    default_rules_versions = True
    asks_certificate_late = True
    reads_keys_loosely = False
    refuses_other_kind = False
    refuses_weak = True
    #: $request_uri is as it came.
    path_is_decoded = False
    rules_run_anew = False
    sends_from_inside = True
    #: port_in_redirect.
    tells_asked_port = False
    first_name_is_own = True
    missing = 404
    no_index_file = 403
    index_files: tuple[str, ...] = ("index.html",)
    #: proxy_pass to a name is looked up at the start; proxy_ssl_verify and proxy_ssl_server_name are off.
    passing = Passing(
        unknown_name=None,
        refused=502,
        unreachable=502,
        timed_out=504,
        stalled=504,
        cut_off=502,
        tls=502,
        garbled=None,
        checks=Checks.NOTHING,
        sends_server_name=False,
        turns_redirects=True,
        replaces_path=False,
        checks_host_sent=False,
        sends_pool_name=True,
        passes_over_silence=True,
        keeps_host_exactly=False,
        says_for_whom=False,
        limits_body=True,
    )
    methods = Methods(
        early=frozenset(("TRACE",)),
        content=frozenset(("PUT", "DELETE", "PATCH", "OPTIONS")),
        file=frozenset(("POST",)),
        folder={"POST": 403},
    )
    longest_header = 8190
    #: client_max_body_size.
    largest_body: int | None = 1 << 20
    sections_merge = False
    sections_split_names = True
    adds_section_slash = True
    upstreams_first = False
    judges_grants = False
    slash_needs_read = True
    broken_link = 404
    nameless_is_unsaid = True
    judges_path_first = False
    method_not_allowed = 403
    judges_method_first = True
    sends_paths = False
    double_slash_is_path = True
    takes_old_empty = False
    behind_unfollowed = 404
    unfollowed_to_root = True
    asks_inside = True
    falls_back_in_files = True
    late_redirects = False
    reads_rule_files = False
    password_file: dict[str, int] = {"missing": 403, "unreadable": 500}
    passes_over_known = False
    judges_server_name = False
    keeps_error = False
    upstream_page_succeeds = False
    #: 444 closes; codes of its own for TLS and too large headers become 400.
    special_answers: dict[int, int | None] = {444: None, 499: None, **dict.fromkeys(range(494, 498), 400)}
    believes_scheme: str | None = None
    #: add_header without `always`.
    says_to_caches = frozenset((200, 201, 204, 206, 301, 302, 303, 304, 307, 308))

    def takes_host(self, host: str) -> bool:
        """No empty one, no blank or slash in it, no two dots in a row."""
        return bool(host) and not _NOT_IN_HOST.search(host)

    def path(self, raw: str) -> str | int:
        """Every escape is decoded first, so that an encoded slash is a slash and may lead upwards."""
        if "%" not in raw:
            return _risen(raw) if "//" in raw else raw
        if re.search(r"%(?![0-9A-Fa-f]{2})", raw) or "%00" in raw:
            return 400
        return _risen(unquote(raw))

    def target(self, text: str) -> str:
        """It sends what it is told."""
        return text

    def escaped(self, text: str, in_query: bool) -> str:
        """In a path only what would end it, and what is no ASCII (measured)."""
        return quote(text, safe="!$'()*,-./:=@_~" if in_query else "!$&'()*+,-./:;<=>?@[\\]^_`{|}~")


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
