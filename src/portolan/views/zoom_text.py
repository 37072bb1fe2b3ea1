"""One leg enlarged: a name's resolution as a tree, a packet's way box by box with what each makes of it."""

from collections.abc import Sequence

from portolan.estate.base import IPAddress, at_port
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import name as name_kinds
from portolan.evidence.legs import Connection, Exchange
from portolan.journey.visit import Visit
from portolan.views.style import Style, row
from portolan.views.text import where


def zoom_text(visit: Visit, leg: str, style: Style) -> list[str]:
    """The enlarged leg of every exchange."""
    lines: list[str] = []
    for exchange in visit.tree:
        if leg == "name" and exchange.resolution.decisions:
            lines += _names(exchange, visit.stop, style)
        if leg == "connect":
            for attempt in exchange.attempts:
                lines += _connect(attempt, visit.stop, style)
    return lines


def _names(exchange: Exchange, stop: Decision | None, style: Style) -> list[str]:
    lines = [style.ink(f"Who is asked for {style.safe(exchange.resolution.host)}", "bold")]
    decisions = exchange.resolution.decisions
    return [*lines, *_tree(decisions, _depths(decisions), stop, style), ""]


def _depths(decisions: Sequence[Decision]) -> list[int]:
    found, base = [], 0
    for decision in decisions:
        depth = base + decision.depth
        if isinstance(decision, name_kinds.ResolverPassesOn):
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
        drawn = row(
            style,
            lead + (fork if goes_on else last) + style.ink(mark, "bad", "bold"),
            len(lead) + 3 + len(mark),
            decision.text,
            where(decision.place),
            ("bad", "bold") if broke else (),
        )
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


def _connect(connection: Connection, stop: Decision | None, style: Style) -> list[str]:
    """The boxes there and back: the packet as it comes in, what is decided, and how it goes on."""
    lines = [style.ink(f"The way to {connection.address} port {connection.port}", "bold")]
    down = "│" if style.unicode else "|"
    forth = [each for each in connection.decisions if not each.of_the_answer]
    done, back = 0, False
    for hop in connection.hops:
        if hop.answer and not back:
            back = True
            lines += _decided(forth[done:], stop, style, down)
            lines += ["", style.ink("and the answer's way back", "bold")]
        lines += row(style, f"  {style.ink(hop.label, 'leg')}", 2 + len(hop.label), f"  {_addressed(hop.before)}")
        if not back:
            lines += _decided(forth[done : hop.decided], stop, style, down)
            done = hop.decided
        if hop.after != hop.before:
            text = f"goes on as {_addressed(hop.after)}"
            lines += row(style, f"  {down}   {style.arrow} ", 7 + len(style.arrow), text, ink=("warn",))
        if hop.network is not None:
            text = f"over {hop.network}" if hop.leaving == hop.network else f"by {hop.leaving}, over {hop.network}"
            lines += row(style, f"  {down} ", 4, text, ink=("dim",))
    if not back:
        lines += _decided(forth[done:], stop, style, down)
    lines += _decided([each for each in connection.decisions if each.of_the_answer], stop, style, down)
    return [*lines, ""]


def _decided(decisions: Sequence[Decision], stop: Decision | None, style: Style, down: str) -> list[str]:
    lines = []
    for decision in decisions:
        if decision.seen_by_itself:
            continue
        broke = decision is stop
        mark = style.ink(style.bad, "bad", "bold") if broke else style.ink(style.dot, "dim")
        drawn = row(
            style, f"  {down} {mark} ", 6, decision.text, where(decision.place), ("bad", "bold") if broke else ()
        )
        lines += [drawn[0], *(f"  {down}{line[3:]}" for line in drawn[1:])]
    return lines


def _addressed(packet: tuple[IPAddress, int, IPAddress, int]) -> str:
    """Source and destination as people write them."""
    src, sport, dst, dport = packet
    if not dport and not sport:
        return f"ICMP error {src} -> {dst}"
    return f"{at_port(src, sport)} -> {at_port(dst, dport)}"
