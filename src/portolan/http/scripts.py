"""Scripts that another program runs for a web server (FastCGI): whether it can be asked, and what it finds."""

from portolan.estate.machine import Machine
from portolan.estate.service import ScriptRunner, WebService
from portolan.estate.site import Upstream
from portolan.estate.url import parse
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Exchange
from portolan.http.sections import Effective
from portolan.http.tree import Identity, identity_of, tree_of
from portolan.source.shared import Shared
from portolan.source.value import Value


class Runner(Value, frozen=True):
    """Who runs scripts, and why it cannot be asked; the decisions that this rests on."""

    name: str
    who: Identity
    decisions: tuple[Decision, ...] = ()
    why: str | None = None
    subject: object = None


def at_socket(here: Effective, service: WebService, machine: Machine) -> Runner:
    """Who listens at a socket of the machine's file system: its own program, or where nothing says so one that is assumed."""
    assert here.scripts is not None
    at, place = str(here.scripts.scripts_at), here.scripts.place.key("scripts_at")
    held = [each for each in machine.services.values() if isinstance(each, ScriptRunner)]
    found = next((each for each in held if each.socket == at), None)
    own = identity_of(service)
    if found is None and not held:
        step = http_kinds.ScriptsAssumed(machine.name, at, place=place, subject=here.scripts)
        return Runner("the program that runs scripts", own, (step,))
    if found is None:
        sockets = ", ".join(str(each.socket) for each in held if each.socket) or "none at any socket"
        return Runner("", own, (), f"no program of {machine.name} listens there ({sockets})", here.scripts)
    who = identity_of(found)
    if found.state != "running":
        return Runner(found.name, who, (), f"{found.name} is stopped", found)
    rights = found.socket_rights
    if rights is not None and not own.may(rights, 2):
        return Runner(found.name, who, (), f"the socket is {rights}, and {own.user} may not write to it", found)
    return Runner(found.name, who)


def member_of(here: Effective) -> Upstream:
    """The address and port at which scripts are run, as an upstream."""
    assert here.scripts is not None
    return Upstream(place=here.scripts.place.key("scripts_at"), to=(parse(f"http://{here.scripts.scripts_at}/"),))


def at_address(asked: Exchange, at: str) -> Runner:
    """Who was met at an address and port."""
    service = asked.service
    nobody = Identity("nobody", frozenset())
    if asked.response is None:
        stop = asked.stop
        return Runner("", nobody, (), stop.text if stop is not None else "nothing answers", stop)
    if not isinstance(service, ScriptRunner):
        name = service.name if service is not None else at
        return Runner(name, nobody, (), f"{name} does not speak FastCGI", service)
    return Runner(service.name, identity_of(service))


def found_there(here: Effective, runner: Runner, path: str, machine: Machine, shared: Shared) -> Decision | None:
    """Why a script cannot be run that lies at a path, or does not; None where it can (measured)."""
    tree = tree_of(here.source, machine, shared)
    if tree is None:
        return None
    rest = path[len(here.start) :] if here.start else path
    name = "/".join(part for part in rest.split("/") if part)
    look = tree.look(name, runner.who)
    place = here.source.place
    if look.what == "closed" or (look.what == "file" and look.bar is not None):
        why = look.bar.why if look.bar is not None else "it is closed"
        return http_kinds.ScriptUnreadable(runner.name, name, here.site.name, why, place=place, subject=here.site)
    if look.what != "file":
        return http_kinds.ScriptMissing(runner.name, name, here.site.name, place=place, subject=here.site)
    return None
