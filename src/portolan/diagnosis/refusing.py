"""What is meant to be refused, and is served: the rule, the seal or the answer that is missing, and for whom it lets pass."""

from collections.abc import Iterator
from typing import Any

import msgspec

from portolan.diagnosis.base import Case, Finding, fault
from portolan.diagnosis.edge_base import edge_asked, stated
from portolan.diagnosis.folders import served_by
from portolan.diagnosis.proposal import Patch, Proposal, append, item_path, put, remedy, remove
from portolan.estate.base import same_facts
from portolan.estate.edge import EdgeService
from portolan.estate.guesses import attachments
from portolan.estate.site import Giving, Section, Site
from portolan.estate.store import Bucket
from portolan.evidence.kinds import content as content_kinds
from portolan.evidence.outcome import Kind
from portolan.journey.expectation import expected_urls
from portolan.source.place import Place
from portolan.store.buckets import is_on

#: So many objects are named in a grant that leaves one out.
_MOST_NAMED = 12


class RefusalClue(msgspec.Struct, frozen=True):
    """Who gives what should be refused, the edge in front of it, the status that is expected, and for which ranges it is meant."""

    giving: Giving | Bucket
    edge: EdgeService | None
    status: int
    ranges: tuple[str, ...]


@fault(
    "refusal-missing",
    "What is meant to be refused is served",
    "a page, where a refusal is expected",
    "Put the rule of access, the seal or the answer back that refused it, and let in only those who are expected to get it.",
    "wrong-status",
)
def refusal_missing(case: Case) -> Finding | None:
    """A refusal is expected, and a page came."""
    expectation, response = case.expectation, case.visit.exchanges[-1].innermost.response
    if expectation is None or expectation.status is None or not 400 <= int(expectation.status) < 500:
        return None
    if case.visit.outcome.kind is not Kind.SERVED or response is None:
        return None
    giving: object = response.site
    if isinstance(giving, Site):
        taken = [each for each in response.decisions if isinstance(each, content_kinds.SectionTakes)]
        section = taken[-1].subject if taken else None
        giving = section if isinstance(section, Section) else giving
    if not isinstance(giving, Giving | Bucket):
        return None
    edge = edge_asked(case.visit.exchanges[-1])
    status = int(expectation.status)
    clue = RefusalClue(giving, edge, status, _meant_for(case))
    return Finding("refusal-missing", _text(case, clue), _place(clue), clue=clue)


def _text(case: Case, clue: RefusalClue) -> str:
    giving = clue.giving
    if isinstance(giving, Bucket):
        gives = f"the bucket {giving.name} gives" if clue.edge is None else f"{clue.edge.label} passes on"
        return f"status {clue.status} is expected, and {gives} {case.visit.outcome.page}: nothing keeps the visitor out"
    named = giving.shown if isinstance(giving, Section) else getattr(giving, "name", "the site")
    why = "nothing there keeps anybody out"
    if giving.access is not None:
        why = (
            "its rule of access keeps nobody out"
            if not giving.access.sources
            else "its rule of access lets the visitor in"
        )
    return f"status {clue.status} is expected, and {named} gives {case.visit.outcome.page}: {why}"


def _place(clue: RefusalClue) -> Place:
    giving = clue.giving
    if isinstance(giving, Giving) and giving.access is not None:
        return giving.access.place
    if clue.edge is not None:
        return clue.edge.place
    return giving.place


def _meant_for(case: Case) -> tuple[str, ...]:
    """The ranges of those who are expected to get a page there: their segments, or their own addresses."""
    url = case.visit.exchanges[0].url
    estate, found = case.estate, []
    for expectation, other in expected_urls(estate):
        if expectation.status is not None and int(expectation.status) >= 400:
            continue
        if (other.host, other.path) != (url.host, url.path):
            continue
        for name in expectation.vantages or estate.vantages:
            vantage = estate.vantages.get(name)
            for network, addresses in attachments(vantage) if vantage is not None else ():
                subnets = estate.networks[network].subnets if network in estate.networks else ()
                for item in addresses:
                    found.append(str(next((each for each in subnets if item.ip in each), item.ip)))
    return tuple(dict.fromkeys(found))


@remedy("refusal-missing")
def refuse(case: Case, clue: RefusalClue) -> Iterator[Proposal]:
    """Puts a refusal where it is missing: at the object itself, before it, and as narrow as it was."""
    giving = clue.giving
    if isinstance(giving, Bucket):
        yield from _sealed(case, giving)
    else:
        yield from _by_access(giving, clue)
        yield from _by_rule_file(case)
        yield from _by_answer(case, giving, clue)
    if clue.edge is not None and clue.status == 403 and clue.ranges:
        own = stated(case, clue.edge)
        text = f"let the filter of {own.label} take in {', '.join(clue.ranges)} only"
        yield Proposal(text, put(own.place, "access", {"from": [*clue.ranges]}))


def _sealed(case: Case, bucket: Bucket) -> Iterator[Proposal]:
    """The bucket as a whole, its grant to everyone, or the one object."""
    if not bucket.sealed:
        yield Proposal(f"seal the bucket {bucket.name} against public reading", put(bucket.place, "sealed", True))
    for number, each in enumerate(bucket.grants):
        if each.to == "everyone":
            text = f"take the grant to everyone away from {bucket.name}"
            yield Proposal(text, remove(item_path(bucket.place, "grants", number)))
    key = (case.visit.outcome.page or "").partition("/")[2]
    others = [f"{bucket.name}/{each}" for each in bucket.objects or () if each != key]
    for each in bucket.grants:
        if others and len(others) <= _MOST_NAMED and is_on(each, f"{bucket.name}/{key}"):
            text = f"let the grant of {bucket.name} be on its other objects only, and not on {key}"
            yield Proposal(text, put(each.place, "on", others))


def _by_access(giving: Giving, clue: RefusalClue) -> Iterator[Proposal]:
    named = giving.shown if isinstance(giving, Section) else getattr(giving, "name", "the site")
    facts: dict[str, Any] = {}
    if clue.status == 401:
        facts, text = {"password": True}, f"let {named} ask for a password"
    elif clue.status == 403 and clue.ranges:
        facts, text = {"from": [*clue.ranges]}, f"let only {', '.join(clue.ranges)} in at {named}"
    elif clue.status == 403:
        facts, text = {"nobody": True}, f"let nobody in at {named}"
    if facts:
        yield Proposal(text, _with_access(giving, facts))


def _with_access(giving: Giving, facts: dict[str, Any]) -> Patch:
    if giving.access is None:
        return put(giving.place, "access", facts)
    return [step for key, value in facts.items() for step in put(giving.access.place, key, value)]


def _by_rule_file(case: Case) -> Iterator[Proposal]:
    """A file of rules lies there, and is not looked at."""
    response = case.visit.exchanges[-1].innermost.response
    held = response.site if response is not None else None
    if (
        isinstance(held, Site)
        and any(each.access is not None for each in held.rule_files)
        and not held.reads_rule_files
    ):
        yield Proposal(f"let the program read the rule files of {held.name}", put(held.place, "reads_rule_files", True))


def _by_answer(case: Case, giving: Giving, clue: RefusalClue) -> Iterator[Proposal]:
    """The site that is there for refusing takes the request again; else the path gets an answer of its own."""
    served = served_by(case)
    sites = served[1].sites.values() if served is not None else ()
    for site in sites:
        if site.answer == clue.status and site is not giving:
            facts = {"default": True, **({} if site.in_force else {"enabled": True})}
            patch = [step for key, value in facts.items() for step in put(site.place, key, value)]
            for other in sites:
                if other.default and other is not site:
                    patch += remove((*other.place.path, "default"))
            yield Proposal(
                f"let {site.name}, which answers {clue.status}, take what no other site has the name of", patch
            )
    path = case.visit.exchanges[0].url.path
    if isinstance(giving, Section):
        if (
            not same_facts(giving.answer, clue.status)
            and not giving.told
            and giving.folder is None
            and giving.upstream is None
        ):
            yield Proposal(f"let {giving.shown} answer {clue.status}", put(giving.place, "answer", clue.status))
    elif isinstance(giving, Site) and path != "/":
        section = {"path" if path.endswith("/") else "exact": path, "answer": clue.status}
        yield Proposal(f"let {giving.name} answer {clue.status} for {path}", append(giving.place, "sections", section))
