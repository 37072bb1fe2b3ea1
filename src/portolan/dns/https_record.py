"""HTTPS records (RFC 9460): where a client that follows them connects to, and when it goes straight to https."""

import shlex
from ipaddress import ip_address
from typing import NamedTuple

from portolan.dns.client import client_of, lookup
from portolan.dns.naming import Naming
from portolan.estate.base import IPAddress
from portolan.estate.client import Client
from portolan.estate.zone import Record
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import name as name_kinds

#: RFC 9460 section 14.3.2; the others a client of ours does not know.
_KNOWN = frozenset(("mandatory", "alpn", "no-default-alpn", "port", "ipv4hint", "ipv6hint", "ech"))
_OVER_TCP = frozenset(("http/1.1", "h2"))
#: What browsers speak; an offer of h3 alone still says that the name is secure.
_SPOKEN = _OVER_TCP | {"h3"}
_MOST_ALIASES = 8


class Offer(NamedTuple):
    """One way to the service: the name whose addresses are asked, the port, and addresses hinted at."""

    target: str
    port: int
    hints: tuple[IPAddress, ...]
    decision: Decision


class Offers(NamedTuple):
    """What HTTPS records say: `upgrade` when there is a record that fits; offers in order of preference."""

    upgrade: bool
    offers: tuple[Offer, ...]
    decisions: tuple[Decision, ...]


NONE = Offers(False, (), ())


def offers(naming: Naming, host: str, port: int, asker: Client) -> Offers:
    """The offers for a host and port, for a client that asks for HTTPS records."""
    device = client_of(naming, asker)
    if device.hosts_file is not None and any(host in line.names for line in device.hosts_file.entries):
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
        alias = next(((parts, record) for parts, record in read if parts[0] == 0), None)
        if alias is None or asker.https_records == "offers":
            read = [each for each in read if each[0][0]]
            if not read:
                # It sees that the name is secure, and follows the alias no further.
                assert alias is not None
                seen = name_kinds.HttpsAliasLeft(answer.name, alias[0][1], place=alias[1].place, subject=alias[1])
                return Offers(True, (), (seen,))
            return _service(host if not decisions else target, answer.name, port, read, decisions)
        (_, name, _), record = alias
        if name in ("", answer.name):
            return NONE
        decisions.append(name_kinds.HttpsAlias(answer.name, name, place=record.place, subject=record))
        asked = target = name
    return NONE


def _service(
    host: str, owner: str, port: int, read: list[tuple[tuple[int, str, dict[str, str]], Record]], before: list[Decision]
) -> Offers:
    found, decisions, fits = [], list(before), bool(before)
    for (_, name, parameters), record in sorted(read, key=lambda each: each[0][0]):
        wanted = [each for each in parameters.get("mandatory", "").split(",") if each and each not in _KNOWN]
        protocols = set(parameters.get("alpn", "").split(",")) - {""}
        if "no-default-alpn" not in parameters:
            protocols.add("http/1.1")
        fits = fits or (not wanted and bool(protocols & _SPOKEN))
        if wanted or not protocols & _OVER_TCP:
            decisions.append(
                name_kinds.HttpsUnfit(owner, ", ".join(wanted or sorted(protocols)), place=record.place, subject=record)
            )
            continue
        at = int(parameters.get("port", 443 if port == 80 else port))
        target = name or host
        hints = tuple(
            ip_address(text) for key in ("ipv6hint", "ipv4hint") for text in parameters.get(key, "").split(",") if text
        )
        decision = name_kinds.HttpsService(owner, target, at, place=record.place, subject=record)
        found.append(Offer(target, at, hints, decision))
    return Offers(fits, tuple(found), tuple(decisions))


def _parsed(text: str) -> tuple[int, str, dict[str, str]]:
    """Priority, target (empty for the owner itself) and parameters of a record's text."""
    priority, target, *rest = shlex.split(text)
    parameters = dict(part.partition("=")[::2] for part in rest)
    return int(priority), target.rstrip(".").lower(), parameters
