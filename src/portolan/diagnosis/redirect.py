"""Faults of redirects."""

from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, fault, listed
from portolan.diagnosis.proposal import Proposal, append, item_path, put, remedy, remove
from portolan.estate.service import WebService, sites_of
from portolan.estate.site import Redirect, Site
from portolan.evidence.decision import Decision


class RulesClue(msgspec.Struct, frozen=True):
    """The decisions by the rules that go round."""

    rules: list[Decision]


class RuleClue(msgspec.Struct, frozen=True):
    """The rule that is wrong."""

    rule: Redirect


class SiteClue(msgspec.Struct, frozen=True):
    """The site that lacks a rule."""

    site: Site | WebService


def loop_rules(case: Case) -> list[Decision]:
    """The redirect decisions that make the circle, each rule once, in the order met."""
    found: list[Decision] = []
    for exchange in case.visit.exchanges:
        if exchange.response is not None:
            for decision in exchange.response.decisions:
                if isinstance(decision.subject, Redirect) and all(
                    each.subject is not decision.subject for each in found
                ):
                    found.append(decision)
    return found


@fault(
    "redirect-loop-names",
    "Two rules send to each other, often a name and the same name with www",
    "redirects without end",
    "Keep one direction and take the other rule away.",
    "loop",
    "too-many",
)
def loop_names(case: Case) -> Finding | None:
    """The redirects come back to an address that was asked before."""
    rules = loop_rules(case)
    if not rules or case.symptom != "loop":
        return None
    hosts = list(dict.fromkeys(exchange.url.host for exchange in case.visit.exchanges))
    circle = f"{listed(hosts)} send to each other" if len(hosts) > 1 else f"{hosts[0]} sends to itself"
    where = " and ".join(rule.place.span.short for rule in rules[:4] if rule.place is not None)
    return Finding(
        "redirect-loop-names",
        f"{circle} without end, by the rules at {where}",
        rules[-1].place,
        clue=RulesClue(rules=rules),
    )


@fault(
    "redirect-too-many",
    "A chain of redirects over the visitor's limit",
    "too many redirects",
    "Send the first address straight to the last.",
    "too-many",
)
def too_many(case: Case) -> Finding | None:
    """The visitor gave up."""
    stop = case.visit.stop
    return Finding("redirect-too-many", stop.text, stop.place) if stop is not None else None


@fault(
    "redirect-inner-target",
    "The target shows an inner name, address or port, or is no address",
    "a name or connection error",
    "Write the public name into the target.",
    "bad-target",
    "undescribed",
    "local-only",
    "internet-private",
)
def inner_target(case: Case) -> Finding | None:
    """A redirect led to a host that only the inside knows."""
    rule = _last_rule(case)
    if rule is None or rule.place is None or not isinstance(rule.subject, Redirect):
        return None
    if case.symptom == "undescribed" and "." in case.host and case.host.rpartition(".")[2] not in _INNER:
        return None
    return Finding(
        "redirect-inner-target",
        f"a redirect leads to {case.exchange.url}, which fails: {rule.text}",
        rule.place,
        clue=RuleClue(rule=rule.subject),
    )


@fault(
    "redirect-missing",
    "Plain HTTP is served although secure was expected",
    "not secure",
    "Send plain requests to the secure address.",
    "not-secure",
)
def redirect_missing(case: Case) -> Finding | None:
    """A page came without encryption."""
    response = case.exchange.response
    site = response.site if response is not None else None
    if site is None or case.visit.outcome.secure:
        return None
    return Finding(
        "redirect-missing",
        f"{site.name} serves {case.exchange.url} without encryption",
        site.place,
        clue=SiteClue(site=site),
    )


@fault(
    "redirect-loses-path",
    "The redirect drops the path or the query",
    "the wrong page",
    "Keep {path} and {query} in the target.",
    "wrong-page",
    "wrong-final",
    "not-found",
)
def loses_path(case: Case) -> Finding | None:
    """The target of a redirect on the way has no path of the request's."""
    rule = _last_rule(case)
    first = case.visit.exchanges[0].url
    if rule is None or not isinstance(rule.subject, Redirect) or (first.path == "/" and not first.query):
        return None
    target = str(rule.subject.to)
    if "{path}" in target or "{rest}" in target:
        return None
    return Finding(
        "redirect-loses-path",
        f"the redirect to {target} drops the path {first.path}",
        rule.place,
        clue=RuleClue(rule=rule.subject),
    )


#: Endings that only the inside knows (RFC 6762 appendix G, RFC 8375).
_INNER = ("local", "lan", "internal", "intranet", "home", "arpa", "localdomain")


def _last_rule(case: Case) -> Decision | None:
    """The rule that led to the last exchange."""
    decision: Decision
    for exchange in reversed(case.visit.exchanges[:-1] if case.symptom != "bad-target" else case.visit.exchanges):
        for decision in reversed(exchange.response.decisions if exchange.response is not None else ()):
            if isinstance(decision.subject, Redirect):
                return decision
    return None


# -- remedies --


@remedy("redirect-loop-names")
def keep_one(case: Case, clue: RulesClue) -> Iterator[Proposal]:
    """Gives a rule that forces secure the condition that it lost; else takes one of the rules away."""
    rules = [decision.subject for decision in clue.rules if isinstance(decision.subject, Redirect)]
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
    site = sites_of(machine.services[str(path[3])])[str(path[5])]
    return item_path(site.place, "redirects", site.redirects.index(rule))


@remedy("redirect-missing")
def secure(_case: Case, clue: SiteClue) -> Iterator[Proposal]:
    """Sends plain requests to the secure address."""
    site = clue.site
    if isinstance(site, Site):
        rule = {"when": {"scheme": "http"}, "to": "https://{host}{path}{query}"}
        yield Proposal(
            f"let the site {site.name} send plain requests to the secure address",
            append(site.place, "redirects", rule, 0),
        )


@remedy("redirect-loses-path")
def keep_path(_case: Case, clue: RuleClue) -> Iterator[Proposal]:
    """Keeps path and query in the target."""
    rule = clue.rule
    target = str(rule.to).rstrip("/") + "{path}{query}"
    yield Proposal(f"let the redirect lead to {target}", put(rule.place, "to", target))


@remedy("redirect-inner-target")
def outer_target(case: Case, clue: RuleClue) -> Iterator[Proposal]:
    """Writes the name that was asked for into the target."""
    rule = clue.rule
    scheme = "https" if str(rule.to).startswith("https") else "http"
    target = f"{scheme}://{{host}}{{path}}{{query}}"
    yield Proposal(f"let the redirect lead to {target}", put(rule.place, "to", target))
    secure_target = f"https://{case.visit.exchanges[0].url.host}{{path}}{{query}}"
    yield Proposal(f"let the redirect lead to {secure_target}", put(rule.place, "to", secure_target))
    yield Proposal("take the redirect away", remove(_path(case, rule)))


@remedy("redirect-too-many")
def shorten(_case: Case, _clue: object) -> Iterator[Proposal]:
    """No single rule is at fault."""
    yield Proposal("send the first address straight to the last", [])
