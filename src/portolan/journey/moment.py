"""The estate as it stands at a moment, or after a boot: addresses that were others then, what a boot restores."""

from datetime import datetime
from typing import Any, Protocol, TypeVar

import msgspec

from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.network import Interface
from portolan.estate.service import Service

_AMachine = TypeVar("_AMachine", bound=Machine)


class Change(Protocol):
    """What makes another machine of one, or gives it back."""

    def __call__(self, machine: _AMachine, /) -> _AMachine:
        """The machine as it is to be."""


def standing(estate: Estate, now: datetime) -> Estate:
    """The estate with the addresses that its interfaces have at a moment; unchanged parts are shared."""
    return with_machines(estate, lambda machine: _machine_at(machine, now))


def rebooted(estate: Estate, names: frozenset[str]) -> Estate:
    """The estate after a boot of the machines named: filters as saved, services as the boot starts them."""
    return with_machines(estate, lambda machine: _booted(machine) if machine.name in names else machine)


def all_names(estate: Estate) -> frozenset[str]:
    """Every machine of the estate."""
    return frozenset(machine.name for machine in machines(estate))


def reloaded(service: Service) -> Service:
    """A running service after it took its saved configuration; itself where that does not load, or is in force."""
    saved = service.saved
    if saved is None or saved.broken is not None:
        return service
    return msgspec.structs.replace(
        service,
        saved=None,
        listens=service.listens if saved.listens is None else saved.listens,
        certificate=saved.certificate or service.certificate,
        sites=service.sites if saved.sites is None else saved.sites,
    )


def with_machines(estate: Estate, change: Change) -> Estate:
    """The estate with every machine put through a function; itself where none changes."""
    routers = {name: change(each) for name, each in estate.routers.items()}
    hosts = {name: change(each) for name, each in estate.hosts.items()}
    same = all(routers[name] is each for name, each in estate.routers.items()) and all(
        hosts[name] is each for name, each in estate.hosts.items()
    )
    return estate if same else msgspec.structs.replace(estate, routers=routers, hosts=hosts)


def with_facts(estate: Estate, machine: Machine, **facts: Any) -> Estate:
    """The estate with some facts of one machine otherwise."""
    return with_machines(
        estate, lambda each: msgspec.structs.replace(each, **facts) if each.name == machine.name else each
    )


def _machine_at(machine: _AMachine, now: datetime) -> _AMachine:
    if not any(interface.before for interface in machine.interfaces.values()):
        return machine
    changed = {name: _interface_at(each, now) for name, each in machine.interfaces.items()}
    if all(changed[name] is each for name, each in machine.interfaces.items()):
        return machine
    return msgspec.structs.replace(machine, interfaces=changed)


def _interface_at(interface: Interface, now: datetime) -> Interface:
    for earlier in reversed(interface.before):
        if now < earlier.until:
            return msgspec.structs.replace(interface, address=earlier.address)
    return interface


def _booted(machine: _AMachine) -> _AMachine:
    services = {name: _service_booted(each) for name, each in machine.services.items()}
    filtering = machine.filter
    if machine.filter_after_boot is not None:
        filtering = None if machine.filter_after_boot == "none" else machine.filter_after_boot
    if filtering is machine.filter and all(services[name] is each for name, each in machine.services.items()):
        return machine
    return msgspec.structs.replace(machine, services=services, filter=filtering, filter_after_boot=None)


def _service_booted(service: Service) -> Service:
    state = service.after_boot or service.state
    if state == "running" and service.saved is not None and service.saved.broken is not None:
        why = f"its saved configuration does not load ({service.saved.broken})"
        return msgspec.structs.replace(service, state=state, failing=why)
    booted = reloaded(service)
    if booted is service and state == service.state:
        return service
    return msgspec.structs.replace(booted, state=state)
