"""The JSON of results of the commands about one question, each by its name in `formats.py`; in ASCII, so that nothing in it moves a terminal."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from portolan.source.plain import document
from portolan.views.data import all_explained_data, check_data, explain_data, follow_data
from portolan.views.results import (
    AllExplained,
    Checked,
    Climbed,
    Explained,
    Faults,
    Followed,
    HeldAgainst,
    Renewed,
    Stories,
)
from portolan.views.style import Style

if TYPE_CHECKING:
    from portolan.observing.by_hand import ByHand


def _document(data: object, style: Style) -> Iterator[str]:
    del style
    yield document(data)


def followed(result: Followed, style: Style) -> Iterator[str]:
    """A visit."""
    facts = (result.visit, result.missed, result.expected, result.findings, result.turns, result.parts)
    data = follow_data(*facts, _by_hand(result.by_hand))
    if result.rests_on is not None:
        from portolan.views.observing_json import rests_on_data

        data["rests_on"] = rests_on_data(result.rests_on)
    return _document(data, style)


def _by_hand(held: "ByHand | None") -> dict[str, Any] | None:
    """What can be looked at by hand, where it was asked for."""
    if held is None:
        return None
    from portolan.views.observing_json import by_hand_data

    return by_hand_data(held)


def checked(result: Checked, style: Style) -> Iterator[str]:
    """A check."""
    return _document(check_data(result.estate, result.at, result.findings, result.answers), style)


def explained(result: Explained, style: Style) -> Iterator[str]:
    """An explanation."""
    return _document(explain_data(result.explanation, result.findings, _by_hand(result.by_hand), result.others), style)


def patch(result: Explained, style: Style) -> Iterator[str]:
    """The best remedy's change alone (RFC 6902); an empty one where there is none."""
    best = result.explanation.best
    return _document(best.patch if best is not None else [], style)


def all_explained(result: AllExplained, style: Style) -> Iterator[str]:
    """Explanations of all that is missed."""
    each = [explain_data(one.explanation, one.findings) for one in result.explained]
    return _document(all_explained_data(result.at, result.answers, each), style)


def climbed(result: Climbed, style: Style) -> Iterator[str]:
    """A ladder."""
    from portolan.views.ladder import ladder_data

    return _document(ladder_data(result.ladder, result.at), style)


def renewed(result: Renewed, style: Style) -> Iterator[str]:
    """The next renewals."""
    from portolan.views.renewals import renewals_data

    return _document(renewals_data(result.renewals, result.at), style)


def held_against(result: HeldAgainst, style: Style) -> Iterator[str]:
    """A rehearsal."""
    from portolan.views.rehearse_view import rehearse_data

    return _document(rehearse_data(result.rehearsed), style)


def faults(result: Faults, style: Style) -> Iterator[str]:
    """A fault's page, or the list of all."""
    from portolan.views.fault_text import fault_data

    every = [fault_data(each, result.page) for each in result.faults]
    return _document({"faults": every} if result.listed else every[0], style)


def stories(result: Stories, style: Style) -> Iterator[str]:
    """The list of stories."""
    return _document({"stories": list(result.stories)}, style)
