"""Every remedy, by the code of the fault that it mends."""

from collections.abc import Iterator

from portolan.faults.base import Case, Finding
from portolan.remedies import boot as _boot  # noqa: F401 - registers its remedies
from portolan.remedies import certificate as _certificate  # noqa: F401
from portolan.remedies import machine as _machine  # noqa: F401
from portolan.remedies import names as _names  # noqa: F401
from portolan.remedies import network as _network  # noqa: F401
from portolan.remedies import redirect as _redirect  # noqa: F401
from portolan.remedies import resolving as _resolving  # noqa: F401
from portolan.remedies import site as _site  # noqa: F401
from portolan.remedies import way as _way  # noqa: F401
from portolan.remedies.base import PROPOSERS, Proposal


def proposals(case: Case, finding: Finding) -> Iterator[Proposal]:
    """What may mend a cause, in the order of the files: how safe each is, is found out by trying it."""
    for propose in PROPOSERS.get(finding.code, ()):
        yield from propose(case, finding)
