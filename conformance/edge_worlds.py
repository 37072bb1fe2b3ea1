"""Worlds about edges and stores: a healthy archive with one fact changed (the table), or several at random.

What is predicted is not written here: the engine predicts; nginx with its cache, real web servers behind edges, and stand-ins that
know nothing of the engine decide.
"""

import json
import random
from collections.abc import Callable, Iterator
from typing import Any

from conformance.web_common import WebWorld
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.source.problem import EstateError

Data = dict[str, Any]
Change = Callable[[Data], None]
#: Pages that an edge holds, and whose time is over.
OLD_IMAGES, OLD_BOOKINGS = (
    {"url": f"https://{name}.kestrel-ridge.example/*", "since": "2026-03-14T18:00:00Z", "page": page, "keeps": 60}
    for name, page in (("images", "kestrel-images/old.html"), ("bookings", "bookings/old.html"))
)
#: What is asked, by the part of the estate that it leads through.
ASKED = {
    "front": [
        "https://images.kestrel-ridge.example/",
        "http://images.kestrel-ridge.example/",
        "https://images.kestrel-ridge.example/domes?x=1",
        "https://images.kestrel-ridge.example/domes/",
        "https://images.kestrel-ridge.example/domes/north.svg?x=1",
        "https://images.kestrel-ridge.example/nope.html",
        "https://images.kestrel-ridge.example/old/x.html",
        "https://reef.edges.example/",
        "https://other.kestrel-ridge.example/",
        "http://other.kestrel-ridge.example/",
    ],
    "plans": [
        "https://plans.kestrel-ridge.example/",
        "https://plans.kestrel-ridge.example/march.html",
        "https://plans.kestrel-ridge.example/april.html",
    ],
    "desk": [
        "https://bookings.kestrel-ridge.example/",
        "http://bookings.kestrel-ridge.example/",
        "https://bookings.kestrel-ridge.example/sub",
        "https://bookings.kestrel-ridge.example/nope",
        "https://bookings.kestrel-ridge.example/moved",
    ],
    "record": [
        "https://visit.nights.example/",
        "http://visit.nights.example/x.html",
        "https://www.nights.example/",
        "https://deep.visit.nights.example/",
    ],
    "own": [
        "https://own.kestrel-ridge.example/",
        "http://own.kestrel-ridge.example/sub/",
        "https://own.kestrel-ridge.example/x.html?a=b",
        "https://own.kestrel-ridge.example/moved",
        "https://own.kestrel-ridge.example/nope",
        "http://unknown.kestrel-ridge.example/",
    ],
    "row": ["https://row.kestrel-ridge.example/", "http://row.kestrel-ridge.example/domes/"],
    "store": [
        "http://kestrel-images.pages.depot.example/",
        "http://kestrel-images.pages.depot.example/domes",
        "http://kestrel-images.pages.depot.example/gone",
        "https://kestrel-images.objects.depot.example/",
        "https://kestrel-images.objects.depot.example/index.html",
        "https://objects.depot.example/kestrel-images/domes/north.svg",
        "https://objects.depot.example/",
        "http://objects.depot.example/nobody/x",
        "https://kestrel-images.pages.depot.example/",
        "http://www.kestrel-ridge.example/",
        "http://www.kestrel-ridge.example/deep/",
        "https://dotted.name.objects.depot.example/index.html",
        "http://dotted.name.objects.depot.example/index.html",
        "https://kestrel-plans.objects.depot.example/march.html",
        "http://pages.depot.example/",
        "http://KESTREL-images.pages.depot.example/",
    ],
}


def base() -> Data:
    """Everything as it should be."""
    site = {
        "files": ["index.html", "x.html", "sub/index.html"],
        "redirects": [{"when": {"path": "/moved"}, "to": "/sub/"}],
    }
    return {
        "portolan": 1,
        "at": "2026-03-14T20:00:00Z",
        "stores": {
            "depot": {
                "pages_at": "pages.depot.example",
                "objects_at": "objects.depot.example",
                "buckets": {
                    "kestrel-images": {
                        "objects": [
                            "index.html",
                            "domes/index.html",
                            "domes/north.svg",
                            "error.html",
                            "site/index.html",
                        ],
                        "web": True,
                        "error_document": "error.html",
                        "grants": [{"to": "everyone", "on": "kestrel-images/*"}],
                    },
                    "kestrel-plans": {
                        "objects": ["index.html", "march.html"],
                        "sealed": True,
                        "grants": [{"to_edge": "plans", "on": "kestrel-plans/*"}],
                    },
                    "www.kestrel-ridge.example": {
                        "objects": ["index.html", "deep/index.html"],
                        "web": True,
                        "grants": [{"to": "everyone"}],
                    },
                    "dotted.name": {"objects": ["index.html"], "grants": [{"to": "everyone"}]},
                },
            }
        },
        "edges": {
            "front": {
                "canonical": "reef.edges.example",
                "names": ["images.kestrel-ridge.example"],
                "certificate": "ridge",
                "plain": "to-secure",
                "origin": {"at": "kestrel-images.pages.depot.example"},
            },
            "plans": {
                "canonical": "d8.edges.example",
                "names": ["plans.kestrel-ridge.example"],
                "certificate": "ridge",
                "index_file": "index.html",
                "origin": {"at": "kestrel-plans.objects.depot.example", "leg": "verified", "signs": True},
            },
            "desk": {
                "canonical": "d9.edges.example",
                "names": ["bookings.kestrel-ridge.example"],
                "certificate": "ridge",
                "asks_from": ["192.0.2.128/28"],
                "origin": {"at": "rack.kestrel-ridge.example", "host": "kept"},
            },
            "own": {
                "program": "nginx",
                "canonical": "d6.edges.example",
                "names": ["own.kestrel-ridge.example"],
                "certificate": "ridge",
                "keeps": {200: 60, 301: 60},
                "origin": {"at": "rack.kestrel-ridge.example", "host": "kept"},
            },
            "row": {
                "canonical": "d5.edges.example",
                "names": ["row.kestrel-ridge.example"],
                "certificate": "ridge",
                "origin": {"at": "reef.edges.example", "leg": "verified", "host": "images.kestrel-ridge.example"},
            },
        },
        "hosts": {
            "vela": {
                "interfaces": {"internet": {"address": "192.0.2.10"}},
                "services": {
                    "web": {
                        "program": "nginx",
                        "listens": [80, "443 tls"],
                        "certificate": "ridge",
                        "sites": {
                            "bookings": {"names": ["bookings.kestrel-ridge.example"], **site},
                            "own": {"names": ["own.kestrel-ridge.example"], **site},
                            "visit": {
                                "names": ["visit.nights.example", "deep.visit.nights.example"],
                                "certificate": "nights",
                                **site,
                            },
                            "other": {"default": True, "answer": 404},
                        },
                    }
                },
            }
        },
        "certificates": {
            "ridge": {"names": ["*.kestrel-ridge.example", "kestrel-ridge.example"]},
            "nights": {"names": ["nights.example", "*.nights.example", "*.visit.nights.example"]},
        },
        "zones": {
            "kestrel-ridge.example": {
                "records": [
                    "images 300 CNAME reef.edges.example.",
                    "other 300 CNAME reef.edges.example.",
                    "plans 300 CNAME d8.edges.example.",
                    "bookings 300 CNAME d9.edges.example.",
                    "own 300 CNAME d6.edges.example.",
                    "unknown 300 CNAME d6.edges.example.",
                    "row 300 CNAME d5.edges.example.",
                    "rack 300 A 192.0.2.10",
                    "www 300 CNAME www.kestrel-ridge.example.pages.depot.example.",
                ]
            },
            "nights.example": {
                "records": [
                    "visit 300 A 192.0.2.10",
                    "deep.visit 300 A 192.0.2.10",
                    "www 300 CNAME visit.nights.example.",
                ],
                "edge": {"names": ["visit.nights.example", "deep.visit.nights.example"]},
            },
        },
        "vantages": {"street": {"network": "internet", "address": "198.51.100.77", "default": True}},
    }


def put(path: str, value: Any) -> Change:
    """Sets a key; `None` takes it away."""

    def change(data: Data) -> None:
        *way, last = path.split("/")
        at: Any = data
        for step in way:
            at = at[int(step)] if isinstance(at, list) else at.setdefault(step, {})
        if isinstance(at, list):
            at[int(last)] = value
        elif value is None:
            at.pop(last, None)
        else:
            at[last] = value

    return change


def also(*changes: Change) -> Change:
    """Several facts that belong together."""

    def change(data: Data) -> None:
        for each in changes:
            each(data)

    return change


B, F, P, D, OWN, R = (
    "stores/depot/buckets/kestrel-images",
    "edges/front",
    "edges/plans",
    "edges/desk",
    "edges/own",
    "zones/nights.example/edge",
)
S = "hosts/vela/services/web"
SITE = f"{S}/sites/bookings"
FORCED = [{"when": {"scheme": "http"}, "to": "https://{host}{path}{query}"}]
BY_HEADER = [{"when": {"not_header": {"X-Forwarded-Proto": "https"}}, "to": "https://{host}{path}{query}"}]

FOR_NOW = [{**BY_HEADER[0], "status": 302}]


def redirects(*each: Data) -> Change:
    """Redirect rules of the first bucket's pages."""
    return put(f"{B}/redirects", list(each))


INNER = {
    "program": "nginx",
    "listens": [8080],
    "sites": {"inner": {"files": ["index.html", "x.html", "sub/index.html"]}},
}


def both(key: str, value: Any) -> Change:
    """The same at both sites that stand behind edges."""
    return also(put(f"{SITE}/{key}", value), put(f"{S}/sites/own/{key}", value))


def edge_facts(at: str, rented: bool) -> dict[str, Change]:
    """What may be otherwise at any edge."""
    found = {
        "name unknown": put(f"{at}/names", ["nobody.kestrel-ridge.example"]),
        "every name below": put(f"{at}/names", ["*.kestrel-ridge.example"]),
        "no certificate": put(f"{at}/certificate", None),
        "another's certificate": put(f"{at}/certificate", "nights"),
        "plain serves": put(f"{at}/plain", "serve"),
        "plain to secure by 308": also(put(f"{at}/plain", "to-secure"), put(f"{at}/plain_with", 308)),
        "keeps the street out": put(f"{at}/access", {"not_from": "198.51.100.0/24"}),
        "lets only others in": put(f"{at}/access", {"from": "203.0.113.0/24"}),
        "wants a header": put(f"{at}/access", {"headers": {"X-Asks": "invented-7"}}),
        "only posts": put(f"{at}/methods", ["POST"]),
        "index file": put(f"{at}/index_file", "x.html"),
        "holds nothing": put(f"{at}/caches", False),
        "key of scheme and path": put(f"{at}/key", ["scheme", "path"]),
        "key of path": put(f"{at}/key", ["path"]),
        "key of name and normal path": put(f"{at}/key", ["name", "normal-path", "query"]),
        "keeps redirects": put(f"{at}/keeps", {301: 60, 302: 60, 200: 60, 404: 60}),
        "keeps nothing": put(f"{at}/keeps", {200: 0, 301: 0}),
        "does not obey": also(put(f"{at}/obeys_origin", False), put(f"{at}/keeps", {301: 60, 302: 60, 200: 60})),
        "prefix": put(f"{at}/origin/prefix", "/sub"),
        "prefix with slash": put(f"{at}/origin/prefix", "/sub/"),
        "port nobody has": put(f"{at}/origin/port", 8099),
        "secure port, plainly": put(f"{at}/origin/port", 443),
        "encrypted": put(f"{at}/origin/leg", "encrypted"),
        "verified": put(f"{at}/origin/leg", "verified"),
        "verified, name said": also(put(f"{at}/origin/leg", "verified"), put(f"{at}/origin/says_name", True)),
        "encrypted, own name": also(put(f"{at}/origin/leg", "encrypted"), put(f"{at}/origin/host", "own")),
        "own host name": put(f"{at}/origin/host", "own"),
        "another host name": put(f"{at}/origin/host", "visit.nights.example"),
        "kept host name": put(f"{at}/origin/host", "kept"),
        "says a secret": also(
            put(f"{at}/origin/sends", {"X-From-Edge": "invented-7"}),
            both("access", {"headers": {"X-From-Edge": "invented-7"}}),
        ),
        "a secret is wanted": also(
            both("access", {"headers": {"X-From-Edge": "invented-7"}}),
        ),
        "path in the name": put(f"{at}/origin/at", "rack.kestrel-ridge.example/sub"),
        "scheme in the name": put(f"{at}/origin/at", "https://rack.kestrel-ridge.example"),
        "unknown name": put(f"{at}/origin/at", "rock.kestrel-ridge.example"),
        "an address": put(f"{at}/origin/at", "192.0.2.10"),
        "an address that nobody has": put(f"{at}/origin/at", "192.0.2.99"),
        "own error page": put(f"{at}/error_pages", {404: "/x.html", 502: "/sub/"}),
        "own error page that is missing": put(f"{at}/error_pages", {404: "/missing.html"}),
        "passes the scheme": put(f"{at}/passes_scheme_as", "X-Forwarded-Proto"),
        "passes no scheme": put(f"{at}/passes_scheme_as", "nothing"),
        "over at once by Expires": both("expires_after", 0),
        "not over by Expires": both("expires_after", 3600),
        "over by its age": also(both("cache_control", "max-age=60"), both("age", 90)),
        "not over by its age": also(both("expires_after", 3600), both("age", 90)),
        "sets cookies": both("sets_cookie", True),
        "holds cookies": also(
            both("sets_cookie", True), put(f"{at}/holds_cookies", True), put(f"{at}/keeps", {200: 60, 302: 60})
        ),
        "tells the scheme as it is made for": put(f"{at}/passes_scheme_as", "Forwarded"),
        "tells all as it is made for": also(
            put(f"{at}/passes_scheme_as", "Forwarded"), put(f"{at}/passes_address_as", "Forwarded")
        ),
        "says another name": also(
            put(f"{at}/origin/leg", "verified"), put(f"{at}/origin/says_name", "rack.kestrel-ridge.example")
        ),
        "says a name of nobody": also(
            put(f"{at}/origin/leg", "verified"), put(f"{at}/origin/says_name", "rock.kestrel-ridge.example")
        ),
        "says a name, unchecked": also(
            put(f"{at}/origin/leg", "encrypted"), put(f"{at}/origin/says_name", "visit.nights.example")
        ),
        "names of nobody are refused": also(
            put(f"{at}/names", ["images.kestrel-ridge.example"]), put(f"{at}/refuses_with", 421)
        ),
        "another origin for some": put(
            f"{at}/by_path",
            [
                {"path": "/sub*", "origin": "visit.nights.example"},
                {"path": "/domes/*", "origin": {"at": "rack.kestrel-ridge.example", "prefix": "/sub"}},
            ],
        ),
        "holds nothing of some": put(
            f"{at}/by_path", [{"path": "/sub/*", "caches": False}, {"path": "/", "keeps": {200: 0, 301: 0, 302: 60}}]
        ),
        "other methods for some": also(
            put(f"{at}/by_path", [{"path": "/sub/*", "methods": ["POST"]}]), put(f"{at}/methods", ["GET"])
        ),
        "an encrypted origin for some": put(
            f"{at}/by_path",
            [{"path": "/sub*", "origin": {"at": "rack.kestrel-ridge.example", "leg": "encrypted", "host": "kept"}}],
        ),
        "a key of its own for some": put(f"{at}/by_path", [{"path": "/*", "key": ["path"]}]),
        "leads back to itself": put(f"{at}/origin/at", "bookings.kestrel-ridge.example"),
    }
    if rented:
        found |= {
            "rejects unknown names": also(
                put(f"{at}/names", ["nobody.kestrel-ridge.example"]), put(f"{at}/unknown_in_tls", "rejected")
            ),
            "name held by others": put(
                f"{at}/held_by_others", ["images.kestrel-ridge.example", "bookings.kestrel-ridge.example"]
            ),
            "refuses unknown with 421": also(
                put(f"{at}/names", ["nobody.kestrel-ridge.example"]), put(f"{at}/refuses_with", 421)
            ),
            "plain refused": put(f"{at}/plain", "refuse"),
            "filter after plain": also(
                put(f"{at}/plain", "to-secure"),
                put(f"{at}/access", {"from": "203.0.113.0/24"}),
                put(f"{at}/order", ["plain", "filter", "method"]),
            ),
            "methods refused with 405": also(put(f"{at}/methods", ["POST"]), put(f"{at}/method_refused_with", 405)),
            "not in effect": put(f"{at}/in_effect_from", "2026-03-14T20:30:00Z"),
            "settings of before": also(
                put(f"{at}/in_effect_from", "2026-03-14T20:30:00Z"),
                put(
                    f"{at}/before",
                    [{"until": "2026-03-14T20:30:00Z", "plain": "serve", "origin": "rack.kestrel-ridge.example"}],
                ),
            ),
            "statuses of its own": also(
                put(f"{at}/fails_with", {"refused": 503, "unknown_name": 530, "no_connect": 503}),
                put(f"{at}/origin/port", 8099),
            ),
            "unknown name, 530": also(
                put(f"{at}/fails_with", {"unknown_name": 530}), put(f"{at}/origin/at", "rock.kestrel-ridge.example")
            ),
            "own page with success": also(
                put(f"{at}/error_pages", {404: "/index.html", 403: "/index.html"}),
                put(f"{at}/error_pages_say", {404: 200, 403: 200}),
            ),
            "prefix, one slash": also(put(f"{at}/origin/prefix", "/sub/"), put(f"{at}/origin/joins", "one-slash")),
            "two ranges": put(f"{at}/asks_from", ["192.0.2.128/28", "203.0.113.128/28"]),
            "one range kept out": also(
                put(f"{at}/asks_from", ["192.0.2.128/28", "203.0.113.128/28"]),
                put("hosts/vela/interfaces/internet/groups", ["web"]),
                put(
                    "groups",
                    {
                        "web": {
                            "inbound": [
                                {"allow": "tcp", "ports": [80, 443], "from": ["192.0.2.128/28", "198.51.100.0/24"]}
                            ]
                        }
                    },
                ),
            ),
            "holds a redirect": put(
                f"{at}/holds",
                [
                    {
                        "url": "https://images.kestrel-ridge.example/",
                        "since": "2026-03-14T19:59:00Z",
                        "to": "https://images.kestrel-ridge.example/domes/",
                    },
                    {"url": "https://bookings.kestrel-ridge.example/", "since": "2026-03-14T19:59:00Z", "to": "/sub/"},
                ],
            ),
            "counts no age": also(both("cache_control", "max-age=60"), both("age", 90), put(f"{at}/counts_age", False)),
            "purged": also(
                put(f"{at}/holds", [OLD_IMAGES, OLD_BOOKINGS]),
                put(f"{at}/purged", ["https://images.kestrel-ridge.example/*"]),
            ),
            "holds an old page": put(f"{at}/holds", [OLD_IMAGES, OLD_BOOKINGS]),
            "old page, no origin": also(put(f"{at}/holds", [OLD_IMAGES, OLD_BOOKINGS]), put(f"{at}/origin/port", 8099)),
            "old page first": also(put(f"{at}/holds", [OLD_IMAGES]), put(f"{at}/after_time", "old-first")),
            "old page for a while": also(
                put(f"{at}/holds", [OLD_IMAGES]), put(f"{at}/after_time", "old-first"), put(f"{at}/old_for", 60)
            ),
            "key of names, a held page for both": also(
                put(f"{at}/key", ["path"]),
                put(f"{at}/plain", "serve"),
                put(
                    f"{at}/holds",
                    [
                        {
                            "url": "http://nobody.example/",
                            "since": "2026-03-14T19:59:00Z",
                            "page": "kestrel-images/held.html",
                        }
                    ],
                ),
            ),
            "does not recognise itself": also(
                put(f"{at}/recognises_itself", False), put(f"{at}/origin/at", "bookings.kestrel-ridge.example")
            ),
        }
    return found


STORE_FACTS: dict[str, Change] = {
    "sealed": put(f"{B}/sealed", True),
    "sealed, refuses new only": also(put(f"{B}/sealed", True), put("stores/depot/seal", "refuses-new")),
    "no grants": put(f"{B}/grants", []),
    "template name": put(f"{B}/grants", [{"to": "everyone", "on": "BUCKET-NAME/*"}]),
    "no slash star": put(f"{B}/grants", [{"to": "everyone", "on": "kestrel-images"}]),
    "one folder": put(f"{B}/grants", [{"to": "everyone", "on": "kestrel-images/domes/*"}]),
    "question mark": put(f"{B}/grants", [{"to": "everyone", "on": "kestrel-images/inde?.html"}]),
    "list only": put(f"{B}/grants", [{"to": "everyone", "may": "list"}]),
    "read and list": put(f"{B}/grants", [{"to": "everyone", "may": ["read", "list"]}]),
    "list on objects": put(f"{B}/grants", [{"to": "everyone", "may": ["read", "list"], "on": "kestrel-images/*"}]),
    "an account": put(f"{B}/grants", [{"to_account": "archive"}]),
    "web off": put(f"{B}/web", None),
    "web off, ignored": also(put(f"{B}/web", None), put("stores/depot/web_off", "ignored")),
    "index file of other letters": put(f"{B}/index_file", "Index.html"),
    "error document missing": put(f"{B}/error_document", "fehler.html"),
    "sends all": put(f"{B}/sends_all_to", "www.kestrel-ridge.example"),
    "sends all securely": put(f"{B}/sends_all_to", "https://images.kestrel-ridge.example"),
    "sends all plainly": put(f"{B}/sends_all_to", "http://www.kestrel-ridge.example"),
    "rule by prefix": redirects({"when": {"path": "/old/*"}, "to": "/domes/{rest}"}),
    "rule by prefix to a name": redirects(
        {"when": {"path": "/domes/*"}, "to": "http://www.kestrel-ridge.example{path}", "status": 302}
    ),
    "rule by status": redirects({"when": {"status": 403}, "to": "/index.html"}),
    "rule by status 404": redirects({"when": {"status": 404}, "to": "http://www.kestrel-ridge.example/index.html"}),
    "rule last": also(
        redirects({"when": {"path": "/domes/*"}, "to": "/{rest}"}), put("stores/depot/redirects_first", False)
    ),
    "a grant that forbids": put(
        f"{B}/grants",
        [
            {"to": "everyone", "on": "kestrel-images/*"},
            {"to": "everyone", "on": "kestrel-images/domes/*", "denies": True},
        ],
    ),
    "a grant that forbids, first": put(
        f"{B}/grants", [{"to": "everyone", "on": "kestrel-images/index.html", "denies": True}, {"to": "everyone"}]
    ),
    "an object sends elsewhere": put(
        f"{B}/object_redirects", {"index.html": "/domes/", "old.html": "https://images.kestrel-ridge.example/"}
    ),
    "denied with 401": also(put("stores/depot/denied_with", 401), put(f"{B}/grants", [])),
    "missing is 404": put("stores/depot/missing_unlisted", 404),
    "slashless absolute": put("stores/depot/slashless", "absolute"),
    "slashless gives the page": put("stores/depot/slashless", "page"),
    "default needs list": put("stores/depot/index_needs_list", True),
    "pages by alias": also(
        put("stores/depot/pages_by", ["alias", "label"]),
        put("stores/depot/buckets/www.kestrel-ridge.example", None),
        put("stores/depot/buckets/www", {"objects": ["index.html"], "web": True, "grants": [{"to": "everyone"}]}),
        put("zones/kestrel-ridge.example/records/8", "www 300 CNAME www.pages.depot.example."),
    ),
    "pages by label only": put("stores/depot/pages_by", ["label"]),
    "objects by path only": put("stores/depot/objects_by", ["path"]),
    "pages by TLS": put("stores/depot/pages_tls", True),
    "strangers": put("stores/depot/strangers", ["nobody", "somebody"]),
    "a stranger's behind the edge": also(
        put("stores/depot/strangers", ["kestrel-image"]), put(f"{F}/origin/at", "kestrel-image.pages.depot.example")
    ),
    "unknown bucket": put(f"{F}/origin/at", "kestrel-image.pages.depot.example"),
    "objects' address": put(f"{F}/origin/at", "kestrel-images.objects.depot.example"),
    "objects' address with a default": also(
        put(f"{F}/origin/at", "kestrel-images.objects.depot.example"), put(f"{F}/index_file", "index.html")
    ),
    "by path behind the edge": also(
        put(f"{F}/origin/at", "objects.depot.example"), put(f"{F}/origin/prefix", "/kestrel-images")
    ),
    "prefix of a folder": put(f"{F}/origin/prefix", "/domes"),
    "prefix of a folder with a slash": put(f"{F}/origin/prefix", "/domes/"),
    "private, not signed": put(f"{P}/origin/signs", None),
    "private, pages' address": also(
        put(f"{P}/origin/at", "kestrel-plans.pages.depot.example"),
        put(f"{P}/origin/leg", None),
        put("stores/depot/buckets/kestrel-plans/web", True),
    ),
    "private, another edge": put(
        "stores/depot/buckets/kestrel-plans/grants", [{"to_edge": "front", "on": "kestrel-plans/*"}]
    ),
    "private, no default": put(f"{P}/index_file", None),
    "private, lists": put("stores/depot/buckets/kestrel-plans/grants", [{"to_edge": "plans", "may": ["read", "list"]}]),
    "unstated content": put(f"{B}/objects", None),
    "patterns": put(f"{B}/objects", ["index.html", "domes/*"]),
    "says no-store": put(f"{B}/cache_control", "no-store"),
    "says max-age": put(f"{B}/cache_control", "public, max-age=60"),
}
SITE_FACTS: dict[str, Change] = {
    "origin forces secure": also(
        both("redirects", FORCED),
        put(f"{S}/sites/visit/redirects", FORCED),
    ),
    "origin goes by the header": also(
        both("redirects", BY_HEADER),
        put(f"{S}/sites/visit/redirects", BY_HEADER),
    ),
    "origin by the header, held for both": also(
        both("redirects", BY_HEADER),
        put(f"{OWN}/passes_scheme_as", "X-Forwarded-Proto"),
    ),
    "by the header, held for both, permanent": also(
        both("redirects", BY_HEADER),
        put(f"{OWN}/passes_scheme_as", "X-Forwarded-Proto"),
    ),
    "by the header, held for both, for now": also(
        both("redirects", FOR_NOW),
        put(f"{OWN}/passes_scheme_as", "X-Forwarded-Proto"),
    ),
    "by the header, no-store": also(
        both("redirects", BY_HEADER),
        both("cache_control", "no-store"),
        put(f"{OWN}/passes_scheme_as", "X-Forwarded-Proto"),
    ),
    "by the header, no-store, not obeyed": also(
        both("redirects", BY_HEADER),
        both("cache_control", "no-store"),
        put(f"{D}/obeys_origin", False),
        put(f"{OWN}/obeys_origin", False),
        put(f"{OWN}/passes_scheme_as", "X-Forwarded-Proto"),
    ),
    "by the header for now, max-age": also(
        both("redirects", FOR_NOW),
        both("cache_control", "max-age=60"),
        put(f"{OWN}/passes_scheme_as", "X-Forwarded-Proto"),
    ),
    "by the header, a cookie": also(
        both("redirects", BY_HEADER),
        both("sets_cookie", True),
        put(f"{OWN}/passes_scheme_as", "X-Forwarded-Proto"),
    ),
    "a front behind the edge": also(
        both("files", None),
        both("redirects", []),
        both("upstream", "http://127.0.0.1:8080"),
        put("hosts/vela/services/inner", INNER),
    ),
    "a front behind the edge, before Apache": also(
        both("files", None),
        both("redirects", []),
        both("upstream", {"to": "http://127.0.0.1:8080", "host": "kept"}),
        put("hosts/vela/services/inner", {**INNER, "program": "apache"}),
    ),
    "a stopped program behind the front": also(
        both("files", None), both("redirects", []), both("upstream", "http://127.0.0.1:8080")
    ),
    "origin is Apache": put(f"{S}/program", "apache"),
    "Apache forces secure": also(put(f"{S}/program", "apache"), both("redirects", FORCED)),
    "Apache by the header": also(put(f"{S}/program", "apache"), both("redirects", BY_HEADER)),
    "origin's certificate of another name": put(f"{S}/certificate", "nights"),
    "origin's certificate by itself": also(
        put("certificates/self", {"names": ["*.kestrel-ridge.example"], "issuer": "self"}),
        put(f"{S}/certificate", "self"),
    ),
    "origin's certificate over": also(
        put("certificates/over", {"names": ["*.kestrel-ridge.example"], "until": "2026-03-01"}),
        put(f"{S}/certificate", "over"),
    ),
    "origin stopped": put(f"{S}/state", "stopped"),
    "origin plain only": put(f"{S}/listens", [80]),
    "origin says max-age": also(both("cache_control", "max-age=60")),
    "origin says no-store": also(both("cache_control", "no-store")),
    "origin sets cookies": also(both("sets_cookie", True)),
    "origin asks for a password": also(
        put(f"{SITE}/access", {"password": True}), put("vantages/street/knows_password", True)
    ),
    "visitors write, and come back": also(
        put("vantages/street/method", "POST"),
        both("redirects", [{"when": {"method": ["POST"]}, "to": "{path}", "status": 303}]),
        put(f"{D}/writes_clear", True),
    ),
    "visitors post": put("vantages/street/method", "POST"),
    "visitors ask for heads": put("vantages/street/method", "HEAD"),
    "visitors put": put("vantages/street/method", "PUT"),
    "visitors send a header": put("vantages/street/headers", {"X-Asks": "invented-7"}),
    "a visitor of IPv6": put("vantages/street/address", ["198.51.100.77", "2001:db8:77::1"]),
    "a group lets edges in only": also(
        put("hosts/vela/interfaces/internet/groups", ["web"]),
        put("groups", {"web": {"inbound": [{"allow": "tcp", "ports": [80, 443], "from": "192.0.2.128/28"}]}}),
    ),
    "the record's edge encrypts": put(f"{R}/origin", {"leg": "encrypted"}),
    "the record's edge verifies": put(f"{R}/origin", {"leg": "verified"}),
    "the record's edge asks as itself": put(f"{R}/origin", {"host": "rack.kestrel-ridge.example"}),
    "the record's edge at every name": put(f"{R}/names", None),
    "the record's edge to secure": put(f"{R}/plain", "to-secure"),
    "an edge of one's own on a machine": also(
        put(f"{S}/listens", [8080, "8443 tls"]),
        put(
            "hosts/vela/services/cache",
            {
                "kind": "edge",
                "program": "nginx",
                "names": ["bookings.kestrel-ridge.example"],
                "certificate": "ridge",
                "keeps": {200: 60},
                "origin": {"at": "192.0.2.10", "port": 8080, "host": "kept"},
            },
        ),
    ),
}


def pool() -> dict[str, tuple[str, Change]]:
    """Every fact that may be otherwise, by name, with the part of the estate that it is about."""
    found: dict[str, tuple[str, Change]] = {}
    for part, at, rented in (("front", F, True), ("desk", D, True), ("own", OWN, False)):
        found |= {f"{part}: {name}": (part, change) for name, change in edge_facts(at, rented).items()}
    found |= {f"store: {name}": ("store", change) for name, change in STORE_FACTS.items()}
    return found | {f"site: {name}": ("site", change) for name, change in SITE_FACTS.items()}


#: Which questions a fact is about.
_PARTS = {
    "front": ("front", "row"),
    "desk": ("desk",),
    "own": ("own",),
    "store": ("store", "front", "plans"),
    "site": ("desk", "record", "own"),
}
#: The edges and names that a part needs; what is not asked for is left out, so that less has to be started.
_NEEDS = {
    "front": ("front",),
    "row": ("row", "front"),
    "plans": ("plans",),
    "desk": ("desk",),
    "own": ("own",),
    "record": (),
    "store": (),
}


def world_of(changes: list[Change], parts: tuple[str, ...], urls: list[str] | None = None) -> WebWorld:
    """The archive with some facts otherwise, and only those parts of it that are asked for."""
    data = base()
    for change in changes:
        change(data)
    wanted = {name for part in parts for name in _NEEDS[part]}
    data["edges"] = {name: edge for name, edge in data["edges"].items() if name in wanted}
    if "record" not in parts:
        data["zones"]["nights.example"].pop("edge", None)
    if not {"store", "front", "plans", "row"} & {*parts}:
        data.pop("stores")
    asked = urls if urls is not None else [url for part in parts for url in ASKED[part]]
    return WebWorld(json.dumps(data, indent=1), [(url, "street") for url in asked])


EDGE_WORLDS: dict[str, WebWorld] = {
    "edge: all as it should be": world_of([], tuple(ASKED)),
    **{f"edge: {name}": world_of([change], _PARTS[part]) for name, (part, change) in pool().items()},
}


def drawn(count: int, seed: int) -> Iterator[tuple[str, str, list[tuple[str, str]]]]:
    """Random worlds: one to five facts otherwise; the same seed draws the same ones."""
    rng = random.Random(seed)
    facts = pool()
    number = 0
    while number < count:
        chosen = rng.sample(sorted(facts), rng.randint(1, 5))
        parts: dict[str, None] = {}
        for name in chosen:
            for part in _PARTS[facts[name][0]]:
                parts[part] = None
        kept = tuple(sorted(parts, key=lambda _: rng.random()))[:2] if len(parts) > 2 else tuple(parts)
        asked = [url for part in kept for url in ASKED[part]]
        world = world_of([facts[name][1] for name in chosen], kept, rng.sample(asked, min(len(asked), 7)))
        try:
            load(MemoryFiles({"estate.yaml": world.text}), "estate.yaml")
        except EstateError:
            continue  # facts that contradict each other
        number += 1
        yield f"edges {number} ({'; '.join(chosen)})", world.text, world.asked
