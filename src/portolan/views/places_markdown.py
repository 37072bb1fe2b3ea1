"""One address from two places, as Markdown."""

from collections.abc import Iterator

from portolan.surveying.places import SideBySide
from portolan.views.places_text import verdict
from portolan.views.style import Style
from portolan.views.survey_markdown import text_of
from portolan.views.words import in_words


def shown(found: SideBySide, style: Style) -> Iterator[str]:
    """The document."""
    del style
    yield f"## {text_of(found.url)}: {text_of(verdict(found)[1])}\n\n"
    for visit in (found.one, found.other):
        yield f"- {text_of(visit.vantage.name)} gets {text_of(in_words(visit.outcome))}\n"
    parting = found.parting
    if parting is not None:
        yield f"\nThe ways part at: {parting.leg}\n\n"
        for visit, decision in ((found.one, parting.before), (found.other, parting.after)):
            yield f"- {text_of(visit.vantage.name)}: {text_of(decision.text if decision is not None else 'nothing of the kind')}\n"
