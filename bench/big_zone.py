"""A master file of any number of records, for measuring, and names to ask for."""

import random
from collections.abc import Iterator

HEAD = "$ORIGIN big.example.\n$TTL 3600\n@ SOA ns1 host 1 3600 900 604800 300\n@ NS ns1\nns1 A 192.0.2.1\n"


def big_zone(records: int) -> str:
    """Addresses, aliases, IPv6 addresses and mail records below many names, as large providers hold them."""
    return HEAD + "".join(_lines(records))


def _lines(records: int) -> Iterator[str]:
    for number in range(records // 2):
        yield f"h{number} A 192.0.{number >> 8 & 127}.{number & 255}\n"
    for number in range(records // 4):
        yield f"a{number} 300 IN CNAME h{number}\n"
    for number in range(records // 8):
        yield f"h{number} AAAA 2001:db8::{number & 65535:x}\n"
    for number in range(records // 8):
        yield f"x{number}.sub{number % 1000} MX 10 h{number}\n"


def names_in(records: int, count: int) -> list[str]:
    """Names that exist, aliases, and names that do not."""
    rng = random.Random(1)
    return [f"{rng.choice(('h', 'h', 'a', 'nope'))}{rng.randrange(records // 4)}.big.example" for _ in range(count)]
