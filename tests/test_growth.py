"""Twice as much of any construct takes about twice the work: counted in calls, so that no clock decides."""

import sys

import pytest

from portolan.diagnosis.asking import answers
from portolan.diagnosis.lint import lint
from portolan.rehearsal.web import paths_of
from tests.conftest import world

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


def calls(text: str) -> int:
    """How many calls a load and a check of an estate take."""
    count = 0

    def seen(_frame: object, event: str, _argument: object) -> None:
        nonlocal count
        count += event in ("call", "c_call")

    sys.setprofile(seen)
    try:
        ready = world(text)
        lint(ready)
        answers(ready, None)
    finally:
        sys.setprofile(None)
    return count


@pytest.mark.parametrize("construct", [aliases, hosts, edges, grants, sites])
def test_twice_as_much_is_twice_the_work(construct):
    """Loading and checking: under 2.6 times the calls for twice the size, where a square would take four times."""
    calls(construct(4))
    small, large = calls(construct(60)), calls(construct(120))
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
