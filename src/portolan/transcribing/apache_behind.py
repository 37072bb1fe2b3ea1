"""What Apache httpd passes on to a program behind: to whom, under which name, with which header fields (mod_proxy)."""

import re
from collections.abc import Iterable

from portolan.transcribing.directive import Directive
from portolan.transcribing.part import Part
from portolan.transcribing.web import is_header, is_name, is_text, is_upstream

_WHO = re.compile(
    r"(?i)(?:x-real-ip|x-forwarded-for|x-client-ip|forwarded|proxy|x-request-id|upgrade|connection|accept-encoding)"
)
#: Words of a `ProxyPass` that decide nothing of the answer, by how they begin.
_USUAL = (
    "timeout",
    "connectiontimeout",
    "retry",
    "keepalive",
    "nocanon",
    "upgrade=",
    "stickysession",
    "max",
    "min",
    "ttl",
    "disablereuse",
)
_SCHEMES = dict.fromkeys(("%{REQUEST_SCHEME}e", "expr=%{REQUEST_SCHEME}", "%{REQUEST_SCHEME}s"), "{scheme}")


_TO_SOCKETS = re.compile(r"(wss?)://([^/$]+(?:/[^$]*)?)\$1")


def opens_sockets(rule: Directive, path: str, target: str) -> bool:
    """Whether a rewrite rule passes on for websockets what a `ProxyPass` of the same paths passes on for pages (mod_proxy_wstunnel)."""
    if rule.name != "rewriterule" or len(rule.words) < 3 or "P" not in rule.words[2].strip("[]").split(","):
        return False
    to = _TO_SOCKETS.fullmatch(rule.words[1])
    scheme = {"ws": "http", "wss": "https"}.get(to[1]) if to is not None else None
    same = to is not None and target in (f"{scheme}://{to[2]}", f"{scheme}://{to[2]}".rstrip("/"))
    return same and rule.words[0].strip("^$") in (f"{path}(.*)", f"/?{path[1:]}(.*)")


def passed_on(
    part: Part, each: Directive, target: str, inside: list[Directive], pools: dict[str, Directive]
) -> Part | None:
    """The upstream of a `ProxyPass`, with what stands beside it; None where the estate has no word for it."""
    made = Part(each.spot)
    match = re.fullmatch(r"balancer://([^/]+)(/.*)?", target)
    members, spare = [target], list[str]()
    if match is not None:
        members, spare = _members(pools.get(f"balancer://{match[1]}"), match[2] or "")
        made.say("pool", match[1] if is_name(match[1]) else "pool")
    known = bool(members) and all(map(is_upstream, (*members, *spare)))
    if not known or any(not word.startswith(_USUAL) for word in each.words[2:]):
        part.lose(each.spot, f"ProxyPass {' '.join(each.words)}")
    if not known:
        return None
    made.say("to", members if len(members) > 1 else members[0])
    if spare:
        made.say("spare", spare)
    if "upgrade=websocket" in each.words[2:] or "upgrade=ANY" in each.words[2:]:
        made.say("upgrades", True)
    headers: dict[str, str] = {}
    for one in inside:
        _told(part, made, one, target, headers)
    wait = next((word.partition("=")[2] for word in each.words[2:] if word.startswith("timeout=")), "")
    if wait.isdecimal():
        made.say("answer_within", int(wait))
    if headers:
        made.facts["headers"] = headers
    return made


def _members(pool: Directive | None, path: str) -> tuple[list[str], list[str]]:
    """The members of a pool, and the spare ones."""
    held: Iterable[Directive] = pool.block or () if pool is not None else ()
    members: list[str] = []
    spare: list[str] = []
    for each in held:
        if each.name == "balancermember" and each.words and "status=+D" not in each.words:
            (spare if "status=+H" in each.words else members).append(each.words[0].rstrip("/") + path)
    return members, spare


def _told(part: Part, made: Part, one: Directive, target: str, headers: dict[str, str]) -> None:
    """What else is said of how a request is passed on."""
    words = [word.lower() for word in one.words]
    if one.name == "proxypreservehost" and words == ["on"]:
        made.say("host", "kept", one.spot)
    elif one.name == "proxypassreverse" and words and one.words[-1].rstrip("/") == target.rstrip("/"):
        made.say("turns_redirects", True, one.spot)
    elif one.name == "proxyerroroverride" and words[:1] == ["on"]:
        made.say("replaces_errors", True, one.spot)
    elif one.name == "proxytimeout" and words and words[0].isdecimal():
        made.say("answer_within", int(words[0]), one.spot)
    elif one.name == "sslproxyverify":
        made.say("verifies", words == ["require"], one.spot)
    elif one.name == "requestheader" and len(words) >= 2:
        _passes(part, made, one, headers)


def _passes(part: Part, made: Part, each: Directive, headers: dict[str, str]) -> None:
    action, name, *rest = each.words
    if _WHO.fullmatch(name) or action.lower() in ("unset", "edit"):
        return
    value = _SCHEMES.get(rest[0], rest[0]) if rest else ""
    plain = not re.search(r"%\{|^expr=", value) and len(rest) == 1
    if action.lower() == "set" and is_header(name) and is_text(value) and plain:
        headers[name] = value
        made.spots["headers"] = each.spot
    else:
        part.lose(each.spot, f"RequestHeader {name}")
