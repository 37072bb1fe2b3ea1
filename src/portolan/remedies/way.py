"""Remedies for the way in. What they open, they open for one protocol, one port and one machine."""

from collections.abc import Iterable, Iterator
from typing import Any

from portolan.estate.areas import SERVICES
from portolan.estate.base import PortRange, is_public
from portolan.estate.filter import Area, Chain, FilterRule, NamedChain
from portolan.estate.machine import Forward, Machine, Router
from portolan.estate.network import Group, GroupRule, Interface
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.faults.base import Case, Finding, Home, addresses_of
from portolan.remedies.base import Proposal, append, item_path, put, remedy, remove, replace
from portolan.source.place import pointer


@remedy("forward-missing")
def add_forward(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Forwards the port to the machine that holds the site."""
    router, home = finding.hints["router"], finding.hints["home"]
    connection = case.last.connection
    if not isinstance(router, Router) or not isinstance(home, Home) or connection is None:
        return
    outside = next(
        (name for name, each in router.interfaces.items() if connection.address in [item.ip for item in each.address]),
        None,
    )
    secure = case.last.url.secure
    inner = [each.port for each in home.service.listens if each.tls == secure]
    for address in addresses_of(home.machine):
        if address.version != connection.address.version or outside is None:
            continue
        value: dict[str, Any] = {"on": outside, "tcp": connection.port, "to": str(address)}
        if inner and connection.port not in inner:
            value["port"] = inner[0]
        at = f" port {value['port']}" if "port" in value else ""
        text = f"forward tcp port {connection.port} on {router.name} to {home.machine.name} ({address}{at})"
        yield Proposal(text, append(router.place, "forwards", value))


@remedy("forward-wrong-address")
def correct_forward(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Leads the forward to the machine that holds the site."""
    forward, home = finding.hints["forward"], finding.hints["home"]
    if isinstance(forward, Forward) and isinstance(home, Home):
        for address in addresses_of(home.machine):
            if address.version == forward.to.version:
                text = f"let the forward of port {forward.outside} lead to {home.machine.name} ({address})"
                yield Proposal(text, replace((*forward.place.path, "to"), str(address)))


@remedy("forward-wrong-port")
def correct_port(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Leads the forward to the port on which the service listens."""
    forward = finding.hints["forward"]
    text = f"let the forward of port {forward.outside} lead to port {finding.hints['port']}"
    yield Proposal(text, put(forward.place, "port", finding.hints["port"]))


@remedy("forward-disabled")
def enable_forward(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Switches the forward on."""
    forward = finding.hints["forward"]
    yield Proposal(
        f"switch the forward of port {forward.outside} to {forward.to} on", put(forward.place, "enabled", True)
    )


@remedy("hairpin-missing")
def turn_round(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Lets the router turn inside packets round."""
    router = finding.hints["router"]
    yield Proposal(
        f"let {router.name} turn packets from inside round, under its own address", put(router.place, "hairpin", "full")
    )


@remedy("filter-drops", "filter-rejects", "filter-order", "outbound-blocked")
def allow_port(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Allows the port before what stops it, for the asker's kind only."""
    chain = finding.hints.get("chain")
    stop, protocol = case.stop, case.asked_protocol
    if isinstance(chain, Area):
        yield Proposal(
            f"let the area {chain.name} of {chain.place.path[1]} reach {_service(case.asked_port, protocol)}",
            append(chain.place, "services", _service(case.asked_port, protocol)),
        )
    if not isinstance(chain, Chain | NamedChain) or stop is None:
        return
    port = case.asked_port
    rule: dict[str, Any] = {"allow": protocol, "ports": [port]}
    path = chain.place.path
    if path[-1] == "forward":
        rule["to"] = [str(case.asked_address)]
    at = (
        chain.rules.index(stop.subject)
        if isinstance(stop.subject, FilterRule) and stop.subject in chain.rules
        else None
    )
    if finding.code == "filter-order":
        moved = {"op": "move", "from": _item(chain, finding.hints["from"]), "path": _item(chain, finding.hints["to"])}
        yield Proposal(f"move rule {finding.hints['from'] + 1} before rule {finding.hints['to'] + 1}", [moved])
    where = f"before rule {at + 1}" if at is not None else "at the end of the rules"
    for source in askers(case) if path[-1] != "outbound" else (None,):
        narrowed = rule if source is None else {**rule, "from": [source]}
        who = f" from {source}" if source is not None else ""
        yield Proposal(
            f"allow {protocol} port {port}{who} in {path[-3]} {path[-2]} {path[-1]}, {where}",
            append(chain.place, "rules", narrowed, at),
        )


def _service(port: int, protocol: str = "tcp") -> str:
    """A port as an area writes it: by the service's name, where it has one."""
    return next((name for name, held in SERVICES.items() if (protocol, port) in held), f"{port}/{protocol}")


def _item(chain: Chain | NamedChain, index: int) -> str:
    return pointer((*chain.place.path, "rules", index))


def askers(case: Case) -> tuple[str | None, ...]:
    """The sources to let in, the fewest first: an inside asker as the box saw it, then its segment; None is everybody.

    A visitor from the internet stands for everybody there.
    """
    asked, met = case.asked_address, case.met
    if asked is None:
        return (None,)
    own = [met.src] if met is not None else list(case.world.topology.device(case.visit.vantage).local)
    for address in own:
        if address.version == asked.version and not is_public(address):
            segments = [
                str(subnet)
                for network in case.estate.networks.values()
                for subnet in network.subnets
                if address in subnet
            ]
            return (str(address), *segments[:1])
    return (None,)


@remedy("group-not-attached")
def attach_group(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Attaches the group."""
    interface, group = finding.hints["interface"], finding.hints["group"]
    if isinstance(interface, Interface):
        yield Proposal(
            f"attach the group {group}, which allows port {finding.hints['port']}, to {interface.name} of {interface.place.path[1]}",
            append(interface.place, "groups", group),
        )


@remedy("forward-shadowed")
def forward_first(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Puts the forward before what took the port."""
    router, service = finding.hints["router"], finding.hints.get("service")
    if not isinstance(router, Router):
        return
    if isinstance(service, Service):
        text = f"let {router.name}'s forwards come before its own {service.name}, which then is for the inside only"
        yield Proposal(text, put(router.place, "own_services_first", False))
        return
    path = (*router.place.path, "forwards")
    moved = {
        "op": "move",
        "from": pointer((*path, finding.hints["from"])),
        "path": pointer((*path, finding.hints["to"])),
    }
    yield Proposal(f"put the forward to {router.forwards[finding.hints['from']].to} first", [moved])


@remedy("group-missing-port")
def allow_in_group(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Allows the port in a group of the interface, or attaches one that allows it."""
    groups, port, interface = finding.hints["groups"], finding.hints["port"], finding.hints["interface"]
    yield from _allowances(case, groups, port)
    for name in sorted(case.estate.groups):
        group = case.estate.groups[name]
        if isinstance(interface, Interface) and name not in (interface.groups or ()) and _allows(group, port):
            yield Proposal(
                f"attach the group {name}, which allows port {port}, to {interface.name}",
                append(interface.place, "groups", name),
            )


def _allowances(case: Case, groups: Iterable[Group], port: int) -> Iterator[Proposal]:
    """A rule of its own for the port and the asker, in each of the groups."""
    for group in groups:
        for source in askers(case):
            rule: dict[str, Any] = {
                "allow": "tcp",
                "ports": [port],
                **({"from": [source]} if source is not None else {}),
            }
            who = f" from {source}" if source is not None else ""
            yield Proposal(
                f"allow tcp port {port}{who} in the group {group.name}", append(group.place, "inbound", rule)
            )


def _allows(group: Group, port: int) -> bool:
    return any(
        rule.allow == "tcp" and rule.ports and any(port in each for each in rule.ports) for rule in group.inbound
    )


@remedy("group-wrong-source")
def widen_source(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Adds the asker to the rule where it is about this port only; else allows the port in a rule of its own."""
    rule, group, port = finding.hints["rule"], finding.hints["group"], finding.hints["port"]
    if not isinstance(rule, GroupRule) or not isinstance(group, Group):
        return
    only = rule.allow == "tcp" and rule.ports == (PortRange(port, port),)
    if not only:
        held = [each for each in finding.hints["groups"] if each is not group]
        yield from _allowances(case, [*held, group], port)
    version = case.asked_address.version if case.asked_address is not None else 4
    for source in askers(case):
        wanted = source or ("0.0.0.0/0" if version == 4 else "::/0")
        yield Proposal(
            f"allow port {port} in the group {group.name} from {wanted} too", append(rule.place, "from", wanted)
        )


@remedy("route-back-astray")
def answer_the_same_way(case: Case, _finding: Finding) -> Iterator[Proposal]:
    """Lets the server answer through the router that sent the question on."""
    taken, connection = case.decision("forwarded"), case.last.connection
    machine = connection.reached if connection is not None else None
    if taken is None or not isinstance(machine, Machine):
        return
    networks = {interface.network or interface.name for interface in machine.interfaces.values()}
    for router in case.estate.routers.values():
        if not any(forward is taken.subject for forward in router.forwards):
            continue
        for interface in router.interfaces.values():
            if (interface.network or interface.name) in networks:
                for item in interface.address:
                    yield Proposal(
                        f"give {machine.name} the gateway {item.ip} ({router.name})",
                        put(machine.place, "gateway", [str(item.ip)]),
                    )


@remedy("route-missing")
def give_route(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Gives a gateway, or lets the last router masquerade."""
    stop, device = case.stop, finding.hints["device"]
    if stop is not None and stop.kind == "source-private" and isinstance(device, Router):
        for name, interface in device.interfaces.items():
            if (interface.network or interface.name) == "internet":
                yield Proposal(f"let {device.name} masquerade on {name}", append(device.place, "masquerade", name))
        return
    line = (
        next(
            (
                at
                for at, each in enumerate(device.routes)
                if stop is not None and stop.place is not None and each.place.path == stop.place.path
            ),
            None,
        )
        if isinstance(device, Machine | Vantage)
        else None
    )
    if isinstance(device, Machine | Vantage) and line is not None:
        patch = remove(item_path(device.place, "routes", line))
        yield Proposal(f"take the route of {device.name} to {device.routes[line].to} away, which leads nowhere", patch)
    elif isinstance(device, Machine | Vantage) and device.gateway == "none":
        yield Proposal(f"give {device.name} the gateway that its network has", remove((*device.place.path, "gateway")))
    elif isinstance(device, Machine | Vantage) and device.gateway is None:
        for router in case.estate.routers.values():
            for interface in router.interfaces.values():
                for item in interface.address:
                    patch = put(device.place, "gateway", [str(item.ip)])
                    yield Proposal(f"give {device.name} the gateway {item.ip} ({router.name})", patch)
