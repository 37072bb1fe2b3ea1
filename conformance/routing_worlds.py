"""The table's worlds about routing: sources, tables, marks, reverse paths, proxies, interfaces, sizes of packets."""

import random
import re
from collections.abc import Iterator

from conformance.web_common import WebWorld

_WEB = "services: {web: {program: nginx, sites: {A: {files: [index.html]}}}}"
_STREET = "  street: {network: internet, address: 198.51.100.77}\n"


def _world(text: str, *asked: tuple[str, str]) -> WebWorld:
    return WebWorld('portolan: 1\nat: "2026-03-14T20:00:00Z"\n' + text, list(asked))


#: A server with an address for each of two routers, each with a line of its own.
_TWO = """\
networks: {{lan: {{subnets: [10.1.0.0/24]}}}}
routers:
  r1:
    interfaces: {{line: {{network: internet, address: 203.0.113.40}}, lan: {{address: 10.1.0.1}}}}
    masquerade: [line]
    forwards: [{{on: line, tcp: 80, to: 10.1.0.15}}]
  r2:
    interfaces: {{line: {{network: internet, address: 203.0.113.41}}, lan: {{address: 10.1.0.2}}}}
    masquerade: [line]
    forwards: [{{on: line, tcp: 80, to: 10.1.0.25}}]
hosts:
  srv:
    interfaces: {{lan: {{address: [10.1.0.15, 10.1.0.25]}}}}
    gateway: 10.1.0.1
    {more}
    {web}
vantages:
{street}  self: {{host: srv}}
  near: {{network: lan, address: 10.1.0.50, gateway: 10.1.0.2}}
"""
_LINES = (("http://203.0.113.40/", "street"), ("http://203.0.113.41/", "street"), ("http://198.51.100.77/", "self"))
_TABLE = "tables: {second: {gateway: 10.1.0.2}}"


def _two(more: str) -> WebWorld:
    return _world(_TWO.format(more=more, web=_WEB, street=_STREET), *_LINES)


#: A router with two lines of its own.
_ONE_ROUTER = """\
networks: {{lan: {{subnets: [10.1.0.0/24]}}}}
routers:
  gate:
    interfaces:
      one: {{network: internet, address: 203.0.113.40{one}}}
      two: {{network: internet, address: 203.0.113.41{two}}}
      lan: {{address: 10.1.0.1}}
    masquerade: [one, two]
    forwards: [{{tcp: 80, to: 10.1.0.15}}]
    services: {{admin: {{listens: [8080]}}}}
    {more}
hosts:
  srv:
    interfaces: {{lan: {{address: 10.1.0.15}}}}
    {web}
vantages:
{street}  lan: {{network: lan, address: 10.1.0.50}}
"""


def _lines(more: str, one: str = "", two: str = "") -> WebWorld:
    text = _ONE_ROUTER.format(more=more, one=one, two=two, web=_WEB, street=_STREET)
    asked = [(f"http://203.0.113.{last}{port}/", "street") for last in (40, 41) for port in ("", ":8080")]
    return _world(text, *asked, ("http://203.0.113.41/", "lan"))


_KEEP = "packet_marks: [{mark: 2, in: two}]"
_BY_MARK = "tables: {second: {on: two}}\n    routing_rules: [{mark: 2, table: second}]"
_BY_SOURCE = "tables: {second: {on: two}}\n    routing_rules: [{from: 203.0.113.41/32, table: second}]"

#: A server with legs on two networks, with a router between them.
_LEGS = """\
networks:
  one: {{subnets: [10.1.0.0/24]}}
  two: {{subnets: [10.2.0.0/24]}}
routers:
  gate: {{interfaces: {{one: {{address: 10.1.0.1{one}}}, two: {{address: 10.2.0.1{two}}}}}, gateway: none{gate}}}
hosts:
  srv:
    interfaces: {{one: {{address: 10.1.0.15{mine}}}, two: {{address: 10.2.0.15{other}}}}}
    gateway: 10.1.0.1
    {more}
    {web}
  pc: {{interfaces: {{two: {{address: 10.2.0.60}}}}, gateway: 10.2.0.1, services: {{web: {{listens: [80]}}}}}}
vantages:
  office: {{network: one, address: 10.1.0.50, gateway: 10.1.0.1}}
  hall: {{network: two, address: 10.2.0.50, gateway: 10.2.0.1}}
"""


def _legs(more: str = "", one: str = "", two: str = "", gate: str = "", mine: str = "", other: str = "") -> WebWorld:
    text = _LEGS.format(more=more, one=one, two=two, gate=gate, mine=mine, other=other, web=_WEB)
    urls = ("http://10.1.0.15/", "http://10.2.0.15/", "http://10.2.0.60/")
    return _world(text, *((url, vantage) for url in urls for vantage in ("office", "hall")))


#: A home with several IPv6 addresses of one interface.
_HOME = """\
networks: {{home: {{subnets: ["fd00:1::/64", "2001:db8:1::/64", "2001:db8:9:1::/64"]}}}}
routers:
  gate:
    interfaces:
      line: {{network: internet, address: "2001:db8:40::1"}}
      home: {{address: ["fd00:1::1", "2001:db8:1::1"]}}
hosts:
  far: {{interfaces: {{internet: {{address: "2001:db8:9::9"}}}}, {web}}}
  near:
    interfaces: {{home: {{address: [{addresses}]{more}}}}}
    {web}
vantages:
  near: {{host: near}}
"""


def _home(addresses: str, more: str = "") -> WebWorld:
    text = _HOME.format(addresses=addresses, more=more, web=_WEB)
    return _world(text, ("http://[2001:db8:9::9]/", "near"), ("http://[fd00:1::1]/", "near"))


#: A rented machine whose gateway lies outside of its range.
_RENTED = """\
networks: {{rack: {{subnets: [203.0.113.32/28, 172.31.1.0/24]}}}}
routers:
  isp:
    provider: true
    interfaces: {{line: {{network: internet, address: 203.0.113.1}}, rack: {{address: [203.0.113.33, 172.31.1.1]}}}}
hosts:
  srv:
    interfaces: {{eth: {{network: rack, address: 203.0.113.40/32}}}}
    {way}
    {web}
vantages:
{street}  beside: {{network: rack, address: 203.0.113.41, gateway: 203.0.113.33}}
"""


def _rented(way: str) -> WebWorld:
    url = "http://203.0.113.40/"
    return _world(_RENTED.format(way=way, web=_WEB, street=_STREET), (url, "street"), (url, "beside"))


_LINK_LOCAL = """\
networks: {{lan: {{subnets: ["2001:db8:1::/64"]}}}}
routers:
  gate:
    interfaces:
      line: {{network: internet, address: "2001:db8:40::1"}}
      lan: {{address: [{router}]}}
hosts:
  srv:
    interfaces: {{lan: {{address: ["2001:db8:1::15"]}}}}
    {way}
    {web}
vantages:
  street: {{network: internet, address: "2001:db8:77::7"}}
"""


def _link_local(way: str, router: str = '"2001:db8:1::1"') -> WebWorld:
    return _world(_LINK_LOCAL.format(way=way, router=router, web=_WEB), ("http://[2001:db8:1::15]/", "street"))


_PROXY = """\
networks: {{up: {{subnets: [203.0.113.32/28]}}, dmz: {{subnets: [203.0.113.32/28]}}}}
routers:
  isp:
    provider: true
    interfaces: {{line: {{network: internet, address: 203.0.113.1}}, up: {{address: 203.0.113.33}}}}
  r1:
    interfaces: {{up: {{address: 203.0.113.34{up}}}, dmz: {{address: 203.0.113.34{dmz}}}}}
    gateway: 203.0.113.33
    routes: [{{to: 203.0.113.40/32, on: dmz}}, {{to: 203.0.113.33/32, on: up}}]
    {more}
hosts:
  h1:
    interfaces: {{dmz: {{address: 203.0.113.40}}}}
    gateway: 203.0.113.34
    {web}
vantages:
{street}  dmz: {{network: dmz, address: 203.0.113.41, gateway: 203.0.113.34}}
  up: {{network: up, address: 203.0.113.42, gateway: 203.0.113.33}}
"""


def _proxy(up: str, dmz: str = "", more: str = "") -> WebWorld:
    text = _PROXY.format(up=up, dmz=dmz, more=more, web=_WEB, street=_STREET)
    return _world(text, *(("http://203.0.113.40/", each) for each in ("street", "dmz", "up")))


_PLAIN = """\
networks: {{lan: {{subnets: [10.1.0.0/24, "fd00:1::/64"]{network}}}}}
routers:
  gate:
    interfaces:
      line: {{network: internet, address: 203.0.113.40{line}}}
      lan: {{address: [10.1.0.1, "fd00:1::1"]{lan}}}
    masquerade: [line]
    forwards: [{{on: line, tcp: 80, to: {to}}}]
    {gate}
hosts:
  srv:
    interfaces: {{lan: {{address: [10.1.0.15{mask}, "fd00:1::15"]{srv}}}}}
    {more}
    services: {{web: {{program: nginx, listens: [{listens}], sites: {{A: {{files: [index.html]}}}}}}}}
vantages:
{street}  office: {{network: lan, address: [10.1.0.50, "fd00:1::50"]}}
  self: {{host: srv}}
"""


def _plain(**words: str) -> WebWorld:
    held = {
        "network": "",
        "line": "",
        "lan": "",
        "gate": "",
        "srv": "",
        "more": "",
        "mask": "",
        "to": "10.1.0.15",
        "listens": "80",
        **words,
    }
    inner = ("http://10.1.0.15/", "http://[fd00:1::15]/")
    asked = [("http://203.0.113.40/", "street"), *((url, each) for url in inner for each in ("office", "self"))]
    return _world(_PLAIN.format(street=_STREET, **held), *asked)


def _several(second: str, first: str = "{default: drop, rules: [{allow: tcp, ports: 80}]}") -> str:
    return f"filter: {{basics: [loopback, known-connections, neighbour-discovery], inbound: {first}, then: [{second}]}}"


#: Pages of two sizes, and encryption, behind a router, with a segment between.
_SIZES = """\
networks:
  lan: {{subnets: [10.1.0.0/24, "2001:db8:1::/64"]}}
  dmz: {{subnets: [10.2.0.0/24, "2001:db8:2::/64"]{dmz}}}
routers:
  gate:
    interfaces:
      line: {{network: internet, address: [203.0.113.40, "2001:db8:40::1"]{line}}}
      lan: {{address: [10.1.0.1, "2001:db8:1::1"]{lan}}}
    masquerade: [line]
    forwards: [{{on: line, tcp: 80, to: 10.2.0.15}}, {{on: line, tcp: 443, to: 10.2.0.15}}]
    routes: [{{to: 10.2.0.0/24, via: 10.1.0.2}}, {{to: "2001:db8:2::/64", via: "2001:db8:1::2"}}]
    {gate}
  inner:
    interfaces: {{lan: {{address: [10.1.0.2, "2001:db8:1::2"]{up}}}, dmz: {{address: [10.2.0.1, "2001:db8:2::1"]{down}}}}}
    gateway: [10.1.0.1, "2001:db8:1::1"]
    {inner}
hosts:
  srv:
    interfaces: {{dmz: {{address: [10.2.0.15, "2001:db8:2::15"]{srv}}}}}
    gateway: {gateway}
    {more}
    services:
      web:
        program: nginx
        listens: [80, 443 tls]
        certificate: c
        sites: {{A: {{files: [index.html, big.html], large: [big.html], sections: [{{path: /up/, upstream: "http://10.1.0.60"}}]}}}}
  app:
    interfaces: {{lan: {{address: 10.1.0.60{app}}}}}
    gateway: 10.1.0.1
    routes: [{{to: 10.2.0.0/24, via: 10.1.0.2}}]
    services: {{app: {{program: nginx, sites: {{P: {{files: [up/big.html, up/s.html], large: [up/big.html]}}}}}}}}
certificates: {{c: {{names: [203.0.113.40, 10.2.0.15]}}}}
vantages:
  street: {{network: internet, address: [198.51.100.77, "2001:db8:77::7"], trusts: [c]}}
  office: {{network: lan, address: [10.1.0.50, "2001:db8:1::50"], gateway: [10.1.0.1, "2001:db8:1::1"]}}
"""


def _sizes(v6: bool = False, **words: str) -> WebWorld:
    names = ("dmz", "line", "lan", "gate", "up", "down", "inner", "srv", "more", "app")
    gateway = words.get("srv_gate", '[10.2.0.1, "2001:db8:2::1"]')
    text = _SIZES.format(gateway=gateway, **{name: words.get(name, "") for name in names}).replace(", trusts: [c]", "")
    if not v6:
        # IPv6 needs 1,280 octets of every link (RFC 8200 section 5).
        text = re.sub(r', "2001:[^"]*"|, \{to: "2001:[^}]*\}', "", text)
    pages = ("index.html", "big.html", *(() if v6 else ("up/big.html", "up/s.html")))
    asked = [("http://203.0.113.40/" + page, "street") for page in pages if not v6]
    asked += [("http://10.2.0.15/" + page, "office") for page in pages if not v6]
    asked += [("http://[2001:db8:2::15]/" + page, each) for page in pages if v6 for each in ("street", "office")]
    return _world(text, *asked, *([] if v6 else [("https://203.0.113.40/", "street")]))


_NO_WORD = "filter: {basics: [], outbound: {rules: [{drop: icmp}]}}"
_DEAF = "filter: {basics: [], inbound: {rules: [{drop: icmp, icmp_types: [destination-unreachable, packet-too-big]}]}}"


def _size_worlds() -> Iterator[tuple[str, WebWorld]]:
    """Where a smaller MTU is, with and without the word of it."""
    for v6 in (False, True):
        small, name = (", mtu: 1300", " (IPv6)") if v6 else (", mtu: 600", "")
        yield f"size: line, word comes{name}", _sizes(v6, line=small)
        yield f"size: line, router silent{name}", _sizes(v6, line=small, gate=_NO_WORD)
        yield f"size: line, server deaf{name}", _sizes(v6, line=small, more=_DEAF)
        yield f"size: between the routers{name}", _sizes(v6, up=small, inner=_NO_WORD)
        yield f"size: link carries less{name}", _sizes(v6, dmz=small, srv=", mtu: 1500", down=", mtu: 1500")
        yield f"size: link carries less, all know{name}", _sizes(v6, dmz=small)
        yield f"size: server's own{name}", _sizes(v6, srv=small)
        yield f"size: clamped{name}", _sizes(v6, line=small, gate=f"clamp_mss: true\n    {_NO_WORD}")
        yield f"size: clamped in the middle{name}", _sizes(v6, line=small, gate=_NO_WORD, inner="clamp_mss: true")
        yield f"size: router's way back{name}", _sizes(v6, lan=small, gate=_NO_WORD)
        yield (
            f"size: forward filter drops the word{name}",
            _sizes(v6, line=small, inner="filter: {basics: [], forward: {rules: [{drop: icmp}]}}"),
        )
    yield "size: program behind", _sizes(app=", mtu: 600")
    yield (
        "size: program behind, deaf",
        _sizes(up=", mtu: 600", down=", mtu: 600", inner="filter: {basics: [], outbound: {rules: [{drop: icmp}]}}"),
    )
    by_route = "routes: [{to: 0.0.0.0/0, via: 10.2.0.1, mtu: 600}]"
    yield "size: by a route", _sizes(more=by_route, srv_gate="none", gate=_NO_WORD, line=", mtu: 600")


#: A neighbour with a wide mask and an address of another range asks a server that would answer by its other leg.
_STRANGER = """\
networks:
  one: {{subnets: [10.1.0.0/24]}}
  two: {{subnets: [10.2.0.0/24, 10.9.0.0/24]}}
routers:
  gate: {{interfaces: {{one: {{address: 10.1.0.1}}, two: {{address: 10.2.0.1}}}}, gateway: none}}
hosts:
  srv:
    interfaces: {{one: {{address: 10.1.0.15}}, two: {{address: 10.2.0.15}}}}
    gateway: 10.1.0.1
    reverse_path: {checks}
    {web}
vantages:
  wide: {{network: two, address: 10.9.0.5/8, gateway: none}}
"""
#: The answer comes to the outer router as a connection of its own, from a port pair that is taken there.
_CLASH = """\
networks:
  n1: {{subnets: [10.1.0.0/24]}}
  n2: {{subnets: [10.2.0.0/24]}}
routers:
  r1:
    interfaces: {{line: {{network: internet, address: 203.0.113.40}}, n1: {{address: 10.1.0.1}}}}
    masquerade: [line]
    forwards: [{{on: line, tcp: 80, to: 10.1.0.33}}]
  r2:
    interfaces: {{wan: {{network: n1, address: 10.1.0.2}}, n2: {{address: 10.2.0.1}}}}
    gateway: 10.1.0.1
    masquerade: [wan]
hosts:
  h3:
    interfaces: {{n1: {{address: 10.1.0.33}}, n2: {{address: 10.2.0.33}}}}
    gateway: 10.2.0.1
    {web}
vantages:
{street}
"""


def _worlds() -> Iterator[tuple[str, WebWorld]]:
    yield "tables: none", _two("")
    yield "tables: by source", _two(f"{_TABLE}\n    routing_rules: [{{from: 10.1.0.25/32, table: second}}]")
    yield "tables: rule first", _two(f"{_TABLE}\n    routing_rules: [{{table: second}}]")
    yield (
        "tables: main before",
        _two(f"{_TABLE}\n    routing_rules: [{{table: main}}, {{from: 10.1.0.25/32, table: second}}]"),
    )
    specific = "{table: main, without_default: true}"
    yield (
        "tables: main without its default before",
        _two(f"{_TABLE}\n    routing_rules: [{specific}, {{from: 10.1.0.25/32, table: second}}]"),
    )
    yield "tables: rule that ends", _two("routing_rules: [{from: 10.1.0.25/32, type: blackhole}]")
    yield "tables: rule that ends aloud", _two("routing_rules: [{to: 198.51.100.0/24, type: unreachable}]")
    yield "tables: to a range", _two(f"{_TABLE}\n    routing_rules: [{{to: 198.51.100.0/24, table: second}}]")
    yield (
        "tables: no route in the table",
        _two(
            "tables: {second: {routes: [{to: 10.9.0.0/24, via: 10.1.0.2}]}}\n"
            "    routing_rules: [{from: 10.1.0.25/32, table: second}]"
        ),
    )
    yield "source of a route", _two("routes: [{to: 0.0.0.0/0, via: 10.1.0.2, source: 10.1.0.25, metric: 5}]")
    yield (
        "source of the default's own line",
        _two("routes: [{to: 198.51.100.0/24, via: 10.1.0.2, source: 10.1.0.25}]"),
    )
    yield "lines: default by one", _lines("")
    yield "lines: by source", _lines(_BY_SOURCE)
    yield "lines: by mark", _lines(f"{_KEEP}\n    {_BY_MARK}")
    yield "lines: mark not kept", _lines(f"packet_marks: [{{mark: 2, in: two, keep: false}}]\n    {_BY_MARK}")
    yield "lines: marked by port", _lines(f"packet_marks: [{{mark: 2, in: two, tcp: 8080}}]\n    {_BY_MARK}")
    yield "lines: marked by asker", _lines(f"packet_marks: [{{mark: 2, from: 198.51.100.0/24}}]\n    {_BY_MARK}")
    yield "lines: own packets marked", _lines(f"packet_marks: [{{mark: 2, own: true, keep: false}}]\n    {_BY_MARK}")
    yield "lines: strict, marks", _lines(f"reverse_path: strict\n    {_KEEP}\n    {_BY_MARK}")
    yield "lines: loose, marks", _lines(f"reverse_path: loose\n    {_KEEP}\n    {_BY_MARK}")
    yield "lines: strict, by source", _lines(f"reverse_path: strict\n    {_BY_SOURCE}")
    yield "lines: strict", _lines("reverse_path: strict")
    yield "lines: by interface", _lines("tables: {second: {on: two}}\n    routing_rules: [{in: lan, table: second}]")
    yield "lines: providers check", _lines("", ", provider_checks_source: true", ", provider_checks_source: true")
    yield "lines: providers check, by mark", _lines(f"{_KEEP}\n    {_BY_MARK}", ", provider_checks_source: true", "")
    yield "legs: off", _legs("reverse_path: 'off'")
    yield "legs: strict", _legs("reverse_path: strict")
    yield "legs: loose", _legs("reverse_path: loose")
    yield "legs: strict at one", _legs("", mine=", reverse_path: strict")
    yield "legs: strict, loose at one", _legs("reverse_path: strict", other=", reverse_path: loose")
    yield "legs: loose without a default", _legs("reverse_path: loose\n    routes: [{to: 10.9.0.0/16, via: 10.2.0.1}]")
    yield "legs: strict router", _legs("", gate=", reverse_path: strict")
    yield "legs: router that does not pass on", _legs("", gate=", passes_on: false")
    yield "legs: a leg down", _legs("", mine=", up: false")
    yield "legs: the other down", _legs("", other=", up: false")
    yield "legs: a router's leg down", _legs("", two=", up: false")
    yield "home: ULA first", _home('"fd00:1::50", "2001:db8:1::50"')
    yield "home: ULA last", _home('"2001:db8:1::50", "fd00:1::50"')
    yield "home: two global", _home('"2001:db8:1::50", "2001:db8:1::51", "fd00:1::50"')
    yield (
        "home: deprecated",
        _home('"2001:db8:1::50", "2001:db8:1::51", "fd00:1::50"', ', deprecated: ["2001:db8:1::51"]'),
    )
    yield "home: longer prefix", _home('"2001:db8:9:1::50", "2001:db8:1::51"')
    yield "rented: routes", _rented("routes: [{to: 172.31.1.1/32, on: eth}]\n    gateway: 172.31.1.1")
    yield "rented: onlink", _rented("routes: [{to: 0.0.0.0/0, via: 172.31.1.1, on: eth}]\n    gateway: none")
    yield "rented: no way", _rented("gateway: none")
    yield "link-local: nobody's", _link_local("gateway: fe80::1")
    yield "link-local: stated", _link_local("gateway: fe80::7", '"fe80::7", "2001:db8:1::1"')
    yield "link-local: another", _link_local("gateway: fe80::8", '"fe80::7", "2001:db8:1::1"')
    yield (
        "link-local: in a route",
        _link_local('routes: [{to: "::/0", via: fe80::7, on: lan}]\n    gateway: none', '"fe80::7"'),
    )
    yield "proxy: none", _proxy("")
    yield "proxy: at one side", _proxy(", proxy_arp: true")
    yield "proxy: at both", _proxy(", proxy_arp: true", ", proxy_arp: true")
    yield "proxy: listed", _proxy(", proxy_for: [203.0.113.40]")
    yield "proxy: does not pass on", _proxy(", proxy_arp: true", more="passes_on: false")
    yield "mask: alone", _plain(mask="/32")
    yield "mask: written", _plain(mask="/24")
    yield "isolated", _plain(network=", isolated: true")
    yield "line down", _plain(line=", up: false")
    yield "server down", _plain(srv=", up: false")
    yield "router does not pass on", _plain(gate="passes_on: false")
    localnet = "forwards: [{tcp: 80, to: 127.0.0.1}]\n    passes_on: false"
    yield "localnet: not allowed", _plain(more=localnet, listens="127.0.0.1:80")
    yield "localnet: allowed", _plain(more=localnet, listens="127.0.0.1:80", srv=", route_localnet: true")
    yield "any destination", _plain(gate="source_nat: [{on: lan, to: 10.1.0.1}]", to="10.1.0.15")
    any_ = "forwards: [{tcp: 80, to: 10.1.0.15, address: any}]\n    hairpin: full"
    yield (
        "any destination, at the router",
        WebWorld(
            _plain().text.replace("forwards: [{on: line, tcp: 80, to: 10.1.0.15}]", any_),
            [("http://203.0.113.40/", "street"), ("http://192.0.2.99/", "office"), ("http://10.1.0.1/", "office")],
        ),
    )
    yield "filters: the next drops", _plain(more=_several("{inbound: {default: drop}}"))
    yield "filters: the next allows", _plain(more=_several("{inbound: {default: drop, rules: [{allow: tcp}]}}"))
    yield (
        "filters: the first drops",
        _plain(more=_several("{inbound: {default: allow}}", "{default: drop, rules: [{allow: tcp, ports: 443}]}")),
    )
    yield (
        "filters: the next asks each packet",
        _plain(more=_several("{basics: [], inbound: {default: drop, rules: [{allow: tcp, state: [new]}]}}")),
    )
    yield "filters: the next rejects", _plain(more=_several("{inbound: {default: reject}}"))
    for checks in ("'off'", "loose", "strict"):
        text = _STRANGER.format(checks=checks, web=_WEB)
        yield f"stranger's mask, {checks}", _world(text, ("http://10.2.0.15/", "wide"))
    yield "ports that are taken", _world(_CLASH.format(web=_WEB, street=_STREET), ("http://203.0.113.40/", "street"))
    yield from _size_worlds()
    yield "area's own answer", _plain(more="filter: {areas: {all: {default: true, services: [ssh]}}}")


def drawn_sizes(count: int, seed: int) -> Iterator[tuple[str, str, list[tuple[str, str]]]]:
    """Random places of smaller MTUs, with what keeps the word of them back, or makes it needless."""
    for at in range(count):
        rng = random.Random(seed * 100000 + at)
        v6 = rng.random() < 0.4
        sizes = (1280, 1300, 1400) if v6 else (576, 700, 1000, 1400)
        words = {
            name: f", mtu: {rng.choice(sizes)}"
            for name in ("dmz", "line", "lan", "up", "down", "srv", "app")
            if rng.random() < 0.22
        }
        dropped = "filter: {basics: [], forward: {rules: [{drop: icmp}]}}"
        for name, choices in (
            ("gate", (_NO_WORD, "clamp_mss: true")),
            ("inner", (_NO_WORD, dropped, "clamp_mss: true")),
            ("more", (_DEAF,)),
        ):
            if rng.random() < 0.4:
                words[name] = rng.choice(choices)
        world = _sizes(v6, **words)
        # What a sender learned from a handshake of some size would hold for the next visit, too.
        yield f"sizes {seed * 100000 + at}", world.text, [each for each in world.asked if each[0].startswith("http:")]


ROUTING_WORLDS: dict[str, WebWorld] = {f"routing: {name}": world for name, world in _worlds()}
