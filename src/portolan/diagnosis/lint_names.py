"""What can be found about names without asking any question."""

from collections.abc import Iterator
from datetime import timedelta
from functools import partial

from portolan.diagnosis.base import Finding, Severity, all_homes, listed, warned, zone_of
from portolan.diagnosis.resolving import CaaClue, wrong_glue
from portolan.dns.answer import Answer, Asker
from portolan.dns.caa import forbidding
from portolan.dns.signatures import judged, named_keys, signatures_end
from portolan.dns.versions import same_answer
from portolan.dns.zone import Found, Types
from portolan.estate.base import is_public
from portolan.estate.certificate import Certificate
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines, resolvers_named
from portolan.estate.records import Record
from portolan.estate.service import NameServer, Resolver
from portolan.estate.site import Site
from portolan.estate.zone import Zone
from portolan.evidence.kinds import zone as zone_kinds
from portolan.journey.world import World
from portolan.source.nearest import distance, nearest
from portolan.tls.facts import shown_by

#: How much of each end of a circle of aliases is shown.
_MOST_SHOWN = 5
#: What ends within this time is worth a word.
REGISTRATION_SOON, SIGNATURES_SOON = timedelta(days=30), timedelta(days=5)

warned(
    "name-caa-forbids",
    "The next certificate will be refused: CAA records allow other authorities",
    "nothing yet: a warning",
    "Allow the authority in the CAA records of the name or of one above it (RFC 8659), or take one that is allowed.",
    __name__,
)


warned(
    "name-resolver-mistyped",
    "A resolver is named by an address that nobody described has, one slip from one that is described",
    "nothing here, for it is assumed to be somebody's; where it is a slip, no name is found",
    "Look the address up; where it is right, describe the resolver.",
    __name__,
)


def resolvers_by_slip(world: World) -> Iterator[Finding]:
    """Resolvers' addresses that no described box has, beside one that answers questions about names."""
    answering = {
        str(address)
        for machine in machines(world.estate)
        for service in machine.services.values()
        if isinstance(service, NameServer | Resolver)
        for address in machine.addresses
    }
    described = {address for machine in machines(world.estate) for address in machine.addresses}
    for place, address in resolvers_named([*machines(world.estate), *world.estate.vantages.values()]):
        if not is_public(address) or address in described:
            continue
        near = nearest(str(address), answering)
        if near is not None and distance(str(address), near, 1) == 1:
            yield Finding(
                "name-resolver-mistyped",
                f"{address} is assumed to be a resolver that nobody describes; {near}, one slip away, is described",
                place,
                Severity.WARNING,
            )


def registrations(world: World) -> Iterator[Finding]:
    """Registrations that are over, on hold, or soon over."""
    for zone in world.estate.zones.values():
        until = zone.registered_until
        if zone.on_hold:
            yield Finding(
                "name-registration-lapsed", f"the registration of {zone.name} is on hold", zone.place.key("on_hold")
            )
        elif until is not None and world.now >= until:
            yield Finding(
                "name-registration-lapsed",
                f"the registration of {zone.name} ended on {until:%Y-%m-%d}",
                zone.place.key("registered_until"),
            )
        elif until is not None and until - world.now < REGISTRATION_SOON:
            yield Finding(
                "name-registration-lapsed",
                f"the registration of {zone.name} ends on {until:%Y-%m-%d}",
                zone.place.key("registered_until"),
                Severity.WARNING,
            )


def glue(world: World) -> Iterator[Finding]:
    """Glue that is not what the zone itself says."""
    for zone in world.estate.zones.values():
        wrong = wrong_glue(world.estate, zone)
        if wrong is not None:
            server, given, own = wrong
            yield Finding(
                "name-glue-wrong",
                f"the glue of {server} is {given or 'missing'}, and the zone {zone.name} itself says {own}",
                zone.place.key("glue"),
            )


def delegations(world: World) -> Iterator[Finding]:
    """Zones whose delegation leads to another version than the one that was edited."""
    for zone in world.estate.zones.values():
        for copy in zone.copies.values():
            if not set(copy.servers) & set(zone.delegated_to):
                continue
            index = world.naming.index(zone, copy)
            changed = [
                owner
                for owner, types in zone.data.nodes.items()
                if {"A", "AAAA", "CNAME"} & set(types) and not same_answer(_types(index.look(owner)), types)
            ]
            if changed:
                yield Finding(
                    "name-zone-elsewhere",
                    f"the world asks {listed(copy.servers)} for {zone.name}, where {listed(changed)} "
                    f"{'is' if len(changed) == 1 else 'are'} not as here",
                    zone.place.key("delegated_to"),
                )
        parent = zone_of(world.estate, zone.name.partition(".")[2])
        if (
            parent is not None
            and not parent.data.nodes.get(zone.name, {}).get("NS")
            and parent.data.defect_for(None) is None
            and not _held_together(world, parent, zone)
        ):
            yield Finding(
                "name-zone-elsewhere",
                f"the zone {parent.name} does not delegate {zone.name}: nobody asks for it there",
                zone.place,
                Severity.WARNING,
            )


def _held_together(world: World, parent: Zone, zone: Zone) -> bool:
    """Whether every server of the parent zone holds this one too: it answers from the nearest (RFC 1034 section 4.3.2)."""
    holders = [
        service
        for machine in machines(world.estate)
        for service in machine.services.values()
        if isinstance(service, NameServer) and parent.name in service.zones
    ]
    return bool(holders) and all(zone.name in service.zones for service in holders)


def _types(found: object) -> Types | None:
    return found.types if isinstance(found, Found) else None


def signatures(world: World) -> Iterator[Finding]:
    """Keys that do not fit, and signatures that end."""
    for zone in world.estate.zones.values():
        parent = zone_of(world.estate, zone.name.partition(".")[2])
        named = named_keys(zone, parent.data if parent is not None else None)
        if not named:
            continue
        verdict = judged(zone, zone.data, named, world.now, world.shared)
        until = signatures_end(zone, zone.data)
        if verdict.stops:
            yield Finding("name-signature-broken", verdict.text, verdict.place)
        elif until is not None and until - world.now < SIGNATURES_SOON:
            yield Finding(
                "name-signature-broken",
                f"the signatures of {zone.name} end on {until:%Y-%m-%d %H:%M} UTC",
                verdict.place,
                Severity.WARNING,
            )


def views(world: World) -> Iterator[Finding]:
    """Names of sites that a view lacks."""
    for name, zone in _site_names(world.estate):
        for view in zone.views.values():
            held = _types(world.naming.index(zone, view).look(name))
            if held is None and _types(world.naming.index(zone).look(name)) is not None:
                yield Finding(
                    "name-view-split",
                    f"the view {view.name} of {zone.name} has no {name}, which others get",
                    view.place,
                    Severity.WARNING,
                )


def _site_names(estate: Estate) -> Iterator[tuple[str, Zone]]:
    seen = set()
    for home in all_homes(estate):
        for name in home.site.names if isinstance(home.site, Site) else ():
            zone = zone_of(estate, name)
            if "*" not in name and zone is not None and name not in seen:
                seen.add(name)
                yield name, zone


def dead_addresses(world: World) -> Iterator[Finding]:
    """Of several addresses, one that no box has; an IPv6 address where nothing of the site listens."""
    held = world.topology.addresses
    for name, zone in _site_names(world.estate):
        types = zone.data.nodes.get(name, {})
        for kind in ("A", "AAAA"):
            records = types.get(kind, ())
            living = [record for record in (*types.get("A", ()), *types.get("AAAA", ())) if record.data in held]
            for record in records:
                if record.data in held or not living:
                    continue
                code = "name-v6-dead" if kind == "AAAA" else "name-one-address-dead"
                yield Finding(
                    code,
                    f"{name} has the address {record.data}, which no box of the estate has, beside {living[0].data}",
                    record.place,
                    Severity.WARNING,
                )


def changed_addresses(world: World) -> Iterator[Finding]:
    """Records with an address that an interface had before."""
    earlier = {
        item.ip: (machine.name, each)
        for machine in machines(world.estate)
        for interface in machine.interfaces.values()
        for each in interface.before
        for item in each.facts.get("address", ())
    }
    for record in _addresses(world.estate) if earlier else ():
        if record.data in earlier and world.topology.holder(record.data) is None:
            machine, each = earlier[record.data]
            yield Finding(
                "name-address-changed",
                f"{record.owner} is {record.data}, which {machine} had until {each.until:%Y-%m-%d %H:%M} UTC",
                record.place,
            )


def _addresses(estate: Estate) -> Iterator[Record]:
    for zone in estate.zones.values():
        for types in zone.data.nodes.values():
            yield from types.get("A", ())
            yield from types.get("AAAA", ())


def alias_loops(world: World) -> Iterator[Finding]:
    """Aliases that lead back to themselves."""
    walked: set[str] = set()
    for zone in world.estate.zones.values():
        for owner, types in zone.data.nodes.items():
            chain, name, held = {owner: None}, owner, types
            while "CNAME" in held and name not in walked:
                name = held["CNAME"][0].data
                if name in chain:
                    way = [*chain, name]
                    if len(way) > 2 * _MOST_SHOWN:
                        way[_MOST_SHOWN:-_MOST_SHOWN] = [f"{len(way) - 2 * _MOST_SHOWN} more"]
                    yield Finding(
                        "name-alias-loop",
                        f"the aliases go round: {' -> '.join(way)}",
                        types["CNAME"][0].place,
                    )
                    break
                chain[name] = None
                following = zone_of(world.estate, name)
                held = following.data.nodes.get(name, {}) if following is not None else {}
            walked.update(chain)


def wrong_types(world: World) -> Iterator[Finding]:
    """Names of sites that exist without an address."""
    for name, zone in _site_names(world.estate):
        found = world.naming.index(zone).look(name) if zone.data.defect_for(None) is None else None
        if (
            isinstance(found, Found)
            and not {"A", "AAAA", "CNAME", "HTTPS"} & set(found.types)
            and zone.apex_alias is None
        ):
            place = next((records[0].place for records in found.types.values()), zone.place)
            yield Finding(
                "name-wrong-type", f"{name} exists in the zone {zone.name}, and has no address", place, Severity.WARNING
            )


def authorities_are_allowed(world: World) -> Iterator[Finding]:
    """CAA records that forbid the authority of a certificate in use (RFC 8659 section 3)."""
    told = set()
    for home in all_homes(world.estate):
        name = home.certificate
        certificate = world.estate.certificates.get(name or "")
        if certificate is None:
            continue
        leaf = shown_by(certificate, world.estate, world.shared).leaf
        for covered in () if leaf.self_signed else leaf.names:
            found = _forbidden(world, certificate, covered)
            if found is not None and (certificate.name, covered) not in told:
                told.add((certificate.name, covered))
                yield found


def _forbidden(world: World, certificate: Certificate, covered: str) -> Finding | None:
    way = certificate.renews.by if certificate.renews is not None else None
    found = forbidding(world.naming, partial(zone_of, world.estate), certificate, covered, way)
    if found is None:
        return None
    clue = CaaClue(found.zone, found.name, found.tag, found.wanted)
    return Finding("name-caa-forbids", found.text, found.place, Severity.WARNING, clue)


def delegated_nowhere(world: World) -> Iterator[Finding]:
    """Zones whose registration names servers that nobody finds, or that are found in a circle only."""
    for zone in world.estate.zones.values():
        if not zone.delegated_to:
            continue
        answer = Answer()
        world.naming.recurse(zone.name, Asker("an ordinary resolver"), answer)
        lost = next((each for each in answer.decisions if isinstance(each, zone_kinds.ServersFail)), None)
        if lost is not None and lost.zone == zone.name:
            yield Finding("name-delegation-lame", lost.text, lost.place)


NAME_LINTS = (
    delegated_nowhere,
    registrations,
    glue,
    delegations,
    signatures,
    views,
    dead_addresses,
    changed_addresses,
    alias_loops,
    wrong_types,
    authorities_are_allowed,
    resolvers_by_slip,
)
