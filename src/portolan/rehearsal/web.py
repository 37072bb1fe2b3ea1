"""The web server drivers: nginx and Apache httpd configurations for the estate's services; and programs that speak no HTTP."""

import base64
import hashlib
import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

from portolan.estate.machine import Machine
from portolan.estate.service import Listener, OtherService, ScriptRunner, Service, WebService
from portolan.estate.site import Giving, Redirect, Site, Upstream
from portolan.rehearsal import quoting
from portolan.rehearsal.certificates import Forge
from portolan.rehearsal.facts import every_service, path_asked, runs
from portolan.rehearsal.plan import BASE, Daemon, Plan
from portolan.rehearsal.web_apache import apache
from portolan.rehearsal.web_common import (
    PASSWORD,
    VISITOR,
    Room,
    Staged,
    bound,
    bound_under,
    in_force,
    own_content,
    upstreams,
)
from portolan.rehearsal.web_files import furnish
from portolan.rehearsal.web_nginx import nginx
from portolan.source.plain import one_line

if TYPE_CHECKING:
    from portolan.rehearsal.naming import Naming

#: Ports below this one need a right that a service may lack (ip(7), ip_unprivileged_port_start).
_FREE_PORTS = 1024
#: How many paths of a service are furnished at most: each is a file or more on the stage.
_MOST_PATHS = 2000
#: No program takes a longer one (RFC 9110 section 4.1: a URI of 8,000 octets is to be understood; longer ones need not be).
_LONGEST_PATH = 8000


def build_web(plan: Plan, forge: Forge, urls: list[str], unsaid: str, naming: "Naming") -> None:
    """Every web server that runs, and everything else that listens; `unsaid` is the program where the estate names none."""
    for machine, service in every_service(plan.estate):
        if not runs(service):
            continue
        space = plan.space_of(machine)
        name = f"{space}s{list(machine.services).index(service.name)}"
        if isinstance(service, WebService):
            with plan.by_itself(service.place.path):
                _web(
                    plan, forge, machine, service, name, paths_of(service, urls), str(service.program or unsaid), naming
                )
        if isinstance(service, ScriptRunner):
            with plan.by_itself(service.place.path):
                _runner(plan, space, service, name)
        free = service.privileged or all(each.port >= _FREE_PORTS for each in service.listens)
        if isinstance(service, OtherService) and free:
            sockets = [part for each in service.listens for part in (str(each.address or ""), str(each.port))]
            plan.daemons.append(Daemon(name, space, [service.when_asked, *sockets], [], "other"))


def _can_be_played(service: ScriptRunner) -> None:
    """Raises UnstageableError for what the stage's one identity is not enough for."""
    if service.socket_rights is not None:
        raise quoting.UnstageableError(
            "a socket's rights", str(service.socket_rights), service.place.key("socket_rights")
        )
    if service.runs_as != "www-data" or service.runs_in:
        raise quoting.UnstageableError("an identity that runs scripts", service.runs_as, service.place.key("runs_as"))


def _runner(plan: Plan, space: str, service: ScriptRunner, name: str) -> None:
    """A program that runs scripts, played; it reads as the web servers here do."""
    _can_be_played(service)
    addresses = [(each, text) for each in service.listens for text in _addresses(each)]
    facts = {"listens": [[text, each.port] for each, text in addresses], "socket": "socket" if service.socket else ""}
    ready: list[list[Any]] = [["tcp", each.port] for each in service.listens]
    ready += [["file", f"{BASE}/{name}/socket"]] if service.socket else []
    plan.play(name, space, "scripts", facts, ready, mounts=[])


def _addresses(listener: Listener) -> list[str]:
    return ["0.0.0.0", "::1"] if listener.address is None else [str(listener.address)]


def _run_at(plan: Plan, machine: Machine, giving: Giving) -> str:
    """Where the scripts of a site are run on the stage: an address and port, or a path."""
    at = str(giving.scripts_at)
    if not at.startswith("/"):
        return at
    runners: dict[str, str] = {}
    for number, each in enumerate(machine.services.values()):
        if isinstance(each, ScriptRunner) and str(each.socket) == at:
            _can_be_played(each)
        if isinstance(each, ScriptRunner) and runs(each):
            runners[str(each.socket)] = f"{BASE}/{plan.space_of(machine)}s{number}/socket"
    if not any(isinstance(each, ScriptRunner) for each in machine.services.values()):
        raise quoting.UnstageableError(
            "a program that runs scripts and is not described", at, giving.place.key("scripts_at")
        )
    return runners.get(at, f"{BASE}/nobody.sock")


def paths_of(service: WebService, urls: list[str]) -> set[str]:
    """Every path that a service may be asked for: those of the URLs, and those that its redirects make of them.

    Raises UnstageableError where its redirects make too many.
    """
    found = {path_asked(url) for url in urls} | {"/"}
    sites = service.sites.values()
    held = [each.redirects for site in sites for each in (site, *site.sections)]
    held += [each.redirects for site in sites for each in site.rule_files]
    rules = [rule for each in held for rule in _until_unconditional(each)]
    for _ in range(2):
        for path in list(found):
            if len(found) > _MOST_PATHS:
                what = f"the redirects of {one_line(service.name)} make more than {_MOST_PATHS:,} paths"
                raise quoting.TooMuchError(what, service.place)
            for rule in rules:
                if not _may_fit(rule, path):
                    continue
                start = (
                    rule.when.path[:-1]
                    if rule.when is not None and rule.when.path and rule.when.path.endswith("*")
                    else ""
                )
                rest = path.removeprefix(start)
                target = str(rule.to).replace("{path}", path).replace("{rest}", rest)
                target = re.sub(r"\{[a-z]+\}", "x", target.replace("{query}", ""))
                if len(target) <= _LONGEST_PATH:
                    found.add(path_asked(target if "://" in target else f"http://x/{target.lstrip('/')}"))
    return found


def _may_fit(rule: Redirect, path: str) -> bool:
    """Whether a rule fits a path as any program could read it: as it is sent, decoded, below any folder."""
    if rule.when is None or (rule.when.path is None and rule.when.pattern is None):
        return True
    read = {path, unquote(path)}
    read |= {each[at:] for each in read for at, letter in enumerate(each) if letter == "/"}
    if rule.when.path is not None:
        start = rule.when.path.partition("*")[0]
        return any(each.startswith(start) for each in read)
    import re2  # only for estates that have patterns

    pattern = re2.compile(rule.when.pattern)
    return any(pattern.search(each) or pattern.search(each.removeprefix("/")) for each in read)


def _until_unconditional(rules: Sequence[Redirect]) -> Iterator[Redirect]:
    """The rules that can apply: behind one without a condition none is asked."""
    for rule in rules:
        yield rule
        if rule.when is None:
            return


def _web(
    plan: Plan,
    forge: Forge,
    machine: Machine,
    service: WebService,
    name: str,
    paths: set[str],
    program: str,
    naming: "Naming",
) -> None:
    if service.program is not None and not isinstance(service.program, str):
        raise quoting.UnstageableError("a program", "described by its ways", service.place.key("program"))
    givings = [each for site in service.sites.values() for each in (site, *site.sections)]
    scripts = {str(each.scripts_at): _run_at(plan, machine, each) for each in givings if each.scripts_at is not None}
    _certificates(plan, forge, service, name)
    sites: list[Site | WebService] = [site for site in service.sites.values() if in_force(site)]
    if not service.sites:
        sites = [service]
    rooms: list[Room] = []
    trusts: dict[int, str] = {}
    for number, site in enumerate(sites):
        base = furnish(
            plan, f"{name}/w{number}", machine, service, site, site if isinstance(site, Site) else None, paths
        )
        sections = site.sections if isinstance(site, Site) else ()
        parts = []
        for at, section in enumerate(sections):
            where = f"{name}/w{number}s{at}"
            parts.append(furnish(plan, where, machine, service, site, section, paths) if own_content(section) else base)
        rooms.append(Room(site, base, tuple(parts)))
        for giving in (site, *sections) if isinstance(site, Site) else ():
            if isinstance(giving.upstream, Upstream) and giving.upstream.verifies:
                trusts[id(giving.upstream)] = f"{BASE}/{name}/trust{len(trusts)}.pem"
                plan.files[f"{name}/trust{len(trusts) - 1}.pem"] = forge.trusted(giving.upstream) or "\n"
    plan.folders += [name, f"{name}/log", f"{name}/tmp"]
    plan.owned += [[name, "server"], [f"{name}/log", "server"], [f"{name}/tmp", "server"]]
    folder = f"{BASE}/{name}"
    plan.files[f"{name}/passwords"] = (
        f"{VISITOR}:{{SHA}}{base64.b64encode(hashlib.sha1(PASSWORD.encode()).digest()).decode()}\n"
    )
    staged = Staged(plan, machine, service, name, tuple(rooms), trusts, scripts)
    plan.files[f"{name}/web.conf"] = (nginx if program == "nginx" else apache)(staged)
    command = ["/usr/sbin/nginx", "-e", f"{folder}/log/error.log", "-p", folder, "-c", f"{folder}/web.conf"]
    if program == "apache":
        command = ["/usr/sbin/apache2", "-D", "FOREGROUND", "-f", f"{folder}/web.conf"]
    ready: list[list[str | int]] = [["tcp", listener.port] for listener in service.listens]
    if program == "nginx":
        # It tries for seconds to bind what it cannot, with its other sockets open. It has
        # no socket where no site is bound.
        ready = [["tcp", each.port] for each in service.listens if any(_opens(site, each) for site in sites)]
    # Both write their pid when all is checked: Apache httpd has its sockets open before that.
    ready.append(["file", f"{folder}/pid"])
    named = any(not member.literal for upstream in upstreams(sites) for member in upstream.members)
    mounts = naming.box_files(machine, None, name) if named else []
    plan.daemons.append(
        Daemon(name, plan.space_of(machine), command, ready, program, service.privileged, mounts=mounts)
    )


def _opens(site: Site | WebService, listener: Listener) -> bool:
    return isinstance(site, Service) or bound(site, listener) or bool(bound_under(site, listener))


def _certificates(plan: Plan, forge: Forge, service: WebService, name: str) -> None:
    used = {each for each in (service.certificate, *(site.certificate for site in service.sites.values())) if each}
    for certificate in sorted(used):
        pem, key = forge.served(plan.estate.certificates[certificate])
        number = list(plan.estate.certificates).index(certificate)
        plan.files[f"{name}/c{number}.pem"], plan.files[f"{name}/c{number}.key"] = pem, key
