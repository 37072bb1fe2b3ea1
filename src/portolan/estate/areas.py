"""Areas written as the rules that they stand for: what the engine walks, and what a remedy adds to."""

from typing import Literal, TypeVar

import msgspec

from portolan.estate.base import PortRange
from portolan.estate.filter import Answer, Area, Chain, FilterRule, NamedChain, OneFilter

Transport = Literal["tcp", "udp"]

#: IANA service names (RFC 6335) that areas may use, with protocol and port.
SERVICES: dict[str, tuple[tuple[Transport, int], ...]] = {
    "domain": (("tcp", 53), ("udp", 53)),
    "ftp": (("tcp", 21),),
    "http": (("tcp", 80),),
    "http-alt": (("tcp", 8080),),
    "https": (("tcp", 443), ("udp", 443)),
    "imap": (("tcp", 143),),
    "imaps": (("tcp", 993),),
    "ldap": (("tcp", 389),),
    "ldaps": (("tcp", 636),),
    "ms-wbt-server": (("tcp", 3389),),
    "mysql": (("tcp", 3306),),
    "ntp": (("udp", 123),),
    "pop3s": (("tcp", 995),),
    "postgresql": (("tcp", 5432),),
    "smtp": (("tcp", 25),),
    "snmp": (("udp", 161),),
    "ssh": (("tcp", 22),),
    "submission": (("tcp", 587),),
    "syslog": (("udp", 514),),
}


#: What an area says to what it rejects, where nothing is written: as filters made of areas do.
REJECTS: Answer = "admin-prohibited"
_Filter = TypeVar("_Filter", bound=OneFilter)


def service_ports(text: str) -> list[tuple[Transport, PortRange]]:
    """Protocol and ports of a service as an area writes it. Raises ValueError with what was expected."""
    known = SERVICES.get(text)
    if known is not None:
        return [(protocol, PortRange(port, port)) for protocol, port in known]
    ports, slash, protocol = text.partition("/")
    first, dash, last = ports.partition("-")
    if slash and protocol in ("tcp", "udp") and first.isdecimal() and (last.isdecimal() or not dash):
        found = PortRange(int(first), int(last or first))
        if 0 < found.first <= found.last < 65536:
            return [("tcp" if protocol == "tcp" else "udp", found)]
    raise ValueError("a service's name, or ports and protocol such as 8080/tcp")


def as_rules(filtering: _Filter) -> _Filter:
    """The filter with its areas as an inbound chain that jumps to one chain an area; itself without areas.

    What belongs to no area is dropped. Every rule cites the line of the area that it stands for.
    """
    if not filtering.areas:
        return filtering
    entries = [
        FilterRule(place=area.place.key("from"), jump=name, sources=area.sources)
        for name, area in filtering.areas.items()
        if area.sources
    ]
    entries += [
        FilterRule(place=area.place.key("interfaces"), jump=name, entering=area.interfaces)
        for name, area in filtering.areas.items()
        if area.interfaces
    ]
    entries += [FilterRule(place=area.place, jump=name) for name, area in filtering.areas.items() if area.default]
    place = filtering.place.key("areas")
    chains = {
        name: NamedChain(place=area.place, name=name, rules=_rules(area)) for name, area in filtering.areas.items()
    }
    return msgspec.structs.replace(
        filtering,
        inbound=Chain(place=place, default="drop", rules=tuple(entries)),
        chains={**filtering.chains, **chains},
    )


def _rules(area: Area) -> tuple[FilterRule, ...]:
    rules = []
    for index, text in enumerate(area.services):
        place = area.place.item("services", index)
        rules += [FilterRule(place=place, allow=protocol, ports=(ports,)) for protocol, ports in service_ports(text)]
    last = area.place.key("otherwise")
    if area.otherwise == "reject":
        rules.append(FilterRule(place=last, reject="any", answer=area.answer or REJECTS))
    elif area.otherwise == "drop":
        rules.append(FilterRule(place=last, drop="any"))
    else:
        rules.append(FilterRule(place=last, allow="any"))
    return tuple(rules)
