"""The table's worlds about the way of a packet: routes, translations, filters, lists, listeners, boots."""

from conformance.common import (
    APACHE,
    BOTH,
    F80,
    F443,
    HOST,
    MASQ,
    MIDDLE,
    OFFICE_V,
    REC,
    SECOND,
    SIX,
    STREET,
    Facts,
    P,
    V,
    forward,
    inbound,
)

WEB = "      web:\n"
LINE = "line: {network: internet, address: 203.0.113.40}"
DOME = "      dome: {address: 10.20.0.1}\n"
NETS = "networks:\n"
IN = "http://10.20.0.15/"
SELF = (OFFICE_V, OFFICE_V + "  self: {host: orion}\n")
ADMIN = "    services: {admin: {listens: [80, 443]}}\n"


def router(*lines: str) -> tuple[str, str]:
    """The gateway with further keys."""
    return MASQ, MASQ + "".join(f"    {line}\n" for line in lines)


def host(*lines: str, interfaces: str = HOST) -> tuple[str, str]:
    """orion with further keys."""
    return HOST, interfaces + "".join(f"\n    {line}" for line in lines)


def listed(inbound_: str | None = None, outbound: str | None = None) -> tuple[str, str]:
    """The dome with an access list."""
    parts = [f"{name}: [{text}]" for name, text in (("inbound", inbound_), ("outbound", outbound)) if text is not None]
    return "[10.20.0.0/24]", f"[10.20.0.0/24], access_list: {{{', '.join(parts)}}}"


def areas(text: str) -> tuple[str, str]:
    """orion with areas."""
    return host(f"filter: {{areas: {{{text}}}}}")


#: A second segment behind the gateway, with a host and a visitor on it.
HALL: Facts = [
    (NETS, NETS + "  hall: {subnets: [10.30.0.0/24]}\n"),
    (DOME, DOME + "      hall: {address: 10.30.0.1}\n"),
    (
        "hosts:\n",
        "hosts:\n  vela:\n    interfaces: {hall: {address: 10.30.0.15}}\n    services: {page: {listens: [80]}}\n",
    ),
    (OFFICE_V, OFFICE_V + "  hall: {network: hall, address: 10.30.0.50}\n"),
]
V_HALL = "http://10.30.0.15/"
#: A carrier's router between the line and the internet.
CARRIER: Facts = [
    (NETS, NETS + "  carrier: {subnets: [100.64.0.0/10]}\n"),
    (LINE, "line: {network: carrier, address: 100.64.12.7}"),
    (
        "routers:\n",
        "routers:\n  carrier:\n    provider: true\n    interfaces:\n      up: {network: internet, address: 203.0.113.40}\n"
        "      down: {network: carrier, address: 100.64.0.1}\n    masquerade: [up]\n",
    ),
]
#: The forwards replaced by a one-to-one address.
ONE = "one_to_one: [{on: line, outside: 203.0.113.41, inside: 10.20.0.15}]"
AT_41 = (REC, "      - visit 3600 A 203.0.113.41\n")
#: Another host on the dome.
VELA = (
    "hosts:\n",
    "hosts:\n  vela:\n    interfaces: {dome: {address: 10.20.0.16}}\n    services: {page: {listens: [80]}}\n",
)
V_VELA = "http://10.20.0.16/"
UNREACHED = ("protocol-unreachable", "policy-fail")
AREA = "inside: {from: 10.20.0.0/24, services: [http, https, ssh]}"

WAY_WORLDS: dict[str, tuple[Facts, list[str], tuple[str, ...]]] = {
    # routes
    **{
        f"way: route that ends at the visitor, {kind}": (
            [("10.20.0.50}", f"10.20.0.50, routes: [{{to: 203.0.113.0/24, type: {kind}}}]}}")],
            [f"{P}/", IN],
            ("office",),
        )
        for kind in ("unreachable", "blackhole", "prohibit")
    },
    **{
        f"way: route that ends at the router, {kind}": (
            [router(f"routes: [{{to: 10.20.0.15/32, type: {kind}}}]")],
            [f"{P}/", IN],
            BOTH,
        )
        for kind in ("unreachable", "blackhole", "prohibit")
    },
    **{
        f"way: route that ends at the server, {kind}": (
            [host(f"routes: [{{to: 198.51.100.0/24, type: {kind}}}]")],
            [f"{P}/", IN],
            BOTH,
        )
        for kind in ("unreachable", "blackhole", "prohibit")
    },
    **{
        f"way: IPv6 route that ends, {kind}": (
            [*SIX, router(f"routes: [{{to: '2001:db8:20::15/128', type: {kind}}}]")],
            ["https://six.kestrel-ridge.example/", f"{V}/"],
            ("street",),
        )
        for kind in ("unreachable", "blackhole", "prohibit")
    },
    "way: longest prefix": (
        [*HALL, router("routes: [{to: 10.30.0.0/16, type: blackhole}, {to: 10.30.0.0/28, type: prohibit}]")],
        [V_HALL, IN],
        ("office", "hall"),
    ),
    "way: lower metric": (
        [
            SECOND,
            (
                "10.20.0.50}",
                "10.20.0.50, gateway: 10.20.0.1, routes: [{to: 203.0.113.40/32, via: 10.20.0.2, metric: 20}, {to: 203.0.113.40/32, type: unreachable, metric: 10}]}",
            ),
            host("gateway: 10.20.0.1"),
        ],
        [f"{P}/"],
        ("office",),
    ),
    "way: a neighbour's range on an interface": (
        [("10.20.0.50}", "10.20.0.50, routes: [{to: 10.77.0.0/24, on: dome}]}")],
        ["http://10.77.0.1/"],
        ("office",),
    ),
    "way: two segments": (HALL, [V_HALL, IN, f"{P}/"], ("office", "hall", "street")),
    "way: two segments, a hall without gateway": (
        [*HALL[:3], (OFFICE_V, OFFICE_V + "  hall: {network: hall, address: 10.30.0.50, gateway: none}\n")],
        [V_HALL, IN],
        ("office", "hall"),
    ),
    "way: forward into the second segment": (
        [*HALL, (F80, "      - {on: line, tcp: 80, to: 10.30.0.15}\n")],
        ["http://203.0.113.40/"],
        ("street", "hall"),
    ),
    "way: server with a host route back": (
        [
            SECOND,
            ("10.20.0.50}", "10.20.0.50, gateway: 10.20.0.1}"),
            host("gateway: 10.20.0.2", "routes: [{to: 198.51.100.77/32, via: 10.20.0.1}]"),
        ],
        [f"{P}/"],
        ("street",),
    ),
    "way: router without default": ([router("gateway: none")], [f"{P}/", IN], BOTH),
    "way: host-only network": ([("[10.20.0.0/24]", "[10.20.0.0/24], kind: host-only")], [IN, f"{P}/"], BOTH),
    "way: host-only beside a segment": (
        [
            (NETS, NETS + "  box: {kind: host-only, subnets: [192.168.56.0/24]}\n"),
            (
                "hosts:\n",
                "hosts:\n  vela:\n    interfaces: {box: {address: 192.168.56.10}}\n    services: {page: {listens: [80]}}\n",
            ),
            (OFFICE_V, OFFICE_V + "  own: {network: box, address: 192.168.56.1}\n"),
        ],
        ["http://192.168.56.10/", f"{P}/"],
        ("office", "own"),
    ),
    "way: mask too wide at the visitor": (
        [*HALL[:3], (OFFICE_V, OFFICE_V + "  hall: {network: hall, address: 10.30.0.50/8, gateway: 10.30.0.1}\n")],
        [IN, V_HALL],
        ("hall",),
    ),
    "way: mask too wide at the server": (
        [*HALL, host(interfaces="{dome: {address: 10.20.0.15/8}}")],
        [IN],
        ("hall", "office"),
    ),
    "way: mask too narrow at the server": (
        [host("gateway: 10.20.0.1", interfaces="{dome: {address: 10.20.0.15/28}}")],
        [IN],
        BOTH,
    ),
    # translations
    "way: one-to-one": ([router(ONE), AT_41], [f"{V}/", f"{P}/", "http://203.0.113.40/"], BOTH),
    "way: forwarded to nobody, with an inner source": (
        [("masquerade: [line]", "masquerade: [line, dome]"), (F80, F80.replace("10.20.0.15", "10.20.0.99"))],
        [f"{P}/"],
        ("street", "office"),
    ),
    "way: one-to-one, every port": (
        [router(ONE), AT_41, (WEB, "      mail: {kind: other, listens: [2525]}\n" + WEB)],
        ["http://203.0.113.41:2525/", "http://203.0.113.41:81/"],
        ("street",),
    ),
    "way: one-to-one, asked from inside with hairpin": (
        [router(ONE, "hairpin: full"), AT_41, SELF],
        [f"{V}/"],
        ("office", "self"),
    ),
    "way: one-to-one, destination only": ([router(ONE, "hairpin: destination-only"), AT_41], [f"{V}/"], ("office",)),
    "way: one-to-one, filtered": (
        [router(ONE, "filter: {forward: {default: drop, rules: [{allow: tcp, ports: 443, to: 10.20.0.15}]}}"), AT_41],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: one-to-one, forwards first": (
        [
            router(ONE),
            (F80, F80.replace("tcp: 80, to: 10.20.0.15", "tcp: 80, to: 10.20.0.16")),
            VELA,
            (LINE, "line: {network: internet, address: [203.0.113.40, 203.0.113.41]}"),
        ],
        ["http://203.0.113.41/", "https://203.0.113.41/"],
        ("street",),
    ),
    "way: one-to-one, the inside goes out": (
        [
            router(ONE, "services: {admin: {listens: [8080]}}"),
            ("zones:\n", "zones:\n"),
            SELF,
            (
                "hosts:\n",
                "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.9}}\n    services: {page: {listens: [80]}}\n    filter: {inbound: {default: drop, rules: [{allow: tcp, from: 203.0.113.41}]}}\n",
            ),
        ],
        ["http://192.0.2.9/"],
        ("self", "office"),
    ),
    "way: fixed source": (
        [
            router("source_nat: [{on: line, from: 10.20.0.0/25, to: 203.0.113.42}]"),
            (
                "hosts:\n",
                "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.9}}\n    services: {page: {listens: [80]}}\n    filter: {inbound: {default: drop, rules: [{allow: tcp, from: 203.0.113.42}]}}\n",
            ),
        ],
        ["http://192.0.2.9/"],
        ("office", "street"),
    ),
    "way: fixed source for others": (
        [
            router("source_nat: [{on: line, from: 10.20.0.128/25, to: 203.0.113.42}]"),
            (
                "hosts:\n",
                "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.9}}\n    services: {page: {listens: [80]}}\n    filter: {inbound: {default: drop, rules: [{allow: tcp, from: 203.0.113.42}]}}\n",
            ),
        ],
        ["http://192.0.2.9/"],
        ("office",),
    ),
    "way: fixed source towards the server": (
        [router("source_nat: [{on: dome, to: 10.20.0.1}]"), inbound("{allow: tcp, from: 10.20.0.1}")],
        [f"{P}/"],
        BOTH,
    ),
    "way: the router's own page first": (
        [router(ADMIN.strip(), "own_services_first: true"), ("certificates:", "certificates:")],
        [f"{P}/", "http://10.20.0.1/"],
        BOTH,
    ),
    "way: the router's own page first, another port": (
        [router("services: {admin: {listens: [8080]}}", "own_services_first: true")],
        [f"{P}/", f"{P}:8080/"],
        ("street",),
    ),
    "way: the router's own page first, stopped": (
        [router("services: {admin: {listens: [80], state: stopped}}", "own_services_first: true")],
        [f"{P}/"],
        ("street",),
    ),
    "way: the router's own page inside only": (
        [router("services: {admin: {listens: ['10.20.0.1:80']}}", "own_services_first: true")],
        [f"{P}/", "http://10.20.0.1/"],
        BOTH,
    ),
    "way: carrier's shared address": (CARRIER, [f"{P}/", f"{V}/", IN], BOTH),
    "way: carrier that forwards": (
        [
            *CARRIER,
            ("    masquerade: [up]\n", "    masquerade: [up]\n    forwards: [{on: up, tcp: 443, to: 100.64.12.7}]\n"),
        ],
        [f"{P}/", f"{V}/"],
        ("street",),
    ),
    "way: carrier, the visitor behind it too": (
        [
            *CARRIER,
            (OFFICE_V, OFFICE_V + "  neighbour: {network: carrier, address: 100.64.9.9, gateway: 100.64.0.1}\n"),
        ],
        [f"{P}/", "http://100.64.12.7/"],
        ("neighbour",),
    ),
    "way: carrier that turns round": (
        [
            *CARRIER,
            (
                "    masquerade: [up]\n",
                "    masquerade: [up]\n    hairpin: full\n    forwards: [{on: up, tcp: 80, to: 100.64.12.7}]\n",
            ),
            (OFFICE_V, OFFICE_V + "  neighbour: {network: carrier, address: 100.64.9.9, gateway: 100.64.0.1}\n"),
        ],
        [f"{P}/"],
        ("neighbour", "office"),
    ),
    "way: double, both masquerade": (MIDDLE, [f"{V}/"], BOTH),
    "way: double, the inner does not": ([*MIDDLE, (MASQ, "")], [f"{V}/", IN], BOTH),
    "way: double with hairpin outside": (
        [*MIDDLE, ("    masquerade: [up]\n", "    masquerade: [up]\n    hairpin: full\n")],
        [f"{V}/"],
        ("office",),
    ),
    "way: double, a filter in the middle": (
        [
            *MIDDLE,
            (
                "    masquerade: [up]\n",
                "    masquerade: [up]\n    filter: {forward: {default: drop, rules: [{allow: tcp, to: 192.168.7.2}]}}\n",
            ),
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: provider blocks": ([(LINE, LINE.replace("}", ", provider_blocks: [25, 80]}"))], [f"{P}/", f"{V}/"], BOTH),
    "way: provider blocks a range": (
        [(LINE, LINE.replace("}", ", provider_blocks: [1-1023]}"))],
        [f"{P}/", f"{V}/"],
        ("street",),
    ),
    "way: provider blocks, asked outwards": (
        [
            (LINE, LINE.replace("}", ", provider_blocks: [1-65535]}")),
            (
                "hosts:\n",
                "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.9}}\n    services: {page: {listens: [80]}}\n",
            ),
        ],
        ["http://192.0.2.9/"],
        ("office",),
    ),
    "way: addresses before a change": (
        [
            (
                LINE,
                "line: {network: internet, address: 203.0.113.40, before: [{until: 2026-03-14T21:00:00Z, address: 203.0.113.9}]}",
            )
        ],
        [f"{P}/", "http://203.0.113.9/"],
        ("street",),
    ),
    "way: addresses after a change": (
        [
            (
                LINE,
                "line: {network: internet, address: 203.0.113.40, before: [{until: 2026-03-14T19:00:00Z, address: 203.0.113.9}]}",
            )
        ],
        [f"{P}/", "http://203.0.113.9/"],
        ("street",),
    ),
    "way: a lease that changed": (
        [
            host(
                interfaces="{dome: {address: 10.20.0.77, leased: true, before: [{until: 2026-03-14T19:00:00Z, address: 10.20.0.15}]}}"
            )
        ],
        [f"{P}/", "http://10.20.0.77/"],
        BOTH,
    ),
    "way: udp forward only": ([(F80, "      - {on: line, udp: 80, to: 10.20.0.15}\n")], [f"{P}/"], ("street",)),
    "way: IPv6 forward": (
        [*SIX, (F80, F80 + '      - {on: line, tcp: 8080, to: "2001:db8:20::15", port: 80}\n')],
        ["http://[2001:db8:40::1]:8080/", "http://[2001:db8:40::1]/"],
        ("street",),
    ),
    "way: IPv6 one-to-one": (
        [*SIX, router('one_to_one: [{on: line, outside: "2001:db8:40::2", inside: "2001:db8:20::15"}]')],
        ["http://[2001:db8:40::2]/", "http://[2001:db8:20::15]/"],
        BOTH,
    ),
    # filters
    **{
        f"way: inbound {answer}": ([inbound(f"{{reject: tcp, answer: {answer}}}", "allow")], [f"{V}/", IN], BOTH)
        for answer in UNREACHED
    },
    **{
        f"way: forward {answer}": ([forward(f"{{reject: tcp, answer: {answer}}}", "allow")], [f"{V}/"], ("street",))
        for answer in UNREACHED
    },
    **{
        f"way: IPv6 {answer}": (
            [*SIX, forward(f"{{reject: tcp, answer: {answer}, to: '2001:db8:20::/64'}}", "allow")],
            ["https://six.kestrel-ridge.example/"],
            ("street",),
        )
        for answer in UNREACHED
    },
    "way: jump": (
        [
            inbound(
                "{jump: web, protocol: tcp, ports: [80, 443]}",
                extra="chains: {web: {rules: [{allow: tcp, ports: 443}]}}, ",
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: jump that drops": (
        [inbound("{jump: web}, {allow: tcp}", extra="chains: {web: {rules: [{drop: tcp, ports: 80}]}}, ")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: jump and return": (
        [
            inbound(
                "{jump: web}, {drop: tcp}",
                "allow",
                extra="chains: {web: {rules: [{return: tcp, ports: 80}, {allow: tcp}]}}, ",
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: return to the default": (
        [inbound("{return: tcp, ports: 443}, {drop: tcp}", "allow")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: jump by source": (
        [
            inbound(
                "{jump: office, from: 10.20.0.0/24}, {allow: tcp, ports: 443}",
                extra="chains: {office: {rules: [{allow: tcp, ports: 80}, {reject: tcp}]}}, ",
            )
        ],
        [f"{V}/", f"{P}/", IN, "https://10.20.0.15/"],
        BOTH,
    ),
    "way: jump twice": (
        [
            inbound(
                "{jump: one}",
                extra="chains: {one: {rules: [{jump: two}, {allow: tcp, ports: 443}]}, two: {rules: [{allow: tcp, ports: 80}]}}, ",
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: jump in the router": (
        [
            forward(
                "{jump: web, protocol: tcp, in: line}",
                extra="chains: {web: {rules: [{allow: tcp, to: 10.20.0.15, ports: 443}]}}, ",
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: many sources": (
        [inbound("{allow: tcp, from: [192.0.2.0/24, 198.51.100.64/26, 10.0.0.0/8]}")],
        [f"{V}/", IN],
        BOTH,
    ),
    "way: many rules": (
        [
            inbound(
                ", ".join(f"{{drop: tcp, from: 198.51.{n}.0/24}}" for n in range(40))
                + ", {allow: tcp, ports: 443}, {drop: tcp, from: 198.51.100.0/24}, {allow: tcp}"
            )
        ],
        [f"{V}/", f"{P}/", IN],
        BOTH,
    ),
    "way: many ports": (
        [inbound(", ".join(f"{{drop: tcp, ports: {n}}}" for n in range(60, 100)) + ", {allow: tcp}")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: destination at the server": (
        [inbound("{allow: tcp, to: 203.0.113.40}, {allow: tcp, to: 10.20.0.15, ports: 443}")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: source port": (
        [inbound("{allow: tcp, source_ports: 1-1023}, {allow: tcp, source_ports: 32768-60999, ports: 443}")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: outbound at the server": (
        [host("filter: {outbound: {default: drop, rules: [{allow: tcp, source_ports: 443}]}, stateful: false}")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: invalid answers": (
        [host("filter: {outbound: {rules: [{drop: any, state: invalid}]}}")],
        [f"{V}/"],
        ("street",),
    ),
    "way: a router's outbound chain": ([router("filter: {outbound: {default: drop}}")], [f"{V}/"], ("street",)),
    "way: a router rejects in its own name": (
        [router("filter: {inbound: {default: reject}}"), (F443, "")],
        [f"{V}/", "http://10.20.0.1/"],
        BOTH,
    ),
    "way: the visitor's own filter": (
        [
            (
                STREET,
                STREET.replace(
                    ", default",
                    ", filter: {outbound: {default: drop, rules: [{allow: udp}, {allow: tcp, ports: 443}]}}, default",
                ),
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: the office may not go out": (
        [
            router("filter: {forward: {rules: [{reject: tcp, in: dome, out: line, ports: 443}]}}"),
            (
                "hosts:\n",
                "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.9}}\n    services: {page: {listens: [80, 443]}}\n",
            ),
        ],
        ["http://192.0.2.9/", "http://192.0.2.9:443/"],
        ("office", "street"),
    ),
    # areas
    "way: areas": ([areas(f"{AREA}, outside: {{default: true, services: [https]}}")], [f"{V}/", f"{P}/", IN], BOTH),
    "way: areas that drop": (
        [areas(f"{AREA}, outside: {{default: true, services: [https], otherwise: drop}}")],
        [f"{P}/"],
        ("street",),
    ),
    "way: areas that allow": ([areas("all: {interfaces: [dome], otherwise: allow}")], [f"{P}/", f"{V}/"], ("street",)),
    "way: area that nothing belongs to": ([areas(AREA)], [f"{P}/", IN], BOTH),
    "way: area with an answer": ([areas("all: {default: true, answer: host-prohibited}")], [f"{P}/"], BOTH),
    "way: area by ports": (
        [areas("all: {default: true, services: [443/tcp, 8000-8010/tcp, ntp]}")],
        [f"{P}/", f"{V}/"],
        ("street",),
    ),
    "way: area by source before interface": (
        [areas("office: {from: 10.20.0.0/24, otherwise: drop}, dome: {interfaces: [dome], services: [http]}")],
        [IN, f"{P}/"],
        BOTH,
    ),
    "way: areas at the router": (
        [
            router(
                "filter: {areas: {outside: {interfaces: [line]}, inside: {interfaces: [dome], services: [http]}}}",
                "services: {admin: {listens: [80]}}",
            ),
            (F80, ""),
        ],
        [f"{P}/", "http://10.20.0.1/"],
        BOTH,
    ),
    # access lists
    "way: list allows in": (
        [listed("{allow: tcp, ports: [80, 443]}, {allow: tcp, ports: 1024-65535}")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: list denies in": ([listed("{allow: tcp, ports: 443}")], [f"{V}/", f"{P}/"], ("street",)),
    "way: list, the lower number first": (
        [listed("{allow: tcp, ports: [80, 443]}, {drop: any}, {drop: tcp, ports: 443}")],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: list denies the answers": (
        [listed("{allow: any}", "{allow: tcp, ports: [80, 443]}")],
        [f"{V}/"],
        ("street",),
    ),
    "way: list allows the answers": (
        [listed("{allow: any}", "{allow: tcp, ports: 32768-60999}")],
        [f"{V}/"],
        ("street",),
    ),
    "way: list allows other answers": (
        [listed("{allow: any}", "{allow: tcp, ports: 49152-65535}")],
        [f"{V}/"],
        ("street",),
    ),
    "way: list, the visitor's ports": (
        [
            listed("{allow: any}", "{allow: tcp, ports: 49152-65535}"),
            (STREET, STREET.replace(", default", ", client_ports: 49152-65535, default")),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "way: list by source": (
        [listed("{drop: any, from: 198.51.100.0/24}, {allow: any}")],
        [f"{V}/"],
        ("street",),
    ),
    "way: list by destination": (
        [listed("{allow: any, to: 10.20.0.15}")],
        [f"{V}/", "http://203.0.113.40/"],
        ("street",),
    ),
    "way: list within the segment": (
        [listed("{drop: any}", "{drop: any}")],
        [IN, f"{P}/"],
        BOTH,
    ),
    "way: list outwards from the office": (
        [
            listed(None, "{allow: tcp, ports: 443}"),
            (
                "hosts:\n",
                "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.9}}\n    services: {page: {listens: [80, 443]}}\n",
            ),
        ],
        ["http://192.0.2.9/", "http://192.0.2.9:443/"],
        ("office",),
    ),
    "way: list, answers to the office": (
        [
            listed("{allow: tcp, ports: 443}"),
            (
                "hosts:\n",
                "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.9}}\n    services: {page: {listens: [80]}}\n",
            ),
        ],
        ["http://192.0.2.9/"],
        ("office",),
    ),
    "way: list and an error from the server": (
        [
            listed("{allow: any}", "{allow: tcp}"),
            inbound("{reject: tcp, ports: 443}", "allow"),
            ("[80, 443 tls]", "[443 tls]"),
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: list towards the router's own address": (
        [
            listed(None, "{drop: tcp, ports: 80, to: 10.20.0.1}, {allow: any}"),
            router("services: {admin: {listens: [80]}}"),
        ],
        ["http://10.20.0.1/", IN],
        ("office",),
    ),
    "way: lists of two segments": (
        [
            *HALL,
            listed("{allow: tcp, ports: 80}", "{allow: any}"),
            (
                "  hall: {subnets: [10.30.0.0/24]}",
                "  hall: {subnets: [10.30.0.0/24], access_list: {outbound: [{allow: tcp, to: 10.20.0.0/24}]}}",
            ),
        ],
        [IN, "http://10.20.0.15:81/", V_HALL],
        ("hall", "office"),
    ),
    # groups
    "way: groups on both ends": (
        [
            (HOST, "{dome: {address: 10.20.0.15, groups: [web]}}"),
            (
                "certificates:",
                "groups: {web: {inbound: [{allow: tcp, ports: 80, from: front}]}, front: {outbound: [{allow: tcp, to: web}]}}\ncertificates:",
            ),
            (VELA[0], VELA[1].replace("10.20.0.16}", "10.20.0.16, groups: [front]}")),
            (OFFICE_V, OFFICE_V + "  vela: {host: vela}\n"),
        ],
        [IN, "https://10.20.0.15/", "http://10.20.0.50/"],
        ("vela", "office"),
    ),
    "way: group as source, through a forward": (
        [
            (HOST, "{dome: {address: 10.20.0.15, groups: [web]}}"),
            ("certificates:", "groups: {web: {inbound: [{allow: tcp, from: front}]}, front: {}}\ncertificates:"),
            ("hosts:\n", "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.9, groups: [front]}}\n"),
            (OFFICE_V, OFFICE_V + "  lyra: {host: lyra}\n"),
        ],
        [f"{P}/"],
        ("lyra", "street"),
    ),
    "way: two groups, one allows": (
        [
            (HOST, "{dome: {address: 10.20.0.15, groups: [a, b]}}"),
            (
                "certificates:",
                "groups: {a: {inbound: [{allow: tcp, ports: 80}]}, b: {inbound: [{allow: tcp, ports: 443}]}}\ncertificates:",
            ),
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "way: group by IP version": (
        [
            *SIX,
            ('"2001:db8:20::15"]}}', '"2001:db8:20::15"], groups: [web]}}'),
            ("certificates:", "groups: {web: {inbound: [{allow: tcp, from: 0.0.0.0/0}]}}\ncertificates:"),
        ],
        ["https://six.kestrel-ridge.example/", f"{V}/"],
        ("street",),
    ),
    "way: group and list": (
        [
            listed("{allow: tcp, ports: 443}"),
            (HOST, "{dome: {address: 10.20.0.15, groups: [web]}}"),
            ("certificates:", "groups: {web: {inbound: [{allow: tcp, ports: 80}]}}\ncertificates:"),
        ],
        [f"{V}/", f"{P}/", IN],
        BOTH,
    ),
    # listeners and boots
    "way: not privileged": ([(WEB, WEB + "        privileged: false\n")], [f"{P}/"], BOTH),
    "way: not privileged, high ports": (
        [
            (WEB, WEB + "        privileged: false\n"),
            ("[80, 443 tls]", "[8080, 8443 tls]"),
            (F80, F80.replace("}", ", port: 8080}")),
        ],
        [f"{P}/", "http://10.20.0.15:8080/"],
        BOTH,
    ),
    "way: not privileged, Apache": ([APACHE, (WEB, WEB + "        privileged: false\n")], [f"{P}/"], ("street",)),
    "way: not privileged, another program": (
        [(WEB, "      old: {kind: other, listens: [443], privileged: false}\n" + WEB)],
        [f"{V}/"],
        ("street",),
    ),
    "way: saved and not in force": (
        [(WEB, WEB + "        saved: {listens: [80, 8443 tls]}\n")],
        [f"{V}/", "https://10.20.0.15:8443/"],
        ("office",),
    ),
    "way: a boot is to come": (
        [
            (WEB, WEB + "        after_boot: {state: stopped}\n"),
            host("after_boot: {filter: {inbound: {default: drop}}}"),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "way: two services, one port each address": (
        [
            host(interfaces="{dome: {address: [10.20.0.15, 10.20.0.16]}}"),
            (WEB, "      old: {listens: ['10.20.0.16:80']}\n" + WEB),
            ("[80, 443 tls]", "['10.20.0.15:80', 443 tls]"),
        ],
        [IN, V_VELA],
        ("office",),
    ),
    "way: loopback of another machine": (
        [(OFFICE_V, OFFICE_V + "  self: {host: orion}\n")],
        ["http://127.0.0.1/", "http://127.9.9.9/"],
        ("office", "self"),
    ),
    "way: IPv6 only listener, visitor with both": ([*SIX, ("443 tls", "'[2001:db8:20::15]:443 tls'")], [f"{V}/"], BOTH),
}

#: Worlds that are asked after a boot of every machine.
BOOTED: dict[str, tuple[Facts, list[str], tuple[str, ...]]] = {
    "boot: as it was": ([], [f"{V}/"], BOTH),
    "boot: not started": ([(WEB, WEB + "        after_boot: {state: stopped}\n")], [f"{V}/"], BOTH),
    "boot: started at last": (
        [(WEB, WEB + "        state: stopped\n        after_boot: {state: running}\n")],
        [f"{V}/"],
        BOTH,
    ),
    "boot: the saved filter": (
        [host("after_boot: {filter: {inbound: {default: drop, rules: [{allow: tcp, ports: 443}]}}}")],
        [f"{V}/", f"{P}/"],
        BOTH,
    ),
    "boot: the filter is gone": (
        [
            inbound("{allow: tcp, ports: 80}"),
            (
                "inbound: {default: drop, rules: [{allow: tcp, ports: 80}]}}",
                "inbound: {default: drop, rules: [{allow: tcp, ports: 80}]}}\n    after_boot: {filter: {}}",
            ),
        ],
        [f"{V}/"],
        ("street",),
    ),
    "boot: the router's saved filter": (
        [router("after_boot: {filter: {forward: {default: reject}}}")],
        [f"{V}/"],
        BOTH,
    ),
    "boot: saved listeners": (
        [(WEB, WEB + "        saved: {listens: [80, 8443 tls]}\n")],
        [f"{V}/", "https://10.20.0.15:8443/"],
        ("office",),
    ),
    "boot: broken configuration": ([(WEB, WEB + "        saved: {broken: unknown directive}\n")], [f"{V}/"], BOTH),
    "boot: saved sites": (
        [
            (
                WEB,
                WEB
                + "        saved: {sites: {only: {names: [visit.kestrel-ridge.example], certificate: visit, files: [index.html]}}}\n",
            )
        ],
        [f"{V}/", "https://other.kestrel-ridge.example/"],
        ("street",),
    ),
}
