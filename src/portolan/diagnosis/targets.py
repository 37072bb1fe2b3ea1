"""Faults of a redirect's target: looked at before the names and ways that a misspelt target would need."""

import re
from collections.abc import Iterator

import msgspec

from portolan.diagnosis.base import Case, Finding, all_homes, fault
from portolan.diagnosis.proposal import Proposal, put, remedy
from portolan.diagnosis.redirect import last_rule
from portolan.estate.site import Redirect, Site
from portolan.source.nearest import nearest

#: A target in which what is taken over from the path begins right behind the name.
_GLUED = re.compile(r"((?:https?|\{scheme\})://(?:[^/{?#]|\{host\}|\{port\})+)(\{(?:rest|[1-9])\}.*)")


class TargetClue(msgspec.Struct, frozen=True):
    """The rule, and the target that is meant."""

    rule: Redirect
    target: str


@fault(
    "redirect-target-dead",
    "The target of a redirect does not work: its name, its port or its certificate",
    "an error at the target",
    "Correct the target: the name and port at which the site is.",
    "no-such-name",
    "no-address",
    "undescribed",
    "nothing-listens",
    "internet-unknown",
    "name-mismatch",
    "plain-spoken",
    "plain-on-tls",
    "filter-drops",
)
def target_dead(case: Case) -> Finding | None:
    """A rule led to a name or port that nobody has, beside one that somebody has."""
    rule = last_rule(case)
    if rule is None or not isinstance(rule.subject, Redirect) or len(case.visit.exchanges) < 2:
        return None
    to, url = str(rule.subject.to), case.exchange.url
    glued = _GLUED.match(to)
    if glued is not None:
        meant = f"{glued[1]}/{glued[2]}"
        text = f"a redirect leads to {url}: a slash is lost behind the name in {to}"
        return Finding("redirect-target-dead", text, rule.place, clue=TargetClue(rule.subject, meant))
    if case.exchange is not case.visit.exchanges[-1]:
        return None
    names = {name for home in all_homes(case.estate) if isinstance(home.site, Site) for name in home.site.names}
    if "{host}" not in to and case.host and url.literal is None and case.host not in names:
        near = nearest(case.host, {name for name in names if "*" not in name})
        if near is not None and case.host in to:
            text = f"a redirect leads to {url}, and nobody is named so; {near} is"
            return Finding(
                "redirect-target-dead", text, rule.place, clue=TargetClue(rule.subject, to.replace(case.host, near))
            )
    written = re.match(r"(https?://(?:\{host\}|[^/:{}]+)):([0-9]+)", to)
    if written is not None and case.symptom in ("nothing-listens", "filter-drops", "plain-spoken", "plain-on-tls"):
        text = f"a redirect leads to {url}, where nobody answers as is meant"
        return Finding(
            "redirect-target-dead", text, rule.place, clue=TargetClue(rule.subject, written[1] + to[written.end() :])
        )
    return None


@remedy("redirect-target-dead")
def correct_target(_case: Case, clue: TargetClue) -> Iterator[Proposal]:
    """Writes what was meant."""
    yield Proposal(f"let the redirect lead to {clue.target}", put(clue.rule.place, "to", clue.target))
