"""The way of a packet: each behaviour by one changed fact of a small estate."""

from ipaddress import ip_address, ip_network

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from portolan.net.rules import within
from tests.conftest import OFFICE, ask, got, swap

DROP_REST = "    filter: {inbound: {default: drop, rules: [%s]}}\n    services:"
FORWARD = ("      - {on: line, tcp: 443, to: 10.20.0.15}\n", "")
TWO_ROUTERS = swap(
    OFFICE,
    ("networks:\n", "networks:\n  middle: {subnets: [192.168.7.0/24]}\n"),
    ("      line: {network: internet, address: 203.0.113.40}", "      line: {network: middle, address: 192.168.7.2}"),
    ("routers:\n", "routers:\n  outer:\n    interfaces:\n      up: {network: internet, address: 203.0.113.40}\n"
     "      middle: {address: 192.168.7.1}\n    masquerade: [up]\n    forwards:\n      - {on: up, tcp: 443, to: 192.168.7.2}\n"),
)  # fmt: skip


@pytest.mark.parametrize(
    ("changes", "expected", "kind"),
    [
        ([], "visit/index.html", None),
        ([FORWARD], "refused", "nothing-listens"),
        ([FORWARD, ("    masquerade", "    filter: {inbound: {default: drop}}\n    masquerade")], "timed-out", "filter-drops"),
        ([("tcp: 443, to: 10.20.0.15}", "tcp: 443, to: 10.20.0.99}")], "unreachable", "neighbour-missing"),
        ([("tcp: 443, to: 10.20.0.15}", "tcp: 443, to: 10.20.0.15, enabled: false}")], "refused", "nothing-listens"),
        ([("tcp: 443, to: 10.20.0.15}", "tcp: 443, to: 10.20.0.15, from: 192.0.2.0/24}")], "refused", "nothing-listens"),
        ([("tcp: 443, to: 10.20.0.15}", "tcp: 443, to: 10.20.0.15, port: 80}")], "not-tls", "plain-spoken"),
        ([("tcp: 443, to: 10.20.0.15}", "tcp: 440-449, to: 10.20.0.15, port: 440}")], "visit/index.html", None),
        ([("tcp: 443, to: 10.20.0.15}", "tcp: 443, to: 192.0.2.9}")], "timed-out", "internet-unknown"),
        ([("    services:", DROP_REST % "{allow: tcp, ports: 443}")], "visit/index.html", None),
        ([("    services:", DROP_REST % "{allow: tcp, ports: 80}")], "timed-out", "filter-drops"),
        ([("    services:", DROP_REST % "{reject: tcp, ports: 443}")], "refused", "filter-rejects"),
        ([("    services:", DROP_REST % "{reject: tcp, ports: 443, answer: tcp-reset}")], "refused", "filter-rejects"),
        ([("    services:", DROP_REST % "{reject: tcp, answer: host-prohibited}")], "unreachable", "filter-rejects"),
        ([("    services:", DROP_REST % "{drop: tcp}, {allow: tcp, ports: 443}")], "timed-out", "filter-drops"),
        ([("    services:", DROP_REST % "{allow: tcp, from: 10.20.0.0/24}")], "timed-out", "filter-drops"),
        ([("    masquerade: [line]", "    masquerade: [line, dome]"),
          ("    services:", DROP_REST % "{allow: tcp, from: 10.20.0.1}")], "visit/index.html", None),
        ([("    masquerade", "    filter: {forward: {default: drop}}\n    masquerade")], "timed-out", "filter-drops"),
        ([("    masquerade", "    filter: {forward: {default: drop, rules: [{allow: any, forwarded: true}]}}\n    masquerade")],
         "visit/index.html", None),
        ([("    masquerade", "    filter: {forward: {default: drop, rules: [{allow: tcp, ports: 443, in: line, out: dome}]}}\n"
           "    masquerade")], "visit/index.html", None),
        ([("    masquerade", "    filter: {stateful: false, forward: {default: drop, rules: [{allow: tcp, ports: 443}]}}\n"
           "    masquerade")], "timed-out", "reply-lost"),
        ([("    masquerade", "    filter: {stateful: false, forward: {default: drop, rules: [{allow: tcp, ports: 443}, "
           "{allow: any, state: established}]}}\n    masquerade")], "visit/index.html", None),
        ([("{dome: {address: 10.20.0.15}}", "{dome: {address: 10.20.0.15, groups: [web]}}"),
          ("certificates:", "groups: {web: {inbound: [{allow: tcp, ports: 443}]}}\ncertificates:")], "visit/index.html", None),
        ([("{dome: {address: 10.20.0.15}}", "{dome: {address: 10.20.0.15, groups: [web]}}"),
          ("certificates:", "groups: {web: {inbound: [{allow: tcp, ports: 80}]}}\ncertificates:")], "timed-out", "group-drops"),
        ([("{dome: {address: 10.20.0.15}}", "{dome: {address: 10.20.0.15, groups: []}}")], "timed-out", "group-drops"),
        ([("{dome: {address: 10.20.0.15}}", "{dome: {address: 10.20.0.15}}\n    gateway: none")], "timed-out", "reply-lost"),
        ([("listens: [80, 443 tls]", "listens: [80, '127.0.0.1:443 tls']")], "refused", "nothing-listens"),
        ([("listens: [80, 443 tls]", "listens: [80, '10.20.0.15:443 tls']")], "visit/index.html", None),
        ([("listens: [80, 443 tls]", "listens: [80, '[::]:443 tls']")], "refused", "nothing-listens"),
        ([("listens: [80, 443 tls]", "listens: [80, '[::]:443 tls dual-stack']")], "visit/index.html", None),
        ([("program: nginx", "program: apache"), ("[80, 443 tls]", "[80, '[::]:443 tls']")], "visit/index.html", None),
        ([("        program: nginx", "        state: stopped")], "refused", "service-stopped"),
        ([("      web:\n", "      proxy: {kind: other, listens: [443]}\n      web:\n")], "not-tls", "speaks-no-tls"),
        ([("      web:\n", "      proxy: {kind: other, listens: [80]}\n      web:\n")], "refused", "service-failed"),
        ([("listens: [80, 443 tls]", "listens: [80, '10.20.0.77:443 tls']")], "refused", "nothing-listens"),
    ],
)  # fmt: skip
def test_one_changed_fact(changes, expected, kind):
    """Each change gives the visitor this, for this reason."""
    found = ask(swap(OFFICE, *changes))
    assert got(found) == expected
    assert (found.stop.kind if found.stop else None) == kind


@pytest.mark.parametrize(
    ("hairpin", "expected", "kind"),
    [
        ("off", "refused", "nothing-listens"),
        ("destination-only", "timed-out", "reply-stranger"),
        ("full", "visit/index.html", None),
    ],
)
def test_public_address_from_inside(hairpin, expected, kind):
    """What a router does with its own outside address from inside."""
    found = ask(swap(OFFICE, ("    masquerade", f"    hairpin: {hairpin}\n    masquerade")), vantage="office")
    assert got(found) == expected
    assert (found.stop.kind if found.stop else None) == kind


def test_two_routers_in_a_row():
    """Both must forward; without the outer one's masquerade nothing changes for visitors from outside."""
    assert got(ask(TWO_ROUTERS)) == "visit/index.html"
    assert got(ask(swap(TWO_ROUTERS, ("      - {on: line, tcp: 443, to: 10.20.0.15}\n", "")))) == "refused"


def test_inside_visitors_need_a_masquerade():
    """A private source that leaves for the internet gets no answer."""
    text = swap(OFFICE, ("    masquerade: [line]\n", ""), ("hosts:\n", "hosts:\n  vela:\n    interfaces: {internet: {address: 192.0.2.10}}\n"
                "    services: {site: {listens: [80]}}\n"))  # fmt: skip
    found = ask(text, "http://192.0.2.10/", "office")
    assert (got(found), found.stop.kind) == ("timed-out", "source-private")
    assert (
        got(ask(swap(text, ("    forwards:", "    masquerade: [line]\n    forwards:")), "http://192.0.2.10/", "office"))
        == "site/index.html"
    )


def test_the_machine_itself_asks_its_loopback():
    """Works here says nothing about any other place."""
    text = swap(
        OFFICE,
        ("listens: [80, 443 tls]", "listens: ['127.0.0.1:80']"),
        ("vantages:", "vantages:\n  self: {host: orion}"),
    )
    assert got(ask(text, "http://localhost/", "self")) == "visit/index.html"
    assert got(ask(text, "http://127.0.0.1/", "self")) == "visit/index.html"
    assert got(ask(text, "http://10.20.0.15/", "self")) == "refused"
    assert got(ask(text, "http://10.20.0.15/", "office")) == "refused"


def test_a_visitors_own_filter_and_missing_routes():
    """Drops on the way out hang; a reset is a refusal; no route is told at once."""
    for chain, expected in (("{default: drop}", "timed-out"), ("{rules: [{reject: tcp, answer: tcp-reset}]}", "refused"),
                            ("{rules: [{reject: tcp, answer: net-unreachable}]}", "unreachable")):  # fmt: skip
        text = swap(OFFICE, ("address: 198.51.100.77,", f"address: 198.51.100.77, filter: {{outbound: {chain}}},"))
        assert got(ask(text, "https://203.0.113.40/")) == expected
        if chain == "{default: drop}":  # its question to a resolver is a packet too
            assert got(ask(text)) == "resolver-timeout"
    text = swap(OFFICE, ("address: 10.20.0.50}", "address: 10.20.0.50, gateway: none}"))
    found = ask(text, "https://203.0.113.40/", vantage="office")
    assert (got(found), found.stop.kind) == ("unreachable", "no-route")


def test_ipv6_first_and_ipv4_behind_it():
    """A dead IPv6 address costs an attempt, and the page comes by IPv4."""
    text = swap(OFFICE, ("address: 198.51.100.77,", "address: [198.51.100.77, '2001:db8:7::7'],"),
                ("      - visit 3600 A 203.0.113.40", "      - visit 3600 A 203.0.113.40\n      - visit 3600 AAAA 2001:db8:9::9"))  # fmt: skip
    found = ask(text)
    assert got(found) == "visit/index.html"
    assert [(str(each.address), each.detail) for each in found.exchanges[0].attempts] == [
        ("2001:db8:9::9", "timed-out"), ("203.0.113.40", None)]  # fmt: skip


def test_a_public_segment_is_reached_through_its_router():
    """The internet routes a public range to the one router that joins it."""
    text = swap(OFFICE, ("[10.20.0.0/24]", "[192.0.2.0/24]"), ("address: 10.20.0.1}", "address: 192.0.2.1}"),
                ("{address: 10.20.0.15}", "{address: 192.0.2.15}"), ("to: 10.20.0.15", "to: 192.0.2.15"),
                ("address: 10.20.0.50", "address: 192.0.2.50"), ("visit 3600 A 203.0.113.40", "visit 3600 A 192.0.2.15"))  # fmt: skip
    found = ask(text)
    assert got(found) == "visit/index.html"
    assert found.exchanges[0].connection.arrival.address.exploded == "192.0.2.15"


def test_groups_name_groups_as_sources():
    """A group as source means its members' addresses."""
    text = swap(
        OFFICE,
        ("{dome: {address: 10.20.0.15}}", "{dome: {address: 10.20.0.15, groups: [back]}}"),
        ("certificates:", "groups: {back: {inbound: [{allow: tcp, from: front}]}, front: {}}\ncertificates:"),
        ("hosts:\n", "hosts:\n  vela:\n    interfaces: {dome: {address: 10.20.0.16, groups: [front]}}\n"),
        ("vantages:", "vantages:\n  vela: {host: vela}"),
    )
    assert got(ask(text, "http://10.20.0.15/", "vela")) == "visit/index.html"
    assert got(ask(text, "http://10.20.0.15/", "office")) == "timed-out"


def test_packets_that_go_round():
    """Two routers that send to each other."""
    text = swap(TWO_ROUTERS, ("    masquerade: [up]", "    routes: [{to: 10.99.0.0/16, via: 192.168.7.2}]\n    masquerade: [up]"),
                ("  gateway:\n", "  gateway:\n    gateway: 192.168.7.1\n"))  # fmt: skip
    found = ask(text, "http://10.99.0.1/", "office")
    assert (got(found), found.stop.kind) == ("timed-out", "own-source")
    unmasked = ask(swap(text, ("    masquerade: [line]\n", "")), "http://10.99.0.1/", "office")
    assert (got(unmasked), unmasked.stop.kind) == ("timed-out", "reply-lost")


@settings(max_examples=60)
@given(st.lists(st.tuples(st.integers(0, (1 << 32) - 1), st.integers(0, 32)), min_size=1, max_size=40), st.data())
def test_many_ranges_hold_what_each_holds(drawn, data):
    """By binary search or one by one: at both ends of every range and beside them."""
    ranges = tuple(ip_network((value >> (32 - length) << (32 - length), length)) for value, length in drawn)
    chosen = data.draw(st.sampled_from(ranges))
    ends = int(chosen.network_address), int(chosen.broadcast_address)
    for value in {min(max(0, end + step), (1 << 32) - 1) for end in ends for step in (-1, 0, 1)}:
        address = ip_address(value)
        assert within(value, False, ranges) == any(address in net for net in ranges)
        assert not within(value, True, ranges)
