"""Apache httpd's redirects (mod_alias) and rewrite rules (mod_rewrite) that send visitors elsewhere, as the estate says them."""

import re
from collections.abc import Callable

from portolan.transcribing.directive import Directive
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.web import (
    add,
    is_header,
    is_method,
    is_name,
    is_pattern,
    is_target,
    is_text,
    without_lookahead,
)

_VALUES = {
    "%{HTTP_HOST}": "{host}",
    "%{SERVER_NAME}": "{host}",
    "%{REQUEST_URI}": "{path}",
    "%{REQUEST_SCHEME}": "{scheme}",
    "%{SERVER_PORT}": "{port}",
    "%{QUERY_STRING}": "{query}",
}


#: A rule whose conditions never hold.
NEVER = Part(Spot("", 1))


def aliased(words: list[str], status: int, spot: Spot) -> list[Part] | None:
    """The rules of a `Redirect`: a path, and all below it, with what is behind; None where the estate has no word for it."""
    if status not in (301, 302, 303, 307, 308) or len(words) != 2:
        return None
    start, target = words
    if not start.startswith("/") or "{" in target or "}" in target or "*" in start:
        return None
    below, tail = (
        (start, target)
        if start.endswith("/")
        else (start + "/", target.rstrip("/") + "/" if target.endswith("/") else target + "/")
    )
    made = []
    for path, to in ((f"{below}*", f"{tail}{{rest}}"), *(() if start.endswith("/") else ((start, target),))):
        if not is_target(to):
            return None
        made.append(_rule(spot, {"path": path}, to, status, "unless-own", "redirect"))
    return made


def matched(words: list[str], status: int, spot: Spot) -> list[Part] | None:
    """The rule of a `RedirectMatch`."""
    if status not in (301, 302, 303, 307, 308) or len(words) != 2:
        return None
    to, parted = _filled(words[1]), without_lookahead(words[0])
    # What is left out by looking ahead is a condition of its own.
    left_out, text = parted if parted is not None else (None, words[0])
    when: dict[str, object] = {"pattern": text}
    if left_out is not None:
        when["none"] = [{"pattern": left_out}]
    if to is None or not is_pattern(text) or not is_target(to) or not (left_out is None or is_pattern(left_out)):
        return None
    return [_rule(spot, when, to, status, "unless-own", "redirect")]


def _rule(spot: Spot, when: dict[str, object], to: str, status: int, query: str, kind: str) -> Part:
    rule = Part(spot)
    if when:
        rule.say("when", when)
    rule.say("to", to)
    rule.say("status", status)
    if query != "as-written":
        rule.say("query", query)
    if kind == "redirect":
        rule.say("written_as", "redirect")
    return rule


#: Who asks for a websocket, as rules tell it.
_UPGRADE = re.compile(r"(?i)%\{HTTP:(?:Upgrade|Connection)\} =?\^?(?:websocket|upgrade)\$?(?: \[NC\])?")


def _for_sockets(conditions: list[Directive]) -> bool:
    return bool(conditions) and all(_UPGRADE.fullmatch(" ".join(each.words)) for each in conditions)


class Rewrites:
    """Rewrite rules one by one, each with the conditions before it. `where` is the folder whose file they stand in, else nothing."""

    def __init__(
        self, part: Part, where: str, usual_port: bool, of_folder: bool = True, told: tuple[Directive, ...] = ()
    ) -> None:
        self.part = part
        #: Whether the file that would be given is known when they are asked: they stand with a folder.
        self.of_folder = of_folder
        #: %{HTTP_HOST} is the field as it was sent: with the port, where that is another than usual (RFC 9110 section 7.2).
        self.host = "{host}" if usual_port else "{host}:{port}"
        self.where = where
        #: Rules that are said with what is passed on.
        self.told = told
        self.conditions: list[Directive] = []

    def take(self, each: Directive) -> None:
        """One more line."""
        if each.name == "rewritecond":
            self.conditions.append(each)
            return
        conditions, self.conditions = self.conditions, []
        if len(each.words) < 2 or (_for_sockets(conditions) and each in self.told):
            return
        pattern, target = each.words[:2]
        flags = [flag.strip() for flag in "".join(each.words[2:3]).strip("[]").split(",") if flag.strip()]
        names = {flag.partition("=")[0].upper(): flag.partition("=")[2] for flag in flags}
        sends = "R" in names or "REDIRECT" in names or re.match(r"https?://", target) is not None
        if target == "-" and not _STOPS & set(names):
            return  # it only marks or keeps, and rewrites nothing
        kept = "P" not in names and not {"C", "CHAIN", "S", "SKIP", "N", "NEXT"} & set(names)
        made = self._made(each, conditions, pattern, target, names, sends) if kept else None
        if made is NEVER:
            return
        if made is None:
            self.part.lose(each.spot, f"RewriteRule {pattern} {target}")
        else:
            add(self.part, "redirects", made)

    def _made(
        self,
        each: Directive,
        conditions: list[Directive],
        pattern: str,
        target: str,
        names: dict[str, str],
        sends: bool,
    ) -> Part | None:
        """The rule, whatever it does: it sends elsewhere, answers, goes on within the server, or ends the rules."""
        when = self._conditions(conditions)
        if when is None or when is _NEVER:
            return NEVER if when is _NEVER else None
        status = _answer(target, names)
        if status is None and sends:
            return self._redirect(each, when, pattern, target, names)
        to = self._with_path(target.removesuffix("?"), pattern)
        if not self._add_pattern(when, pattern, names, to or ""):
            return None
        rule = Part(each.spot)
        if status is not None:
            rule.say("when", when)
            rule.say("answer", status)
            return rule if when else None
        to = "{path}" if target == "-" else to
        if to is None or not is_target(to):
            return None
        if not to.startswith(("/", "{")):
            if not self.where:
                return None
            if "{" not in to:
                # A relative target is the file itself where that is asked for, and nothing is rewritten (measured).
                _add(when, {"none": [{"path": f"{self.where.rstrip('/')}/{to.partition('?')[0]}"}]})
            to = f"{self.where.rstrip('/')}/{to}"
        if when:
            rule.say("when", when)
        rule.say("to", to)
        rule.say(
            "inner", "here" if "END" in names else "again" if {"L", "LAST", "PT", "PASSTHROUGH"} & set(names) else "on"
        )
        if not target.endswith("?"):
            rule.say("query", "joined" if "QSA" in names else "unless-own")
        return rule

    def _conditions(self, conditions: list[Directive]) -> dict[str, object] | None:
        """What all conditions say together; None where the estate has no word for one."""
        when: dict[str, object] = {}
        group: list[dict[str, object]] = []
        for condition in conditions:
            held = self._never_fits(condition.words) or self._lying(condition.words) or _condition(condition.words)
            if held is None:
                return None
            group.append(held)
            flags = condition.words[2].upper().strip("[]").split(",") if len(condition.words) > 2 else []
            if {"OR", "ORNEXT"} & set(flags):
                continue
            held, group = _any(group), []
            if held is None or held is _NEVER:
                return held
            if held is not _ALWAYS and not _add(when, held):
                return None
        # Where the last one says "or", what stands before it no longer counts: the rule applies (measured).
        return when

    def _never_fits(self, words: tuple[str, ...]) -> dict[str, object] | None:
        """A condition on the host name where the field ends in the port, so that no name fits it to its end; else None."""
        if self.host == "{host}" or len(words) < 2 or words[0] != "%{HTTP_HOST}" or not words[1].endswith("$"):
            return None
        return _ALWAYS if words[1].startswith("!") else _NEVER

    def _lying(self, words: tuple[str, ...]) -> dict[str, object] | None:
        """A condition on what lies in the folder, or on the machine; None where it is about something else."""
        if len(words) < 2 or words[1] not in ("-f", "!-f", "-d", "!-d", "-F", "!-F"):
            return None
        negated, kind, path = words[1].startswith("!"), words[1][-1].lower(), words[0]
        if path.startswith("%{REQUEST_FILENAME}") and not self.of_folder:
            # Outside of folders it is the path asked for, at which no file of the machine lies; its topmost folder is "/".
            if kind == "d" and path == "%{REQUEST_FILENAME}":
                return {"none": [{"path": "/"}]} if negated else {"path": "/"}
            return _ALWAYS if negated else _NEVER
        asked = re.fullmatch(r"(?:%\{REQUEST_FILENAME\}|%\{DOCUMENT_ROOT\}/?%\{REQUEST_URI\})([\w.-]*)", path)
        if asked is not None and asked[1]:
            held: dict[str, object] = {"file_at": "{path}" + asked[1]}
            return None if kind == "d" else {"none": [held]} if negated else held
        if asked is not None:
            return {"folder" if kind == "d" else "file": not negated}
        if path.startswith("/") and "%" not in path and "$" not in path and kind == "f" and is_text(path):
            return {"unless_file" if negated else "while_file": path}
        return None

    def _redirect(
        self, each: Directive, when: dict[str, object], pattern: str, target: str, names: dict[str, str]
    ) -> Part | None:
        status = {"permanent": 301, "": 302, "temp": 302}.get(names.get("R", names.get("REDIRECT", "")))
        if status is None:
            given = names.get("R", names.get("REDIRECT", ""))
            status = int(given) if given.isdecimal() else 302
        to = self._with_path(target.removesuffix("?").replace("%{HTTP_HOST}", self.host), pattern, self.host)
        if status not in (301, 302, 303, 307, 308) or to is None or not is_target(to):
            return None
        if not self._add_pattern(when, pattern, names, to):
            return None
        if "pattern" not in when and self.where.strip("/"):
            when["path"] = f"/{self.where.strip('/')}/*"
        if self.where and not re.match(r"https?://|/|\{", to):
            to = self.where.rstrip("/") + "/" + to
        query = "as-written" if target.endswith("?") else "joined" if "QSA" in names else "unless-own"
        return _rule(each.spot, when, to, status, query, "rewrite")

    def _fits_every(self, pattern: str) -> bool:
        """Whether every path fits a pattern; in a folder's file none begins with a slash."""
        return pattern in _EVERY and not (self.where and re.match(r"\^?/(?!\?)", pattern))

    def _with_path(self, target: str, pattern: str, own: str = "{host}") -> str | None:
        """A target, with the path in place of the group where that is the whole path, with its slash or without."""
        to = _filled(_known(target, pattern), own)
        if to is None or not self._fits_every(pattern):
            return to
        if self.where.strip("/"):
            return to
        bare = self.where or pattern.startswith(("^/", "/"))
        return to.replace("/{1}", "{path}") if bare else to.replace("{1}", "{path}")

    def _add_pattern(self, when: dict[str, object], pattern: str, names: dict[str, str], to: str) -> bool:
        """Adds for which paths a rule is; whether the estate has words for it."""
        text = pattern.removeprefix("!")
        if text == pattern and self._fits_every(pattern) and "{1}" not in to:
            return True
        anchored = self._anchored(text)
        if anchored is None:
            return False
        anchored = ("(?i)" if {"NC", "NOCASE"} & set(names) else "") + anchored
        return _add(when, {"pattern": anchored} if text == pattern else {"none": [{"pattern": anchored}]})

    def _anchored(self, pattern: str) -> str | None:
        """A pattern as the whole path fits it: in a folder's file it is asked of what is behind the folder."""
        made = pattern
        if self.where:
            before = re.escape("/" + self.where.strip("/") + "/") if self.where.strip("/") else "/"
            made = _STARTS.sub(lambda found: found[1] or f"^{before}", pattern)
            if made == pattern:
                made = f"^{before}.*?(?:{pattern})"
        return made if is_pattern(made) else None


#: Conditions that hold always, and never.
_ALWAYS: dict[str, object] = {"always": True}
_NEVER: dict[str, object] = {"never": True}
#: Patterns that every path fits.
_EVERY = frozenset(
    ("^", ".*", "^.*$", "^(.*)$", "(.*)", ".?", "^/?(.*)$", "^/(.*)$", "^/?(.*)", "^/(.*)", "/(.*)", "(.*)$", "^(.*)")
)
#: Where a pattern says that the path begins, not behind a backslash and not in a set; what is passed over is kept.
_STARTS = re.compile(r"(\\.|\[\^?\]?[^\]]*\])|\^")
#: Flags with which a rule that rewrites nothing does something.
_STOPS = frozenset(("F", "FORBIDDEN", "G", "GONE", "R", "REDIRECT", "L", "LAST", "END"))


def _answer(target: str, names: dict[str, str]) -> int | None:
    """The status that a rule answers with; None where it sends elsewhere or goes on."""
    if {"F", "FORBIDDEN"} & set(names):
        return 403
    if {"G", "GONE"} & set(names):
        return 410
    given = names.get("R", names.get("REDIRECT", ""))
    return int(given) if target == "-" and given.isdecimal() and not 300 <= int(given) <= 399 else None


def _any(group: list[dict[str, object]]) -> dict[str, object] | None:
    """What conditions say of which one is enough; None where the estate cannot say it."""
    if any(each is _ALWAYS for each in group):
        return _ALWAYS
    held = [each for each in group if each is not _NEVER]
    if len(held) < 2:
        return held[0] if held else _NEVER
    return None if any({"none", "any"} & set(each) for each in held) else {"any": held}


def _add(when: dict[str, object], held: dict[str, object]) -> bool:
    """Adds what a further condition says; whether both can be said together."""
    for key, value in held.items():
        known = when.get(key)
        if known is None:
            when[key] = value
        elif key == "none" and isinstance(known, list) and isinstance(value, list):
            when[key] = [*known, *value]
        elif (
            key == "fits_header" and isinstance(known, dict) and isinstance(value, dict) and not set(known) & set(value)
        ):
            when[key] = {**known, **value}
        else:
            return False
    return True


#: Fields of a request that have variables of their own.
_FIELDS = {"%{HTTP_USER_AGENT}": "User-Agent", "%{HTTP_REFERER}": "Referer", "%{HTTP_ACCEPT}": "Accept"}


def _condition(words: tuple[str, ...]) -> dict[str, object] | None:
    """The estate's words for a condition; None where it has none."""
    if len(words) < 2:
        return None
    variable, value = words[:2]
    anew = "(?i)" if len(words) > 2 and {"NC", "NOCASE"} & set(words[2].upper().strip("[]").split(",")) else ""
    read = _READ.get(variable)
    if read is not None:
        return read(variable, value, anew)
    match = re.fullmatch(r"%\{HTTP:([\w-]+)\}", variable)
    if match is not None and is_header(match[1]):
        negated, text = (
            value.startswith("!"),
            value.removeprefix("!").removeprefix("=").removeprefix("^").removesuffix("$"),
        )
        if is_text(text) and not re.search(r"[\\()*+?\[|]", text):
            return {"not_header" if negated else "header": {match[1]: text}}
    return None


def _field(variable: str, value: str, anew: str) -> dict[str, object] | None:
    text = anew + value.removeprefix("!")
    fits: dict[str, object] = {"fits_header": {_FIELDS[variable]: text}}
    return None if not is_pattern(text) else {"none": [fits]} if value.startswith("!") else fits


def _path(_: str, value: str, anew: str) -> dict[str, object] | None:
    text = value.removeprefix("!")
    held: dict[str, object] = {"path": text[1:]} if text.startswith("=/") else {"pattern": anew + text}
    known = is_text(text[1:]) and "*" not in text if "path" in held else is_pattern(anew + text)
    return None if not known else {"none": [held]} if value.startswith("!") else {"any": [held]}


def _method(_: str, value: str, __: str) -> dict[str, object] | None:
    methods = re.sub(r"^[=^]?\(?|\)?\$?$", "", value.removeprefix("!")).split("|")
    word = "not_method" if value.startswith("!") else "method"
    return {word: methods} if all(map(is_method, methods)) else None


def _https(_: str, value: str, __: str) -> dict[str, object] | None:
    on = {
        "off": False,
        "!=on": False,
        "!on": False,
        "^off$": False,
        "=off": False,
        "on": True,
        "=on": True,
        "!=off": True,
        "^on$": True,
        "!off": True,
        "!^on$": False,
    }.get(value.lower())
    return None if on is None else {"scheme": "https" if on else "http"}


def _scheme(_: str, value: str, __: str) -> dict[str, object] | None:
    plain = ("http", "^http$", "=http", "!https", "!=https", "!^https$")
    return {"scheme": "http"} if value.lower() in plain else None


def _port(_: str, value: str, __: str) -> dict[str, object] | None:
    match = re.fullmatch(r"=?\^?(\d+)\$?", value)
    other = re.fullmatch(r"!=?\^?443\$?", value)
    return {"port": int(match[1])} if match else {"scheme": "http"} if other else None


def _host(_: str, value: str, __: str) -> dict[str, object] | None:
    negated, text = value.startswith("!"), value.removeprefix("!")
    name = re.fullmatch(r"=?\^?((?:[\w-]|\\?\.)+?)(?:\(?:?:?\[?0-9\]?\+?\)?\??)?\$?", text)
    if name is not None and (text.startswith(("^", "=")) and (text.endswith("$") or text.startswith("="))):
        host = name[1].replace("\\.", ".").lower()
        return {"not_host" if negated else "host": [host]} if is_name(host) else None
    if text in ("^www\\.", "^www.", "^www\\.(.*)$", "^www\\.(.+)$"):
        return None if text.endswith("$") else {"not_host" if negated else "host": ["www.*"]}
    return None


def _query(_: str, value: str, __: str) -> dict[str, object] | None:
    negated, text = value.startswith("!"), value.removeprefix("!")
    held = f"^{re.escape(text[1:])}$" if text.startswith("=") else text
    return {"not_query" if negated else "query": held} if is_pattern(held) else None


#: Who reads a condition on a variable.
_READ: dict[str, Callable[[str, str, str], dict[str, object] | None]] = {
    **dict.fromkeys(_FIELDS, _field),
    "%{REQUEST_URI}": _path,
    "%{REQUEST_METHOD}": _method,
    "%{HTTPS}": _https,
    "%{REQUEST_SCHEME}": _scheme,
    "%{SERVER_PORT}": _port,
    "%{HTTP_HOST}": _host,
    "%{SERVER_NAME}": _host,
    "%{QUERY_STRING}": _query,
}


def _known(target: str, pattern: str) -> str:
    """A target without the groups that its pattern has not, which are empty (measured); a pattern that is negated has none."""
    if not is_pattern(pattern):
        return target
    held = 0 if pattern.startswith("!") else re.compile(pattern).groups
    return re.sub(r"\$(\d)", lambda found: found[0] if int(found[1]) <= held else "", target)


def _filled(text: str, own: str = "{host}") -> str | None:
    """A target with the program's variables as the estate's parts; None where one is not known."""
    if "{" in re.sub(r"%\{\w+\}", "", text.replace(own, "")) or re.search(r"%\d", text):
        return None
    for name, part in _VALUES.items():
        text = text.replace(name, part)
    return None if "%{" in text or "$0" in text else re.sub(r"\$(\d)", r"{\1}", text)
