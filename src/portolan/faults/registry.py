"""Every fault, in the order in which they are tried: redirects and sites before the name, the name before the way."""

from portolan.faults import base
from portolan.faults import certificate as _certificate  # noqa: F401
from portolan.faults import machine as _machine  # noqa: F401
from portolan.faults import names as _names  # noqa: F401
from portolan.faults import redirect as _redirect  # noqa: F401 - registers its faults
from portolan.faults import site as _site  # noqa: F401
from portolan.faults import way as _way  # noqa: F401
from portolan.faults.base import Case, Fault, Finding

FAULTS: tuple[Fault, ...] = tuple(base.FAULTS)
BY_CODE: dict[str, Fault] = {fault.code: fault for fault in FAULTS}
_BY_SYMPTOM: dict[str, tuple[Fault, ...]] = {
    symptom: tuple(fault for fault in FAULTS if symptom in fault.symptoms)
    for symptom in {symptom for fault in FAULTS for symptom in fault.symptoms}
}


def recognise(case: Case) -> list[Finding]:
    """The causes that fit what stopped the visit, the most particular first; empty when none does."""
    found: list[Finding] = []
    for fault in _BY_SYMPTOM.get(case.symptom, ()):
        finding = fault.recognise(case)
        if finding is not None:
            found.append(finding)
    return found
