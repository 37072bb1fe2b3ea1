"""The table's worlds about basics, translations on hosts, the filter language, and programs of name servers and caches."""

from conformance.common import (
    BOTH,
    F80,
    HOST,
    MASQ,
    NAMES_HOST,
    OFFICE_V,
    REC,
    SIX,
    STREET,
    Facts,
    P,
    V,
    forward,
    inbound,
)

IN = "http://10.20.0.15/"
IN6 = "http://[2001:db8:20::15]/"
HOST_SIX = SIX[3][1]
SELF = (OFFICE_V, OFFICE_V + "  self: {host: orion}\n")
PLAIN = ("[80, 443 tls]", "[8080, 443 tls]")
ZONE = "    records:\n" + REC
BOX = (
    "hosts:\n",
    """hosts:
  vega:
    interfaces: {dome: {address: 10.20.0.16}, bridge: {network: containers, address: 172.20.0.1}}
    gateway: 10.20.0.1
    forwards: [{tcp: 8080, not_on: [bridge], to: 172.20.0.2, port: 80OWN}]
    source_nat: [{on: dome, from: 172.20.0.0/24}]
  archive:
    interfaces: {containers: {address: 172.20.0.2}}
    services: {page: {listens: [80]}}
""",
)
CONTAINERS = ("networks:\n", "networks:\n  containers: {subnets: [172.20.0.0/24]}\n")
AT_VEGA = "http://10.20.0.16:8080/"
VEGA_V = (OFFICE_V, OFFICE_V + "  vega: {host: vega}\n  box: {host: archive}\n")


def box(own: str = "") -> list[tuple[str, str]]:
    """A host with a container whose port is published."""
    return [CONTAINERS, (BOX[0], BOX[1].replace("OWN", own)), VEGA_V]


def basics(said: str, rules: str, chain: str = "inbound", host: str = HOST) -> tuple[str, str]:
    """orion with a filter that says its basics."""
    return host, f"{host}\n    filter: {{basics: [{said}], {chain}: {{default: drop, rules: [{rules}]}}}}"


def named(program: str) -> tuple[str, str]:
    """A described server that runs a program."""
    return NAMES_HOST[0], NAMES_HOST[1].replace("kind: name-server,", f"kind: name-server, program: {program},")


def before(records: str) -> list[tuple[str, str]]:
    """A zone that was otherwise until 19:30, and a street that asked at 19:29."""
    return [
        (ZONE, f"    before: [{{until: 2026-03-14T19:30:00Z, records: [{records}]}}]\n{ZONE}"),
        (STREET, STREET.replace(", default", ", last_asked: 2026-03-14T19:29:00Z, default")),
    ]


BASICS_WORLDS: dict[str, tuple[Facts, list[str], tuple[str, ...]]] = {
    "way: no basics": (
        [basics("", "{allow: tcp, ports: [80, 443]}"), SELF],
        [IN, f"{P}/"],
        ("street", "office", "self"),
    ),
    "way: only new connections": (
        [basics("loopback", "{allow: tcp, ports: [80, 443], state: new}")],
        [IN, f"{V}/"],
        BOTH,
    ),
    "way: known connections by rule": (
        [basics("", "{allow: any, state: [established, related]}, {allow: tcp, ports: [80, 443]}")],
        [IN, f"{V}/"],
        BOTH,
    ),
    "way: neighbour discovery forgotten": (
        [*SIX, basics("known-connections", "{allow: tcp}", host=HOST_SIX)],
        [IN6, IN],
        BOTH,
    ),
    "way: neighbour discovery by rule": (
        [
            *SIX,
            basics(
                "",
                "{allow: icmp, icmp_types: [neighbour-solicitation, neighbour-advertisement]}, {allow: tcp}",
                host=HOST_SIX,
            ),
        ],
        [IN6, IN],
        BOTH,
    ),
    "way: loopback forgotten": (
        [basics("known-connections", "{allow: tcp, in: dome}"), SELF],
        [IN, "http://127.0.0.1/"],
        ("self", "office"),
    ),
    "way: loopback by rule": ([basics("", "{allow: any, in: lo}"), SELF], [IN], ("self", "office")),
    "way: redirect to a local port": (
        [PLAIN, (HOST, f"{HOST}\n    forwards: [{{tcp: 80, port: 8080}}]"), SELF],
        [IN, f"{P}/", "http://10.20.0.15:8080/"],
        ("street", "office", "self"),
    ),
    "way: redirect for own connections": (
        [PLAIN, (HOST, f"{HOST}\n    forwards: [{{tcp: 80, port: 8080, own_connections: true, address: own}}]"), SELF],
        [IN, "http://127.0.0.1/"],
        ("self", "office"),
    ),
    "way: a published port": (box(), [AT_VEGA, "http://172.20.0.2/"], ("office", "vega", "box")),
    "way: a published port, own connections": (box(", own_connections: true"), [AT_VEGA], ("office", "vega", "box")),
    "way: hairpin of one forward": (
        [(F80, F80.replace("}", ", hairpin: full}")), SELF],
        [f"{P}/", f"{V}/"],
        ("office", "self"),
    ),
    "way: a forward for another address": (
        [(F80, "      - {on: line, address: 203.0.113.44, tcp: 80, to: 10.20.0.15}\n")],
        ["http://203.0.113.44/", f"{P}/"],
        BOTH,
    ),
    "way: not from": ([inbound("{allow: tcp, not_from: [198.51.100.0/24, 192.0.2.0/24]}")], [IN, f"{V}/"], BOTH),
    "way: sets": (
        [
            inbound(
                "{allow: tcp, ports: pages, from: offices}",
                extra="sets: {pages: {ports: [80, 443]}, offices: {addresses: [10.20.0.40-10.20.0.60, 192.0.2.0/24]}}, ",
            )
        ],
        [IN, f"{V}/"],
        BOTH,
    ),
    "way: goto": (
        [
            inbound(
                "{goto: web, protocol: tcp, ports: [80, 443]}, {allow: tcp}",
                extra="chains: {web: {rules: [{allow: tcp, ports: 443}]}}, ",
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: drops before tracking": (
        [(MASQ, f"{MASQ}    filter: {{arriving: {{rules: [{{drop: tcp, ports: 80, to_own: true}}]}}}}\n")],
        [f"{V}/", f"{P}/"],
        BOTH,
    ),
    "way: answers by the inside source": (
        [
            (
                MASQ,
                f"{MASQ}    filter: {{basics: [], forward: {{default: drop, rules: [{{allow: tcp, from: 10.20.0.15}}, {{allow: tcp, to: 10.20.0.15}}]}}}}\n",
            )
        ],
        [f"{V}/"],
        ("street",),
    ),
    "way: any of the router's own": (
        [forward("{allow: tcp, forwarded: true, to_own: false}")],
        [f"{V}/", IN],
        BOTH,
    ),
    "names: named refuses a zone": (
        [named("named"), (REC, REC + "      - '@ 60 NS ns'\n")],
        [f"{V}/"],
        ("street",),
    ),
    "names: NSD loads it": ([named("nsd"), (REC, REC + "      - '@ 60 NS ns'\n")], [f"{V}/"], ("street",)),
    "names: Knot DNS loads it": ([named("knot"), (REC, REC + "      - '@ 60 NS ns'\n")], [f"{V}/"], ("street",)),
    "names: a wildcard that is empty": (
        [(REC, REC + "      - c.*.ent 60 TXT x\n      - '* 60 A 203.0.113.40'\n")],
        ["http://q.ent.kestrel-ridge.example/", "http://q.kestrel-ridge.example/"],
        ("street",),
    ),
    "names: escapes": (
        [(REC, REC + "      - '\\119ide 60 A 203.0.113.40'\n      - '\\* 60 TXT x'\n")],
        ["http://wide.kestrel-ridge.example/", "http://any.kestrel-ridge.example/"],
        ("street",),
    ),
    "names: a DNAME remembered": (
        [
            *before("old 3600 DNAME was"),
            (
                REC,
                REC + "      - old 60 DNAME new\n      - w.new 60 A 203.0.113.40\n      - w.was 3600 A 203.0.113.99\n",
            ),
        ],
        ["http://w.old.kestrel-ridge.example/"],
        ("street",),
    ),
    "names: an absence kept longer than caches keep any": (
        [
            (ZONE, f"    before: [{{until: 2026-03-14T18:30:00Z, without: [visit]}}]\n{ZONE}"),
            (REC, REC + '      - "@ 86400 SOA ns m 1 60 60 60 86400"\n'),
            (STREET, STREET.replace(", default", ", last_asked: 2026-03-14T18:29:00Z, default")),
        ],
        [f"{V}/"],
        BOTH,
    ),
}
