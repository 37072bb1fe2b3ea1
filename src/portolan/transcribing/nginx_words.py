"""nginx's variables, patterns, sizes and conditions in the estate's words; None for what it has no word for."""

import re
from collections.abc import Callable

from portolan.transcribing.web import is_header, is_method, is_name, is_pattern, is_text

_VALUES = {
    "$scheme": "{scheme}",
    "${scheme}": "{scheme}",
    "$host": "{host}",
    "${host}": "{host}",
    "$http_host": "{host}",
    "$server_port": "{port}",
    "$request_uri": "{path}{query}",
    "${request_uri}": "{path}{query}",
    "$uri": "{path}",
    "$document_uri": "{path}",
    "$is_args$args": "{query}",
    "$is_args$query_string": "{query}",
}
_VARIABLE = re.compile(r"\$is_args\$(?:args|query_string)|\$\{\w+\}|\$\w+")


def pattern(text: str) -> str | None:
    """A regular expression in the estate's words; None where it cannot be kept."""
    made = re.sub(r"\(\?<(\w+)>", r"(?P<\1>", text)
    return made if is_pattern(made) else None


def size(text: str) -> int | None:
    """Octets, as `8m` writes them."""
    match = re.fullmatch(r"(\d{1,12})([kKmMgG]?)", text)
    return int(match[1]) << {"": 0, "k": 10, "m": 20, "g": 30}[match[2].lower()] if match else None


def seconds(text: str) -> int | None:
    """Seconds, as `1m` writes them."""
    match = re.fullmatch(r"(\d{1,9})(ms|s|m|h|d)?", text)
    if match is None:
        return None
    return max(1, int(int(match[1]) * {"ms": 0.001, None: 1, "s": 1, "m": 60, "h": 3600, "d": 86400}[match[2]]))


def filled(text: str, server_name: str | None) -> str | None:
    """A text with nginx's variables as the estate's parts; None where one is not known."""
    lost = False

    def part(match: "re.Match[str]") -> str:
        nonlocal lost
        if match[0] in ("$server_name", "${server_name}") and server_name:
            return server_name
        if match[0] not in _VALUES:
            lost = True
        return _VALUES.get(match[0], "")

    kept = re.sub(r"\{[1-9]\}", lambda match: f"\0{match[0][1]}\0", text)
    if "{" in kept.replace("${", "$") or "}" in re.sub(r"\$\{\w+\}", "", kept):
        return None
    made = _VARIABLE.sub(part, kept)
    return None if lost or "$" in made else re.sub(r"\0(\d)\0", r"{\1}", made)


def groups(text: str) -> str | None:
    """A rewrite's target with its groups as the estate's."""
    made = re.sub(r"\$(\d)|\$\{(\d)\}", lambda match: f"{{{match[1] or match[2]}}}", text)
    return None if "{0}" in made else made


def when(condition: str) -> dict[str, object] | None:
    """The estate's words for a condition; None where it has none."""
    lying = re.fullmatch(r"(!?)-([fde])\s+(\S+)", condition)
    if lying is not None:
        return _lying(lying[1] == "!", lying[2], lying[3].strip("\"'"))
    match = re.fullmatch(r"(\$\w+)\s*(=|!=|~\*|~|!~\*|!~)\s*(.*)", condition)
    if match is None:
        return None
    variable, sign, value = match.groups()
    value = value.strip().strip("\"'")
    read = _READ.get(variable)
    if read is not None:
        return read(variable, sign, value)
    asked = re.fullmatch(r"\$arg_(\w+)", variable)
    if asked is not None and sign == "=" and is_text(value):
        return {"query": f"(?i:(^|&){asked[1]}=){re.escape(value)}(&|$)"}
    return _field(variable, sign, value) if variable.startswith("$http_") else None


def _scheme(variable: str, sign: str, value: str) -> dict[str, object] | None:
    if variable == "$scheme" and sign in ("=", "!=") and value in ("http", "https"):
        return {"scheme": value if sign == "=" else {"http": "https", "https": "http"}[value]}
    if variable == "$https" and sign in ("=", "!=") and value in ("", "on"):
        return {"scheme": "https" if (value == "on") == (sign == "=") else "http"}
    return None


def _host(variable: str, sign: str, value: str) -> dict[str, object] | None:
    names = [value.lower()] if sign in ("=", "!=") else _names_of(value)
    if names and all(map(is_name, names)):
        return {"host" if sign in ("=", "~", "~*") else "not_host": names}
    return _field(variable, sign, value) if variable == "$http_host" else None


def _port(_: str, sign: str, value: str) -> dict[str, object] | None:
    return {"port": int(value)} if sign == "=" and value.isdecimal() else None


def _path(variable: str, sign: str, value: str) -> dict[str, object] | None:
    held = pattern(value) if sign != "=" else f"^{re.escape(value)}$"
    whole = variable != "$request_uri" or "?" not in value.replace("\\?", "?")
    if sign not in ("~", "~*", "=") or held is None or not whole:
        return None
    return {"pattern": ("(?i)" if sign == "~*" else "") + held}


def _query(_: str, sign: str, value: str) -> dict[str, object] | None:
    held = pattern(value) if sign != "=" else f"^{re.escape(value)}$"
    if sign == "!=" or held is None:
        return None
    return {"not_query" if sign[0] == "!" else "query": ("(?i)" if sign.endswith("*") else "") + held}


def _method(_: str, sign: str, value: str) -> dict[str, object] | None:
    methods = [value] if sign in ("=", "!=") else re.sub(r"^\^?\(?|\)?\$?$", "", value).split("|")
    word = "not_method" if sign[0] == "!" else "method"
    return {word: methods} if all(map(is_method, methods)) else None


def _field(variable: str, sign: str, value: str) -> dict[str, object] | None:
    """A header field: a value, or a pattern of it."""
    name = variable.removeprefix("$http_").replace("_", "-")
    if not is_header(name):
        return None
    if sign in ("=", "!="):
        return {"header" if sign == "=" else "not_header": {name: value}} if is_text(value or "x") else None
    held = pattern(value)
    fits: dict[str, object] = {"fits_header": {name: ("(?i)" if sign.endswith("*") else "") + str(held)}}
    return None if held is None else {"none": [fits]} if sign[0] == "!" else fits


#: Who reads a condition on a variable.
_READ: dict[str, Callable[[str, str, str], dict[str, object] | None]] = {
    **dict.fromkeys(("$scheme", "$https"), _scheme),
    **dict.fromkeys(("$host", "$http_host"), _host),
    "$server_port": _port,
    **dict.fromkeys(("$uri", "$request_uri", "$document_uri"), _path),
    **dict.fromkeys(("$args", "$query_string"), _query),
    "$request_method": _method,
}


#: What nginx calls the file that it would give.
_ASKED_FOR = re.compile(r"\$request_filename|\$document_root(?:/?\$(?:uri|fastcgi_script_name|document_uri))")


def _lying(negated: bool, kind: str, path: str) -> dict[str, object] | None:
    """A condition on what lies in the site's folder, or on the machine."""
    asked = _ASKED_FOR.match(path)
    if asked is not None and asked.end() == len(path):
        if kind == "e":
            return {"file": False, "folder": False} if negated else {"any": [{"file": True}, {"folder": True}]}
        return {"file" if kind == "f" else "folder": not negated}
    if (
        asked is not None
        and not negated
        and kind == "f"
        and is_text(path[asked.end() :])
        and "$" not in path[asked.end() :]
    ):
        return {"file_at": "{path}" + path[asked.end() :]}
    if path.startswith("/") and "$" not in path and is_text(path) and kind in "fe":
        return {"unless_file" if negated else "while_file": path}
    return None


def _names_of(pattern: str) -> list[str]:
    """The one name that a simple pattern fits, such as `^www\\.a\\.b$`; none for every other."""
    match = re.fullmatch(r"\^((?:[\w-]|\\?\.)+)\$", pattern)
    return [match[1].replace("\\.", ".").lower()] if match is not None else []
