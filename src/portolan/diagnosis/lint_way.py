"""What can be found about the way in without asking any question: what a boot will change, masks, lists, forwards."""

from collections.abc import Iterator

from portolan.diagnosis.base import Finding, Severity, target_of
from portolan.estate.base import is_public, same_facts
from portolan.estate.changing import next_boot_says
from portolan.estate.guesses import machines, prefix_of
from portolan.estate.machine import Machine
from portolan.journey.world import World


def boots(world: World) -> Iterator[Finding]:
    """What works now and not after the next boot, or the reverse."""
    for machine in machines(world.estate):
        later = next_boot_says(machine, "filter")
        if later is not None and not same_facts(later.facts["filter"], machine.filter):
            yield Finding(
                "filter-not-permanent",
                f"the filter of {machine.name} is in force now, and the next boot restores another one",
                later.place.key("filter"),
                Severity.WARNING,
            )
        for service in machine.services.values():
            name = f"{service.name} on {machine.name}"
            after = service.after_boot
            if service.state == "running" and after is not None and service.state_after_boot == "stopped":
                yield Finding(
                    "service-not-enabled",
                    f"{name} runs, and the next boot does not start it",
                    after.place.key("state"),
                    Severity.WARNING,
                )
            if service.saved is not None and service.saved.broken is not None:
                yield Finding(
                    "service-config-broken",
                    f"the saved configuration of {name} does not load ({service.saved.broken}): the old one "
                    "stays in force until the next start, and then there is none",
                    service.saved.place,
                    Severity.WARNING,
                )
            elif service.saved is not None:
                yield Finding(
                    "service-not-reloaded",
                    f"a configuration of {name} is saved and not in force",
                    service.saved.place,
                    Severity.WARNING,
                )


def same_addresses(world: World) -> Iterator[Finding]:
    """Addresses that several boxes of one network have."""
    for (network, _, _), ports in world.topology.twice.items():
        shared = set(ports[0].addresses).intersection(*(port.addresses for port in ports))
        boxes = ", ".join(port.device.label for port in ports)
        yield Finding(
            "address-duplicate",
            f"{', '.join(map(str, sorted(shared, key=str)))} on {network} is had by {boxes}",
            (ports[-1].stated or ports[-1].device.stated).place.key("address"),
        )


def masks(world: World) -> Iterator[Finding]:
    """Addresses whose written prefix length is not their network's."""
    for machine in machines(world.estate):
        for interface in machine.interfaces.values():
            network = world.estate.networks.get(interface.network)
            for address in interface.address:
                right = next(
                    (subnet for subnet in (network.subnets if network is not None else ()) if address.ip in subnet),
                    None,
                )
                prefix = prefix_of(address, network)
                alone = prefix is not None and prefix.prefixlen == prefix.max_prefixlen
                if alone and any(each.on == interface.name for each in machine.routes):
                    continue  # a rented machine's: its routes say who is on the link
                if right is not None and prefix is not None and prefix != right:
                    yield Finding(
                        "mask-wrong",
                        f"{machine.name} has {address.ip} with the mask /{prefix.prefixlen}; {network.name if network else ''} "
                        f"is {right}",
                        interface.place.key("address"),
                        Severity.WARNING,
                    )


def lists_let_answers_out(world: World) -> Iterator[Finding]:
    """Access lists that let questions in and the answers to them not out."""
    for network in world.estate.networks.values():
        held = network.access_list
        if held is None or held.outbound is None or not any(rule.allow for rule in held.inbound or ()):
            continue
        if not any(
            rule.allow in ("tcp", "any") and (not rule.ports or any(ports.last >= 32768 for ports in rule.ports))
            for rule in held.outbound
        ):
            yield Finding(
                "list-blocks-replies",
                f"the access list of {network.name} lets questions in, and no answer out to the ports that visitors "
                "ask from",
                held.place.key("outbound"),
                Severity.WARNING,
            )


def forwards_in_order(world: World) -> Iterator[Finding]:
    """Forwards that an earlier one hides."""
    for router in machines(world.estate):
        for index, later in enumerate(router.forwards):
            for earlier in router.forwards[:index]:
                hides = (
                    earlier.enabled
                    and later.enabled
                    and earlier.on == later.on
                    and earlier.address == later.address
                    and earlier.own_connections >= later.own_connections
                    and not (earlier.not_on or earlier.not_sources)
                    and earlier.protocol == later.protocol
                    and not earlier.sources
                    and earlier.outside.first <= later.outside.first
                    and later.outside.last <= earlier.outside.last
                    and (earlier.to is None or (later.to is not None and earlier.to.version == later.to.version))
                )
                if hides:
                    yield Finding(
                        "forward-shadowed",
                        f"the forward of port {later.outside} to {target_of(later)} is never asked: an earlier one takes "
                        f"the port to {target_of(earlier)}",
                        later.place,
                        Severity.WARNING,
                    )
                    break


def lines_are_public(world: World) -> Iterator[Finding]:
    """Forwards on a line whose address nobody outside reaches."""
    for router in world.estate.routers.values():
        for name in dict.fromkeys(each.on for each in router.forwards if each.enabled and each.on is not None):
            addresses = [item.ip for item in router.interfaces[name].address]
            above = [
                each
                for each in world.estate.routers.values()
                if each is not router and each.provider and _shares(each, router, name)
            ]
            if (
                addresses
                and above
                and not any(is_public(each) for each in addresses)
                and not any(f.to in addresses for each in above for f in each.forwards)
            ):
                yield Finding(
                    "line-shared-address",
                    f"{router.name} forwards on {name}, whose address {addresses[0]} is not public, and "
                    f"{above[0].name} sends nothing on to it",
                    router.place.key("forwards"),
                    Severity.WARNING,
                )


def _shares(one: Machine, other: Machine, name: str) -> bool:
    return other.interfaces[name].network in {each.network for each in one.interfaces.values()}


def leases_may_change(world: World) -> Iterator[Finding]:
    """Forwards to addresses that a lease gives."""
    leased = {
        item.ip: machine.name
        for machine in machines(world.estate)
        for interface in machine.interfaces.values()
        if interface.leased
        for item in interface.address
    }
    for router in world.estate.routers.values():
        for forward in router.forwards:
            if forward.enabled and forward.to in leased:
                yield Finding(
                    "forward-wrong-address",
                    f"port {forward.outside} is forwarded to {forward.to}, which {leased[forward.to]} has by a lease "
                    "that may change: reserve it",
                    forward.place,
                    Severity.WARNING,
                )


def groups_hang_somewhere(world: World) -> Iterator[Finding]:
    """Groups that hang on no interface and that nobody names."""
    attached = {
        name for machine in machines(world.estate) for each in machine.interfaces.values() for name in each.groups or ()
    }
    named = {
        peer
        for group in world.estate.groups.values()
        for rule in (*group.inbound, *(group.outbound or ()))
        for peer in rule.peers
        if isinstance(peer, str)
    }
    for name, group in world.estate.groups.items():
        if name not in attached | named:
            yield Finding(
                "group-not-attached", f"the group {name} hangs on no interface", group.place, Severity.WARNING
            )


def basics_unsaid(world: World) -> Iterator[Finding]:
    """Filters that drop and say nothing of what passes first, on machines with IPv6: written so by hand, there is none."""
    for machine in machines(world.estate):
        filtering = machine.filter
        if filtering is None or filtering.basics is not None:
            continue
        six = any(item.version == 6 for each in machine.interfaces.values() for item in each.address)
        chains = (("inbound", filtering.inbound), ("outbound", filtering.outbound))
        stopping = next(((name, each) for name, each in chains if each is not None and each.default != "allow"), None)
        if six and stopping is not None:
            name, chain = stopping
            yield Finding(
                "filter-basics-unsaid",
                f"the filter of {machine.name} {chain.default}s what no {name} rule takes, and does not "
                "say whether neighbour discovery passes; without it there is no IPv6",
                filtering.place,
                Severity.WARNING,
            )


WAY_LINTS = (
    basics_unsaid,
    boots,
    same_addresses,
    masks,
    lists_let_answers_out,
    forwards_in_order,
    lines_are_public,
    leases_may_change,
    groups_hang_somewhere,
)
