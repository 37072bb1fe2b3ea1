"""One thing that a change lays open, and what the change is for."""

from ipaddress import IPv4Interface, IPv6Interface
from typing import Literal

from portolan.estate.base import IPNetwork
from portolan.estate.site import Access
from portolan.estate.vantage import Expectation, Vantage
from portolan.source.value import Value

#: `needed`: the expectation asks for just this. `beside`: it comes with it, on the same service, and only a smaller form would
#: avoid it. `more`: anything else.
Grade = Literal["needed", "beside", "more"]
GRADES: tuple[Grade, ...] = ("needed", "beside", "more")
Kind = Literal["reach", "plain", "unencrypted", "unverified", "readable", "lifted", "trusted"]

#: The addresses of somebody on the internet whom no estate knows (RFC 2544, RFC 5180).
STRANGER = (IPv4Interface("198.18.99.7/32"), IPv6Interface("2001:2::99:7/128"))


class Asked(Value, frozen=True):
    """What a remedy is for: a URL from a vantage, what is expected of it, and the marks that concern it.

    `closed`: what is asked for is meant to be refused. `narrow`: the expectation is for those whom it names, and no others.
    """

    url: str
    vantage: Vantage
    expectation: Expectation | None
    marks: frozenset[str]
    closed: bool = False
    narrow: Literal["yes", "perhaps", "no"] = "no"


class Gain(Value, frozen=True):
    """One thing that a change lays open; `key` tells it from others. `closed`: a refusal that is meant is lifted by it."""

    kind: Kind
    key: tuple[str, ...]
    text: str
    grade: Grade
    closed: bool = False


class Widened(Value, frozen=True):
    """Whom a rule of access newly lets in: ranges, those that it kept out by name, and all others at once."""

    ranges: frozenset[IPNetwork]
    kept_out: frozenset[IPNetwork]
    everybody: bool


def widened(before: Access, after: Access) -> Widened:
    """Whom a rule of access lets in that it did not; where it let anybody in, ranges only narrow it."""
    anybody = not before.sources and not before.nobody and not (before.password and not before.either)
    return Widened(
        frozenset(() if anybody else {*after.sources} - {*before.sources}),
        frozenset({*before.not_sources} - {*after.not_sources}),
        bool(before.sources and not after.sources) or (before.nobody and not after.nobody and not after.sources),
    )
