"""The estate as it stands at a moment: addresses that were others then."""

from datetime import datetime
from typing import Protocol, TypeVar

import msgspec

from portolan.estate.estate import Estate
from portolan.estate.machine import Machine
from portolan.estate.network import Interface

_AMachine = TypeVar("_AMachine", bound=Machine)


class Change(Protocol):
    """What makes another machine of one, or gives it back."""

    def __call__(self, machine: _AMachine, /) -> _AMachine:
        """The machine as it is to be."""


def standing(estate: Estate, now: datetime) -> Estate:
    """The estate with the addresses that its interfaces have at a moment; unchanged parts are shared."""
    return with_machines(estate, lambda machine: _machine_at(machine, now))


def with_machines(estate: Estate, change: Change) -> Estate:
    """The estate with every machine put through a function; itself where none changes."""
    routers = {name: change(each) for name, each in estate.routers.items()}
    hosts = {name: change(each) for name, each in estate.hosts.items()}
    same = all(routers[name] is each for name, each in estate.routers.items()) and all(
        hosts[name] is each for name, each in estate.hosts.items()
    )
    return estate if same else msgspec.structs.replace(estate, routers=routers, hosts=hosts)


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
