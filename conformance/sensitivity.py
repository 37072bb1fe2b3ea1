"""Whether the worlds would notice a wrong engine: rules of every engine are broken on purpose, one after the other.

    python -m conformance.sensitivity table [NAME ...] [--every K] [--seed S]
    python -m conformance.sensitivity random N [--seed S]

The worlds, or every K-th of them, are built once, and held against the engine as it is: what differs is a disagreement, as for conformance.run. What the real
systems did is then held against the predictions of each broken engine; what no world of those notices is held against the others
for which a broken engine predicts something else.
"""

import argparse
import os
import sys
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from datetime import timedelta
from functools import cache
from ipaddress import ip_interface
from itertools import islice
from multiprocessing import get_context
from typing import Any, NamedTuple
from unittest.mock import patch

import msgspec

from conformance.edge_breaks import EDGE_BREAKS
from conformance.run import drawn, held_against, side_by_side, table
from conformance.way_worlds import BOOTED
from portolan.dns import client as dns_client
from portolan.dns import forwarding, memory, naming, versions
from portolan.dns import sizes as dns_sizes
from portolan.dns.zone import ZoneIndex
from portolan.estate import areas, url
from portolan.estate.base import PortRange
from portolan.estate.estate import Estate
from portolan.estate.filter import Filter, FilterRule
from portolan.estate.machine import Forward
from portolan.estate.network import GroupRule, MarkRule
from portolan.estate.records import ZoneData
from portolan.estate.site import Redirect, Section, Site
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.http import content, redirecting, respond, sections, serving, tree
from portolan.journey import handshake, race
from portolan.journey import visit as journey_visit
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.net import connect, filtering, law, links, routes, sources, topology, translation, walk
from portolan.net import sizes as sizes_of_packets
from portolan.net.topology import Device
from portolan.programs.apache import Apache
from portolan.programs.nginx import Nginx
from portolan.programs.protocol import Methods
from portolan.programs.unbound import Unbound
from portolan.rehearsal.run import RehearsalError, Rehearsed, agree, confinement, exclusion
from portolan.tls import verify


@contextmanager
def last_match_wins() -> Iterator[None]:
    """A filter takes the last rule that matches instead of the first."""
    real = filtering.through_filter

    def reversed_filter(device: Any, held: Any, name: Any, *rest: Any) -> Any:
        chain = getattr(held, name, None)
        if chain is None or len(chain.rules) < 2:
            return real(device, held, name, *rest)
        turned = msgspec.structs.replace(chain, rules=tuple(reversed(chain.rules)))
        return real(device, msgspec.structs.replace(held, **{name: turned}), name, *rest)

    with patch.object(walk, "through_filter", reversed_filter):
        yield


@contextmanager
def _parsed_anew(broken: AbstractContextManager[Any]) -> Iterator[None]:
    """Breaks how URLs are read, of which many are kept."""
    url.parse.cache_clear()
    with broken:
        yield
    url.parse.cache_clear()


def _undated(real: Callable[..., Any]) -> Callable[..., Any]:
    def shown(*arguments: Any) -> Any:
        found = real(*arguments)
        return found.but(leaf=found.leaf.but(starts=None, until=None))

    return shown


def _any_depth(pattern: str, host: str, literal: Any) -> bool:
    return real_covers(pattern, host, literal) or (pattern.startswith("*.") and host.endswith(pattern[1:]))


def _no_wildcard(index: ZoneIndex, name: str) -> Any:
    found = real_look(index, name)
    return None if getattr(found, "wildcard", None) is not None else found


def _bare(address: Any) -> Any:
    return ip_interface(address.ip)


real_prefix, real_ports = topology.prefix_of, areas.service_ports
real_defect, real_filters = ZoneData.defect_for, topology.Topology.filters_of
real_covers, real_look = verify.covers, ZoneIndex.look
real_forwards, real_kept, real_content = Device.forwards_at, memory.kept_until, content.content
real_arrives, real_decides = translation._arrives, filtering._decides


def _come_back(device: Any, held: Any, chain: Any, *asked: Any) -> Any:
    rules = tuple(
        msgspec.structs.replace(rule, jump=rule.goto, goto=None) if rule.goto else rule for rule in chain.rules
    )
    return real_decides(device, held, msgspec.structs.replace(chain, rules=rules), *asked)


#: What is broken, engine by engine.
BREAKS: dict[str, Callable[[], AbstractContextManager[Any]]] = {
    # connections
    "source NAT does nothing": lambda: patch.object(walk, "source", lambda *_: None),
    "a filter's last match wins": last_match_wins,
    "a port-unreachable is silence": lambda: patch.dict(law.ICMP_RESULT, {"port-unreachable": "timed-out"}),
    "the last forward of a port wins": lambda: patch.object(
        Device, "forwards_at", lambda device, *asked: real_forwards(device, *asked)[::-1]
    ),
    "security groups let everything pass": lambda: patch.object(walk, "through_groups", lambda *_: None),
    "access lists let everything pass": lambda: patch.object(walk, "through_list", lambda *_, **__: None),
    "neighbours are found through every filter": lambda: patch.object(walk.Walk, "_unheard", lambda *_: None),
    "every filter has its basics": lambda: patch.object(Filter, "passes", lambda *_: True),
    "forwards take no connections of the machine's own": lambda: patch.object(
        translation,
        "_arrives",
        lambda machine, forward, entering: entering and real_arrives(machine, forward, entering),
    ),
    "a chain gone to is come back from": lambda: patch.object(filtering, "_decides", _come_back),
    "nginx's [::] takes IPv4 too": lambda: patch.object(Nginx, "v6_apart", False),
    "addresses are tried in the reverse order": lambda: patch.object(
        race, "ordered", lambda addresses, _source: [*range(len(addresses))][::-1]
    ),
    # names
    "wildcards answer nothing": lambda: patch.object(ZoneIndex, "look", _no_wildcard),
    "views do not count": lambda: patch.object(
        naming, "version_at", lambda zone, moment, _client: versions.version_at(zone, moment, None)
    ),
    "what is remembered is remembered for a year": lambda: patch.object(
        memory, "kept_until", lambda *asked: real_kept(*asked) + timedelta(days=365)
    ),
    "absences are remembered as long as they say": lambda: patch.object(Unbound, "longest_absence", 1 << 31),
    "every server loads every zone": lambda: patch.object(ZoneData, "defect_for", lambda *_: None),
    # handshakes
    "certificates do not expire": lambda: patch.object(verify, "shown_by", _undated(verify.shown_by)),
    "a star covers several labels": lambda: patch.object(verify, "covers", _any_depth),
    "every issuer is trusted": lambda: patch.object(
        verify, "_followed", lambda at: verify._Chain((), None, verify._own_flaws(at, (at.shown.leaf,)))
    ),
    "versions of TLS do not count": lambda: patch.object(handshake, "disagreement", lambda *_: None),
    "each site's versions count at nginx": lambda: patch.object(Nginx, "default_rules_versions", False),
    # requests
    "nginx takes the first site that fits": lambda: patch.object(Nginx, "first_listed_wins", True),
    "nginx tells the port asked": lambda: patch.object(Nginx, "tells_asked_port", True),
    "the last index file is taken": lambda: patch.object(
        serving,
        "content",
        lambda here, *asked: real_content(here.but(documents=here.documents[::-1]), *asked),
    ),
    "a refused upstream is a 500": lambda: patch.object(Nginx, "passing", Nginx.passing.but(refused=500)),
    "upstreams' redirects leak": lambda: patch.object(Nginx, "passing", Nginx.passing.but(turns_redirects=False)),
    # sites and fronts
    "rights are not asked": lambda: patch.object(tree.Identity, "may", lambda *_: True),
    "the shortest section wins": lambda: patch.object(
        sections, "max", lambda held, **_: next(iter(held), None), create=True
    ),
    "every method is GET": lambda: patch.object(Nginx, "methods", Methods()),
    "passwords are not asked": lambda: patch.object(serving, "refused", lambda *_: None),
    "an error page keeps the error": lambda: patch.object(Nginx, "keeps_error", True),
    "grants are not judged": lambda: patch.object(Apache, "judges_grants", False),
    "a section's prefix is kept": lambda: patch.object(Apache, "passing", Apache.passing.but(replaces_path=False)),
    "what is tried is not looked at": lambda: patch.object(
        serving, "content", lambda here, *asked: real_content(here.but(tries=()), *asked)
    ),
    "redirects of its own bear the name asked": lambda: patch.object(Site, "redirects_to", None),
    "pages for errors keep their status": lambda: patch.object(Site, "error_pages_as", {}),
    "inner sections are for everybody": lambda: patch.object(Section, "inner_only", False),
    "conditions on files and folders do not count": lambda: patch.object(redirecting, "_lying", lambda *_: True),
    "groups of conditions do not count": lambda: patch.object(redirecting, "_grouped", lambda *_: True),
    "conditions on what is said do not count": lambda: patch.object(redirecting, "_said", lambda *_: True),
    "what goes on within is sent elsewhere": lambda: patch.object(Redirect, "inner", None),
    "rules that answer are passed over": lambda: patch.object(Redirect, "answer", None),
    "what rules hand on is not escaped": lambda: patch.object(Nginx, "escaped", lambda _, text, __: text),
    "folders come before upstreams at httpd": lambda: patch.object(Apache, "upstreams_first", False),
    "files of rules can always be read": lambda: patch.object(serving, "unread_rules", lambda *_: None),
    "no name leads to a folder of its own": lambda: patch.object(respond, "led_site", lambda site, *_: site),
    "nothing is tried for a folder's document": lambda: patch.object(serving, "tries_anew", lambda *_: False),
    "a section's folder is found under any path": lambda: patch.object(serving, "lost_behind", lambda *_: None),
    "the next of a pool is never asked": lambda: patch.object(serving, "goes_on", lambda *_: False),
    "POST stays POST": lambda: patch.object(journey_visit, "_TURN_TO_GET", frozenset()),
    # what estates say, as it is read: a rehearsal has readings of its own
    "a written mask does not count": lambda: patch.object(
        topology, "prefix_of", lambda address, network: real_prefix(_bare(address), network)
    ),
    "a mask of one address is a range": lambda: patch.object(
        topology,
        "prefix_of",
        lambda address, network: None if real_prefix(address, network) is None else address.network,
    ),
    # routing, sizes, and who answers for whom
    "routing rules lead nowhere": lambda: patch.object(
        routes.Tables, "find", lambda tables, target, _=None: routes._longest(tables.main, target)
    ),
    "no packet has a mark": lambda: patch.object(walk.Walk, "_mark", lambda *_: 0),
    "a mark is the packet's alone": lambda: patch.object(MarkRule, "keep", False),
    "any way back will do": lambda: patch.object(walk, "astray", lambda *_: None),
    "who checks strictly hears everybody": lambda: patch.object(links, "_deaf", lambda *_: None),
    "the first IPv6 address is the sender": lambda: patch.object(sources, "_rank", lambda *_: (0,)),
    "packets of every size pass": lambda: patch.object(connect, "fitting", lambda *_: None),
    "the word of a smaller MTU always comes": lambda: patch.object(
        sizes_of_packets, "_sent", lambda *_: (None, 0, None)
    ),
    "nobody answers for others": lambda: patch.object(links, "_answers_for", lambda *_: False),
    "members reach each other, and down is up": lambda: patch.object(links.Links, "_missing", lambda *_: None),
    "a translation keeps every port": lambda: patch.object(walk.Walk, "_kept_apart", lambda *_: None),
    "the first filter is all": lambda: patch.object(
        topology.Topology, "filters_of", lambda held, stated: real_filters(held, stated)[:1]
    ),
    # resolvers
    "every set is signed": lambda: patch.object(naming, "set_fault", lambda *_: None),
    "large answers fit": lambda: patch.object(dns_sizes, "longest", lambda *_: (0, "A")),
    "private addresses stay": lambda: patch.object(naming.Naming, "_without_private", lambda *_: None),
    "no further resolver is asked": lambda: patch.object(dns_client, "MOST_RESOLVERS", 1),
    "all zones are passed on alike": lambda: patch.object(
        naming, "passes_to", lambda service, _: (getattr(service, "forwards_to", ()), "forwards_to")
    ),
    "a name server's alias is an end": lambda: patch.object(forwarding, "_alias_asked", lambda *_: True),
    "areas let other ports in": lambda: patch.object(
        areas, "service_ports", lambda text: [(protocol, PortRange(1, 2)) for protocol, _ in real_ports(text)]
    ),
    "forwards are all for TCP": lambda: patch.object(Forward, "protocol", "tcp"),
    "rules are for every protocol": lambda: patch.object(FilterRule, "protocol", "any"),
    "a group's rules are for everybody": lambda: patch.object(GroupRule, "peers", ()),
    "names lose what is beyond ASCII": lambda: _parsed_anew(
        patch.object(url, "_ascii", lambda host: host.encode("ascii", "ignore").decode().lower())
    ),
    "server software loads what most load": lambda: patch.object(
        ZoneData, "defect_for", lambda data, _: real_defect(data, None)
    ),
}


_World = tuple[str, str, list[tuple[str, str]]]


@cache
def estate_of(text: str) -> Estate:
    """A world's estate, read before anything is broken."""
    return load(MemoryFiles({"estate.yaml": text}), "estate.yaml").estate


#: Estates as the loader that is not broken reads them.
_as_read = cache(estate_of)


def notices(world: _World, found: Rehearsed, read: Callable[[str], Estate] = estate_of) -> bool:
    """Whether a world's observations differ from what the engine predicts now."""
    name, text, _ = world
    estate = read(text)
    engine = _engine(name, estate)
    for each in found.comparisons:
        predicted = visit(engine, each.url, estate.vantages[each.vantage])
        if each.excluded is None and exclusion(estate, predicted) is None and not agree(predicted, each.observed):
            return True
    return False


def _engine(name: str, estate: Estate) -> World:
    assert estate.at is not None
    return World(estate, estate.at, None, None if name in BOOTED else frozenset())


def _predicted(world: _World, read: Callable[[str], Estate] = estate_of) -> list[str]:
    """What the engine predicts now."""
    name, text, asked = world
    estate = read(text)
    engine = _engine(name, estate)
    return [str(visit(engine, url, estate.vantages[vantage]).outcome) for url, vantage in asked]


_Staged = tuple[_World, Rehearsed]


class _Broken(NamedTuple):
    """A rule to be broken, with how; the worlds that could notice: those that were staged, and those left out with what is predicted."""

    name: str
    broken: Callable[[], AbstractContextManager[object]]
    staged: list[_Staged]
    left: list[tuple[_World, list[str]]]


#: For the processes in which rules are broken: they have it, and all that was staged, from the one that forks them.
_BROKEN: list[_Broken] = []
#: So many of the worlds that were left out are staged for a rule that no other notices.
_MOST_STAGED = 6


def _first_to_notice(number: int) -> tuple[str | None, list[int]]:
    """The first world that notices a broken rule; where none does, those left out for which it predicts something else.

    Estates are taken as they were read; where no world notices so, as they are read by what is broken.
    """
    rule = _BROKEN[number]
    with rule.broken():
        for read in (_as_read, estate_of):
            for world, found in rule.staged:
                if notices(world, found, read):
                    return world[0], []
        for read in (_as_read, estate_of):
            differing = (at for at, (world, said) in enumerate(rule.left) if _predicted(world, read) != said)
            others = list(islice(differing, _MOST_STAGED))
            if others:
                return None, others
    return None, []


def main() -> int:
    """Prints for each broken rule the first world that notices it."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    kinds = parser.add_subparsers(dest="kind", required=True)
    chosen = kinds.add_parser("table")
    chosen.add_argument("names", nargs="*")
    chosen.add_argument("--every", type=int, default=1, help="only every so manieth world is staged")
    at_random = kinds.add_parser("random")
    at_random.add_argument("count", type=int)
    for each in (chosen, at_random):
        each.add_argument("--seed", type=int, default=1, help="of what is drawn; and which of the worlds are staged")
    wish = parser.parse_args()
    every: list[_World] = [*(table(wish.names) if wish.kind == "table" else drawn(wish.count, wish.seed))]
    step = wish.every if wish.kind == "table" else 1
    worlds = every[wish.seed % step :: step]
    own = confinement()

    def one(world: _World) -> Rehearsed | None:
        try:
            return held_against(world[1], world[2], own, booted=world[0] in BOOTED)
        except RehearsalError as error:
            print(f"- {world[0]}: {error}", flush=True)
            return None

    with ThreadPoolExecutor(side_by_side()) as pool:
        results = list(pool.map(one, worlds))
    questions = sum(len(found.comparisons) for found in results if found is not None)
    # A world that differs from the engine as it is would notice everything. It is asked again by itself, as on a loaded machine
    # clients give up where real ones would not; what differs then is a disagreement.
    sound: list[_Staged] = []
    wrong = 0
    for world, first in zip(worlds, results, strict=True):
        found = first
        for _ in range(2):
            if found is not None and not found.failed and not notices(world, found):
                break
            found = one(world)
        if found is None or found.failed or notices(world, found):
            wrong += 1
            told = "is not staged" if found is None else "; ".join((*map(str, found.disagreements), *found.failed))
            print(f"✗ {world[0]}: {told or 'the engine as it is differs'}", flush=True)
        else:
            sound.append((world, found))
    print(f"{len(worlds)} of {len(every)} worlds, {questions} questions, {wrong} worlds in disagreement", flush=True)
    left = [(world, _predicted(world, _as_read)) for world in every if world not in worlds]
    of_edges = [[each for each in sound if each[0][0].startswith("edge: ") is wanted] for wanted in (False, True)]
    left_of = [[each for each in left if each[0][0].startswith("edge: ") is wanted] for wanted in (False, True)]
    for edges, held in enumerate((BREAKS, EDGE_BREAKS) if wish.kind == "table" else (BREAKS,)):
        _BROKEN.extend(_Broken(name, broken, of_edges[edges], left_of[edges]) for name, broken in held.items())
    for world, _ in sound:
        _as_read(world[1])
    missed = 0
    with get_context("fork").Pool(os.cpu_count() or 1) as processes:
        for number, (noticed, others) in enumerate(processes.imap(_first_to_notice, range(len(_BROKEN)))):
            rule, first_to = _BROKEN[number], noticed
            for at in others:
                world, _ = rule.left[at]
                found = one(world)
                if found is None or notices(world, found):
                    continue
                with rule.broken():
                    if notices(world, found):
                        first_to = world[0]
                        break
            missed += first_to is None
            told = f"noticed by {first_to}" if first_to else f"not noticed by {len(rule.staged) + len(others)} worlds"
            print(f"{rule.name}: {told}", flush=True)
    print(f"{len(_BROKEN)} rules broken, {missed} not noticed; {wrong} of {len(worlds)} worlds left out")
    return 1 if missed or wrong else 0


if __name__ == "__main__":
    sys.exit(main())
