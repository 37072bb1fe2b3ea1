"""Faults of what is saved, in force, and restored by a boot."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, ServiceClue, fault, not_started, supposing
from portolan.diagnosis.proposal import Patch, Proposal, item_path, put, remedy, remove, replace
from portolan.estate.changing import next_boot_says, reloaded, with_facts
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.machine import Machine
from portolan.estate.service import Service, WebService, sites_of
from portolan.estate.site import Site
from portolan.evidence.start import Why
from portolan.journey import moment
from portolan.source.place import pointer


class SiteClue(msgspec.Struct, frozen=True):
    """The service, and its site that waits for a reload."""

    service: WebService
    site: Site


class TwiceClue(msgspec.Struct, frozen=True):
    """The site that says twice what may be said once: that it is the default, or a section."""

    site: Site
    sections: bool


class BootFilterClue(msgspec.Struct, frozen=True):
    """The machine whose filter a boot changes, and which of the two counts."""

    path: tuple[str | int, ...]
    booted: bool
    saved: tuple[str | int, ...]


@fault(
    "service-not-enabled",
    "The service runs, and is not started by the next boot",
    "a refusal, after a reboot",
    "Let it start at boot; starting it now and enabling it for the boot are two things.",
    "service-stopped",
)
def not_enabled(case: Case) -> Finding | None:
    """A boot left it stopped."""
    stop = case.stop
    if stop is None or not isinstance(stop.subject, Service) or not _booted(case, stop.subject):
        return None
    service = _stated(case, stop.subject)
    if service is None or service.state_after_boot != "stopped":
        return None
    text = f"{service.name} on {service.place.path[1]} was running, and the boot did not start it"
    return Finding("service-not-enabled", text, service.place.key("after_boot"), clue=ServiceClue(service=service))


def _stated(case: Case, service: Service) -> Service | None:
    """The service as the estate states it, whatever a moment or a boot made of it."""
    machine = next((each for each in machines(case.world.stated) if each.name == service.place.path[1]), None)
    return machine.services.get(service.name) if machine is not None else None


def _booted(case: Case, service: Service) -> bool:
    booted = case.world.booted
    return booted is None or str(service.place.path[1]) in booted


@fault(
    "service-no-privilege",
    "The service may not open a port below 1024",
    "a refusal",
    "Give it the privilege, or let it listen on a high port and forward the low one to that.",
    "service-failed",
)
def no_privilege(case: Case) -> Finding | None:
    """It does not start for want of a privilege."""
    failed = not_started(case, Why.NO_PRIVILEGE)
    if failed is None:
        return None
    stop, service = failed
    return Finding(
        "service-no-privilege", stop.text, service.place.key("privileged"), clue=ServiceClue(service=service)
    )


@fault(
    "service-config-broken",
    "The saved configuration does not load",
    "the old behaviour, or a refusal after the next start",
    "Run the program's own test of its configuration and mend what it names, then reload.",
    "service-failed",
    "*",
)
def config_broken(case: Case) -> Finding | None:
    """A boot had none to start with; or what is saved would meet the expectation, if it loaded."""
    stop = case.stop
    for why in (Why.TWO_DEFAULTS, Why.SECTION_TWICE):
        failed = not_started(case, why)
        if failed is not None:
            site = sites_of(failed[1]).get(failed[0].reason.about or "")
            place = site.place if site is not None else failed[0].place
            clue = TwiceClue(site=site, sections=why is Why.SECTION_TWICE) if site is not None else None
            return Finding("service-config-broken", failed[0].text, place, clue=clue)
    if stop is not None and isinstance(stop.subject, Service) and stop.subject.failing is not None:
        saved = stop.subject.saved
        return Finding(
            "service-config-broken",
            stop.text,
            saved.place if saved else stop.place,
            clue=ServiceClue(service=stop.subject),
        )
    for machine, service in _pending(case):
        saved = service.saved
        if saved is None or saved.broken is None:
            continue
        whole = with_facts(service, {**saved.facts, "saved": None})
        if supposing(case, _with(case, machine, whole)):
            text = f"{service.name} on {machine.name} keeps its old configuration: the saved one does not load ({saved.broken})"
            return Finding("service-config-broken", text, saved.place, clue=ServiceClue(service=service))
    return None


@fault(
    "service-not-reloaded",
    "The configuration is saved and not in force",
    "the old behaviour",
    "Reload the service. The file that was edited may also be one that is not included: look at what is in force.",
    "*",
)
def not_reloaded(case: Case) -> Finding | None:
    """What is saved would meet the expectation."""
    for machine, service in _pending(case):
        if (
            service.saved is not None
            and service.saved.broken is None
            and supposing(case, _with(case, machine, reloaded(service)))
        ):
            text = f"what is saved for {service.name} on {machine.name} would do, and is not in force"
            return Finding("service-not-reloaded", text, service.saved.place, clue=ServiceClue(service=service))
    for machine, service, site in _written(case):
        now = msgspec.structs.replace(site, loaded=True)
        whole = msgspec.structs.replace(service, sites={**service.sites, site.name: now})
        if supposing(case, _with(case, machine, whole)):
            file = f" in {site.written_in}" if site.written_in else ""
            text = f"the site {site.name} is written{file}, and {service.name} on {machine.name} has not loaded it"
            return Finding("service-not-reloaded", text, site.place.key("loaded"), clue=SiteClue(service, site))
    return None


def _written(case: Case) -> Iterator[tuple[Machine, WebService, Site]]:
    """The sites that may be meant and wait for a reload."""
    for home in case.homes():
        site = home.site
        if isinstance(site, Site) and site.enabled and site.included and not site.loaded:
            yield home.machine, home.service, site


def _pending(case: Case) -> list[tuple[Machine, Service]]:
    """Services of the machine that was reached, and of those that hold the site, with a configuration that waits."""
    connection = case.exchange.connection
    found = [home.machine for home in case.homes()]
    if connection is not None and connection.reached is not None:
        found.insert(0, connection.reached)
    return [
        (machine, service)
        for machine in dict.fromkeys(found)
        for service in machine.services.values()
        if service.saved is not None
    ]


def _with(case: Case, machine: Machine, service: Service) -> Estate:
    """The estate with one service otherwise."""
    return moment.with_facts(case.estate, machine, services={**machine.services, service.name: service})


@fault(
    "filter-not-permanent",
    "The filter in force and the one that the next boot restores differ",
    "works now and not after a reboot, or the reverse",
    "Save the filter that is in force, or load the one that is saved.",
    "filter-drops",
    "filter-rejects",
)
def not_permanent(case: Case) -> Finding | None:
    """The boot restored it; or the saved one, not yet in force, would let it pass."""
    stop = case.stop
    if stop is None or stop.place is None:
        return None
    path = stop.place.path
    if path[2:4] == ("after_boot", "filter"):
        text = f"the boot restored another filter on {path[1]} than was in force: {stop.text}"
        return Finding(
            "filter-not-permanent", text, stop.place, clue=BootFilterClue(path=path[:2], booted=True, saved=path[:3])
        )
    machine = (
        (case.estate.routers if path[0] == "routers" else case.estate.hosts).get(str(path[1]))
        if len(path) > 2
        else None
    )
    saved = next_boot_says(machine, "filter") if machine is not None else None
    if machine is None or saved is None or path[2] != "filter":
        return None
    if not supposing(case, moment.with_facts(case.estate, machine, filter=saved.facts["filter"])):
        return None
    text = f"the filter in force on {machine.name} stops it, and the saved one would not: {stop.text}"
    return Finding(
        "filter-not-permanent",
        text,
        stop.place,
        clue=BootFilterClue(path=path[:2], booted=False, saved=saved.place.path),
    )


# -- remedies --


@remedy("service-not-enabled")
def enable(_case: Case, clue: ServiceClue) -> Iterator[Proposal]:
    """Lets the boot start it."""
    service = clue.service
    yield Proposal(
        f"let {service.name} on {service.place.path[1]} start at boot",
        replace((*service.place.path, "after_boot", "state"), "running"),
    )


@remedy("service-no-privilege")
def give_privilege(_case: Case, clue: ServiceClue) -> Iterator[Proposal]:
    """Lets it open low ports."""
    service = clue.service
    text = f"give {service.name} on {service.place.path[1]} the privilege to open ports below 1024, and no other"
    yield Proposal(text, put(service.place, "privileged", True))


@remedy("service-config-broken")
def say_it_once(_case: Case, clue: object) -> Iterator[Proposal]:
    """Takes away what is said twice, and keeps the program from starting."""
    if not isinstance(clue, TwiceClue):
        return
    site = clue.site
    if not clue.sections:
        key = "default" if site.place.has("default") else "default_on"
        yield Proposal(f"let {site.name} no longer be the default site", remove((*site.place.path, key)))
        return
    paths = [(each.exact, each.path) for each in site.sections]
    twice = next(at for at, path in enumerate(paths) if site.sections[at].pattern is None and path in paths[:at])
    text = f"take the second section {site.sections[twice].shown} of {site.name} away"
    yield Proposal(text, remove(item_path(site.place, "sections", twice)))


@remedy("service-config-broken")
def mend_configuration(_case: Case, clue: ServiceClue | TwiceClue) -> Iterator[Proposal]:
    """Mends what the test names, and loads it."""
    if isinstance(clue, TwiceClue):
        return
    service = clue.service
    if service.saved is None:
        return
    text = f"mend what the test of {service.name}'s configuration says ({service.saved.broken}), and reload"
    patch = [*remove((*service.saved.place.path, "broken")), *_in_force(service)]
    yield Proposal(text, patch)


@remedy("service-not-reloaded")
def reload(_case: Case, clue: ServiceClue | SiteClue) -> Iterator[Proposal]:
    """Puts what is saved in force."""
    service = clue.service
    if isinstance(clue, SiteClue):
        text = f"reload {service.name} on {service.place.path[1]}"
        yield Proposal(text, put(clue.site.place, "loaded", True))
        return
    if service.saved is not None:
        yield Proposal(f"reload {service.name} on {service.place.path[1]}", _in_force(service))


def _in_force(service: Service) -> Patch:
    """What is saved takes the place of what was in force (RFC 6902 section 4.4: a move replaces)."""
    assert service.saved is not None
    saved = service.saved.place
    patch: Patch = [
        {"op": "move", "from": pointer((*saved.path, key)), "path": pointer((*service.place.path, key))}
        for key in saved.keys
        if key != "broken"
    ]
    return [*patch, *remove(saved.path)]


@remedy("filter-not-permanent")
def one_filter(_case: Case, clue: BootFilterClue) -> Iterator[Proposal]:
    """Saves the filter in force, or loads the saved one."""
    machine = clue.path
    after = pointer((*clue.saved, "filter"))
    if clue.booted:
        text = f"save the filter of {machine[1]} that was in force, so that a boot restores it"
        yield Proposal(text, [{"op": "remove", "path": after}])
    else:
        patch: Patch = [{"op": "move", "from": after, "path": pointer((*machine, "filter"))}]
        yield Proposal(f"load the saved filter of {machine[1]}", patch)
