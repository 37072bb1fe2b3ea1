"""Who gets through to what: cells and their boundaries, the rules that draw them, held against single connections."""

import json
import random
from ipaddress import ip_network
from itertools import pairwise

import jsonschema
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conformance.exposed_points import differing
from conformance.topologies import Draw
from portolan.source.problem import EstateError
from portolan.surveying.cells import Cuts, Range, cuts, joined, without
from portolan.surveying.exposed import MACHINES, UnknownTargetError, exposed, networks_of, shown_ranges
from tests.conftest import OFFICE, schema, swap, world

SERVICES = "    services:\n      web:"


def filtered(rules, more=""):
    """The office with a filter on its server, which has a shell and a database, too."""
    services = SERVICES.replace(
        "    services:\n", "    services:\n      shell: {listens: [22]}\n      database: {listens: [5432]}\n"
    )
    return swap(OFFICE, (SERVICES, f"    filter: {{inbound: {{default: drop, rules: [{rules}]}}}}\n{services}{more}"))


def told(found):
    """What is reached from where, in short."""
    return {
        (each.machine, each.asked, str(each.address)): (
            "everywhere" if each.everywhere else shown_ranges(each.strangers)
        )
        for each in found.reached
    }


def test_ports_and_ranges_are_told_exactly():
    """443 from everywhere; 22 from some; 5432 from nobody outside, and from one machine inside."""
    text = swap(
        filtered(
            "{allow: tcp, ports: [80, 443]}, {allow: tcp, ports: [22], from: 203.0.112.0/28}, "
            "{allow: tcp, ports: [5432], from: 10.20.0.16}"
        ),
        (
            FORWARD,
            f"{FORWARD}\n      - {{on: line, tcp: 2222, to: 10.20.0.15, port: 22}}\n      - {{on: line, tcp: 5432, to: 10.20.0.15}}",
        ),
        ("certificates:\n", "  vega: {interfaces: {dome: {address: 10.20.0.16}}}\ncertificates:\n"),
    )
    found = exposed(world(text))
    outside = {port: who for (_, port, at), who in told(found).items() if at == "203.0.113.40"}
    assert outside == {80: "everywhere", 443: "everywhere", 2222: "203.0.112.0/28"}
    shell = next(each for each in found.reached if each.asked == 2222)
    assert (shell.port, shell.service, shell.machine) == (22, "shell", "orion")
    assert [text for text, _ in shell.by] == [
        "orion's filter lets the packet pass (inbound, rule 2)",
    ]
    assert any("filter drops the packet (inbound, default)" in each.text for each in shell.kept_out)
    database = next(each for each in found.reached if each.asked == 5432)
    assert (database.strangers, dict(database.near)[MACHINES]) == ((), ("vega",))


FORWARD = "      - {on: line, tcp: 443, to: 10.20.0.15}"


@pytest.mark.parametrize(
    ("rules", "who"),
    [
        ("{allow: tcp}", "everywhere"),
        ("{allow: icmp}", None),
        ("{allow: tcp, from: 198.51.100.77}", "198.51.100.77/32"),
        (
            "{drop: tcp, from: 198.51.100.0/24}, {allow: tcp, from: 198.51.0.0/16}",
            "198.51.0.0/18, 198.51.64.0/19, 198.51.96.0/22 and 8 more",
        ),
        ("{allow: tcp, not_from: 0.0.0.0/1}", "128.0.0.0/3, 160.0.0.0/5, 168.0.0.0/6 and 37 more"),
    ],
)
def test_a_rule_draws_the_boundary(rules, who):
    found = exposed(world(filtered(rules)), "203.0.113.40", 443)
    assert ([*told(found).values()] or [None])[0] == who or (
        who and "more" in who and "more" in [*told(found).values()][0]
    )
    for each in found.reached:
        kept = networks_of(each.strangers)
        assert all(not ip_network("10.0.0.0/8").overlaps(network) for network in kept if network.version == 4)


def test_who_is_asked_about():
    """A machine by its name, with what forwards to it; an address; else the name that was meant."""
    ready = world(OFFICE)
    assert {each.machine for each in exposed(ready, "orion").reached} == {"orion"}
    assert {str(each.address) for each in exposed(ready, "orion").reached} == {"203.0.113.40", "10.20.0.15"}
    assert {str(each.address) for each in exposed(ready, "10.20.0.15").reached} == {"10.20.0.15"}
    assert {each.asked for each in exposed(ready, port=443).reached} == {443}
    with pytest.raises(UnknownTargetError) as caught:
        exposed(ready, "orin")
    assert caught.value.known == ("gateway", "orion")


def test_as_follow_says_in_random_topologies():
    """Random estates, points at random and beside boundaries: the runner in conformance/ asks of a thousand."""
    asked = estates = 0
    for number in range(14):
        try:
            wrong, count = differing(json.dumps(Draw(4200 + number).estate()), random.Random(number), 20)
        except EstateError:
            continue
        assert wrong == []
        asked, estates = asked + count, estates + 1
    assert (estates > 8, asked > 200) == (True, True)


def test_a_boundary_that_is_overlooked_would_be_noticed(monkeypatch):
    """The comparison with single connections finds cells that are cut too coarsely."""
    real = cuts

    def coarse(estate):
        found = real(estate)
        held = {version: numbers[::3] for version, numbers in found.addresses.items()}
        return Cuts(held, found.ports, found.named)

    monkeypatch.setattr("portolan.surveying.exposed.cuts", coarse)
    wrong = 0
    for number in range(14):
        try:
            wrong += len(differing(json.dumps(Draw(4200 + number).estate()), random.Random(number), 20)[0])
        except EstateError:
            continue
    assert wrong > 0


_RANGE = st.tuples(st.integers(0, 60), st.integers(0, 8)).map(lambda pair: Range(4, pair[0], pair[0] + pair[1]))


@given(st.lists(_RANGE), st.lists(_RANGE))
def test_what_is_left_of_ranges(ranges, others):
    """As sets of numbers have it, and no two of what is left touch each other without need."""

    def numbers(held):
        return {number for each in held for number in range(each.first, each.last + 1)}

    left = without(joined_disjoint(ranges), joined_disjoint(others))
    assert numbers(left) == numbers(ranges) - numbers(others)
    assert all(one.last < other.first for one, other in pairwise(left))


def joined_disjoint(ranges):
    """Ranges that do not overlap, as cells never do."""
    held = sorted({number for each in ranges for number in range(each.first, each.last + 1)})
    return joined(Range(4, number, number) for number in held)


def test_every_boundary_that_is_named_is_a_cut():
    """Whatever key it stands under: rules, forwards, routes, lists, groups, addresses, ports and what forwards lead there."""
    text = swap(
        filtered("{allow: tcp, from: 198.51.100.32/27, ports: 8000-8010}"),
        (FORWARD, f"{FORWARD}\n      - {{on: line, tcp: 9000-9010, to: 10.20.0.15, port: 5430, from: 192.0.2.8/29}}"),
        (
            "subnets: [10.20.0.0/24]",
            "subnets: [10.20.0.0/24], access_list: {inbound: [{allow: any, from: 192.88.98.0/24}]}",
        ),
        ("    masquerade: [line]", "    masquerade: [line]\n    routes: [{to: 10.99.0.0/16, via: 10.20.0.7}]"),
    )
    cut = cuts(world(text).estate)
    addresses = set(cut.addresses[4])
    for network in (
        "198.51.100.32/27",
        "192.0.2.8/29",
        "192.88.98.0/24",
        "10.99.0.0/16",
        "10.20.0.7/32",
        "10.20.0.15/32",
    ):
        held = ip_network(network)
        assert {int(held.network_address), int(held.broadcast_address) + 1} <= addresses, network
    # 5432, where the database listens, is 9002 outside.
    assert {8000, 8011, 9000, 9011, 5432, 5433, 9002, 9003} <= set(cut.ports)


def test_the_command(program, tmp_path):
    (tmp_path / "estate.yaml").write_text(OFFICE, "utf-8")
    done = program("exposed")
    assert (done.returncode, done.stderr) == (0, "")
    assert "! at 203.0.113.40:443: everybody on the internet" in done.stdout
    assert "by: gateway forwards tcp port 443 to 10.20.0.15 port 443" in done.stdout
    assert max(map(len, done.stdout.split("\n"))) <= 80
    jsonschema.validate(json.loads(program("exposed", "orion", "--format", "json").stdout), schema("exposed"))
    for arguments, said in (
        (("orin",), "Did you mean 'orion'?"),
        (("--port", "70000"), "expected a port from 1 to 65535"),
    ):
        refused = program("exposed", *arguments)
        assert (refused.returncode, refused.stdout) == (2, "")
        assert said in refused.stderr
