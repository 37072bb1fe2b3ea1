"""The text view of `check`."""

from portolan.diagnosis.asking import Answers, Group
from portolan.diagnosis.base import Finding
from portolan.estate.estate import Estate
from portolan.estate.filter import Filter
from portolan.estate.machine import Machine
from portolan.estate.service import Service, sites_of
from portolan.estate.site import Giving
from portolan.source.place import Place
from portolan.views.style import Style, row
from portolan.views.words import counted, in_words

#: How many missed expectations of one cause are named.
_MOST_NAMED = 5


def check_text(estate: Estate, findings: list[Finding], answers: Answers, style: Style) -> str:
    """What misses expectations, what else is wrong, then what was looked at."""
    lines: list[str] = []
    causes = {(each.cause.code, each.cause.object) for each in answers.groups if each.cause is not None}
    for group in answers.groups:
        lines += _group(group, style)
    rest = [each for each in findings if (each.code, each.object) not in causes]
    for finding in rest:
        lines += _headed(finding.place, finding.severity, finding.code, finding.text, style)
    return "\n".join([*lines, *([""] if lines else []), *_verdict(estate, rest, answers, style)]) + "\n"


def _headed(place: Place | None, severity: str, code: str, text: str, style: Style) -> list[str]:
    bad = severity == "error"
    spot = str(place.span) if place is not None else "(estate)"
    mark = style.ink(style.bad if bad else "!", "bad" if bad else "warn", "bold")
    head = f"{style.safe(spot)}: {style.ink(severity, 'bad' if bad else 'warn')}: {code}"
    return [head, *row(style, f"  {mark} ", 4, text)]


def _group(group: Group, style: Style) -> list[str]:
    first = group.missed[0]
    if group.cause is not None:
        lines = _headed(group.cause.place, "error", group.cause.code, group.cause.text, style)
    else:
        stop = first.visit.stop
        text = stop.text if stop is not None else "; ".join(each.text for each in first.misses)
        lines = _headed(first.expectation.place, "error", "no known fault", text, style)
    for each in group.missed[:_MOST_NAMED]:
        text = f"missed: {each.expectation.url} from {each.vantage.name}: {in_words(each.visit.outcome)}"
        text += f", {each.turn.words}" if each.turn is not None else ""
        lines += row(style, "    ", 4, text, ink=("dim",))
    more = len(group.missed) - _MOST_NAMED
    if more > 0:
        lines.append(style.ink(f"    and {more} more", "dim"))
    return lines


def _guessed(estate: Estate) -> str:
    """How many expectations a reader made up."""
    made_up = sum(each.guessed for each in estate.expected)
    return f" ({made_up:,} of them guessed)" if made_up else ""


def _unread(estate: Estate) -> int:
    """How many lines of real configuration stand under `unread`."""
    machines = (*estate.routers.values(), *estate.hosts.values())
    holders: list[Machine | Service | Giving | Filter] = [*machines, *(each.filter for each in machines if each.filter)]
    for service in (service for machine in machines for service in machine.services.values()):
        holders.append(service)
        for site in sites_of(service).values():
            holders += (site, *site.sections)
    return sum(len(each.unread) for each in holders)


def _verdict(estate: Estate, findings: list[Finding], answers: Answers, style: Style) -> list[str]:
    missed = sum(len(group.missed) for group in answers.groups)
    errors = len(answers.groups) + sum(finding.severity == "error" for finding in findings)
    warnings = sum(finding.severity != "error" for finding in findings)
    good = not errors
    if answers.asked:
        asked = f"{counted(answers.asked, 'question')} asked"
        asked += f", {answers.left:,} left to 'portolan survey'" if answers.left else ""
        text = (
            f"{missed:,} of {asked} miss{'es' if missed == 1 else ''} what is expected"
            if missed
            else f"every expectation is met ({asked})"
        )
    else:
        text = "nothing under 'expected' says what visitors should get, so nothing was asked"
    if errors or warnings:
        text += f"; {counted(errors, 'error')}, {counted(warnings, 'warning')}"
    elif good and answers.asked:
        text = f"nothing is wrong: {text}"
    sites = sum(
        len(sites_of(service))
        for machine in (*estate.routers.values(), *estate.hosts.values())
        for service in machine.services.values()
    )
    edges = len(estate.edges) + sum(zone.edge is not None for zone in estate.zones.values())
    buckets = sum(len(store.buckets) for store in estate.stores.values())
    read = ", ".join(
        (
            counted(len(estate.routers), "router"),
            counted(len(estate.hosts), "host"),
            counted(sites, "site"),
            *((counted(edges, "edge"),) if edges else ()),
            *((counted(buckets, "bucket"),) if buckets else ()),
            counted(len(estate.zones), "zone"),
            counted(len(estate.expected), "expectation") + _guessed(estate),
        )
    )
    lost = _unread(estate)
    read += f"; {counted(lost, 'line')} of real configuration could not be kept" if lost else ""
    # Where nothing was asked, nothing is praised either.
    ink, sign = ("bad", style.bad) if not good else ("good", style.good) if answers.asked else ("warn", "!")
    mark = style.ink(f"{sign} ", ink, "bold")
    return row(style, mark, 2, f"{text}; read: {read}", ink=(ink, "bold"))
