"""Who gets through to what, as text: by machine, by port, by the address that is asked."""

from collections.abc import Iterator
from itertools import groupby

from portolan.estate.base import at_port
from portolan.surveying.exposed import MACHINES, Exposed, Reached, shown_ranges
from portolan.views.style import Style, row
from portolan.views.words import counted

#: So many reasons that keep others out are named at an address.
_MOST_REASONS = 3


def shown(found: Exposed, style: Style) -> Iterator[str]:
    """The text, line by line."""
    for machine, held in groupby(found.reached, key=lambda each: each.machine):
        yield from (f"{line}\n" for line in _machine(machine, list(held), style))
    yield from (f"{line}\n" for line in _verdict(found, style))


def _machine(machine: str, held: list[Reached], style: Style) -> list[str]:
    lines = [style.ink(style.safe(machine), "bold")]
    for (port, protocol, service), ways in groupby(held, key=lambda each: (each.port, each.protocol, each.service)):
        lines += row(style, f"  {style.ink(f'{port}/{protocol}'.ljust(9), 'leg')} ", 12, service)
        for each in ways:
            lines += _way(each, style)
    return [*lines, ""]


def _way(each: Reached, style: Style) -> list[str]:
    """One address: who gets through, by which rules, and what keeps the others out."""
    open_to_all = each.everywhere
    mark = "!" if open_to_all else style.good if not each.from_outside else style.dot
    ink = "warn" if open_to_all else "good" if not each.from_outside else "leg"
    text = f"at {at_port(each.address, each.asked)}: {'; '.join(audience(each))}"
    lines = row(style, f"    {style.ink(mark, ink)} ", 6, text)
    for rule, place in each.by:
        lines += row(style, "        ", 8, f"by: {rule}", place.span.short, ink=("dim",))
    reasons = [one for one in each.kept_out if any("everybody" in who or "on the internet" in who for who in one.who)]
    for one in reasons[:_MOST_REASONS]:
        where = one.place.span.short if one.place is not None else ""
        lines += row(style, "        ", 8, f"not {', '.join(one.who)}: {one.text}", where, ink=("dim",))
    return lines


def audience(each: Reached) -> list[str]:
    """Who gets through, in words."""
    outside = "everybody on the internet" if each.everywhere else shown_ranges(each.strangers) or "nobody outside"
    found = [f"from {outside}" if each.strangers and not each.everywhere else outside]
    for network, who in each.near:
        if network == MACHINES:
            found.append(f"the machines {', '.join(who)}")
        else:
            found.append(f"on {network}: {', '.join(who)}")
    return found


def _verdict(found: Exposed, style: Style) -> list[str]:
    """How much is open, and to whom."""
    places = {(each.machine, each.service, each.port, each.protocol) for each in found.reached}
    outside = {(each.machine, each.service, each.port, each.protocol) for each in found.reached if each.from_outside}
    everybody = {(each.machine, each.service, each.port, each.protocol) for each in found.reached if each.everywhere}
    text = (
        f"{counted(len(places), 'port')} can be reached: {len(everybody):,} by everybody on the internet, "
        f"{len(outside - everybody):,} by some there, {len(places - outside):,} from inside only"
        f" ({counted(found.asked, 'connection')} asked)"
    )
    if not places:
        text = f"nothing can be reached ({counted(found.asked, 'connection')} asked)"
    lines = row(style, "  ", 2, text, ink=("bold",))
    if found.left:
        lines += row(style, "! ", 2, f"not asked, for there are too many: {', '.join(found.left[:12])}", ink=("warn",))
    return lines
