"""Faults of the way in: forwards, filters, groups, routes."""

from portolan.estate.filter import Chain, Filter, FilterRule
from portolan.estate.machine import Forward, Router
from portolan.estate.network import Group, Interface
from portolan.faults.base import Case, Finding, Home, addresses_of, all_homes, fault, listed
from portolan.wire.topology import Device

_AT_ROUTER = ("nothing-listens", "filter-drops", "filter-rejects", "service-stopped", "wrong-page", "not-found",
              "no-default", "plain-spoken", "name-mismatch", "not-web", "self-signed", "issuer-unknown")  # fmt: skip


@fault("hairpin-missing", "The public address is asked from inside, and the router does not turn it round",
       "a time-out, a refusal or the router's own page, inside only",
       "Let the router apply its forwards to packets from inside, and send them on under its own address; or give the "
       "name its inside address in an inside view.", *_AT_ROUTER, "reply-stranger", "reply-lost")  # fmt: skip
def hairpin_missing(case: Case) -> Finding | None:
    """A forward exists for the port, and packets from inside do not get it, or their answer goes astray."""
    connection = case.last.connection
    if connection is None:
        return None
    for router in case.estate.routers.values():
        if router.hairpin == "full":
            continue
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
                text = (f"{case.visit.vantage.name} asks {router.name}'s outside address {connection.address} from inside, "
                        f"and {router.name} does not turn it round")  # fmt: skip
                return Finding("hairpin-missing", text, router.place, hints={"router": router})
    return None


def _came_from_inside(case: Case, router: Router, forward: Forward) -> bool:
    stop = case.stop
    if stop is not None and stop.kind in ("reply-stranger", "reply-lost"):
        return router.hairpin == "destination-only"
    return router.hairpin == "off" and case.decision("forwarded") is None and _reached(case) is router and not _arrived_on(
        case, router, forward
    )  # fmt: skip


def _arrived_on(case: Case, router: Router, forward: Forward) -> bool:
    """Whether the visit came in by the forward's own interface."""
    outside = router.interfaces[forward.on]
    network = outside.network or outside.name
    carried = case.decision("internet-carries")
    if carried is not None:
        return network == "internet"
    vantage = case.visit.vantage
    return vantage.network == network


def _reached(case: Case) -> object:
    """The machine at which the visit ended."""
    connection = case.last.connection
    if connection is not None and connection.reached is not None:
        return connection.reached
    stop = case.stop
    if stop is None or stop.place is None:
        return None
    path = stop.place.path
    if len(path) >= 2 and path[0] in ("routers", "hosts"):
        return (case.estate.routers if path[0] == "routers" else case.estate.hosts).get(str(path[1]))
    return None


@fault("forward-disabled", "The forward exists, and is switched off", "as if it were missing",
       "Switch it on.", *_AT_ROUTER)  # fmt: skip
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


@fault("forward-missing", "No forward for this port", "a time-out or a refusal, from outside",
       "Add the forward to the server's inside address. Port 80 is often forwarded and 443 forgotten.", *_AT_ROUTER)  # fmt: skip
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
    others = sorted({str(forward.outside) for forward in router.forwards
                     if forward.enabled and forward.to in addresses_of(home.machine)})  # fmt: skip
    too = f" (it forwards {listed(others)} there)" if others else ""
    text = f"{router.name} has no forward for port {connection.port} to {home.machine.name}{too}"
    return Finding("forward-missing", text, router.place.key("forwards"), hints={"router": router, "home": home})


def _own_address_asked(case: Case) -> Router | None:
    """The router whose own address was asked, when the packet was not forwarded and no service of its own was meant."""
    if case.decision("forwarded") is not None:
        return None
    connection = case.last.connection
    machine = _reached(case)
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


@fault("forward-wrong-address", "The forward leads to an address that is not the server's", "a time-out",
       "Correct the forward's inside address; fix the server's address so that a lease cannot change it.",
       "neighbour-missing", "nothing-listens", "not-a-router", "no-route", "wrong-page", "service-stopped",
       "filter-drops", "group-drops")  # fmt: skip
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
    whose = f"which is {holder.label}'s" if holder is not None else "which no box has"
    text = f"the forward of port {connection.port} leads to {forward.to}, {whose}; the site {home.site.name} is on {home.machine.name}"
    return Finding("forward-wrong-address", text, forward.place, hints={"forward": forward, "home": home})


@fault("forward-wrong-port", "The forward leads to a port where nothing, or something else, listens", "a refusal, or another page",
       "Correct the forward's inside port.", "nothing-listens", "plain-spoken", "plain-on-tls", "wrong-page", "not-web",
       "filter-drops")  # fmt: skip
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


@fault("outbound-blocked", "The asker's own machine or network stops that port", "a time-out, there only",
       "Open the port on the asker's side, or ask from elsewhere.", "filter-drops", "filter-rejects", "group-drops")  # fmt: skip
def outbound_blocked(case: Case) -> Finding | None:
    """The visitor's own filter drops it."""
    stop = case.stop
    if stop is None or stop.place is None or stop.place.path[:1] != ("vantages",):
        return None
    return Finding("outbound-blocked", stop.text, stop.place, hints={"chain": _chain(case)})


@fault("filter-order", "The allowing rule stands behind the one that drops", "a time-out",
       "Put the allowing rule before the one that drops.", "filter-drops", "filter-rejects")  # fmt: skip
def filter_order(case: Case) -> Finding | None:
    """A later rule of the same chain would have let it pass."""
    stop, chain = case.stop, _chain(case)
    if stop is None or chain is None or not isinstance(stop.subject, FilterRule):
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
    return rule.protocol in ("tcp", "any") and (not rule.ports or any(port in each for each in rule.ports)) and not (
        rule.sources or rule.destinations or rule.source_ports or rule.state
    )  # fmt: skip


@fault("filter-drops", "A filter's rule or default drops it", "a time-out",
       "Allow the port, for those who are meant, before the rule that drops.", "filter-drops")  # fmt: skip
def filter_drops(case: Case) -> Finding | None:
    """The filter said no without a word."""
    return _filtered(case, "filter-drops")


@fault("filter-rejects", "A filter's rule or default rejects it", "a refusal, or unreachable",
       "Allow the port, for those who are meant, before the rule that rejects.", "filter-rejects")  # fmt: skip
def filter_rejects(case: Case) -> Finding | None:
    """The filter said no, and said so."""
    return _filtered(case, "filter-rejects")


def _filtered(case: Case, code: str) -> Finding | None:
    stop = case.stop
    if stop is None:
        return None
    return Finding(
        code, stop.text, stop.place, hints={"chain": _chain(case), "rule": stop.subject, "port": case.asked_port}
    )


def _chain(case: Case) -> Chain | None:
    """The chain whose rule or default decided."""
    stop = case.stop
    if stop is None or stop.place is None:
        return None
    path = stop.place.path
    at = path.index("filter") if "filter" in path else -1
    if at < 0 or len(path) <= at + 1:
        return None
    owner = _reached(case) if path[0] in ("routers", "hosts") else case.visit.vantage
    filtering: Filter | None = getattr(owner, "filter", None)
    return getattr(filtering, str(path[at + 1]), None) if filtering is not None else None


@fault("group-wrong-source", "A security group allows the port, and not for this asker", "a time-out for some",
       "Widen the source range to those who are meant, and no further.", "group-drops")  # fmt: skip
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
                return Finding(
                    "group-wrong-source", text, rule.place, hints={"rule": rule, "group": group, "port": port}
                )
    return None


@fault("group-missing-port", "No security group on the interface allows the port", "a time-out",
       "Allow the port in a group of that interface.", "group-drops")  # fmt: skip
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


@fault("route-missing", "No route to or from the server", "unreachable, or a time-out",
       "Give the machine a gateway or a route; a private source needs a router that masquerades.",
       "no-route", "source-private", "no-source", "turns-in-circles")  # fmt: skip
def route_missing(case: Case) -> Finding | None:
    """Some box has no route, or no public address to send from."""
    stop = case.stop
    if stop is None:
        return None
    subject = stop.subject.stated if isinstance(stop.subject, Device) else stop.subject
    return Finding("route-missing", stop.text, stop.place, hints={"device": subject})


@fault("route-back-astray", "The answer takes another way and is thrown away", "a time-out",
       "Make the answer go back by the box that translated the question.", "reply-stranger", "reply-lost", "reply-astray")  # fmt: skip
def route_back_astray(case: Case) -> Finding | None:
    """The answer did not come back as the visitor expects it."""
    stop = case.visit.stop
    return Finding("route-back-astray", stop.text, stop.place) if stop is not None else None
