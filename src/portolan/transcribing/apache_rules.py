"""Apache httpd's redirects (mod_alias) and rewrite rules (mod_rewrite) that send visitors elsewhere, as the estate says them."""

import re

from portolan.transcribing.directive import Directive
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.web import add, is_header, is_name, is_pattern, is_target, is_text

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
    to = _filled(words[1])
    if to is None or not is_pattern(words[0]) or not is_target(to):
        return None
    return [_rule(spot, {"pattern": words[0]}, to, status, "unless-own", "redirect")]


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


class Rewrites:
    """Rewrite rules one by one, each with the conditions before it. `where` is the folder whose file they stand in, else nothing."""

    def __init__(self, part: Part, where: str, usual_port: bool) -> None:
        self.part = part
        #: %{HTTP_HOST} is the field as it was sent: with the port, where that is another than usual (RFC 9110 section 7.2).
        self.host = "{host}" if usual_port else "{host}:{port}"
        self.where = where
        self.conditions: list[Directive] = []

    def take(self, each: Directive) -> None:
        """One more line."""
        if each.name == "rewritecond":
            self.conditions.append(each)
            return
        conditions, self.conditions = self.conditions, []
        if len(each.words) < 2:
            return
        pattern, target = each.words[:2]
        flags = [flag.strip() for flag in "".join(each.words[2:3]).strip("[]").split(",") if flag.strip()]
        names = {flag.partition("=")[0].upper(): flag.partition("=")[2] for flag in flags}
        sends = "R" in names or "REDIRECT" in names or re.match(r"https?://", target) is not None
        if self._falls_back(conditions, pattern, target, sends):
            return
        made = self._redirect(each, conditions, pattern, target, names) if sends and "P" not in names else None
        if made is NEVER:
            return
        if made is None:
            if target == "-" and not ({"F", "FORBIDDEN", "G", "GONE", "P", "R", "REDIRECT"} & set(names)):
                return  # it only stops, marks or keeps, and rewrites nothing
            self.part.lose(each.spot, f"RewriteRule {pattern} {target}")
        else:
            add(self.part, "redirects", made)

    def _falls_back(self, conditions: list[Directive], pattern: str, target: str, sends: bool) -> bool:
        """What publishing programs write: what is neither file nor folder is given by one file."""
        tests = sorted(
            each.words[1] for each in conditions if len(each.words) > 1 and each.words[0] == "%{REQUEST_FILENAME}"
        )
        whole = pattern in (".", "^", ".*", "^.*$", "^(.*)$", "(.*)", ".?", "^.+$")
        if (
            sends
            or tests != ["!-d", "!-f"]
            or len(conditions) != 2
            or not whole
            or not re.fullmatch(r"/?[\w./-]+", target)
        ):
            return False
        base = "" if target.startswith("/") else self.where.strip("/")
        self.part.say("fallback", "/".join(filter(None, (base, target.lstrip("/")))), conditions[0].spot)
        return True

    def _redirect(
        self, each: Directive, conditions: list[Directive], pattern: str, target: str, names: dict[str, str]
    ) -> Part | None:
        when: dict[str, object] = {}
        for condition in conditions:
            if self.host != "{host}" and condition.words[0] == "%{HTTP_HOST}" and condition.words[1].endswith("$"):
                # The field ends in the port here, so that no name fits it to its end.
                if condition.words[1].startswith("!"):
                    continue
                return NEVER
            held = _condition(condition.words)
            if held is None or set(held) & set(when):
                return None
            when.update(held)
        status = {"permanent": 301, "": 302, "temp": 302}.get(names.get("R", names.get("REDIRECT", "")))
        if status is None:
            given = names.get("R", names.get("REDIRECT", ""))
            status = int(given) if given.isdecimal() else 302
        to = _filled(target.removesuffix("?").replace("%{HTTP_HOST}", self.host), self.host)
        if status not in (301, 302, 303, 307, 308) or to is None or not is_target(to):
            return None
        whole = pattern in (
            "^",
            ".*",
            "^.*$",
            "^(.*)$",
            "(.*)",
            ".?",
            "^/?(.*)$",
            "^/(.*)$",
            "^/?(.*)",
            "^/(.*)",
            "/(.*)",
            "(.*)$",
            "^(.*)",
        )
        if whole and "{1}" in to:
            # The group is the path, with its slash or without.
            if self.where or pattern.startswith(("^/", "/")):
                to = to.replace("/{1}", "{path}")
            to = to.replace("{1}", "{path}")
        elif not whole:
            anchored = self._anchored(pattern)
            if anchored is None:
                return None
            when["pattern"] = ("(?i)" if "NC" in names else "") + anchored
        elif self.where.strip("/"):
            when["path"] = f"/{self.where.strip('/')}/*"
        if self.where and not re.match(r"https?://|/|\{", to):
            to = self.where.rstrip("/") + "/" + to
        query = "as-written" if target.endswith("?") else "joined" if "QSA" in names else "unless-own"
        return _rule(each.spot, when, to, status, query, "rewrite")

    def _anchored(self, pattern: str) -> str | None:
        """A pattern as the whole path fits it: in a folder's file it is asked of what is behind the folder."""
        made = pattern
        if self.where:
            before = re.escape("/" + self.where.strip("/") + "/") if self.where.strip("/") else "/"
            made = "^" + before + pattern[1:] if pattern.startswith("^") else f"^{before}.*{pattern}"
        return made if is_pattern(made) else None


def _condition(words: tuple[str, ...]) -> dict[str, object] | None:
    """The estate's words for a condition; None where it has none."""
    if len(words) < 2:
        return None
    variable, value = words[:2]
    flags = words[2].upper() if len(words) > 2 else ""
    if "OR" in flags.strip("[]").split(","):
        return None
    if variable == "%{HTTPS}":
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
    if variable == "%{REQUEST_SCHEME}" and value.lower() in (
        "http",
        "^http$",
        "=http",
        "!https",
        "!=https",
        "!^https$",
    ):
        return {"scheme": "http"}
    if variable == "%{SERVER_PORT}":
        match = re.fullmatch(r"=?\^?(\d+)\$?", value)
        other = re.fullmatch(r"!=?\^?443\$?", value)
        return {"port": int(match[1])} if match else {"scheme": "http"} if other else None
    if variable in ("%{HTTP_HOST}", "%{SERVER_NAME}"):
        negated, text = value.startswith("!"), value.removeprefix("!")
        name = re.fullmatch(r"=?\^?((?:[\w-]|\\?\.)+?)(?:\(?:?:?\[?0-9\]?\+?\)?\??)?\$?", text)
        if name is not None and (text.startswith(("^", "=")) and (text.endswith("$") or text.startswith("="))):
            host = name[1].replace("\\.", ".").lower()
            return {"not_host" if negated else "host": [host]} if is_name(host) else None
        if text in ("^www\\.", "^www.", "^www\\.(.*)$", "^www\\.(.+)$"):
            return None if text.endswith("$") else {"not_host" if negated else "host": ["www.*"]}
        return None
    if variable == "%{QUERY_STRING}":
        negated, text = value.startswith("!"), value.removeprefix("!")
        held = f"^{re.escape(text[1:])}$" if text.startswith("=") else text
        return {"not_query" if negated else "query": held} if is_pattern(held) else None
    match = re.fullmatch(r"%\{HTTP:([\w-]+)\}", variable)
    if match is not None and is_header(match[1]):
        negated, text = (
            value.startswith("!"),
            value.removeprefix("!").removeprefix("=").removeprefix("^").removesuffix("$"),
        )
        if is_text(text) and not re.search(r"[\\()*+?\[|]", text):
            return {"not_header" if negated else "header": {match[1]: text}}
    return None


def _filled(text: str, own: str = "{host}") -> str | None:
    """A target with the program's variables as the estate's parts; None where one is not known."""
    if "{" in re.sub(r"%\{\w+\}", "", text.replace(own, "")) or re.search(r"%\d", text):
        return None
    for name, part in _VALUES.items():
        text = text.replace(name, part)
    return None if "%{" in text or "$0" in text else re.sub(r"\$(\d)", r"{\1}", text)
