"""The records that visits to names meet, asked of the zone's own servers: addresses, aliases, delegation, HTTPS, CAA, DS.

The servers are found by asking this machine's resolver for the zone's NS records; the questions then go to them, without recursion.
"""

import time
from typing import Any

from portolan.source.plain import one_line
from portolan.source.value import Value
from portolan.transcribing.sources import SourceError

_PATIENCE = 4.0
_MOST_NAMES = 200
_MOST_ALIASES = 12
_TYPES = ("A", "AAAA", "CNAME", "HTTPS", "CAA")


class Gleaned(Value, frozen=True):
    """A zone with the records that were seen, each a line as in a master file, and its servers."""

    name: str
    records: tuple[str, ...]
    servers: tuple[str, ...]
    ds: tuple[str, ...]


def gleaned(names: list[str], server: str | None, port: int) -> tuple[list[Gleaned], list[str]]:
    """What is said of names, zone by zone; and what could not be asked, in words. Raises SourceError."""
    import dns.exception
    import dns.name
    import dns.resolver

    if len(names) > _MOST_NAMES:
        raise SourceError(f"more than {_MOST_NAMES} names", "Ask for the rest by a second command.")
    resolver = dns.resolver.Resolver(configure=server is None)
    resolver.lifetime = _PATIENCE * 2
    if server is not None:
        resolver.nameservers, resolver.port = [server], port
    zones: dict[str, dict[str, None]] = {}
    about: dict[str, tuple[list[str], list[str]]] = {}
    lost: list[str] = []
    todo = [dns.name.from_text(name) for name in names]
    seen: set[Any] = set()
    while todo and len(seen) < _MOST_NAMES + _MOST_ALIASES:
        name = todo.pop(0)
        if name in seen:
            continue
        seen.add(name)
        try:
            apex = dns.resolver.zone_for_name(name, resolver=resolver)
        except (dns.exception.DNSException, OSError) as error:
            lost.append(f"{name}: {one_line(str(error), 200)}")
            continue
        zone = apex.to_text(omit_final_dot=True)
        if zone not in about:
            about[zone] = _servers(apex, resolver, lost)
            zones[zone] = {}
        for line, alias in _said(name, apex, about[zone][0], resolver, port if server is not None else 53, lost):
            zones[zone][line] = None
            if alias is not None:
                todo.append(alias)
    made = [
        Gleaned(zone, tuple(held), tuple(about[zone][0]), tuple(about[zone][1])) for zone, held in zones.items() if zone
    ]
    if not made:
        raise SourceError(f"nothing could be asked: {'; '.join(lost[:3])}", "Can this machine ask DNS questions?")
    return made, lost


def _servers(apex: Any, resolver: Any, lost: list[str]) -> tuple[list[str], list[str]]:
    """A zone's servers as its NS records name them, and its parent's DS records."""
    import dns.exception

    found: list[list[str]] = []
    for kind in ("NS", "DS"):
        try:
            answer = resolver.resolve(apex, kind, raise_on_no_answer=False)
            found.append([each.to_text() for each in answer.rrset] if answer.rrset is not None else [])
        except (dns.exception.DNSException, OSError) as error:
            if kind == "NS":
                lost.append(f"{apex}: {one_line(str(error), 200)}")
            found.append([])
    return [each.rstrip(".").lower() for each in found[0]], found[1]


def _said(name: Any, apex: Any, servers: list[str], resolver: Any, port: int, lost: list[str]) -> list[tuple[str, Any]]:
    """The records of a name, each with the name that it leads on to."""
    import dns.exception
    import dns.message
    import dns.query
    import dns.rdatatype
    import dns.rrset

    addresses: list[str] = []
    for each in servers[:4]:
        for kind in ("A", "AAAA"):
            try:
                addresses += [one.to_text() for one in resolver.resolve(each + ".", kind)]
            except (dns.exception.DNSException, OSError):
                continue
    if not addresses:
        addresses = list(resolver.nameservers)
    found: list[tuple[str, Any]] = []
    deadline = time.monotonic() + 30
    for kind in _TYPES:
        answer = None
        for address in addresses[:6]:
            if time.monotonic() > deadline:
                break
            query = dns.message.make_query(name, kind)
            try:
                answer, _ = dns.query.udp_with_fallback(query, address, timeout=_PATIENCE, port=port)
                break
            except (dns.exception.DNSException, OSError):
                continue
        if answer is None:
            lost.append(f"{name} {kind}: no server of the zone answers")
            continue
        for rrset in answer.answer:
            if rrset.name != name or dns.rdatatype.to_text(rrset.rdtype) not in _TYPES:
                continue
            owner = name.relativize(apex).to_text()
            for each in rrset:
                text = each.to_text()
                alias = each.target if rrset.rdtype == dns.rdatatype.CNAME else None
                line = f"{owner} {rrset.ttl} {dns.rdatatype.to_text(rrset.rdtype)} {text}"
                if (line, alias) not in found:
                    found.append((line, alias))
    return found


def document(zones: list[Gleaned]) -> dict[str, Any]:
    """The zones as the estate writes them."""
    return {
        "zones": {
            each.name: {
                "records": list(each.records),
                **({"delegated_to": list(each.servers)} if each.servers else {}),
                **({"ds": list(each.ds)} if each.ds else {}),
            }
            for each in zones
        }
    }
