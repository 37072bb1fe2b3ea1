"""What nginx passes on to a program behind: to whom, under which name, with which header fields."""

import re

from portolan.transcribing.directive import Directive
from portolan.transcribing.nginx_silent import WHO
from portolan.transcribing.nginx_words import filled, seconds
from portolan.transcribing.part import Part
from portolan.transcribing.web import is_header, is_name, is_text, is_upstream

#: What of a pool decides only which member comes when.
_POOLS = frozenset(
    (
        "keepalive",
        "zone",
        "keepalive_timeout",
        "keepalive_requests",
        "keepalive_time",
        "least_conn",
        "ip_hash",
        "hash",
        "random",
    )
)
_SWITCHES = {
    "proxy_ssl_verify": "verifies",
    "proxy_ssl_server_name": "server_name",
    "proxy_intercept_errors": "replaces_errors",
}


def passed_on(part: Part, each: Directive, inside: list[Directive], pools: dict[str, Directive]) -> Part | None:
    """The upstream of a `proxy_pass`, with what stands beside it; None where the estate has no word for it."""
    match = re.fullmatch(r"(https?)://([^/$?]+)((?:/[^$?]*)?)", each.words[0] if each.words else "")
    if match is None:
        return None
    scheme, name, path = match.groups()
    pool = pools.get(name.partition(":")[0])
    members, spare = _members(pool, scheme, path, part) if pool is not None else ([f"{scheme}://{name}{path}"], [])
    if not members or not all(map(is_upstream, (*members, *spare))):
        return None
    made = Part(each.spot)
    made.say("to", members if len(members) > 1 else members[0], each.spot)
    if spare:
        made.say("spare", spare, each.spot)
    if pool is not None:
        made.say("pool", pool.words[0], pool.spot)
    headers: dict[str, str] = {}
    sent_host = False
    for other in inside:
        if other.name == "proxy_set_header" and len(other.words) == 2:
            sent_host |= _passes(part, made, other, headers)
        else:
            _told(part, made, other, pool is not None)
    if pool is not None and not sent_host and len(members) == 1:
        # It sends the pool's name.
        if is_name(pool.words[0]):
            made.say("host", pool.words[0], pool.spot)
        else:
            part.lose(pool.spot, f"upstream {pool.words[0]}: its name is sent as the host name")
    if headers:
        made.facts["headers"] = headers
    return made


def _told(part: Part, made: Part, other: Directive, pooled: bool) -> None:
    """What else is said of how a request is passed on."""
    if other.name in _SWITCHES:
        made.say(_SWITCHES[other.name], other.words == ("on",), other.spot)
    elif other.name == "proxy_redirect":
        if other.words == ("off",):
            made.say("turns_redirects", False, other.spot)
        elif (
            len(other.words) == 2 and re.fullmatch(r"https?://[^$~\s]+", other.words[0]) and _is_turned(other.words[1])
        ):
            held = made.facts.get("turned", {})
            made.say("turned", {**held, other.words[0]: other.words[1]}, other.spot)
        elif other.words != ("default",):
            part.lose(other.spot, other.text)
    elif other.name == "proxy_read_timeout" and other.words and (wait := seconds(other.words[0])) is not None:
        made.say("answer_within", wait, other.spot)
    elif other.name == "proxy_next_upstream" and pooled and (statuses := _statuses(other)):
        made.say("next_on", statuses, other.spot)
    elif other.name in ("proxy_ssl_name", "proxy_ssl_certificate") or (
        other.name == "proxy_next_upstream" and pooled and set(other.words) != {"error", "timeout"}
    ):
        part.lose(other.spot, other.text)


def _is_turned(text: str) -> bool:
    """Whether a text can stand in the place of an upstream's own address."""
    return re.fullmatch(r"(?:/|https?://)[^$\s]*", text) is not None


def _statuses(each: Directive) -> list[int]:
    """The statuses after which the next member is asked; nothing where something else is said, too, or less."""
    if not {"error", "timeout"} <= set(each.words):
        return []
    named = [word.removeprefix("http_") for word in each.words if word not in ("error", "timeout")]
    return list(map(int, named)) if all(word.isdecimal() for word in named) else []


def _members(pool: Directive, scheme: str, path: str, part: Part) -> tuple[list[str], list[str]]:
    """The members of a pool, and the spare ones."""
    members: list[str] = []
    spare: list[str] = []
    for each in pool.block or ():
        if each.name == "server" and each.words:
            usual = ("weight=", "max_", "fail_timeout", "resolve")
            options = {word for word in each.words[1:] if not word.startswith(usual)}
            if "down" in options:
                continue
            if options - {"backup"} or each.words[0].startswith("unix:"):
                part.lose(each.spot, each.text)
            if not each.words[0].startswith("unix:"):
                (spare if "backup" in options else members).append(f"{scheme}://{each.words[0]}{path}")
        elif each.name not in _POOLS:
            part.lose(each.spot, each.text)
    return members, spare


def _passes(part: Part, made: Part, each: Directive, headers: dict[str, str]) -> bool:
    """A header field for the program behind; whether it is the host name."""
    name, value = each.words
    if name.lower() == "host":
        if value in ("$host", "$http_host", "$host:$server_port", "${host}"):
            made.say("host", "as-sent" if value == "$http_host" else "kept", each.spot)
        elif is_name(value) and value:
            made.say("host", value, each.spot)
        elif value != "$proxy_host":
            part.lose(each.spot, each.text)
        return value != "$proxy_host"
    if value in ("$remote_addr", "$realip_remote_addr") and is_header(name):
        headers[name] = "{client}"
        made.spots["headers"] = each.spot
        return False
    if value == "$proxy_add_x_forwarded_for" and name.lower() == "x-forwarded-for":
        made.say("appends", {name: "{client}"}, each.spot)
        return False
    if name.lower() == "upgrade" and value:
        made.say("upgrades", True, each.spot)
        return False
    if WHO.fullmatch(name):
        return False
    text = filled(value, None) if value else ""
    known = text is not None and not re.search(r"\{(?!scheme\}|host\}|port\})", text)
    if known and text and is_header(name) and is_text(text):
        headers[name] = text
        made.spots["headers"] = each.spot
    else:
        part.lose(each.spot, f"proxy_set_header {name}")
    return False
