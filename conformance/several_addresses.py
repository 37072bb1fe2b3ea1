"""Random names with several addresses, of which some refuse, some are silent and some lead nowhere: which one a client ends at."""

import random
from collections.abc import Iterator
from ipaddress import ip_address

#: What a machine's addresses come to: a page, a refusal, silence, nobody. Errors come back so fast on a stage that a connection
#: which is being made does not hear them: those are no part of this.
_KINDS = ("page", "page", "refuses", "silent", "nobody")

_HEAD = """\
portolan: 1
at: "2026-03-14T20:00:00Z"
networks: {lan: {subnets: [10.20.0.0/24, "fd00:1::/64", "2001:db8:20::/64"]}}
routers:
  gate:
    interfaces:
      line: {network: internet, address: [203.0.113.40, "2001:db8:40::1"]}
      lan: {address: [10.20.0.1, "fd00:1::1", "2001:db8:20::1"]}
    masquerade: [line]
hosts:
"""
_SILENT = "    filter: {inbound: {default: drop, rules: [{allow: icmp}]}}\n"


def drawn(seed: int) -> tuple[str, list[tuple[str, str]]]:
    """An estate with four machines outside and two inside, and visits to names that have several of their addresses."""
    rng = random.Random(seed)
    text, outside, inside, silent = _HEAD, list[str](), list[str](), set[str]()
    for number in range(6):
        kind = rng.choice(_KINDS)
        within = number > 3
        held = (
            [f"10.20.0.{10 + number}", f"fd00:1::{10 + number}", f"2001:db8:20::{10 + number}"]
            if within
            else [f"192.0.2.{10 + number}", f"2001:db8:9::{10 + number}"]
        )
        (inside if within else outside).extend(held)
        silent |= set(held) if kind in ("silent", "nobody") else set()
        if kind == "nobody":
            continue
        addresses = ", ".join(f'"{each}"' for each in held)
        web = f"services: {{web: {{program: nginx, sites: {{S{number}: {{files: [index.html]}}}}}}}}"
        services = "" if kind == "refuses" else f"    {web}\n"
        network = "lan" if within else "internet"
        text += f"  h{number}:\n    interfaces: {{{network}: {{address: [{addresses}]}}}}\n{services}{_SILENT if kind == 'silent' else ''}"
    lines = ["'@ 60 SOA ns m 1 60 60 60 60'", "'@ 60 NS ns'", "'ns 60 A 192.0.2.250'"]
    asked = []
    for number in range(5):
        pool = [*outside, *inside] if rng.random() < 0.4 else inside if rng.random() < 0.3 else outside
        # curl gives each address half of its time: one may be silent, or there is no time left on a stage.
        held = rng.sample(pool, rng.choice((2, 2, 3, 4)))
        waiting = [each for each in held if each in silent or each in inside]
        held = [each for each in held if each not in waiting[1:]]
        if waiting:
            # curl 7.88 hears of no further connection behind one that it gave up on, but of the last.
            held = [waiting[0], *[each for each in held if each != waiting[0]][:1]]
        # In the order in which every server gives them: some sort them.
        for address in sorted(held, key=lambda each: int(ip_address(each))):
            lines.append(f"'n{number} 60 {'AAAA' if ':' in address else 'A'} {address}'")
        for vantage in ("both", "old", "desk"):
            if rng.random() < 0.6:
                asked.append((f"http://n{number}.k.example/", vantage))
    text += f"zones: {{k.example: {{records: [{', '.join(lines)}]}}}}\nvantages:\n"
    text += '  both: {network: internet, address: [198.51.100.7, "2001:db8:77::7"]}\n  old: {network: internet, address: 198.51.100.8}\n'
    text += '  desk: {network: lan, address: [10.20.0.50, "fd00:1::50", "2001:db8:20::50"]}\n'
    return text, asked


def worlds(count: int, seed: int, client: str) -> Iterator[tuple[str, str, list[tuple[str, str]]]]:
    """So many worlds, from a seed on, for visitors with a client."""
    for at in range(count):
        text, asked = drawn(seed * 100000 + at)
        head, vantages, visitors = text.partition("vantages:\n")
        if client == "chromium":
            visitors = visitors.replace("{network: ", "{like: chromium, network: ")
        yield f"addresses {seed * 100000 + at}", head + vantages + visitors, asked
