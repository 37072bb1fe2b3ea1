"""Data of the rarer record types as the DNS library's classes; the library loads when there is such a record."""

from functools import lru_cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from dns.rdata import Rdata


@lru_cache(1024)
def rdata(kind: str, text: str) -> "Rdata":
    """The parsed data of a record's text, which a load has checked."""
    import dns.rdata
    import dns.rdataclass

    return dns.rdata.from_text(dns.rdataclass.IN, kind, text)
