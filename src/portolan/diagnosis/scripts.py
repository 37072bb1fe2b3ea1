"""Faults of scripts that another program runs for a web server: nobody is asked, or it finds nothing."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, also, fault
from portolan.diagnosis.folders import served_by, with_file
from portolan.diagnosis.proposal import Proposal, put, remedy
from portolan.estate.machine import Machine
from portolan.estate.service import ScriptRunner, WebService
from portolan.estate.site import Giving, Site
from portolan.evidence.kinds import http as http_kinds


class RunnerClue(msgspec.Struct, frozen=True):
    """Who says where scripts are run, the machine, and what was met there: a program, or nobody."""

    giving: Giving
    machine: Machine
    service: WebService
    met: ScriptRunner | None


@fault(
    "scripts-not-run",
    "The program that runs a site's scripts is not asked: it does not run, listens elsewhere, or may not be asked",
    "502, or 503",
    "Start it; let the site ask where it listens; let the web server's group write to its socket.",
    "scripts-not-asked",
)
def scripts_not_run(case: Case) -> Finding | None:
    """Nobody answers where the scripts are to be run."""
    stop, served = case.stop, served_by(case)
    if not isinstance(stop, http_kinds.ScriptsNotAsked) or served is None:
        return None
    site = served[1].sites.get(stop.site)
    giving = next(
        (
            each
            for each in (*(site.sections if site is not None else ()), site)
            if each is not None and each.scripts_at == stop.at
        ),
        None,
    )
    if giving is None:
        return None
    met = stop.subject if isinstance(stop.subject, ScriptRunner) else None
    return Finding("scripts-not-run", stop.text, stop.place, clue=RunnerClue(giving, served[0], served[1], met))


@remedy("scripts-not-run")
def run_them(_case: Case, clue: RunnerClue) -> Iterator[Proposal]:
    """Starts it, asks where it listens, or lets the web server ask."""
    met, machine, user = clue.met, clue.machine, clue.service.runs_as
    if met is not None and met.state != "running":
        yield Proposal(f"start {met.name} on {machine.name}", put(met.place, "state", "running"))
    if met is not None and met.socket_rights is not None:
        given = f"0660 {met.socket_rights.owner}:{user}"
        yield Proposal(f"give the socket of {met.name} to the group {user}", put(met.place, "socket_rights", given))
    for each in machine.services.values():
        if isinstance(each, ScriptRunner) and each is not met:
            places = [
                *([str(each.socket)] if each.socket else []),
                *(f"{item.address or '127.0.0.1'}:{item.port}" for item in each.listens),
            ]
            for at in places:
                yield Proposal(
                    f"let the scripts be run by {each.name}, at {at}", put(clue.giving.place, "scripts_at", at)
                )
    yield Proposal("look whether the program that runs the scripts is installed and started there", [])


class ScriptClue(msgspec.Struct, frozen=True):
    """The site, and the script that is not there."""

    site: Site
    name: str


@also("content-missing", "script-missing")
def script_missing(case: Case) -> Finding | None:
    """The script that is asked for does not lie there."""
    stop = case.stop
    if not isinstance(stop, http_kinds.ScriptMissing) or not isinstance(stop.subject, Site):
        return None
    return Finding("content-missing", stop.text, stop.place, clue=ScriptClue(stop.subject, stop.path))


@remedy("content-missing")
def put_script(case: Case, clue: ScriptClue) -> Iterator[Proposal]:
    """Puts it there."""
    yield Proposal(f"put {clue.name} into the folder of {clue.site.name}", with_file(case, clue.site, clue.name))


@also("content-unreadable", "script-unreadable")
def script_unreadable(case: Case) -> Finding | None:
    """The program that runs it may not read it."""
    stop = case.stop
    return None if stop is None else Finding("content-unreadable", stop.text, stop.place, clue=stop.text)
