"""Faults of redirects."""

import re
from collections.abc import Iterator
from itertools import pairwise

import msgspec

from portolan.diagnosis.base import Case, Finding, fault, listed
from portolan.diagnosis.proposal import Proposal, append, item_path, put, remedy, remove
from portolan.diagnosis.visitors import MemoryClue, without
from portolan.estate.client import PassingProgram
from portolan.estate.guesses import machines
from portolan.estate.service import WebService, sites_of
from portolan.estate.site import Redirect, Site, When
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds


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
    rule = last_rule(case)
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
    "redirect-downgrade",
    "A redirect sends secure visitors to a plain address",
    "a page that is not secure",
    "Write https into the target.",
    "not-secure",
    "wrong-final",
)
def downgrade(case: Case) -> Finding | None:
    """A rule on the way led from a secure address to a plain one."""
    for before, after in pairwise(case.visit.exchanges):
        if not before.url.secure or after.url.secure or before.response is None:
            continue
        rule = next((each for each in before.response.decisions if isinstance(each.subject, Redirect)), None)
        if rule is None or not isinstance(rule.subject, Redirect):
            continue
        text = f"a redirect leads from {before.url} to {after.url}, which is not secure"
        return Finding("redirect-downgrade", text, rule.place, clue=RuleClue(rule=rule.subject))
    return None


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
    if not isinstance(site, Site | WebService) or case.visit.outcome.secure:
        return None
    return Finding(
        "redirect-missing",
        f"{site.name} serves {case.exchange.url} without encryption",
        site.place,
        clue=SiteClue(site=site),
    )


def _for_one_path(when: When | None) -> bool:
    """Whether a rule is for one path alone, which it then leads away from on purpose."""
    if when is None or (when.path is None and when.pattern is None):
        return False
    if when.path is not None:
        return not when.path.endswith("*")
    return re.fullmatch(r"\^(?:[\w/ -]|\\?[.])*/?\??\$", str(when.pattern)) is not None


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
    rule = last_rule(case)
    first = case.visit.exchanges[0].url
    if rule is None or not isinstance(rule.subject, Redirect) or (first.path == "/" and not first.query):
        return None
    target = str(rule.subject.to)
    if re.search(r"\{(path|rest|[1-9])\}", target) or _for_one_path(rule.subject.when):
        return None
    return Finding(
        "redirect-loses-path",
        f"the redirect to {target} drops the path {first.path}",
        rule.place,
        clue=RuleClue(rule=rule.subject),
    )


#: Endings that only the inside knows (RFC 6762 appendix G, RFC 8375).
_INNER = ("local", "lan", "internal", "intranet", "home", "arpa", "localdomain")


@remedy("redirect-downgrade")
def stay_secure(case: Case, clue: RuleClue) -> Iterator[Proposal]:
    """Writes https into the target."""
    rule = clue.rule
    target = str(rule.to)
    for start in ("http://", "{scheme}://"):
        if target.startswith(start):
            secure_target = f"https://{target[len(start) :]}"
            yield Proposal(f"let the redirect lead to {secure_target}", put(rule.place, "to", secure_target))
    yield Proposal("take the redirect away", remove(path_of_rule(case, rule)))


@fault(
    "transport-strict-trap",
    "A name is remembered to be asked securely only, and has no secure address that works",
    "a TLS error that cannot be passed, or no connection",
    "Give the name a certificate and a secure listener; those who remember cannot be told otherwise before that works.",
    "*",
)
def strict_trap(case: Case) -> Finding | None:
    """Without that memory the visitor would get what was expected."""
    step = next((each for each in case.visit.decisions if isinstance(each, http_kinds.StrictRemembered)), None)
    if step is None or not without(case, strict=()):
        return None
    text = f"{step.text}; {case.stop.text if case.stop is not None else 'it does not work so'}"
    return Finding("transport-strict-trap", text, step.place, clue=MemoryClue(vantage=case.visit.vantage, key="strict"))


def last_rule(case: Case) -> Decision | None:
    """The rule that led to the last exchange."""
    for exchange in reversed(case.visit.exchanges[:-1] if case.symptom != "bad-target" else case.visit.exchanges):
        # Programs that pass on pass redirects on, too.
        for each in exchange.tree:
            decisions: tuple[Decision, ...] = each.response.decisions if each.response is not None else ()
            for decision in reversed(decisions):
                if isinstance(decision.subject, Redirect):
                    return decision
    return None


# -- remedies --


@remedy("redirect-loop-names")
def keep_one(case: Case, clue: RulesClue) -> Iterator[Proposal]:
    """Gives a rule that forces secure the condition that it lost; else takes one of the rules away."""
    rules = [decision.subject for decision in clue.rules if isinstance(decision.subject, Redirect)]
    for rule in rules:
        forcing = rule.when is not None and rule.when.scheme == "http"
        plain = next((each for each in ("{scheme}://", "http://") if str(rule.to).startswith(each)), None)
        if forcing and plain is not None:
            target = f"https://{str(rule.to).removeprefix(plain)}"
            text = f"let the redirect of the site {_site(rule)} lead to {target} ({rule.place.span.short})"
            yield Proposal(text, put(rule.place, "to", target))
        if str(rule.to).startswith("https://") and (rule.when is None or rule.when.scheme is None):
            text = f"let the redirect of the site {_site(rule)} to {rule.to} apply to plain requests only ({rule.place.span.short})"
            place = rule.place if rule.when is None else rule.when.place
            yield Proposal(
                text, put(place, "when", {"scheme": "http"}) if rule.when is None else put(place, "scheme", "http")
            )
    for rule in sorted(rules, key=lambda rule: str(rule.to).startswith("https://{host}")):
        text = f"take the redirect of the site {_site(rule)} to {rule.to} away ({rule.place.span.short})"
        yield Proposal(text, remove(path_of_rule(case, rule)))


def _site(rule: Redirect) -> str:
    path = rule.place.path
    return str(next(path[at + 1] for at, each in enumerate(path) if each in ("sites", "buckets", "zones", "edges")))


def path_of_rule(case: Case, rule: Redirect) -> tuple[str | int, ...]:
    """The path of a rule in the estate's document, whether it stands in a list or alone."""
    path = rule.place.path
    if isinstance(path[-1], int):
        return path
    for store in case.estate.stores.values():
        for bucket in store.buckets.values():
            if rule in bucket.redirects:
                return item_path(bucket.place, "redirects", bucket.redirects.index(rule))
    for machine in machines(case.estate):
        for service in machine.services.values():
            for site in sites_of(service).values():
                held = [(each.place, each.redirects) for each in (site, *site.sections)]
                held += [(each.place, each.redirects) for each in site.rule_files]
                for place, rules in held:
                    if rule in rules:
                        return item_path(place, "redirects", rules.index(rule))
    return path


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
    for front in case.visit.exchanges[-2].tree if len(case.visit.exchanges) > 1 else ():
        client = front.client
        if isinstance(client, PassingProgram) and client.upstream.turns_redirects is not True:
            place = client.upstream.place
            facts = put(place, "turns_redirects", True)
            if not place.has("to"):
                facts = put(
                    client.site.place,
                    "upstream",
                    {"to": [str(each) for each in client.upstream.to], "turns_redirects": True},
                )
            yield Proposal(f"let {client.site.name} turn redirects to its upstream's own address into its own", facts)
    first, parts = case.visit.exchanges[0].url, re.match(r"https?://[^/{]+(/.*)?$", str(rule.to))
    if parts is not None:
        target = f"{first.scheme}://{first.shown_host}{parts[1] or '/'}"
        yield Proposal(f"let the redirect lead to {target}", put(rule.place, "to", target))
    scheme = "https" if str(rule.to).startswith("https") else "http"
    target = f"{scheme}://{{host}}{{path}}{{query}}"
    yield Proposal(f"let the redirect lead to {target}", put(rule.place, "to", target))
    secure_target = f"https://{case.visit.exchanges[0].url.host}{{path}}{{query}}"
    yield Proposal(f"let the redirect lead to {secure_target}", put(rule.place, "to", secure_target))
    yield Proposal("take the redirect away", remove(path_of_rule(case, rule)))


@remedy("redirect-too-many")
def shorten(_case: Case, _clue: object) -> Iterator[Proposal]:
    """No single rule is at fault."""
    yield Proposal("send the first address straight to the last", [])
