"""Rehearses an estate: plans it, runs the stage, and lays predicted and observed side by side.

Predictions are handed in: nothing here asks the engines.
"""

import contextlib
import json
import os
import shutil
import subprocess
import sys
import threading
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from glob import glob
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple
from urllib.parse import urlsplit

from portolan.estate.client import CLOSED_PORTS, EdgeClient, PassingProgram
from portolan.estate.estate import Estate
from portolan.estate.service import Resolver, Service, WebService
from portolan.estate.site import Upstream
from portolan.estate.store import StoreDoor
from portolan.estate.vantage import Vantage
from portolan.evidence.kinds import connect as connect_kinds
from portolan.evidence.kinds import content as content_kinds
from portolan.evidence.kinds import edge as edge_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.rehearsal.certificates import Forge
from portolan.rehearsal.client import Asking, Observed
from portolan.rehearsal.clients import CLIENTS
from portolan.rehearsal.edges import build_edges
from portolan.rehearsal.facts import device_unstaged, every_service, host_asked, in_force, same_url
from portolan.rehearsal.filters import build_filters
from portolan.rehearsal.naming import Naming
from portolan.rehearsal.network import build_network
from portolan.rehearsal.plan import Plan
from portolan.rehearsal.providers import provided
from portolan.rehearsal.quoting import UnstageableError
from portolan.rehearsal.secrets import hiding
from portolan.rehearsal.troubles import not_the_estates
from portolan.rehearsal.web import build_web
from portolan.source.place import pointer

if TYPE_CHECKING:
    from portolan.evidence.legs import Exchange
    from portolan.evidence.outcome import Outcome
    from portolan.journey.visit import Visit  # results only: what was predicted

#: Program to the Debian package that has it.
PROGRAMS = {
    "python3": "python3",
    "ip": "iproute2",
    "nft": "nftables",
    "unshare": "util-linux",
    "nsenter": "util-linux",
    "setpriv": "util-linux",
    "mount": "mount",
    "nginx": "nginx-light",
    "apache2": "apache2",
    "knotd": "knot",
    "unbound": "unbound",
}
#: The same, of programs that only some estates need; and the library that shifts clocks.
MORE_PROGRAMS = {"named": "bind9", "nsd": "nsd"}
_CLOCKS = "/usr/lib/*/faketime/libfaketimeMT.so.1"
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
    predicted: "Visit"
    observed: Observed
    agrees: bool
    excluded: str | None
    evidence: dict[str, Any]
    otherwise: Observed | None = None

    @property
    def compared(self) -> bool:
        """Whether the two were held against each other."""
        return self.excluded is None


class Rehearsed(NamedTuple):
    """A rehearsed estate.

    `troubles` tells what the machine complained of while building; `failed` what was not staged as the estate says: then
    what a client got says nothing, and is no disagreement.
    """

    comparisons: tuple[Comparison, ...]
    troubles: tuple[str, ...]
    failed: tuple[str, ...] = ()

    @property
    def disagreements(self) -> list[Comparison]:
        """The questions on which engine and real systems differ."""
        return [] if self.failed else [each for each in self.comparisons if each.compared and not each.agrees]

    @property
    def compared(self) -> int:
        """How many questions were held against the real systems; where nothing was staged as it should be, none."""
        return 0 if self.failed else sum(each.compared for each in self.comparisons)

    @property
    def excluded(self) -> dict[str, int]:
        """Why others were not, and how many."""
        return dict(Counter(each.excluded for each in self.comparisons if each.excluded is not None))


class Staging(NamedTuple):
    """What is to be staged: the estate as it was loaded, at a moment, after a boot of some machines (None: of all)."""

    estate: Estate
    now: datetime
    booted: frozenset[str] | None = frozenset()


#: A question, and what was predicted for it.
Question = tuple[str, Vantage, "Visit"]


def missing_programs(client: str = "curl") -> list[tuple[str, str]]:
    """Programs of every rehearsal with a client that are not here, with their packages."""
    return _not_here({**PROGRAMS, **CLIENTS[client].packages})


def _not_here(wanted: dict[str, str]) -> list[tuple[str, str]]:
    return [(name, package) for name, package in wanted.items() if shutil.which(name, path=_PATH) is None]


def lacking(missing: Sequence[tuple[str, str]]) -> RehearsalError:
    """What is said where programs are missing: their names, and the command that installs them."""
    names, packages = (", ".join(name for name, _ in missing), " ".join(dict.fromkeys(each for _, each in missing)))
    return RehearsalError(f"a rehearsal needs what is not here: {names}; apt-get install {packages}")


def _missing_for(plan: dict[str, Any]) -> list[tuple[str, str]]:
    """What one plan runs beyond that, and is not here."""
    started = {Path(each["command"][0]).name for each in plan["daemons"] if each["command"][0].startswith("/")}
    found = _not_here({name: package for name, package in MORE_PROGRAMS.items() if name in started})
    if any(each["clock"] is not None for each in (*plan["daemons"], *plan["probes"])) and not glob(_CLOCKS):
        found.append(("libfaketime", "libfaketime"))
    return found


def confinement() -> list[str]:
    """The command that runs the stage in a confinement of its own. Raises RehearsalError where this machine has none."""
    if not sys.platform.startswith("linux"):
        raise RehearsalError("a rehearsal needs Linux with namespaces; this is another system")
    script = str(Path(__file__).with_name("confine.py"))
    command = [
        sys.executable,
        "-I",
        "-S",
        script,
        MARK,
        str(os.getpid()),
        started_at(os.getpid()),
        os.readlink("/proc/self/ns/pid"),
    ]
    tried = carry_out(
        {
            "base": "/run/tried",
            "limit": 20,
            "spaces": {},
            "links": [],
            "files": {},
            "folders": [],
            "owned": [],
            "daemons": [],
            "rounds": [],
            "probes": [],
        },
        command,
        20,
    )
    if tried["results"]:
        raise RehearsalError("the stage answered what nobody asked")
    return command


#: What tells a rehearsal's processes from others: the first word behind the program's file.
MARK = "portolan-stage"


def started_at(pid: int) -> str:
    """When a process started, in the kernel's ticks (proc(5)): with its number, that names it for good."""
    return Path(f"/proc/{pid}/stat").read_text("utf-8").rpartition(")")[2].split()[19]


def plan_of(
    staging: Staging,
    questions: Sequence[tuple[str, Vantage]],
    unsaid: str = "nginx",
    evidence: bool = False,
    client: str = "curl",
) -> dict[str, Any]:
    """Everything that the stage needs, as plain data; the questions as `ordered` gives them. Raises UnstageableError."""
    estate = in_force(staging.estate, staging.now, staging.booted)
    estate, played = provided(estate, staging.now)
    plan = Plan(estate)
    forge = Forge(estate, staging.now)
    build_network(plan)
    naming = Naming(plan, staging.now)
    naming.build()
    build_web(
        plan,
        forge,
        [url for url, _ in questions] + [str(expectation.url) for expectation in estate.expected],
        unsaid,
        naming,
    )
    build_edges(plan, forge, naming, played, staging.now)
    for number, vantage in enumerate(dict.fromkeys(each for _, each in questions)):
        space, trust = plan.space_of(vantage), f"trust{list(estate.vantages).index(vantage.name)}.pem"
        plan.files[trust] = forge.trusted(vantage) or "\n"
        mounts = naming.client_files(vantage, number)
        clock = None
        if vantage.clock is not None and client == "curl":
            clock = f"visitor{number}.clock"
            plan.files[clock] = f"{(vantage.clock - staging.now).total_seconds():+.0f}\n"
        urls = tuple(url for url, asker in questions if asker is vantage)
        body = f"visitor{number}.body" if vantage.body else None
        if body is not None:
            plan.files[body] = "x" * min(vantage.body, _MOST_BODY)
        plan.probes += CLIENTS[client].probes(Asking(space, urls, vantage, trust, mounts, clock, body))
    naming.finish(_hosts(estate, questions))
    build_filters(plan)
    unstaged = {pointer(path): why for path, why in plan.unstaged.items()}
    return {**plan.data(), "evidence": evidence, "unstaged": unstaged}


#: What is sent along at most, in octets; more is not staged.
_MOST_BODY = 8_000_000


def _hosts(estate: Estate, questions: Sequence[tuple[str, Vantage]]) -> list[str]:
    """Every name that may be asked for, for caches that were filled earlier."""
    found = [host_asked(url) for url, _ in questions]
    for _, service in every_service(estate):
        found += [
            str(name) for site in getattr(service, "sites", {}).values() for name in site.names if "*" not in name
        ]
    return [name for name in dict.fromkeys(found) if name and all(0 < len(part) < 64 for part in name.split("."))]


def ordered(questions: Sequence[Question]) -> list[Question]:
    """The questions as the plan asks them: grouped by vantage."""
    return [
        each
        for vantage in dict.fromkeys(asker for _, asker, _ in questions)
        for each in questions
        if each[1] is vantage
    ]


#: Called with what has just been done, out of how many: ("asked", 3, 8).
Progress = Callable[[str, int, int], None]


def carry_out(
    plan: dict[str, Any], own: list[str], limit: float = 120, progress: Progress | None = None
) -> dict[str, Any]:
    """Runs the stage on a plan, in the confinement that `confinement` gave. Raises RehearsalError.

    The stage ends when its standard input does: that stays open until it has answered.
    """
    process = subprocess.Popen(
        own,
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        env={"PATH": _PATH, "LC_ALL": "C.UTF-8"},
        cwd="/",
    )
    said: list[str] = []
    reader = threading.Thread(target=_listen, args=(process.stderr, said, progress), daemon=True)
    reader.start()
    watch = threading.Timer(limit, process.kill)
    watch.start()
    try:
        assert process.stdin is not None
        assert process.stdout is not None
        text = json.dumps({**plan, "limit": limit}).encode()
        with contextlib.suppress(BrokenPipeError):
            process.stdin.write(b"%d\n" % len(text) + text)
            process.stdin.flush()
        out = process.stdout.read(_MOST_ANSWER)
        with contextlib.suppress(BrokenPipeError):
            process.stdin.close()
        process.wait()
    finally:
        late = not watch.is_alive()
        watch.cancel()
        if process.poll() is None:
            process.kill()
            process.wait()
        reader.join(2)
        for stream in (process.stdin, process.stdout, process.stderr):
            with contextlib.suppress(OSError):
                if stream is not None:
                    stream.close()
    if late:
        raise RehearsalError(f"the rehearsal did not end within {limit:.0f} s")
    words = "".join(said).strip()[-300:]
    if process.returncode == _CONFINED:
        raise RehearsalError(
            f"no confinement of its own can be had here ({words or 'no namespaces'}); run it as root, or allow user namespaces"
        )
    if process.returncode or not out:
        raise RehearsalError(f"the rehearsal could not be staged: {words}")
    try:
        result: dict[str, Any] = json.loads(out)
    except ValueError:
        raise RehearsalError("the stage's answer is too long, or was cut") from None
    return result


#: What the confinement ends with where the machine does not allow it; how many bytes of an answer are read.
_CONFINED, _MOST_ANSWER = 125, 256 << 20


def _listen(stream: Any, said: list[str], progress: Progress | None) -> None:
    """Tells progress from complaints on the stage's standard error."""
    for data in stream:
        line = data.decode("utf-8", "replace")
        words = line.split()
        if len(words) == 4 and words[0] == "progress" and words[2].isdecimal() and words[3].isdecimal():
            if progress is not None:
                progress(words[1], int(words[2]), int(words[3]))
        elif len(said) < 1000:
            said.append(line)


def rehearse(
    staging: Staging,
    questions: Sequence[Question],
    own: list[str],
    unsaid: str = "either",
    evidence: bool = False,
    client: str = "curl",
    progress: Progress | None = None,
) -> Rehearsed:
    """Builds the estate from real programs and asks the questions. Raises RehearsalError.

    `unsaid` is the web server of services that name none: `nginx`, `apache`, or `either`, which tries both.
    """
    asked = ordered(questions)
    both = unsaid == "either" and any(
        isinstance(service, WebService) and service.program is None for _, service in every_service(staging.estate)
    )
    programs = ["nginx", "apache"] if both else ["nginx" if unsaid == "either" else unsaid]
    runs = [_staged(staging, asked, own, each, evidence, client, progress) for each in programs]
    found = []
    for number, (url, vantage, predicted) in enumerate(asked):
        excluded = exclusion(staging.estate, predicted, client) or _met_unstaged(predicted, runs[0][1]["unstaged"])
        seen = [run[0][number] for run in runs]
        agreeing = [agree(predicted, each) for each in seen]
        best = agreeing.index(True) if True in agreeing else 0
        result = runs[best][1]
        held: dict[str, Any] = {}
        agrees = agreeing[best]
        if (excluded is None and not agrees) or evidence:
            held = {"client": runs[best][2][number], "daemons": result["daemons"], "counters": result["counters"]}
        otherwise = next((each for each, same in zip(seen, agreeing, strict=True) if same != agreeing[best]), None)
        found.append(Comparison(url, vantage.name, predicted, seen[best], agrees, excluded, held, otherwise))
    troubles = tuple(dict.fromkeys(text for run in runs for text in run[1]["troubles"]))
    failed = tuple(dict.fromkeys(text for run in runs for text in not_the_estates(run[1])))
    return Rehearsed(tuple(found), troubles, failed)


def _staged(
    staging: Staging,
    asked: Sequence[Question],
    own: list[str],
    unsaid: str,
    evidence: bool,
    client: str,
    progress: Progress | None,
) -> tuple[list[Observed], dict[str, Any], list[str]]:
    """One run of the stage: what was observed for each question, the whole result, and the client's words for each."""
    limit = 120 + (25.0 * len(asked) if client != "curl" else 0)
    try:
        plan = plan_of(staging, [(url, vantage) for url, vantage, _ in asked], unsaid, evidence, client)
    except UnstageableError as error:
        raise RehearsalError(str(error)) from None
    missing = _missing_for(plan)
    if missing:
        raise lacking(missing)
    result = carry_out(plan, own, limit, progress)
    hidden = hiding(staging.estate)
    seen: list[Observed] = []
    words: list[str] = []
    for answer in result["results"]:
        each = CLIENTS[client].observed(answer)
        seen += [one._replace(words=hidden(one.words)) for one in each]
        words += [hidden(answer["err"])[-2500:]] * len(each)
    result = {**result, **{key: hidden(result[key]) for key in ("daemons", "counters", "troubles")}}
    result["unstaged"] = hidden(plan["unstaged"])
    unanswered = len(asked) - len(seen)
    failed = next((each for each in seen if each.kind == "client-failed"), None)
    if unanswered > 0 or failed is not None:
        last = failed.words if failed is not None else words[-1][-300:] if words else ""
        raise RehearsalError(
            f"{client} gave no answer to {max(unanswered, 1)} of {len(asked)} questions: {last.strip()}"
        )
    return seen, result, words


def _met_unstaged(predicted: "Visit", unstaged: dict[str, str]) -> str | None:
    """Why a question is left out that meets a program which is not staged; what does not meet it is compared."""
    for exchange in predicted.tree:
        service = exchange.service
        why = unstaged.get(pointer(_stated_at(service))) if service is not None else None
        if why is not None:
            return why
    return None


def _stated_at(service: Service) -> tuple[str | int, ...]:
    """Where a service is stated: a store's address at the store."""
    return service.store.place.path if isinstance(service, StoreDoor) else service.place.path


def _fronts(predicted: "Visit") -> Iterator[object]:
    """The upstreams that the requests were passed on to."""
    for exchange in predicted.tree:
        if isinstance(exchange.client, PassingProgram):
            yield exchange.client.upstream


def exclusion(estate: Estate, predicted: "Visit", client: str = "curl") -> str | None:
    """Why a question is outside the comparison, if it is; docs/rehearsal.md lists them."""
    vantage = predicted.vantage
    kinds = {decision.kind for decision in predicted.decisions}
    for decision in predicted.decisions:
        if isinstance(decision, connect_kinds.LaterLost) and isinstance(decision.subject, connect_kinds.FilterRejects):
            return "an ICMP error about an open connection is seen by a client that looks in time, and by no other"
    if client == "chromium":
        reason = _beyond_a_browser(predicted)
        if reason is not None:
            return reason
    elif vantage.https_records != "ignored":
        return "this client does not ask for HTTPS records; --client chromium does"
    if kinds & {"https-alias", "https-hint"}:
        return "the browser does not follow the aliases and hints of HTTPS records"
    reason = _unsaid(predicted)
    if reason is not None:
        return reason
    met = [site for each in predicted.tree for service in _services_met(each) for site in service.sites.values()]
    if vantage.client_certificate is not None and any(site.client_certificates for site in met):
        return "a client's own certificate is not staged"
    if "address-twice" in kinds:
        return "which of two boxes with one address answers is chance"
    if "local-name" in kinds:
        return "names under .local are not announced on the stage"
    reason = device_unstaged(estate, vantage)
    if reason is not None:
        return reason
    held = {zone for _, service in every_service(estate) if isinstance(service, Resolver) for zone in service.zones}
    names = {name for each in predicted.tree for name in (each.resolution.host, *each.resolution.aliases)}
    for zone in estate.zones.values():
        if zone.views and (zone.before or zone.name in held) and any(_below(name, zone.name) for name in names):
            return "views of a zone with earlier versions, or of a resolver's own zone, are not staged"
    for service in [each for exchange in predicted.tree for each in _services_met(exchange)]:
        if service.program == "apache" and any(listener.only_v6 for listener in service.listens):
            return "Apache httpd cannot be told v6-only for one listener"
    return None


def _below(name: str, zone: str) -> bool:
    name = name.rstrip(".").lower()
    return name == zone or name.endswith(f".{zone}")


def _services_met(exchange: "Exchange") -> list[WebService]:
    """The web servers of the machines that an exchange's connections came to."""
    machines = [each.reached for each in exchange.attempts if each.reached is not None]
    return [each for machine in machines for each in machine.services.values() if isinstance(each, WebService)]


def _unsaid(predicted: "Visit") -> str | None:
    """What of a visitor, or of what it meets, is not staged."""
    vantage = predicted.vantage
    held = _earlier(predicted)
    if held is not None:
        return held
    services = [each.service for each in predicted.tree]
    if any(service.answers_after for service in services if isinstance(service, WebService)):
        return "how long a program takes to answer is stated, and not staged"
    if vantage.remembers_redirects or vantage.strict:
        return "what a visitor remembers of earlier visits is not staged"
    kept = vantage.method not in ("GET", "HEAD", "POST")
    if kept and any(each.response is not None and each.response.status == 303 for each in predicted.exchanges):
        return "curl keeps a method that it was told to use, behind every redirect"
    if vantage.http == "1.0" and any(exchange.handshake is not None for exchange in predicted.exchanges):
        return "curl offers a protocol of its own for HTTP/1.0 over TLS"
    if vantage.body > _MOST_BODY:
        return f"more than {_MOST_BODY // 1_000_000} MB are not sent along"
    return None


def _earlier(predicted: "Visit") -> str | None:
    """What edges hold from earlier that no stand-in can be handed."""
    for decision in predicted.decisions:
        if not isinstance(decision, edge_kinds.EdgeHolds | edge_kinds.EdgeGivesOld | edge_kinds.OriginKept):
            continue
        edge = decision.subject
        stated = [each for each in getattr(edge, "holds", ()) if each.place is decision.place]
        if not stated or not (stated[0].status or stated[0].to or stated[0].page):
            return "what an edge took at an earlier moment, and how things were then, is not staged"
    return None


def _beyond_a_browser(predicted: "Visit") -> str | None:
    vantage, last = predicted.vantage, predicted.exchanges[-1]
    if any(isinstance(each.client, EdgeClient) for each in predicted.tree):
        return "a browser's questions are not told apart by edges, which hold what the first of them got"
    said = vantage.says_host is not None or vantage.headers or vantage.knows_password or vantage.http == "1.0"
    if said or vantage.method != "GET" or vantage.body:
        return "the browser says what it says by itself"
    if vantage.clock is not None and any(exchange.handshake is not None for exchange in predicted.exchanges):
        return "the clock of a browser cannot be set apart from the machine's"
    if vantage.most_redirects != _BROWSER_REDIRECTS and len(predicted.exchanges) > min(
        vantage.most_redirects, _BROWSER_REDIRECTS
    ):
        return f"a browser's own limit of {_BROWSER_REDIRECTS} redirects cannot be changed"
    if last.attempts and all(
        attempt.address.version == 6 and attempt.detail == "unreachable" for attempt in last.attempts
    ):
        return "a browser without IPv6 does not ask for IPv6 addresses"
    for exchange in predicted.exchanges:
        parts = urlsplit(str(exchange.url))
        if exchange.url.socket:
            return "a browser opens websockets from its pages, and not as an address"
        if parts.port in CLOSED_PORTS:
            return f"a browser refuses port {parts.port} without asking"
        if (parts.hostname or "").rpartition(".")[2] == "localhost":
            return "a browser never asks anybody for names under localhost"
    return None


def _file_of(predicted: "Visit") -> str | None:
    """The page that was given, by the name of the file itself: on the stage each says only that."""
    linked = [each for each in predicted.decisions if isinstance(each, content_kinds.PageLinked)]
    page = predicted.outcome.page
    if linked and page == f"{linked[-1].site}/{linked[-1].page}":
        return f"{linked[-1].site}/{linked[-1].file}"
    return page


def agree(predicted: "Visit", seen: Observed) -> bool:
    """Whether a prediction and an observation say the same, as far as the client's last word tells."""
    outcome: Outcome = predicted.outcome
    if outcome.kind == "redirect-error":
        # A loop is known at once to us, and to a client when it gives up.
        return seen.kind == "redirect-error" and (outcome.detail == "bad-target") == (seen.detail == "bad-target")
    if outcome.kind != seen.kind:
        return False
    if outcome.kind in ("served", "http-error") and outcome.status != seen.status:
        return False
    if outcome.kind == "served":
        if predicted.vantage.method in ("HEAD", "OPTIONS", "TRACE"):
            return True  # what comes then is no page
        listed = any(isinstance(decision, content_kinds.Listed) for decision in predicted.decisions)
        pool = any(isinstance(each, Upstream) and len(each.members) > 1 for each in _fronts(predicted))
        if pool and not listed:
            return True  # whose turn it is in a pool is chance
        empty = seen.page is None and outcome.status == 204
        raw = outcome.page is None and any(isinstance(each, http_kinds.UpstreamGarbled) for each in predicted.decisions)
        return (
            listed or empty or raw or (_file_of(predicted) == seen.page and same_url(outcome.final_url, seen.final_url))
        )
    if outcome.kind == "http-error":
        return same_url(outcome.final_url, seen.final_url)
    if outcome.kind in ("connect-error", "tls-error"):
        return outcome.detail in seen.details
    return True
