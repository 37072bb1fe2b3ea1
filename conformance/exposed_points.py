"""Holds `exposed` against `follow`: in random topologies, single addresses that ask for single ports, at random and at boundaries.

Usage: python -m conformance.exposed_points N [--seed S] [--points P]
"""

import argparse
import json
import random
import sys
import time
from ipaddress import ip_address, ip_interface, ip_network

from conformance.topologies import Draw
from portolan.estate.base import IPAddress, is_public
from portolan.estate.guesses import attachments, machines
from portolan.estate.machine import Machine
from portolan.estate.places import INTERNET
from portolan.estate.vantage import Vantage
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.world import World
from portolan.source.problem import EstateError
from portolan.surveying.cells import END, cuts
from portolan.surveying.exposed import Exposed, exposed

#: The network of somebody who asks, the address there, and its prefix length.
Point = tuple[str, IPAddress, int]


def points(world: World, rng: random.Random, count: int) -> list[Point]:
    """So many askers at random, and as many beside boundaries, each with its network and its prefix length."""
    estate = world.estate
    everybody: list[Machine | Vantage] = [*machines(estate), *estate.vantages.values()]
    held = {item.ip for box in everybody for _, items in attachments(box) for item in items}
    subnets = [
        (name, each)
        for name, network in estate.networks.items()
        if network.kind != "internet"
        for each in network.subnets
    ]
    found: list[Point] = []
    cut = cuts(estate)
    tries = 0
    while len(found) < 2 * count and tries < 200 * count:
        tries += 1
        version = rng.choice((4, 4, 6))
        near = len(found) >= count
        if subnets and rng.random() < 0.4:
            name, subnet = rng.choice(subnets)
            first, last = int(subnet.network_address), int(subnet.broadcast_address)
            if last - first < 3:
                continue
            inside = [each for each in cut.addresses[subnet.version] if first <= each <= last]
            number = rng.choice(inside) + rng.choice((-1, 0)) if near and inside else rng.randint(first + 1, last - 1)
            if not first < number < last:
                continue
            prefix, address = subnet.prefixlen, type(subnet.network_address)(number)
        else:
            name, prefix = INTERNET, 32 if version == 4 else 128
            number = rng.choice(cut.addresses[version]) + rng.choice((-1, 0)) if near else rng.randrange(END[version])
            if not near and version == 6:
                number = 0x2 << 124 | number >> 4
            if not 0 <= number < END[version]:
                continue
            address = ip_address(number) if version == 4 else ip_address(number.to_bytes(16, "big"))
            if not is_public(address) or any(address in each for _, each in subnets):
                continue
        if address not in held:
            found.append((name, address, prefix))
    return found


def said(found: Exposed, point: Point, target: IPAddress, port: int, protocol: str) -> str | None:
    """The program that somebody gets through to, as `exposed` has it."""
    network, address, _ = point
    for each in found.reached:
        if (each.address, each.asked, each.protocol) != (target, port, protocol):
            continue
        if network == INTERNET:
            held = any(
                one.version == address.version and one.first <= int(address) <= one.last for one in each.strangers
            )
        else:
            who = dict(each.near).get(network, ())
            held = who == ("everybody",) or any(address in ip_network(one) for one in who)
        if held:
            return f"{each.machine} {each.service}"
    return None


def differing(text: str, rng: random.Random, count: int) -> tuple[list[str], int]:
    """What `exposed` says otherwise than a connection of that very address; and how many were asked."""
    estate = load(MemoryFiles({"estate.yaml": text}), "estate.yaml").estate
    assert estate.at is not None
    world = World(estate, estate.at)
    found = exposed(world)
    targets = [item.ip for box in machines(world.estate) for _, items in attachments(box) for item in items]
    ports = sorted({each.asked for each in found.reached} | {80, 443, 22, 8080, rng.randint(1, 65535)})
    # What some reach and others do not has boundaries: half of the points ask there.
    some = [(each.address, each.asked) for each in found.reached if not each.everywhere and each.protocol == "tcp"]
    wrong, asked = [], 0
    for point in points(world, rng, count):
        network, address, prefix = point
        narrow = [each for each in some if each[0].version == address.version] if rng.random() < 0.5 else []
        target, port = rng.choice(narrow) if narrow else (rng.choice(targets), rng.choice(ports))
        if target.version != address.version:
            continue
        who = Vantage(name="(point)", network=network, address=(ip_interface(f"{address}/{prefix}"),))
        peopled = world.with_vantages(who)
        arrival = peopled.connect(peopled.there(who), target, port).arrival
        real = f"{arrival.machine.name} {arrival.service.name}" if arrival is not None else None
        told = said(found, point, target, port, "tcp")
        asked += 1
        if told != real:
            wrong.append(f"{address} on {network} to {target} port {port}: exposed says {told}, follow {real}")
    return wrong, asked


def main() -> int:
    """The command; 1 where anything differs, or nothing was asked."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("count", type=int)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--points", type=int, default=40)
    arguments = parser.parse_args()
    start, estates, asked, wrong = time.monotonic(), 0, 0, 0
    for number in range(arguments.count):
        rng = random.Random(arguments.seed * 100_000 + number)
        try:
            text = json.dumps(Draw(arguments.seed * 100_000 + number).estate(), indent=1)
            found, several = differing(text, rng, arguments.points)
        except EstateError:
            continue  # a draw that no estate can say
        estates, asked, wrong = estates + 1, asked + several, wrong + len(found)
        for each in found[:3]:
            print(f"✗ {number}: {each}")
    print(f"seed {arguments.seed}: {estates} estates, {asked} points, {wrong} differ, {time.monotonic() - start:.0f} s")
    return 1 if wrong or not asked else 0


if __name__ == "__main__":
    sys.exit(main())
