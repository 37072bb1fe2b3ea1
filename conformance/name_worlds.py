"""The table's worlds about names: zones and their slips, delegations, resolvers, caches, views, signatures."""

from conformance.common import BOTH, F80, F443, HOST, NAMES_HOST, REC, SIX, STREET, Facts, P, V

WEB = "      web:\n"
SOA = '      - "@ 60 SOA ns m 1 60 60 60 900"\n'
NONE = "http://nothing.kestrel-ridge.example/"


def zone(*lines: str) -> tuple[str, str]:
    """Keys of the zone beside its records."""
    return "    records:\n" + REC, "".join(f"    {line}\n" for line in lines) + "    records:\n" + REC


def records(*lines: str) -> tuple[str, str]:
    """Further records."""
    return REC, REC + "".join(f"      - '{line}'\n" for line in lines)


def names(*hosts: str) -> list[str]:
    """Plain questions for names of the zone."""
    return [f"http://{host}.kestrel-ridge.example/" for host in hosts]


def resolver(facts: str, office: str = "", web: str = WEB) -> list[tuple[str, str]]:
    """A resolver on orion that the office asks."""
    return [
        (web, f"      cache: {{kind: resolver{facts}}}\n{web}"),
        ("10.20.0.50}", f"10.20.0.50, resolver: 10.20.0.15{office}}}"),
    ]


def street(facts: str) -> tuple[str, str]:
    """The street with further facts."""
    return STREET, STREET.replace(", default", f", {facts}, default")


BEFORE = "before: [{until: 2026-03-14T19:30:00Z, records: [visit 3600 A 203.0.113.99]}]"
ABSENT = "before: [{until: 2026-03-14T19:58:00Z, without: [visit]}]"
VIEW = "views: {inside: {for: [203.0.113.40/32], records: [visit 60 A 10.20.0.15]}}"
SECOND = (
    "hosts:\n",
    "hosts:\n  vela:\n    interfaces: {dome: {address: 10.20.0.16}}\n    services:\n      cache: {kind: resolver}\n",
)
ADDRESSES = ["one 60 A 203.0.113.40", "one 60 A 203.0.113.99"]

NAME_WORLDS: dict[str, tuple[Facts, list[str], tuple[str, ...]]] = {
    "names: DNAME": (
        [records("old 60 DNAME new", "a.new 60 A 203.0.113.40", "old 60 A 203.0.113.40", "b.new 60 CNAME a.old")],
        names("a.old", "old", "b.old", "c.old", "new", "a.new"),
        ("street",),
    ),
    "names: servers named in each other's zones": (
        [
            zone("delegated_to: [ns.other.example]"),
            (
                "zones:\n",
                "zones:\n  other.example: {records: ['@ 60 NS ns.kestrel-ridge.example.', 'ns 60 A 203.0.113.40', 'w 60 A 203.0.113.40'], delegated_to: [ns.kestrel-ridge.example]}\n",
            ),
            records("ns 60 A 203.0.113.40"),
        ],
        [*names("visit"), "http://w.other.example/"],
        ("street",),
    ),
    "names: a server that does not exist": (
        [
            zone("delegated_to: [ns.other.example]"),
            ("zones:\n", "zones:\n  other.example: {records: ['w 60 A 203.0.113.40']}\n"),
        ],
        [*names("visit"), "http://w.other.example/"],
        ("street",),
    ),
    "names: one of two servers does not exist": (
        [
            zone("delegated_to: [ns.other.example, ns2.beyond.example]"),
            ("zones:\n", "zones:\n  other.example: {records: ['w 60 A 203.0.113.40']}\n"),
        ],
        names("visit"),
        ("street",),
    ),
    "names: parent and child on one server, not delegated": (
        [
            (
                "hosts:\n",
                "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.53}}\n    services: {names: {kind: name-server, zones: [kestrel-ridge.example, sub.kestrel-ridge.example]}}\n",
            ),
            (
                "zones:\n",
                "zones:\n  sub.kestrel-ridge.example: {records: ['@ 60 NS ns', 'ns 60 A 192.0.2.53', 'w 60 A 203.0.113.40']}\n",
            ),
        ],
        names("visit", "w.sub", "gone.sub", "sub"),
        ("street",),
    ),
    "names: resolvers' own empty zones": (
        [
            (
                "zones:\n",
                "zones:\n  office.home.arpa: {records: ['w 60 A 203.0.113.40']}\n  lab.test: {records: ['w 60 A 203.0.113.40']}\n",
            )
        ],
        ["http://w.office.home.arpa/", "http://w.lab.test/"],
        ("street",),
    ),
    "names: DNAME to another zone": (
        [
            records("old 60 DNAME www.other.example."),
            ("zones:\n", "zones:\n  other.example: {records: [visit.www 60 A 203.0.113.40]}\n"),
        ],
        names("visit.old", "nope.old"),
        ("street",),
    ),
    "names: DNAME in a circle": ([records("x 60 DNAME y", "y 60 DNAME x")], names("a.x", "a.y"), ("street",)),
    "names: DNAME into itself": ([records("x 60 DNAME deep.x")], names("a.x"), ("street",)),
    "names: alias to DNAME": (
        [records("c 60 CNAME a.old", "old 60 DNAME new", "a.new 60 A 203.0.113.40")],
        names("c"),
        ("street",),
    ),
    "names: wildcard beside a longer name": (
        [records("* 60 A 203.0.113.40", "a.b 60 TXT x")],
        names("q", "q.b", "b", "a.b", "x.y.z"),
        ("street",),
    ),
    "names: wildcard alias": (
        [records("*.w 60 CNAME visit", "*.v 60 CNAME gone")],
        names("a.w", "a.b.w", "w", "a.v"),
        ("street",),
    ),
    "names: wildcard stopped by a name": (
        [records("*.w 60 A 203.0.113.40", "host.w 60 TXT x")],
        names("other.w", "host.w", "sub.host.w"),
        ("street",),
    ),
    "names: upper case and final dot": (
        [records("UPPER 60 A 203.0.113.40")],
        [*names("UPPER", "upper"), "http://visit.kestrel-ridge.example./"],
        ("street",),
    ),
    "names: underscores and digits": (
        [records("_x 60 A 203.0.113.40", "1 60 A 203.0.113.40")],
        names("_x", "1"),
        ("street",),
    ),
    "names: letters beyond ASCII": (
        [records("xn--mnchen-3ya 60 A 203.0.113.40")],
        ["http://m\u00fcnchen.kestrel-ridge.example/"],
        ("street",),
    ),
    "names: only other records": (
        [
            records(
                "m 60 MX 10 visit",
                "t 60 TXT x y",
                "s 60 SRV 0 0 80 visit",
                "c 60 CAA 0 issue x",
                "u 60 TYPE65400 \\# 1 00",
            )
        ],
        names("m", "t", "s", "c", "u"),
        ("street",),
    ),
    "names: ten aliases": (
        [records(*(f"a{n} 60 CNAME a{n + 1}" for n in range(14)), "a14 60 A 203.0.113.40")],
        names("a0", "a2", "a3", "a4", "a8"),
        ("street",),
    ),
    "names: an alias across zones": (
        [
            records("go 60 CNAME www.other.example."),
            (
                "zones:\n",
                "zones:\n  other.example: {records: [www 60 CNAME visit.kestrel-ridge.example., '@ 60 A 203.0.113.40']}\n",
            ),
        ],
        [*names("go"), "http://www.other.example/", "http://other.example/", "http://no.other.example/"],
        ("street",),
    ),
    "names: an alias to nobody's zone": ([records("go 60 CNAME www.nowhere.example.")], names("go"), ("street",)),
    "names: two addresses, one dead": ([records(*ADDRESSES)], names("one"), BOTH),
    "names: registration ended": ([zone("registered_until: 2026-03-01")], [f"{V}/"], ("street",)),
    "names: registration goes on": ([zone("registered_until: 2026-04-01")], [f"{V}/"], ("street",)),
    "names: registration on hold": ([zone("on_hold: true")], [f"{V}/"], ("street",)),
    "names: glue right": (
        [
            NAMES_HOST,
            zone("delegated_to: [ns1.kestrel-ridge.example]", "glue: {ns1.kestrel-ridge.example: 192.0.2.53}"),
            records("ns1 60 A 192.0.2.53"),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "names: glue wrong": (
        [
            NAMES_HOST,
            zone("delegated_to: [ns1.kestrel-ridge.example]", "glue: {ns1.kestrel-ridge.example: 192.0.2.54}"),
            records("ns1 60 A 192.0.2.53"),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "names: glue wrong, nobody described": (
        [
            zone("delegated_to: [ns1.kestrel-ridge.example]", "glue: {ns1.kestrel-ridge.example: 192.0.2.54}"),
            records("ns1 60 A 192.0.2.53"),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "names: one glue of two wrong": (
        [
            NAMES_HOST,
            zone(
                "delegated_to: [ns1.kestrel-ridge.example, ns2.kestrel-ridge.example]",
                "glue: {ns1.kestrel-ridge.example: 192.0.2.54, ns2.kestrel-ridge.example: 192.0.2.53}",
            ),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "names: another server's old copy": (
        [
            zone(
                "delegated_to: [ns1.old-pages.example]",
                "copies: {old: {servers: [ns1.old-pages.example], without: [visit], records: [was 60 A 203.0.113.40]}}",
            )
        ],
        [f"{V}/", *names("was")],
        ("street",),
    ),
    "names: a server for the zone in another zone": (
        [
            NAMES_HOST,
            zone("delegated_to: [ns.helper.example]"),
            ("zones:\n", "zones:\n  helper.example: {records: [ns 60 A 192.0.2.53]}\n"),
        ],
        [f"{V}/", NONE],
        ("street",),
    ),
    "names: a server that holds another zone": (
        [
            (NAMES_HOST[0], NAMES_HOST[1].replace("[kestrel-ridge.example]", "[other.example]")),
            zone("delegated_to: [ns.other.example]"),
            ("zones:\n", "zones:\n  other.example: {records: [ns 60 A 192.0.2.53, www 60 A 203.0.113.40]}\n"),
        ],
        [f"{V}/", "http://www.other.example/"],
        ("street",),
    ),
    "names: child zone on a described server": (
        [
            (NAMES_HOST[0], NAMES_HOST[1].replace("[kestrel-ridge.example]", "[sub.kestrel-ridge.example]")),
            records("sub NS ns.sub", "ns.sub 60 A 192.0.2.53"),
            ("zones:\n", "zones:\n  sub.kestrel-ridge.example: {records: [www 60 A 203.0.113.40]}\n"),
        ],
        [*names("www.sub", "no.sub", "sub"), f"{V}/"],
        ("street",),
    ),
    "names: child zone's server gone": (
        [
            records("sub NS ns.sub", "ns.sub 60 A 192.0.2.54"),
            (NAMES_HOST[0], NAMES_HOST[1].replace("[kestrel-ridge.example]", "[sub.kestrel-ridge.example]")),
            ("zones:\n", "zones:\n  sub.kestrel-ridge.example: {records: [www 60 A 203.0.113.40]}\n"),
        ],
        names("www.sub", "visit"),
        ("street",),
    ),
    "names: view by the resolver's address": ([zone(VIEW), *resolver("")], [f"{V}/", *names("visit", "other")], BOTH),
    "names: view of a described server": ([NAMES_HOST, zone(VIEW), *resolver("")], [f"{V}/", NONE], BOTH),
    "names: view that lacks the name": (
        [
            zone("views: {inside: {for: [203.0.113.40/32], without: [visit], records: [only 60 A 10.20.0.15]}}"),
            *resolver(""),
        ],
        [f"{V}/", *names("only")],
        BOTH,
    ),
    "names: two views": (
        [
            zone(
                "views: {a: {for: [198.51.100.0/24], records: [visit 60 A 203.0.113.99]}, b: {for: [203.0.113.0/24], records: [visit 60 A 10.20.0.15]}}"
            ),
            *resolver(""),
        ],
        [f"{P}/"],
        BOTH,
    ),
    "names: a resolver with the zone itself": (
        resolver(", zones: [kestrel-ridge.example]"),
        [f"{V}/", NONE, *names("other")],
        BOTH,
    ),
    "names: a resolver's zone that leads out": (
        [
            *resolver(", zones: [inside.example]"),
            (
                "zones:\n",
                "zones:\n  inside.example: {records: [www 60 CNAME visit.kestrel-ridge.example., here 60 A 10.20.0.15]}\n",
            ),
        ],
        ["http://www.inside.example/", "http://here.inside.example/", "http://no.inside.example/"],
        ("office",),
    ),
    "names: forwarding to an ordinary one": (
        resolver(", forwards_to: [192.0.2.1]"),
        [f"{V}/", NONE, "http://10.20.0.15/"],
        ("office",),
    ),
    "names: forwarding to another": ([*resolver(", forwards_to: [10.20.0.16]"), SECOND], [f"{P}/", NONE], ("office",)),
    "names: forwarding to nobody": (resolver(", forwards_to: [10.20.0.99]"), [f"{P}/"], ("office",)),
    "names: forwarding to one that is dead and one that is not": (
        [*resolver(", forwards_to: [10.20.0.99, 10.20.0.16]"), SECOND],
        [f"{P}/"],
        ("office",),
    ),
    "names: forwarding in a circle": (
        [
            *resolver(", forwards_to: [10.20.0.16]"),
            (SECOND[0], SECOND[1].replace("{kind: resolver}", "{kind: resolver, forwards_to: [10.20.0.15]}")),
        ],
        [f"{P}/"],
        ("office",),
    ),
    "names: refused": (
        resolver(", refuses: [visit.kestrel-ridge.example], refuses_with: refused"),
        [f"{P}/", *names("sub.visit", "other")],
        BOTH,
    ),
    "names: blocked as absent": (resolver(", refuses: [kestrel-ridge.example]"), [f"{P}/", *names("other")], BOTH),
    "names: search list": (
        [("10.20.0.50}", "10.20.0.50, search: [kestrel-ridge.example]}")],
        ["http://visit/", "http://visit./", "http://nothing/", "http://10.20.0.15/", "http://visit.kestrel-ridge/"],
        ("office",),
    ),
    "names: search list of two": (
        [
            ("10.20.0.50}", "10.20.0.50, search: [other.example, kestrel-ridge.example]}"),
            ("zones:\n", "zones:\n  other.example: {records: [www 60 A 10.20.0.15]}\n"),
        ],
        ["http://visit/", "http://www/", "http://www.other.example/", "http://visit.kestrel-ridge.example/"],
        ("office",),
    ),
    "names: search list, name with a dot": (
        [("10.20.0.50}", "10.20.0.50, search: [kestrel-ridge.example]}"), records("a.b 60 A 10.20.0.15")],
        ["http://a.b/", "http://a.b./"],
        ("office",),
    ),
    "names: signed, right key": (
        [zone("keys: [spring]", "ds: [spring]"), street("resolver: validating")],
        [f"{V}/", NONE],
        BOTH,
    ),
    "names: signed, another key": (
        [zone("keys: [spring]", "ds: [autumn]"), street("resolver: validating")],
        [f"{V}/", NONE],
        BOTH,
    ),
    "names: signed, an old and a new key": (
        [zone("keys: [spring]", "ds: [autumn, spring]"), street("resolver: validating")],
        [f"{V}/"],
        BOTH,
    ),
    "names: signed, two keys": (
        [zone("keys: [spring, autumn]", "ds: [autumn]"), street("resolver: validating")],
        [f"{V}/"],
        BOTH,
    ),
    "names: not signed, key named": ([zone("ds: [autumn]"), street("resolver: validating")], [f"{V}/"], BOTH),
    "names: signed, no key named": ([zone("keys: [spring]"), street("resolver: validating")], [f"{V}/"], BOTH),
    "names: nothing signed, validating": ([street("resolver: validating")], [f"{V}/", NONE], BOTH),
    "names: signatures ended": (
        [zone("keys: [spring]", "ds: [spring]", "signatures_until: 2026-03-10"), street("resolver: validating")],
        [f"{V}/"],
        BOTH,
    ),
    "names: signatures going on": (
        [zone("keys: [spring]", "ds: [spring]", "signatures_until: 2026-04-10"), street("resolver: validating")],
        [f"{V}/"],
        BOTH,
    ),
    "names: validating resolver inside": (
        [zone("keys: [spring]", "ds: [autumn]"), *resolver(", validates: true")],
        [f"{P}/", "http://10.20.0.15/"],
        BOTH,
    ),
    "names: validating through a forwarder": (
        [zone("keys: [spring]", "ds: [autumn]"), *resolver(", validates: true, forwards_to: [192.0.2.1]")],
        [f"{P}/"],
        BOTH,
    ),
    "names: signed child, unsigned parent": (
        [
            records("sub NS ns.sub"),
            (
                "zones:\n",
                "zones:\n  sub.kestrel-ridge.example: {records: [www 60 A 203.0.113.40], keys: [k], ds: [other]}\n",
            ),
            street("resolver: validating"),
        ],
        names("www.sub"),
        ("street",),
    ),
    "names: signed child, wrong key": (
        [
            zone("keys: [spring]", "ds: [spring]"),
            records("sub NS ns.sub"),
            (
                "zones:\n",
                "zones:\n  sub.kestrel-ridge.example: {records: [www 60 A 203.0.113.40], keys: [k], ds: [other]}\n",
            ),
            street("resolver: validating"),
        ],
        names("www.sub", "visit"),
        ("street",),
    ),
    "names: unsigned child of a signed zone": (
        [
            zone("keys: [spring]", "ds: [spring]"),
            records("sub NS ns.sub"),
            ("zones:\n", "zones:\n  sub.kestrel-ridge.example: {records: [www 60 A 203.0.113.40]}\n"),
            street("resolver: validating"),
        ],
        names("www.sub", "visit", "no.sub"),
        ("street",),
    ),
    "names: signed wildcard and alias": (
        [
            zone("keys: [spring]", "ds: [spring]"),
            records("* 60 A 203.0.113.40", "go 60 CNAME visit"),
            street("resolver: validating"),
        ],
        names("any", "go"),
        ("street",),
    ),
    "names: old answer remembered": ([zone(BEFORE), street("last_asked: 2026-03-14T19:20:00Z")], [f"{P}/"], BOTH),
    "names: old answer forgotten": (
        [zone(BEFORE.replace("3600", "600")), street("last_asked: 2026-03-14T19:20:00Z")],
        [f"{P}/"],
        BOTH,
    ),
    "names: asked after the change": ([zone(BEFORE), street("last_asked: 2026-03-14T19:40:00Z")], [f"{P}/"], BOTH),
    "names: change still to come": ([zone(BEFORE.replace("19:30", "21:30"))], [f"{P}/"], BOTH),
    "names: absence remembered": (
        [zone(ABSENT), (REC, REC + SOA), street("last_asked: 2026-03-14T19:57:30Z")],
        [f"{P}/"],
        BOTH,
    ),
    "names: absence forgotten": (
        [zone(ABSENT), (REC, REC + SOA.replace("900", "60")), street("last_asked: 2026-03-14T19:57:30Z")],
        [f"{P}/"],
        BOTH,
    ),
    "names: a resolver inside remembers": (
        [zone(BEFORE), *resolver(", last_asked: 2026-03-14T19:20:00Z")],
        [f"{P}/"],
        BOTH,
    ),
    "names: an alias remembered": (
        [
            zone("before: [{until: 2026-03-14T19:30:00Z, records: [go 3600 CNAME old]}]"),
            records("go 60 CNAME visit", "old 60 A 203.0.113.99"),
            street("last_asked: 2026-03-14T19:29:00Z"),
        ],
        names("go", "old"),
        BOTH,
    ),
    "names: two changes": (
        [
            zone(
                "before: [{until: 2026-03-14T19:30:00Z, records: [visit 3600 A 203.0.113.99]}, {until: 2026-03-14T18:00:00Z, records: [visit 7200 A 203.0.113.98]}]"
            ),
            street("last_asked: 2026-03-14T18:30:00Z"),
        ],
        [f"{P}/"],
        BOTH,
    ),
    "names: the provider's alias at the apex": (
        [
            zone("apex_alias: www.other.example"),
            ("zones:\n", "zones:\n  other.example: {records: [www 60 A 203.0.113.40]}\n"),
        ],
        ["http://kestrel-ridge.example/", f"{P}/"],
        BOTH,
    ),
    "names: the provider's alias to nothing": (
        [
            zone("apex_alias: no.other.example"),
            ("zones:\n", "zones:\n  other.example: {records: [www 60 A 203.0.113.40]}\n"),
        ],
        ["http://kestrel-ridge.example/", f"{P}/"],
        ("street",),
    ),
    "names: an AAAA that nobody has": (
        [*SIX, records("both 60 A 203.0.113.40", "both 60 AAAA 2001:db8:20::99")],
        names("both"),
        BOTH,
    ),
    "names: an AAAA where nothing listens": (
        [*SIX, records("both 60 A 203.0.113.40", "both 60 AAAA 2001:db8:40::1")],
        names("both"),
        BOTH,
    ),
    "names: asked straight of the name server": (
        [
            (HOST, HOST),
            (WEB, "      names: {kind: name-server, zones: [kestrel-ridge.example]}\n" + WEB),
            ("10.20.0.50}", "10.20.0.50, resolver: 10.20.0.15}"),
            records(
                "inner 60 A 10.20.0.15", "go 60 CNAME inner", "out 60 CNAME www.other.example.", "sub 60 NS ns.sub"
            ),
        ],
        [*names("inner", "go", "out", "www.sub", "none"), "http://www.other.example/"],
        ("office",),
    ),
    "names: hosts file before the resolver": (
        [street("hosts_file: {lines: [203.0.113.40 nothing.kestrel-ridge.example]}")],
        [NONE, f"{P}/"],
        ("street",),
    ),
    "names: a resolver that is no DNS server": (
        [
            (WEB, "      junk: {kind: other, listens: [53]}\n" + WEB),
            ("10.20.0.50}", "10.20.0.50, resolver: 10.20.0.15}"),
        ],
        [f"{P}/"],
        ("office",),
    ),
    "names: forwarding resolver, name refused there": (
        [
            *resolver(", forwards_to: [10.20.0.16]"),
            (
                SECOND[0],
                SECOND[1].replace("{kind: resolver}", "{kind: resolver, refuses: [visit.kestrel-ridge.example]}"),
            ),
        ],
        [f"{P}/", *names("other")],
        ("office",),
    ),
    "names: a port that is forwarded away from names": (
        [(F80, F80), records("www 60 A 203.0.113.40")],
        names("www"),
        BOTH,
    ),
    # Only a browser asks for these: run them with --client chromium.
    "https record: upgrade": (
        [street("https_records: offers"), records("visit 60 HTTPS 1 . alpn=h2")],
        [f"{P}/", f"{V}/tonight.html", f"{P}/nope"],
        ("street",),
    ),
    "https record: for another name": (
        [street("https_records: offers"), records("visit 60 HTTPS 1 other alpn=h2", "other 60 A 203.0.113.40")],
        [f"{P}/", f"{V}/"],
        ("street",),
    ),
    "https record: alias form": (
        [street("https_records: offers"), records("go 60 HTTPS 0 visit", "go 60 A 203.0.113.40")],
        names("go"),
        ("street",),
    ),
    "https record: alias form without addresses": (
        [street("https_records: offers"), records("go 60 HTTPS 0 visit")],
        names("go"),
        ("street",),
    ),
    "https record: another port": (
        [
            street("https_records: offers"),
            records("visit 60 HTTPS 1 . alpn=h2 port=8443"),
            ("[80, 443 tls]", "[80, 443 tls, 8443 tls]"),
            (F80, F80 + "      - {on: line, tcp: 8443, to: 10.20.0.15}\n"),
        ],
        [f"{P}/", f"{V}/"],
        ("street",),
    ),
    "https record: another port, closed": (
        [street("https_records: offers"), records("visit 60 HTTPS 1 . alpn=h2 port=8443")],
        [f"{P}/", f"{V}/"],
        ("street",),
    ),
    "https record: two offers": (
        [
            street("https_records: offers"),
            records("visit 60 HTTPS 1 . alpn=h2 port=8443", "visit 60 HTTPS 2 . alpn=h2"),
        ],
        [f"{P}/", f"{V}/"],
        ("street",),
    ),
    "https record: only over QUIC": (
        [street("https_records: offers"), records("visit 60 HTTPS 1 . alpn=h3 no-default-alpn")],
        [f"{P}/", f"{V}/"],
        ("street",),
    ),
    "https record: an unknown need": (
        [street("https_records: offers"), records("visit 60 HTTPS 1 . alpn=h2 mandatory=key65333 key65333=x")],
        [f"{P}/", f"{V}/"],
        ("street",),
    ),
    "https record: hints only": (
        [street("https_records: offers"), records("hint 60 HTTPS 1 . alpn=h2 ipv4hint=203.0.113.40")],
        names("hint"),
        ("street",),
    ),
    "https record: hints beside an address": (
        [street("https_records: offers"), records("visit 60 HTTPS 1 . alpn=h2 ipv4hint=203.0.113.99")],
        [f"{P}/"],
        ("street",),
    ),
    "https record: at the end of an alias": (
        [street("https_records: offers"), records("go 60 CNAME visit", "visit 60 HTTPS 1 . alpn=h2")],
        names("go"),
        ("street",),
    ),
    "https record: secure port closed": (
        [street("https_records: offers"), records("visit 60 HTTPS 1 . alpn=h2"), (F443, "")],
        [f"{P}/"],
        ("street",),
    ),
    "https record: a client that does not ask": ([records("visit 60 HTTPS 1 . alpn=h2")], [f"{P}/"], ("street",)),
}
