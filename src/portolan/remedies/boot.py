"""Remedies for what is saved, in force, and restored by a boot."""

from collections.abc import Iterator

from portolan.estate.service import Service
from portolan.faults.base import Case, Finding
from portolan.remedies.base import Patch, Proposal, put, remedy, remove
from portolan.source.place import pointer


@remedy("service-not-enabled")
def enable(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Lets the boot start it."""
    service = finding.hints["service"]
    if isinstance(service, Service):
        yield Proposal(
            f"let {service.name} on {service.place.path[1]} start at boot", put(service.place, "after_boot", "running")
        )


@remedy("service-no-privilege")
def give_privilege(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Lets it open low ports."""
    service = finding.hints["service"]
    if isinstance(service, Service):
        text = f"give {service.name} on {service.place.path[1]} the privilege to open ports below 1024, and no other"
        yield Proposal(text, put(service.place, "privileged", True))


@remedy("service-config-broken")
def mend_configuration(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Mends what the test names, and loads it."""
    service = finding.hints["service"]
    if not isinstance(service, Service) or service.saved is None:
        return
    text = f"mend what the test of {service.name}'s configuration says ({service.saved.broken}), and reload"
    patch = [*remove((*service.saved.place.path, "broken")), *_in_force(service)]
    yield Proposal(text, patch)


@remedy("service-not-reloaded")
def reload(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Puts what is saved in force."""
    service = finding.hints["service"]
    if isinstance(service, Service) and service.saved is not None:
        yield Proposal(f"reload {service.name} on {service.place.path[1]}", _in_force(service))


def _in_force(service: Service) -> Patch:
    """What is saved takes the place of what was in force (RFC 6902 section 4.4: a move replaces)."""
    assert service.saved is not None
    saved = service.saved.place
    patch: Patch = [
        {"op": "move", "from": pointer((*saved.path, key)), "path": pointer((*service.place.path, key))}
        for key in ("listens", "certificate", "sites")
        if saved.has(key)
    ]
    return [*patch, *remove(saved.path)]


@remedy("filter-not-permanent")
def one_filter(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Saves the filter in force, or loads the saved one."""
    machine = finding.hints["path"]
    after = pointer((*machine, "filter_after_boot"))
    if finding.hints["booted"]:
        yield Proposal(
            f"save the filter of {machine[1]} that was in force, so that a boot restores it",
            [{"op": "remove", "path": after}],
        )
    elif finding.hints["none"]:
        patch: Patch = [{"op": "remove", "path": after}, {"op": "remove", "path": pointer((*machine, "filter"))}]
        yield Proposal(f"take the filter of {machine[1]} out of force, as the next boot would", patch)
    else:
        patch = [{"op": "move", "from": after, "path": pointer((*machine, "filter"))}]
        yield Proposal(f"load the saved filter of {machine[1]}", patch)
