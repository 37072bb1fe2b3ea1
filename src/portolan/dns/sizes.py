"""How large answers are: what does not fit a datagram is asked for again over TCP (RFC 7766 section 5).

Counted as servers write them, with names compressed (RFC 1035 section 4.1.4): the head, the question, and the records.
"""

from portolan.dns.zone import Types

#: What resolvers take by UDP, and servers give (EDNS buffers since 2020: named 9.18, unbound 1.17, NSD 4.6, Knot DNS 3.2), and what
#: a device's own lookup takes without EDNS (RFC 1035 section 4.2.1).
BY_UDP, PLAIN_UDP = 1232, 512
_HEAD, _OPTION = 12, 11
#: What a cookie adds (RFC 7873 section 4): the option's head, the client's part and the server's.
COOKIE = 28
#: A record without its data: a pointer to its name, type, class, TTL, length (RFC 1035 section 3.2.1).
_RECORD = 12
_DATA = {"A": 4, "AAAA": 16}


def longest(name: str, types: Types) -> tuple[int, str]:
    """The octets of the largest answer to a question for addresses, and its type."""
    base = _HEAD + _OPTION + len(name) + 2 + 4
    sizes = [(base + sum(_RECORD + _DATA[kind] for _ in types.get(kind, ())), kind) for kind in _DATA]
    return max(sizes)
