"""Rehearses an estate: plans it, runs the stage, and lays predicted and observed side by side."""

import contextlib
import json
import os
import shutil
import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from ipaddress import IPv4Address, IPv6Address
from pathlib import Path
from typing import Any, NamedTuple

from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.vantage import Vantage
from portolan.journey.visit import Outcome, Visit, visit
from portolan.journey.world import World
from portolan.rehearsal.certificates import Forge
from portolan.rehearsal.client import Asking, Observed
from portolan.rehearsal.clients import CLIENTS
from portolan.rehearsal.filters import build_filters
from portolan.rehearsal.naming import Naming
from portolan.rehearsal.network import build_network
from portolan.rehearsal.plan import Plan
from portolan.rehearsal.web import build_web
from portolan.web.url import BadUrlError, parse

#: Program to the Debian package that has it.
PROGRAMS = {
    "ip": "iproute2", "nft": "nftables", "unshare": "util-linux", "nsenter": "util-linux", "mount": "mount",
    "nginx": "nginx-light", "apache2": "apache2", "knotd": "knot", "unbound": "unbound",
}  # fmt: skip
#: Ports that the Fetch standard (section 2.9, "bad port") keeps browsers from.
_UNSAFE_PORTS = frozenset(
    (1, 7, 9, 11, 13, 15, 17, 19, 20, 21, 22, 23, 25, 37, 42, 43, 53, 69, 77, 79, 87, 95, 101, 102, 103, 104, 109, 110, 111, 113, 115,
     117, 119, 123, 135, 137, 139, 143, 161, 179, 389, 427, 465, 512, 513, 514, 515, 526, 530, 531, 532, 540, 548, 554, 556, 563, 587,
     601, 636, 989, 990, 993, 995, 1719, 1720, 1723, 2049, 3659, 4045, 4190, 5060, 5061, 6000, 6566, 6665, 6666, 6667, 6668, 6669,
     6679, 6697, 10080)
)  # fmt: skip
_BROWSER_REDIRECTS = 20
_PATH = "/usr/sbin:/usr/bin:/sbin:/bin"


class RehearsalError(Exception):
    """This machine cannot rehearse, or a world could not be built; says what is missing and what to do."""


class Comparison(NamedTuple):
    """One question: what was predicted, what a real client got, and whether they agree.

    `otherwise` is what it got with the other web server, where the estate names none and the two differ.
    """

    url: str
    vantage: str
    predicted: Visit
    observed: Observed
    agrees: bool
    excluded: str | None
    evidence: dict[str, Any]
    otherwise: Observed | None = None


class Rehearsed(NamedTuple):
    """A rehearsed estate."""

    comparisons: tuple[Comparison, ...]
    troubles: tuple[str, ...]

    @property
    def disagreements(self) -> list[Comparison]:
        """The questions on which engine and real systems differ."""
        return [each for each in self.comparisons if not each.agrees]


def missing_programs(client: str = "curl", estate: Estate | None = None) -> list[tuple[str, str]]:
    """Programs that are not here, with their packages; an estate may need more than most."""
    wanted = {**PROGRAMS, **CLIENTS[client].packages}
    if estate is not None and any(zone.views for zone in estate.zones.values()):
        wanted["named"] = "bind9"
    return [(name, package) for name, package in wanted.items() if shutil.which(name, path=_PATH) is None]


def unshare_command() -> list[str]:
    """How to get namespaces of our own; as root directly, else as root of a user namespace. Raises RehearsalError."""
    if not sys.platform.startswith("linux"):
        raise RehearsalError("a rehearsal needs Linux with network namespaces; this is another system")
    own = ["unshare", "-n", "-m", "-p", "-f", "--mount-proc", "--kill-child"]
    if os.geteuid() != 0:
        own.insert(1, "-r")
    tried = subprocess.run([*own, "true"], capture_output=True, text=True, env={"PATH": _PATH}, check=False)
    if tried.returncode:
        raise RehearsalError(
            f"no namespaces of its own can be had here ({tried.stderr.strip()[:120]}); run it as root, or allow user namespaces"
        )
    return own


def plan_of(
    world: World,
    questions: Sequence[tuple[str, Vantage]],
    unsaid: str = "nginx",
    evidence: bool = False,
    client: str = "curl",
) -> dict[str, Any]:
    """Everything that the stage needs, as plain data; the questions as `ordered` gives them."""
    estate: Estate = world.estate
    plan = Plan(estate)
    forge = Forge(estate, world.now)
    build_network(plan)
    naming = Naming(plan, world)
    naming.build()
    build_web(plan, forge, _paths(estate, questions), unsaid)
    for number, vantage in enumerate(dict.fromkeys(each for _, each in questions)):
        space, trust = plan.space_of(vantage), f"trust{list(estate.vantages).index(vantage.name)}.pem"
        plan.files[trust] = forge.trusted(vantage) or "\n"
        mounts = naming.client_files(vantage, number)
        urls = tuple(url for url, asker in questions if asker is vantage)
        plan.probes += CLIENTS[client].probes(Asking(space, urls, vantage, trust, mounts))
    naming.finish(_hosts(estate, questions))
    build_filters(plan)
    return {**plan.data(), "evidence": evidence}


def _hosts(estate: Estate, questions: Sequence[tuple[str, Vantage]]) -> list[str]:
    """Every name that may be asked for, for caches that were filled earlier."""
    found = [parse(url).host.rstrip(".") for url, _ in questions if parse(url).literal is None]
    for machine in machines(estate):
        for service in machine.services.values():
            found += [str(name) for site in service.sites.values() for name in site.names if "*" not in name]
    return list(dict.fromkeys(found))


def _paths(estate: Estate, questions: Sequence[tuple[str, Vantage]]) -> set[str]:
    """Every path that may be asked for, for sites that do not say what they hold."""
    found = {parse(url).path for url, _ in questions}
    found |= {parse(promise.url).path for promise in estate.promises}
    return found


def ordered(questions: Sequence[tuple[str, Vantage]]) -> list[tuple[str, Vantage]]:
    """The questions as the plan asks them: grouped by vantage."""
    return [
        each for vantage in dict.fromkeys(asker for _, asker in questions) for each in questions if each[1] is vantage
    ]


#: Called with what has just been done, out of how many: ("asked", 3, 8).
Progress = Callable[[str, int, int], None]


def carry_out(
    plan: dict[str, Any], own: list[str], limit: float = 120, progress: Progress | None = None
) -> dict[str, Any]:
    """Runs the stage on a plan. Raises RehearsalError."""
    stage = str(Path(__file__).with_name("stage.py"))
    process = subprocess.Popen([*own, sys.executable, "-I", "-S", stage], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                               text=True, env={"PATH": _PATH, "LC_ALL": "C.UTF-8"})  # fmt: skip
    said: list[str] = []
    reader = threading.Thread(target=_listen, args=(process.stderr, said, progress), daemon=True)
    reader.start()
    watch = threading.Timer(limit, process.kill)
    watch.start()
    try:
        assert process.stdin is not None
        assert process.stdout is not None
        with contextlib.suppress(BrokenPipeError), process.stdin:
            process.stdin.write(json.dumps(plan))
        out = process.stdout.read()
        process.wait()
    finally:
        late = not watch.is_alive()
        watch.cancel()
        if process.poll() is None:
            process.kill()
            process.wait()
        reader.join(2)
    if late:
        raise RehearsalError(f"the rehearsal did not end within {limit:.0f} s")
    if process.returncode or not out:
        raise RehearsalError(f"the rehearsal could not be staged: {''.join(said).strip()[-300:]}")
    result: dict[str, Any] = json.loads(out)
    return result


def _listen(stream: Any, said: list[str], progress: Progress | None) -> None:
    """Tells progress from complaints on the stage's standard error."""
    for line in stream:
        words = line.split()
        if len(words) == 4 and words[0] == "progress":
            if progress is not None:
                progress(words[1], int(words[2]), int(words[3]))
        else:
            said.append(line)


def rehearse(
    world: World,
    questions: Sequence[tuple[str, Vantage]],
    own: list[str],
    unsaid: str = "either",
    evidence: bool = False,
    client: str = "curl",
    progress: Progress | None = None,
) -> Rehearsed:
    """Builds the estate from real programs and asks the questions. Raises RehearsalError, BadUrlError.

    `unsaid` is the web server of services that name none: `nginx`, `apache`, or `either`, which tries both.
    """
    asked = ordered(questions)
    predictions = [visit(world, url, vantage) for url, vantage in asked]
    both = unsaid == "either" and any(
        service.kind == "web" and service.program is None
        for machine in machines(world.estate)
        for service in machine.services.values()
    )
    programs = ["nginx", "apache"] if both else ["nginx" if unsaid == "either" else unsaid]
    runs = [_staged(world, asked, own, each, evidence, client, progress) for each in programs]
    found = []
    for number, ((url, vantage), predicted) in enumerate(zip(asked, predictions, strict=True)):
        excluded = exclusion(world, predicted, client)
        seen = [run[0][number] for run in runs]
        agreeing = [agree(predicted, each) for each in seen]
        best = agreeing.index(True) if True in agreeing else 0
        result = runs[best][1]
        held: dict[str, Any] = {}
        agrees = excluded is not None or agreeing[best]
        if not agrees or evidence:
            held = {"client": runs[best][2][number], "daemons": result["daemons"], "counters": result["counters"]}
        otherwise = next((each for each, same in zip(seen, agreeing, strict=True) if same != agreeing[best]), None)
        found.append(Comparison(url, vantage.name, predicted, seen[best], agrees, excluded, held, otherwise))
    return Rehearsed(tuple(found), tuple(text for run in runs for text in run[1]["troubles"]))


def _staged(
    world: World, asked: Sequence[tuple[str, Vantage]], own: list[str], unsaid: str, evidence: bool, client: str,
    progress: Progress | None,
) -> tuple[list[Observed], dict[str, Any], list[str]]:  # fmt: skip
    """One run of the stage: what was observed for each question, the whole result, and the client's words for each."""
    limit = 120 + (25.0 * len(asked) if client != "curl" else 0)
    result = carry_out(plan_of(world, asked, unsaid, evidence, client), own, limit, progress)
    seen: list[Observed] = []
    words: list[str] = []
    for answer in result["results"]:
        each = CLIENTS[client].observed(answer)
        seen += each
        words += [answer["err"][-2500:]] * len(each)
    missing = len(asked) - len(seen)
    if missing > 0:
        last = result["results"][-1]["err"][-300:] if result["results"] else ""
        raise RehearsalError(f"{client} gave no answer to {missing} of {len(asked)} questions: {last.strip()}")
    return seen, result, words


def exclusion(world: World, predicted: Visit, client: str = "curl") -> str | None:
    """Why a question is outside the comparison, if it is; docs/rehearsal.md lists them."""
    if predicted.vantage.clock is not None and any(exchange.handshake is not None for exchange in predicted.exchanges):
        return "the visitor's wrong clock cannot be set for one client"
    if client == "chromium":
        if predicted.vantage.redirect_limit != _BROWSER_REDIRECTS and len(predicted.exchanges) > min(
            predicted.vantage.redirect_limit, _BROWSER_REDIRECTS
        ):
            return f"a browser's own limit of {_BROWSER_REDIRECTS} redirects cannot be changed"
        last = predicted.exchanges[-1]
        if last.attempts and all(
            attempt.address.version == 6 and attempt.detail == "unreachable" for attempt in last.attempts
        ):
            return "a browser without IPv6 does not ask for IPv6 addresses"
        for exchange in predicted.exchanges:
            if exchange.url.port in _UNSAFE_PORTS:
                return f"a browser refuses port {exchange.url.port} without asking"
            if exchange.url.host == "localhost" or exchange.url.host.endswith(".localhost"):
                return "a browser never asks anybody for names under localhost"
    if client == "curl" and predicted.vantage.https_records != "ignored":
        return "this client does not ask for HTTPS records; --client chromium does"
    kinds = {decision.kind for decision in predicted.decisions}
    if kinds & {"https-alias", "https-hint"}:
        return "the browser does not follow the aliases and hints of HTTPS records"
    if "address-twice" in kinds:
        return "which of two boxes with one address answers is chance"
    if "local-name" in kinds:
        return "names under .local are not announced on the stage"
    if predicted.vantage.last_asked is not None and isinstance(
        world.topology.device(predicted.vantage).stated.resolver, IPv4Address | IPv6Address
    ):
        return "a device's own cache, beside that of its resolver, is not staged"
    if any(zone.views and (zone.before or _holds_itself(world, zone.name)) for zone in world.estate.zones.values()):
        return "views of a zone with earlier versions, or of a resolver's own zone, are not staged"
    for machine in (*world.estate.hosts.values(), *world.estate.routers.values()):
        for service in machine.services.values():
            if service.program == "apache" and any(listener.only_v6 for listener in service.listens):
                return "Apache httpd cannot be told v6-only for one listener"
    return None


def _holds_itself(world: World, zone: str) -> bool:
    return any(
        service.kind == "resolver" and zone in service.zones
        for machine in machines(world.estate)
        for service in machine.services.values()
    )


def agree(predicted: Visit, seen: Observed) -> bool:
    """Whether a prediction and an observation say the same, as far as a client can tell."""
    outcome: Outcome = predicted.outcome
    if outcome.kind == "redirect-error":
        # A loop is known at once to us, and to a client when it gives up.
        return seen.kind == "redirect-error" and (outcome.detail == "bad-target") == (seen.detail == "bad-target")
    if outcome.kind != seen.kind:
        return False
    if outcome.kind in ("served", "http-error") and outcome.status != seen.status:
        return False
    if outcome.kind == "served":
        listed = any(decision.kind == "listed" for decision in predicted.decisions)
        empty = seen.page is None and outcome.status == 204
        return listed or empty or (outcome.page == seen.page and _same_url(outcome.final_url, seen.final_url))
    if outcome.kind == "connect-error":
        # In which order a resolver gives several addresses is its own affair; the last one tried decides.
        return any(attempt.detail in seen.details for attempt in predicted.exchanges[-1].attempts)
    if outcome.kind == "tls-error":
        return outcome.detail in seen.details
    return True


def _same_url(left: str, right: str | None) -> bool:
    try:
        return right is not None and parse(right) == parse(left)
    except BadUrlError:
        return False
