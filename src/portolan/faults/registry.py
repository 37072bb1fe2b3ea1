"""Every fault, in the order in which they are tried for a symptom."""

from functools import cache

from portolan.faults import base, boot, certificate, lint_names, machine, names, network, redirect, resolving, site, way
from portolan.faults.base import Case, Fault, Finding

#: The families in order: what waits to take effect first, who was asked before what was said, the name before the way.
FAMILIES = (boot, certificate, machine, resolving, names, redirect, site, network, way, lint_names)

FAULTS: tuple[Fault, ...] = tuple(
    sorted(base.FAULTS, key=lambda fault: [each.__name__ for each in FAMILIES].index(fault.family))
)
BY_CODE: dict[str, Fault] = {fault.code: fault for fault in FAULTS}


@cache
def _looking_at(symptom: str) -> tuple[Fault, ...]:
    """The faults whose recognisers look at a symptom; `*` looks at every one that a visit ended by."""
    ended = symptom not in ("none", "slow")
    return tuple(fault for fault in FAULTS if symptom in fault.symptoms or (ended and "*" in fault.symptoms))


def recognise(case: Case) -> list[Finding]:
    """The causes that fit what stopped the visit, the most particular first; empty when none does.

    For a visit that got what was promised: what made it slow, as warnings.
    """
    found: list[Finding] = []
    for fault in _looking_at(case.symptom):
        finding = fault.recognise(case)
        if finding is not None:
            found.append(finding)
    return found
