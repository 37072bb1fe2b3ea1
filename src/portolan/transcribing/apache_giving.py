"""What a virtual host of Apache httpd, or a part of one, says of what it gives: each directive has its function in a table."""

import re
from collections.abc import Callable, Iterable

from portolan.transcribing.apache_access import access_of
from portolan.transcribing.apache_behind import opens_sockets
from portolan.transcribing.apache_rules import Rewrites, aliased, matched
from portolan.transcribing.apache_silent import ACCESS, ELSEWHERE, SILENT
from portolan.transcribing.directive import Directive
from portolan.transcribing.part import Part
from portolan.transcribing.web import TOLD, a_range, add, is_method, is_text

_STATUSES = {"permanent": 301, "temp": 302, "seeother": 303, "gone": 410}


class Giving:
    """One block, read. `where` is the path or folder that it is for, nothing for the virtual host itself; `of_folder` says that it is
    about the virtual host's own folder."""

    def __init__(
        self, part: Part, inside: Iterable[Directive], where: str, usual_port: bool, of_folder: bool = False
    ) -> None:
        self.part, self.inside, self.where = part, list(inside), where
        passed = [each for each in self.inside if each.name == "proxypass" and len(each.words) > 1]
        sockets = (each for each in self.inside if any(opens_sockets(each, *one.words[:2]) for one in passed))
        at = where or ("/" if of_folder else "")
        self.rewrites = Rewrites(part, at, usual_port, of_folder or bool(where), tuple(sockets))
        self.rewriting = on(self.inside, "rewriteengine")

    def read(self) -> None:
        """States it all at the part."""
        access = access_of([each for each in self.inside if each.name in ACCESS], self.part)
        if access is not None and (access.facts or self.where):
            self.part.say("access", access)
        elif access is not None:
            self.part.facts.pop("access", None)
        for each in self.inside:
            action = ACTIONS.get(each.name)
            if "${" in each.text and not SILENT.fullmatch(each.name):
                # Only the environment of the program says what that is.
                self.lose(each)
            elif action is not None:
                action(self, each)
            elif each.name not in ACCESS and each.name not in ELSEWHERE and not SILENT.fullmatch(each.name):
                self.lose(each)

        believed = self.part.facts.get("believes_address")
        if isinstance(believed, dict) and not {"header", "from"} <= set(believed):
            # Without the field nobody is asked, and without a range every word is believed: the estate knows neither.
            del self.part.facts["believes_address"]

    def lose(self, each: Directive, text: str | None = None) -> None:
        """Notes a line that cannot be kept."""
        self.part.lose(each.spot, text or each.text)


def on(inside: Iterable[Directive], name: str) -> bool:
    """Whether a switch is on at the end."""
    held = [each for each in inside if each.name == name and each.words]
    return bool(held) and held[-1].words[0].lower() == "on"


def denies(block: Iterable[Directive]) -> bool:
    """Whether a block keeps everybody out."""
    barred = {("require", ("all", "denied")), ("deny", ("from", "all"))}
    return any((each.name, tuple(map(str.lower, each.words))) in barred for each in block)


def _index(here: Giving, each: Directive) -> None:
    held = [] if each.words == ("disabled",) else [word for word in each.words if is_text(word)]
    here.part.say("index_files", held, each.spot)


def _options(here: Giving, each: Directive) -> None:
    words = [word.lower() for word in each.words]
    whole = not any(word.startswith(("+", "-")) for word in words)
    for key, names in (
        ("listing", ("indexes", "all")),
        ("follows_links", ("followsymlinks", "symlinksifownermatch", "all")),
    ):
        if key == "follows_links" and here.where:
            continue  # the estate has it of whole sites
        given = any(word.removeprefix("+") in names for word in words if not word.startswith("-"))
        off = any(word == f"-{name}" for word in words for name in names)
        if given or off or whole:
            here.part.say(key, given and not off, each.spot)


def _overrides(here: Giving, each: Directive) -> None:
    if not here.where:
        here.part.say("reads_rule_files", [word.lower() for word in each.words] != ["none"], each.spot)


def _error_page(here: Giving, each: Directive) -> None:
    status, page = (each.words[0], " ".join(each.words[1:])) if each.words else ("", "")
    if not re.match(r"/|https?://", page):
        return  # a text in place of the program's own: the status is the same
    if not is_text(page) or re.search(r"[ \"'\\]", page) or not (status.isdecimal() and 400 <= int(status) <= 599):
        here.lose(each, f"ErrorDocument {status}")
        return
    here.part.facts.setdefault("error_pages", {})[status] = page
    here.part.spots["error_pages"] = each.spot


def _fallback(here: Giving, each: Directive) -> None:
    if each.words and each.words[0] != "disabled":
        here.part.say("fallback", each.words[0].lstrip("/"), each.spot)


def _largest(here: Giving, each: Directive) -> None:
    if each.words and each.words[0].isdecimal():
        here.part.say("largest_body", int(each.words[0]) or 1 << 50, each.spot)


def _redirect(here: Giving, each: Directive) -> None:
    words = list(each.words)
    status = {"redirectpermanent": 301}.get(each.name, 302)
    if each.name in ("redirect", "redirectmatch") and words and (words[0] in _STATUSES or words[0].isdecimal()):
        status = _STATUSES.get(words[0]) or int(words[0])
        words = words[1:]
    if (
        each.name == "redirect"
        and len(words) == 1
        and words[0].startswith("/")
        and 400 <= status <= 599
        and not here.where
    ):
        _refusal(here, each, words[0], status)
        return
    if here.where and len(words) == 1:
        words = [here.where, *words]
    made = (matched if each.name == "redirectmatch" else aliased)(words, status, each.spot)
    if made is None:
        here.lose(each)
    for rule in made or ():
        add(here.part, "redirects", rule)


def _refusal(here: Giving, each: Directive, path: str, status: int) -> None:
    """A status for a path and all below it: what is there no more, or never was."""
    if path == "/":
        here.part.say("answer", status, each.spot)
        return
    section = Part(each.spot)
    section.say("path", path)
    section.say("answer", status)
    add(here.part, REFUSALS, section)


def _rewrite(here: Giving, each: Directive) -> None:
    if here.rewriting:
        here.rewrites.take(each)


def _base(here: Giving, each: Directive) -> None:
    if each.words != ("/",):
        here.lose(each)


def _header(here: Giving, each: Directive) -> None:
    words = [word for word in each.words if word.lower() not in ("always", "onsuccess")]
    if len(words) < 2:
        return
    action, name = words[0].lower(), words[1].rstrip(":")
    sets = action in ("set", "append", "merge", "add")
    if name.lower() == "cache-control" and sets and len(words) == 3 and is_text(words[2]):
        here.part.say("cache_control", words[2], each.spot)
    elif name.lower() == "set-cookie" and sets:
        here.part.say("sets_cookie", True, each.spot)
    elif not TOLD.fullmatch(name) and action not in ("unset", "edit", "echo", "edit*"):
        here.lose(each, f"Header {name}")


def _methods(here: Giving, each: Directive) -> None:
    if each.name == "limitexcept" and denies(each.block or ()) and all(map(is_method, each.words)):
        # Who may not is refused with 403; 405 says a module that is asked for methods (mod_allowmethods).
        taken = [*each.words, *(["HEAD"] if "GET" in each.words and "HEAD" not in each.words else [])]
        rule = Part(each.spot)
        rule.say("when", {"not_method": taken})
        rule.say("answer", 403)
        rule.say("written_as", "redirect")
        add(here.part, "redirects", rule)
    else:
        here.lose(each, f"<{each.text}>")


def _believed(here: Giving, each: Directive) -> None:
    """In which field, and from whom, the visitor's address is believed."""
    held = here.part.facts.setdefault("believes_address", {})
    if here.where or not each.words or not isinstance(held, dict):
        here.lose(each)
    elif each.name == "remoteipheader":
        held["header"] = each.words[0]
    else:
        known = [word for word in each.words if a_range(word) is not None]
        held.setdefault("from", []).extend(known)
        if len(known) < len(each.words):
            here.lose(each)
    here.part.spots["believes_address"] = each.spot


def _handler(here: Giving, each: Directive) -> None:
    runs = re.fullmatch(r"proxy:(?:unix:(/[^|]+)\|)?fcgi://([\w.-]+(?::\d+)?)/?", each.words[0] if each.words else "")
    if runs is not None and (runs[1] or ":" in runs[2]):
        here.part.say("scripts_at", runs[1] or runs[2], each.spot)
    elif each.words and each.words[0].lower() in ("server-status", "server-info", "balancer-manager"):
        here.part.say("answer", 200, each.spot)
    else:
        here.lose(each)


#: Under this key stand sections that refuse, until the others are known.
REFUSALS = "(refusals)"
ACTIONS: dict[str, Callable[[Giving, Directive], None]] = {
    "directoryindex": _index,
    "options": _options,
    "allowoverride": _overrides,
    "errordocument": _error_page,
    "fallbackresource": _fallback,
    "limitrequestbody": _largest,
    "redirect": _redirect,
    "redirectpermanent": _redirect,
    "redirecttemp": _redirect,
    "redirectmatch": _redirect,
    "rewriterule": _rewrite,
    "rewritecond": _rewrite,
    "rewritebase": _base,
    "header": _header,
    "limitexcept": _methods,
    "limit": _methods,
    "sethandler": _handler,
    **dict.fromkeys(("remoteipheader", "remoteipinternalproxy", "remoteiptrustedproxy"), _believed),
}
