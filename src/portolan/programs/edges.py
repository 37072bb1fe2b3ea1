"""What edges do by themselves: rented ones, those that are switched on at a record, and nginx with its cache.

Rented ones are of many makes; what stands here is what most of them do, and what the reference promises.
"""

from typing import Literal

from portolan.estate.edge import EdgeService, SwitchedEdge
from portolan.programs.protocol import EdgeWays

_DAY = 86_400
RENTED = EdgeWays(
    statuses={
        "refused": 502,
        "no_connect": 504,
        "no_answer": 504,
        "garbled": 502,
        "handshake": 502,
        "unknown_name": 502,
    },
    order=("filter", "plain", "method"),
    methods=frozenset(("GET", "HEAD", "OPTIONS")),
    key=("name", "path", "query"),
    lifetimes={200: _DAY, 301: _DAY},
    error_lifetime=10,
    after_time="old-on-error",
    host="own",
    joins="literal",
    scheme_header="x-forwarded-proto",
    address_header="x-forwarded-for",
    tries_all=True,
    says_name=True,
    upgrades=True,
    counts_age=True,
)
#: It stands in the place of the record's own machine: it asks as the visitor did, and keeps the schemes apart.
AT_RECORD = RENTED.but(host="kept", key=("scheme", "name", "path", "query"))
#: proxy_cache without proxy_cache_valid, proxy_cache_key and proxy_cache_use_stale (measured on 1.22).
NGINX_CACHE = RENTED.but(
    order=("plain", "filter", "method"),
    key=("path", "query"),
    lifetimes={},
    error_lifetime=0,
    after_time="asks",
    joins="in-place-of-slash",
    scheme_header=None,
    address_header=None,
    says_name=False,
    upgrades=False,
    counts_age=False,
)


def _field(stated: str | None, usual: str | None) -> str | None:
    """The header field in which something is said; None where it is not."""
    return usual if stated is None else None if stated == "nothing" else str(stated)


def ways_of(edge: EdgeService) -> EdgeWays:
    """An edge's ways: as its kind has them, with what is stated in their place."""
    usual = NGINX_CACHE if edge.program == "nginx" else AT_RECORD if isinstance(edge, SwitchedEdge) else RENTED
    origin, failures = edge.asks, edge.fails_with
    statuses = {
        what: stated if (stated := getattr(failures, what, None)) is not None else status
        for what, status in usual.statuses.items()
    }
    host: Literal["own", "kept"] = origin.host if origin.host in ("own", "kept") else usual.host  # type: ignore[assignment]
    return EdgeWays(
        statuses,
        edge.order or usual.order,
        frozenset(edge.methods) | ({"HEAD"} if "GET" in edge.methods else set()) if edge.methods else usual.methods,
        edge.key or usual.key,
        {**usual.lifetimes, **{int(status): seconds for status, seconds in edge.keeps.items()}},
        usual.error_lifetime,
        edge.after_time or usual.after_time,
        host,
        origin.joins or usual.joins,
        _field(edge.passes_scheme_as, usual.scheme_header),
        _field(edge.passes_address_as, usual.address_header),
        usual.tries_all if origin.tries_all is None else origin.tries_all,
        usual.says_name if origin.says_name is None else origin.says_name,
        usual.upgrades if edge.passes_upgrades is None else edge.passes_upgrades,
        usual.counts_age if edge.counts_age is None else edge.counts_age,
    )
