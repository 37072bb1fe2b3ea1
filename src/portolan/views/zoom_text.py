"""One leg enlarged: a name's resolution as a tree of who was asked and who said what."""

from collections.abc import Sequence

from portolan.evidence.decision import Decision
from portolan.journey.visit import Exchange, Visit
from portolan.views.style import Style, row
from portolan.views.text import where

#: How deep a decision stands in the tree: whom the visitor asks, whom the resolver asks, what was said there.
_DEPTH = {
    **dict.fromkeys(("literal", "loopback-name", "hosts-line", "local-name", "local-only", "resolver-ordinary", "resolver-asked",
                     "resolver-silent", "resolver-closed", "resolver-refuses", "resolver-not-recursive", "search-list", "search-failed",
                     "remembered", "remembered-absent", "https-upgraded"), 0),
    **dict.fromkeys(("zone-assumed", "delegation-assumed", "server-answers", "servers-fail", "undescribed", "registration-lapsed",
                     "registration-held", "copy-answers", "resolver-holds", "resolver-passes-on"), 1),
}  # fmt: skip
_DEEPEST = 2


def zoom_text(visit: Visit, leg: str, style: Style) -> list[str]:
    """The enlarged leg of every exchange."""
    lines: list[str] = []
    for exchange in visit.exchanges:
        if leg == "name" and exchange.resolution.decisions:
            lines += _names(exchange, visit.stop, style)
    return lines


def _names(exchange: Exchange, stop: Decision | None, style: Style) -> list[str]:
    lines = [style.ink(f"Who is asked for {style.safe(exchange.resolution.host)}", "bold")]
    decisions = exchange.resolution.decisions
    return [*lines, *_tree(decisions, _depths(decisions), stop, style), ""]


def _depths(decisions: Sequence[Decision]) -> list[int]:
    found, base = [], 0
    for decision in decisions:
        depth = base + _DEPTH.get(decision.kind, _DEEPEST)
        if decision.kind == "resolver-passes-on":
            base += 1
            depth = base
        found.append(depth)
    return found


def _tree(decisions: Sequence[Decision], depths: list[int], stop: Decision | None, style: Style) -> list[str]:
    """Branches drawn before each decision; a branch goes on where a later one stands at its depth."""
    fork, last, bar = ("├─ ", "└─ ", "│  ") if style.unicode else ("+- ", "`- ", "|  ")
    lines: list[str] = []
    seen = 0
    for at, (decision, depth) in enumerate(zip(decisions, depths, strict=True)):
        depth = min(depth, seen + 1) if at else 0
        seen = depth
        rest = depths[at + 1 :]
        lead = "".join(bar if _goes_on(rest, level) else "   " for level in range(depth))
        goes_on = _goes_on(rest, depth)
        broke = decision is stop
        mark = f"{style.bad} " if broke else ""
        drawn = row(style, lead + (fork if goes_on else last) + style.ink(mark, "bad", "bold"), len(lead) + 3 + len(mark), decision.text,
                    where(decision.place), ("bad", "bold") if broke else ())  # fmt: skip
        tail = lead + (bar if goes_on else "   ")
        lines.append(drawn[0])
        lines += [tail + line[len(tail) :] for line in drawn[1:]]
    return lines


def _goes_on(rest: list[int], level: int) -> bool:
    for depth in rest:
        if depth == level:
            return True
        if depth < level:
            return False
    return False
