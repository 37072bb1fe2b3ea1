"""What a server or a location of nginx says of what it gives, directive by directive: each has its function in a table."""

import posixpath
import re
from collections.abc import Callable

from portolan.source.value import Value
from portolan.transcribing.directive import Directive
from portolan.transcribing.nginx_access import Access
from portolan.transcribing.nginx_behind import passed_on
from portolan.transcribing.nginx_silent import SILENT
from portolan.transcribing.nginx_words import filled, groups, pattern, size, when
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.web import (
    TOLD,
    Gathered,
    a_range,
    add,
    is_header,
    is_method,
    is_target,
    is_text,
    one_source,
)

_SENDS = (301, 302, 303, 307, 308)


class Around(Value, frozen=True):
    """What holds for all of a server: what is gathered, where relative paths begin, pools by name, its first name."""

    out: Gathered
    prefix: str
    pools: dict[str, Directive]
    server_name: str | None
    #: Places that only the server's own words lead to, by name.
    named: dict[str, Directive] = {}
    #: Limits of requests by the name of their zone: how many, in which time. Those that count something else than addresses are not among them.
    rates: dict[str, tuple[int, str]] = {}
    #: The status for requests above a limit, where the server says one.
    rate_status: str = "503"


class Giving:
    """One block, read. `kind` is a location's (`start`, `first`, `exact`, `pattern`), None for the server itself."""

    def __init__(self, around: Around, part: Part, inside: list[Directive], where: str, kind: str | None) -> None:
        self.around, self.part, self.inside, self.where, self.kind = around, part, inside, where, kind
        self.access = Access()
        self.root: tuple[str, Spot] | None = None
        #: Whose word on the visitor's address is believed.
        self.believed: dict[str, object] = {}
        self.errors: dict[str, str] = {}
        self.errors_as: dict[str, int] = {}
        #: Whether a fixed answer came: what stands behind it is never reached.
        self.answered = False

    def read(self) -> None:
        """States it all at the part."""
        for each in self.inside:
            action = ACTIONS.get(each.name)
            if action is not None:
                action(self, each)
            elif not (SILENT.fullmatch(each.name) or _elsewhere(each)):
                self.lose(each)
        if self.root is not None and ("upstream" not in self.part.facts or "tries" in self.part.facts):
            self.part.say("folder", posixpath.normpath(self.root[0]), self.root[1])
        if self.believed.get("from"):
            self.part.say("believes_address", {"header": "X-Real-IP", **self.believed}, self.part.spot)
        if self.errors:
            self.part.facts["error_pages"] = self.errors
        if self.errors_as:
            self.part.facts["error_pages_as"] = self.errors_as
        if {each.name for each in self.inside} >= {"try_files", "proxy_pass"} and "upstream" in self.part.facts:
            # Files are tried first, and what is passed on is the path of the one that is there.
            self.part.lose(self.part.spots["upstream"], "try_files beside proxy_pass")
        self.access.into(self.part)
        one_source(self.part)

    def lose(self, each: Directive, text: str | None = None) -> None:
        """Notes a line that cannot be kept."""
        self.part.lose(each.spot, text or each.text)


def _elsewhere(each: Directive) -> bool:
    """What is read with something else: with the server, or with what is passed on."""
    named = (
        "listen",
        "server_name",
        "location",
        "ssl",
        "ssl_certificate_key",
        "proxy_set_header",
        "proxy_read_timeout",
        "proxy_redirect",
    )
    return each.name in named or each.name.startswith(("proxy_ssl_", "proxy_intercept", "proxy_next_upstream"))


def _root(here: Giving, each: Directive) -> None:
    text = _led(here, each.words[0]) if each.words else None
    if text is None or not text.startswith("/"):
        here.lose(each)
        here.root = None
    elif here.kind is None:
        here.root = (text, each.spot)
    elif here.kind in ("start", "first"):
        here.root = (each.words[0].rstrip("/") + here.where, each.spot)
    else:
        here.root = (each.words[0], each.spot)


def rates_of(stated: list[Directive]) -> dict[str, tuple[int, str]]:
    """The limits of requests by address that are stated, by the name of their zone."""
    found = {}
    for each in stated:
        words = dict(word.split("=", 1) for word in each.words[1:] if "=" in word)
        rate = re.fullmatch(r"([1-9][0-9]{0,8})r/([sm])", words.get("rate", ""))
        if rate is not None and each.words[0].strip("{}$") in ("binary_remote_addr", "remote_addr"):
            name = words.get("zone", "").partition(":")[0]
            found[name] = (int(rate[1]), "second" if rate[2] == "s" else "minute")
    return found


def _rate(here: Giving, each: Directive) -> None:
    """Which limit of requests counts, and what is said to those above it."""
    words = dict(word.split("=", 1) for word in each.words if "=" in word)
    known = here.around.rates.get(words.get("zone", ""))
    burst = words.get("burst", "0")
    if known is None or "rate" in here.part.facts or not re.fullmatch(r"[0-9]{1,9}", burst):
        here.lose(each)
        return
    said = (one.words[0] for one in here.inside if one.name == "limit_req_status" and one.words)
    status = next(said, here.around.rate_status)
    facts: dict[str, object] = {"requests": known[0], "each": known[1]}
    if burst != "0":
        facts["at_once"] = int(burst)
    if status != "503" and re.fullmatch("[45][0-9]{2}", status):
        facts["refuses_with"] = int(status)
    here.part.say("rate", facts, each.spot)


def _led(here: Giving, text: str) -> str | None:
    """A folder's path; variables stand in a server's own where the name asked for leads to it, and nowhere else."""
    if "{" in re.sub(r"\$\{\w+\}", "", text) or ("$" in text and here.kind is not None):
        return None
    patterns = here.part.facts.get("name_patterns", [])
    named: dict[str, str] = {}
    if isinstance(patterns, list) and len(patterns) == 1:
        import re2  # only for servers that have patterns

        named = {name: f"{{{number}}}" for name, number in re2.compile(patterns[0]).groupindex.items() if number < 10}
    named["host"] = "{name}"
    if here.around.server_name:
        named["server_name"] = here.around.server_name
    variables = re.findall(r"\$(\w+|\{\w+\})", text)
    if any(each.strip("{}") not in named for each in variables):
        return None
    return re.sub(r"\$(\w+|\{\w+\})", lambda each: named[each[1].strip("{}")], text)


def _alias(here: Giving, each: Directive) -> None:
    target = each.words[0] if each.words else ""
    here.root = None
    if "$" in target or not target.startswith("/"):
        here.lose(each)
    elif here.kind in ("start", "first"):
        if here.where.endswith("/") != target.endswith("/"):
            here.lose(each, f"{each.text}: one of the two paths ends in a slash, the other does not")
        else:
            here.root = (target, each.spot)
    elif here.kind == "exact" and target.endswith(here.where):
        here.root = (target.removesuffix(here.where) or "/", each.spot)
    else:
        here.lose(each)


def _index(here: Giving, each: Directive) -> None:
    kept = [word for word in each.words if "$" not in word]
    here.part.say("index_files", [word.lstrip("/") for word in kept], each.spot)
    if len(kept) < len(each.words) or any(word.startswith("/") for word in kept):
        here.lose(each)


def _listing(here: Giving, each: Directive) -> None:
    here.part.say("listing", each.words == ("on",), each.spot)


def _links(here: Giving, each: Directive) -> None:
    if here.kind is None:
        here.part.say("follows_links", each.words == ("off",), each.spot)
    else:
        here.lose(each)


def _largest(here: Giving, each: Directive) -> None:
    octets = size(each.words[0]) if each.words else None
    if octets is None:
        here.lose(each)
    else:
        here.part.say("largest_body", octets or 1 << 50, each.spot)


def _error_page(here: Giving, each: Directive) -> None:
    if len(each.words) < 2:
        here.lose(each)
        return
    *statuses, page = each.words
    given_as = next((word[1:] or "200" for word in statuses if word.startswith("=")), None)
    statuses = [word for word in statuses if not word.startswith("=")]
    if (
        (given_as is not None and (not given_as.isdecimal() or page[:1] != "/"))
        or "$" in page
        or page.startswith("@")
        or not is_text(page)
    ):
        here.lose(each)
        return
    for status in statuses:
        if status.isdecimal() and 400 <= int(status) <= 599 and re.match(r"/|https?://", page):
            here.errors[status] = page
            if given_as is not None:
                here.errors_as[status] = int(given_as)
            here.part.spots["error_pages"] = each.spot
        else:
            here.lose(each, f"error_page {status} {page}")


def _access(here: Giving, each: Directive) -> None:
    here.access.take(each)


def _header(here: Giving, each: Directive) -> None:
    name, value = each.words[0] if each.words else "", each.words[1] if len(each.words) > 1 else ""
    if name.lower() == "cache-control" and "$" not in value and is_text(value):
        here.part.say("cache_control", value, each.spot)
    elif name.lower() == "set-cookie":
        here.part.say("sets_cookie", True, each.spot)
    elif not TOLD.fullmatch(name):
        here.lose(each, f"add_header {name}")


def _protocols(here: Giving, each: Directive) -> None:
    spoken = [number for number in ("1.2", "1.3") if f"TLSv{number}" in each.words]
    if not spoken:
        here.lose(each)
    elif len(spoken) == 1:
        here.part.say("tls_versions", spoken, each.spot)


def _clients(here: Giving, each: Directive) -> None:
    asked = {"on": "required", "optional": "asked"}.get(each.words[0] if each.words else "")
    if asked is not None:
        here.part.say("client_certificates", asked, each.spot)
    elif each.words != ("off",):
        here.lose(each)


#: How redirects of its own are written: what differs from the usual, and what it is in the estate, the first that is said.
_OWN_REDIRECTS = {
    ("absolute_redirect", "off"): ("redirects_to", "path-only"),
    ("server_name_in_redirect", "on"): ("redirects_to", "own-address"),
    ("port_in_redirect", "off"): ("redirects_tell_port", False),
}


def _own_redirects(here: Giving, each: Directive) -> None:
    said = _OWN_REDIRECTS.get((each.name, each.words[0] if each.words else ""))
    if said is None:
        return
    if here.kind is not None:
        here.lose(each)
    elif here.part.facts.get(said[0]) != "path-only":
        here.part.say(*said, each.spot)


def _believed(here: Giving, each: Directive) -> None:
    """From whom, and in which field, the visitor's address is believed; the estate knows it of whole sites."""
    word = each.words[0] if each.words else ""
    if here.kind is not None:
        here.lose(each)
    elif each.name == "real_ip_header" and is_header(word):
        here.believed["header"] = word
    elif each.name == "real_ip_recursive":
        here.believed["passes_over"] = word == "on"
    elif each.name == "set_real_ip_from" and a_range(word) is not None:
        held = here.believed.get("from")
        here.believed["from"] = [*(held if isinstance(held, list) else []), word]
    else:
        here.lose(each)


def _rejects(here: Giving, each: Directive) -> None:
    if each.words == ("on",):
        here.part.say("rejects_handshake", True, each.spot)


def _certificate(here: Giving, each: Directive) -> None:
    path = each.words[0] if each.words else "$"
    if "certificate" in here.part.facts or "$" in path or path.startswith(("data:", "engine:")):
        here.lose(each, f"ssl_certificate {path}" if path[:1] in "$/" else "ssl_certificate")
        return
    keys = [other.words[0] for other in here.inside if other.name == "ssl_certificate_key" and other.words]
    full = posixpath.normpath(posixpath.join(here.around.prefix, path))
    key = posixpath.normpath(posixpath.join(here.around.prefix, keys[0])) if keys else None
    here.part.say("certificate", here.around.out.certificate(full, key, each.spot), each.spot)


# -- answers and redirects --


def _returned(words: tuple[str, ...]) -> tuple[int, str] | None:
    """The status of a `return`, and its target where it sends elsewhere."""
    if words and not words[0].isdecimal():
        words = ("302", *words)
    if not words:
        return None
    status = int(words[0])
    if status in _SENDS:
        return (status, words[1]) if len(words) > 1 else None
    return (status, "") if 200 <= status <= 599 and not 300 <= status <= 399 else None


def _return(here: Giving, each: Directive) -> None:
    if here.answered:
        return
    said = _returned(each.words)
    if said is None:
        here.lose(each)
    elif said[1]:
        here.answered = _redirect(here, each, said[1], said[0], {})
    else:
        here.part.say("answer", said[0], each.spot)
        here.answered = True


def _redirect(
    here: Giving, each: Directive, target: str, status: int, condition: dict[str, object], query: str = ""
) -> bool:
    """A rule that sends visitors elsewhere; whether it was kept."""
    to = filled(target, here.around.server_name)
    if to is None or not is_target(to):
        here.lose(each)
        return False
    rule = Part(each.spot)
    if condition:
        rule.say("when", condition)
    rule.say("to", to)
    rule.say("status", status)
    if query:
        rule.say("query", query)
    add(here.part, "redirects", rule)
    return True


def _rewrite(here: Giving, each: Directive) -> None:
    if not here.answered and not _rewritten(here, each, {}):
        here.lose(each)


#: How a request goes on within the server, by the flag of the rewrite.
_WITHIN = {(): "on", ("last",): "again", ("break",): "here"}


def _rewritten(here: Giving, each: Directive, condition: dict[str, object]) -> bool:
    """A rewrite that leaves for another address, or goes on under another path; whether it was kept, or lost as such."""
    if len(each.words) < 2:
        return False
    target, flags = each.words[1], list(each.words[2:])
    held, to = pattern(each.words[0]), groups(target.removesuffix("?"))
    within = _WITHIN.get(tuple(flags))
    if within is not None and held is not None and to is not None and re.match(r"/|\$uri|\{", to):
        made = filled(to, here.around.server_name)
        if made is None or not is_target(made):
            return False
        whole = held in ("^", "^.*$", "^(.*)$", ".*", "(.*)") and "{1}" not in made
        _rule(here, each, {**condition, **({} if whole else {"pattern": held})}, to=made, inner=within)
        if not target.endswith("?"):
            here.part.facts["redirects"][-1].say("query", "joined")
        return True
    leaves = re.match(r"https?://|\$scheme", target) is not None or flags in (["permanent"], ["redirect"])
    if not leaves or held is None or to is None:
        return False
    query = "" if target.endswith("?") or "$request_uri" in target else "joined"
    _redirect(here, each, to, 301 if flags == ["permanent"] else 302, {**condition, "pattern": held}, query)
    return True


def _rule(here: Giving, each: Directive, condition: dict[str, object], **facts: object) -> None:
    """A rule that visitors do not see, or that answers."""
    rule = Part(each.spot)
    if condition:
        rule.say("when", condition)
    for key, value in facts.items():
        rule.say(key, value)
    add(here.part, "redirects", rule)


def _if(here: Giving, each: Directive) -> None:
    if here.answered:
        return
    text = " ".join(each.words).strip().removeprefix("(").removesuffix(")").strip()
    condition = when(text)
    inside = [one for one in each.block or () if not SILENT.fullmatch(one.name)]
    only = inside[0] if len(inside) == 1 else None
    if condition is None or only is None:
        here.lose(each, f"if ({text})")
    elif only.name == "return" and (said := _returned(only.words)) is not None and said[1]:
        _redirect(here, only, said[1], said[0], condition)
    elif only.name == "return" and (said := _returned(only.words)) is not None:
        _rule(here, only, condition, answer=said[0])
    elif only.name != "rewrite" or "pattern" in condition or not _rewritten(here, only, condition):
        here.lose(each, f"if ({text})")


def _methods(here: Giving, each: Directive) -> None:
    inside = [(one.name, one.words) for one in each.block or ()]
    if inside == [("deny", ("all",))] and all(map(is_method, each.words)):
        here.part.say("methods", list(each.words), each.spot)
    else:
        here.lose(each)


def _try_files(here: Giving, each: Directive) -> None:
    *tried, last = each.words or ("",)
    last = last.partition("?")[0]
    if tried == ["$uri"] and last == "=404" and "." in here.where:
        return  # paths of files that have an ending are no folders'
    known = bool(tried) and all(
        word.startswith(("/", "$uri")) and "$" not in word.replace("$uri", "") for word in tried
    )
    page = re.fullmatch(r"/[^$]*", last)
    if known and last in here.around.named and _tried_then_asked(here, each, tried, here.around.named[last]):
        return
    if not known or (page is None and last != "=404"):
        here.lose(each)
        return
    # Without a page at its end it is said, too: what is missing is refused before the method is looked at (measured).
    if tried != ["$uri", "$uri/"] or page is None:
        here.part.say("tries", [word.replace("$uri", "{path}") for word in tried], each.spot)
    if page is not None:
        here.part.say("fallback", last.lstrip("/"), each.spot)


def _tried_then_asked(here: Giving, each: Directive, tried: list[str], named: Directive) -> bool:
    """Files first, then a program behind: what stands in a place with a name is passed on; whether it could be kept."""
    inside = list(named.block or ())
    passing = next((one for one in inside if one.name == "proxy_pass"), None)
    others = [one for one in inside if not (SILENT.fullmatch(one.name) or _elsewhere(one) or one is passing)]
    above = [one for one in here.inside if one.name.startswith("proxy_")]
    made = passed_on(here.part, passing, [*above, *inside], here.around.pools) if passing is not None else None
    if made is None or others or (here.root is not None and here.kind is not None):
        return False
    here.part.say("tries", [word.replace("$uri", "{path}") for word in tried], each.spot)
    here.part.say("upstream", made, passing.spot if passing is not None else each.spot)
    return True


def _scripts(here: Giving, each: Directive) -> None:
    """Who runs scripts: at a socket, an address and port, or the only member of a pool."""
    text = each.words[0] if each.words else ""
    pool = here.around.pools.get(text)
    if pool is not None:
        members = [one.words[0] for one in pool.block or () if one.name == "server" and one.words]
        text = members[0] if len(members) == 1 else ""
    at = text.removeprefix("unix:").removesuffix(":") if text.startswith("unix:") else text
    if re.fullmatch(r"/[^\s$]+|[\w.-]+:\d+|\[[0-9A-Fa-f:]+\]:\d+", at):
        here.part.say("scripts_at", at, each.spot)
    else:
        here.lose(each)


def _proxy_pass(here: Giving, each: Directive) -> None:
    made = passed_on(here.part, each, here.inside, here.around.pools)
    if made is None:
        here.lose(each)
    else:
        here.part.say("upstream", made, each.spot)


ACTIONS: dict[str, Callable[[Giving, Directive], None]] = {
    "root": _root,
    "limit_req": _rate,
    "alias": _alias,
    "index": _index,
    "autoindex": _listing,
    "disable_symlinks": _links,
    "client_max_body_size": _largest,
    "error_page": _error_page,
    "allow": _access,
    "deny": _access,
    "satisfy": _access,
    "auth_basic": _access,
    "auth_basic_user_file": _access,
    "add_header": _header,
    "ssl_protocols": _protocols,
    "ssl_verify_client": _clients,
    "ssl_reject_handshake": _rejects,
    **dict.fromkeys(("set_real_ip_from", "real_ip_header", "real_ip_recursive"), _believed),
    **{name: _own_redirects for name, _ in _OWN_REDIRECTS},
    "ssl_certificate": _certificate,
    "return": _return,
    "rewrite": _rewrite,
    "if": _if,
    "limit_except": _methods,
    "try_files": _try_files,
    "proxy_pass": _proxy_pass,
    "fastcgi_pass": _scripts,
}
