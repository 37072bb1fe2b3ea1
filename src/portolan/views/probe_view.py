"""What a probe saw beside what the estate says: as text, and as JSON."""

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

from portolan.source.plain import document
from portolan.views.data import VERSION, moment, outcome_data
from portolan.views.style import Style, paragraph, row
from portolan.views.words import counted, in_words

if TYPE_CHECKING:
    from portolan.probing.run import Beside
    from portolan.views.results import Probing


def text(result: "Probing", style: Style) -> Iterator[str]:
    """The text."""
    yield "\n".join(_lines(result, style)) + "\n"


def _lines(result: "Probing", style: Style) -> Iterator[str]:
    predicted = result.predicted
    where = f"{predicted.url}  from this machine, as {predicted.vantage.name}"
    yield from (style.ink(each, "bold") for each in paragraph(style, where))
    yield ""
    if result.found is None:
        yield from _would_ask(result, style)
        return
    for number, rows in enumerate(result.rows):
        one = result.found.asked[number]
        if len(result.rows) > 1:
            yield from paragraph(style, f"{style.arrow} {one.url}", 0, ("bold",))
        if one.left:
            yield from row(style, "  ", 2, f"not asked: {one.left}", ink=("dim",))
        last = ""
        for each in rows:
            yield from _row(each, style, last)
            last = each.leg
    yield ""
    if result.doubt is not None and not result.doubt.doubt.agrees:
        from portolan.views.observing_text import doubted

        yield from "".join(doubted(result.doubt, style)).rstrip("\n").split("\n")
        return
    differ = sum(each.same is False for rows in result.rows for each in rows)
    if differ:
        said = f"It ends as the estate says ({in_words(predicted.outcome)}), and {counted(differ, 'leg')} on the way {'is' if differ == 1 else 'are'} otherwise"
        yield from row(style, style.ink(f"{style.bad} ", "bad", "bold"), 2, said, ink=("bad", "bold"))
        return
    said = f"What is seen is what the estate says: {in_words(predicted.outcome)}"
    yield from row(style, style.ink(f"{style.good} ", "good", "bold"), 2, said, ink=("good", "bold"))


def _row(each: "Beside", style: Style, last: str) -> list[str]:
    mark, ink = {True: (style.good, "good"), False: (style.bad, "bad"), None: (style.dot, "dim")}[each.same]
    leg = each.leg if each.leg != last else ""
    lead = f"{style.ink(f'{leg:<7}', 'leg')} {style.ink(mark, ink, 'bold')} "
    said = f"{each.what}: {each.seen}"
    lines = row(style, lead, 10, said, ink=("bad", "bold") if each.same is False else ())
    if each.same is False:
        lines += row(style, " " * 10, 10, f"the estate says {each.says}", ink=("dim",))
    return lines


def _would_ask(result: "Probing", style: Style) -> Iterator[str]:
    plan = result.plan
    for server in plan.servers:
        who = f"{server.name} ({server.address})" if server.address is not None else server.name
        yield from row(style, f"{style.ink('name   ', 'leg')}   ", 10, f"would ask {who} for {plan.url.host}")
    exchange = result.predicted.exchanges[0]
    addresses = plan.addresses or exchange.resolution.addresses
    said = ", ".join(map(str, addresses)) if addresses else "whatever address this machine is given"
    yield from row(
        style,
        f"{style.ink('connect', 'leg')}   ",
        10,
        f"would connect to {said}, or what this machine is given instead, port {plan.url.port}",
    )
    if plan.url.secure:
        yield from row(
            style,
            f"{style.ink('tls    ', 'leg')}   ",
            10,
            f"would make a handshake for {plan.url.host} with each that is open",
        )
    yield from row(
        style,
        f"{style.ink('http   ', 'leg')}   ",
        10,
        f"would ask for {plan.url.path}{plan.url.query} by GET, and follow redirects to hosts that the estate names",
    )
    yield ""
    yield from paragraph(style, "Nothing was asked.", 0, ("bold",))


def json(result: "Probing", style: Style) -> Iterator[str]:
    """The document."""
    del style
    yield document(probe_data(result))


def probe_data(result: "Probing") -> dict[str, Any]:
    """A probe as plain data."""
    from portolan.views.observing_json import doubt_data

    plan, found = result.plan, result.found
    return {
        "portolan": VERSION,
        "url": result.predicted.url,
        "vantage": result.predicted.vantage.name,
        "at": moment(result.predicted.at),
        "asks": [
            {"server": each.name, "address": None if each.address is None else str(each.address)}
            for each in plan.servers
        ],
        "addresses": [str(each) for each in plan.addresses],
        "predicted": outcome_data(result.predicted.outcome),
        "exchanges": None
        if found is None
        else [
            {
                "url": str(one.url),
                "left": one.left or None,
                "legs": [
                    {"leg": each.leg, "what": each.what, "says": each.says, "seen": each.seen, "same": each.same}
                    for each in rows
                ],
                "chains": [
                    {
                        "address": str(each.address),
                        "subjects": list(each.chain),
                        "names": list(each.names),
                        "until": None if each.until is None else moment(each.until),
                        "version": each.version,
                    }
                    for each in one.shown
                ],
            }
            for one, rows in zip(found.asked, result.rows, strict=True)
        ],
        "seen": None if found is None else found.seen.words,
        "seconds": None if found is None else found.seconds,
        "differs": result.differs,
        "doubt": None if result.doubt is None else doubt_data(result.doubt),
    }
