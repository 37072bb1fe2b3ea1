"""Faults of the way in: forwards, filters, groups, routes."""

from portolan.estate.filter import Chain, FilterRule, NamedChain
from portolan.estate.guesses import machines
from portolan.estate.machine import Forward, Router
from portolan.estate.network import Group, Interface
from portolan.faults.base import Case, Finding, Home, addresses_of, all_homes, fault, listed, reached_by
from portolan.faults.network import chain_of
from portolan.wire.topology import Device

_AT_ROUTER = (
    "nothing-listens",
    "filter-drops",
    "filter-rejects",
    "service-stopped",
    "wrong-page",
    "not-found",
    "no-default",
    "plain-spoken",
    "name-mismatch",
    "not-web",
    "self-signed",
    "issuer-unknown",
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
    connection = case.last.connection
    if connection is None:
        return None
    for router in case.estate.routers.values():
        if router.hairpin == "full":
            continue
        pair = next((each for each in router.one_to_one if each.outside == connection.address), None)
        if pair is not None and _turns_back(case, router):
            text = (
                f"{case.visit.vantage.name} asks {pair.outside} from inside, and {router.name} does not turn it round"
            )
            return Finding("hairpin-missing", text, router.place, hints={"router": router})
        for forward in router.forwards:
            outside = router.interfaces.get(forward.on)
            if (
                forward.enabled
                and forward.protocol == "tcp"
                and connection.port in forward.outside
                and outside is not None
                and connection.address in [item.ip for item in outside.address]
                and _came_from_inside(case, router, forward)
            ):
                text = (
                    f"{case.visit.vantage.name} asks {router.name}'s outside address {connection.address} from inside, "
                    f"and {router.name} does not turn it round"
                )
                return Finding("hairpin-missing", text, router.place, hints={"router": router})
    return None


def _turns_back(case: Case, router: Router) -> bool:
    """Whether a visit from behind the router ended because its one-to-one address is asked from inside."""
    stop = case.stop
    mine = {port.network.name for port in case.world.topology.device(case.visit.vantage).ports} - {"internet"}
    behind = {interface.network or interface.name for interface in router.interfaces.values()}
    return (
        stop is not None
        and stop.kind in ("own-source", "reply-stranger", "reply-lost", "internet-unknown")
        and bool(mine & behind)
    )


def _came_from_inside(case: Case, router: Router, forward: Forward) -> bool:
    stop = case.stop
    if stop is not None and stop.kind in ("reply-stranger", "reply-lost"):
        return router.hairpin == "destination-only"
    return (
        router.hairpin == "off"
        and case.decision("forwarded") is None
        and reached_by(case) is router
        and not _arrived_on(case, router, forward)
    )


def _arrived_on(case: Case, router: Router, forward: Forward) -> bool:
    """Whether the visit came in by the forward's own interface."""
    outside = router.interfaces[forward.on]
    network = outside.network or outside.name
    carried = case.decision("internet-carries")
    if carried is not None:
        return network == "internet"
    vantage = case.visit.vantage
    return vantage.network == network


@fault(
    "forward-disabled", "The forward exists, and is switched off", "as if it were missing", "Switch it on.", *_AT_ROUTER
)
def forward_disabled(case: Case) -> Finding | None:
    """A forward for the port that is off."""
    router = _own_address_asked(case)
    connection = case.last.connection
    if router is None or connection is None:
        return None
    for forward in router.forwards:
        if not forward.enabled and forward.protocol == "tcp" and connection.port in forward.outside:
            text = f"{router.name}'s forward of port {connection.port} to {forward.to} is switched off"
            return Finding("forward-disabled", text, forward.place, hints={"forward": forward})
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
    connection = case.last.connection
    if router is None or connection is None:
        return None
    if any(each.enabled and each.protocol == "tcp" and connection.port in each.outside for each in router.forwards):
        return None
    home = _home_behind(case, router, connection.port)
    if home is None:
        return None
    others = sorted(
        {
            str(forward.outside)
            for forward in router.forwards
            if forward.enabled and forward.to in addresses_of(home.machine)
        }
    )
    too = f" (it forwards {listed(others)} there)" if others else ""
    text = f"{router.name} has no forward for port {connection.port} to {home.machine.name}{too}"
    return Finding("forward-missing", text, router.place.key("forwards"), hints={"router": router, "home": home})


def _own_address_asked(case: Case) -> Router | None:
    """The router whose own address was asked, when the packet was not forwarded and no service of its own was meant."""
    if case.decision("forwarded") is not None:
        return None
    connection = case.last.connection
    machine = reached_by(case)
    if not isinstance(machine, Router) or connection is None or connection.address not in addresses_of(machine):
        return None
    return None if any(home.machine is machine for home in case.homes()) else machine


def _home_behind(case: Case, router: Router, port: int) -> Home | None:
    """The site that was meant, on a machine behind the router; with TLS where the URL is secure."""
    networks = {interface.network or interface.name for interface in router.interfaces.values()} - {"internet"}
    secure = case.last.url.secure
    homes = case.homes() or (list(all_homes(case.estate)) if case.site_name is None else [])
    behind = [
        home
        for home in homes
        if networks & {each.network or each.name for each in home.machine.interfaces.values()}
        and home.machine is not router
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
    "no-default",
    "not-web",
    "plain-spoken",
    "name-mismatch",
    "neighbour-missing",
    "nothing-listens",
    "self-signed",
    "issuer-unknown",
    "not-secure",
    "filter-drops",
    "service-stopped",
)
def forward_shadowed(case: Case) -> Finding | None:
    """A later forward of the port leads to the site, and something else took it."""
    connection, taken, router = case.last.connection, case.decision("forwarded"), reached_by(case)
    if connection is None:
        return None
    inside = {address for home in case.homes() for address in addresses_of(home.machine)}
    if taken is None:
        if (
            not isinstance(router, Router)
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
        text = f"{router.name}'s own {service.name} takes port {connection.port} before the forward to {hidden.to}"
        return Finding("forward-shadowed", text, hidden.place, hints={"router": router, "service": service})
    first = taken.subject
    router = next((each for each in case.estate.routers.values() if first in each.forwards), None)
    if router is None or not isinstance(first, Forward) or first.to in inside:
        return None
    at = router.forwards.index(first)
    for index, later in enumerate(router.forwards[at + 1 :], at + 1):
        if _takes(later, connection.port) and later.to in inside and later.on == first.on:
            text = f"the forward to {first.to} takes port {connection.port} before the one to {later.to}, where the site is"
            return Finding("forward-shadowed", text, later.place, hints={"router": router, "from": index, "to": at})
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
    taken = case.decision("forwarded")
    connection = case.last.connection
    if taken is None or connection is None or not isinstance(taken.subject, Forward):
        return None
    forward = taken.subject
    homes = case.homes() or [home for home in all_homes(case.estate) if case.site_name is None]
    inside = {address for home in homes for address in addresses_of(home.machine)}
    if not homes or forward.to in inside:
        return None
    port = forward.port or connection.port
    home = next((each for each in homes if any(one.port == port for one in each.service.listens)), homes[0])
    holder = case.world.topology.holder(forward.to)
    whose = f"which is {holder.label}'s" if holder is not None else _had(case, forward.to) or "which no box has"
    text = f"the forward of port {connection.port} leads to {forward.to}, {whose}; the site {home.site.name} is on {home.machine.name}"
    return Finding("forward-wrong-address", text, forward.place, hints={"forward": forward, "home": home})


def _had(case: Case, address: object) -> str:
    """Who had an address before a change."""
    for home in case.homes():
        for interface in home.machine.interfaces.values():
            for earlier in interface.before:
                if address in [item.ip for item in earlier.address]:
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
    "filter-drops",
)
def forward_wrong_port(case: Case) -> Finding | None:
    """The machine is right, and the service listens elsewhere on it."""
    taken = case.decision("forwarded")
    connection = case.last.connection
    if taken is None or connection is None or not isinstance(taken.subject, Forward):
        return None
    forward, secure = taken.subject, case.last.url.secure
    asked = taken.facts[4]
    for home in case.homes() or list(all_homes(case.estate)):
        if forward.to not in addresses_of(home.machine) or home.service.state != "running":
            continue
        ports = [each.port for each in home.service.listens if each.tls == secure and not _loopback(each)]
        if ports and asked not in ports:
            text = f"the forward of port {connection.port} leads to port {asked} of {home.machine.name}; {home.service.name} listens on {listed(map(str, ports))}"
            return Finding("forward-wrong-port", text, forward.place, hints={"forward": forward, "port": ports[0]})
    return None


def _loopback(listener: object) -> bool:
    address = getattr(listener, "address", None)
    return address is not None and address.is_loopback


@fault(
    "filter-order",
    "The allowing rule stands behind the one that drops",
    "a time-out",
    "Put the allowing rule before the one that drops.",
    "filter-drops",
    "filter-rejects",
)
def filter_order(case: Case) -> Finding | None:
    """A later rule of the same chain would have let it pass."""
    stop, chain = case.stop, chain_of(case)
    if stop is None or not isinstance(chain, Chain | NamedChain) or not isinstance(stop.subject, FilterRule):
        return None
    if stop.subject not in chain.rules:
        return None
    at = chain.rules.index(stop.subject)
    connection = case.last.connection
    for later, rule in enumerate(chain.rules[at + 1 :], at + 1):
        if rule.verdict == "allow" and connection is not None and _same_kind(rule, case):
            text = f"rule {at + 1} stops it before rule {later + 1}, which allows it: {stop.text}"
            return Finding("filter-order", text, stop.place, hints={"chain": chain, "from": later, "to": at})
    return None


def _same_kind(rule: FilterRule, case: Case) -> bool:
    port = case.asked_port
    return (
        rule.protocol in ("tcp", "any")
        and (not rule.ports or any(port in each for each in rule.ports))
        and not (rule.sources or rule.destinations or rule.source_ports or rule.state)
    )


@fault(
    "filter-drops",
    "A filter's rule or default drops it",
    "a time-out",
    "Allow the port, for those who are meant, before the rule that drops.",
    "filter-drops",
)
def filter_drops(case: Case) -> Finding | None:
    """The filter said no without a word."""
    return _filtered(case, "filter-drops")


@fault(
    "filter-rejects",
    "A filter's rule or default rejects it",
    "a refusal, or unreachable",
    "Allow the port, for those who are meant, before the rule that rejects.",
    "filter-rejects",
)
def filter_rejects(case: Case) -> Finding | None:
    """The filter said no, and said so."""
    return _filtered(case, "filter-rejects")


def _filtered(case: Case, code: str) -> Finding | None:
    stop = case.stop
    if stop is None:
        return None
    return Finding(
        code, stop.text, stop.place, hints={"chain": chain_of(case), "rule": stop.subject, "port": case.asked_port}
    )


@fault(
    "group-wrong-source",
    "A security group allows the port, and not for this asker",
    "a time-out for some",
    "Widen the source range to those who are meant, and no further.",
    "group-drops",
)
def group_wrong_source(case: Case) -> Finding | None:
    """Some rule allows the port from elsewhere."""
    interface, port = _grouped(case)
    if interface is None:
        return None
    for name in interface.groups or ():
        group = case.estate.groups[name]
        for rule in group.inbound:
            if (
                rule.peers
                and rule.allow in ("tcp", "any")
                and (not rule.ports or any(port in each for each in rule.ports))
            ):
                text = f"group {name} allows port {port} from {listed(map(str, rule.peers))} only: {case.stop.text if case.stop else ''}"
                attached = [case.estate.groups[each] for each in interface.groups or ()]
                hints = {"rule": rule, "group": group, "groups": attached, "port": port}
                return Finding("group-wrong-source", text, rule.place, hints=hints)
    return None


@fault(
    "group-not-attached",
    "The group that allows it hangs on another interface",
    "a time-out",
    "Attach the group to the interface that is asked.",
    "group-drops",
)
def group_not_attached(case: Case) -> Finding | None:
    """A group that hangs elsewhere allows the port to this asker."""
    interface, port = _grouped(case)
    connection = case.last.connection
    if interface is None or connection is None:
        return None
    seen = connection.seen_from
    attached = {
        name
        for machine in machines(case.estate)
        for each in machine.interfaces.values()
        if each is not interface
        for name in each.groups or ()
    }
    for name in sorted(attached - set(interface.groups or ())):
        for rule in case.estate.groups[name].inbound:
            open_to = not rule.peers or any(
                not isinstance(each, str) and seen is not None and seen in each for each in rule.peers
            )
            if rule.allow in ("tcp", "any") and rule.ports and any(port in each for each in rule.ports) and open_to:
                text = (
                    f"the group {name} allows port {port}, and hangs elsewhere: {case.stop.text if case.stop else ''}"
                )
                return Finding(
                    "group-not-attached",
                    text,
                    interface.place.key("groups"),
                    hints={"interface": interface, "group": name, "port": port},
                )
    return None


@fault(
    "group-missing-port",
    "No security group on the interface allows the port",
    "a time-out",
    "Allow the port in a group of that interface.",
    "group-drops",
)
def group_missing_port(case: Case) -> Finding | None:
    """No rule of any attached group is about the port."""
    interface, port = _grouped(case)
    stop = case.stop
    if interface is None or stop is None:
        return None
    groups: list[Group] = [case.estate.groups[name] for name in interface.groups or ()]
    where = groups[0].place if groups else interface.place
    text = f"no security group on {stop.facts[0]} ({stop.facts[1]}) allows tcp port {port}"
    return Finding("group-missing-port", text, where, hints={"interface": interface, "groups": groups, "port": port})


def _grouped(case: Case) -> tuple[Interface | None, int]:
    stop = case.stop
    if stop is None or not isinstance(stop.subject, Interface) or stop.facts[2] != "in":
        return None, 0
    return stop.subject, case.asked_port


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
    return Finding("route-missing", stop.text, stop.place, hints={"device": subject})


@fault(
    "route-back-astray",
    "The answer takes another way and is thrown away",
    "a time-out",
    "Make the answer go back by the box that translated the question.",
    "reply-stranger",
    "reply-lost",
    "reply-astray",
    "later-lost",
)
def route_back_astray(case: Case) -> Finding | None:
    """The answer did not come back as the visitor expects it."""
    stop = case.visit.stop
    return Finding("route-back-astray", stop.text, stop.place) if stop is not None else None
