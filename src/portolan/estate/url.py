"""URLs: what is typed (WHATWG URL section 4), and references against a base (RFC 3986 section 5)."""

import re
from functools import lru_cache
from ipaddress import IPv4Address, IPv6Address
from urllib.parse import quote, unquote, urljoin

from portolan.estate.base import IPAddress
from portolan.source.plain import one_line
from portolan.source.value import Value

DEFAULT_PORTS = {"http": 80, "https": 443}
#: The schemes of websockets, by those of the requests that open them.
SOCKETS = {"http": "ws", "https": "wss"}


class BadUrlError(ValueError):
    """A URL that no client would follow; the message says why and what to do."""


class Url(Value, frozen=True):
    """A parsed URL: host in ASCII and lower case, path percent-encoded, query with its question mark or empty."""

    scheme: str
    host: str
    port: int
    path: str
    query: str
    literal: IPAddress | None = None
    #: Whether a websocket is asked for there (RFC 6455 section 3): its schemes stand for those two.
    socket: bool = False

    def __str__(self) -> str:
        port = "" if self.port == DEFAULT_PORTS[self.scheme] else f":{self.port}"
        scheme = SOCKETS[self.scheme] if self.socket else self.scheme
        return f"{scheme}://{self.shown_host}{port}{self.path}{self.query}"

    @property
    def shown_host(self) -> str:
        """The host as it stands in a URL: IPv6 addresses in brackets."""
        literal = self.literal
        return self.host if literal is None or literal.version == 4 else f"[{self.host}]"

    @property
    def secure(self) -> bool:
        """Whether the scheme is https."""
        return self.scheme == "https"

    @property
    def upgraded(self) -> "Url":
        """The same by https, at its own port where this has the usual one (RFC 9460 section 9.5)."""
        usual = self.port == DEFAULT_PORTS[self.scheme]
        return self.but(scheme="https", port=DEFAULT_PORTS["https"] if usual else self.port)


_SHAPE = re.compile(r"([A-Za-z][A-Za-z0-9+.-]*):(.*)", re.DOTALL)
#: What clients ask a resolver for: labels of at most 63 octets (RFC 1035 section 2.3.4); a hyphen at a label's end is asked for, and
#: in front of the whole name not (glibc).
_HOST = re.compile(r"(?!-)[a-z0-9_-]{1,63}(\.[a-z0-9_-]{1,63})*\.?")
_SAFE = "/%:@!$&'()*+,;=~-._[]|^"


@lru_cache(4096)
def parse(text: str) -> Url:
    """An absolute http or https URL, or one of a websocket. Raises BadUrlError."""
    if not text.isascii() and any("\ud800" <= char <= "\udfff" for char in text):
        raise BadUrlError("the URL holds bytes that are no UTF-8. Type it again.")
    cleaned = re.sub(r"[\t\r\n]", "", text.strip("".join(map(chr, range(0x21)))))
    match = _SHAPE.fullmatch(cleaned)
    if match is None or re.match(r"[A-Za-z0-9.-]+:\d+(/|$)", cleaned):
        raise BadUrlError(f"'{cleaned}' has no scheme. Write http://{cleaned} or https://{cleaned}.")
    scheme = match[1].lower()
    socket = scheme in SOCKETS.values()
    if socket:
        scheme = "https" if scheme == "wss" else "http"
    if scheme not in DEFAULT_PORTS:
        raise BadUrlError(f"the scheme '{scheme}' is not for websites. Write http:// or https://.")
    before, after = _before_query(match[2])
    rest = before.replace("\\", "/").lstrip("/") + after.partition("#")[0]
    authority, path, query = _split(rest)
    host, port = _host_and_port(authority.rpartition("@")[2], scheme)
    literal = _literal(host)
    if literal is not None:
        host = str(literal)
    elif len(host) > 253 or not _HOST.fullmatch(host):
        raise BadUrlError(f"'{host}' is no host name. Check its spelling.")
    return Url(scheme, host, port, _path(path), _encoded(query, _SAFE + "?\\"), literal, socket)


def join(base: Url, reference: str, like: str = "curl") -> Url:
    """A reference against a base (RFC 3986 section 5.2), as ``curl`` or ``chromium`` does it. Raises BadUrlError.

    A browser takes a backslash before the query for a slash, skips however many slashes stand before a host, and takes the
    base's own scheme without two of them for none (URL standard, section 4.4). curl does none of that (measured).
    """
    before, after = _before_query(reference.strip())
    if like == "chromium":
        before = before.replace("\\", "/")
    match = re.fullmatch(r"(https?:)?(/*)(.*)", before, re.IGNORECASE | re.DOTALL)
    assert match is not None
    scheme, slashes, rest = (match[1] or "").lower(), match[2], match[3].replace("\\", "%5C")
    if like == "chromium" and scheme == f"{base.scheme}:" and len(slashes) < 2:
        scheme = ""
    if scheme or len(slashes) > 1:
        if like == "curl" and not 1 <= len(slashes) <= 3:
            raise BadUrlError(f"'{one_line(reference)}' has not two slashes before its host, as curl asks. Write them.")
        return parse(f"{scheme or base.scheme + ':'}//{rest}{after}")
    text, whole = f"{slashes}{rest}{after}", str(base)
    if text == "?":
        # The same path, without its query.
        text, whole = "", whole.partition("?")[0]
    try:
        joined = urljoin(whole, text)
    except ValueError as error:
        raise BadUrlError(f"'{one_line(reference)}' is no address ({error}). Check its brackets.") from None
    found = parse(joined)
    if found.socket and not base.socket:
        raise BadUrlError(f"'{one_line(reference)}' is for websockets, and no page. Write http:// or https://.")
    return found


def _before_query(text: str) -> tuple[str, str]:
    """What stands before the query or fragment, and the rest."""
    head = re.match(r"[^?#]*", text)
    assert head is not None
    return head[0], text[head.end() :]


def _split(rest: str) -> tuple[str, str, str]:
    match = re.match(r"([^/?]*)([^?]*)(\?.*)?", rest, re.DOTALL)
    assert match is not None
    query = match[3] or ""
    return match[1], match[2], "" if query == "?" else query


def _host_and_port(authority: str, scheme: str) -> tuple[str, int]:
    if authority.startswith("["):
        inside, bracket, after = authority[1:].partition("]")
        if not bracket or (after and not after.startswith(":")):
            raise BadUrlError("the address's closing ']' is missing. Write [2001:db8::1].")
        host, number = f"[{inside}]", after[1:]
    else:
        if authority.count(":") > 1:
            raise BadUrlError(f"'{authority}' looks like an IPv6 address. Write it in brackets: [{authority}].")
        host, _, number = authority.partition(":")
        host = _ascii(unquote(host))
    if not host:
        raise BadUrlError("the URL names no host. Write http://HOST/.")
    if not number:
        return host, DEFAULT_PORTS[scheme]
    if not (number.isascii() and number.isdecimal()) or not 1 <= int(number.lstrip("0")[:6] or 0) <= 65535:
        raise BadUrlError(f"'{number}' is no port. A port is a number from 1 to 65535.")
    return host, int(number.lstrip("0"))


def _ascii(host: str) -> str:
    if host.isascii():
        return host.lower()
    import idna  # only for names that need it

    try:
        return idna.encode(host, uts46=True).decode("ascii").lower()
    except idna.IDNAError as error:
        symbols = _of_symbols(host)
        if symbols is not None:
            return symbols
        raise BadUrlError(f"the host name has no ASCII form (RFC 5891): {error}. Check its spelling.") from None


def _of_symbols(host: str) -> str | None:
    """The form of a name with symbols such as emoji, which RFC 5891 does not allow and clients ask for none the less; or None."""
    from unicodedata import category

    labels = []
    for label in host.lower().replace("\u3002", ".").split("."):
        if not label.isascii():
            if not all(char.isalnum() or char in "-_" or category(char) in ("So", "Sm", "Sk") for char in label):
                return None
            label = "xn--" + label.encode("punycode").decode("ascii")
        labels.append(label)
    return ".".join(labels)


def _literal(host: str) -> IPAddress | None:
    """The address that a host is, if it is one; IPv4 in every form that WHATWG URL section 3.5 takes."""
    if host.startswith("["):
        try:
            if "%" in host:
                raise ValueError("a zone means something on one machine only")
            return IPv6Address(host[1:-1])
        except ValueError:
            raise BadUrlError(f"'{host}' is no IPv6 address. Write it like [2001:db8::1].") from None
    parts = host.removesuffix(".").split(".")
    if not re.fullmatch(r"[0-9]+|0[xX][0-9A-Fa-f]*", parts[-1]):
        return None
    try:
        if any("_" in part for part in parts):
            raise ValueError("int() would pass over it")
        numbers = [
            int(part, 16)
            if part[:2] in ("0x", "0X") and len(part) > 2
            else 0
            if part in ("0x", "0X")
            else int(part, 8)
            if len(part) > 1 and part[0] == "0"
            else int(part)
            for part in parts
        ]
    except ValueError:
        raise BadUrlError(f"'{host}' is no IPv4 address. Check its digits.") from None
    *upper, last = numbers
    if len(numbers) > 4 or any(number > 255 for number in upper) or last >= 256 ** (5 - len(numbers)):
        raise BadUrlError(f"'{host}' is no IPv4 address. Each part is 0 to 255.")
    return IPv4Address(sum(number << (24 - 8 * at) for at, number in enumerate(upper)) + last)


def _path(path: str) -> str:
    """The path with its dot segments removed (RFC 3986 section 5.2.4) and unsafe characters encoded."""
    if not path:
        return "/"
    if "/." not in path and "%2e" not in path.lower():
        return _encoded(path, _SAFE)
    kept: list[str] = []
    segments = path.split("/")[1:]
    for at, segment in enumerate(segments):
        plain = segment.lower().replace("%2e", ".")
        last = at == len(segments) - 1
        if plain == "..":
            if kept:
                kept.pop()
            if last:
                kept.append("")
        elif plain == ".":
            if last:
                kept.append("")
        else:
            kept.append(segment)
    return _encoded("/" + "/".join(kept), _SAFE)


_ODD = re.compile(r'[ "<>`{}]')


def _encoded(text: str, safe: str) -> str:
    if text.isascii() and text.isprintable() and not _ODD.search(text):
        return text
    return quote(text, safe=safe)
