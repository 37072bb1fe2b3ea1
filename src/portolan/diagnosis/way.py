"""Faults of the way in: forwards, turning round, routes."""

from collections.abc import Iterator
from typing import Any

import msgspec

from portolan.diagnosis.base import (
    Case,
    Finding,
    Home,
    addresses_of,
    all_homes,
    fault,
    kind_missing_on_its_line,
    listed,
    outside_addresses,
    reached_by,
    target_of,
)
from portolan.diagnosis.exposure_reach import addresses_meant
from portolan.diagnosis.proposal import Proposal, append, item_path, put, remedy, remove, replace
from portolan.estate.base import IPAddress
from portolan.estate.guesses import asked_by, attachments, machines
from portolan.estate.machine import Forward, Machine, Router
from portolan.estate.service import Service
from portolan.estate.vantage import Vantage
from portolan.evidence.kinds import connect as connect_kinds
from portolan.net.topology import Device
from portolan.net.translation import hairpin_of
from portolan.source.place import pointer


class RouterClue(msgspec.Struct, frozen=True):
    """The machine that is concerned, and its forward."""

    router: Machine
    forward: Forward | None = None


class ForwardClue(msgspec.Struct, frozen=True):
    """The forward that is concerned."""

    forward: Forward


class TargetClue(msgspec.Struct, frozen=True):
    """The router, the site behind it, and the box between them that passes it on."""

    router: Router
    home: Home
    through: Machine | None = None


class ShadowedClue(msgspec.Struct, frozen=True):
    """What took the port before the forward: a service of the router, or an earlier forward."""

    router: Machine
    service: Service | None = None
    later: int = 0
    earlier: int = 0


class AddressClue(msgspec.Struct, frozen=True):
    """The forward, and where the site is."""

    forward: Forward
    home: Home


class PortClue(msgspec.Struct, frozen=True):
    """The forward, and the port on which the site is."""

    forward: Forward
    port: int


class DeviceClue(msgspec.Struct, frozen=True):
    """The device without a way."""

    device: object


_AT_ROUTER = (
    "nothing-listens",
    "filter-drops",
    "filter-rejects",
    "service-stopped",
    "wrong-page",
    "not-found",
    "no-index-file",
    "plain-spoken",
    "name-mismatch",
    "not-web",
    "speaks-no-tls",
    "self-signed",
    "unknown-issuer",
)


@fault(
    "hairpin-missing",
    "The public address is asked from inside, and the router does not turn it round",
    "a time-out, a refusal or the router's own page, inside only",
    "Let the router apply its forwards to packets from inside, and send them on under its own address; or give the "
    "name its inside address in an inside view.",
    *_AT_ROUTER,
    "reply-stranger",
    "reply-lost",
    "own-source",
    "internet-unknown",
)
def hairpin_missing(case: Case) -> Finding | None:
    """A forward exists for the port, and packets from inside do not get it, or their answer goes astray."""
    connection = case.exchange.connection
    if connection is None:
        return None
    for router in machines(case.estate):
        pair = next((each for each in router.one_to_one if each.outside == connection.address), None)
        if pair is not None and router.hairpin != "full" and _turns_back(case, router):
            text = f"{case.client.name} asks {pair.outside} from inside, and {router.name} does not turn it round"
            return Finding("hairpin-missing", text, router.place, clue=RouterClue(router=router))
        for forward in router.forwards:
            if (
                _takes(forward, connection.port)
                and hairpin_of(router, forward) != "full"
                and connection.address in asked_by(router, forward)
                and _came_from_inside(case, router, forward)
            ):
                text = (
                    f"{case.client.name} asks {router.name}'s outside address {connection.address} from inside, "
                    f"and {router.name} does not turn it round"
                )
                return Finding("hairpin-missing", text, router.place, clue=RouterClue(router=router, forward=forward))
    return None


def _turns_back(case: Case, router: Machine) -> bool:
    """Whether a visit from behind the router ended because its one-to-one address is asked from inside."""
    stop = case.stop
    mine = {port.network.name for port in case.device.ports} - {"internet"}
    behind = {interface.network for interface in router.interfaces.values()}
    return (
        stop is not None
        and isinstance(
            stop,
            connect_kinds.OwnSource
            | connect_kinds.ReplyStranger
            | connect_kinds.ReplyLost
            | connect_kinds.InternetUnknown,
        )
        and bool(mine & behind)
    )


def _came_from_inside(case: Case, router: Machine, forward: Forward) -> bool:
    stop = case.stop
    if stop is not None and isinstance(stop, connect_kinds.ReplyStranger | connect_kinds.ReplyLost):
        return hairpin_of(router, forward) == "destination-only"
    return (
        hairpin_of(router, forward) == "off"
        and forward.on is not None
        and case.decision(connect_kinds.Forwarded) is None
        and reached_by(case) is router
        and not _arrived_on(case, router, forward)
    )


def _arrived_on(case: Case, router: Machine, forward: Forward) -> bool:
    """Whether the visit came in by the forward's own interface."""
    network = router.interfaces[forward.on].network if forward.on is not None else None
    carried = case.decision(connect_kinds.InternetCarries)
    if carried is not None:
        return network == "internet"
    return any(port.network.name == network for port in case.device.ports)


@fault(
    "forward-disabled", "The forward exists, and is switched off", "as if it were missing", "Switch it on.", *_AT_ROUTER
)
def forward_disabled(case: Case) -> Finding | None:
    """A forward for the port that is off."""
    router = _own_address_asked(case)
    connection = case.exchange.connection
    if router is None or connection is None:
        return None
    for forward in router.forwards:
        if not forward.enabled and forward.protocol == "tcp" and connection.port in forward.outside:
            text = f"{router.name}'s forward of port {connection.port} to {target_of(forward)} is switched off"
            return Finding("forward-disabled", text, forward.place, clue=ForwardClue(forward=forward))
    return None


@fault(
    "forward-missing",
    "No forward for this port",
    "a time-out or a refusal, from outside",
    "Add the forward to the server's inside address. Port 80 is often forwarded and 443 forgotten.",
    *_AT_ROUTER,
)
def forward_missing(case: Case) -> Finding | None:
    """The router itself was asked, and a site behind it was meant."""
    router = _own_address_asked(case)
    asked = _asked_at(case)
    if router is None or asked is None:
        return None
    port = asked[1]
    if _forwards(router, port):
        return None
    home = _home_behind(case, router, port)
    if home is None:
        return _missing_towards(case, router, port)
    others = sorted(
        {
            str(forward.outside)
            for forward in router.forwards
            if forward.enabled and forward.to in addresses_of(home.machine)
        }
    )
    too = f" (it forwards {listed(others)} there)" if others else ""
    text = f"{router.name} has no forward for port {port} to {home.machine.name}{too}"
    return Finding("forward-missing", text, router.place.key("forwards"), clue=TargetClue(router=router, home=home))


def _missing_towards(case: Case, router: Router, port: int) -> Finding | None:
    """The site lies behind a further box, which passes the port on."""
    networks = {each.network for each in router.interfaces.values()} - {"internet"}
    for home in case.homes():
        if not set(outside_addresses(case.estate, home.machine)) & set(addresses_of(router)):
            continue
        for further in machines(case.estate):
            shared = networks & {each.network for each in further.interfaces.values()}
            if further is not router and shared and _forwards(further, port):
                text = f"{router.name} has no forward for port {port} to {further.name}, which passes it on to {home.machine.name}"
                clue = TargetClue(router=router, home=home, through=further)
                return Finding("forward-missing", text, router.place.key("forwards"), clue=clue)
    return None


def _forwards(machine: Machine, port: int) -> bool:
    """Whether a machine has a forward of a TCP port that is switched on."""
    return any(each.enabled and each.protocol == "tcp" and port in each.outside for each in machine.forwards)


def _asked_at(case: Case) -> tuple[IPAddress, int] | None:
    """The address and port that the last box was asked at: what was asked, or what a forward before it made of that."""
    connection, forwarded = case.exchange.connection, case.decision(connect_kinds.Forwarded)
    if forwarded is not None:
        return forwarded.to, forwarded.to_port
    return (connection.address, connection.port) if connection is not None else None


def _own_address_asked(case: Case) -> Router | None:
    """The router whose own address was asked, when it did not forward the packet and no service of its own was meant."""
    machine, forwarded = reached_by(case), case.decision(connect_kinds.Forwarded)
    asked = _asked_at(case)
    if not isinstance(machine, Router) or asked is None or asked[0] not in addresses_of(machine):
        return None
    if forwarded is not None and forwarded.box == machine.name:
        return None
    return None if any(home.machine is machine for home in case.homes()) else machine


def _home_behind(case: Case, router: Router, port: int) -> Home | None:
    """The site that was meant, on a machine behind the router; with TLS where the URL is secure."""
    networks = {interface.network for interface in router.interfaces.values()} - {"internet"}
    secure = case.exchange.url.secure
    homes = case.homes() or (list(all_homes(case.estate)) if case.site_name is None else [])
    behind = [
        home
        for home in homes
        if networks & {each.network for each in home.machine.interfaces.values()} and home.machine is not router
    ]
    fitting = [home for home in behind if any(each.tls == secure for each in home.service.listens)]
    exact = [home for home in fitting if any(each.port == port and each.tls == secure for each in home.service.listens)]
    return next(iter(exact or fitting or behind), None)


@fault(
    "forward-shadowed",
    "An earlier forward, or the router's own page, takes the port",
    "another page",
    "Put the forward first, or give the router's own page another port.",
    "wrong-page",
    "not-found",
    "no-index-file",
    "not-web",
    "speaks-no-tls",
    "plain-spoken",
    "name-mismatch",
    "neighbour-missing",
    "nothing-listens",
    "self-signed",
    "unknown-issuer",
    "not-secure",
    "filter-drops",
    "service-stopped",
)
def forward_shadowed(case: Case) -> Finding | None:
    """A later forward of the port leads to the site, and something else took it."""
    connection, taken, router = case.exchange.connection, case.decision(connect_kinds.Forwarded), reached_by(case)
    if connection is None:
        return None
    inside = {address for home in case.homes() for address in addresses_of(home.machine)}
    if taken is None:
        if (
            not isinstance(router, Machine)
            or not router.own_services_first
            or connection.address not in addresses_of(router)
        ):
            return None
        hidden = next(
            (each for each in router.forwards if _takes(each, connection.port) and (not inside or each.to in inside)),
            None,
        )
        if hidden is None or connection.arrival is None:
            return None
        service = connection.arrival.service
        text = (
            f"{router.name}'s own {service.name} takes port {connection.port} before the forward to {target_of(hidden)}"
        )
        return Finding("forward-shadowed", text, hidden.place, clue=ShadowedClue(router=router, service=service))
    first = taken.subject
    router = next((each for each in machines(case.estate) if first in each.forwards), None)
    if router is None or not isinstance(first, Forward) or first.to in inside:
        return None
    at = router.forwards.index(first)
    for index, later in enumerate(router.forwards[at + 1 :], at + 1):
        if _takes(later, connection.port) and later.to in inside and later.on == first.on:
            text = f"the forward to {target_of(first)} takes port {connection.port} before the one to {target_of(later)}, where the site is"
            return Finding(
                "forward-shadowed", text, later.place, clue=ShadowedClue(router=router, later=index, earlier=at)
            )
    return None


def _takes(forward: Forward, port: int) -> bool:
    return forward.enabled and forward.protocol == "tcp" and port in forward.outside


@fault(
    "forward-wrong-address",
    "The forward leads to an address that is not the server's",
    "a time-out",
    "Correct the forward's inside address; fix the server's address so that a lease cannot change it.",
    "neighbour-missing",
    "nothing-listens",
    "not-a-router",
    "no-route",
    "wrong-page",
    "service-stopped",
    "filter-drops",
    "group-drops",
)
def forward_wrong_address(case: Case) -> Finding | None:
    """A forward was taken, and its target is not a machine that holds the site."""
    taken = case.decision(connect_kinds.Forwarded)
    connection = case.exchange.connection
    if taken is None or connection is None or not isinstance(taken.subject, Forward):
        return None
    forward = taken.subject
    homes = case.homes() or [home for home in all_homes(case.estate) if case.site_name is None]
    inside = {address for home in homes for address in addresses_of(home.machine)}
    if not homes or forward.to is None or forward.to in inside:
        return None
    port = forward.port or connection.port
    home = next((each for each in homes if any(one.port == port for one in each.service.listens)), homes[0])
    holder = case.world.topology.holder(forward.to)
    whose = f"which is {holder.label}'s" if holder is not None else _had(case, forward.to) or "which no box has"
    text = f"the forward of port {connection.port} leads to {forward.to}, {whose}; the site {home.site.name} is on {home.machine.name}"
    return Finding("forward-wrong-address", text, forward.place, clue=AddressClue(forward=forward, home=home))


def _had(case: Case, address: object) -> str:
    """Who had an address before a change."""
    for home in case.homes():
        for interface in home.machine.interfaces.values():
            for earlier in interface.before:
                if address in [item.ip for item in earlier.facts.get("address", ())]:
                    return f"which {home.machine.name} had until {earlier.until:%Y-%m-%d %H:%M} UTC"
    return ""


@fault(
    "forward-wrong-port",
    "The forward leads to a port where nothing, or something else, listens",
    "a refusal, or another page",
    "Correct the forward's inside port.",
    "nothing-listens",
    "plain-spoken",
    "plain-on-tls",
    "wrong-page",
    "not-web",
    "speaks-no-tls",
    "filter-drops",
)
def forward_wrong_port(case: Case) -> Finding | None:
    """The machine is right, and the service listens elsewhere on it."""
    taken = case.decision(connect_kinds.Forwarded)
    connection = case.exchange.connection
    if taken is None or connection is None or not isinstance(taken.subject, Forward):
        return None
    forward, secure = taken.subject, case.exchange.url.secure
    asked = taken.to_port
    for home in case.homes() or list(all_homes(case.estate)):
        own = forward.to is None and home.machine is connection.reached
        if not (own or forward.to in addresses_of(home.machine)) or home.service.state != "running":
            continue
        ports = [each.port for each in home.service.listens if each.tls == secure and not _loopback(each)]
        if ports and asked not in ports:
            text = f"the forward of port {connection.port} leads to port {asked} of {home.machine.name}; {home.service.name} listens on {listed(map(str, ports))}"
            return Finding("forward-wrong-port", text, forward.place, clue=PortClue(forward=forward, port=ports[0]))
    return None


def _loopback(listener: object) -> bool:
    address = getattr(listener, "address", None)
    return address is not None and address.is_loopback


@fault(
    "route-missing",
    "No route to or from the server",
    "unreachable, or a time-out",
    "Give the machine a gateway or a route; a private source needs a router that masquerades.",
    "no-route",
    "source-private",
    "no-source",
    "turns-in-circles",
    "route-ends",
)
def route_missing(case: Case) -> Finding | None:
    """Some box has no route, or no public address to send from."""
    stop = case.stop
    if stop is None:
        return None
    subject = stop.subject.stated if isinstance(stop.subject, Device) else stop.subject
    return Finding("route-missing", stop.text, stop.place, clue=DeviceClue(device=subject))


@fault(
    "route-back-astray",
    "The answer takes another way and is thrown away",
    "a time-out",
    "Make the answer go back by the box that translated the question.",
    "reply-stranger",
    "reply-lost",
    "reply-astray",
    "later-lost",
    "later-rejected",
)
def route_back_astray(case: Case) -> Finding | None:
    """The answer did not come back as the visitor expects it."""
    stop = case.visit.stop
    return Finding("route-back-astray", stop.text, stop.place) if stop is not None else None


# -- remedies --


@remedy("forward-missing")
def add_forward(case: Case, clue: TargetClue) -> Iterator[Proposal]:
    """Forwards the port to the machine that holds the site."""
    router, home = clue.router, clue.home
    asked = _asked_at(case)
    if asked is None:
        return
    at_address, port = asked
    outside = next(
        (name for name, each in router.interfaces.items() if at_address in [item.ip for item in each.address]),
        None,
    )
    secure = case.exchange.url.secure
    inner = [each.port for each in home.service.listens if each.tls == secure] if clue.through is None else []
    there = home.machine if clue.through is None else clue.through
    for address in addresses_of(there):
        if address.version != at_address.version or outside is None:
            continue
        value: dict[str, Any] = {"on": outside, "tcp": port, "to": str(address)}
        if inner and port not in inner:
            value["port"] = inner[0]
        at = f" port {value['port']}" if "port" in value else ""
        text = f"forward tcp port {port} on {router.name} to {there.name} ({address}{at})"
        some = addresses_meant(case, address.version)
        if some:
            yield Proposal(
                f"{text}, from {listed(some)} only", append(router.place, "forwards", {**value, "from": [*some]})
            )
        yield Proposal(text, append(router.place, "forwards", value))


@remedy("forward-wrong-address")
def correct_forward(_case: Case, clue: AddressClue) -> Iterator[Proposal]:
    """Leads the forward to the machine that holds the site."""
    forward, home = clue.forward, clue.home
    for address in addresses_of(home.machine):
        if forward.to is not None and address.version == forward.to.version:
            text = f"let the forward of port {forward.outside} lead to {home.machine.name} ({address})"
            yield Proposal(text, replace((*forward.place.path, "to"), str(address)))


@remedy("forward-wrong-port")
def correct_port(_case: Case, clue: PortClue) -> Iterator[Proposal]:
    """Leads the forward to the port on which the service listens."""
    forward = clue.forward
    text = f"let the forward of port {forward.outside} lead to port {clue.port}"
    yield Proposal(text, put(forward.place, "port", clue.port))


@remedy("forward-disabled")
def enable_forward(_case: Case, clue: ForwardClue) -> Iterator[Proposal]:
    """Switches the forward on."""
    forward = clue.forward
    yield Proposal(
        f"switch the forward of port {forward.outside} to {target_of(forward)} on", put(forward.place, "enabled", True)
    )


@remedy("hairpin-missing")
def turn_round(_case: Case, clue: RouterClue) -> Iterator[Proposal]:
    """Lets the router turn inside packets round."""
    router, forward = clue.router, clue.forward
    place = forward.place if forward is not None and forward.hairpin is not None else router.place
    text = f"let {router.name} turn packets from inside round, under its own address"
    yield Proposal(text, put(place, "hairpin", "full"))


@remedy("forward-shadowed")
def forward_first(_case: Case, clue: ShadowedClue) -> Iterator[Proposal]:
    """Puts the forward before what took the port."""
    router, service = clue.router, clue.service
    if service is not None:
        text = f"let {router.name}'s forwards come before its own {service.name}, which then is for the inside only"
        yield Proposal(text, put(router.place, "own_services_first", False))
        return
    path = (*router.place.path, "forwards")
    moved = {
        "op": "move",
        "from": pointer((*path, clue.later)),
        "path": pointer((*path, clue.earlier)),
    }
    yield Proposal(f"put the forward to {target_of(router.forwards[clue.later])} first", [moved])


@remedy("route-back-astray")
def answer_the_same_way(case: Case, _clue: object) -> Iterator[Proposal]:
    """Lets the server answer through the router that sent the question on."""
    taken, connection = case.decision(connect_kinds.Forwarded), case.exchange.connection
    machine = connection.reached if connection is not None else None
    if taken is None or not isinstance(machine, Machine):
        return
    networks = {interface.network for interface in machine.interfaces.values()}
    for router in machines(case.estate):
        if not any(forward is taken.subject for forward in router.forwards):
            continue
        for interface in router.interfaces.values():
            if interface.network in networks:
                for item in interface.address:
                    yield Proposal(
                        f"give {machine.name} the gateway {item.ip} ({router.name})",
                        put(machine.place, "gateway", [str(item.ip)]),
                    )


@remedy("route-missing")
def give_route(case: Case, clue: DeviceClue) -> Iterator[Proposal]:
    """Gives a gateway, or lets the last router masquerade."""
    stop, device = case.stop, clue.device
    if isinstance(stop, connect_kinds.SourcePrivate) and isinstance(device, Router):
        for name, interface in device.interfaces.items():
            if interface.network == "internet":
                yield Proposal(f"let {device.name} masquerade on {name}", append(device.place, "masquerade", name))
        return
    if not isinstance(device, Machine | Vantage):
        return
    kind = kind_missing_on_its_line(case, device)
    if kind is not None:
        wanted = f"an IPv{kind} address for {device.name} from the provider of its line"
        yield Proposal(f"get {wanted}, and state it at the interface", [])
    at_fault = stop.place.path if stop is not None and stop.place is not None else None
    line = next((at for at, each in enumerate(device.routes) if each.place.path == at_fault), None)
    if line is not None:
        patch = remove(item_path(device.place, "routes", line))
        yield Proposal(f"take the route of {device.name} to {device.routes[line].to} away, which leads nowhere", patch)
    elif device.gateway == "none":
        yield Proposal(f"give {device.name} the gateway that its network has", remove((*device.place.path, "gateway")))
    elif device.gateway is None:
        networks = {name for name, _ in attachments(device)}
        for router in case.estate.routers.values():
            # Only a neighbour can be a gateway, and nobody is his own.
            for interface in router.interfaces.values() if router.place.path != device.place.path else ():
                for item in interface.address if interface.network in networks else ():
                    patch = put(device.place, "gateway", [str(item.ip)])
                    yield Proposal(f"give {device.name} the gateway {item.ip} ({router.name})", patch)
