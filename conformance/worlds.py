"""The table of hand-written worlds: one fact of a small estate changed, and the questions that it is about.

What is predicted is not written here: the engine predicts, the real systems decide.
"""

from conformance.basics_worlds import BASICS_WORLDS
from conformance.common import (
    APACHE,
    BOTH,
    CERT,
    F80,
    F443,
    FILES,
    HOST,
    MASQ,
    MIDDLE,
    NAMES_HOST,
    OFFICE_V,
    REC,
    SECOND,
    SIX,
    STREET,
    P,
    V,
    forward,
    group,
    inbound,
    redirects,
)
from conformance.name_worlds import NAME_WORLDS
from conformance.upstream_worlds import UPSTREAM_WORLDS
from conformance.way_worlds import BOOTED, WAY_WORLDS
from tests.conftest import OFFICE, swap

GATED = ("dome, address: 10.20.0.50}", "dome, address: 10.20.0.50, gateway: 10.20.0.1}")
SITE_NAMES, SITE_OTHERS = (f"            names: [{each}.kestrel-ridge.example]" for each in ("visit", "other"))
SITES = OFFICE[OFFICE.index("          visit:\n") : OFFICE.index("certificates:\n")]
TABLE_SITES = """\
          first: {names: [first.kestrel-ridge.example, "*.kestrel-ridge.example"], files: [index.html]}
          visit: {names: [visit.kestrel-ridge.example], files: [index.html]}
          deep: {names: ["*.deep.kestrel-ridge.example"], files: [index.html]}
          tail: {names: [tail.*], files: [index.html]}
          off: {names: [off.kestrel-ridge.example], enabled: false, files: [index.html]}
"""
MANY = [
    (SITES, TABLE_SITES),
    ("[80, 443 tls]", "[80]"),
    (REC, REC + '      - "* 60 A 203.0.113.40"\n      - "*.deep 60 A 203.0.113.40"\n'),
    ("zones:\n", 'zones:\n  other.example: {records: ["* 60 A 203.0.113.40"]}\n'),
]
MANY_ASKED = [
    f"http://{name}/"
    for name in (
        "visit.kestrel-ridge.example",
        "first.kestrel-ridge.example",
        "x.kestrel-ridge.example",
        "y.x.deep.kestrel-ridge.example",
        "tail.other.example",
        "off.kestrel-ridge.example",
        "none.other.example",
        "203.0.113.40",
        "VISIT.kestrel-ridge.example",
    )
]
PATHS = [
    f"{V}{path}"
    for path in (
        "/",
        "/index.html",
        "/img/dome.jpg",
        "/img/",
        "/img",
        "/nope",
        "/nope/",
        "/Index.html",
        "/tonight.html?x=1",
        "/index.html/",
        "//index.html",
    )
]
ZONE = (
    '      - "*.wild A 203.0.113.40"\n      - exists.wild TXT "x"\n      - deep.empty.wild A 203.0.113.40\n      - alias CNAME visit\n      - far CNAME www.elsewhere.example.\n'
    "      - one CNAME two\n      - two CNAME one\n      - text TXT x\n      - doubled.kestrel-ridge.example A 203.0.113.40\n"
)
ZONE_ASKED = [
    f"http://{name}.kestrel-ridge.example/"
    for name in (
        "a.wild",
        "a.b.wild",
        "wild",
        "exists.wild",
        "b.exists.wild",
        "empty.wild",
        "x.empty.wild",
        "alias",
        "far",
        "one",
        "text",
        "doubled",
        "doubled.kestrel-ridge.example",
        "nothing",
    )
]
REJECTS = (
    "tcp-reset",
    "port-unreachable",
    "host-unreachable",
    "net-unreachable",
    "host-prohibited",
    "net-prohibited",
    "admin-prohibited",
)
AUTHORITIES = "\nauthorities:\n  House: {public: false}\n  Wide: {}\n  Between: {issued_by: Wide}\nzones:\n"

#: name: (changes, URLs, vantages)
WORLDS: dict[str, tuple[list[tuple[str, str]], list[str], tuple[str, ...]]] = {
    "as it should be": ([], [f"{V}/", f"{P}/", "http://203.0.113.40/", "http://10.20.0.15/"], BOTH),
    "443 not forwarded": ([(F443, "")], [f"{V}/"], BOTH),
    "443 not forwarded, router silent": (
        [(F443, ""), (MASQ, MASQ + "    filter: {inbound: {default: drop}}\n")],
        [f"{V}/"],
        BOTH,
    ),
    "443 not forwarded, router rejects": (
        [(F443, ""), (MASQ, MASQ + "    filter: {inbound: {default: reject}}\n")],
        [f"{V}/"],
        ("street",),
    ),
    "router's own page": (
        [(F80, ""), (MASQ, MASQ + "    services: {admin: {listens: [80]}}\n")],
        [f"{P}/", "http://10.20.0.1/"],
        BOTH,
    ),
    "forward before the router's own page": (
        [(MASQ, MASQ + "    services: {admin: {listens: [80]}}\n")],
        [f"{P}/"],
        BOTH,
    ),
    "forward to nobody": ([(F443, F443.replace("0.15", "0.99"))], [f"{V}/"], ("street",)),
    "forward to the wrong machine": ([(F443, F443.replace("0.15", "0.50"))], [f"{V}/"], ("street",)),
    "forward to a public stranger": ([(F443, F443.replace("10.20.0.15", "192.0.2.9"))], [f"{V}/"], ("street",)),
    "forward switched off": ([(F443, F443.replace("}", ", enabled: false}"))], [f"{V}/"], ("street",)),
    "forward for others only": ([(F443, F443.replace("}", ", from: 192.0.2.0/24}"))], [f"{V}/"], ("street",)),
    "forward for the asker": ([(F443, F443.replace("}", ", from: 198.51.100.0/24}"))], [f"{V}/"], ("street",)),
    "forward to the plain port": ([(F443, F443.replace("}", ", port: 80}"))], [f"{V}/"], ("street",)),
    "forward to the secure port": ([(F80, F80.replace("}", ", port: 443}"))], [f"{P}/"], ("street",)),
    "forward a range": (
        [(F443, "      - {on: line, tcp: 440-449, to: 10.20.0.15}\n")],
        [f"{V}/", f"{V}:444/"],
        ("street",),
    ),
    "forward a shifted range": (
        [(F443, "      - {on: line, tcp: 8440-8449, to: 10.20.0.15, port: 440}\n")],
        [f"{V}:8443/", f"{V}:8444/", f"{V}/"],
        ("street",),
    ),
    "first forward wins": ([(F443, F443.replace("0.15", "0.50") + F443)], [f"{V}/"], ("street",)),
    "no masquerade": ([(MASQ, "")], [f"{V}/"], ("street",)),
    "hairpin off": ([], [f"{V}/", f"{P}/"], ("office",)),
    "hairpin without source": ([(MASQ, MASQ + "    hairpin: destination-only\n")], [f"{V}/", f"{P}/"], BOTH),
    "hairpin full": ([(MASQ, MASQ + "    hairpin: full\n")], [f"{V}/", f"{P}/"], BOTH),
    "the server asks its own public address": (
        [(MASQ, MASQ + "    hairpin: full\n"), (OFFICE_V, OFFICE_V + "  self: {host: orion}\n")],
        [f"{V}/", "http://localhost/", "http://10.20.0.15/"],
        ("self",),
    ),
    "the server asks without hairpin": (
        [(MASQ, MASQ + "    hairpin: destination-only\n"), (OFFICE_V, OFFICE_V + "  self: {host: orion}\n")],
        [f"{V}/"],
        ("self",),
    ),
    "the router asks": ([(OFFICE_V, OFFICE_V + "  box: {host: gateway}\n")], ["http://10.20.0.15/", f"{V}/"], ("box",)),
    "double forward": (MIDDLE, [f"{V}/", f"{P}/"], BOTH),
    "double forward, inner missing": ([*MIDDLE, (F443, "")], [f"{V}/"], ("street",)),
    "filter allows the port": ([inbound("{allow: tcp, ports: 443}")], [f"{V}/", f"{P}/"], ("street",)),
    "filter allows a range": ([inbound("{allow: tcp, ports: 440-450}")], [f"{V}/", f"{P}/"], ("street",)),
    "filter allows the office": ([inbound("{allow: tcp, from: 10.20.0.0/24}")], ["http://10.20.0.15/", f"{P}/"], BOTH),
    "filter and masquerade on both sides": (
        [(MASQ, "    masquerade: [line, dome]\n"), inbound("{allow: tcp, from: 10.20.0.1}")],
        [f"{V}/"],
        ("street",),
    ),
    "filter order": ([inbound("{drop: tcp}, {allow: tcp, ports: 443}")], [f"{V}/"], ("street",)),
    "filter by state": ([inbound("{allow: tcp, ports: 443, state: new}")], [f"{V}/"], ("street",)),
    "filter by interface": ([forward("{allow: tcp, in: line, out: dome}")], [f"{V}/"], ("street",)),
    "filter by the other interface": ([forward("{allow: tcp, in: dome}")], [f"{V}/"], ("street",)),
    "forward chain drops": ([forward("")], [f"{V}/"], ("street",)),
    "forward chain allows what was forwarded": ([forward("{allow: any, forwarded: true}")], [f"{V}/"], ("street",)),
    "forward chain stops what was forwarded": (
        [forward("{drop: any, forwarded: true}", "allow")],
        [f"{V}/"],
        ("street",),
    ),
    "forward chain allows what was not forwarded": (
        [forward("{allow: any, forwarded: false}")],
        [f"{V}/"],
        ("street",),
    ),
    "forward chain by inside address": (
        [forward("{allow: tcp, ports: 443, to: 10.20.0.15}")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "forward chain by outside address": (
        [forward("{allow: tcp, ports: 443, to: 203.0.113.40}")],
        [f"{V}/"],
        ("street",),
    ),
    "forward chain rejects": ([forward("", "reject")], [f"{V}/"], ("street",)),
    "forward chain without state": (
        [forward("{allow: tcp, ports: 443}", extra="stateful: false, ")],
        [f"{V}/"],
        ("street",),
    ),
    "forward chain with explicit state": (
        [forward("{allow: tcp, ports: 443}, {allow: any, state: [established, related]}", extra="stateful: false, ")],
        [f"{V}/"],
        ("street",),
    ),
    "forward chain by source port": (
        [forward("{allow: tcp, ports: 443}, {allow: tcp, source_ports: 443}", extra="stateful: false, ")],
        [f"{V}/"],
        ("street",),
    ),
    "inbound chain without state": (
        [(STREET, STREET.replace(", default", ", filter: {stateful: false, inbound: {default: drop}}, default"))],
        [f"{V}/"],
        ("street",),
    ),
    "inbound chain keeps answers": (
        [(STREET, STREET.replace(", default", ", filter: {inbound: {default: drop}}, default"))],
        [f"{V}/"],
        ("street",),
    ),
    "outbound drop": (
        [(STREET, STREET.replace(", default", ", filter: {outbound: {default: drop}}, default"))],
        [f"{V}/"],
        ("street",),
    ),
    "server's outbound drop": (
        [(HOST, f"{HOST}\n    filter: {{outbound: {{default: drop}}}}")],
        [f"{V}/"],
        ("street",),
    ),
    "server's outbound drop without state": (
        [(HOST, f"{HOST}\n    filter: {{stateful: false, outbound: {{default: drop}}}}")],
        [f"{V}/"],
        ("street",),
    ),
    **{
        f"inbound {answer}": ([inbound(f"{{reject: tcp, answer: {answer}}}", "allow")], [f"{V}/"], BOTH)
        for answer in REJECTS
    },
    **{
        f"forward {answer}": ([forward(f"{{reject: tcp, answer: {answer}}}", "allow")], [f"{V}/"], ("street",))
        for answer in REJECTS
    },
    **{
        f"outbound {answer}": (
            [
                (
                    STREET,
                    STREET.replace(
                        ", default", f", filter: {{outbound: {{rules: [{{reject: tcp, answer: {answer}}}]}}}}, default"
                    ),
                )
            ],
            [f"{V}/"],
            ("street",),
        )
        for answer in ("tcp-reset", "port-unreachable", "host-unreachable")
    },
    "group allows": (group("{allow: tcp, ports: [80, 443]}"), [f"{V}/", f"{P}/"], BOTH),
    "group lacks the port": (group("{allow: tcp, ports: 80}"), [f"{V}/", f"{P}/"], ("street",)),
    "group from elsewhere": (group("{allow: tcp, from: 10.20.0.0/24}"), [f"{V}/", "http://10.20.0.15/"], BOTH),
    "group closed outwards": (group("{allow: tcp}", ", outbound: []"), [f"{V}/"], ("street",)),
    "no group at all": ([(HOST, "{dome: {address: 10.20.0.15, groups: []}}")], [f"{V}/"], ("street",)),
    "group as source": (
        [
            (HOST, "{dome: {address: 10.20.0.15, groups: [back]}}"),
            ("certificates:", "groups: {back: {inbound: [{allow: tcp, from: front}]}, front: {}}\ncertificates:"),
            ("hosts:\n", "hosts:\n  vela:\n    interfaces: {dome: {address: 10.20.0.16, groups: [front]}}\n"),
            (OFFICE_V, OFFICE_V + "  vela: {host: vela}\n"),
        ],
        ["http://10.20.0.15/"],
        ("vela", "office"),
    ),
    "server without gateway": ([(HOST, f"{HOST}\n    gateway: none")], [f"{V}/", "http://10.20.0.15/"], BOTH),
    "server answers by another router": ([SECOND, GATED, (HOST, f"{HOST}\n    gateway: 10.20.0.2")], [f"{V}/"], BOTH),
    "visitor without gateway": (
        [("10.20.0.50}", "10.20.0.50, gateway: none}")],
        [f"{V}/", "http://10.20.0.15/"],
        ("office",),
    ),
    "neighbour nobody has": ([], ["http://10.20.0.99/"], ("office",)),
    "address nobody has": ([], ["http://203.0.113.99/", "http://10.9.9.9/"], BOTH),
    "wrong mask": ([("10.20.0.50}", "10.20.0.50/25}")], ["http://10.20.0.15/"], ("office",)),
    "routers in a circle": (
        [
            *MIDDLE,
            ("    masquerade: [up]", "    routes: [{to: 10.99.0.0/16, via: 192.168.7.2}]\n    masquerade: [up]"),
            ("  gateway:\n", "  gateway:\n    gateway: 192.168.7.1\n"),
        ],
        ["http://10.99.0.1/"],
        ("office",),
    ),
    "routers in a circle without masquerade": (
        [
            *MIDDLE,
            (MASQ, ""),
            ("    masquerade: [up]", "    routes: [{to: 10.99.0.0/16, via: 192.168.7.2}]\n    masquerade: [up]"),
            ("  gateway:\n", "  gateway:\n    gateway: 192.168.7.1\n"),
        ],
        ["http://10.99.0.1/"],
        ("office",),
    ),
    "forward to the router's inside address": (
        [
            (F80, F80.replace("0.15", "0.1")),
            (MASQ, MASQ + "    hairpin: full\n    services: {admin: {listens: [80]}}\n"),
        ],
        [f"{P}/"],
        BOTH,
    ),
    "forward to the router's own closed port": ([(F80, F80.replace("0.15", "0.1"))], [f"{P}/"], BOTH),
    "public segment": (
        [
            ("[10.20.0.0/24]", "[192.0.2.0/24]"),
            ("{address: 10.20.0.1}", "{address: 192.0.2.1}"),
            (HOST, "{dome: {address: 192.0.2.15}}"),
            ("to: 10.20.0.15", "to: 192.0.2.15"),
            ("address: 10.20.0.50", "address: 192.0.2.50"),
            ("visit 3600 A 203.0.113.40", "visit 3600 A 192.0.2.15"),
            (MASQ, ""),
        ],
        [f"{V}/"],
        BOTH,
    ),
    "loopback only": (
        [("443 tls", "'127.0.0.1:443 tls'"), (OFFICE_V, OFFICE_V + "  self: {host: orion}\n")],
        [f"{V}/", "https://127.0.0.1/", "http://127.0.0.1/"],
        ("street", "self"),
    ),
    "address listener": ([("443 tls", "'10.20.0.15:443 tls'")], [f"{V}/"], ("street",)),
    "address the machine lacks": ([("443 tls", "'10.20.0.77:443 tls'")], [f"{V}/", f"{P}/"], ("street",)),
    "IPv6 wildcard only, nginx": ([("443 tls", "'[::]:443 tls'")], [f"{V}/"], ("street",)),
    "IPv6 wildcard only, Apache": ([APACHE, ("443 tls", "'[::]:443 tls'")], [f"{V}/"], ("street",)),
    "IPv6 wildcard dual-stack, nginx": ([("443 tls", "'[::]:443 tls dual-stack'")], [f"{V}/"], ("street",)),
    "IPv4 wildcard": ([("443 tls", "'0.0.0.0:443 tls'")], [f"{V}/"], ("street",)),
    "address and wildcard, nginx": (
        [
            ("[80, 443 tls]", "[80, 443 tls, '10.20.0.15:443 tls']"),
            (
                "names: [other.kestrel-ridge.example]",
                "names: [other.kestrel-ridge.example]\n            listens: [443]",
            ),
        ],
        [f"{V}/", "https://other.kestrel-ridge.example/"],
        ("street",),
    ),
    "address and wildcard, Apache": (
        [APACHE, ("[80, 443 tls]", "[80, 443 tls, '10.20.0.15:443 tls']")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "stopped": ([("program: nginx", "program: nginx\n        state: stopped")], [f"{V}/"], BOTH),
    "port taken": (
        [("      web:\n", "      old: {kind: other, listens: [443]}\n      web:\n")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "port taken on the loopback address": (
        [("      web:\n", "      old: {kind: other, listens: ['127.0.0.1:80']}\n      web:\n")],
        [f"{V}/", f"{P}/"],
        BOTH,
    ),
    "another protocol": (
        [("      web:\n", "      mail: {kind: other, listens: [25]}\n      web:\n")],
        ["http://10.20.0.15:25/", "https://10.20.0.15:25/"],
        ("office",),
    ),
    "plain on 443": ([("443 tls", "443")], [f"{V}/", f"{P}:443/"], ("street",)),
    "TLS on 80": (
        [
            ("[80, 443 tls]", "[80 tls, 443 tls]"),
            (
                "other.kestrel-ridge.example]\n            certificate: visit",
                "other.kestrel-ridge.example]\n            certificate: visit",
            ),
        ],
        [f"{P}/", f"{V}:80/"],
        ("street",),
    ),
    "TLS on 80, Apache": ([APACHE, ("[80, 443 tls]", "[80 tls, 443 tls]")], [f"{P}/"], ("street",)),
    "IPv6": (SIX, [f"{V}/", "https://six.kestrel-ridge.example/", "http://[2001:db8:20::15]/"], BOTH),
    "IPv6 dropped, IPv4 works": (
        [*SIX, forward("{drop: any, to: '2001:db8:20::/64'}", "allow")],
        [f"{V}/"],
        ("street",),
    ),
    "IPv6 rejected, IPv4 works": (
        [*SIX, forward("{reject: any, to: '2001:db8:20::/64'}", "allow")],
        [f"{V}/", "https://six.kestrel-ridge.example/"],
        ("street",),
    ),
    "IPv6 only, visitor IPv4": (
        [*SIX, ('address: [198.51.100.77, "2001:db8:77::7"],', "address: 198.51.100.77,")],
        ["https://six.kestrel-ridge.example/", f"{V}/"],
        ("street",),
    ),
    "IPv6 filter": (
        [
            *SIX,
            (
                '{dome: {address: [10.20.0.15, "2001:db8:20::15"]}}',
                '{dome: {address: [10.20.0.15, "2001:db8:20::15"]}}\n    filter: {inbound: {default: drop, rules: [{allow: tcp, from: 0.0.0.0/0}]}}',
            ),
        ],
        ["https://six.kestrel-ridge.example/", f"{V}/"],
        ("street",),
    ),
    **{
        f"IPv6 {answer}": (
            [
                *SIX,
                forward(
                    f"{{reject: any, answer: {answer}, to: '2001:db8:20::/64'}}".replace(
                        "any, answer: tcp", "tcp, answer: tcp"
                    ),
                    "allow",
                ),
            ],
            ["https://six.kestrel-ridge.example/"],
            ("street",),
        )
        for answer in REJECTS
    },
    "first of two addresses dead": ([(REC, REC + "      - visit 3600 A 203.0.113.99\n")], [f"{V}/"], ("street",)),
    "both addresses dead": (
        [(REC, "      - visit 3600 A 203.0.113.98\n      - visit 3600 A 203.0.113.99\n")],
        [f"{V}/"],
        ("street",),
    ),
    "names in a zone": ([(REC, REC + ZONE)], ZONE_ASKED, ("street",)),
    "served by a described server": ([NAMES_HOST], [f"{V}/", "http://nothing.kestrel-ridge.example/"], ("street",)),
    "described server stopped": (
        [(NAMES_HOST[0], NAMES_HOST[1].replace("example]}", "example], state: stopped}"))],
        [f"{V}/"],
        ("street",),
    ),
    "described server closed by a group": (
        [(NAMES_HOST[0], NAMES_HOST[1].replace("192.0.2.53}", "192.0.2.53, groups: []}"))],
        [f"{V}/"],
        ("street",),
    ),
    "delegated to nobody": (
        [NAMES_HOST, ("    records:\n", "    delegated_to: [ns.gone.example]\n    records:\n")],
        [f"{V}/"],
        ("street",),
    ),
    "delegated to a name in the zone": (
        [
            NAMES_HOST,
            (
                "    records:\n",
                "    delegated_to: [ns1.kestrel-ridge.example]\n    records:\n      - ns1 60 A 192.0.2.53\n",
            ),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "delegated, glue wrong": (
        [
            NAMES_HOST,
            (
                "    records:\n",
                "    delegated_to: [ns1.kestrel-ridge.example]\n    records:\n      - ns1 60 A 192.0.2.54\n",
            ),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "child zone": (
        [
            ("    records:\n", "    records:\n      - sub NS ns.sub\n"),
            ("zones:\n", "zones:\n  sub.kestrel-ridge.example: {records: [www 60 A 203.0.113.40]}\n"),
        ],
        ["http://www.sub.kestrel-ridge.example/", "http://no.sub.kestrel-ridge.example/"],
        ("street",),
    ),
    "child zone not delegated": (
        [("zones:\n", "zones:\n  sub.kestrel-ridge.example: {records: [www 60 A 203.0.113.40]}\n")],
        ["http://www.sub.kestrel-ridge.example/"],
        ("street",),
    ),
    "a resolver inside": (
        [
            ("10.20.0.50}", "10.20.0.50, resolver: 10.20.0.15}"),
            ("      web:\n", "      cache: {kind: resolver}\n      web:\n"),
        ],
        ["http://10.20.0.15/", "http://other.kestrel-ridge.example/"],
        ("office",),
    ),
    "a resolver that is stopped": (
        [
            ("10.20.0.50}", "10.20.0.50, resolver: 10.20.0.15}"),
            ("      web:\n", "      cache: {kind: resolver, state: stopped}\n      web:\n"),
        ],
        [f"{V}/"],
        ("office",),
    ),
    "a resolver behind a filter": (
        [
            ("10.20.0.50}", "10.20.0.50, resolver: 10.20.0.15}"),
            ("      web:\n", "      cache: {kind: resolver}\n      web:\n"),
            inbound("{allow: tcp}"),
        ],
        [f"{V}/"],
        ("office",),
    ),
    "a hosts file": (
        [
            (
                STREET,
                STREET.replace(
                    ", default",
                    ", hosts_file: {lines: [203.0.113.40 old.kestrel-ridge.example, 192.0.2.9 visit.kestrel-ridge.example]}, default",
                ),
            )
        ],
        [f"{P}/", "http://old.kestrel-ridge.example/"],
        ("street",),
    ),
    "alias beside other data": (
        [(REC, REC + "      - visit 60 CNAME other\n")],
        [f"{V}/", "https://other.kestrel-ridge.example/"],
        ("street",),
    ),
    "sites, nginx": (MANY, MANY_ASKED, ("street",)),
    "sites, Apache": ([*MANY, APACHE], MANY_ASKED, ("street",)),
    "named default": ([*MANY, ("tail: {", "tail: {default: true, ")], ["http://none.other.example/"], ("street",)),
    "named default, Apache": (
        [*MANY, APACHE, ("tail: {", "tail: {default: true, ")],
        ["http://none.other.example/"],
        ("street",),
    ),
    "paths, nginx": ([], PATHS, ("street",)),
    "paths, Apache": ([APACHE], PATHS, ("street",)),
    "listing": ([(FILES, FILES + "\n            listing: true")], [f"{V}/img/"], ("street",)),
    "listing, Apache": ([APACHE, (FILES, FILES + "\n            listing: true")], [f"{V}/img/"], ("street",)),
    "no index file": ([(FILES, "files: [tonight.html]")], [f"{V}/"], ("street",)),
    "no index file, Apache": ([APACHE, (FILES, "files: [tonight.html]")], [f"{V}/"], ("street",)),
    "index files in order": (
        [(FILES, "files: [b.html, index.html]\n            index_files: [a.html, b.html, index.html]")],
        [f"{V}/"],
        ("street",),
    ),
    "empty folder": ([(FILES, "files: []")], [f"{V}/", f"{V}/x"], ("street",)),
    "fixed answer": ([(FILES, "answer: 404")], [f"{V}/", f"{V}/x"], ("street",)),
    "fixed answer, Apache": ([APACHE, (FILES, "answer: 403")], [f"{V}/"], ("street",)),
    "fixed good answer": ([(FILES, "answer: 200")], [f"{V}/", f"{V}/x"], ("street",)),
    "folder without slash, another port": (
        [(F80, "      - {on: line, tcp: 8080, to: 10.20.0.15, port: 80}\n"), (FILES, "files: [sub/index.html]")],
        [f"{P}:8080/sub"],
        ("street",),
    ),
    "folder without slash, another port, Apache": (
        [
            APACHE,
            (F80, "      - {on: line, tcp: 8080, to: 10.20.0.15, port: 80}\n"),
            (FILES, "files: [sub/index.html]"),
        ],
        [f"{P}:8080/sub"],
        ("street",),
    ),
    "service without sites": (
        [
            (
                "hosts:\n",
                "hosts:\n  vela: {interfaces: {dome: {address: 10.20.0.16}}, services: {plain: {listens: [80]}}}\n",
            )
        ],
        ["http://10.20.0.16/", "http://10.20.0.16/any/", "http://10.20.0.16/thing"],
        ("office",),
    ),
    **{
        f"redirects, {name}": (
            [
                change,
                redirects(
                    '{when: {scheme: http}, to: "https://{host}{path}{query}"}',
                    "{when: {path: /old}, to: /tonight.html}",
                    '{when: {path: "/o/*"}, to: "/{rest}", status: 308}',
                    '{when: {host: [other.kestrel-ridge.example, "*.x.example"]}, to: "https://elsewhere.example/"}',
                ),
            ],
            [f"{P}/tonight.html?a=b", f"{V}/old", f"{V}/o/img/dome.jpg", f"{V}/old?x", f"{P}/", f"{V}/"],
            ("street",),
        )
        for name, change in (("nginx", (MASQ, MASQ)), ("Apache", APACHE))
    },
    "redirect loop": ([redirects('{to: "https://{host}{path}"}')], [f"{V}/"], ("street",)),
    "redirect between two": (
        [
            redirects('{to: "https://other.kestrel-ridge.example{path}"}'),
            (
                "            files: [index.html]\n",
                '            redirects: [{to: "https://visit.kestrel-ridge.example{path}"}]\n',
            ),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "redirect that grows": ([redirects('{to: "https://{host}/x{path}"}')], [f"{V}/"], ("street",)),
    "redirect limit": (
        [
            redirects('{when: {path: "/1*"}, to: "/{rest}"}'),
            (STREET, STREET.replace(", default", ", redirect_limit: 2, default")),
        ],
        [f"{V}/11index.html", f"{V}/111index.html"],
        ("street",),
    ),
    "redirect to another protocol": ([redirects('{to: "ftp://{host}/"}')], [f"{V}/"], ("street",)),
    "redirect to nowhere": ([redirects('{to: "http://inner/"}')], [f"{V}/"], ("street",)),
    **{
        f"certificate {fact}": (
            [(CERT, f"names: [visit.kestrel-ridge.example], {fact}".rstrip(", ")), ("\nzones:\n", AUTHORITIES)],
            [f"{V}/"],
            ("street",),
        )
        for fact in (
            "",
            "issuer: self",
            "issuer: House",
            "issuer: Wide",
            "issuer: Between",
            "issuer: 'Between', sends_chain: false",
            "until: 2026-03-14T19:00:00Z",
            "from: 2026-03-14T21:00:00Z",
            "issuer: self, until: 2026-03-14T19:00:00Z",
        )
    },
    "certificate for another name": ([(CERT, "names: [else.example]")], [f"{V}/"], ("street",)),
    "TLS versions apart": (
        [
            (SITE_NAMES, f'{SITE_NAMES}\n            tls_versions: ["1.2"]'),
            (STREET, STREET.replace("default", 'tls_versions: ["1.3"], default')),
        ],
        [V],
        BOTH,
    ),
    "TLS versions of another site": (
        [
            (SITE_OTHERS, f'{SITE_OTHERS}\n            tls_versions: ["1.2"]'),
            (STREET, STREET.replace("default", 'tls_versions: ["1.3"], default')),
        ],
        [V, "https://other.kestrel-ridge.example/"],
        BOTH,
    ),
    "certificate for the parent": ([(CERT, 'names: ["*.example"]')], [f"{V}/"], ("street",)),
    "certificate for the address": ([(CERT, "names: [203.0.113.40]")], ["https://203.0.113.40/", f"{V}/"], ("street",)),
    "certificate trusted by this visitor": (
        [
            (CERT, "names: [visit.kestrel-ridge.example], issuer: House"),
            ("\nzones:\n", AUTHORITIES),
            (STREET, STREET.replace(", default", ", trusts: [House], default")),
        ],
        [f"{V}/"],
        BOTH,
    ),
    "certificates by name": (
        [
            ("zones:\n", "zones:\n"),
            (CERT + "}", "names: [visit.kestrel-ridge.example]}\n  o: {names: [other.kestrel-ridge.example]}"),
            (
                "names: [other.kestrel-ridge.example]\n            certificate: visit",
                "names: [other.kestrel-ridge.example]\n            certificate: o",
            ),
        ],
        [f"{V}/", "https://other.kestrel-ridge.example/", "https://203.0.113.40/"],
        ("street",),
    ),
    "site without certificate, nginx": (
        [
            (
                "names: [other.kestrel-ridge.example]\n            certificate: visit",
                "names: [other.kestrel-ridge.example]",
            )
        ],
        ["https://other.kestrel-ridge.example/", f"{V}/"],
        ("street",),
    ),
    "site without certificate, Apache": (
        [
            APACHE,
            (
                "names: [other.kestrel-ridge.example]\n            certificate: visit",
                "names: [other.kestrel-ridge.example]",
            ),
        ],
        ["https://other.kestrel-ridge.example/", f"{P}/"],
        ("street",),
    ),
    "default site without certificate": (
        [
            (
                "            certificate: visit\n            files: [index.html, ton",
                "            files: [index.html, ton",
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
}

WORLDS.update(NAME_WORLDS)
WORLDS.update(WAY_WORLDS)
WORLDS.update(BASICS_WORLDS)
WORLDS.update(UPSTREAM_WORLDS)
WORLDS.update(BOOTED)


def text_of(name: str) -> str:
    """A world's estate."""
    return swap(OFFICE, *WORLDS[name][0])
