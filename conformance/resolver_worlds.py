"""The table's worlds about resolvers: by zone, several, search lists, rebind protection, large answers, signatures by set."""

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

from conformance.web_common import WebWorld

_MOMENT = "2026-03-14T20:00:00Z"
_SOA = "'@ 60 SOA ns m 1 60 60 60 60', '@ 60 NS ns'"

_ESTATE = """\
portolan: 1
at: "{moment}"
networks: {{lan: {{subnets: [10.20.0.0/24]}}}}
routers:
  gate: {{interfaces: {{line: {{network: internet, address: 203.0.113.40}}, lan: {{address: 10.20.0.1}}}}, masquerade: [line]}}
hosts:
  ns:
    interfaces: {{up: {{network: internet, address: 192.0.2.19}}}}
    {ns}
    services: {{dns: {{kind: name-server, program: {server}, zones: [k.example, sub.k.example]}}}}
  inner:
    interfaces: {{lan: {{address: 10.20.0.53}}}}
    services: {{dns: {{kind: name-server, zones: [corp.example]}}}}
  web: {{interfaces: {{up: {{network: internet, address: 203.0.113.5}}, lan: {{address: 10.20.0.10}}}}, gateway: 10.20.0.1, services: {{web: {{listens: [80]}}}}}}
  cache:
    interfaces: {{lan: {{address: 10.20.0.2}}}}
    {cache_more}
    services: {{dns: {{kind: resolver{program}{cache}}}}}
  other:
    interfaces: {{lan: {{address: 10.20.0.3}}}}
    {other_more}
    services: {{dns: {{kind: resolver{program}{other}}}}}
zones:
  k.example:
    delegated_to: [ns.k.example]
    glue: {{ns.k.example: 192.0.2.19}}
    records: [{soa}, 'ns 60 A 192.0.2.19', 'www 60 A 203.0.113.5', 'in 60 A 10.20.0.10', 'both 60 A 10.20.0.10', 'both 60 A 203.0.113.5',
      'al 60 CNAME www', 'out 60 CNAME www.corp.example.', 'sub 60 NS ns', {records}]
  sub.k.example: {{records: [{soa}, 'ns 60 A 192.0.2.19', 'www 60 A 203.0.113.5', 'a.b 60 A 203.0.113.5']}}
  corp.example:{corp}
    records: [{soa}, 'ns 60 A 10.20.0.53', 'www 60 A 203.0.113.5', 'al 60 CNAME www.k.example.', 'bad 60 CNAME www.blocked.example.',
      'deep 60 NS ns.elsewhere.example.']
  blocked.example: {{records: ['www 60 A 203.0.113.5']}}
vantages:
  desk: {{network: lan, address: 10.20.0.50{desk}}}
"""


def _world(*names: str, **words: str) -> WebWorld:
    program = words.get("program", "unbound")
    held = {
        "ns": "",
        "server": "named",
        "cache": "",
        "cache_more": "",
        "other": "",
        "other_more": "",
        "records": "'x 60 A 203.0.113.5'",
        "desk": ", resolver: 10.20.0.2",
        "soa": _SOA,
        "moment": _MOMENT,
        "corp": "",
        **words,
        "program": f", program: {program}, validates: false",
    }
    return WebWorld(_ESTATE.format(**held), [(f"http://{name}/", "desk") for name in names])


def _crowd(count: int) -> str:
    return ", ".join(f"'big 60 A 203.0.113.{number}'" for number in range(100, 100 + count))


_CORP = (
    "www.corp.example",
    "al.corp.example",
    "bad.corp.example",
    "deep.corp.example",
    "no.corp.example",
    "www.k.example",
)
_CLOSED = "filter: {inbound: {default: drop, rules: [{allow: udp, ports: 53}]}}"
_DEAD = "filter: {inbound: {default: drop}}"


def _worlds() -> Iterator[tuple[str, WebWorld]]:
    for program in ("unbound", "named"):
        said = f" ({program})"
        yield (
            f"forwards by zone{said}",
            _world(*_CORP, program=program, cache=", forwards_zones: {corp.example: [10.20.0.53]}"),
        )
        dead = "\n    delegated_to: [ns.corp.example]\n    glue: {ns.corp.example: 192.0.2.99}"
        by_zone = ", forwards_zones: {corp.example: [10.20.0.53]}"
        yield (
            f"forwards by zone, past a dead delegation{said}",
            _world("www.corp.example", "www.k.example", program=program, cache=by_zone, corp=dead),
        )
        yield (
            f"forwards by zone and all{said}",
            _world(
                *_CORP,
                program=program,
                cache=", forwards_to: [10.20.0.3], forwards_zones: {corp.example: [10.20.0.53]}",
            ),
        )
        yield (
            f"forwards to a name server, then a resolver{said}",
            _world(*_CORP, program=program, cache=", forwards_to: [10.20.0.53, 10.20.0.3]"),
        )
        yield f"forwards to a name server{said}", _world(*_CORP, program=program, cache=", forwards_to: [10.20.0.53]")
        yield (
            f"forwards to who refuses an alias{said}",
            _world(
                "bad.corp.example",
                "www.blocked.example",
                "out.k.example",
                program=program,
                cache=", forwards_to: [10.20.0.3]",
                other=", refuses: [blocked.example], forwards_zones: {corp.example: [10.20.0.53]}",
            ),
        )
        for count in (60, 72, 73, 74, 75, 90):
            names = ("big.k.example", "www.k.example")
            yield f"{count} addresses, no TCP{said}", _world(*names, program=program, ns=_CLOSED, records=_crowd(count))
        yield f"90 addresses{said}", _world("big.k.example", program=program, records=_crowd(90))
        yield (
            f"101 addresses{said}",
            _world("big.k.example", "www.k.example", program=program, server="nsd", records=_crowd(101)),
        )
        yield (
            f"to the device, no TCP{said}",
            _world("big.k.example", "www.k.example", program=program, cache_more=_CLOSED, records=_crowd(40)),
        )
        yield (
            f"several resolvers, the first silent{said}",
            _world(
                "www.k.example",
                "no.k.example",
                program=program,
                cache_more=_DEAD,
                desk=", resolver: [10.20.0.2, 10.20.0.3]",
            ),
        )
        yield (
            f"several resolvers, the first refuses{said}",
            _world("www.k.example", program=program, desk=", resolver: [10.20.0.53, 10.20.0.3]"),
        )
        yield (
            f"several resolvers, the first knows better{said}",
            _world(
                "www.k.example",
                program=program,
                cache=", refuses: [k.example]",
                desk=", resolver: [10.20.0.2, 10.20.0.3]",
            ),
        )
    private = ", drops_private: true"
    names = ("in.k.example", "both.k.example", "www.k.example")
    yield "private addresses dropped", _world(*names, cache=private)
    yield "private addresses dropped, but of a zone", _world(*names, cache=f"{private}, may_be_private: [k.example]")
    yield "private addresses of its own zone", _world(*names, cache=f"{private}, zones: [k.example]")
    yield "private addresses dropped by who is asked", _world(*names, cache=", forwards_to: [10.20.0.3]", other=private)
    for dots in (0, 1, 2):
        desk = f", resolver: 10.20.0.2, search: [sub.k.example], ndots: {dots}"
        yield f"search list, {dots} dots", _world("www", "a.b", "www.k.example", "x.y.z", desk=desk)


def _signed(changes: str) -> str:
    """A zone's lines with keys and signatures, with one thing wrong; the DS data behind a bar."""
    import dns.dnssec
    import dns.name
    import dns.zone
    from cryptography.hazmat.primitives.asymmetric import ec

    moment = datetime(2026, 3, 14, 20, tzinfo=UTC)
    begin, end = moment - timedelta(days=20), moment + timedelta(days=10)
    text = "@ 60 SOA ns m 1 60 60 60 60\n@ 60 NS ns\nns 60 A 192.0.2.19\nwww 60 A 203.0.113.5\nal 60 CNAME www\n*.w 60 A 203.0.113.5\nold 60 DNAME new\nx.new 60 A 203.0.113.5\n"
    name = dns.name.from_text("k.example")

    def key(number: int) -> tuple[Any, Any]:
        private = ec.derive_private_key(number, ec.SECP256R1())
        return private, dns.dnssec.make_dnskey(private.public_key(), "ECDSAP256SHA256", flags=257)

    def made(start: datetime, until: datetime, keys: list[Any]) -> Any:
        zone = dns.zone.from_text(text, origin=name, relativize=False)
        dns.dnssec.sign_zone(zone, keys=keys, inception=start, expiration=until, dnskey_ttl=60, deterministic=True)
        return zone

    own, stray = key(1001), key(1002)
    if changes == "begins later":
        zone = made(moment + timedelta(days=5), moment + timedelta(days=30), [own])
    elif changes == "ended":
        zone = made(begin, moment - timedelta(days=2), [own])
    elif changes == "ended lately":
        zone = made(begin, moment - timedelta(hours=20), [own])
    elif changes == "short, ended lately":
        zone = made(moment - timedelta(hours=30), moment - timedelta(hours=4), [own])
    elif changes == "begins soon":
        zone = made(moment + timedelta(hours=20), moment + timedelta(days=30), [own])
    elif changes == "keys of another":
        zone = made(begin, end, [stray])
        extra = dns.zone.from_text(text, origin=name, relativize=False)
        del extra
        zone.find_rdataset(name, "DNSKEY", create=True).add(own[1], 60)
    else:
        zone = made(begin, end, [own])
    lines = zone.to_text(relativize=False).splitlines()
    if changes == "one missing":
        lines = [each for each in lines if not (each.startswith("www.") and " RRSIG A " in each)]
    elif changes == "changed":
        lines = [
            each.replace("203.0.113.5", "203.0.113.6") if each.startswith("www.") and " A " in each else each
            for each in lines
        ]
    elif changes == "added":
        lines.append("new2.k.example. 60 IN A 203.0.113.5")
    elif changes == "ended beside valid":
        older = made(begin, moment - timedelta(days=1), [own]).to_text(relativize=False).splitlines()
        lines += [each for each in older if " RRSIG " in each]
    ds = dns.dnssec.make_ds(name, own[1], "SHA256").to_text()
    return "\n".join(lines) + "|" + ds


_SIGNED = """\
portolan: 1
at: "{moment}"
hosts:
  ns:
    interfaces: {{up: {{network: internet, address: 192.0.2.19}}}}
    services: {{dns: {{kind: name-server, program: {server}, zones: [k.example]}}}}
  web: {{interfaces: {{up: {{network: internet, address: 203.0.113.5}}}}, services: {{web: {{listens: [80]}}}}}}
  cache:
    interfaces: {{up: {{network: internet, address: 192.0.2.2}}}}
    services: {{dns: {{kind: resolver, program: unbound, validates: true}}}}
zones:
  k.example:
    delegated_to: [ns.k.example]
    glue: {{ns.k.example: 192.0.2.19}}
    ds: ["{ds}"]
    records:
{lines}
vantages:
  street: {{network: internet, address: 198.51.100.7, resolver: 192.0.2.2}}
  plain: {{network: internet, address: 198.51.100.8}}
"""


def signed_world(changes: str, server: str = "named") -> WebWorld:
    """A signed zone in which something is wrong."""
    text, _, ds = _signed(changes).partition("|")
    lines = "\n".join(f"      - '{line}'" for line in text.splitlines())
    names = ("www", "al", "ns", "a.w", "x.old", "new2")
    asked = [(f"http://{each}.k.example/", vantage) for each in names for vantage in ("street", "plain")]
    return WebWorld(_SIGNED.format(moment=_MOMENT, server=server, ds=ds, lines=lines), asked)


SIGNED = (
    "nothing",
    "one missing",
    "changed",
    "added",
    "begins later",
    "begins soon",
    "ended",
    "ended lately",
    "short, ended lately",
    "ended beside valid",
    "keys of another",
)


_EXPIRED = """\
portolan: 1
at: "2026-03-14T20:00:00Z"
hosts:
  web: {{interfaces: {{up: {{network: internet, address: 203.0.113.5}}}}, services: {{web: {{listens: [80]}}}}}}
  cache:
    interfaces: {{up: {{network: internet, address: 192.0.2.2}}}}
    services: {{dns: {{kind: resolver, program: unbound, validates: false, last_asked: 2026-03-14T18:00:00Z{more}}}}}
zones:
  k.example:
    records: ['@ 60 SOA ns m 1 60 60 60 60', '@ 60 NS ns', 'ns 60 A 192.0.2.19', 'www 60 A 203.0.113.5', 'new 60 A 203.0.113.5']
    before: [{{until: "2026-03-14T19:00:00Z", records: [www 60 A 203.0.113.99], without: [new]}}]
vantages:
  street: {{network: internet, address: 198.51.100.7, resolver: 192.0.2.2}}
"""


def _all() -> Iterator[tuple[str, WebWorld]]:
    yield from _worlds()
    for more in ("", ", serves_expired: true"):
        asked = [(f"http://{each}.k.example/", "street") for each in ("www", "new")]
        yield f"what has ended{more}", WebWorld(_EXPIRED.format(more=more), asked)
    for changes in SIGNED:
        yield f"signatures: {changes}", signed_world(changes)


RESOLVER_WORLDS: dict[str, WebWorld] = {f"resolver: {name}": world for name, world in _all()}
