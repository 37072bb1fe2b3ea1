"""The text of results of the commands about one question, each by its name in `formats.py`."""

from collections.abc import Iterator

from portolan.views.results import AllExplained, Checked, Climbed, Explained, Faults, HeldAgainst, Renewed, Stories
from portolan.views.style import Style


def checked(result: Checked, style: Style) -> Iterator[str]:
    """A check."""
    from portolan.views.check_text import check_text

    yield check_text(result.estate, result.findings, result.answers, style)


def explained(result: Explained, style: Style) -> Iterator[str]:
    """An explanation."""
    from portolan.views.explain_text import explain_text
    from portolan.views.zoom_text import zoom_text

    zoomed = zoom_text(result.explanation.visit, result.zoom, style) if result.zoom is not None else []
    more: list[str] = []
    if result.by_hand is not None:
        from portolan.views.observing_text import by_hand_text

        more = [*by_hand_text(result.by_hand, style), ""]
    yield explain_text(result.explanation, result.findings, style, result.every, zoomed, more, result.others)


def all_explained(result: AllExplained, style: Style) -> Iterator[str]:
    """Explanations of all that is missed."""
    from portolan.views.explain_text import all_explained_text

    told = ["".join(explained(each, style)) for each in result.explained]
    yield all_explained_text(told, result.answers, style)


def climbed(result: Climbed, style: Style) -> Iterator[str]:
    """A ladder."""
    from portolan.views.ladder import ladder_text

    yield "\n".join(ladder_text(result.ladder, result.at, style)) + "\n"
    if result.broken is not None:
        yield from explained(result.broken, style)


def renewed(result: Renewed, style: Style) -> Iterator[str]:
    """The next renewals."""
    from portolan.views.renewals import renewals_text

    yield renewals_text(result.renewals, result.at, style)


def held_against(result: HeldAgainst, style: Style) -> Iterator[str]:
    """A rehearsal."""
    from portolan.views.rehearse_view import rehearse_text

    yield rehearse_text(result.rehearsed, style, result.every)


def faults(result: Faults, style: Style) -> Iterator[str]:
    """A fault's page, or the list of all."""
    from portolan.views.fault_text import fault_list, fault_page

    if result.page is None:
        yield fault_list(result.faults, style) + "\n"
    else:
        yield fault_page(result.faults[0], result.page, style) + "\n"


def stories(result: Stories, style: Style) -> Iterator[str]:
    """The list of stories."""
    from portolan.views.demo_text import list_text

    yield list_text(list(result.stories), style)
