"""What the visitor should ask instead of a name or an address that the estate does not state: a near one, proven by asking it.

Only for what nobody expects: an address that is stated as expected is right by definition, and the estate is wrong.
"""

from portolan.diagnosis.proposal import Safety
from portolan.diagnosis.trial import Remedy, Trial
from portolan.estate.slips import DEFAULT_COST, known, slips_of_address
from portolan.estate.url import BadUrlError, parse
from portolan.evidence.outcome import Outcome
from portolan.journey.expectation import misses
from portolan.journey.visit import visit

#: So many addresses are asked, and so many told; what is further away is another address altogether.
_MOST_ASKED, _MOST_TOLD, _FARTHEST = 12, 2, 1.9


def asked_instead(trial: Trial) -> tuple[Remedy, ...]:
    """Addresses near to the one that was asked, which give a page; empty where the one asked is expected."""
    if trial.expectation is not None:
        return ()
    found = []
    for text in _near(trial):
        outcome = _page_of(trial, text)
        if outcome is not None:
            told = f"ask {text} instead of {trial.text}"
            found.append(Remedy(told, [], Safety.OUTSIDE, (), outcome, True, cause=0, ask=(text, trial.vantage.name)))
        if len(found) == _MOST_TOLD:
            break
    return tuple(found)


def _page_of(trial: Trial, text: str) -> Outcome | None:
    try:
        seen = visit(trial.world, text, trial.world.there(trial.vantage))
    except BadUrlError:
        return None
    return None if misses(None, seen) else seen.outcome


def _near(trial: Trial) -> list[str]:
    """The addresses that may have been meant, the nearest first: those that are expected before all others."""
    asked = parse(trial.text)
    expected = [str(each.url) for each in trial.world.estate.expected]
    hosts = []
    for text in expected:
        try:
            hosts.append(parse(text).host.rstrip("."))
        except BadUrlError:
            continue
    about = known(trial.world.estate.place.node, hosts)
    stated = (
        str(asked.literal) in about.addresses if asked.literal is not None else asked.host.rstrip(".") in about.names
    )
    if stated:
        return []  # what the estate states was hardly mistyped
    cost: dict[str, float] = {}
    for text, far in slips_of_address(str(asked), about):
        try:
            meant = str(parse(text))
        except BadUrlError:
            continue
        far -= 0.5 if meant in expected else 0.0
        if meant != str(asked) and far <= _FARTHEST:
            cost[meant] = min(far, cost.get(meant, DEFAULT_COST))
    return sorted(cost, key=lambda each: (cost[each], each))[:_MOST_ASKED]
