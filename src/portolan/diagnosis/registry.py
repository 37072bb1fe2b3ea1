"""Every fault, in the order in which they are tried for a symptom, and every remedy by the fault that it mends."""

from collections.abc import Iterator
from functools import cache

from portolan.diagnosis import (
    base,
    basics,
    believing,
    boot,
    buckets,
    certificate,
    content,
    edge_behind,
    edge_loops,
    edge_records,
    edges,
    filtering,
    fronts,
    grants,
    handshake,
    lint_edge,
    lint_names,
    lint_web,
    machine,
    names,
    network,
    origins,
    pages,
    redirect,
    refusing,
    remembering,
    renewals,
    resolving,
    routing,
    scripts,
    sections,
    site,
    slip,
    targets,
    upstream,
    visitors,
    way,
)
from portolan.diagnosis.base import Case, Fault, Finding
from portolan.diagnosis.proposal import PROPOSERS, Proposal

#: The families in order: what waits to take effect first, where a program passes on to, who was asked before what was said, the name before the way.
FAMILIES = (
    edges,
    edge_records,
    boot,
    visitors,
    edge_loops,
    origins,
    edge_behind,
    grants,
    buckets,
    certificate,
    handshake,
    pages,
    refusing,
    believing,
    fronts,
    sections,
    scripts,
    upstream,
    targets,
    machine,
    resolving,
    remembering,
    names,
    redirect,
    content,
    site,
    basics,
    routing,
    network,
    way,
    filtering,
    lint_names,
    renewals,
    lint_web,
    lint_edge,
    slip,
)

FAULTS: tuple[Fault, ...] = tuple(
    sorted(base.FAULTS, key=lambda fault: [each.__name__ for each in FAMILIES].index(fault.family))
)
BY_CODE: dict[str, Fault] = {fault.code: fault for fault in FAULTS}
#: Codes of earlier versions, and what the fault is called now.
OLD_CODES = {
    "bucket-default-missing": "bucket-index-missing",
    "content-default-missing": "content-index-missing",
    "content-default-order": "content-index-order",
    "edge-default-missing": "edge-index-missing",
}


#: Every recogniser: those of the faults, and further ones for objects of other families.
RECOGNISERS: tuple[Fault, ...] = tuple(
    sorted(
        [
            *FAULTS,
            *(
                BY_CODE[code].but(symptoms=symptoms, recognise=recognise, family=family)
                for code, symptoms, recognise, family in base.ALSO
            ),
        ],
        key=lambda fault: [each.__name__ for each in FAMILIES].index(fault.family),
    )
)


@cache
def _looking_at(symptom: str) -> tuple[Fault, ...]:
    """The faults whose recognisers look at a symptom; `*` looks at every one that a visit ended by."""
    ended = symptom not in ("none", "slow")
    return tuple(fault for fault in RECOGNISERS if symptom in fault.symptoms or (ended and "*" in fault.symptoms))


def recognise(case: Case) -> list[Finding]:
    """The causes that fit what stopped the visit, the most particular first; empty when none does.

    For a visit that got what was expected: what made it slow, as warnings.
    """
    found = list(_fitting(case))
    known = {(each.code, each.object) for each in found}
    for earlier in case.earlier_attempts():
        for finding in _fitting(earlier):
            if (finding.code, finding.object) not in known:
                known.add((finding.code, finding.object))
                found.append(finding.but(seen=earlier))
    return found


def _fitting(case: Case) -> Iterator[Finding]:
    for fault in _looking_at(case.symptom):
        finding = fault.recognise(case)
        if finding is not None:
            yield finding


def proposals(case: Case, finding: Finding) -> Iterator[Proposal]:
    """What may mend a cause, in the order of the files: how safe each is, is found out by trying it."""
    for propose in PROPOSERS.get(finding.code, ()):
        yield from propose(finding.seen or case, finding.clue)
