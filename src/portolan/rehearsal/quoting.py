"""What an estate says, written into other programs' files: one writer a grammar, and no other way in.

Each writer quotes by its program's own grammar, so that an honest dollar sign, quote or backslash arrives as itself. What the
grammar cannot carry is refused with the place of the key that says it: it is not staged, and nothing is guessed.
"""

import re

from portolan.source.place import Place
from portolan.source.plain import one_line

#: How nginx's configuration writes a dollar sign: a variable that holds one (its strings have no escape for it).
NGINX_DOLLAR = 'geo $stage_dollar { default "$"; }'
#: How Apache httpd's does: a definition (`${...}` is put in before quotes are looked at, and not looked at again).
HTTPD_DOLLAR = "Define stage_dollar $"

_CONTROL = re.compile("[\x00-\x1f\x7f\x80-\x9f\u2028\u2029\ud800-\udfff]")
_BATCH = re.compile(r"[A-Za-z0-9_.:/ \[\]-]+")
_RULES = re.compile(r"[A-Za-z0-9_.:/ \[\]{}(),;&|=!<>\"$@*\n-]*")


class UnstageableError(Exception):
    """Something that the estate says cannot be written into a program's configuration; the message names its place."""

    def __init__(self, what: str, text: str, place: Place | None) -> None:
        super().__init__(f"{what} cannot be staged: '{one_line(text, 60)}'{_where(place)}")


class TooMuchError(UnstageableError):
    """The estate would make more than a rehearsal has room for; the message names what, and the place where it became too much."""

    def __init__(self, what: str, place: Place | None = None) -> None:
        Exception.__init__(self, f"too much to stage: {what}{_where(place)}")


def _where(place: Place | None) -> str:
    return "" if place is None or place.span.file == "(assumed)" else f" ({place.span}, at {place.object})"


def _carried(text: str, what: str, place: Place | None) -> str:
    if _CONTROL.search(text):
        raise UnstageableError(f"{what} with a control character", text, place)
    return text


def nginx(text: str, place: Place | None = None) -> str:
    """A string of nginx's configuration in which nothing is a variable."""
    inner = _carried(text, "a text", place).replace("\\", "\\\\").replace('"', '\\"')
    return '"' + inner.replace("$", "${stage_dollar}") + '"'


def nginx_pattern(pattern: str, place: Place | None = None) -> str:
    """A regular expression of nginx's configuration, which looks for no variables in it."""
    return '"' + _carried(pattern, "a pattern", place).replace("\\", "\\\\").replace('"', '\\"') + '"'


def nginx_filled(text: str, values: dict[str, str], place: Place | None = None) -> str:
    """A string with placeholders, each of which becomes the variable that it stands for."""
    parts = _parts(text, values)
    return '"' + "".join(part if known else nginx(part, place)[1:-1] for known, part in parts) + '"'


def httpd(text: str, place: Place | None = None) -> str:
    """A quoted word of Apache httpd's configuration."""
    inner = _carried(text, "a text", place).replace("\\", "\\\\").replace('"', '\\"')
    return '"' + inner.replace("$", "${stage_dollar}") + '"'


def httpd_condition(pattern: str, place: Place | None = None) -> str:
    """A regular expression of a rewrite condition, which keeps its backslashes, and whose first sign could mean something else."""
    inner = _carried(pattern, "a pattern", place).replace('"', "\\x22").replace("$", "${stage_dollar}")
    return f'"(?:{inner})"'


def httpd_filled(text: str, values: dict[str, str], place: Place | None = None) -> str:
    """A rewrite rule's substitution with placeholders; mod_rewrite takes a character behind a backslash as itself."""
    found = []
    for known, part in _parts(text, values):
        if known:
            found.append(part.replace("\\", "\\\\").replace('"', '\\"'))
        else:
            found.append(httpd(re.sub(r"([\\$%&])", r"\\\1", part), place)[1:-1])
    if text == "-":  # alone, it would leave the address as it is
        found = ["\\\\-"]
    return '"' + "".join(found) + '"'


def _parts(text: str, values: dict[str, str]) -> list[tuple[bool, str]]:
    """A template's pieces: (True, what a placeholder stands for) or (False, text)."""
    found = []
    for piece in re.split(r"(\{(?:[a-z]+|[1-9])\})", text):
        known = piece[1:-1] in values and piece.startswith("{")
        if piece:
            found.append((known, values[piece[1:-1]] if known else piece))
    return found


def dns_name(name: str, place: Place | None = None) -> str:
    """A name as master files and name servers' configurations write it, absolute (RFC 1035 section 5.1)."""
    import dns.exception
    import dns.name

    try:
        return dns.name.from_text(_carried(name, "a name", place).rstrip(".") + ".").to_text()
    except (dns.exception.DNSException, ValueError, UnicodeError):
        raise UnstageableError("a name", name, place) from None


def quoted_name(name: str, place: Place | None = None) -> str:
    """The same between double quotes, for configurations whose strings have no escapes."""
    written = dns_name(name, place)
    if '"' in written or "\\" in written:
        raise UnstageableError("a name that needs escapes", name, place)
    return f'"{written}"'


def dns_string(text: str, place: Place | None = None) -> str:
    """A character string of a master file (RFC 1035 section 5.1)."""
    data = text.encode("utf-8", "surrogateescape")
    if len(data) > 255:
        raise UnstageableError("a string of more than 255 octets", text, place)
    return (
        '"' + "".join(chr(each) if 32 <= each < 127 and each not in b'"\\' else f"\\{each:03d}" for each in data) + '"'
    )


def dns_data(kind: str, text: str, place: Place | None = None) -> str:
    """A record's data as the DNS library reads and writes it; what it does not take is refused."""
    import dns.exception
    import dns.name
    import dns.rdata

    try:
        return dns.rdata.from_text(
            "IN", kind, _carried(text, "a record", place), origin=dns.name.root, relativize=False
        ).to_text()
    except (dns.exception.DNSException, ValueError, UnicodeError):
        raise UnstageableError(f"{kind} data", text, place) from None


def batch_line(line: str) -> str:
    """A line for `ip -batch`: words of letters, digits and the signs of addresses."""
    if not _BATCH.fullmatch(line):
        raise UnstageableError("a line of network set-up", line, None)
    return line


def rules(text: str) -> str:
    """A rule set for `nft`: made of numbers, addresses and words of ours."""
    if not _RULES.fullmatch(text):
        raise UnstageableError("a rule", text, None)
    return text


def plain_words(words: list[str], what: str, place: Place | None = None) -> str:
    """Words on a line of a hosts file or the resolver's configuration, which have no quoting at all (hosts(5))."""
    for word in words:
        if not re.fullmatch(r"[A-Za-z0-9_.:-]+", word):
            raise UnstageableError(what, word, place)
    return " ".join(words)
