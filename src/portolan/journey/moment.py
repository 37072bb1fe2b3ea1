"""The estate as it stands at a moment, or after a boot: one mechanism for all objects (estate/changing.py)."""

from collections.abc import Callable
from datetime import UTC, datetime
from operator import is_
from typing import Any, TypeVar

import msgspec

from portolan.estate.changing import Changing, at, booted
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.service import Service, WebService
from portolan.source.shared import Shared

_AMachine = TypeVar("_AMachine", bound=Machine)
_AValue = TypeVar("_AValue", bound=Changing)
_AStruct = TypeVar("_AStruct", bound=msgspec.Struct)
#: What makes another value of one, or gives it back.
Change = Callable[[Any], Any]


def standing(estate: Estate, now: datetime, shared: Shared) -> Estate:
    """The estate with every object as it stands at a moment; unchanged parts are shared, machines with changed estates too."""

    def then(value: _AValue) -> _AValue:
        result: _AValue = at(value, now) if value.before else value
        return result

    def machine_then(machine: _AMachine) -> _AMachine:
        return shared.of("standing", machine, lambda: _each_part(then(machine), then), now)

    def all_then(machines: dict[str, _AMachine]) -> dict[str, _AMachine]:
        return shared.lately("standing", (machines,), lambda: each_of(machines, machine_then), now)

    moved = with_fields(estate, routers=all_then(estate.routers), hosts=all_then(estate.hosts))
    stores = each_of(moved.stores, then)
    stores = each_of(stores, lambda store: with_fields(store, buckets=each_of(store.buckets, then)))
    edges = each_of(moved.edges, lambda edge: edge_then(edge, now))
    zones = each_of(
        moved.zones, lambda zone: zone if zone.edge is None else with_fields(zone, edge=edge_then(zone.edge, now))
    )
    return with_fields(moved, certificates=each_of(moved.certificates, then), stores=stores, edges=edges, zones=zones)


def edge_then(edge: Any, now: datetime) -> Any:
    """An edge as it stands at a moment: until its settings are in effect, as it was before."""
    held = at(edge, now)
    if held is edge:
        if not edge.waits(now) or not edge.before:
            return edge
        held = msgspec.structs.replace(edge, **edge.before[0].facts)
    # What stood before was in effect then.
    return (
        held if held.in_effect_from is not edge.in_effect_from else msgspec.structs.replace(held, in_effect_from=None)
    )


#: A moment that no estate comes to.
_NEVER = datetime.max.replace(tzinfo=UTC)


def not_in_effect(estate: Estate, path: tuple[str | int, ...]) -> Estate:
    """The estate in which the settings of one edge, at a place, are not in effect yet; itself where it is known that they are."""

    def waiting(edge: Any) -> Any:
        unknown = edge.place.path == path and edge.in_effect_from == "unknown"
        return msgspec.structs.replace(edge, in_effect_from=_NEVER) if unknown else edge

    zones = each_of(
        estate.zones, lambda zone: zone if zone.edge is None else with_fields(zone, edge=waiting(zone.edge))
    )
    return with_fields(estate, edges=each_of(estate.edges, waiting), zones=zones)


def rebooted(estate: Estate, names: frozenset[str]) -> Estate:
    """The estate after a boot of the machines named: what is saved is in force, and what the boot makes otherwise."""

    def change(machine: _AMachine) -> _AMachine:
        if machine.name not in names:
            return machine
        result: _AMachine = _each_part(booted(machine), lambda part: _booted(part))
        return result

    return with_machines(estate, change)


def all_names(estate: Estate) -> frozenset[str]:
    """Every machine of the estate."""
    return frozenset(machine.name for machine in machines(estate))


def with_machines(estate: Estate, change: Change) -> Estate:
    """The estate with every machine put through a function; itself where none changes."""
    return with_fields(estate, routers=each_of(estate.routers, change), hosts=each_of(estate.hosts, change))


def with_facts(estate: Estate, machine: Machine, **facts: Any) -> Estate:
    """The estate with some facts of one machine otherwise."""
    return with_machines(
        estate, lambda each: msgspec.structs.replace(each, **facts) if each.name == machine.name else each
    )


def _each_part(machine: _AMachine, change: Change) -> _AMachine:
    """A machine with each of its interfaces and services put through a function; itself where none changes."""
    return with_fields(
        machine, interfaces=each_of(machine.interfaces, change), services=each_of(machine.services, change)
    )


def each_of(values: dict[str, _AStruct], change: Change) -> dict[str, _AStruct]:
    """Named values, each put through a function; the same mapping where none changes."""
    changed = {name: change(each) for name, each in values.items()}
    return values if all(map(is_, changed.values(), values.values())) else changed


def with_fields(value: _AStruct, **fields: object) -> _AStruct:
    """A value with some fields otherwise; itself where each is what it was."""
    same = all(getattr(value, name) is field for name, field in fields.items())
    return value if same else msgspec.structs.replace(value, **fields)


def _booted(part: Changing) -> Changing:
    """An interface or a service after a boot; a service whose saved configuration does not load has none to start with."""
    after: Changing = booted(part)
    if isinstance(after, Service) and after.state == "running" and after.saved is not None:
        return msgspec.structs.replace(after, failing=f"its saved configuration does not load ({after.saved.broken})")
    if isinstance(after, WebService) and not all(site.loaded for site in after.sites.values()):
        sites = {name: msgspec.structs.replace(site, loaded=True) for name, site in after.sites.items()}
        return msgspec.structs.replace(after, sites=sites)
    return after
