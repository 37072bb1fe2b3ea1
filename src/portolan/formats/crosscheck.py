"""What no single value can know: references, addresses in their subnets, combinations that make no sense.

One function a concern, each noting all that it finds. What an estate may wrongly *configure* is no problem here: it
is for the engine to answer and for the faults to explain.
"""

from collections.abc import Callable
from datetime import datetime
from functools import cache
from itertools import pairwise

from portolan.estate.annotations import annotations_of, bare
from portolan.estate.base import IPAddress, Stated, is_public
from portolan.estate.certificate import Authority, Certificate
from portolan.estate.changing import Changing, Otherwise, booted, others, with_facts
from portolan.estate.estate import Estate
from portolan.estate.guesses import (
    Gateways,
    on_internet,
    passes_on,
    prefix_of,
)
from portolan.estate.machine import HostsFile, Machine
from portolan.estate.network import Interface
from portolan.estate.places import unwritten_names
from portolan.estate.service import Listener, NameServer, Resolver, WebService, sites_of
from portolan.estate.services import AnyService
from portolan.estate.url import BadUrlError, parse
from portolan.estate.vantage import Vantage
from portolan.estate.zone import Zone
from portolan.formats.crosscheck_routes import dots, kinds_of, mtu, neighbour, routes, ruled, sized
from portolan.formats.crosscheck_way import access_list, filters, translations
from portolan.formats.crosscheck_web import machine_folders, site_makes_sense, web_service
from portolan.formats.reader import plan_of
from portolan.formats.record_data import checked_text
from portolan.formats.scalars import UnfitError, host_name
from portolan.formats.since import Since, Written
from portolan.source.nearest import did_you_mean
from portolan.source.place import Place
from portolan.source.plain import one_line
from portolan.source.problem import Problems

#: Names that exist in a section without being written.
BUILT_IN = {"networks": ("internet",), "authorities": ("public", "self")}


def crosscheck(
    estate: Estate,
    problems: Problems,
    damaged: frozenset[tuple[str | int, ...]] = frozenset(),
    clean: Estate | None = None,
) -> None:
    """Notes everything about an estate that its values cannot each know.

    In `damaged` entries, such as ("hosts", "orion"), something could not be read: only their references are looked
    at, and references to them pass. Where nothing is to be noted in a `clean` estate that shares what is unchanged
    with this one, only what changed since, and what rests on that, is looked at.
    """
    note = _Notes(problems, damaged, cache(lambda: Gateways(estate)))
    since = Since(estate, clean)
    for value in since.references():
        _references(estate, value, note)
        if isinstance(value, Changing) and any(later.until < each.until for later, each in pairwise(value.before)):
            note(value.place.key("before"), "the latest change comes first")
    for machine in since.machines():
        _machine(estate, machine, note)
        _other_versions(estate, machine, note)
        _interfaces(machine, note)
    _names_of_machines(estate, note)
    for network in since.entries("networks"):
        access_list(network, note)
    names = Written(estate.zones)
    for zone in since.zones():
        _zone(zone, names, note)
    for certificate in since.entries("certificates"):
        _certificate(certificate, note)
    for authority in since.authorities():
        _authority(estate, authority, note)
    for vantage in since.vantages():
        _vantage(estate, vantage, note)
    if since.edges_or_stores():
        from portolan.formats.crosscheck_edge import edges_and_stores

        edges_and_stores(estate, note)
    _whole(estate, since.names_of_sites(), note)


class _Notes:
    def __init__(
        self, problems: Problems, damaged: frozenset[tuple[str | int, ...]], gateways: Callable[[], Gateways]
    ) -> None:
        self._problems = problems
        self.damaged = damaged
        self.gateways = gateways
        #: What was noted so far, by place.
        self.said: set[tuple[tuple[str | int, ...], str]] = set()

    def __call__(self, place: Place, message: str, hint: str = "", reference: bool = False) -> None:
        self.said.add((place.path, message))
        if not reference and place.path[:2] in self.damaged:
            return
        self._problems.add(place.span, message, one_line(place.object, 200), hint)


class _OfVersion(_Notes):
    """Notes about another version of an object, at its own place: what was not said of the object itself already."""

    def __init__(self, note: _Notes, version: Otherwise) -> None:
        super().__init__(note._problems, note.damaged, note.gateways)
        self._note = note
        self._version = version.place
        self._said_before = frozenset(note.said)

    def __call__(self, place: Place, message: str, hint: str = "", reference: bool = False) -> None:
        if (place.path, message) not in self._said_before:
            within = self._version.path
            here = place if place.path[: len(within)] == within else self._version
            self._note(here, message, hint, reference)


_REFERRING: dict[type, tuple[tuple[str, str, tuple[str, ...]], ...]] = {}


def _references(estate: Estate, value: Stated, note: _Notes) -> None:
    kind = value.owner if isinstance(value, Otherwise) else type(value)
    fields = _REFERRING.get(kind)
    if fields is None:
        found = []
        annotations = annotations_of(kind)
        for key, (field, _) in plan_of(kind).fields.items():
            _, meta = bare(annotations[field])
            if meta is not None and meta.extra and "refers" in meta.extra:
                found.append((key, field, meta.extra["refers"]))
        fields = _REFERRING[kind] = tuple(found)
    for key, field, sections in fields:
        held = value.facts.get(field) if isinstance(value, Otherwise) else getattr(value, field)
        names = (held,) if isinstance(held, str) else held or ()
        for index, name in enumerate(names):
            if not isinstance(name, str):
                continue
            if any(name in getattr(estate, section) for section in sections):
                continue
            known = [
                *BUILT_IN.get(sections[0], ()),
                *(unwritten_names(estate) if sections == ("vantages",) else ()),
                *(each for section in sections for each in getattr(estate, section)),
            ]
            if name not in known and not any((section, name) in note.damaged for section in sections):
                place = value.place.key(key) if isinstance(held, str) else value.place.item(key, index)
                what = sections[0][:-1] if sections[0] != "authorities" else "authority"
                note(place, f"no {what} is named '{one_line(name)}'", did_you_mean(name, known), reference=True)


def _names_of_machines(estate: Estate, note: _Notes) -> None:
    for network in estate.networks.values():
        mtu(network.mtu, network.place, note)
    for name in estate.hosts.keys() & estate.routers.keys():
        note(
            estate.hosts[name].place,
            f"'{one_line(name)}' is the name of a router too",
            "Give one of them another name.",
        )
    internets = [network for network in estate.networks.values() if network.kind == "internet"]
    for network in internets:
        if network.subnets:
            note(network.place.key("subnets"), "the internet has no subnets of its own")
        if network.isolated or network.mtu is not None:
            key = "isolated" if network.isolated else "mtu"
            note(network.place.key(key), f"the internet has no '{key}'", "Say it of an interface, or of a network.")
        if network.name != "internet":
            note(
                network.place,
                "the public internet is one network; it is named 'internet'",
                "Use the name 'internet', or kind 'segment'.",
            )
    named = estate.networks.get("internet")
    if named is not None and named.kind != "internet":
        note(
            named.place, "the network named 'internet' has the kind 'internet'", "Write 'kind: internet', or rename it."
        )


def _machine(estate: Estate, machine: Machine, note: _Notes) -> None:
    for interface in machine.interfaces.values():
        if not interface.place.has("network") and interface.network not in estate.networks:
            note(
                interface.place,
                f"interface '{one_line(interface.name)}' says no network, and no network has its name",
                did_you_mean(interface.name, [*estate.networks, "internet"]) or "Add 'network: ...'.",
            )
        _interface(estate, interface, note)
    routes(estate, machine, note)
    ruled(estate, machine, note)
    dots(machine, note)
    _gateway(estate, machine, note)
    for filtering in machine.filter.every if machine.filter is not None else ():
        filters(filtering, tuple(machine.interfaces), note, passes_on(machine))
    if machine.local_name is not None and not machine.local_name.endswith(".local"):
        note(machine.place.key("local_name"), f"expected a name under .local, found '{one_line(machine.local_name)}'")
    for service in machine.services.values():
        _service(service, note)
    _hosts_file(machine.hosts_file, note)
    machine_folders(machine, note)
    translations(machine, note)
    if "lo" in machine.interfaces:
        note(machine.interfaces["lo"].place, "every machine has the loopback interface 'lo' by itself", "Rename it.")


def _other_versions(estate: Estate, machine: Machine, note: _Notes) -> None:
    """A machine as it was, as it is saved and after a boot, held to what it is held to now: at the version's own place."""
    versions: list[tuple[Otherwise, Machine]] = [(each, with_facts(machine, each.facts)) for each in machine.before]
    if machine.saved is not None:
        versions.append((machine.saved, with_facts(machine, machine.saved.facts)))
    if machine.after_boot is not None:
        versions.append((machine.after_boot, booted(machine)))
    for version, as_then in versions:
        bare = with_facts(as_then, {"before": (), "saved": None, "after_boot": None})
        _machine(estate, bare, _OfVersion(note, version))


def _hosts_file(file: HostsFile | None, note: _Notes) -> None:
    if file is not None and file.file is None and not file.lines:
        note(file.place, "the hosts file says neither 'file' nor 'lines'")


def _line(interface: Interface, kind: str, note: _Notes) -> None:
    if interface.provider_checks_source is not None and kind != "internet":
        note(interface.place.key("provider_checks_source"), "a provider has a line to the internet only")
    kinds_of(interface, note)
    if interface.provider_blocks and kind != "internet":
        note(interface.place.key("provider_blocks"), "a provider blocks ports on a line to the internet only")


def _interface(estate: Estate, interface: Interface, note: _Notes) -> None:
    network = estate.networks.get(interface.network)
    if network is None:
        return
    _line(interface, network.kind, note)
    sized(interface, network, note)
    for address in (
        *interface.address,
        *(each for other in others(interface) for each in other.facts.get("address", ())),
    ):
        place = interface.place.key("address")
        if network.kind == "internet":
            if not is_public(address.ip):
                note(
                    place,
                    f"{address.ip} is no public address, and '{interface.name}' is on the internet",
                    "Put the interface on a network of its own, behind a router; where the provider shares an address, that is "
                    "its router, with 'provider: true'.",
                )
        elif address.ip.is_link_local:
            continue
        elif prefix_of(address, network) is None:
            if network.subnets:
                ranges = ", ".join(map(str, network.subnets))
                note(place, f"{address.ip} lies outside the network {network.name} ({ranges})")
            else:
                note(
                    place,
                    f"the network {network.name} has no subnets, so {address.ip} needs its prefix length",
                    f"Write {address.ip}/24, or give the network its subnets.",
                )
        elif network.subnets and not any(address.ip in subnet for subnet in network.subnets):
            ranges = ", ".join(map(str, network.subnets))
            note(place, f"{address.ip} lies outside the network {network.name} ({ranges})")


def _gateway(estate: Estate, machine: Machine | Vantage, note: _Notes) -> None:
    written = machine.gateway
    if written == "none":
        return
    if written is not None:
        for address in written:
            neighbour(estate, machine, address, machine.place.key("gateway"), note)
        if len({address.version for address in written}) < len(written):
            note(machine.place.key("gateway"), "two gateways of one IP version", "Keep one of each.")
        return
    for version in (4, 6):
        if on_internet(estate, machine, version):
            continue
        names = {name for name, _ in note.gateways().candidates(machine, version)}
        if len(names) > 1:
            note(
                machine.place,
                f"'{one_line(machine.name)}' shares its networks with several routers ({', '.join(sorted(names))})",
                "Say which is its way out with 'gateway', or 'gateway: none'.",
            )
            return


def _service(service: AnyService, note: _Notes) -> None:
    if isinstance(service, NameServer) and not service.zones:
        note(service.place, "a name server needs 'zones'", "Name the zones that it serves.")
    if isinstance(service, WebService):
        web_service(service, note)
    keys: dict[str, Listener] = {}
    for listener in service.listens:
        key = listener.key
        if key in keys:
            note(listener.place, f"the listener '{key}' is written twice", "Keep one of them.")
        keys[key] = listener
        if listener.tls and isinstance(service, NameServer | Resolver):
            note(listener.place, "DNS over TLS is not modelled", "Take 'tls' away.")
    if isinstance(service, WebService):
        for site in service.sites.values():
            site_makes_sense(service, site, keys, note)
    for other in others(service):
        listens = other.facts.get("listens", service.listens)
        new: dict[str, Listener] = {str(each.key): each for each in listens}
        sites = other.facts.get("sites", sites_of(service) if "listens" in other.facts else {})
        if isinstance(service, WebService):
            for site in sites.values():
                site_makes_sense(service, site, new, note)


def _interfaces(machine: Machine, note: _Notes) -> None:
    """One address twice on one box and network; two boxes with one address are a fault to explain, and no error."""
    seen: dict[tuple[str, IPAddress], str] = {}
    for interface in machine.interfaces.values():
        for address in interface.address:
            key = (interface.network, address.ip)
            if seen.setdefault(key, interface.name) != interface.name:
                note(interface.place.key("address"), f"{address.ip} is on interface {one_line(seen[key])} already")


def _zone(zone: Zone, names: Written, note: _Notes) -> None:
    try:
        name = host_name(zone.name)
    except UnfitError as unfit:
        note(zone.place, f"expected {unfit.expected}, found '{one_line(zone.name)}'")
        return
    if names.twice(zone, name):
        note(zone.place, f"the zone {name} is written twice", "Keep one of them.")
    elif name != zone.name:
        note(zone.place, f"a zone's name is written '{name}' here", "In lower case, without the final dot.")
    if zone.file is None and not zone.records:
        note(zone.place, "the zone has neither 'file' nor 'records'", "Name its master file.")
    if zone.without and zone.file is None:
        note(zone.place.key("without"), "'without' is about the records of a 'file'")
    parent = names.above(name)
    if parent is not None:
        for key in ("delegated_to", "glue", "registered_until", "on_hold"):
            if zone.place.has(key):
                note(
                    zone.place.key(key),
                    f"the parent zone {parent} is in the estate; its NS records say who is delegated to",
                    f"Take '{key}' away.",
                )
    _zone_parts(zone, note)


def _zone_parts(zone: Zone, note: _Notes) -> None:
    """What a zone says of its glue, its alias, its versions and its keys."""
    for server in zone.glue:
        if server not in zone.delegated_to:
            note(
                zone.place.key("glue"),
                f"'{one_line(server)}' is not among 'delegated_to'",
                did_you_mean(server, zone.delegated_to),
            )
    if zone.apex_alias is not None and {"A", "AAAA", "CNAME"} & set(zone.data.nodes.get(zone.name, ())):
        note(
            zone.place.key("apex_alias"), f"the zone has addresses or an alias at {zone.name} too", "Keep one of them."
        )
    later: datetime | None = None
    for before in zone.before:
        if later is not None and before.until >= later:
            note(before.place.key("until"), "changes are listed with the latest first", "Put it before the one above.")
        later = before.until
    for version in (*zone.views.values(), *zone.before, *zone.copies.values()):
        if version.file is None and not version.records and not version.without:
            note(version.place, "this version is the same as the zone", "Say 'records', 'without' or 'file'.")
    for text in zone.ds:
        if text[:1].isdecimal() and " " in text:
            try:
                checked_text("DS", text, zone.name)
            except ValueError as error:
                note(zone.place.key("ds"), one_line(str(error), 200))


def _certificate(certificate: Certificate, note: _Notes) -> None:
    declared = [key for key in ("names", "issuer", "from", "until", "sends_chain") if certificate.place.has(key)]
    if certificate.file is not None and declared:
        note(
            certificate.place.key(declared[0]),
            f"'{declared[0]}' is for declared certificates; this one is read from its file",
            "Keep 'file', or declare the certificate.",
        )
    if certificate.file is None and not certificate.names:
        note(certificate.place, "a certificate has 'file', or is declared with 'names'")
    if certificate.key is not None and certificate.file is None:
        note(certificate.place.key("key"), "'key' goes with 'file'")
    if certificate.starts and certificate.until and certificate.until <= certificate.starts:
        note(certificate.place.key("until"), "the certificate ends before it starts")


def _authority(estate: Estate, authority: Authority, note: _Notes) -> None:
    if authority.name in BUILT_IN["authorities"]:
        note(authority.place, f"'{authority.name}' has a meaning of its own here", "Give the authority another name.")
    if authority.file is not None:
        for key in ("issued_by", "from", "until"):
            if authority.place.has(key):
                note(authority.place.key(key), f"'{key}' is for declared authorities; this one is read from its file")
    if authority.issued_by == "self":
        note(authority.place.key("issued_by"), "a root is written without 'issued_by'")
    seen, above = {authority.name}, authority.issued_by
    while above in estate.authorities:
        if above in seen:
            note(authority.place.key("issued_by"), "the authorities issue each other in a circle")
            return
        seen.add(above)
        above = estate.authorities[above].issued_by


def _vantage(estate: Estate, vantage: Vantage, note: _Notes) -> None:
    if (vantage.host is None) == (vantage.network is None):
        note(vantage.place, "a vantage has either 'network' with 'address', or 'host'")
        return
    if vantage.host is not None:
        for key in ("address", "gateway", "routes", "filter", "hosts_file", "resolver", "search", "ndots"):
            if vantage.place.has(key):
                note(vantage.place.key(key), f"the host {one_line(vantage.host)} brings its own '{key}'")
        return
    dots(vantage, note)
    if not vantage.address:
        note(vantage.place, "a vantage on a network needs 'address'")
    network = estate.networks.get(vantage.network or "")
    if network is not None:
        _interface(
            estate,
            Interface(
                place=vantage.place, name=vantage.network or "", network=vantage.network or "", address=vantage.address
            ),
            note,
        )
        routes(estate, vantage, note)
        _gateway(estate, vantage, note)
    for filtering in vantage.filter.every if vantage.filter is not None else ():
        filters(filtering, (), note, False)
    _hosts_file(vantage.hosts_file, note)
    if vantage.redirect_limit is not None and not 0 <= vantage.redirect_limit <= 100:
        note(vantage.place.key("redirect_limit"), f"expected 0 to 100, found {vantage.redirect_limit}")
    for text in (*vantage.remembers_redirects, *vantage.remembers_redirects.values()):
        try:
            parse(text)
        except BadUrlError as error:
            note(vantage.place.key("remembers_redirects"), one_line(str(error), 200))
    if vantage.body < 0:
        note(vantage.place.key("body"), f"expected a number of octets, found {vantage.body}")
    if "self" in vantage.trusts:
        note(vantage.place.key("trusts"), "nobody trusts 'self'", "Name an authority.")


def _whole(estate: Estate, site_names: frozenset[str] | None, note: _Notes) -> None:
    """What vantages and expectations say of each other and of sites; `site_names` are None where none of them went away."""
    defaults = [vantage for vantage in estate.vantages.values() if vantage.default]
    for vantage in defaults[1:]:
        note(vantage.place.key("default"), f"{defaults[0].name} is the default vantage already")
    for expectation in estate.expected:
        site = expectation.site
        if site is not None and site_names is not None and site not in site_names:
            text = f"no site or bucket is named '{one_line(site)}'"
            note(expectation.place.key("page"), text, did_you_mean(site, site_names))
        if expectation.status is not None and not 100 <= expectation.status <= 599:
            note(expectation.place.key("status"), f"expected a status, 100 to 599, found {expectation.status}")
