"""Record data: one small parser a type; types without one here are checked by the DNS library and kept as text.

Each parser takes the data's tokens and the origin and returns the value, or raises ValueError with what was expected.
"""

import re
from collections.abc import Callable
from ipaddress import IPv4Address, IPv6Address
from typing import Any

from portolan.source.value import Value


class Soa(Value, frozen=True):
    """Start of authority (RFC 1035 section 3.3.13); times in seconds."""

    primary: str
    mailbox: str
    serial: int
    refresh: int
    retry: int
    expire: int
    minimum: int


_ESCAPED = re.compile(rb"\\(?:([0-9]{3})|(.))", re.DOTALL)


def unescaped(text: str) -> str:
    """A character string with its escapes resolved (RFC 1035 section 5.1); octets that are no UTF-8 as surrogates."""
    if "\\" not in text:
        return text
    data = _ESCAPED.sub(
        lambda match: bytes([int(match[1])]) if match[1] else match[2], text.encode("utf-8", "surrogateescape")
    )
    return data.decode("utf-8", "surrogateescape")


#: Characters that stand for themselves in a name; all others are written `\\DDD`.
_PLAIN = frozenset(chr(code) for code in range(33, 127)) - frozenset('.\\"();')


def _named(text: str) -> str:
    """A name whose escapes are written in one way: what can stand for itself as itself, all else as `\\DDD` (an octet each).

    Raises ValueError.
    """
    if _BAD_ESCAPE.search(text) or any(int(each) > 255 for each in re.findall(r"\\([0-9]{3})", text)):
        raise ValueError(f"expected a name whose escapes are \\DDD or \\X, found '{text}'")

    def canonical(match: "re.Match[str]") -> str:
        if match[3] is not None:
            return "".join(f"\\{octet:03d}" for octet in match[3].encode("utf-8", "surrogateescape"))
        char = (chr(int(match[1])) if match[1] else match[2]).lower()
        if char in _PLAIN:
            return char
        return "".join(f"\\{octet:03d}" for octet in (bytes((ord(char),)) if match[1] else char.encode()))

    return _TO_WRITE.sub(canonical, text)


_BAD_ESCAPE = re.compile(r"\\(?![0-9]{3}|[^0-9])")
_TO_WRITE = re.compile(r"\\(?:([0-9]{3})|([^0-9]))|([^\x00-\x7f]+)")


def absolute(text: str, origin: str) -> str:
    """A name in lower case without final dot; relative ones get the origin (RFC 1035 section 5.1). Raises ValueError."""
    if text == "@":
        return origin
    if text.startswith("@."):
        raise ValueError(f"expected a name in which '@' stands alone, found '{text}'")
    name = (_named(text) if "\\" in text or not text.isascii() else text).lower()
    if name.endswith("."):
        name = name[:-1]
    elif origin:
        name = f"{name}.{origin}"
    # Most names are short and plain; those need no count of their octets.
    if name and (len(name) > 63 or "\\" in name or ".." in name or name[0] == "." or name[-1] == "."):
        octets = [len(part) - 3 * part.count("\\") for part in name.split(".")]
        if not all(0 < each < 64 for each in octets) or sum(octets) + len(octets) > 254:
            raise ValueError("expected a name whose labels have 1 to 63 characters, 253 in all")
    return name


_UNITS = {"s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}


def seconds(text: str) -> int:
    """A time in seconds, or with units as in 1h30m. Raises ValueError."""
    if text.isdecimal():
        value = int(text)
    else:
        value, digits = 0, ""
        for char in text.lower():
            if char.isdecimal():
                digits += char
            elif char in _UNITS and digits:
                value, digits = value + int(digits) * _UNITS[char], ""
            else:
                raise ValueError(f"expected a time in seconds, found '{text}'")
        if digits:
            raise ValueError(f"expected a time in seconds, found '{text}'")
    if value > 2**32 - 1:
        raise ValueError("expected a time of at most 4294967295 seconds")
    # RFC 2181 section 8: what has the most significant bit counts as zero.
    return value if value < 2**31 else 0


def _exactly(tokens: list[str], count: int, what: str) -> None:
    if len(tokens) != count:
        raise ValueError(f"expected {what}, found {len(tokens)} fields")


def _v4(tokens: list[str], _origin: str) -> IPv4Address:
    _exactly(tokens, 1, "one IPv4 address")
    try:
        return IPv4Address(tokens[0])
    except ValueError:
        raise ValueError(f"expected an IPv4 address, found '{tokens[0]}'") from None


def _v6(tokens: list[str], _origin: str) -> IPv6Address:
    _exactly(tokens, 1, "one IPv6 address")
    try:
        return IPv6Address(tokens[0])
    except ValueError:
        raise ValueError(f"expected an IPv6 address, found '{tokens[0]}'") from None


def _name(tokens: list[str], origin: str) -> str:
    _exactly(tokens, 1, "one name")
    return absolute(tokens[0], origin)


def _soa(tokens: list[str], origin: str) -> Soa:
    what = "primary, mailbox, serial, refresh, retry, expire and minimum"
    if len(tokens) < 3:
        _exactly(tokens, 7, what)
    if not tokens[2].isdecimal() or int(tokens[2]) >= 2**32:
        raise ValueError(f"expected a serial number, found '{tokens[2]}'")
    times = [seconds(token) for token in tokens[3:7]]
    if len(tokens) > 7:
        raise ValueError(f"expected {what}, and no more, found '{tokens[7]}'")
    _exactly(tokens, 7, what)
    return Soa(absolute(tokens[0], origin), absolute(tokens[1], origin), int(tokens[2]), *times)


def _mx(tokens: list[str], origin: str) -> tuple[int, str]:
    _exactly(tokens, 2, "a preference and a name")
    if not tokens[0].isdecimal():
        raise ValueError(f"expected a preference, found '{tokens[0]}'")
    return int(tokens[0]), absolute(tokens[1], origin)


def _strings(tokens: list[str], _origin: str) -> tuple[str, ...]:
    if not tokens:
        raise ValueError("expected at least one string")
    return tuple(map(unescaped, tokens))


PARSERS: dict[str, Callable[[list[str], str], Any]] = {
    "A": _v4,
    "AAAA": _v6,
    "CNAME": _name,
    "DNAME": _name,
    "NS": _name,
    "PTR": _name,
    "SOA": _soa,
    "MX": _mx,
    "TXT": _strings,
}


def checked_text(kind: str, text: str, origin: str) -> str:
    """The data of a rarer type, checked by the DNS library. Raises ValueError."""
    plain = _PLAIN_CAA.fullmatch(text) if kind == "CAA" else None
    if plain is not None:
        # What most zones have needs no library, which takes longer to load than all else of a small estate.
        return f'{int(plain[1])} {plain[2]} "{plain[3] or plain[4]}"'
    import dns.exception
    import dns.name
    import dns.rdata
    import dns.rdataclass
    import dns.rdatatype

    if kind in ("HTTPS", "SVCB") and text.split()[:1] == ["0"]:
        # RFC 9460 section 2.4.2: beside an alias parameters mean nothing, and servers keep them.
        text = " ".join(text.split()[:2])
    try:
        number = dns.rdatatype.from_text(kind)
        base = dns.name.from_text(origin + ".")
        return dns.rdata.from_text(dns.rdataclass.IN, number, text, origin=base, relativize=False).to_text()
    except (dns.exception.DNSException, ValueError) as error:
        if kind in _DIGESTED and _DIGESTED[kind].fullmatch(text):
            return text
        raise ValueError(f"not {kind} data: {error}") from None


#: Flags, tag and value of a CAA record without escapes (RFC 8659 section 4.1.1).
_PLAIN_CAA = re.compile(
    r"""(25[0-5]|2[0-4][0-9]|1?[0-9]?[0-9]) +([A-Za-z0-9]{1,15}) +(?:"([!#-\[\]-~ ]{1,200})"|([!#-'*-:<-\[\]-~]{1,200}))"""
)
#: Data with a digest, whose length the library checks and servers do not (RFC 6698 section 2.1).
_ANY_DIGEST = re.compile(r"\d{1,3} \d{1,3} \d{1,3} (?:[0-9A-Fa-f]{2})+")
#: A digest of a kind that nobody knows may have any length (RFC 4034 section 5.1).
_ODD_DIGEST = re.compile(r"\d{1,5} \d{1,3} (?![124] )\d{1,3} (?:[0-9A-Fa-f]{2})+")
_DIGESTED = {"TLSA": _ANY_DIGEST, "SMIMEA": _ANY_DIGEST, "DS": _ODD_DIGEST, "CDS": _ODD_DIGEST}


#: Types that zones often have beside those; the DNS library knows the rest.
_USUAL_TYPES = frozenset(
    (
        "CAA",
        "CDNSKEY",
        "CDS",
        "DNSKEY",
        "DS",
        "HTTPS",
        "NAPTR",
        "NSEC",
        "NSEC3",
        "RRSIG",
        "SPF",
        "SRV",
        "SSHFP",
        "SVCB",
        "TLSA",
    )
)


def plain_type(word: str) -> str:
    """A type by its name: `TYPE1` is A (RFC 3597 section 5)."""
    if not re.fullmatch("TYPE[0-9]{1,5}", word):
        return word
    import dns.rdatatype

    number = int(word[4:])
    return dns.rdatatype.to_text(dns.rdatatype.RdataType.make(number)) if number < 65536 else word


def known_type(word: str) -> bool:
    """Whether a word is a record type, `TYPE123` (RFC 3597) included."""
    if word in PARSERS or word in _USUAL_TYPES:
        return True
    import dns.exception
    import dns.rdatatype

    try:
        dns.rdatatype.from_text(word)
    except (dns.exception.DNSException, ValueError):
        return False
    return True
