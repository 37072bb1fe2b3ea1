"""What the keys of one object ask of each other, for the JSON Schema; the loader says the same in its cross-checks."""

import re
from typing import Any

from portolan.formats import patterns
from portolan.formats.crosscheck_edge import NGINX_HAS_ITS_OWN, NOT_AT_BUCKETS, NOT_IN_CONDITIONS, NOT_IN_TARGETS
from portolan.formats.crosscheck_web import CONTRARY, LYING
from portolan.formats.patterns import BUCKET_NAME, CACHE_CONTROL, PART_OF_EDGE, PATH_OF_ORIGIN, SENT_TO, TYPED

Schema = dict[str, Any]


def _one_of(*keys: str) -> Schema:
    """Exactly one of the keys."""
    return {"oneOf": [{"required": [key]} for key in keys]}


def _any_of(*keys: str) -> Schema:
    return {"anyOf": [{"required": [key]} for key in keys]}


def _without(key: str, *others: str) -> Schema:
    """Where a key stands, none of the others does."""
    return {"if": {"required": [key]}, "then": {"not": _any_of(*others)}}


def _distinct(least: int = 0) -> Schema:
    """A list without the same thing twice, of at least so many; one thing alone stands for its list."""
    shape: Schema = {"if": {"type": "array"}, "then": {"uniqueItems": True}}
    if least:
        shape["anyOf"] = [{"type": "array", "minItems": least}, {"type": "array", "maxItems": 0}, {"type": "null"}]
    return shape


def _every(shape: Schema) -> Schema:
    """Every item of a list, or the one thing that stands for it."""
    return {"if": {"type": "array"}, "then": {"items": shape}, "else": shape}


def _never(*keys: str) -> Schema:
    """None of the keys stands there."""
    return {"not": _any_of(*keys)}


def _both(one: str, other: str) -> Schema:
    """A list that has two things that do not go together."""
    return {"type": "array", "allOf": [{"contains": {"const": one}}, {"contains": {"const": other}}]}


_SOME = {"not": {"anyOf": [{"type": "null"}, {"type": "array", "maxItems": 0}]}}
_PORTED = ("tcp", "udp")


def _some(key: str) -> Schema:
    """The key, with something in it."""
    return {"required": [key], "properties": {key: _SOME}}


def _ports_of(*verdicts: str) -> Schema:
    """Ports belong to protocols that have them."""
    named = {"anyOf": [{"required": [each], "properties": {each: {"enum": list(_PORTED)}}} for each in verdicts]}
    asked = [_some(key) for key in ("ports", "source_ports", "not_ports", "not_source_ports")]
    return {"if": {"anyOf": asked}, "then": named}


def _icmp_of(*verdicts: str) -> Schema:
    """Kinds of ICMP messages belong to that protocol."""
    named = {"anyOf": [{"required": [each], "properties": {each: {"const": "icmp"}}} for each in verdicts]}
    return {"if": _some("icmp_types"), "then": named}


_VERSION = {"anyOf": [{"required": ["file"]}, _some("records"), _some("without")]}
_REDIRECT: Schema = {
    "if": {"type": "integer"},
    "then": {"minimum": 300, "maximum": 399},
    "else": {"pattern": "^3"},
}
_STATUS = {"minimum": 100, "maximum": 599}
#: The smallest MTU of IPv4 links (RFC 791), and the largest packet there is; and so many dots a resolver file takes.
_MTU: Schema = {"properties": {"mtu": {"minimum": 68, "maximum": 65535}}}
_NDOTS: Schema = {"minimum": 0, "maximum": 15}


_ZONE_NAME = rf"^(?=.{{1,253}}$){patterns.LABEL}(?:\.{patterns.LABEL})*$".replace("A-Za-z", "a-z")


def _each(pattern: str) -> Schema:
    """A text, or each text of a list, has a form; what is no text has it by its number or word."""
    item = {"if": {"type": "string"}, "then": {"pattern": pattern}}
    return {"if": {"type": "array"}, "then": {"items": item}, "else": item}


def _text(pattern: str) -> Schema:
    """A text of a form that no number has."""
    return {"type": "string", "pattern": pattern}


_INSIDE = _each(r"^(?!/)(?!(?:.*/)?\.\.(?:/|$))")
_CONTENT_ONCE: Schema = {"allOf": [_without("files", "copy", "inventory"), _without("copy", "inventory")]}
#: Only buckets' redirects go by a status; and they know less than those of sites.
_SITE_REDIRECT: Schema = {"properties": {"when": _never("status")}}
_BUCKET_REDIRECT: Schema = {
    **_never(*NOT_AT_BUCKETS),
    "properties": {
        "when": _never(*NOT_IN_CONDITIONS),
        "to": {"not": {"type": "string", "pattern": "|".join(re.escape(each) for each in NOT_IN_TARGETS)}},
    },
}
#: A path with the one that was asked for in it, which begins with a slash.
_TRIED: Schema = {
    **_text(r"^(?:/|\{path\})(?:\{path\}|[^{}?$ \"'\\])*$"),
    "not": {"pattern": r"(?:/|\{path\})\.\.(?:/|\{path\}|$)"},
}
#: A folder's path with what the name asked for puts into it; a site that has one says nothing of what lies there.
_LED: list[Schema] = [
    {"properties": {"folder": {"pattern": r"^(?:[^{]|\{(?:name|label:-?[1-9]\+?|[1-9])\})*$"}}},
    {
        "if": {"required": ["folder"], "properties": {"folder": _text(r"\{")}},
        "then": {"not": _any_of("files", "copy", "inventory")},
    },
    {
        "if": {"required": ["folder"], "properties": {"folder": _text(r"\{[1-9]\}")}},
        "then": _some("name_patterns"),
    },
]
#: What a site and a section have in common.
_GIVING: list[Schema] = [
    {"properties": {"answer": {"anyOf": [{"minimum": 200, "maximum": 299}, {"minimum": 400, "maximum": 599}]}}},
    _CONTENT_ONCE,
    *(_without("upstream", key) for key in CONTRARY["upstream"] if key not in (*LYING, "tries")),
    # What is tried before the upstream lies in a folder.
    {"if": {"not": {"required": ["tries"]}}, "then": _without("upstream", *LYING)},
    {
        "properties": {
            "files": _INSIDE,
            "tries": _every(_TRIED),
            "index_files": _each("^[^/]+$"),
            "redirects": _every(_SITE_REDIRECT),
            "largest_body": {"minimum": 0},
            "age": {"minimum": 0},
            "cache_control": {"pattern": CACHE_CONTROL},
            "error_pages": {"additionalProperties": {"type": "string", "pattern": "^(?:/|https?://)[^ \"'\\\\]*$"}},
        }
    },
]
#: Types whose shapes want some key or other.
NEVER_EMPTY = frozenset(
    (
        "Upstream",
        "Section",
        "NamedSet",
        "Vantage",
        "Zone",
        "Certificate",
        "View",
        "Before",
        "Copy",
        "Area",
        "Edge",
        "EdgeService",
        "Store",
    )
)
_FOLDERS: Schema = {"propertyNames": {"pattern": r"^/(?!(?:.*/)?\.\.(?:/|$))"}}
_ERROR = {"minimum": 400, "maximum": 599}
_NATURAL = {"minimum": 0}
#: What is asked of a filter of an edge: no passwords.
_EDGE_ACCESS: Schema = {
    "not": {
        "anyOf": [{"required": [key], "properties": {key: {"const": True}}} for key in ("password", "nobody", "either")]
    }
}
#: An origin's name, where it is written alone.
_ASKED: Schema = {"if": {"type": "string"}, "then": {"pattern": TYPED}}
#: What every edge has in common.
_EDGE: list[Schema] = [
    {
        "properties": {
            "refuses_with": _ERROR,
            "old_for": _NATURAL,
            "keeps": {"additionalProperties": _NATURAL},
            "order": _distinct(3),
            "key": {**_distinct(), "not": _both("path", "normal-path")},
            "access": _EDGE_ACCESS,
            "index_file": {"type": "string", "pattern": r"^[^?]*[^?/][^?]*$"},
            "error_pages": {"additionalProperties": _text(PATH_OF_ORIGIN)},
            "purged": _every({"anyOf": [{"const": "*"}, _text(patterns.URL)]}),
            "origin": _ASKED,
        }
    },
    {
        "if": {"required": ["program"], "properties": {"program": {"const": "nginx"}}},
        "then": {
            "not": _any_of(*NGINX_HAS_ITS_OWN, "fails_with", "error_pages_say", "asks_from"),
            "properties": {
                "plain": {"not": {"const": "refuse"}},
                "origin": {"not": {"type": "object", "required": ["signs"], "properties": {"signs": {"const": True}}}},
            },
        },
    },
]
_ORIGIN_SAID: Schema = {
    "required": ["origin"],
    "properties": {"origin": {"if": {"type": "object"}, "then": {"required": ["at"]}}},
}
#: By type: schemas that hold beside the properties.
#: What is only for encrypted upstreams: the first that is asked decides (formats/crosscheck_web.py).
_SECURE: Schema = {"pattern": "^[hH][tT][tT][pP][sS]:"}
_ENCRYPTED: Schema = {
    "if": {
        "anyOf": [
            {"required": ["verifies"], "properties": {"verifies": {"const": True}}},
            {"required": ["server_name"], "properties": {"server_name": {"not": {"enum": [False, "", None]}}}},
        ]
    },
    "then": {"properties": {"to": {"if": {"type": "array"}, "then": {"prefixItems": [_SECURE]}, "else": _SECURE}}},
}
SHAPES: dict[str, list[Schema]] = {
    "EdgeService": [*_EDGE, _ORIGIN_SAID],
    "Edge": [*_EDGE, _ORIGIN_SAID, {"anyOf": [{"required": ["canonical"]}, _some("addresses")]}],
    "SwitchedEdge": _EDGE,
    "Origin": [
        {
            "properties": {
                "at": {"pattern": TYPED},
                "port": {"minimum": 1, "maximum": 65535},
                "prefix": {"type": "string", "pattern": "^(?:/[^\\s?#\"'\\\\]*)?$"},
                "answer_within": {"minimum": 1},
            },
            "if": {"required": ["trusts"]},
            "then": {"required": ["leg"], "properties": {"leg": {"const": "verified"}}},
        }
    ],
    "EdgePart": [
        {
            "properties": {
                "path": _text(PART_OF_EDGE),
                "origin": {"if": {"type": "object"}, "then": {"required": ["at"]}, "else": {"pattern": TYPED}},
            }
        }
    ],
    "Failures": [
        {
            "properties": dict.fromkeys(
                ("refused", "no_connect", "no_answer", "garbled", "handshake", "unknown_name"), _ERROR
            )
        }
    ],
    "Held": [
        _without("to", "page"),
        {"properties": {"keeps": _NATURAL, "url": {"type": "string", "pattern": patterns.URL}}},
        {
            "if": {"required": ["status"], "properties": {"status": _REDIRECT}},
            "then": {"required": ["to"]},
        },
        {"if": {"required": ["to", "status"]}, "then": {"properties": {"status": _REDIRECT}}},
    ],
    "Store": [
        _any_of("pages_at", "objects_at"),
        {"if": _some("pages_addresses"), "then": {"required": ["pages_at"]}},
        {"if": _some("objects_addresses"), "then": {"required": ["objects_at"]}},
        {"properties": {"buckets": {"propertyNames": {"pattern": BUCKET_NAME}}}},
    ],
    "Bucket": [
        _without("objects", "copy", "inventory"),
        _without("copy", "inventory"),
        {
            "properties": {
                "sends_all_to": {"pattern": SENT_TO},
                "cache_control": {"pattern": CACHE_CONTROL},
                "index_file": {"not": {"type": "string", "pattern": "/"}},
                "redirects": _every(_BUCKET_REDIRECT),
            },
            "if": {"required": ["uploaded_under"], "properties": {"uploaded_under": {"not": {"const": ""}}}},
            "then": {"required": ["copy"]},
        },
    ],
    "Grant": [_one_of("to", "to_edge", "to_account"), {"properties": {"may": _SOME}}],
    "Estate": [{"properties": {"zones": {"propertyNames": {"pattern": _ZONE_NAME}}}}],
    "Network": [_MTU],
    "Interface": [_MTU],
    "Route": [{"oneOf": [{"required": ["type"]}, _any_of("via", "on")]}, _MTU],
    "RoutingTable": [{"anyOf": [{"required": ["gateway"]}, {"required": ["on"]}, _some("routes")]}],
    "RoutingRule": [_one_of("table", "type")],
    "MarkRule": [
        {"properties": {"mark": {"minimum": 1, "maximum": 4294967295}}},
        {"if": _some("tcp"), "then": {"not": _some("udp")}},
        {"if": {"required": ["own"], "properties": {"own": {"const": True}}}, "then": {"not": _some("in")}},
    ],
    "Forward": [_one_of("tcp", "udp"), _any_of("to", "port"), {"dependentRequired": {"up_to": ["to"]}}],
    "SourceNat": [
        {"dependentRequired": {"up_to": ["to"]}},
        {"if": _some("tcp"), "then": {"not": _some("udp")}},
    ],
    "FilterRule": [
        _one_of("allow", "drop", "reject", "return", "jump", "goto"),
        {
            "dependentRequired": {"answer": ["reject"]},
            "if": {"required": ["protocol"]},
            "then": _any_of("jump", "goto"),
        },
        _ports_of("allow", "drop", "reject", "return", "protocol"),
        _icmp_of("allow", "drop", "reject", "return", "protocol"),
        {
            "if": {"required": ["answer"], "properties": {"answer": {"const": "tcp-reset"}}},
            "then": {"properties": {"reject": {"const": "tcp"}}},
        },
    ],
    "ListRule": [_one_of("allow", "drop"), _ports_of("allow", "drop")],
    "Certificate": [
        {"anyOf": [{"required": ["file"]}, _some("names")]},
        _without("file", "names", "issuer", "from", "until", "sends_chain"),
        {"dependentRequired": {"key": ["file"]}},
    ],
    "Authority": [
        _without("file", "issued_by", "from", "until"),
        {"properties": {"issued_by": {"not": {"const": "self"}}}},
    ],
    "Vantage": [
        _one_of("network", "host"),
        _without("host", "address", "gateway", "routes", "filter", "hosts_file", "resolver", "search", "ndots"),
        {"if": {"required": ["network"]}, "then": _some("address")},
        {"properties": {"ndots": _NDOTS}},
        {"properties": {"redirect_limit": {"minimum": 0, "maximum": 100}}},
    ],
    "Zone": [
        {"anyOf": [{"required": ["file"]}, _some("records")]},
        {"if": _some("without"), "then": {"required": ["file"]}},
    ],
    "View": [_VERSION],
    "Before": [_VERSION],
    "Copy": [_VERSION],
    "HostsFile": [{"anyOf": [{"required": ["file"]}, _some("lines")]}],
    "Area": [
        {
            "anyOf": [
                _some("from"),
                _some("interfaces"),
                {"required": ["default"], "properties": {"default": {"const": True}}},
            ]
        },
        {
            "if": {"required": ["answer"]},
            "then": {
                "not": {"required": ["otherwise"], "properties": {"otherwise": {"not": {"const": "reject"}}}},
                "properties": {"answer": {"not": {"const": "tcp-reset"}}},
            },
        },
    ],
    "NamedSet": [
        {"anyOf": [_some("addresses"), _some("ports")]},
        {"if": _some("addresses"), "then": {"not": _some("ports")}},
    ],
    "Filter": [
        {
            "properties": {"sets": {"propertyNames": {"pattern": patterns.SET_NAME}}},
            "if": {"required": ["stateful"], "properties": {"stateful": {"const": False}}},
            "then": {
                "properties": {
                    "basics": {
                        "not": {
                            "anyOf": [
                                {"const": "known-connections"},
                                {"type": "array", "contains": {"const": "known-connections"}},
                            ]
                        }
                    }
                }
            },
        },
        {
            "if": {"required": ["areas"], "properties": {"areas": {"type": "object", "minProperties": 1}}},
            "then": {"not": {"required": ["inbound"]}},
        },
    ],
    "NameServer": [_some("zones")],
    "OtherService": [{"required": ["listens"]}],
    "Redirect": [
        {"anyOf": [{"required": ["to"], "properties": {"to": {"minLength": 1}}}, {"required": ["answer"]}]},
        {"not": {"required": ["inner", "status"]}},
        {
            "if": {"required": ["to"], "properties": {"to": _text(r"\{[1-9]\}")}},
            "then": {"required": ["when"], "properties": {"when": {"required": ["pattern"]}}},
        },
        {
            "if": {"required": ["inner"]},
            "then": {"properties": {"to": {"pattern": r"^(/|\{(path|rest|[1-9])\})"}}},
        },
        {
            "if": {"required": ["answer"]},
            "then": {
                "not": {"anyOf": [{"required": [each]} for each in ("to", "inner", "status", "query")]},
                "properties": {"answer": {"minimum": 200, "maximum": 599, "not": {"minimum": 300, "maximum": 399}}},
            },
        },
    ],
    "ScriptRunner": [{"anyOf": [{"required": ["listens"]}, {"required": ["socket"]}]}],
    "StatedProgram": [
        {"properties": {key: {"minimum": 400, "maximum": 599} for key in ("refuses_with", "missing", "no_index_file")}}
    ],
    "Site": [
        *_GIVING,
        *_LED,
        {"dependentRequired": {"parts": ["copy"]}},
        {
            "if": {"required": ["default"], "properties": {"default": {"const": True}}},
            "then": {"not": _some("default_on")},
        },
    ],
    "Rate": [{"properties": {"requests": {"minimum": 1}, "at_once": {"minimum": 0}}}],
    "RuleFile": [{"properties": {"redirects": _every(_SITE_REDIRECT)}}],
    "Section": [
        *_GIVING,
        _one_of("path", "exact", "pattern"),
        *(_without("answer", key) for key in CONTRARY["answer"]),
        {"properties": {"path": _text("^/[^?]*$"), "exact": _text("^/[^?]*$"), "folder": {"pattern": r"^[^{]*$"}}},
    ],
    "Folder": [_CONTENT_ONCE, {"properties": {"files": _INSIDE}}],
    "Upstream": [_some("to"), {"properties": {"answer_within": {"minimum": 1}}}, _ENCRYPTED],
    "WebService": [
        {"properties": {"grants": _each("^/"), "answers_after": {"minimum": 0}, "runs_as": {"minLength": 1}}},
        {
            "if": {"required": ["program"], "properties": {"program": {"const": "apache"}}},
            "then": {
                "properties": {"sites": {"additionalProperties": {"not": {"type": "object", **_some("name_patterns")}}}}
            },
        },
        {
            "if": {"properties": {"program": {"const": "nginx"}}},
            "then": {
                "properties": {
                    "sites": {"additionalProperties": {"properties": {"folder": {"pattern": r"^(?!.*\{label:)"}}}}
                }
            },
        },
    ],
    "When": [
        {
            "properties": {
                "path": {"type": "string", "pattern": r"^/[^*?]*\*?$"},
                "port": {"minimum": 1, "maximum": 65535},
            }
        }
    ],
    "Expectation": [{"properties": {"status": _STATUS}}],
    "Host": [
        {
            "properties": {
                "local_name": {"pattern": r"\.[Ll][Oo][Cc][Aa][Ll]\.?$"},
                "folders": _FOLDERS,
                "ndots": _NDOTS,
            }
        }
    ],
    "Router": [
        {"properties": {"ndots": _NDOTS, "folders": _FOLDERS, "local_name": {"pattern": r"\.[Ll][Oo][Cc][Aa][Ll]\.?$"}}}
    ],
}
