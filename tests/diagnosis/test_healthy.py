"""Healthy estates: `check` has nothing to say about them, whatever they are made of."""

import pytest

from portolan.diagnosis.asking import answers
from portolan.diagnosis.lint import lint
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.world import World
from tests.conftest import OFFICE, loaded, swap

F443 = "      - {on: line, tcp: 443, to: 10.20.0.15}\n"
FORWARDS = "    forwards:\n      - {on: line, tcp: 80, to: 10.20.0.15}\n" + F443
HOST = "interfaces: {dome: {address: 10.20.0.15}}"
MASQ = "    masquerade: [line]\n"
REC = "      - visit 3600 A 203.0.113.40\n"
CERT = '{names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-06-01}'
FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"
EXPECTED = '  - {url: "https://visit.kestrel-ridge.example/", from: street, page: visit/index.html}\n'
SECURE = '            redirects: [{when: {scheme: http}, to: "https://{host}{path}{query}"}]\n'
RULES = (
    "{inbound: {default: drop, rules: [{allow: tcp, ports: [80, 443]}, {allow: tcp, ports: 22, from: 10.20.0.0/24}]}}"
)
SIX = [("[10.20.0.0/24]", '[10.20.0.0/24, "2001:db8:20::/64"]'), ("address: 203.0.113.40}", 'address: [203.0.113.40, "2001:db8:40::1"]}'),
       ("dome: {address: 10.20.0.1}", 'dome: {address: [10.20.0.1, "2001:db8:20::1"]}'), (HOST, 'interfaces: {dome: {address: [10.20.0.15, "2001:db8:20::15"]}}'),
       ("address: 198.51.100.77,", 'address: [198.51.100.77, "2001:db8:77::7"],'), (REC, REC + "      - visit 3600 AAAA 2001:db8:20::15\n")]  # fmt: skip

HEALTHY = {
    "as it is": [],
    "Apache httpd": [("program: nginx", "program: apache")],
    "no program named": [("        program: nginx\n", "")],
    "plain requests sent to the secure address": [(FILES, FILES + SECURE), (EXPECTED, EXPECTED + '  - {url: "http://visit.kestrel-ridge.example/", from: street, secure: true, page: visit}\n')],
    "hairpin, asked from the office too": [(MASQ, MASQ + "    hairpin: full\n"), ("from: street, page", "page")],
    "a view for the inside": [("    records:\n", "    views: {inside: {for: [10.20.0.0/24, 203.0.113.40/32], records: [visit 3600 A 10.20.0.15, other 3600 A 10.20.0.15]}}\n    records:\n")],
    "both families": SIX,
    "a one-to-one address": [(FORWARDS, "    one_to_one: [{on: line, outside: 203.0.113.41, inside: 10.20.0.15}]\n"), ("A 203.0.113.40\n      - other 3600 A 203.0.113.40", "A 203.0.113.41\n      - other 3600 A 203.0.113.41")],
    "a filter, the same at the next boot": [(HOST, f"{HOST}\n    filter: {RULES}\n    after_boot: {{filter: {RULES}}}")],
    "areas": [(HOST, f"{HOST}\n    filter: {{areas: {{keepers: {{from: 10.20.0.0/24, services: [ssh, http, https]}}, visitors: {{default: true, services: [http, https], otherwise: drop}}}}}}")],
    "a security group": [(HOST, "interfaces: {dome: {address: 10.20.0.15, groups: [web]}}"), ("certificates:", "groups: {web: {inbound: [{allow: tcp, ports: [80, 443]}]}}\ncertificates:")],
    "an access list that lets answers out": [("[10.20.0.0/24]}", "[10.20.0.0/24], access_list: {inbound: [{allow: tcp, ports: [80, 443, '1024-65535']}, {allow: udp}], outbound: [{allow: any}]}}")],
    "a name and its www": [("names: [visit.kestrel-ridge.example]", "names: [visit.kestrel-ridge.example, www.visit.kestrel-ridge.example]"), (CERT, '{names: ["*.kestrel-ridge.example", www.visit.kestrel-ridge.example]}'),
                           (REC, REC + "      - www.visit 3600 CNAME visit\n")],
    "the provider's alias at the apex": [("names: [other.kestrel-ridge.example]", "names: [kestrel-ridge.example]"), (CERT, '{names: ["*.kestrel-ridge.example", kestrel-ridge.example]}'),
                                         ("      - other 3600 A 203.0.113.40\n", "    apex_alias: visit.kestrel-ridge.example\n"), (EXPECTED, EXPECTED + '  - {url: "https://kestrel-ridge.example/", from: street, page: other}\n')],
    "a name server of one's own": [("hosts:\n", "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.53}}\n    services: {names: {kind: name-server, zones: [kestrel-ridge.example]}}\n")],
    "a resolver of one's own": [("hosts:\n", "hosts:\n  lyra:\n    interfaces: {dome: {address: 10.20.0.53}}\n    services: {cache: {kind: resolver}}\n"), ("10.20.0.50}", "10.20.0.50, resolver: 10.20.0.53}")],
    "a house authority": [("certificates:", "authorities: {house: {public: false}}\ncertificates:"), (CERT, '{names: ["*.kestrel-ridge.example"], issuer: house}'), ("default: true}", "default: true, trusts: [house]}")],
    "a chain with an intermediate": [("certificates:", "authorities: {wide: {}, between: {issued_by: wide}}\ncertificates:"), (CERT, '{names: ["*.kestrel-ridge.example"], issuer: between}')],
    "a site that is closed on purpose": [("            files: [index.html]\n", "            answer: 403\n            marks: [closed]\n"), (EXPECTED, EXPECTED + '  - {url: "https://other.kestrel-ridge.example/", from: street, status: 403}\n')],
    "a listing of a folder": [("            files: [index.html]\n", "            files: [a.txt]\n            listing: true\n")],
    "two routers in a row": [("networks:\n", "networks:\n  middle: {subnets: [192.168.7.0/24]}\n"), ("line: {network: internet, address: 203.0.113.40}", "line: {network: middle, address: 192.168.7.2}"),
                             ("routers:\n", "routers:\n  outer:\n    interfaces: {up: {network: internet, address: 203.0.113.40}, middle: {address: 192.168.7.1}}\n    masquerade: [up]\n"
                              "    forwards: [{on: up, tcp: 80, to: 192.168.7.2}, {on: up, tcp: 443, to: 192.168.7.2}]\n"), ("gateway:\n    interfaces", "gateway:\n    gateway: 192.168.7.1\n    interfaces")],
    "signed": [("    records:\n", "    keys: [spring]\n    ds: [spring]\n    records:\n"), ("default: true}", "default: true, resolver: validating}")],
    "a wildcard name": [(REC, '      - "* 3600 A 203.0.113.40"\n')],
}  # fmt: skip


@pytest.mark.parametrize("name", HEALTHY)
def test_nothing_is_said_of_a_healthy_estate(name):
    """No finding, and every expectation is met."""
    held = loaded(swap(OFFICE, *HEALTHY[name]))
    world = World(held.estate, held.estate.at)
    assert [f"{each.code}: {each.text}" for each in lint(world)] == []
    found = answers(world, lambda patch: changed(held, patch_operations(patch)).estate)
    assert found.groups == ()
    assert found.asked >= 1


def test_a_missed_expectation_is_never_passed_over():
    """Each is named with its first cause; those with one cause stand together."""
    held = loaded(
        swap(OFFICE, (F443, ""), (EXPECTED, EXPECTED + '  - {url: "https://other.kestrel-ridge.example/"}\n'))
    )
    world = World(held.estate, held.estate.at)
    found = answers(world, lambda patch: changed(held, patch_operations(patch)).estate)
    assert [(group.cause.code, len(group.missed)) for group in found.groups] == [("forward-missing", 3)]


def test_two_thousand_questions_are_asked_always_the_same():
    """More are left, and said so."""
    many = "".join(
        f'  - {{url: "https://visit.kestrel-ridge.example/p{number}", from: street, page: visit}}\n'
        for number in range(2500)
    )
    text = swap(OFFICE, (EXPECTED, many), (FILES, ""))
    held = loaded(text)
    found = [answers(World(held.estate, held.estate.at), lambda patch: held.estate) for _ in range(2)]
    assert [(each.asked, each.left, each.groups) for each in found] == [(2000, 500, ())] * 2
