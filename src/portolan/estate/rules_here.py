"""A filter as one machine has it: areas as rules, names of interfaces for patterns, addresses for "an address of my own"."""

from collections.abc import Iterable
from ipaddress import IPv4Address, IPv4Network, IPv6Network
from typing import TypeVar

import msgspec

from portolan.estate.areas import as_rules
from portolan.estate.base import IPAddress, IPNetwork
from portolan.estate.filter import CHAINS, Chain, FilterRule, NamedChain, OneFilter

#: Every machine's interface to itself, and its ranges there (RFC 1122 section 3.2.1.3, RFC 4291 section 2.5.3).
LOOPBACK = "lo"
_LOOPBACK_RANGES: tuple[IPNetwork, ...] = (IPv4Network("127.0.0.0/8"), IPv6Network("::1/128"))
#: What no interface is named, and no packet comes from: for rules that nothing fits.
_NO_INTERFACE = ("",)
_NOBODY: tuple[IPNetwork, ...] = (IPv4Network("0.0.0.0/32"), IPv6Network("::/128"))

_Chain = TypeVar("_Chain", Chain, NamedChain)


def rules_here(filtering: OneFilter, interfaces: tuple[str, ...], addresses: Iterable[IPAddress]) -> OneFilter:
    """The filter with nothing left that depends on the machine; rules that need no change stay the same values."""
    filtering = as_rules(filtering)
    own = (*map(_alone, addresses), *_LOOPBACK_RANGES)
    names = (*interfaces, LOOPBACK)
    facts: dict[str, object] = {}
    for key in CHAINS:
        chain: Chain | None = getattr(filtering, key)
        if chain is not None and any(map(_depends, chain.rules)):
            facts[key] = _chain_here(chain, names, own)
    if any(_depends(rule) for chain in filtering.chains.values() for rule in chain.rules):
        facts["chains"] = {name: _chain_here(chain, names, own) for name, chain in filtering.chains.items()}
    return msgspec.structs.replace(filtering, **facts) if facts else filtering


def _alone(address: IPAddress) -> IPNetwork:
    return IPv4Network(address) if isinstance(address, IPv4Address) else IPv6Network(address)


def _depends(rule: FilterRule) -> bool:
    """Whether what a rule means depends on the machine."""
    return (
        rule.from_own is not None
        or rule.to_own is not None
        or any(name.endswith("*") for name in (*rule.entering, *rule.leaving, *rule.not_entering, *rule.not_leaving))
    )


def _chain_here(chain: _Chain, names: tuple[str, ...], own: tuple[IPNetwork, ...]) -> _Chain:
    rules = tuple(_rule_here(rule, names, own) if _depends(rule) else rule for rule in chain.rules)
    return msgspec.structs.replace(chain, rules=rules)


def _rule_here(rule: FilterRule, names: tuple[str, ...], own: tuple[IPNetwork, ...]) -> FilterRule:
    sources, not_sources = _narrowed(rule.from_own, rule.sources, rule.not_sources, own)
    destinations, not_destinations = _narrowed(rule.to_own, rule.destinations, rule.not_destinations, own)
    return msgspec.structs.replace(
        rule,
        from_own=None,
        to_own=None,
        sources=sources,
        not_sources=not_sources,
        destinations=destinations,
        not_destinations=not_destinations,
        entering=named(rule.entering, names) or (_NO_INTERFACE if rule.entering else ()),
        leaving=named(rule.leaving, names) or (_NO_INTERFACE if rule.leaving else ()),
        not_entering=named(rule.not_entering, names),
        not_leaving=named(rule.not_leaving, names),
    )


def named(patterns: tuple[str, ...], names: tuple[str, ...]) -> tuple[str, ...]:
    """The interfaces that names, or beginnings of names with `*`, stand for."""
    return tuple(
        name
        for name in names
        if any(name == each or (each.endswith("*") and name.startswith(each[:-1])) for each in patterns)
    )


def _narrowed(
    is_own: bool | None, held: tuple[IPNetwork, ...], without: tuple[IPNetwork, ...], own: tuple[IPNetwork, ...]
) -> tuple[tuple[IPNetwork, ...], tuple[IPNetwork, ...]]:
    """Ranges and excluded ranges after an address has to be, or must not be, the machine's own."""
    if is_own is None:
        return held, without
    if not is_own:
        return held, (*without, *own)
    if not held:
        return own, without
    both = tuple(
        one if one.prefixlen >= other.prefixlen else other
        for one in held
        for other in own
        if one.version == other.version and one.overlaps(other)
    )
    return both or _NOBODY, without
