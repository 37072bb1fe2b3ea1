"""What a change lays open, computed from the worlds before and after it: nobody who proposes a change says how safe it is.

Looked at: who can newly connect to what, pages that newly come without encryption, legs that are no longer encrypted or
verified, what can newly be read, refusals that somebody set on purpose, and whom visitors newly trust. A vantage on the
internet stands for everybody there, one on a segment for itself; beside the estate's vantages ask a stranger on the internet,
one from each range that a rule names, and a neighbour on each segment.
"""

from collections.abc import Iterable, Iterator
from ipaddress import IPv4Address, IPv6Address, ip_interface
from typing import Any, NamedTuple

import msgspec

from portolan.diagnosis.exposure_edge import bucket_gains, edge_gains, edge_ranges, objects_told
from portolan.diagnosis.gains import STRANGER, Asked, Gain, Grade
from portolan.diagnosis.proposal import Safety
from portolan.estate.base import IPAddress, IPNetwork, is_public, same_facts
from portolan.estate.client import PassingProgram
from portolan.estate.content import Holding
from portolan.estate.estate import Estate
from portolan.estate.guesses import attachments, machines
from portolan.estate.machine import Machine
from portolan.estate.service import Service, WebService, sites_of
from portolan.estate.site import Site
from portolan.estate.url import BadUrlError, parse
from portolan.estate.vantage import Vantage
from portolan.evidence.legs import Arrival, Exchange
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World

#: How many connections are compared at most for one change, and how many pages.
MOST_REACH, MOST_PAGES = 24_000, 60
_MOST_STRANGERS = 8
#: A forward of so many ports is looked at port by port.
_FEW_PORTS = 16
_REACHES = " can newly reach "
_REFUSALS = frozenset((401, 403, 404, 410, 451))


class Exposure(NamedTuple):
    """All that a change lays open; `whole` says whether everything was looked at, `closed` whether a refusal that is meant is lifted."""

    gains: tuple[Gain, ...]
    whole: bool = True
    closed: bool = False

    @property
    def safety(self) -> Safety:
        """The class by itself; a smaller form of the same change may make it `weakens`."""
        if any(gain.grade == "more" for gain in self.gains):
            return Safety.WEAKENS
        return Safety.OPENS if self.gains or not self.whole else Safety.SAFE

    @property
    def told(self) -> tuple[str, ...]:
        """What is laid open in words, those who gain the same in one sentence."""
        found: dict[str, list[str]] = {}
        objects = objects_told(self.gains)
        for gain in self.gains:
            text = objects.get(gain.key, gain.text)
            found.setdefault(text, []).append(gain.key[1])
        return tuple(f"{', '.join(who)}{text}" if text.startswith(_REACHES) else text for text, who in found.items())

    @property
    def beside(self) -> frozenset[tuple[str, ...]]:
        """What comes with it beyond what is expected."""
        return frozenset(gain.key for gain in self.gains if gain.grade != "needed")


class _Asker(NamedTuple):
    """Who tries to connect: a vantage, whether it is one of those that the expectation names, and whether it stands for all."""

    label: str
    vantage: Vantage
    meant: bool
    anybody: bool


def exposure(before: World, after: World, asked: Asked, seen: Visit) -> Exposure:
    """What a change of the world lays open; `seen` is what the visitor gets after it."""
    gains: list[Gain] = []
    whole = True
    if not _same_boxes(before.estate, after.estate):
        reached, whole = _reach(before, after, asked, seen)
        gains += reached
        gains += _listeners(before.estate, after.estate)
    gains += _pages(before, after, asked)
    lifted, closed = _sites(before.estate, after.estate, asked, seen)
    gains += lifted
    gains += _granted(before.estate, after.estate, seen)
    then = visit(before, asked.url, before.estate.vantages.get(asked.vantage.name, asked.vantage))
    gains += _legs(then, seen)
    gains += bucket_gains(before.estate, after.estate, seen)
    gains += edge_gains(before, after, then, seen, asked.marks)
    gains += _forcing(before, after, asked)
    gains += _trust(before.estate, after.estate, asked)
    return Exposure(tuple({gain.key: gain for gain in reversed(gains)}.values())[::-1], whole, closed)


def _same_boxes(one: Estate, other: Estate) -> bool:
    """Whether nothing differs that carries or takes packets."""
    return all(
        len(left) == len(right) and all(right.get(name) is each for name, each in left.items())
        for left, right in (
            (one.routers, other.routers),
            (one.hosts, other.hosts),
            (one.groups, other.groups),
            (one.networks, other.networks),
        )
    )


# -- who can newly connect to what -----------------------------------------------------------------------------------


def _reach(before: World, after: World, asked: Asked, seen: Visit) -> tuple[list[Gain], bool]:
    askers = _askers(before.estate, after.estate, asked)
    targets = _targets(after)
    whole = len(askers) * len(targets) <= MOST_REACH
    if not whole:
        touched = _touched(before.estate, after.estate)
        targets = [each for each in targets if each[3] in touched] or targets
        askers = [each for each in askers if each.anybody or each.vantage.name == asked.vantage.name]
        targets = targets[: MOST_REACH // max(1, len(askers))]
    then, now = _peopled(before, askers), _peopled(after, askers)
    used = {(each.service.place.path, each.listener.port) for each in _arrivals(seen.exchanges)}
    services = {path for path, _ in used}
    # What programs ask by themselves; visitors need no way of their own to it.
    behind = {each.service.place.path for each in _arrivals(seen.tree)} - services
    ranges = edge_ranges(seen)
    # What stood still and is behind an edge: whoever starts it does not choose who reaches it.
    started = _started(before.estate, after.estate)
    found = []
    for asker in askers:
        name = asker.vantage.name
        of_edges = any(item.ip in each for item in asker.vantage.address for each in ranges)
        for address, port, protocol, _ in targets:
            arrival = now.connect(now.estate.vantages[name], address, port, protocol).arrival
            if arrival is None or then.connect(then.estate.vantages[name], address, port, protocol).arrival is not None:
                continue
            path = arrival.service.place.path
            if (asker.meant and (path, arrival.listener.port) in used) or (of_edges and path in behind):
                grade: Grade = "needed"
            elif (path in services and not ("private" in asked.marks and asker.anybody and not asker.meant)) or (
                path in behind and (not asker.anybody or path in started) and "private" not in asked.marks
            ):
                grade = "beside"
            else:
                grade = "more"
            what = f"{arrival.service.name} on {arrival.machine.name} at {address} port {port}"
            text = f"{_REACHES}{what}" + ("" if protocol == "tcp" else f" ({protocol})")
            key = ("reach", asker.label, "/".join(map(str, path)), str(address), str(port), protocol)
            found.append(Gain("reach", key, text, grade))
    return found, whole


def _started(before: Estate, after: Estate) -> set[tuple[str | int, ...]]:
    """The services that were stopped, and run."""
    old = _services(before)
    return {
        service.place.path
        for path, service in _services(after).items()
        if path in old and old[path].state == "stopped" and service.state == "running"
    }


def _arrivals(exchanges: Iterable[Exchange]) -> list[Arrival]:
    """Where the connections that opened led to."""
    return [
        each.connection.arrival
        for each in exchanges
        if each.connection is not None and each.connection.arrival is not None
    ]


def _askers(before: Estate, after: Estate, asked: Asked) -> list[_Asker]:
    """The estate's vantages, a stranger, one from each range that rules name, and a neighbour on each segment."""
    named = asked.expectation.vantages if asked.expectation is not None and asked.expectation.vantages else ()
    meant = (
        {*named, asked.vantage.name} if named or asked.expectation is None else {*after.vantages, asked.vantage.name}
    )
    public = any(_on_internet(after, vantage) for name, vantage in after.vantages.items() if name in meant)
    found = [
        _Asker(name, vantage, name in meant or (public and _on_internet(after, vantage)), _on_internet(after, vantage))
        for name, vantage in after.vantages.items()
    ]
    if asked.vantage.name not in after.vantages:
        found.append(_Asker(asked.vantage.name, asked.vantage, True, _on_internet(after, asked.vantage)))
    boxes: list[Machine | Vantage] = [*machines(after), *after.vantages.values()]
    held = {item.ip for box in boxes for _, addresses in attachments(box) for item in addresses}
    found.append(
        _Asker("anybody on the internet", Vantage(name="(anybody)", network="internet", address=STRANGER), public, True)
    )
    for number, network in enumerate(_ranges(before, after)):
        address = next((each for each in _samples(network) if each not in held and is_public(each)), None)
        if address is not None and len(found) < len(after.vantages) + _MOST_STRANGERS:
            place = (ip_interface(f"{address}/{address.max_prefixlen}"),)
            found.append(
                _Asker(
                    f"anybody in {network}",
                    Vantage(name=f"(range {number})", network="internet", address=place),
                    public,
                    True,
                )
            )
    for name, segment in after.networks.items():
        free = [
            next((each for each in list(_samples(subnet))[::-1] if each not in held), None)
            for subnet in segment.subnets
        ]
        addresses = tuple(ip_interface(f"{each}/{each.max_prefixlen}") for each in free if each is not None)
        if segment.kind != "internet" and addresses:
            found.append(
                _Asker(
                    f"others on {name}",
                    Vantage(name=f"(neighbour on {name})", network=name, address=addresses),
                    False,
                    False,
                )
            )
    return found


def _on_internet(estate: Estate, vantage: Vantage) -> bool:
    box: Machine | Vantage | None = vantage
    if vantage.host is not None:
        box = estate.hosts.get(vantage.host) or estate.routers.get(vantage.host)
    networks = [name for name, _ in attachments(box)] if box is not None else []
    return any(
        name == "internet" or (name in estate.networks and estate.networks[name].kind == "internet")
        for name in networks
    )


def _samples(network: IPNetwork) -> Iterator[IPAddress]:
    """Some addresses of a range, from both ends."""
    first, last = int(network.network_address), int(network.broadcast_address)
    kind = IPv4Address if network.version == 4 else IPv6Address
    for offset in (1, 2, 3, 5, 77, 0):
        for value in (first + offset, last - offset):
            if first <= value <= last:
                yield kind(value)


def _ranges(before: Estate, after: Estate) -> list[IPNetwork]:
    """Source ranges that stand in the changed world and not in the earlier one."""
    return sorted(_sources(after) - _sources(before), key=str)


def _sources(estate: Estate) -> set[IPNetwork]:
    found: set[IPNetwork] = set()
    for group in estate.groups.values():
        found.update(each for rule in group.inbound for each in rule.peers if not isinstance(each, str))
    for machine in machines(estate):
        found.update(each for forward in getattr(machine, "forwards", ()) for each in forward.sources)
        filtering = machine.filter
        if filtering is not None:
            chains = [filtering.inbound, filtering.forward, *filtering.chains.values()]
            found.update(each for chain in chains if chain is not None for rule in chain.rules for each in rule.sources)
            found.update(each for area in filtering.areas.values() for each in area.sources)
    return found


def _targets(world: World) -> list[tuple[IPAddress, int, str, str]]:
    """Every address, port and protocol at which something might take a packet, with the machine that has the address."""
    found: dict[tuple[IPAddress, int, str], str] = {}
    every = tuple(machines(world.estate))
    bound = {
        machine.name: {(each.port, each.protocol) for each in world.topology.device(machine).sockets.bindings}
        for machine in every
    }
    forwards = [forward for machine in every for forward in getattr(machine, "forwards", ())]
    #: The ports at which anything may be taken or sent on, which is all that counts of a wide forward.
    taken = {pair for ports in bound.values() for pair in ports}
    taken |= {(port, each.protocol) for each in forwards for port in (each.outside.first, each.outside.last)}
    for machine in every:
        ports = set(bound[machine.name])
        for forward in getattr(machine, "forwards", ()):
            outside = forward.outside
            shift = outside.first - (forward.port or outside.first)
            every_port = range(outside.first, outside.last + 1)
            if len(every_port) <= _FEW_PORTS:
                ports |= {(port, forward.protocol) for port in every_port}
            else:
                ports |= {
                    (port + shift, protocol)
                    for port, protocol in taken
                    if protocol == forward.protocol and port + shift in every_port
                }
        for interface in machine.interfaces.values():
            for item in interface.address:
                for port, protocol in sorted(ports):
                    found[item.ip, port, protocol] = machine.name
        for pair in getattr(machine, "one_to_one", ()):
            holder = world.topology.holder(pair.inside)
            for binding in holder.sockets.bindings if holder is not None else ():
                found[pair.outside, binding.port, binding.protocol] = machine.name
    return [(*each, name) for each, name in found.items()]


def _touched(before: Estate, after: Estate) -> set[str]:
    """The machines that a change is about."""
    old = {machine.name: machine for machine in machines(before)}
    return {machine.name for machine in machines(after) if old.get(machine.name) is not machine}


def _peopled(world: World, askers: list[_Asker]) -> World:
    """The world with everybody in it who asks; made once for the same people."""
    people = tuple(sorted(f"{each.label} {each.vantage.address} {each.vantage.trusts}" for each in askers))
    key = ("peopled", id(world.estate), people)
    found = world.shared.get(key)
    if found is None:
        vantages = {**world.estate.vantages, **{each.vantage.name: each.vantage for each in askers}}
        found = world.shared[key] = (
            world.changed(msgspec.structs.replace(world.estate, vantages=vantages)),
            world.estate,
        )
    made: World = found[0]
    return made


def _listeners(before: Estate, after: Estate) -> Iterator[Gain]:
    """Listeners that spoke TLS and do not any more."""
    earlier = _services(before)
    for path, service in _services(after).items():
        old = earlier.get(path)
        secure = {each.key for each in old.listens if each.tls} if old is not None else set()
        for listener in service.listens:
            if listener.key in secure and not listener.tls:
                text = f"{service.name} on {path[1]} no longer encrypts what is said on {listener}"
                yield Gain("unencrypted", ("listener", *map(str, path), listener.key), text, "more")


def _services(estate: Estate) -> dict[tuple[str, ...], Service]:
    return {
        ("machine", machine.name, name): service
        for machine in machines(estate)
        for name, service in machine.services.items()
    }


# -- pages without encryption ----------------------------------------------------------------------------------------


def _pages(before: World, after: World, asked: Asked) -> Iterator[Gain]:
    """Pages that came encrypted, or not at all, and now come plain."""
    vantages = [asked.vantage, *(each for each in after.estate.vantages.values() if each.name != asked.vantage.name)]
    urls = _urls(before, after, asked)
    for url in urls:
        for vantage in vantages[: max(1, MOST_PAGES // len(urls))]:
            now = visit(after, url, after.estate.vantages.get(vantage.name, vantage))
            if now.outcome.kind != "served" or now.outcome.secure:
                continue
            then = visit(before, url, before.estate.vantages.get(vantage.name, vantage))
            if then.outcome.kind == "served" and not then.outcome.secure:
                continue
            key = ("plain", url, vantage.name)
            page = now.outcome.page or url
            if any(each.handshake is not None or each.url.secure for each in then.exchanges):
                yield Gain(
                    "unencrypted",
                    key,
                    f"{vantage.name} gets {page} without encryption, where the way was encrypted before",
                    "more",
                )
                continue
            grade: Grade = "beside"
            if str(parse(asked.url)) == url:
                guarded = asked.marks & {"takes-payments", "private"} or (
                    asked.expectation is not None and asked.expectation.secure
                )
                grade = "more" if guarded else "needed"
            yield Gain("plain", key, f"{vantage.name} newly gets {page} without encryption", grade)


def _urls(before: World, after: World, asked: Asked) -> list[str]:
    """The URL asked, the same in the other scheme, and both of every name of a service that the change is about."""
    url = parse(asked.url)
    found = [str(url)]
    hosts = [url.shown_host]
    old = _services(before.estate)
    for path, service in _services(after.estate).items():
        if isinstance(service, WebService) and old.get(path) is not service:
            hosts += [name for site in service.sites.values() for name in site.names if "*" not in name]
    for host in dict.fromkeys(hosts):
        for scheme in ("http", "https"):
            try:
                found.append(str(parse(f"{scheme}://{host}{url.path if host == url.shown_host else '/'}")))
            except BadUrlError:
                continue
    return list(dict.fromkeys(found))[: MOST_PAGES // 2]


def _legs(then: Visit, seen: Visit) -> Iterator[Gain]:
    """Legs between programs that were encrypted, or verified, and are so no longer."""
    old = {
        each.client.place.path: each for each in then.tree if isinstance(each.client, PassingProgram) and each.attempts
    }
    for each in seen.tree:
        client = each.client
        was = old.get(client.place.path) if isinstance(client, PassingProgram) else None
        if was is None or not isinstance(client, PassingProgram) or not isinstance(was.client, PassingProgram):
            continue
        key = ("leg", *map(str, client.place.path))
        if was.url.secure and not each.url.secure:
            yield Gain("unencrypted", key, f"{client.site.name} no longer asks {each.url} encrypted", "more")
        elif was.client.upstream.verifies and not client.upstream.verifies:
            yield Gain("unverified", key, f"{client.site.name} no longer checks whom it asks at {each.url}", "more")


def _forcing(before: World, after: World, asked: Asked) -> Iterator[Gain]:
    """Sites that sent whoever asks plainly to a secure address, and now answer plainly: asked at the machine itself, by name."""
    old = _services(before.estate)
    path = parse(asked.url).path
    for machine in machines(after.estate):
        for service in machine.services.values():
            was = old.get(("machine", machine.name, service.name))
            if was is service or not isinstance(was, WebService) or not isinstance(service, WebService):
                continue
            for name, site in service.sites.items():
                if name not in was.sites or site.redirects is was.sites[name].redirects:
                    continue
                named = next(
                    (str(each) for each in site.names if each and each[0] not in "*." and "*" not in each), None
                )
                if _sent(before, machine.name, was, named, path) and not _sent(
                    after, machine.name, service, named, path
                ):
                    text = f"{service.name} no longer sends plain requests for {site.name} to a secure address"
                    yield Gain("unencrypted", ("forcing", machine.name, service.name, name), text, "more")


def _sent(world: World, machine: str, service: WebService, named: str | None, path: str) -> bool:
    """Whether a plain request at one of the service's listeners is sent to a secure address."""
    there = world.estate.hosts.get(machine) or world.estate.routers[machine]
    asker = Vantage(name="(at the machine)", host=machine, says_host=named)
    for listener in service.listens:
        address = listener.address if listener.address and int(listener.address) else next(iter(there.addresses), None)
        if listener.tls or address is None:
            continue
        shown = f"[{address}]" if address.version == 6 else str(address)
        response = visit(world, f"http://{shown}:{listener.port}{path}", asker).exchanges[0].response
        if response is not None and (response.location or "").startswith("https:"):
            return True
    return False


# -- what can be read, what was refused, whom visitors trust -----------------------------------------------------------


def _sites(before: Estate, after: Estate, asked: Asked, seen: Visit) -> tuple[list[Gain], bool]:
    found: list[Gain] = []
    closed = False
    response = seen.exchanges[-1].response
    reached = response.site.place.path if response is not None and response.site is not None else None
    old = dict(_each_site(before))
    for path, site in _each_site(after):
        was = old.get(path)
        if was is None or was is site:
            continue
        meant: Grade = "needed" if site.place.path == reached else "more"
        if (site.listing or any(each.listing for each in site.sections)) and not was.listing:
            found.append(
                Gain(
                    "readable",
                    ("listing", *path),
                    f"everybody who reaches {site.name} can read what its folders hold",
                    "more",
                )
            )
        if site.in_force and not was.in_force:
            found.append(
                Gain(
                    "readable",
                    ("site", *path),
                    f"the pages of {site.name} can be read by everybody who reaches it",
                    meant,
                )
            )
        found += _admitted(path, was, site, edge_ranges(seen))
        if was.answer in _REFUSALS and site.answer != was.answer:
            found.append(
                Gain(
                    "lifted",
                    ("answer", *path),
                    f"{site.name} no longer answers {was.answer}, which was set on purpose",
                    meant,
                )
            )
            closed = closed or "closed" in was.marks or "closed" in asked.marks
    return found, closed


def _admitted(path: tuple[str, ...], was: Site, site: Site, meant: frozenset[IPNetwork]) -> Iterator[Gain]:
    """Who is newly let in by the rules of a site and its sections."""
    pairs = [(was, site), *zip(was.sections, site.sections, strict=False)]
    if len(site.sections) < len(was.sections):
        pairs += [(old, site) for old in was.sections[len(site.sections) :]]
    for number, (old, new) in enumerate(pairs):
        before, after = old.access, new.access
        if before is None or after is before or same_facts(before, after):
            continue
        named = f"{site.name}{'' if number == 0 else ' ' + getattr(new, 'shown', '')}"
        if after is None or (before.password and not after.password):
            who = "without a password" if before.password else "who was kept out"
            yield Gain("readable", ("access", *path, str(number)), f"everybody {who} is let in by {named}", "more")
            continue
        new_ranges = set(after.sources) - set(before.sources)
        gone = set(before.not_sources) - set(after.not_sources)
        whole = (before.sources and not after.sources) or (before.nobody and not after.nobody and not after.sources)
        if gone or whole or (after.either and not before.either):
            yield Gain("readable", ("access", *path, str(number)), f"more visitors are let in by {named}", "more")
        for each in sorted(new_ranges, key=str):
            single = each.num_addresses == 1 or each in meant
            text = f"whoever comes from {each} is let in by {named}"
            yield Gain("readable", ("access", *path, str(number), str(each)), text, "needed" if single else "more")


def _granted(before: Estate, after: Estate, seen: Visit) -> Iterator[Gain]:
    """Folders that a server is newly granted, and files that its identity may newly read."""
    old = _services(before)
    response = seen.exchanges[-1].response
    reached = response.site if response is not None else None
    for path, service in _services(after).items():
        was = old.get(path)
        if not isinstance(service, WebService) or not isinstance(was, WebService) or service is was:
            continue
        for folder in sorted(set(service.grants or ()) - set(was.grants or ())) if was.grants is not None else ():
            meant = isinstance(reached, Site) and folder == reached.folder
            text = f"{service.name} can newly serve all that lies in {folder}"
            yield Gain("readable", ("grant", *path, str(folder)), text, "needed" if meant else "more")
    for machine in machines(after):
        known = next((each for each in machines(before) if each.name == machine.name), None)
        if known is None or known is machine:
            continue
        for name, holding, earlier in _holdings(known, machine):
            for key, rights in holding.rights.items():
                then = earlier.rights.get(key)
                if then is not None and then != rights:
                    wider = rights.mode & 0o007 & ~then.mode
                    who = "everybody on the machine" if wider else rights.group
                    text = f"{who} may read or pass {key} of {name} ({rights} instead of {then})"
                    yield Gain(
                        "readable", ("rights", machine.name, name, str(key)), text, "beside" if wider else "needed"
                    )


def _holdings(before: Machine, after: Machine) -> Iterator[tuple[str, Holding, Holding]]:
    """Every folder of a machine that both worlds have, with its name."""
    for name, folder in after.folders.items():
        if name in before.folders:
            yield name, folder, before.folders[name]
    for service, held in after.services.items():
        earlier = before.services.get(service)
        if not isinstance(held, WebService) or not isinstance(earlier, WebService):
            continue
        for name, site in held.sites.items():
            if name in earlier.sites:
                yield name, site, earlier.sites[name]


def _each_site(estate: Estate) -> Iterator[tuple[tuple[str, ...], Site]]:
    for path, service in _services(estate).items():
        for name, site in sites_of(service).items():
            yield (*path, name), site


def _trust(before: Estate, after: Estate, asked: Asked) -> Iterator[Gain]:
    for name, vantage in after.vantages.items():
        old = before.vantages.get(name)
        for root in sorted(set(vantage.trusts) - set(old.trusts)) if old is not None else ():
            grade: Grade = "needed" if name == asked.vantage.name else "more"
            yield Gain("trusted", ("trust", name, root), f"{name} newly trusts whatever {root} issues", grade)
    for name, authority in after.authorities.items():
        if authority.public and name in before.authorities and not before.authorities[name].public:
            yield Gain("trusted", ("public", name), f"every visitor newly trusts whatever {name} issues", "more")
    for name, zone in after.zones.items():
        known: Any = before.zones.get(name)
        if known is not None and known.ds and not zone.ds:
            yield Gain("unverified", ("ds", name), f"nobody checks the signatures of {name} any more", "more")
