"""What lies open in a world: who gets through to what, who gets which page plainly, which legs are plain, who may read what.

Worked out by asking, from a panel of askers that is the same for every world that is compared, and never by what diagnosis
says of a change: it is what diagnosis is judged by.
"""

from collections.abc import Iterator
from ipaddress import ip_interface
from typing import NamedTuple

import msgspec

from portolan.estate.base import HeaderName
from portolan.estate.client import EdgeClient, PassingProgram
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines, whole_edges
from portolan.estate.service import WebService
from portolan.estate.url import BadUrlError, parse
from portolan.estate.vantage import Vantage
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.store.buckets import right

#: Strangers: addresses on the internet that no world states.
_STRANGERS = ("198.18.99.7", "2001:2::99:7")
_SENT = (("X-Forwarded-Proto", "https"),)


class Open(NamedTuple):
    """One thing that lies open."""

    kind: str
    who: str
    what: tuple[str, ...]


def openness(world: World, urls: frozenset[str]) -> frozenset[Open]:
    """Everything that lies open in a world, for the URLs given (see `asked_by`)."""
    people = _panel(world.estate)
    peopled = world.changed(msgspec.structs.replace(world.stated, vantages={**world.stated.vantages, **people}))
    askers = {**{name: peopled.estate.vantages[name] for name in world.stated.vantages}, **people}
    found = {*_reach(peopled, askers), *_pages(peopled, askers, urls), *_objects(world.estate), *_trust(world.estate)}
    return frozenset(found)


def beyond(after: frozenset[Open], before: frozenset[Open]) -> frozenset[Open]:
    """What lies open and did not before: not a key of a bucket of which any other key lay open, nor a leg unverified that was plain."""
    anything = {(each.who, each.what[0]) for each in before if each.kind == "object" and each.what[1] == "(another)"}
    plain = {(each.who, each.what) for each in before if each.kind == "plain leg"}
    # What strangers get through to is open to neighbours, too.
    public = {each.what for each in before if each.kind == "reach" and each.who.startswith("(stranger")}
    return frozenset(
        each
        for each in after - before
        if not (each.kind == "object" and (each.who, each.what[0]) in anything)
        and not (each.kind == "unverified leg" and (each.who, each.what) in plain)
        and not (each.kind == "reach" and each.who.startswith("(neighbour") and each.what in public)
    )


def _panel(estate: Estate) -> dict[str, Vantage]:
    panel = {
        f"(stranger {each})": Vantage(
            name=f"(stranger {each})",
            network="internet",
            address=(ip_interface(f"{each}/{32 if '.' in each else 128}"),),
        )
        for each in _STRANGERS
    }
    # An address of its own: of two boxes with one address, each is now and then kept from its answers.
    own = (ip_interface("198.18.99.8/32"),)
    panel["(pretender)"] = Vantage(
        name="(pretender)",
        network="internet",
        address=own,
        headers={HeaderName(name): value for name, value in _SENT},
    )
    held = {item.ip for machine in machines(estate) for port in machine.interfaces.values() for item in port.address}
    held |= {item.ip for each in estate.vantages.values() for item in each.address}
    for name, network in estate.networks.items():
        if network.kind == "internet":
            continue
        free = []
        for subnet in network.subnets:
            top = int(subnet.broadcast_address) - 1 if subnet.version == 4 else int(subnet.network_address) + 0xFFF0
            free.append(
                next(
                    subnet.network_address + (top - int(subnet.network_address) - k)
                    for k in range(8)
                    if subnet.network_address + (top - int(subnet.network_address) - k) not in held
                )
            )
        if free:
            label = f"(neighbour on {name})"
            places = tuple(ip_interface(f"{each}/{each.max_prefixlen}") for each in free)
            panel[label] = Vantage(name=label, network=name, address=places)
    return panel


def _reach(world: World, askers: dict[str, Vantage]) -> Iterator[Open]:
    targets = set()
    ports = {8080, 80, 443, 53, 22}
    for machine in machines(world.estate):
        for service in machine.services.values():
            ports |= {each.port for each in service.listens}
        for forward in machine.forwards:
            ports |= {forward.outside.first, forward.outside.last}
    for machine in machines(world.estate):
        for interface in machine.interfaces.values():
            targets |= {item.ip for item in interface.address}
        targets |= {each.outside for each in machine.one_to_one}
    for name, asker in askers.items():
        for address in targets:
            for port in ports:
                arrival = world.connect(asker, address, port).arrival
                if arrival is not None:
                    yield Open("reach", name, (arrival.machine.name, arrival.service.name))


def asked_by(estate: Estate) -> frozenset[str]:
    """The URLs that an estate's sites are asked by: what is expected, and `/` of every name, plain and secure."""
    found = set()
    for expectation in estate.expected:
        try:
            url = parse(expectation.url)
        except BadUrlError:
            continue
        found |= {f"{scheme}://{url.shown_host}{url.path}" for scheme in ("http", "https")} | {str(url)}
    for machine in machines(estate):
        for service in machine.services.values():
            if isinstance(service, WebService):
                names = [name for site in service.sites.values() for name in site.names if name and name[0] not in "*."]
                found |= {f"{scheme}://{name}/" for name in names for scheme in ("http", "https") if "*" not in name}
    return frozenset(found)


def _pages(world: World, askers: dict[str, Vantage], urls: frozenset[str]) -> Iterator[Open]:
    for text in sorted(urls):
        for name, asker in askers.items():
            try:
                seen = visit(world, text, asker)
            except BadUrlError:
                continue
            if seen.outcome.kind != "served" or seen.outcome.page is None:
                continue
            # Whoever is on one segment is one asker: they are neighbours, whatever their hosts files say.
            segment = asker.network is not None and world.estate.networks[asker.network].kind != "internet"
            who = f"on {asker.network}" if segment else name
            yield Open("page", who, (seen.outcome.page,))
            if not seen.outcome.secure:
                yield Open("plain", who, (seen.outcome.page,))
            for each in seen.tree:
                if not isinstance(each.client, PassingProgram | EdgeClient) or not each.attempts:
                    continue
                owner = each.client.service.name
                if not each.url.secure:
                    yield Open("plain leg", owner, (seen.outcome.page,))
                elif str(each.client.checks) == "nothing":
                    yield Open("unverified leg", owner, (seen.outcome.page,))


def _objects(estate: Estate) -> Iterator[Open]:
    for store in estate.stores.values():
        for bucket in store.buckets.values():
            keys = [each.replace("*", "any") for each in bucket.objects or ()] + ["(another)"]
            for who in ("", *(each.name for each in whole_edges(estate))):
                for key in keys:
                    if right(store, bucket, "read", key, who).allowed:
                        yield Open("object", who or "everyone", (bucket.name, key))
                if right(store, bucket, "list", None, who).allowed:
                    yield Open("list", who or "everyone", (bucket.name,))
            if not bucket.sealed:
                yield Open("no seal", "everyone", (store.name, bucket.name))


def _trust(estate: Estate) -> Iterator[Open]:
    for vantage in estate.vantages.values():
        for root in vantage.trusts:
            yield Open("trust", vantage.name, (root,))
    for machine in machines(estate):
        for service in machine.services.values():
            if isinstance(service, WebService):
                for site in service.sites.values():
                    if site.listing or any(each.listing for each in site.sections):
                        yield Open("listing", "everyone", (service.name, site.name))
