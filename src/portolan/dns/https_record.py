"""HTTPS records (RFC 9460): where a client that follows them connects to, and when it goes straight to https."""

from ipaddress import ip_address
from typing import Any

from portolan.dns.client import lookup
from portolan.dns.naming import Naming
from portolan.dns.rdata import rdata
from portolan.estate.base import IPAddress
from portolan.estate.client import Client
from portolan.estate.guesses import seat_of
from portolan.estate.records import Record
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import name as name_kinds
from portolan.source.value import Value

#: mandatory, alpn, no-default-alpn, port, ipv4hint, ech, ipv6hint (RFC 9460 section 14.3.2); a client of ours knows no other.
_KNOWN = frozenset(range(7))
_OVER_TCP = frozenset(("http/1.1", "h2"))
#: What browsers speak; an offer of h3 alone still says that the name is secure.
_SPOKEN = _OVER_TCP | {"h3"}
_MOST_ALIASES = 8


class Parsed(Value, frozen=True):
    """What a record says: the target is empty for the owner itself; `unknown` are the mandatory keys that are not known here."""

    priority: int
    target: str
    protocols: frozenset[str]
    no_default: bool
    port: int | None
    hints: tuple[IPAddress, ...]
    unknown: tuple[str, ...]


class Offer(Value, frozen=True):
    """One way to the service: the name whose addresses are asked, the port, and addresses hinted at."""

    target: str
    port: int
    hints: tuple[IPAddress, ...]
    decision: Decision


class Offers(Value, frozen=True):
    """What HTTPS records say: `upgrade` when there is a record that fits; offers in order of preference."""

    upgrade: bool
    offers: tuple[Offer, ...]
    decisions: tuple[Decision, ...]


NONE = Offers(False, (), ())


def offers(naming: Naming, host: str, port: int, asker: Client) -> Offers:
    """The offers for a host and port, for a client that asks for HTTPS records."""
    device = seat_of(naming.estate, asker)
    if device.hosts_file is not None and device.hosts_file.lines_of(host):
        return NONE
    # RFC 9460 section 9.1: other ports than the usual ones are asked for by name.
    asked = host if port in (80, 443) else f"_{port}._https.{host.rstrip('.')}"
    decisions: list[Decision] = []
    target = host
    for _ in range(_MOST_ALIASES):
        answer = lookup(naming, asked, asker)
        records = answer.types.get("HTTPS", ()) if answer.detail is None else ()
        if not records:
            if not decisions:
                return NONE
            return Offers(True, (Offer(target, port if port != 80 else 443, (), decisions[-1]),), tuple(decisions))
        read = [(_parsed(str(record.data)), record) for record in records]
        alias = next(((parts, record) for parts, record in read if parts.priority == 0), None)
        if alias is None or asker.https_records == "offers":
            read = [each for each in read if each[0].priority]
            if not read:
                # It sees that the name is secure, and follows the alias no further.
                assert alias is not None
                seen = name_kinds.HttpsAliasLeft(answer.name, alias[0].target, place=alias[1].place, subject=alias[1])
                return Offers(True, (), (seen,))
            return _service(host if not decisions else target, answer.name, port, read, decisions, asker.https_records)
        parts, record = alias
        name = parts.target
        if name in ("", answer.name):
            return NONE
        decisions.append(name_kinds.HttpsAlias(answer.name, name, place=record.place, subject=record))
        asked = target = name
    return NONE


def _service(
    host: str, owner: str, port: int, read: list[tuple[Parsed, Record]], before: list[Decision], kind: str
) -> Offers:
    found, decisions, fits = [], list(before), bool(before)
    for parts, record in sorted(read, key=lambda each: each[0].priority):
        protocols = parts.protocols if parts.no_default else parts.protocols | {"http/1.1"}
        fits = fits or (not parts.unknown and bool(protocols & _SPOKEN))
        if parts.unknown or not protocols & _OVER_TCP:
            wanted = ", ".join(parts.unknown or sorted(protocols))
            decisions.append(name_kinds.HttpsUnfit(owner, wanted, place=record.place, subject=record))
            continue
        at = parts.port if parts.port is not None else 443 if port == 80 else port
        target = parts.target or host
        if kind == "offers" and (at, target) != (443 if port == 80 else port, host):
            # Such a browser goes to https by it, and to the name's own address and the usual port (measured).
            left = name_kinds.HttpsOfferLeft(owner, target, at, place=record.place, subject=record)
            decisions.append(left)
            continue
        decision = name_kinds.HttpsService(owner, target, at, place=record.place, subject=record)
        found.append(Offer(target, at, parts.hints, decision))
    return Offers(fits, tuple(found), tuple(decisions))


def _parsed(text: str) -> Parsed:
    """A record's text by the DNS library's class."""
    from dns.rdtypes.svcbbase import ParamKey

    data: Any = rdata("HTTPS", text)
    params = {} if data.priority == 0 else data.params

    def held(key: ParamKey) -> Any:
        return params.get(key)

    alpn, port, mandatory = held(ParamKey.ALPN), held(ParamKey.PORT), held(ParamKey.MANDATORY)
    hints = [each.addresses for each in map(held, (ParamKey.IPV6HINT, ParamKey.IPV4HINT)) if each is not None]
    return Parsed(
        data.priority,
        data.target.to_text(omit_final_dot=True).lower().removesuffix("."),
        frozenset(each.decode("ascii", "replace") for each in alpn.ids) if alpn is not None else frozenset(),
        ParamKey.NO_DEFAULT_ALPN in params,
        port.port if port is not None else None,
        tuple(ip_address(each) for addresses in hints for each in addresses),
        tuple(sorted(_key_name(each) for each in mandatory.keys if each not in _KNOWN))
        if mandatory is not None
        else (),
    )


def _key_name(number: int) -> str:
    """A parameter's name, as records write unknown ones (RFC 9460 section 2.1)."""
    return f"key{int(number)}"
