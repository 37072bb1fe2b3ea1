"""Two states of an estate side by side, as Markdown for the comment of a merge request."""

from collections.abc import Iterator

from portolan.surveying.compared import Compared
from portolan.views.compare_text import access_words, difference_words, leg_words, verdict
from portolan.views.style import Style
from portolan.views.survey_markdown import text_of

#: So many of each kind are named.
_MOST_NAMED = 30


def shown(found: Compared, style: Style) -> Iterator[str]:
    """The document, section by section."""
    del style
    ink, text = verdict(found)
    yield f"## {({'bad': 'Worse', 'warn': 'Look at this', 'good': 'No worse'})[ink]}: {text_of(text)}\n"
    changed = [f"{each.url} from {each.vantage}: {'; '.join(each.missed)}" for each in found.broken]
    yield from _part("Newly missed", changed)
    gained = [access_words(each) for each in found.gained]
    yield from _part("Who gains access", [*gained, *found.opened])
    weaker = [f"{each.url} from {each.vantage}: {leg_words(each)}" for each in found.differences if each.weaker]
    yield from _part("Less safe", [*found.weakened, *weaker])
    yield from _part("Who loses access", [access_words(each) for each in found.lost])
    yield from _part("Mended", [f"{each.url} from {each.vantage}" for each in found.mended])
    yield from _part("What visitors get", [line for each in found.differences for line in difference_words(each)])


def _part(title: str, told: list[str]) -> Iterator[str]:
    if not told:
        return
    yield f"\n### {title}\n\n"
    yield from (f"- {text_of(each)}\n" for each in told[:_MOST_NAMED])
    if len(told) > _MOST_NAMED:
        yield f"- and {len(told) - _MOST_NAMED:,} more\n"
