"""Remedies for redirects."""

from collections.abc import Iterator

from portolan.estate.service import Redirect, Site
from portolan.faults.base import Case, Finding
from portolan.remedies.base import Proposal, append, item_path, put, remedy, remove


@remedy("redirect-loop-names")
def keep_one(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Gives a rule that forces secure the condition that it lost; else takes one of the rules away."""
    rules = [decision.subject for decision in finding.hints["rules"] if isinstance(decision.subject, Redirect)]
    for rule in rules:
        if str(rule.to).startswith("https://") and (rule.when is None or rule.when.scheme is None):
            text = f"let the redirect of the site {_site(rule)} to {rule.to} apply to plain requests only ({rule.place.span.short})"
            place = rule.place if rule.when is None else rule.when.place
            yield Proposal(
                text, put(place, "when", {"scheme": "http"}) if rule.when is None else put(place, "scheme", "http")
            )
    for rule in sorted(rules, key=lambda rule: str(rule.to).startswith("https://{host}")):
        text = f"take the redirect of the site {_site(rule)} to {rule.to} away ({rule.place.span.short})"
        yield Proposal(text, remove(_path(case, rule)))


def _site(rule: Redirect) -> str:
    return str(rule.place.path[rule.place.path.index("sites") + 1])


def _path(case: Case, rule: Redirect) -> tuple[str | int, ...]:
    path = rule.place.path
    machine = (case.estate.hosts if path[0] == "hosts" else case.estate.routers)[str(path[1])]
    site = machine.services[str(path[3])].sites[str(path[5])]
    return item_path(site.place, "redirects", site.redirects.index(rule))


@remedy("redirect-missing")
def secure(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Sends plain requests to the secure address."""
    site = finding.hints["site"]
    if isinstance(site, Site):
        rule = {"when": {"scheme": "http"}, "to": "https://{host}{path}{query}"}
        yield Proposal(
            f"let the site {site.name} send plain requests to the secure address",
            append(site.place, "redirects", rule, 0),
        )


@remedy("redirect-loses-path")
def keep_path(_case: Case, finding: Finding) -> Iterator[Proposal]:
    """Keeps path and query in the target."""
    rule = finding.hints["rule"]
    target = str(rule.to).rstrip("/") + "{path}{query}"
    yield Proposal(f"let the redirect lead to {target}", put(rule.place, "to", target))


@remedy("redirect-inner-target")
def outer_target(case: Case, finding: Finding) -> Iterator[Proposal]:
    """Writes the name that was asked for into the target."""
    rule = finding.hints["rule"]
    if isinstance(rule, Redirect):
        scheme = "https" if str(rule.to).startswith("https") else "http"
        target = f"{scheme}://{{host}}{{path}}{{query}}"
        yield Proposal(f"let the redirect lead to {target}", put(rule.place, "to", target))
        secure_target = f"https://{case.visit.exchanges[0].url.host}{{path}}{{query}}"
        yield Proposal(f"let the redirect lead to {secure_target}", put(rule.place, "to", secure_target))
        yield Proposal("take the redirect away", remove(_path(case, rule)))


@remedy("redirect-too-many")
def shorten(_case: Case, _finding: Finding) -> Iterator[Proposal]:
    """No single rule is at fault."""
    yield Proposal("send the first address straight to the last", [])
