"""A visit as a picture has it: boxes in their order with the networks between, what each decides, where it breaks."""

from collections.abc import Iterator, Sequence

from portolan.estate.base import at_port
from portolan.estate.client import EdgeClient
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.legs import Connection, Exchange, Hop
from portolan.journey.visit import Visit
from portolan.source.place import Place
from portolan.source.value import Value


class Note(Value, frozen=True):
    """What a box decides, and the line that it rests on; `breaks` where it ends there, `assumed` where no line states it."""

    text: str
    place: Place | None = None
    breaks: bool = False
    assumed: bool = False


class Box(Value, frozen=True):
    """Somebody or something on the way: of a kind (`visitor`, `device`, `program`, `name`), with what it decides."""

    kind: str
    title: str
    detail: str
    notes: tuple[Note, ...]
    #: The network by which what it sends on goes to the next box.
    onward: str | None = None

    @property
    def breaks(self) -> bool:
        """Whether the way ends badly here."""
        return any(each.breaks for each in self.notes)


class Lane(Value, frozen=True):
    """Boxes in a row: one way of one exchange. `depth` is how far in it stands: programs that ask in turn stand below those who asked them."""

    title: str
    boxes: tuple[Box, ...]
    depth: int = 0
    back: bool = False


class Picture(Value, frozen=True):
    """A visit: its question, its lanes in the order in which things happen, and what it comes to."""

    url: str
    vantage: str
    lanes: tuple[Lane, ...]
    met: bool
    outcome: str = ""


def picture(visit: Visit, met: bool, outcome: str) -> Picture:
    """The picture of a visit; `outcome` is what it comes to, in words."""
    lanes = [lane for each in visit.exchanges for lane in _lanes(each, _deepest(visit), 0)]
    if visit.stop is not None and not any(box.breaks for lane in lanes for box in lane.boxes):
        # What ends a visit and no box of it: redirects that lead round, too many of them, a target that is none.
        ends = _notes([visit.stop], visit.stop)
        lanes.append(Lane(f"{visit.vantage.name} goes no further", (Box("visitor", visit.vantage.name, "", ends),)))
    return Picture(visit.url, visit.vantage.name, tuple(lanes), met, outcome)


def _deepest(visit: Visit) -> Decision | None:
    """Where a visit breaks: what a program in front only answers for is told there, and breaks behind it."""
    if visit.stop is None:
        return None
    drawn = {id(each) for each in visit.decisions}
    return [visit.stop, *(each for each in visit.stop.grounds if id(each) in drawn)][-1]


def _lanes(exchange: Exchange, stop: Decision | None, depth: int) -> Iterator[Lane]:
    """An exchange, the answer's way where it is another, and what it rests on."""
    connection = exchange.connection
    boxes = [_asking(exchange, stop)]
    if connection is not None:
        forth = [each for each in connection.hops if not each.answer]
        boxes = [*_way(boxes[0], connection, forth, stop), *_programs(exchange, stop)]
    yield Lane(_title(exchange), tuple(boxes), depth)
    if connection is not None:
        back = _way_back(connection, stop)
        if back is not None:
            yield Lane("the answer's way back", back, depth, True)
    for each in exchange.inner:
        yield from _lanes(each, stop, depth + 1)


def _title(exchange: Exchange) -> str:
    client = exchange.client
    method = client.saying.method if isinstance(client, Vantage) else "GET"
    who = client.name if isinstance(client, Vantage | EdgeClient) else f"{client.name} on {client.host}"
    return f"{who} asks for {exchange.url}" + ("" if method == "GET" else f" ({method})")


def _asking(exchange: Exchange, stop: Decision | None) -> Box:
    """Who asks, and what becomes of the name."""
    client, resolution = exchange.client, exchange.resolution
    notes = _notes([each for each in resolution.decisions if _counts(each, stop)], stop)
    if isinstance(client, Vantage):
        addresses = ", ".join(str(item.ip) for item in client.address)
        return Box("visitor", client.name, addresses or (client.host or ""), notes)
    return Box("program", client.name, f"on {client.host}", notes)


def _counts(decision: Decision, stop: Decision | None) -> bool:
    """Whether a decision is told in a picture: what is shown without asking, what ends it, and the address that comes of a name."""
    return decision is stop or decision.shown or decision.stops or decision.kind == "address"


def _notes(decisions: Sequence[Decision], stop: Decision | None) -> tuple[Note, ...]:
    """Decisions as notes, each text once."""
    found: dict[str, Note] = {}
    for each in decisions:
        if not each.seen_by_itself:
            place = each.place if each.place is not None and each.place.path else None
            found.setdefault(each.text, Note(each.text, place, each is stop, each.assumed))
    return tuple(found.values())


def _way(first: Box, connection: Connection, hops: list[Hop], stop: Decision | None) -> list[Box]:
    """The boxes of the question's way; the first is whoever asks."""
    decisions = [each for each in connection.decisions if not each.of_the_answer]
    boxes, done = [first], 0
    for number, hop in enumerate(hops):
        last = number + 1 == len(hops)
        # What is decided when the last box had sent it on, the next one did, which kept it.
        told = decisions[done:] if last and hop.leaving is None else decisions[done : hop.decided]
        done = len(decisions) if last and hop.leaving is None else hop.decided
        notes = _notes(told, stop)
        if hop.after != hop.before:
            was, now = hop.before, hop.after
            if (was[2], was[3]) != (now[2], now[3]):
                notes = (*notes, Note(f"goes on to {at_port(now[2], now[3])}"))
            if was[0] != now[0]:
                notes = (*notes, Note(f"goes on as from {now[0]}"))
        if number == 0:
            boxes[0] = first.but(notes=(*first.notes, *notes), onward=hop.network)
            continue
        boxes.append(Box("device", hop.label, at_port(hop.before[2], hop.before[3]), notes, hop.network))
    rest = decisions[done:]
    if hops and rest:
        after = hops[-1].after
        boxes.append(Box("device", _decider(connection, rest), at_port(after[2], after[3]), _notes(rest, stop)))
    if not hops and decisions:
        boxes[0] = first.but(
            notes=(*first.notes, *_notes([each for each in decisions if each.stops or each is stop], stop))
        )
    return boxes


def _decider(connection: Connection, decisions: list[Decision]) -> str:
    """The box that decided last, where the packet is not seen to leave it."""
    if connection.reached is not None:
        return connection.reached.name
    named = [str(each.facts["box"]) for each in decisions if "box" in each.facts]
    return named[-1] if named else f"on the way to {connection.address}"


def _programs(exchange: Exchange, stop: Decision | None) -> Iterator[Box]:
    """The program at the end, with what it decides of handshake and request."""
    connection, handshake, response = exchange.connection, exchange.handshake, exchange.response
    arrival = connection.arrival if connection is not None else None
    if arrival is None or (handshake is None and response is None):
        return
    decisions = [*(handshake.decisions if handshake is not None else ())]
    decisions += response.decisions if response is not None else ()
    told = [each for each in decisions if each.shown or each.stops or each is stop]
    detail = f"port {arrival.port}{', encrypted' if handshake is not None else ''}"
    yield Box("program", arrival.service.name, detail, _notes(told, stop))


def _way_back(connection: Connection, stop: Decision | None) -> tuple[Box, ...] | None:
    """The answer's way, where it is another than the question's or ends badly; else nothing."""
    forth = [each.label for each in connection.hops if not each.answer]
    back = [each for each in connection.hops if each.answer]
    decisions = [each for each in connection.decisions if each.of_the_answer]
    broken = any(each is stop for each in decisions)
    if not back or ([each.label for each in back] == forth[::-1] and not broken):
        return None
    notes = _notes([each for each in decisions if each.shown or each.stops or each is stop], stop)
    boxes = [
        Box("device", each.label, f"to {at_port(each.before[2], each.before[3])}", (), each.network) for each in back
    ]
    boxes[-1] = boxes[-1].but(notes=notes)
    return tuple(boxes)
