"""Rehearses an estate: plans it, runs the stage, and lays predicted and observed side by side."""

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any, NamedTuple

from portolan.estate.estate import Estate
from portolan.estate.vantage import Vantage
from portolan.journey.visit import Outcome, Visit, visit
from portolan.journey.world import World
from portolan.rehearsal.certificates import Forge
from portolan.rehearsal.client import Observed, observed, probe
from portolan.rehearsal.filters import build_filters
from portolan.rehearsal.naming import build_names, client_files
from portolan.rehearsal.network import build_network
from portolan.rehearsal.plan import Plan
from portolan.rehearsal.web import build_web
from portolan.web.url import BadUrlError, join, parse

#: Program to the Debian package that has it.
PROGRAMS = {
    "ip": "iproute2", "nft": "nftables", "unshare": "util-linux", "nsenter": "util-linux", "mount": "mount", "curl": "curl",
    "nginx": "nginx-light", "apache2": "apache2", "knotd": "knot", "unbound": "unbound",
}  # fmt: skip
_PATH = "/usr/sbin:/usr/bin:/sbin:/bin"


class RehearsalError(Exception):
    """This machine cannot rehearse, or a world could not be built; says what is missing and what to do."""


class Comparison(NamedTuple):
    """One question: what was predicted, what a real client got, and whether they agree."""

    url: str
    vantage: str
    predicted: Visit
    observed: Observed
    agrees: bool
    excluded: str | None
    evidence: dict[str, Any]


class Rehearsed(NamedTuple):
    """A rehearsed estate."""

    comparisons: tuple[Comparison, ...]
    troubles: tuple[str, ...]

    @property
    def disagreements(self) -> list[Comparison]:
        """The questions on which engine and real systems differ."""
        return [each for each in self.comparisons if not each.agrees]


def missing_programs() -> list[tuple[str, str]]:
    """Programs that are not here, with their packages."""
    return [(name, package) for name, package in PROGRAMS.items() if shutil.which(name, path=_PATH) is None]


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
    world: World, questions: Sequence[tuple[str, Vantage]], unsaid: str = "nginx", evidence: bool = False
) -> dict[str, Any]:
    """Everything that the stage needs, as plain data."""
    estate: Estate = world.estate
    plan = Plan(estate)
    forge = Forge(estate, world.now)
    build_network(plan)
    build_names(plan)
    build_web(plan, forge, _paths(estate, questions), unsaid)
    for number, vantage in enumerate(dict.fromkeys(each for _, each in questions)):
        space, trust = plan.space_of(vantage), f"trust{list(estate.vantages).index(vantage.name)}.pem"
        plan.files[trust] = forge.trusted(vantage) or "\n"
        mounts = client_files(plan, vantage, number)
        for url, asker in questions:
            if asker is vantage:
                plan.probes.append(probe(space, url, vantage, trust, mounts))
    build_filters(plan)
    return {**plan.data(), "evidence": evidence}


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


def carry_out(plan: dict[str, Any], own: list[str], limit: float = 120) -> dict[str, Any]:
    """Runs the stage on a plan. Raises RehearsalError."""
    stage = str(Path(__file__).with_name("stage.py"))
    process = subprocess.Popen([*own, sys.executable, "-I", "-S", stage], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                               text=True, env={"PATH": _PATH, "LC_ALL": "C.UTF-8"})  # fmt: skip
    try:
        out, err = process.communicate(json.dumps(plan), timeout=limit)
    except subprocess.TimeoutExpired:
        raise RehearsalError(f"the rehearsal did not end within {limit:.0f} s") from None
    finally:
        if process.poll() is None:
            process.kill()
            process.wait()
    if process.returncode or not out:
        raise RehearsalError(f"the rehearsal could not be staged: {err.strip()[-300:]}")
    result: dict[str, Any] = json.loads(out)
    return result


def rehearse(
    world: World,
    questions: Sequence[tuple[str, Vantage]],
    own: list[str],
    unsaid: str = "nginx",
    evidence: bool = False,
) -> Rehearsed:
    """Builds the estate from real programs and asks the questions. Raises RehearsalError, BadUrlError."""
    asked = ordered(questions)
    predictions = [visit(world, url, vantage) for url, vantage in asked]
    result = carry_out(plan_of(world, asked, unsaid, evidence), own)
    found = []
    for (url, vantage), predicted, answer in zip(asked, predictions, result["results"], strict=True):
        seen = observed(answer)
        excluded = exclusion(world, predicted)
        agrees = excluded is not None or agree(predicted, seen)
        held: dict[str, Any] = {}
        if not agrees or evidence:
            held = {"client": answer["err"][-2500:], "daemons": result["daemons"], "counters": result["counters"]}
        found.append(Comparison(url, vantage.name, predicted, seen, agrees, excluded, held))
    return Rehearsed(tuple(found), tuple(result["troubles"]))


def exclusion(world: World, predicted: Visit) -> str | None:
    """Why a question is outside the comparison, if it is; docs/rehearsal.md lists them."""
    if predicted.vantage.clock is not None and any(exchange.handshake is not None for exchange in predicted.exchanges):
        return "the visitor's wrong clock cannot be set for one client"
    for machine in (*world.estate.hosts.values(), *world.estate.routers.values()):
        for service in machine.services.values():
            if service.program == "apache" and any(listener.only_v6 for listener in service.listens):
                return "Apache httpd cannot be told v6-only for one listener"
    return None


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
        return seen.detail in {attempt.detail for attempt in predicted.exchanges[-1].attempts}
    if outcome.kind == "tls-error":
        # A client cannot tell a missing intermediate from an unknown root.
        return {"incomplete-chain": "unknown-issuer"}.get(outcome.detail or "", outcome.detail) == seen.detail
    return True


def _same_url(left: str, right: str | None) -> bool:
    try:
        return right is not None and join(parse(left), right) == parse(left)
    except BadUrlError:
        return False
