"""Every fault: a bad estate (one fact of a good one changed) in which it is the first cause, and its remedy proves right."""

import json
from string import Formatter

import pytest

from portolan.diagnosis.registry import BY_CODE, FAULTS, PROPOSERS
from portolan.diagnosis.search import explain
from portolan.diagnosis.trial import Explanation
from portolan.evidence.decision import Leg, every_kind
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.expectation import expectation_for, misses
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import OFFICE, loaded, swap
from tests.diagnosis.test_edges_and_buckets import BAD as BAD_ARCHIVES
from tests.diagnosis.test_edges_and_buckets import REMEMBERED

VISIT = "https://visit.kestrel-ridge.example/"
F443 = "      - {on: line, tcp: 443, to: 10.20.0.15}\n"
CERT = '  visit: {names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-06-01}\n'
REC = "      - visit 3600 A 203.0.113.40\n"
EXPECTED = '  - {url: "https://visit.kestrel-ridge.example/", from: street, page: visit/index.html}\n'
NAMES = "names: [visit.kestrel-ridge.example]\n"
FILES = "files: [index.html, tonight.html, img/dome.jpg]"
HOST = "{dome: {address: 10.20.0.15}}"


def filtered(rules: str, default: str = "drop"):
    """orion with an inbound filter."""
    return (HOST, f"{HOST}\n    filter: {{inbound: {{default: {default}, rules: [{rules}]}}}}")


def grouped(group: str, others: str = ""):
    """orion with a security group."""
    return [
        (HOST, "{dome: {address: 10.20.0.15, groups: [web]}}"),
        ("certificates:", f"groups: {{web: {{inbound: [{group}]}}{others}}}\ncertificates:"),
    ]


def redirect(*rules: str):
    """The visit site with redirect rules."""
    return (f"            {FILES}", f"            {FILES}\n            redirects: [{', '.join(rules)}]")


ELSEWHERE = ("hosts:\n", "hosts:\n  vela:\n    interfaces: {internet: {address: 192.0.2.10}}\n    services:\n"
             "      web: {listens: [80, 443 tls], certificate: visit, sites: {rack: {names: [rack.kestrel-ridge.example], files: [index.html]}}}\n")  # fmt: skip
SERVER = (
    "hosts:\n",
    "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.53}}\n    services: {names: {kind: name-server, zones: [kestrel-ridge.example]}}\n",
)

SIX = [("[10.20.0.0/24]", '[10.20.0.0/24, "2001:db8:20::/64"]'), ("address: 203.0.113.40}", 'address: [203.0.113.40, "2001:db8:40::1"]}'),
       ("dome: {address: 10.20.0.1}", 'dome: {address: [10.20.0.1, "2001:db8:20::1"]}'), (HOST, '{dome: {address: [10.20.0.15, "2001:db8:20::15"]}}')]  # fmt: skip
HOST_SIX = SIX[3][1]
STREET = "address: 198.51.100.77,"
COPY = "delegated_to: [ns1.old-pages.example]\n    copies: {old: {servers: [ns1.old-pages.example], without: [visit]}}"
BEFORE = "before: [{until: 2026-03-14T19:30:00Z, records: [visit 3600 A 203.0.113.99]}]"
VIEW = "views: {inside: {for: [203.0.113.40/32], records: [visit 60 A 10.20.0.15]}}"
RESOLVER = [
    ("      web:\n", "      cache: {kind: resolver}\n      web:\n"),
    ("10.20.0.50}", "10.20.0.50, resolver: 10.20.0.15}"),
]
RACK = (REC, REC + "      - rack 60 A 192.0.2.10\n")
CARRIER = [("networks:\n", "networks:\n  carrier: {subnets: [100.64.0.0/10]}\n"), ("line: {network: internet, address: 203.0.113.40}", "line: {network: carrier, address: 100.64.12.7}"),
           ("routers:\n", "routers:\n  carrier:\n    provider: true\n    interfaces: {up: {network: internet, address: 203.0.113.40}, down: {network: carrier, address: 100.64.0.1}}\n    masquerade: [up]\n")]  # fmt: skip
OF_OFFICE = (EXPECTED, EXPECTED.replace("street", "office"))


def zone(*lines: str):
    """Keys of the zone beside its records."""
    return "    records:\n", "".join(f"    {line}\n" for line in lines) + "    records:\n"


def listed(lines: str):
    """The dome with an access list."""
    return "[10.20.0.0/24]", f"[10.20.0.0/24], access_list: {{{lines}}}"


def areas(text: str):
    """orion with areas."""
    return HOST, f"{HOST}\n    filter: {{areas: {{{text}}}}}"


def web_with(facts: str):
    """The web service with further facts."""
    return "        program: nginx\n", f"        program: nginx\n        {facts}\n"


def street(facts: str):
    """The street with further facts."""
    return STREET, f"{STREET} {facts},"


BEHIND_IT = """\
  vega:
    interfaces: {dome: {address: 10.20.0.16}}
    services: {inner: {program: nginx, listens: [8080], sites: {inner: {files: [index.html]}}}}
certificates:
"""
SITE = "            certificate: visit\n            files: [index.html, tonight.html, img/dome.jpg]\n"
PLAIN_VISIT = "http://visit.kestrel-ridge.example/"
PLAIN_EXPECTED = (EXPECTED, EXPECTED.replace("https", "http"))


def site(facts: str, expected: str = ""):
    """The visit site with other facts, and perhaps other expectations."""
    lines = "".join(f"            {line}\n" for line in facts.split("\n"))
    return [(SITE, f"            certificate: visit\n{lines}"), *([(EXPECTED, expected)] if expected else [])]


def fronted(
    upstream: str, inner: str, *, program: str = "nginx", listens: str = "[8080]", more: str = "", expected: str = ""
):
    """The visit site before a program on vega."""
    vega = (
        f"  vega:\n    interfaces: {{dome: {{address: 10.20.0.16}}}}\n    services:\n      inner:\n        program: {program}\n"
        f"        listens: {listens}\n{more}        sites:\n{inner}certificates:\n"
    )
    page = expected or EXPECTED.replace("visit/index.html", "inner/index.html")
    return [*site(f"upstream: {upstream}"), ("certificates:\n", vega), (EXPECTED, page)]


INNER = "          inner: {files: [index.html]}\n"
FORCING = (
    "          inner:\n            names: [visit.kestrel-ridge.example]\n            files: [index.html]\n"
    '            redirects: [{when: {WHEN}, to: "https://{host}{path}{query}"}]\n'
)
#: code: (changes, url, vantage); the expectation of the office holds for VISIT from street.
BAD = {
    "differs-by-a-slip": ([("dome: {address: 10.20.0.1}", "dome: {address: 10.20.0.1/30}")], VISIT, "street"),
    "name-missing": ([(REC, "")], VISIT, "street"),
    "name-wrong-type": ([(REC, "      - visit 3600 TXT x\n")], VISIT, "street"),
    "name-doubled-origin": ([(REC, "      - visit.kestrel-ridge.example 3600 A 203.0.113.40\n")], VISIT, "street"),
    "name-alias-dangling": ([(REC, "      - visit 3600 CNAME gone\n")], VISIT, "street"),
    "name-alias-loop": ([(REC, "      - visit 3600 CNAME one\n      - one 3600 CNAME visit\n")], VISIT, "street"),
    "name-alias-at-apex": ([(REC, REC + "      - visit 3600 CNAME other\n")], VISIT, "street"),
    "name-zone-refused": ([(SERVER[0], SERVER[1].replace("kind: name-server,", "kind: name-server, program: named,")), (REC, REC + "      - o_k 60 A 203.0.113.40\n")], VISIT, "street"),
    "name-zone-refused, no address": ([(SERVER[0], SERVER[1].replace("kind: name-server,", "kind: name-server, program: named,")), (REC, REC + "      - '@ 60 NS ns'\n")], VISIT, "street"),
    "name-zone-refused, a second start": ([(REC, REC + "      - '@ 60 SOA ns m 1 60 60 60 60'\n      - '@ 60 SOA ns m 2 60 60 60 60'\n")], VISIT, "street"),
    "name-delegation-lame": ([SERVER, ("    records:\n", "    delegated_to: [ns.gone.example]\n    records:\n")], VISIT, "street"),
    "name-hosts-override": ([("address: 198.51.100.77,", "address: 198.51.100.77, hosts_file: {lines: [192.0.2.9 visit.kestrel-ridge.example]},")], VISIT, "street"),
    "name-private-address": ([(REC, "      - visit 3600 A 10.20.0.15\n")], VISIT, "street"),
    "name-wrong-address": ([(REC, "      - visit 3600 A 203.0.113.99\n")], VISIT, "street"),
    "name-wrong-address, another box": ([(REC, "      - visit 3600 A 192.0.2.10\n"), ELSEWHERE], VISIT, "street"),
    "name-wrong-type, other version": ([(REC, "      - visit 3600 AAAA 2001:db8:20::15\n")], VISIT, "street"),
    "name-registration-lapsed": ([zone("registered_until: 2026-03-01")], VISIT, "street"),
    "name-registration-lapsed, on hold": ([zone("on_hold: true")], VISIT, "street"),
    "name-zone-elsewhere": ([zone(COPY)], VISIT, "street"),
    "name-zone-elsewhere, old answer": ([zone(COPY.replace("without: [visit]", "records: [visit 60 A 203.0.113.99]"))], VISIT, "street"),
    "name-zone-elsewhere, not delegated": ([("zones:\n", "zones:\n  visit.kestrel-ridge.example: {records: ['@ 60 A 203.0.113.40', '@ 60 NS ns.host.example.']}\n"), (REC, "")], VISIT, "street"),
    "name-glue-wrong": ([SERVER, zone("delegated_to: [ns1.kestrel-ridge.example]", "glue: {ns1.kestrel-ridge.example: 192.0.2.54}"), (REC, REC + "      - ns1 60 A 192.0.2.53\n")], VISIT, "street"),
    "name-glue-wrong, in the parent": ([(SERVER[0], SERVER[1].replace("[kestrel-ridge.example]", "[sub.kestrel-ridge.example]")), (REC, REC + "      - sub NS ns.sub\n      - ns.sub 60 A 192.0.2.54\n"),
                                       ("zones:\n", "zones:\n  sub.kestrel-ridge.example: {records: ['@ 60 A 203.0.113.40', ns 60 A 192.0.2.53]}\n")], "http://sub.kestrel-ridge.example/", "street"),
    "name-cached-old": ([zone(BEFORE), street("last_asked: 2026-03-14T19:20:00Z")], VISIT, "street"),
    "name-cached-absent": ([zone(BEFORE.replace("records: [visit 3600 A 203.0.113.99]", "without: [visit]")), (REC, REC + '      - "@ 3600 SOA ns m 1 60 60 60 3600"\n'),
                            street("last_asked: 2026-03-14T19:20:00Z")], VISIT, "street"),
    "name-view-split": ([zone(VIEW.replace("10.20.0.15", "10.20.0.16")), *RESOLVER, OF_OFFICE], VISIT, "office"),
    "name-view-split, lacks it": ([zone(VIEW.replace("records: [visit 60 A 10.20.0.15]", "without: [visit]")), *RESOLVER, OF_OFFICE], VISIT, "office"),
    "name-wildcard-hides": ([(REC, '      - "* 60 A 192.0.2.10"\n'), ELSEWHERE], VISIT, "street"),
    "name-wildcard-hides, stopped": ([(REC, '      - "* 60 A 203.0.113.40"\n      - _x.visit 60 TXT x\n')], VISIT, "street"),
    "name-v6-dead": ([*SIX, (REC, REC + "      - visit 60 AAAA 2001:db8:99::1\n"), (STREET, STREET.replace("198.51.100.77", '"2001:db8:77::7"'))], VISIT, "street"),
    "name-one-address-dead": ([(REC, "      - visit 60 A 192.0.2.10\n" + REC), ELSEWHERE], VISIT, "street"),
    "name-address-changed": ([("line: {network: internet, address: 203.0.113.40}", "line: {network: internet, address: 203.0.113.41, before: [{until: 2026-03-12T04:00:00Z, address: 203.0.113.40}]}")],
                             VISIT, "street"),
    "name-signature-broken": ([zone("keys: [spring]", "ds: [autumn]"), street("resolver: validating")], VISIT, "street"),
    "name-signature-broken, missing": ([zone("ds: [autumn]"), street("resolver: validating")], VISIT, "street"),
    "name-signature-broken, ended": ([zone("keys: [spring]", "ds: [spring]", "signatures_until: 2026-03-10"), street("resolver: validating")], VISIT, "street"),
    "name-resolver-refuses": ([(RESOLVER[0][0], RESOLVER[0][1].replace("kind: resolver", "kind: resolver, refuses: [kestrel-ridge.example]")), RESOLVER[1], OF_OFFICE, ("    masquerade", "    hairpin: full\n    masquerade")],
                              VISIT, "office"),
    "name-local-only": ([("    interfaces: {dome: {address: 10.20.0.15}}\n", "    interfaces: {dome: {address: 10.20.0.15}}\n    local_name: orion.local\n")], "http://orion.local/", "street"),
    "name-local-only, no dot": ([], "http://visit/", "street"),
    "name-resolver-mistyped": None,  # only checks find it: tests/diagnosis/test_lint.py
    "name-caa-forbids": None,  # only checks find it: tests/diagnosis/test_lint.py
    "address-typed-wrong": ([], "http://203.0.113.41/", "street"),
    "hairpin-missing": ([(EXPECTED, EXPECTED.replace("street", "office"))], VISIT, "office"),
    "hairpin-missing, half": ([("    masquerade", "    hairpin: destination-only\n    masquerade"), (EXPECTED, EXPECTED.replace("street", "office"))], VISIT, "office"),
    "forward-missing": ([(F443, "")], VISIT, "street"),
    "forward-missing, silent": ([(F443, ""), ("    masquerade", "    filter: {inbound: {default: drop}}\n    masquerade")], VISIT, "street"),
    "forward-disabled": ([(F443, F443.replace("}", ", enabled: false}"))], VISIT, "street"),
    "forward-wrong-address": ([(F443, F443.replace("10.20.0.15", "10.20.0.51"))], VISIT, "street"),
    "forward-wrong-port": ([(F443, F443.replace("}", ", port: 8443}"))], VISIT, "street"),
    "filter-drops": ([filtered("{allow: tcp, ports: 80}")], VISIT, "street"),
    "filter-drops, in the router": ([("    masquerade", "    filter: {forward: {default: drop}}\n    masquerade")], VISIT, "street"),
    "filter-rejects": ([filtered("{reject: tcp}", "allow")], VISIT, "street"),
    "filter-replies-forgotten": ([(HOST, f"{HOST}\n    filter: {{basics: [], inbound: {{default: drop, rules: [{{allow: tcp, ports: [80, 443], state: new}}]}}}}")], VISIT, "street"),
    "filter-replies-forgotten, the answer": ([(HOST, f"{HOST}\n    filter: {{stateful: false, outbound: {{default: drop}}}}")], VISIT, "street"),
    "filter-basics-missing": ([*SIX, (HOST_SIX, f"{HOST_SIX}\n    filter: {{basics: [known-connections], inbound: {{default: drop, rules: [{{allow: tcp}}]}}}}"), (REC, "      - visit 60 AAAA 2001:db8:20::15\n"),
                               (STREET, STREET.replace("198.51.100.77", '"2001:db8:77::7"'))], VISIT, "street"),
    "filter-basics-missing, loopback": ([(HOST, f"{HOST}\n    filter: {{basics: [known-connections], inbound: {{default: drop, rules: [{{allow: tcp, in: dome}}]}}}}"), ("  office: {network: dome, address: 10.20.0.50}", "  office: {host: orion}")], "http://10.20.0.15/", "office"),
    "filter-basics-unsaid": None,  # only checks find it: tests/diagnosis/test_lint.py
    "redirect-local-missing": ([web_with("privileged: false"), ("listens: [80, 443 tls]", "listens: [8080, 8443 tls]")], VISIT, "street"),
    "forward-not-for-own": ([("listens: [80, 443 tls]", "listens: [8080, 8443 tls]"), (HOST, f"{HOST}\n    forwards: [{{tcp: 80, port: 8080}}, {{tcp: 443, port: 8443}}]"), ("  office: {network: dome, address: 10.20.0.50}", "  office: {host: orion}")], "http://10.20.0.15/", "office"),
    "filter-order": ([filtered("{drop: tcp}, {allow: tcp, ports: 443}")], VISIT, "street"),
    "group-missing-port": (grouped("{allow: tcp, ports: 80}"), VISIT, "street"),
    "group-wrong-source": (grouped("{allow: tcp, ports: 443, from: 10.20.0.0/24}"), VISIT, "street"),
    "outbound-blocked": ([("address: 198.51.100.77,", "address: 198.51.100.77, filter: {outbound: {rules: [{drop: tcp, ports: 443}]}},")], VISIT, "street"),
    "route-missing": ([(HOST, f"{HOST}\n    gateway: none"), ("address: 10.20.0.50}", "host: orion}".replace("host", "host")), ("network: dome, host", "host"),
                       (EXPECTED, '  - {url: "http://192.0.2.10/", from: office}\n'), ELSEWHERE], "http://192.0.2.10/", "office"),
    "route-missing, at the server": ([(HOST, f"{HOST}\n    gateway: none")], VISIT, "street"),
    "route-back-astray": ([(HOST, f"{HOST}\n    gateway: 10.20.0.2"), ("address: 10.20.0.50}", "address: 10.20.0.50, gateway: 10.20.0.1}"),
                           ("routers:\n", "routers:\n  second:\n    interfaces: {up: {network: internet, address: 203.0.113.41}, dome: {address: 10.20.0.2}}\n    masquerade: [up]\n")], VISIT, "street"),
    "answer-by-other-line": ([(HOST, "{dome: {address: [10.20.0.15, 10.20.0.25]}}\n    gateway: 10.20.0.1"), ("address: 10.20.0.50}", "address: 10.20.0.50, gateway: 10.20.0.1}"),
                              ("routers:\n", "routers:\n  second:\n    interfaces: {up: {network: internet, address: 192.0.2.41}, dome: {address: 10.20.0.2}}\n    masquerade: [up]\n    forwards: [{on: up, tcp: 80, to: 10.20.0.25}]\n")], "http://192.0.2.41/", "street"),
    "answer-by-other-line, of a router": ([("line: {network: internet, address: 203.0.113.40}", "line: {network: internet, address: 203.0.113.40, provider_checks_source: true}\n      two: {network: internet, address: 192.0.2.41}"),
                                           ("    masquerade: [line]\n", "    masquerade: [line, two]\n"), ("{on: line, tcp: 80,", "{tcp: 80,")], "http://192.0.2.41/", "street"),
    "interface-down": ([(HOST, "{dome: {address: 10.20.0.15, up: false}}")], VISIT, "street"),
    "network-keeps-apart": ([("[10.20.0.0/24]", "[10.20.0.0/24], isolated: true")], "http://10.20.0.15/", "office"),
    "reverse-path-checked": ([("networks:\n", "networks:\n  hall: {subnets: [10.30.0.0/24]}\n"), ("      dome: {address: 10.20.0.1}\n", "      dome: {address: 10.20.0.1}\n      hall: {address: 10.30.0.1}\n"),
                              (HOST, "{dome: {address: 10.20.0.15}, hall: {address: 10.30.0.15}}\n    gateway: 10.20.0.1\n    reverse_path: strict")], "http://10.30.0.15/", "office"),
    "packets-too-large": ([("line: {network: internet, address: 203.0.113.40}", "line: {network: internet, address: 203.0.113.40, mtu: 600}"),
                           ("    masquerade: [line]\n", "    masquerade: [line]\n    filter: {basics: [], outbound: {rules: [{drop: icmp}]}}\n")], VISIT, "street"),
    "name-private-dropped": ([("      web:\n", "      cache: {kind: resolver, drops_private: true}\n      web:\n"), ("10.20.0.50}", "10.20.0.50, resolver: 10.20.0.15}"),
                              ("      - visit 3600 A 203.0.113.40\n", "      - visit 3600 A 203.0.113.40\n      - inn 60 A 10.20.0.15\n")], "http://inn.kestrel-ridge.example/", "office"),
    "name-too-many-records": ([("      web:\n", "      cache: {kind: resolver, program: named}\n      web:\n"), ("10.20.0.50}", "10.20.0.50, resolver: 10.20.0.15}"),
                               ("      - visit 3600 A 203.0.113.40\n", "      - visit 3600 A 203.0.113.40\n" + "".join(f"      - many 60 A 203.0.113.{each}\n" for each in range(100, 201)))], "http://many.kestrel-ridge.example/", "office"),
    "content-folder-missing": ([*site("folder: /srv/visti-pages"), (HOST, f"{HOST}\n    folders: {{/srv/visit-pages: {{files: [index.html]}}}}")], VISIT, "street"),
    "content-folder-missing, the grant": ([("program: nginx", "program: apache\n        grants: [/srv/visit-pages]"), *site("folder: /srv/visits-pages\nfiles: [index.html]")], VISIT, "street"),
    "content-folder-missing, the root beside the grant": ([("program: nginx", "program: apache\n        grants: [/srv/visit-pages]"), *site("folder: /srv/visits-pages"), (HOST, f"{HOST}\n    folders: {{/srv/visit-pages: {{files: [index.html]}}}}")], VISIT, "street"),
    "content-unreadable": (site("files: [index.html]\nrights: {index.html: '0600 root:root'}"), VISIT, "street"),
    "content-unreadable, a folder above": (site("folder: /srv/visit\nfiles: [index.html]\nrights: {/srv: '0750 root:root'}"), VISIT, "street"),
    "content-unreadable, other reasons": (site("files: [index.html]\nunreadable: [index.html]"), VISIT, "street"),
    "access-denied": (site("files: [index.html]\naccess: {from: 192.0.2.0/24}"), VISIT, "street"),
    "refusal-missing": ([*site("files: [index.html]\naccess: {}"), (EXPECTED, EXPECTED.replace("page: visit/index.html", "status: 403"))], VISIT, "street"),
    "refusal-missing, password": ([*site("files: [index.html]"), (EXPECTED, EXPECTED.replace("page: visit/index.html", "status: 401"))], VISIT, "street"),
    "refusal-missing, a path": ([(EXPECTED, EXPECTED.replace("example/,", "example/tonight.html,").replace('example/"', 'example/tonight.html"').replace("page: visit/index.html", "status: 404"))], VISIT + "tonight.html", "street"),
    "access-denied, nobody": (site("files: [index.html]\naccess: {nobody: true}"), VISIT, "street"),
    "access-denied, password": (site("files: [index.html]\naccess: {password: true}"), VISIT, "street"),
    "error-page-broken": (site("error_pages: {502: /sory.html}\nsections: [{path: /, upstream: 'http://10.20.0.99'}, {path: /sor, files: [x]}, {exact: /sorry.html, folder: /srv/pages, files: [sorry.html]}]", EXPECTED.replace("page: visit/index.html", "status: 502")), VISIT, "street"),
    "rule-file-broken": ([("program: nginx", "program: apache"), *site("files: [index.html]\nreads_rule_files: true\nrule_files: [{broken: Invalid command}]")], VISIT, "street"),
    "rule-file-ignored": ([("program: nginx", "program: apache"), *site("files: [new/index.html]\nrule_files: [{redirects: [{when: {path: /}, to: /new/}]}]", EXPECTED.replace("visit/index.html", "visit/new/index.html"))], VISIT, "street"),
    "rule-file-ignored, another name": ([("program: nginx", "program: apache"), *site("files: [new/index.html]\nreads_rule_files: true\nrule_files: [{file_name: htaccess.txt, redirects: [{when: {path: /}, to: /new/}]}]", EXPECTED.replace("visit/index.html", "visit/new/index.html"))], VISIT, "street"),
    "rule-file-ignored, another program": (site("files: [new/index.html]\nrule_files: [{redirects: [{when: {path: /}, to: /new/}]}]", EXPECTED.replace("visit/index.html", "visit/new/index.html")), VISIT, "street"),
    "section-order": ([("program: nginx", "program: apache"), *site("files: [index.html]\nsections: [{path: /, upstream: 'http://10.20.0.16:8080'}, {path: /in/, folder: /srv/in, files: [index.html]}]", EXPECTED.replace("visit/index.html", "visit/in/index.html").replace('example/"', 'example/in/"'))], VISIT + "in/", "street"),
    "section-order, what is passed on": ([*fronted('"http://10.20.0.16:8080"', INNER), ("program: nginx", "program: apache"), ('upstream: "http://10.20.0.16:8080"', 'sections: [{path: /, upstream: "http://10.20.0.17:8080"}, {path: /in/, upstream: "http://10.20.0.16:8080/"}]'), ('example/"', 'example/in/"')], VISIT + "in/", "street"),
    "body-too-large": ([("program: nginx", "program: apache"), *site("files: [index.html]\nlargest_body: 1000"), (STREET, f"{STREET} method: POST, body: 2000,")], VISIT, "street"),
    "scripts-not-run": ([*site("folder: /srv/visit\nfiles: [index.php]\nindex_files: [index.php]\nsections: [{pattern: '[.]php$', scripts_at: /run/page.sock}]", EXPECTED.replace("visit/index.html", "visit/index.php")), ("    services:\n      web:", "    services:\n      pages: {kind: scripts, socket: /run/pages.sock}\n      web:")], VISIT, "street"),
    "scripts-not-run, stopped": ([*site("folder: /srv/visit\nfiles: [index.php]\nindex_files: [index.php]\nsections: [{pattern: '[.]php$', scripts_at: /run/pages.sock}]", EXPECTED.replace("visit/index.html", "visit/index.php")), ("    services:\n      web:", "    services:\n      pages: {kind: scripts, socket: /run/pages.sock, state: stopped}\n      web:")], VISIT, "street"),
    "scripts-not-run, the socket's rights": ([*site("folder: /srv/visit\nfiles: [index.php]\nindex_files: [index.php]\nsections: [{pattern: '[.]php$', scripts_at: /run/pages.sock}]", EXPECTED.replace("visit/index.html", "visit/index.php")), ("    services:\n      web:", "    services:\n      pages: {kind: scripts, socket: /run/pages.sock, socket_rights: 0660 pages:pages}\n      web:")], VISIT, "street"),
    "visitor-behind-front": (fronted('"http://10.20.0.16:8080"', "          inner: {files: [index.html], access: {from: 198.51.100.0/24}}\n"), VISIT, "street"),
    "visitor-behind-front, it is said": (fronted('{to: "http://10.20.0.16:8080", headers: {X-Real-IP: "{client}"}}', "          inner: {files: [index.html], access: {from: 198.51.100.0/24}}\n"), VISIT, "street"),
    "upstream-member-differs": None,  # it is met at another turn: tests/http/test_found_sites.py
    "upgrade-lost": None,  # asked for by websocket: tests/http/test_sockets.py
    "upstream-down": (fronted('"http://10.20.0.16:8080"', INNER, more="        state: stopped\n"), VISIT, "street"),
    "upstream-silent": (fronted('"http://10.20.0.16:8080"', INNER, more="        answers_after: 90\n"), VISIT, "street"),
    "upstream-name-lost": (fronted('"http://10.20.0.16:8080"', "          first: {files: [index.html]}\n          inner: {names: [visit.kestrel-ridge.example], files: [index.html]}\n"), VISIT, "street"),
    "upstream-name-lost, its own": (fronted('"http://10.20.0.16:8080"', "          first: {files: [index.html]}\n          inner: {names: [inner.example], files: [index.html]}\n"), VISIT, "street"),
    "redirect-loop-origin-plain": (fronted('{to: "http://10.20.0.16:8080", host: kept}', FORCING.replace("WHEN", "scheme: http")), VISIT, "street"),
    "redirect-scheme-not-trusted": (fronted('{to: "http://10.20.0.16:8080", host: kept, headers: {X-Forwarded-Proto: "{scheme}"}}', FORCING.replace("WHEN", "scheme: http")), VISIT, "street"),
    "redirect-scheme-not-trusted, not passed on": (fronted('{to: "http://10.20.0.16:8080", host: kept}', FORCING.replace("WHEN", "not_header: {X-Forwarded-Proto: https}")), VISIT, "street"),
    "redirect-downgrade": (site('files: [index.html]\nredirects: [{when: {scheme: https}, to: "http://{host}{path}"}]', EXPECTED.replace("page: visit/index.html", "page: visit/index.html, secure: true")), VISIT, "street"),
    "redirect-target-dead": (site('files: [index.html]\nredirects: [{when: {scheme: http}, to: "https://visti.kestrel-ridge.example{path}"}]', EXPECTED.replace("https", "http")), PLAIN_VISIT, "street"),
    "redirect-target-dead, the port": (site('files: [index.html]\nredirects: [{when: {scheme: http}, to: "https://{host}:8443{path}"}]', EXPECTED.replace("https", "http")), PLAIN_VISIT, "street"),
    "redirect-remembered": ([PLAIN_EXPECTED, (STREET, f'{STREET} remembers_redirects: {{"http://visit.kestrel-ridge.example/": "http://other.kestrel-ridge.example/"}},')], PLAIN_VISIT, "street"),
    "transport-strict-trap": ([PLAIN_EXPECTED, (F443, ""), (STREET, f"{STREET} strict: [.kestrel-ridge.example],")], PLAIN_VISIT, "street"),
    "page-part-missing": None,  # only checks find it: tests/diagnosis/test_lint.py
    "page-part-plain": None,
    "rate-shared": None,
    "page-part-refused": None,
    "service-config-broken, two defaults": ([*site("files: [index.html]\ndefault: true"), ("names: [other.kestrel-ridge.example]\n", "names: [other.kestrel-ridge.example]\n            default: true\n")], VISIT, "street"),
    "service-config-broken, a section twice": (site("files: [index.html]\nsections: [{path: /a, answer: 404}, {path: /a, answer: 410}]"), VISIT, "street"),
    "binding-name-differs, a final dot": ([(NAMES, "names: [visit.kestrel-ridge.example.]\n"), ("          visit:\n", "          zero: {names: [zero.example], certificate: visit, files: [index.html]}\n          visit:\n")], VISIT, "street"),
    "site-not-enabled, no other site": ([("          other:\n            names: [other.kestrel-ridge.example]\n            certificate: visit\n            files: [index.html]\n", ""), (NAMES, NAMES + "            enabled: false\n")], VISIT, "street"),
    "content-index-missing, a hidden ending": (site("files: [index.html.txt]"), VISIT, "street"),
    "site-not-enabled, not included": ([(NAMES, NAMES + "            written_in: /etc/nginx/visit.conf\n            included: false\n")], VISIT, "street"),
    "service-not-reloaded, a site": ([(NAMES, NAMES + "            written_in: /etc/nginx/visit.conf\n            loaded: false\n")], VISIT, "street"),
    "forward-shadowed": ([(F443, F443.replace("0.15", "0.16") + F443)], VISIT, "street"),
    "forward-shadowed, own page": ([("    masquerade", "    services: {admin: {listens: [443 tls], certificate: visit}}\n    own_services_first: true\n    masquerade")], VISIT, "street"),
    "hairpin-missing, one-to-one": ([("    masquerade", "    one_to_one: [{on: line, outside: 203.0.113.41, inside: 10.20.0.15}]\n    masquerade"), (REC, REC.replace("0.113.40", "0.113.41")), OF_OFFICE], VISIT, "office"),
    "line-port-blocked": ([("address: 203.0.113.40}", "address: 203.0.113.40, provider_blocks: [25, 400-500]}")], VISIT, "street"),
    "line-shared-address": (CARRIER, VISIT, "street"),
    "list-blocks-inbound": ([listed("inbound: [{allow: tcp, ports: 80}]")], VISIT, "street"),
    "list-blocks-inbound, by a line": ([listed("inbound: [{allow: tcp, ports: 80}, {drop: any}, {allow: any}]")], VISIT, "street"),
    "list-blocks-replies": ([listed("outbound: [{allow: tcp, ports: [80, 443]}]")], VISIT, "street"),
    "outbound-blocked, by the subnet": ([listed("outbound: [{allow: udp}, {allow: tcp, ports: [80, '32768-60999']}]"), ELSEWHERE, RACK], "https://rack.kestrel-ridge.example/", "office"),
    "outbound-blocked, by the router": ([("    masquerade", "    filter: {forward: {rules: [{drop: tcp, in: dome, ports: 80}]}}\n    masquerade"), ELSEWHERE, RACK], "http://rack.kestrel-ridge.example/", "office"),
    "mask-wrong": ([("10.20.0.50}", "10.20.0.50/28}"), OF_OFFICE, (REC, REC.replace("203.0.113.40", "10.20.0.15"))], VISIT, "office"),
    "mask-wrong, at the server": ([(HOST, "{dome: {address: 10.20.0.15/1}}"), (STREET, "address: 100.1.2.3,")], VISIT, "street"),
    "address-duplicate": ([("10.20.0.50}", "10.20.0.15}")], VISIT, "street"),
    "network-isolated": ([], "http://10.20.0.15/", "street"),
    "network-isolated, host-only": ([("networks:\n", "networks:\n  box: {kind: host-only, subnets: [192.168.56.0/24]}\n"), (HOST, "{box: {address: 192.168.56.10}}"), ("tcp: 443, to: 10.20.0.15", "tcp: 443, to: 192.168.56.10"),
                                     ("tcp: 80, to: 10.20.0.15", "tcp: 80, to: 192.168.56.10")], VISIT, "street"),
    "route-missing, a route that ends": ([(HOST, f"{HOST}\n    routes: [{{to: 198.51.100.0/24, type: blackhole}}]")], VISIT, "street"),
    "group-not-attached": ([(HOST, "{dome: {address: 10.20.0.15, groups: [inner]}, back: {network: dome, address: 10.20.0.16, groups: [web]}}\n    gateway: 10.20.0.1"),
                            ("certificates:", "groups: {web: {inbound: [{allow: tcp, ports: 443}]}, inner: {inbound: [{allow: tcp, ports: 22}]}}\ncertificates:")], VISIT, "street"),
    "filter-drops, behind a one-to-one address": (
        [
            (
                "    masquerade",
                "    one_to_one: [{on: line, outside: 203.0.113.41, inside: 10.20.0.15}]\n    filter: {forward: {default: drop}}\n    masquerade",
            ),
            (REC, REC.replace("0.113.40", "0.113.41")),
        ],
        VISIT,
        "street",
    ),
    "filter-drops, by an area": ([areas("inside: {from: 10.20.0.0/24, services: [https]}, outside: {default: true, services: [http], otherwise: drop}")], VISIT, "street"),
    "filter-rejects, by an area": ([areas("outside: {default: true, services: [http]}")], VISIT, "street"),
    "filter-drops, in a chain": ([(HOST, f"{HOST}\n    filter: {{chains: {{web: {{rules: [{{drop: tcp, ports: 443}}]}}}}, inbound: {{rules: [{{jump: web}}]}}}}")], VISIT, "street"),
    "filter-not-permanent": ([filtered("{allow: tcp, ports: 80}"), ("rules: [{allow: tcp, ports: 80}]}}", "rules: [{allow: tcp, ports: 80}]}}\n    after_boot: {filter: {inbound: {default: drop, rules: [{allow: tcp, ports: 443}]}}}")], VISIT, "street"),
    "filter-not-permanent, booted": ([(HOST, f"{HOST}\n    after_boot: {{filter: {{inbound: {{default: drop}}}}}}")], VISIT, "street"),
    "service-not-enabled, booted": ([web_with("after_boot: {state: stopped}")], VISIT, "street"),
    "service-no-privilege": ([web_with("privileged: false")], VISIT, "street"),
    "service-config-broken": ([web_with("saved: {broken: unknown directive, listens: [80, 443 tls]}"), ("443 tls]\n", "8443 tls]\n")], VISIT, "street"),
    "service-config-broken, booted": ([web_with("saved: {broken: unknown directive}")], VISIT, "street"),
    "service-not-reloaded": ([web_with("saved: {listens: [80, 443 tls]}"), ("        listens: [80, 443 tls]\n", "        listens: [80]\n")], VISIT, "street"),
    "service-not-reloaded, sites": ([web_with("saved: {sites: {visit: {names: [visit.kestrel-ridge.example], certificate: visit, files: [index.html]}}}"), (NAMES, "names: [old.example]\n"),
                                     ("          visit:\n            names: [old", "          zero: {names: [zero.example], certificate: visit, files: [index.html]}\n          visit:\n            names: [old")], VISIT, "street"),
    "service-stopped": ([("program: nginx", "program: nginx\n        state: stopped")], VISIT, "street"),
    "service-port-taken": ([("      web:\n", "      old: {kind: other, listens: [443]}\n      web:\n")], VISIT, "street"),
    "listener-loopback-only": ([("443 tls", "'127.0.0.1:443 tls'")], VISIT, "street"),
    "listener-wrong-address": ([(HOST, "{dome: {address: [10.20.0.15, 10.20.0.16]}}"), ("443 tls", "'10.20.0.16:443 tls'")], VISIT, "street"),
    "listener-family": ([("443 tls", "'[::]:443 tls'")], VISIT, "street"),
    "listener-wrong-port": ([("443 tls", "8443 tls"), (F443, "      - {on: line, tcp: 443, to: 10.20.0.15}\n")], VISIT, "street"),
    "listener-plain-on-tls": ([("443 tls", "443")], VISIT, "street"),
    "listener-tls-on-plain": ([], "http://visit.kestrel-ridge.example:443/", "street"),
    "cert-chain-foreign": None, "cert-chain-expired": None, "cert-use": None, "cert-constraint": None, "cert-weak": None, "cert-order": None, "cert-file": None,  # need PEM: tests/tls/test_chains.py
    "cert-not-reloaded": ([("until: 2026-06-01", "until: 2026-03-01, saved: {until: 2026-06-01}")], VISIT, "street"),
    "cert-key-differs": None,  # needs PEM: tests/tls/test_verify.py
    "cert-missing": ([("            certificate: visit\n            files: [index.html, ton", "            files: [index.html, ton")], VISIT, "street"),
    "site-not-enabled": ([(NAMES, NAMES + "            enabled: false\n")], VISIT, "street"),
    "binding-apex-or-www": ([(NAMES, "names: [www.visit.kestrel-ridge.example]\n"), ("          visit:\n", "          zero: {names: [zero.example], certificate: visit, files: [index.html]}\n          visit:\n")], VISIT, "street"),
    "binding-name-differs": ([(NAMES, "names: [visti.kestrel-ridge.example]\n"), ("          visit:\n", "          zero: {names: [zero.example], certificate: visit, files: [index.html]}\n          visit:\n")], VISIT, "street"),
    "upstream-wrong-address": ([("            files: [index.html, tonight.html, img/dome.jpg]\n", "            upstream: http://10.20.0.16:8081\n"), ("certificates:\n", BEHIND_IT), (EXPECTED, EXPECTED.replace("visit/index.html", "inner"))], VISIT, "street"),
    "binding-missing": ([(NAMES, "names: [something-else.example]\n"), ("          visit:\n", "          zero: {names: [zero.example], certificate: visit, files: [index.html]}\n          visit:\n")], VISIT, "street"),
    "site-catch-all": ([("          visit:\n", "          none: {certificate: visit, answer: 404}\n          visit:\n"), (REC, REC + "      - new 60 A 203.0.113.40\n")], "https://new.kestrel-ridge.example/", "street"),
    "binding-shadowed": ([("          visit:\n", "          first: {names: [visit.kestrel-ridge.example, x.example], certificate: visit, files: [index.html]}\n          visit:\n")], VISIT, "street"),
    "content-index-missing": ([(FILES, "files: [tonight.html]")], VISIT, "street"),
    "content-index-missing, other name": ([(FILES, "files: [Index.html]"), (EXPECTED, EXPECTED.replace("visit/index.html", "visit"))], VISIT, "street"),
    "content-missing": ([], "https://visit.kestrel-ridge.example/Tonight.html", "street"),
    "content-index-order": ([(FILES, "files: [index.html, index.htm]\n            index_files: [index.htm, index.html]")], VISIT, "street"),
    "clock-wrong": ([("address: 198.51.100.77,", "address: 198.51.100.77, clock: 2029-01-01,")], VISIT, "street"),
    "cert-expired": ([("until: 2026-06-01", "until: 2026-03-01")], VISIT, "street"),
    "cert-not-yet": ([("from: 2026-01-01", "from: 2026-04-01")], VISIT, "street"),
    "cert-default-served": ([("names: [other.kestrel-ridge.example]\n            certificate: visit", "names: [other.kestrel-ridge.example]"),
                             (CERT, "  visit: {names: [visit.kestrel-ridge.example]}\n  o: {names: [other.kestrel-ridge.example]}\n"),
                             (EXPECTED, '  - {url: "https://other.kestrel-ridge.example/", page: other, from: street}\n')], "https://other.kestrel-ridge.example/", "street"),
    "cert-name": ([('names: ["*.kestrel-ridge.example"]', "names: [kestrel-ridge.example]")], VISIT, "street"),
    "tls-version": ([("            names: [visit.kestrel-ridge.example]\n", '            names: [visit.kestrel-ridge.example]\n            tls_versions: ["1.3"]\n'), ("address: 198.51.100.77,", 'address: 198.51.100.77, tls_versions: ["1.2"],')], VISIT, "street"),
    "client-certificate": ([("            names: [visit.kestrel-ridge.example]\n", '            names: [visit.kestrel-ridge.example]\n            client_certificates: required\n')], VISIT, "street"),
    "handshake-rejected": ([("            names: [visit.kestrel-ridge.example]\n", '            names: [visit.kestrel-ridge.example]\n            rejects_handshake: true\n')], VISIT, "street"),
    "section-inner-only": ([("            names: [visit.kestrel-ridge.example]\n", "            names: [visit.kestrel-ridge.example]\n            sections: [{path: /, inner_only: true}]\n")], VISIT, "street"),
    "cert-private-name": ([('names: ["*.kestrel-ridge.example"]', 'names: [10.20.0.15], issuer: House'), ("certificates:", "authorities: {House: {public: false}}\ncertificates:")], "https://10.20.0.15/", "office"),
    "renewal-blocked": ([("until: 2026-06-01", "until: 2026-06-01, requested: true")], VISIT, "street"),
    "cert-self-signed": ([("from: 2026-01-01", "issuer: self")], VISIT, "street"),
    "cert-issuer-unknown": ([("from: 2026-01-01", "issuer: House"), ("zones:\n", "authorities: {House: {public: false}}\nzones:\n")], VISIT, "street"),
    "cert-chain-incomplete": ([("from: 2026-01-01", "issuer: Mid, sends_chain: false"), ("zones:\n", "authorities: {Mid: {issued_by: public}}\nzones:\n")], VISIT, "street"),
    "redirect-loop-names": ([redirect('{to: "https://other.kestrel-ridge.example{path}"}'),
                             ("            files: [index.html]\n", '            files: [index.html]\n            redirects: [{to: "https://visit.kestrel-ridge.example{path}"}]\n')], VISIT, "street"),
    "redirect-too-many": ([redirect('{to: "https://{host}/x{path}"}')], VISIT, "street"),
    "redirect-inner-target": ([redirect('{when: {scheme: http}, to: "https://orion.local/"}'), (EXPECTED, EXPECTED.replace("https:", "http:"))], "http://visit.kestrel-ridge.example/", "street"),
    "redirect-missing": ([(EXPECTED, EXPECTED.replace("https:", "http:").replace("page:", "secure: true, page:"))], "http://visit.kestrel-ridge.example/", "street"),
    "redirect-loses-path": ([redirect('{when: {scheme: http}, to: "https://{host}/"}'), (EXPECTED, EXPECTED.replace("https:", "http:").replace("example/", "example/tonight.html").replace("visit/index", "visit/tonight"))], "http://visit.kestrel-ridge.example/tonight.html", "street"),
}  # fmt: skip

#: Faults whose remedy lies outside the estate, or that no single change mends.
ADVICE_ONLY = {
    "name-too-many-records",
    "network-isolated",
    "name-local-only",
    "address-typed-wrong",
    "redirect-too-many",
    "listener-tls-on-plain",
}


def explained(code: str) -> tuple[Explanation, object]:
    """The explanation of a bad estate, and what loads its changes."""
    changes, url, vantage = BAD[code]
    held = loaded(swap(OFFICE, *changes))
    world = World(held.estate, held.estate.at, None, None if code.endswith("booted") else frozenset())
    found = explain(
        world, url, held.estate.vantages[vantage], lambda patch: changed(held, patch_operations(patch)).estate
    )
    return found, held


@pytest.mark.parametrize("code", [code for code, bad in BAD.items() if bad is not None])
def test_named_and_mended(code):
    """The fault is the one cause; its first remedy, applied as a change file, gives the visitor what was expected."""
    found, held = explained(code)
    assert [cause.code for cause in found.causes] == [code.partition(",")[0]]
    assert found.causes[0].text
    if code.partition(",")[0] in ADVICE_ONLY:
        return
    assert found.after is not None
    best = next(each for each in found.remedies if each.complete)
    if code.partition(",")[0] in REMEMBERED:
        assert (best.patch, best.safety, best.outcome) == ([], "outside", found.after.outcome)
        return
    again = changed(held, patch_operations(json.loads(json.dumps(best.patch)))).estate
    vantage = again.vantages[BAD[code][2]]
    after = visit(World(again, again.at, None, None if code.endswith("booted") else frozenset()), BAD[code][1], vantage)
    assert misses(expectation_for(again, BAD[code][1], vantage), after) == ()
    assert after.outcome == best.outcome


def test_every_fault_has_a_bad_example_and_a_remedy():
    """Nothing is registered without being shown."""
    shown = {code.partition(",")[0] for code in (*BAD, *BAD_ARCHIVES)}
    assert shown | {"edge-bypassed", "bucket-exposed", "bucket-error-missing"} == set(BY_CODE)
    assert len(BY_CODE) == len(FAULTS)
    assert set(BY_CODE) == set(PROPOSERS)


def test_two_faults_in_a_row_are_both_named_and_both_needed():
    """The second waits behind the first; an unneeded cause is not blamed."""
    held = loaded(
        swap(OFFICE, (F443, ""), ("until: 2026-06-01", "until: 2026-03-01"), (FILES, "files: [tonight.html]"))
    )
    world = World(held.estate, held.estate.at)
    found = explain(
        world, VISIT, held.estate.vantages["street"], lambda patch: changed(held, patch_operations(patch)).estate
    )
    assert [cause.code for cause in found.causes] == ["forward-missing", "cert-expired", "content-index-missing"]
    assert found.remedies[0].fixes == ("forward-missing", "cert-expired", "content-index-missing")
    assert found.remedies[0].complete
    assert found.after.outcome.page == "visit/index.html"


def test_unsafe_remedies_stand_last_and_are_withheld_where_payments_are_taken():
    """A listing of the folder would do, and is not offered for a site that takes payments."""
    found, _ = explained("content-index-missing")
    assert [each.safety for each in found.remedies] == ["safe"]
    bad = [*BAD["content-index-missing"][0], (NAMES, NAMES + "            marks: [takes-payments]\n")]
    held = loaded(swap(OFFICE, *bad))
    guarded = explain(World(held.estate, held.estate.at), VISIT, held.estate.vantages["street"],
                      lambda patch: changed(held, patch_operations(patch)).estate)  # fmt: skip
    assert all(each.safety != "weakens" for each in guarded.remedies)
    assert guarded.withheld


def test_who_can_newly_reach_what_is_listed():
    """A forward opens the service to the street and to everybody there, and the explanation says so."""
    found, _ = explained("forward-missing")
    told = next(text for text in found.remedies[0].changes if "web on orion at 203.0.113.40 port 443" in text)
    assert told.startswith("street, ")
    assert "anybody on the internet" in told


def test_a_remedy_that_breaks_another_expectation_is_not_offered():
    """Renaming a binding would take the page from somebody else."""
    changes, url, vantage = BAD["binding-name-differs"]
    other = '  - {url: "https://visti.kestrel-ridge.example/", from: street, page: visit/index.html}\n'
    held = loaded(
        swap(OFFICE, *changes, (EXPECTED, EXPECTED + other), (REC, REC + "      - visti 60 A 203.0.113.40\n"))
    )
    found = explain(World(held.estate, held.estate.at), url, held.estate.vantages[vantage],
                    lambda patch: changed(held, patch_operations(patch)).estate)  # fmt: skip
    assert [each.text for each in found.remedies if each.patch] == [
        "let the site visit answer to visit.kestrel-ridge.example too"
    ]


def test_every_symptom_is_a_kind_that_exists():
    """And each kind has one code, facts that its words name, and a leg."""
    kinds = {each.kind: each for each in every_kind()}
    assert len(kinds) == len(list(every_kind()))
    missed = {"wrong-page", "not-secure", "wrong-final", "wrong-status", "slow", "*"}
    for each in FAULTS:
        assert set(each.symptoms) <= set(kinds) | missed, each.code
    for each in kinds.values():
        facts = {name for name in each.__struct_fields__ if name not in ("place", "subject")}
        named = {name.partition(".")[0] for _, name, _, _ in Formatter().parse(each.words) if name}
        assert named <= facts, each.kind
        assert each.leg in Leg
        assert "".join(part.capitalize() for part in each.kind.split("-")) == each.__name__


def test_what_is_missed_has_symptoms_of_its_own():
    """Each way to miss an expectation that came with a page is a symptom that some fault looks at."""
    looked_at = {symptom for each in FAULTS for symptom in each.symptoms}
    assert {"wrong-page", "not-secure", "slow"} <= looked_at
