"""Pings: who answers, and what keeps one from being answered; run for real in conformance.by_hand."""

from ipaddress import ip_address

import pytest

from tests.conftest import OFFICE, swap, world

GATEWAY = "  gateway:\n"
ORION = "  orion:\n"
LINE = "line: {network: internet, address: 203.0.113.40}"
#: A change of the office, from where what is pinged, and who answers; or a word of why nobody does.
PINGED = [
    ([], "street", "203.0.113.40", "gateway"),
    ([], "office", "10.20.0.15", "orion"),
    ([], "office", "203.0.113.40", "gateway"),
    ([], "street", "198.51.100.77", "street"),
    ([], "office", "10.20.0.99", "10.20.0.99"),
    ([], "street", "10.20.0.15", "no public address"),
    ([(ORION, f"{ORION}    filter: {{inbound: {{default: drop}}}}\n")], "office", "10.20.0.15", "drops"),
    (
        [(ORION, f"{ORION}    filter: {{inbound: {{default: drop, rules: [{{allow: icmp, icmp_types: [echo-request]}}]}}}}\n")],
        "office", "10.20.0.15", "orion",
    ),
    (
        [(ORION, f"{ORION}    filter: {{inbound: {{default: drop, rules: [{{allow: icmp, icmp_types: [time-exceeded]}}]}}}}\n")],
        "office", "10.20.0.15", "drops",
    ),
    # A rule for answers lets the reply in; without it nobody hears it.
    ([(ORION, f"{ORION}    filter: {{basics: [], inbound: {{default: drop, rules: [{{allow: any, state: established}}]}}}}\n")], "office", "10.20.0.15", "drops"),
    ([(GATEWAY, f"{GATEWAY}    one_to_one: [{{on: line, outside: 203.0.113.40, inside: 10.20.0.15}}]\n")], "street", "203.0.113.40", "orion"),
    ([(LINE, "line: {network: internet, address: 203.0.113.40, up: false}")], "street", "203.0.113.40", "down"),
]  # fmt: skip


@pytest.mark.parametrize(("changes", "by", "pinged", "said"), PINGED)
def test_who_answers_a_ping(changes, by, pinged, said):
    """By the same walk as every packet: filters, translations and routes there and back."""
    made = world(swap(OFFICE, *changes))
    told = made.echo(made.estate.vantages[by], ip_address(pinged))
    if told.answered:
        assert told.by.name == said
    else:
        assert said in told.stop.text
