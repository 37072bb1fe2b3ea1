"""What was seen, what may be wrong, what to look at next; and what can be looked at by hand: as JSON."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from portolan.source.plain import document
from portolan.views.data import VERSION, moment, outcome_data
from portolan.views.places_json import decision_data
from portolan.views.style import Style

if TYPE_CHECKING:
    from portolan.observing.by_hand import ByHand
    from portolan.observing.next_check import NextCheck
    from portolan.observing.rests_on import RestsOn
    from portolan.observing.suspects import Suspect
    from portolan.surveying.several import Several
    from portolan.views.results import Doubted


def doubted(result: "Doubted", style: Style) -> Iterator[str]:
    """The document of a doubt."""
    del style
    yield document(doubt_data(result))


def doubt_data(result: "Doubted") -> dict[str, Any]:
    """A doubt as plain data."""
    doubt = result.doubt
    total = sum(each.weight for each in (*doubt.suspects, *doubt.in_part))
    return {
        "portolan": VERSION,
        "url": doubt.url,
        "at": moment(doubt.world.now),
        "agrees": doubt.agrees,
        "sights": [
            {
                "vantage": each.vantage.name,
                "seen": [one.words for one in each.seen],
                "predicted": outcome_data(each.predicted.outcome),
                "agrees": each.agrees,
            }
            for each in doubt.sights
        ],
        "checked": {"right": list(doubt.cleared), "wrong": list(doubt.found)},
        "suspects": [_suspect(each, total) for each in doubt.suspects],
        "in_part": [_suspect(each, total) for each in doubt.in_part],
        "unwritten": [{"text": each.text, "find_out": each.find_out} for each in doubt.unknown],
        "bounded": doubt.bounded,
        "next": _next(result.next) if result.next is not None else None,
    }


def _suspect(each: "Suspect", total: float) -> dict[str, Any]:
    return {
        "object": each.object,
        "pointer": each.belief.pointer,
        "where": each.belief.span.short,
        "likely": round(each.weight / total, 4),
        "ways": [{"text": one.way.text, "change": one.way.patch} for one in each.wrong],
    }


def _next(following: "NextCheck") -> dict[str, Any]:
    return {
        "on": following.on,
        "how": following.how,
        "answers": [
            {"shows": each.shows, "add": each.add, "leaves": [one.object for one in each.leaves]}
            for each in following.answers
        ],
    }


def by_hand_data(held: "ByHand") -> dict[str, Any]:
    """What can be looked at by hand, as plain data."""
    return {
        "checks": [
            {
                "leg": each.leg,
                "on": each.on,
                "command": each.command,
                "prints": list(each.shown),
                "where": each.place.span.short if each.place is not None and each.place.path else None,
            }
            for each in held.checks
        ],
        "logs": [{"on": each.on, "file": each.file, "line": each.line} for each in held.logs],
        "browser": held.browser,
        "ping": {
            "on": held.ping.on,
            "command": held.ping.command,
            "prints": held.ping.prints.strip(),
            "by": held.ping.by,
            "says": held.ping.says,
        },
    }


def several(found: "Several", style: Style) -> Iterator[str]:
    """The document of several places."""
    del style
    yield document(several_data(found))


def several_data(found: "Several") -> dict[str, Any]:
    """An address from several places, as plain data."""
    side = found.parting
    parting = side.parting if side is not None else None
    return {
        "portolan": VERSION,
        "url": found.url,
        "at": moment(found.world.now),
        "places": [
            {
                "vantage": each.vantage.name,
                "outcome": outcome_data(each.visit.outcome),
                "met": not each.missed,
                "missed": [one.text for one in each.missed],
            }
            for each in found.places
        ],
        "parting": None
        if side is None or parting is None
        else {
            "met": side.one.vantage.name,
            "missed": side.other.vantage.name,
            "leg": parting.leg,
            "decisions": [decision_data(parting.before), decision_data(parting.after)],
        },
    }


def rests_on_data(found: "RestsOn") -> dict[str, Any]:
    """What an answer hangs on, as plain data."""
    return {
        "tried": found.tried,
        "facts": [
            {
                "object": each.fact.object,
                "pointer": each.fact.pointer,
                "where": each.fact.span.short,
                "outcome": outcome_data(each.outcome),
            }
            for each in found.holds
        ],
    }
