"""Twice as much of any construct takes about twice the work: counted in calls, so that no clock decides."""

import sys

import pytest

from portolan.diagnosis.asking import answers
from portolan.diagnosis.lint import lint
from portolan.diagnosis.search import explain
from portolan.formats.estate_file import patched
from portolan.journey.world import World
from portolan.rehearsal.web import paths_of
from tests.conftest import loaded, world

#: So many changes are tried here: each costs what its objects are long.
FEW = 12
HEAD = "portolan: 1\nat: 2026-03-14T20:00:00Z\nnetworks: {dome: {subnets: [10.20.0.0/16]}}\n"
DESK = "vantages: {desk: {network: dome, address: 10.20.200.50}, street: {network: internet, address: 198.51.100.77}}\n"


def aliases(size: int) -> str:
    """A chain of aliases."""
    records = "".join(f"      - a{n} 60 CNAME a{n + 1}\n" for n in range(size))
    return f"{HEAD}{DESK}zones:\n  k.example:\n    records:\n{records}      - a{size} 60 A 10.20.0.15\n"


def hosts(size: int) -> str:
    """Machines on one segment, none of which names its gateway."""
    each = "".join(
        f"  h{n}: {{interfaces: {{dome: {{address: 10.20.{1 + n // 250}.{n % 250 + 1}}}}}, services: {{web: {{listens: [80]}}}}}}\n"
        for n in range(size)
    )
    return f"{HEAD}{DESK}hosts:\n{each}"


def edges(size: int) -> str:
    """Edges, each with an origin of its own that asks for a host name of its own."""
    each = "".join(
        f"  e{n}: {{canonical: d{n}.edges.example, names: [n{n}.k.example], origin: {{at: 192.0.2.{n % 200 + 1}, host: n{n}.k.example}}}}\n"
        for n in range(size)
    )
    return f"{HEAD}{DESK}edges:\n{each}"


def grants(size: int) -> str:
    """A bucket with objects, and a grant for each."""
    files = ", ".join(f"f{n}.html" for n in range(size))
    given = ", ".join(f"{{to: everyone, on: 'b/f{n}.html'}}" for n in range(size))
    return f"{HEAD}{DESK}stores: {{depot: {{pages_at: pages.depot.example, buckets: {{b: {{objects: [{files}], grants: [{given}]}}}}}}}}\n"


def sites(size: int) -> str:
    """Sites of one server, each with a redirect."""
    each = ", ".join(f"s{n}: {{names: [n{n}.k.example], redirects: [{{to: /x}}]}}" for n in range(size))
    return (
        f"{HEAD}{DESK}hosts: {{orion: {{interfaces: {{dome: {{address: 10.20.0.15}}}}, "
        f"services: {{web: {{listens: [80], sites: {{{each}}}}}}}}}}}\n"
    )


SERVER = "hosts: {orion: {interfaces: {dome: {address: 10.20.0.15}, line: {network: internet, address: 203.0.113.15}}, %s}}\n"
ASKED = "expected: [{url: 'http://visit.k.example/'}]\nzones: {k.example: {records: [visit A 203.0.113.15, held A 192.0.2.7%s]}}\n"
SERVES = "services: {web: {program: nginx, sites: {visit: {names: [visit.k.example], files: [index.html]%s}}}}"


def site(more: str) -> str:
    """A server's site with more said of it, which is asked."""
    return HEAD + DESK + SERVER % (SERVES % more) + ASKED % ""


def ranges(size: int) -> str:
    """An edge that asks from many ranges, at an origin that lets none of them in."""
    each = ", ".join(f"20.{n // 256}.{n % 256}.0/24" for n in range(size))
    asked = (ASKED % "").replace("visit.k.example/'", "held.k.example/'")
    edge = f"edges: {{rim: {{addresses: 192.0.2.7, names: [held.k.example], origin: {{at: visit.k.example, host: visit.k.example}}, asks_from: [{each}]}}}}\n"
    return HEAD + DESK + SERVER % (SERVES % ", access: {from: [192.0.2.0/24]}") + edge + asked


def rules(size: int) -> str:
    """A filter's rules, none of which lets the visitor in."""
    each = ", ".join(f"{{allow: tcp, ports: 80, from: 192.0.{n // 200}.{n % 200}}}" for n in range(size))
    return HEAD + DESK + SERVER % f"{SERVES % ''}, filter: {{inbound: {{default: drop, rules: [{each}]}}}}" + ASKED % ""


def pool(size: int) -> str:
    """The members of a pool, none of which answers."""
    each = ", ".join(f"'http://10.20.{1 + n // 200}.{n % 200}:8080'" for n in range(size))
    return site(f", upstream: {{to: [{each}]}}").replace(", files: [index.html]", "")


def sections(size: int) -> str:
    """A site's sections."""
    return site(", sections: [" + ", ".join(f"{{path: /s{n}/, answer: 404}}" for n in range(size)) + "]")


def listed(size: int) -> str:
    """A site's files."""
    return site("").replace("index.html", ", ".join(f"p{n}.html" for n in range(size)))


def records(size: int) -> str:
    """A zone's records, of which the asked one is missing."""
    each = "".join(f", h{n} A 192.0.2.{n % 250}" for n in range(size))
    return HEAD + DESK + SERVER % (SERVES % "") + (ASKED % each).replace("visit A 203.0.113.15, ", "")


def forwards(size: int) -> str:
    """A router's forwards, none for the port that is asked."""
    each = ", ".join(f"{{on: line, tcp: {2000 + n}, to: 10.20.0.15}}" for n in range(size))
    router = f"routers: {{gateway: {{interfaces: {{line: {{network: internet, address: 203.0.113.16}}, dome: {{address: 10.20.0.1}}}}, forwards: [{each}]}}}}\n"
    return site("").replace("visit A 203.0.113.15", "visit A 203.0.113.16") + router


def changing(size: int) -> str:
    """A server's earlier settings."""
    each = ", ".join(
        f"{{until: '20{n // 12:02}-{n % 12 + 1:02}-01', listens: [{n + 1}]}}" for n in reversed(range(size))
    )
    return site("").replace("program: nginx,", f"program: nginx, before: [{each}],")


def calls(text: str) -> int:
    """How many calls a load and a check of an estate take."""
    count = 0

    def seen(_frame: object, event: str, _argument: object) -> None:
        nonlocal count
        count += event in ("call", "c_call")

    sys.setprofile(seen)
    try:
        ready = loaded(text)
        asked = World(ready.estate, ready.estate.at)
        lint(asked)
        answers(asked, lambda patch: patched(ready, patch).estate)
    finally:
        sys.setprofile(None)
    return count


@pytest.mark.parametrize(
    "construct",
    [aliases, hosts, edges, grants, sites, ranges, rules, pool, sections, listed, records, forwards, changing],
)
def test_twice_as_much_is_twice_the_work(construct, monkeypatch):
    """Loading and checking: under 2.6 times the calls for twice the size, where a square would take four times."""
    monkeypatch.setattr("portolan.diagnosis.asking.MOST_IN_CHECK", FEW)
    calls(construct(4))
    small, large = calls(construct(60)), calls(construct(120))
    assert large < 2.6 * small, (small, large)


def explaining(text: str) -> int:
    """How many calls it takes to explain the first of an estate's expectations."""
    count = 0

    def seen(_frame: object, event: str, _argument: object) -> None:
        nonlocal count
        count += event in ("call", "c_call")

    ready = loaded(text)
    moment = ready.estate.at
    (first,) = ready.estate.expected
    street = ready.estate.vantages["street"]
    sys.setprofile(seen)
    try:
        explained = explain(
            World(ready.estate, moment), str(first.url), street, lambda patch: patched(ready, patch).estate, FEW
        )
    finally:
        sys.setprofile(None)
    assert bool(explained.missed) == (explained.visit.outcome.kind != "served")
    return count


@pytest.mark.parametrize("construct", [ranges, rules, pool, sections, listed, records, forwards, changing])
def test_an_explanation_of_twice_as_much_is_twice_the_work(construct):
    """The same for what is explained, whatever is found."""
    explaining(construct(4))
    small, large = explaining(construct(60)), explaining(construct(120))
    assert large < 2.6 * small, (small, large)


@pytest.mark.parametrize("condition", ["", "when: {path: '/a%d'}, ", "when: {pattern: '^/a%d'}, "])
def test_redirects_on_the_stage_do_not_multiply(condition):
    """Rules that cannot apply make no paths; two hundred rules for one path make no more than they could."""
    rules = ", ".join("{" + (condition % n if condition else "") + f"to: '/x{n}{{path}}'}}" for n in range(200))
    text = (
        f"{HEAD}{DESK}hosts: {{orion: {{interfaces: {{dome: {{address: 10.20.0.15}}}}, "
        f"services: {{web: {{listens: [80], sites: {{visit: {{redirects: [{rules}]}}}}}}}}}}}}\n"
    )
    service = world(text).estate.hosts["orion"].services["web"]
    found = paths_of(service, ["http://10.20.0.15/a7", "http://10.20.0.15/b"])
    assert {"/", "/a7", "/b"} < found
    assert ("/x7/a7" in found) == bool(condition)
    assert len(found) < 20
