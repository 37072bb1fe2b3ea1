"""One address from two places: where the two ways part, and what each gets."""

from portolan.evidence.decision import Decision
from portolan.evidence.legs import Exchange
from portolan.journey.question import Question
from portolan.journey.visit import Visit
from portolan.source.value import Value
from portolan.surveying.compared import Difference, difference, seen


class Parting(Value, frozen=True):
    """The first leg at which two ways part: its name, and what decided on each side."""

    leg: str
    before: Decision | None
    after: Decision | None


class SideBySide(Value, frozen=True):
    """Two visits for one address, from two places."""

    url: str
    one: Visit
    other: Visit
    difference: Difference | None
    parting: Parting | None


def side_by_side(one: Question, other: Question) -> SideBySide:
    """What the two get, and where they part. Raises BadUrlError."""
    here, there = one.answer(), other.answer()
    found = difference(one.url, other.vantage.name, seen(here), seen(there))
    return SideBySide(one.url, here, there, found, _parting(here, there))


def _parting(one: Visit, other: Visit) -> Parting | None:
    """The first leg whose decisions differ in what they say, the people's own names aside."""
    for here, there in zip(one.exchanges, other.exchanges, strict=False):
        for leg, mine, theirs in _legs(here, there):
            left = [each for each in mine if _said(each, one) not in {_said(each, other) for each in theirs}]
            right = [each for each in theirs if _said(each, other) not in {_said(each, one) for each in mine}]
            if left or right:
                return Parting(leg, left[-1] if left else None, right[-1] if right else None)
    return None


def _legs(one: Exchange, other: Exchange) -> list[tuple[str, tuple[Decision, ...], tuple[Decision, ...]]]:
    """The legs of two exchanges, side by side."""

    def of(each: Exchange) -> list[tuple[Decision, ...]]:
        connection, handshake, response = each.connection, each.handshake, each.response
        return [
            each.resolution.decisions,
            connection.decisions if connection is not None else (),
            handshake.decisions if handshake is not None else (),
            response.decisions if response is not None else (),
        ]

    return list(zip(("name", "connect", "tls", "http"), of(one), of(other), strict=True))


def _said(decision: Decision, visit: Visit) -> tuple[str, ...]:
    """What a decision says without who asks: its kind, where it stands, and whether it stops."""
    text = decision.text
    for word in (visit.vantage.name, *(str(item.ip) for item in visit.vantage.address)):
        text = text.replace(word, "")
    path = decision.place.path if decision.place is not None else ()
    # Where it only says who asks, the two do not part.
    own = path[:1] == ("vantages",)
    return (decision.kind, text if decision.stops else "", *(() if own else map(str, path)))
