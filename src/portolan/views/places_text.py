"""One address from two places, as text: where the ways part, then what each gets."""

from collections.abc import Iterator

from portolan.evidence.decision import Decision
from portolan.journey.visit import Visit
from portolan.surveying.places import SideBySide
from portolan.views.style import Style, row
from portolan.views.words import in_words


def shown(found: SideBySide, style: Style) -> Iterator[str]:
    """The text, line by line."""
    yield from (f"{line}\n" for line in _lines(found, style))


def _lines(found: SideBySide, style: Style) -> Iterator[str]:
    one, other = found.one.vantage.name, found.other.vantage.name
    yield style.ink(style.safe(f"{found.url}  from {one}, and from {other}"), "bold")
    if found.parting is not None:
        yield ""
        yield style.ink(f"the ways part at: {found.parting.leg}", "leg")
        yield from decided(one, found.parting.before, style)
        yield from decided(other, found.parting.after, style)
    yield ""
    for visit in (found.one, found.other):
        yield from _got(visit, style)
    ink, text = verdict(found)
    sign = style.good if ink == "good" else style.bad
    yield ""
    yield from row(style, style.ink(f"{sign} ", ink, "bold"), 2, text, ink=(ink, "bold"))


def decided(name: str, decision: Decision | None, style: Style) -> list[str]:
    text = decision.text if decision is not None else "nothing of the kind"
    where = (
        decision.place.span.short if decision is not None and decision.place is not None and decision.place.path else ""
    )
    return row(style, f"  {style.ink(style.safe(name), 'bold')}: ", len(name) + 4, text, where)


def _got(visit: Visit, style: Style) -> list[str]:
    good = visit.outcome.kind == "served"
    mark = style.ink(style.good if good else style.bad, "good" if good else "bad")
    return row(style, f"  {mark} ", 4, f"{visit.vantage.name} gets {in_words(visit.outcome)}")


def verdict(found: SideBySide) -> tuple[str, str]:
    """Whether both get the same: `good` or `bad`, and in a sentence."""
    what = set(found.difference.what) if found.difference is not None else set()
    if what & {"outcome", "page"}:
        return "bad", "the two get something else"
    if what:
        return "good", f"both get the same, by another way ({', '.join(sorted(what))})"
    return "good", "both get the same, by the same way"
