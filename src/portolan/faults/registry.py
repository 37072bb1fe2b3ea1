"""Every fault, in the order in which they are tried for a symptom."""

from portolan.faults import base, certificate, lint_names, machine, names, redirect, resolving, site, way
from portolan.faults.base import Case, Fault, Finding

#: The families in order: who was asked comes before what was said, the name before the way.
FAMILIES = (certificate, machine, resolving, names, redirect, site, way, lint_names)

FAULTS: tuple[Fault, ...] = tuple(
    sorted(base.FAULTS, key=lambda fault: [each.__name__ for each in FAMILIES].index(fault.family))
)
BY_CODE: dict[str, Fault] = {fault.code: fault for fault in FAULTS}
_BY_SYMPTOM: dict[str, tuple[Fault, ...]] = {
    symptom: tuple(fault for fault in FAULTS if symptom in fault.symptoms)
    for symptom in {symptom for fault in FAULTS for symptom in fault.symptoms}
}


def recognise(case: Case) -> list[Finding]:
    """The causes that fit what stopped the visit, the most particular first; empty when none does.

    For a visit that got what was promised: what made it slow, as warnings.
    """
    found: list[Finding] = []
    for fault in _BY_SYMPTOM.get(case.symptom, ()):
        finding = fault.recognise(case)
        if finding is not None:
            found.append(finding)
    return found
