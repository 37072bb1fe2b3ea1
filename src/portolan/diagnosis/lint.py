"""What can be found without asking any question: faults that wait, found from the estate alone."""

from collections.abc import Callable, Iterator
from ipaddress import IPv4Address

from portolan.diagnosis.base import Finding, Severity, all_homes, listed, zone_of
from portolan.diagnosis.lint_edge import EDGE_LINTS
from portolan.diagnosis.lint_names import NAME_LINTS
from portolan.diagnosis.lint_way import WAY_LINTS
from portolan.diagnosis.lint_web import WEB_LINTS
from portolan.diagnosis.renewals import renewals_blocked
from portolan.estate.base import IPAddress, is_public
from portolan.estate.changing import with_facts
from portolan.estate.filter import FilterRule
from portolan.estate.guesses import asked_by, every_origin, machines
from portolan.estate.machine import Forward, Machine
from portolan.estate.records import SERVER_PROGRAMS
from portolan.estate.service import Listener, NameServer, WebService
from portolan.estate.site import Site
from portolan.estate.url import BadUrlError, parse
from portolan.evidence.start import Why
from portolan.http.binding import bound
from portolan.journey.world import World
from portolan.source.nearest import nearest
from portolan.tls.facts import key_fits, shown_by
from portolan.tls.lifetime import late
from portolan.tls.verify import covers

Lint = Callable[[World], Iterator[Finding]]


def lint(world: World) -> list[Finding]:
    """Every finding about an estate, in the order of its lines."""
    found = [finding for check in LINTS for finding in check(world)]
    return sorted(found, key=lambda each: (each.place.span if each.place is not None else ("", 0, 0), each.code))


def zones_that_do_not_load(world: World) -> Iterator[Finding]:
    """Zones that a real server refuses."""
    for zone in world.estate.zones.values():
        if not zone.data.defects:
            continue
        held = [
            service
            for machine in machines(world.estate)
            for service in machine.services.values()
            if isinstance(service, NameServer) and zone.name in service.zones
        ]
        defect = next(filter(None, (zone.data.defect_for(each.program) for each in held)), None)
        defect = defect or (zone.data.defect_for(None) if not held else None)
        unsaid = not held or any(each.program is None for each in held)
        doubt = zone.data.doubt() if defect is None and unsaid else None
        if defect is not None:
            code = "name-alias-at-apex" if defect.record.type == "CNAME" else "name-zone-refused"
            text = f"the zone {zone.name} does not load: {defect.text} ({defect.record.text.strip()})"
            yield Finding(code, text, defect.record.place)
        elif doubt is not None:
            programs = " and ".join(each for each in SERVER_PROGRAMS if each in doubt.refused_by)
            text = f"{programs} would not load the zone {zone.name}: {doubt.text} ({doubt.record.text.strip()})"
            yield Finding("name-zone-refused", text, doubt.record.place, Severity.WARNING)


def doubled_origins(world: World) -> Iterator[Finding]:
    """Names that end in the zone's name twice."""
    for zone in world.estate.zones.values():
        twice = f".{zone.name}.{zone.name}"
        for owner, types in zone.data.nodes.items():
            if owner.endswith(twice):
                record = next(iter(types.values()))[0]
                yield Finding(
                    "name-doubled-origin",
                    f"{owner} ends in the zone's name twice: a final dot is missing",
                    record.place,
                    Severity.WARNING,
                )


def private_addresses(world: World) -> Iterator[Finding]:
    """Private addresses in zones that everybody asks."""
    for zone in world.estate.zones.values():
        # What was guessed leads where its machine is.
        for types in () if zone.guessed else zone.data.nodes.values():
            for record in (*types.get("A", ()), *types.get("AAAA", ())):
                if not is_public(record.data):
                    yield Finding(
                        "name-private-address",
                        f"{record.owner} is {record.data}, which works inside only",
                        record.place,
                        Severity.WARNING,
                    )


def dangling_aliases(world: World) -> Iterator[Finding]:
    """Aliases to names that the estate's own zones do not have."""
    for zone in world.estate.zones.values():
        for types in zone.data.nodes.values():
            for record in types.get("CNAME", ()):
                holder = zone_of(world.estate, record.data)
                if holder is not None and world.naming.index(holder).look(record.data) is None:
                    yield Finding(
                        "name-alias-dangling",
                        f"{record.owner} is an alias of {record.data}, which does not exist",
                        record.place,
                    )


def certificates_in_time(world: World) -> Iterator[Finding]:
    """Certificates that are over, not begun, or soon over."""
    for certificate in world.estate.certificates.values():
        leaf = shown_by(certificate, world.estate, world.shared).leaf
        if leaf.until is not None and world.now > leaf.until:
            yield Finding(
                "cert-expired",
                f"the certificate {certificate.name} was valid until {leaf.until:%Y-%m-%d}",
                certificate.place,
            )
        elif leaf.starts is not None and world.now < leaf.starts:
            yield Finding(
                "cert-not-yet",
                f"the certificate {certificate.name} is valid from {leaf.starts:%Y-%m-%d} on",
                certificate.place,
            )
        elif leaf.until is not None and leaf.until - world.now < late(leaf.starts, leaf.until):
            yield Finding(
                "cert-expired",
                f"the certificate {certificate.name} ends on {leaf.until:%Y-%m-%d}",
                certificate.place,
                Severity.WARNING,
            )


#: What a program does at a reload with a certificate that it does not take, and at its next start (measured).
_AT_RELOAD = {
    "nginx": "nginx keeps what it has at a reload, and does not start at the next boot",
    "Apache httpd": "Apache httpd ends at a graceful reload, and does not start again",
}


def saved_certificates_load(world: World) -> Iterator[Finding]:
    """Certificates that were replaced on disk by something that servers do not take; each told once for each server."""
    showing = {(home.certificate, id(home.service)): home.service for home in all_homes(world.estate)}
    for (name, _), service in showing.items():
        certificate = world.estate.certificates.get(name or "")
        if certificate is None or certificate.saved is None:
            continue
        then = with_facts(certificate, {**certificate.saved.facts, "saved": None})
        program = world.program(service)
        why = then.why_misread(program.reads_keys_loosely)
        if why is None and not key_fits(then):
            why = "its key does not belong to it"
        if why is not None:
            does = _AT_RELOAD.get(program.name, "the service does not start with it")
            text = f"what is saved of the certificate {name} cannot be used: {why}; {does}"
            yield Finding("cert-file", text, certificate.saved.place, Severity.WARNING)


def certificates_cover(world: World) -> Iterator[Finding]:
    """Names of sites with a secure listener that their certificate does not cover."""
    for home in all_homes(world.estate):
        site = home.site
        if not isinstance(site, Site) or not site.enabled:
            continue
        if not any(listener.tls and bound(site, listener) for listener in home.service.listens):
            continue
        name = home.certificate
        if name is None or world.estate.certificates[name].unknown:
            continue
        leaf = shown_by(world.estate.certificates[name], world.estate, world.shared).leaf
        for wanted in site.names:
            if leaf.common is not None and covers(leaf.common, wanted, None):
                text = f"the certificate {name} covers {wanted} by its common name only, which browsers do not take"
                yield Finding("cert-name", text, site.place.key("certificate"), Severity.WARNING)
            elif _behind_an_edge(world, wanted):
                continue
            elif "*" not in wanted and not any(covers(each, wanted, None) for each in leaf.names):
                yield Finding(
                    "cert-name",
                    f"the certificate {name} of the site {site.name} does not cover {wanted}",
                    site.place.key("names"),
                )


def _behind_an_edge(world: World, name: str) -> bool:
    """Whether visitors who ask for a name meet an edge, which does not look for that name in the origin's certificate."""
    for edge in every_origin(world.estate):
        if world.edge(edge)[1].told(name) is None:
            continue
        ways, origin = world.edge(edge)[0], edge.asks
        return origin.leg != "verified" or (ways.host != "kept" and origin.host != name)
    return False


def forwards_lead_somewhere(world: World) -> Iterator[Finding]:
    """Forwards to addresses that no box has, or to ports where nothing listens."""
    for router in machines(world.estate):
        for forward in router.forwards:
            if not forward.enabled:
                continue
            if forward.to is None:
                yield from _redirects_somewhere(world, router, forward)
                continue
            holder = world.topology.holder(forward.to)
            if holder is None:
                yield Finding(
                    "forward-wrong-address",
                    f"no box has {forward.to}, to which port {forward.outside} is forwarded",
                    forward.place,
                    Severity.WARNING,
                )
            elif forward.protocol == "tcp" and forward.outside.first == forward.outside.last:
                port = forward.port or forward.outside.first
                sockets = holder.sockets
                if _sends_on(holder.machine, forward.to, port):
                    continue
                if sockets.choose(forward.to, port, "tcp") is None and sockets.would(forward.to, port, "tcp") is None:
                    yield Finding(
                        "forward-wrong-port",
                        f"nothing listens on port {port} of {holder.label}, to which port "
                        f"{forward.outside} is forwarded",
                        forward.place,
                        Severity.WARNING,
                    )


def _redirects_somewhere(world: World, machine: Machine, forward: Forward) -> Iterator[Finding]:
    """A redirect to a port of the machine itself where nothing listens."""
    port = forward.port
    if port is None or forward.protocol != "tcp" or forward.outside.first != forward.outside.last:
        return
    sockets = world.topology.device(machine).sockets
    places = [*asked_by(machine, forward), IPv4Address("127.0.0.1")]
    if not any(sockets.choose(each, port, "tcp") or sockets.would(each, port, "tcp") for each in places):
        text = f"nothing listens on port {port} of {machine.name}, to which it redirects port {forward.outside}"
        yield Finding("forward-wrong-port", text, forward.place, Severity.WARNING)


def _sends_on(router: Machine | None, address: IPAddress, port: int) -> bool:
    """Whether a machine behind forwards what is asked of one of its addresses."""
    return router is not None and any(
        each.enabled and each.protocol == "tcp" and port in each.outside and address in asked_by(router, each)
        for each in router.forwards
    )


#: Why a service does not start, and the fault that it is.
_WHY_NOT = {
    Why.KEY_MISFIT: "cert-key-differs",
    Why.CERTIFICATE_ORDER: "cert-order",
    Why.FILE_MISREAD: "cert-file",
    Why.CERTIFICATE_REQUESTED: "renewal-blocked",
    Why.CERTIFICATE_WEAK: "cert-weak",
    Why.NO_CERTIFICATE: "cert-missing",
    Why.NO_PRIVILEGE: "service-no-privilege",
    Why.CONFIGURATION_BROKEN: "service-config-broken",
    Why.UPSTREAM_UNKNOWN: "upstream-wrong-address",
    Why.TWO_DEFAULTS: "service-config-broken",
    Why.SECTION_TWICE: "service-config-broken",
    Why.ADDRESS_ABSENT: "listener-wrong-address",
    Why.ADDRESS_IN_USE: "service-port-taken",
}


def services_that_do_not_start(world: World) -> Iterator[Finding]:
    """Services that run by the estate and cannot."""
    for machine in machines(world.estate):
        for failure in world.topology.device(machine).sockets.failures.values():
            yield Finding(
                _WHY_NOT[failure.reason.why],
                f"{failure.service.name} on {machine.name} does not start: {failure.reason}",
                failure.service.place,
            )


def services_that_are_stopped(world: World) -> Iterator[Finding]:
    """Web services with sites that do not run now, and will not by themselves."""
    for machine in machines(world.estate):
        for service in machine.services.values():
            if (
                isinstance(service, WebService)
                and service.sites
                and service.state == "stopped"
                and service.state_after_boot != "running"
            ):
                yield Finding(
                    "service-stopped",
                    f"{service.name} on {machine.name} is stopped: nobody gets {listed(service.sites)}",
                    service.place.key("state"),
                    Severity.WARNING,
                )


def names_have_records(world: World) -> Iterator[Finding]:
    """Names that sites answer to, in zones of the estate that do not have them."""
    for home in all_homes(world.estate):
        site = home.site
        for pattern in site.names if isinstance(site, Site) else ():
            if "*" in pattern:
                continue
            # `.rest` is the name itself and all below it.
            name = pattern.removeprefix(".")
            zone = zone_of(world.estate, name)
            if zone is not None and zone.data.defect_for(None) is None:
                index = world.naming.index(zone)
                in_views = any(world.naming.index(zone, view).look(name) is not None for view in zone.views.values())
                if (
                    index.look(name) is None
                    and not in_views
                    and not (zone.apex_alias is not None and name == zone.name)
                ):
                    near = nearest(name, index.nodes) if len(index.nodes) < 5000 else None
                    hint = f"; {near} exists" if near else ""
                    yield Finding(
                        "name-missing",
                        f"the site {site.name} answers to {name}, which the zone {zone.name} does not have{hint}",
                        site.place.key("names"),
                        Severity.WARNING,
                    )


def hidden_rules(world: World) -> Iterator[Finding]:
    """Allowing rules behind a rule of the same chain that takes everything."""
    for machine in machines(world.estate):
        every = machine.filter.every if machine.filter is not None else ()
        for chain in (
            chain for each in every for chain in (each.inbound, each.forward, each.outbound, *each.chains.values())
        ):
            final: FilterRule | None = None
            for rule in chain.rules if chain is not None else ():
                if final is not None:
                    text = f"rule {int(rule.place.path[-1]) + 1} is never asked: rule {int(final.place.path[-1]) + 1} takes everything"
                    yield Finding("filter-order", text, rule.place, Severity.WARNING)
                elif _takes_all(rule):
                    final = rule


def _takes_all(rule: FilterRule) -> bool:
    return rule.next is None and rule.protocol == "any" and not rule.narrowed


def shadowed_names(world: World) -> Iterator[Finding]:
    """One name at two sites on one listener."""
    for machine in machines(world.estate):
        for service in machine.services.values():
            told: set[tuple[str, str]] = set()
            for listener in service.listens:
                if isinstance(service, WebService):
                    yield from _shadowed(service, listener, told)


def _shadowed(service: WebService, listener: Listener, told: set[tuple[str, str]]) -> Iterator[Finding]:
    seen: dict[str, Site] = {}
    for site in service.sites.values():
        if site.enabled and bound(site, listener):
            for name in site.names:
                other = seen.setdefault(name, site)
                if other is not site and (site.name, name) not in told:
                    told.add((site.name, name))
                    yield Finding(
                        "binding-shadowed",
                        f"{other.name} answers to {name} on {listener} before {site.name} does",
                        site.place.key("names"),
                        Severity.WARNING,
                    )


def expectations_can_be_asked(world: World) -> Iterator[Finding]:
    """Expectations whose URL no client would ask."""
    for expectation in world.estate.expected:
        for key, text in (("url", expectation.url), ("final", expectation.final)):
            if text is None:
                continue
            try:
                parse(text)
            except BadUrlError as error:
                yield Finding("address-typed-wrong", str(error), expectation.place.key(key))


LINTS: tuple[Lint, ...] = (
    zones_that_do_not_load,
    doubled_origins,
    private_addresses,
    dangling_aliases,
    certificates_in_time,
    saved_certificates_load,
    certificates_cover,
    forwards_lead_somewhere,
    services_that_do_not_start,
    services_that_are_stopped,
    names_have_records,
    hidden_rules,
    shadowed_names,
    expectations_can_be_asked,
    renewals_blocked,
    *NAME_LINTS,
    *WAY_LINTS,
    *WEB_LINTS,
    *EDGE_LINTS,
)
