"""What the tables of worlds about websites share: a server on the internet, its sites, visitors who say this or that."""

from typing import NamedTuple

N = "visit.kestrel-ridge.example"
U = f"http://{N}"


class WebWorld(NamedTuple):
    """An estate, and what it is asked."""

    text: str
    asked: list[tuple[str, str]]


#: Visitors by name: what they say beside asking.
VISITORS = {
    "street": "",
    "poster": "method: POST",
    "putter": "method: PUT",
    "deleter": "method: DELETE",
    "patcher": "method: PATCH",
    "optioner": "method: OPTIONS",
    "tracer": "method: TRACE",
    "header": "method: HEAD",
    "member": "knows_password: true",
    "nobody": "says_host: none",
    "old": 'http: "1.0", says_host: none',
    "oldnamed": 'http: "1.0"',
    "empty": 'says_host: ""',
    "emptyold": 'says_host: "", http: "1.0"',
    "dotted": f"says_host: {N}.",
    "ported": f'says_host: "{N}:99"',
    "upper": f"says_host: {N.upper()}",
    "literal": "says_host: 203.0.113.40",
    "other": "says_host: other.kestrel-ridge.example",
    "hut": "says_host: hut12.kestrel-ridge.example",
    "twodots": "says_host: visit..kestrel-ridge.example",
    "badport": f'says_host: "{N}:x"',
    "slashed": f"says_host: {N}/x",
    "secure": "headers: {X-Forwarded-Proto: https}",
    "plain": "headers: {X-Forwarded-Proto: http}",
    "long": "headers: {X-Long: '" + "x" * 9000 + "'}",
    "heavy": "method: POST, body: 1500000",
    "light": "method: POST, body: 900",
    "few": "redirect_limit: 3",
}
BASE = """\
portolan: 1
at: 2026-03-14T20:00:00Z
networks: {dome: {subnets: [10.20.0.0/24]}}
hosts:
  orion:
    interfaces: {line: {network: internet, address: 203.0.113.40}, dome: {address: 10.20.0.15}}
MACHINE    services:
      web:
        program: PROGRAM
        listens: LISTENS
SERVICE        sites:
SITESOTHERS
certificates:
  visit: {names: [visit.kestrel-ridge.example, "*.star.example"], from: 2026-01-01, until: 2026-06-01}
  other: {names: [other.kestrel-ridge.example], from: 2026-01-01, until: 2026-06-01}
  inner: {names: [inner.kestrel-ridge.example], issuer: Ridge, from: 2026-01-01, until: 2026-06-01}
  made: {names: [inner.kestrel-ridge.example], issuer: self}
authorities: {Ridge: {public: false}}
zones:
  kestrel-ridge.example:
    records: ["visit 60 A 203.0.113.40", "* 60 A 203.0.113.40", "inner 60 A 10.20.0.16"]
vantages:
"""
#: The program behind a front.
VEGA = """\
  vega:
    interfaces: {dome: {address: 10.20.0.16}}
VEGAFILTER    services:
      inner:
        program: INNER
        listens: [8080, 8443 tls]
        certificate: CERTIFICATE
        sites:
"""


def world(
    program: str,
    sites: str,
    asked: list[tuple[str, str]],
    *,
    listens: str = "[80]",
    service: str = "",
    machine: str = "",
    others: str = "",
) -> WebWorld:
    """One world; indented blocks are put where they belong."""
    text = (
        BASE.replace("MACHINE", _block(machine, 4))
        .replace("PROGRAM", program)
        .replace("LISTENS", listens)
        .replace("SERVICE", _block(service, 8))
        .replace("SITES", _block(sites, 10))
        .replace("OTHERS\n", others)
    )
    for name in dict.fromkeys(vantage for _, vantage in asked):
        said = VISITORS[name]
        text += f"  {name}: {{network: internet, address: 198.51.100.{list(VISITORS).index(name) + 10}{', ' if said else ''}{said}}}\n"
    return WebWorld(text, asked)


def _block(text: str, by: int) -> str:
    return "".join(" " * by + line + "\n" for line in text.strip("\n").split("\n") if line.strip())


def asks(paths: str, *vantages: str, base: str = U) -> list[tuple[str, str]]:
    """Every path from every vantage."""
    return [(base + path, vantage) for vantage in vantages or ("street",) for path in paths.split()]


def behind(inner: str, sites: str, certificate: str = "made", filtered: str = "") -> str:
    """The machine behind a front, with its sites."""
    return VEGA.replace("INNER", inner).replace("CERTIFICATE", certificate).replace(
        "VEGAFILTER", _block(filtered, 4)
    ) + _block(sites, 10)
