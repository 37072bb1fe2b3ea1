"""A probe: each leg asked of the real thing with the estate's answer beside it, to the end that a visitor meets."""

import time
from collections.abc import Callable

from portolan.estate.base import IPAddress, is_made_up
from portolan.estate.url import BadUrlError, Url, join
from portolan.evidence.legs import Exchange
from portolan.evidence.outcome import DETAILS, Detail, Kind
from portolan.journey.visit import Visit
from portolan.observing.observation import Seen, kind_of
from portolan.probing.asks import Answered, Connected, Named, Shown, connect, look_up, request, shake
from portolan.probing.plan import MOST_ADDRESSES, MOST_REDIRECTS, WHOLE_LIMIT, Known, Plan, Server
from portolan.source.value import Value

_REDIRECTS = frozenset((301, 302, 303, 307, 308))


class Asked(Value, frozen=True):
    """One exchange: what each leg showed."""

    url: Url
    named: tuple[Named, ...] = ()
    connected: tuple[Connected, ...] = ()
    shown: tuple[Shown, ...] = ()
    answered: Answered | None = None
    #: Why it was not asked, where it was not.
    left: str = ""


class Probed(Value, frozen=True):
    """What was asked, and how it ended, as somebody saw it."""

    asked: tuple[Asked, ...]
    seen: Seen
    seconds: float


class Asks(Value, frozen=True):
    """How each leg is asked; the real ones, or others in a test."""

    name: Callable[[Server, str], Named] = look_up
    connection: Callable[[IPAddress, int], Connected] = connect
    handshake: Callable[[Url, IPAddress], Shown] = shake
    page: Callable[[Url, IPAddress], Answered] = request


_REAL = Asks()


def probed(
    plan: Plan, knows: Known, others: bool, asks: Asks = _REAL, told: Callable[[str], None] = lambda _: None
) -> Probed:
    """Asks leg by leg, and follows redirects to hosts that the estate speaks of."""
    start = time.monotonic()
    held: list[Asked] = []
    url, fixed, servers = plan.url, plan.addresses, plan.servers
    while True:
        told(str(url))
        one, ended = _exchange(url, servers, fixed, asks)
        held.append(one)
        if ended is None and one.answered is not None:
            late = time.monotonic() - start > WHOLE_LIMIT
            following, ended = _goes_on(held, url, one.answered, knows, others, late)
        if ended is not None:
            break
        servers, fixed = _next_asked(plan, url, following, fixed)
        url = following
    asked = [each for each in held if not each.left]
    if len(held) > 1:
        ended = ended.but(final=str(asked[-1].url))
    return Probed(tuple(held), ended, round(time.monotonic() - start, 3))


def _goes_on(
    held: list[Asked], url: Url, answered: Answered, knows: Known, others: bool, late: bool
) -> tuple[Url, Seen | None]:
    """Where an answer leads on to; or how it ends there."""
    assert answered.status is not None
    if answered.status not in _REDIRECTS or answered.location is None:
        return url, _ending(kind_of(answered.status), None, answered.status, str(answered.status))
    try:
        following = join(url, answered.location)
    except BadUrlError:
        return url, _ending(Kind.REDIRECT_ERROR, Detail.BAD_TARGET, None, "a redirect that leads nowhere")
    again = any(str(each.url) == str(following) for each in held)
    if again or len(held) > MOST_REDIRECTS:
        detail = Detail.LOOP if again else Detail.TOO_MANY
        return url, _ending(Kind.REDIRECT_ERROR, detail, None, "redirects without end")
    stranger = not others and not knows.speaks_of(following)
    if stranger or late:
        why = (
            "no line of the estate names it; --other-hosts asks it, too"
            if stranger
            else f"{WHOLE_LIMIT:.0f} s are over"
        )
        held.append(Asked(following, left=why))
        return url, Seen(f"{answered.status} to {following}", frozenset(), answered.status)
    return following, None


def _next_asked(
    plan: Plan, url: Url, following: Url, fixed: tuple[IPAddress, ...]
) -> tuple[tuple[Server, ...], tuple[IPAddress, ...]]:
    """Whom to ask for the next name: this machine; the same address where the name stays, or the one that is written."""
    if following.literal is not None:
        return (), (following.literal,)
    if fixed and following.host == url.host:
        return (), fixed
    return tuple(each for each in plan.servers if each.address is None) or (Server("this machine", None),), ()


def _ending(kind: Kind, detail: Detail | None, status: int | None, words: str) -> Seen:
    return Seen(words, frozenset({(kind, detail)}), status)


def _exchange(
    url: Url, servers: tuple[Server, ...], fixed: tuple[IPAddress, ...], asks: Asks
) -> tuple[Asked, Seen | None]:
    """One exchange, and how it ended where it did not come to a response."""
    one = Asked(url, tuple(asks.name(each, url.host.rstrip(".")) for each in servers))
    own = next((each for each in one.named if each.server.address is None), None)
    addresses = fixed or (own.addresses if own is not None else ())
    if not addresses:
        detail = own.detail if own is not None else Detail.NO_SUCH_NAME
        if detail is Detail.RESOLVER_TIMEOUT:
            # A resolver that fails, and one that is silent, are one to who asks the system (getaddrinfo(3), EAI_AGAIN).
            fails = (Detail.RESOLVER_TIMEOUT, Detail.RESOLVER_FAILURE, Detail.REFUSED)
            return one, Seen("resolver fails", frozenset((Kind.NAME_ERROR, each) for each in fails))
        return one, _ending(Kind.NAME_ERROR, detail, None, (detail or "no address").replace("-", " "))
    one = one.but(connected=tuple(asks.connection(each, url.port) for each in addresses[:MOST_ADDRESSES]))
    reached = [each for each in one.connected if each.detail is None]
    if not reached:
        detail = one.connected[-1].detail
        return one, _ending(Kind.CONNECT_ERROR, detail, None, (detail or "").replace("-", " "))
    if url.secure:
        one = one.but(shown=tuple(asks.handshake(url, each.address) for each in reached[:MOST_ADDRESSES]))
        first = one.shown[0]
        if first.detail is not None:
            return one, _of_handshake(first)
    answered = asks.page(url, reached[0].address)
    one = one.but(answered=answered)
    if answered.status is None:
        detail = answered.detail
        kind = Kind.CONNECT_ERROR if detail in DETAILS[Kind.CONNECT_ERROR] else Kind.PROTOCOL_ERROR
        return one, _ending(kind, detail, None, (detail or "").replace("-", " "))
    return one, None


def _of_handshake(shown: Shown) -> Seen:
    detail = shown.detail
    words = (detail or "").replace("-", " ")
    if detail in DETAILS[Kind.CONNECT_ERROR]:
        return _ending(Kind.CONNECT_ERROR, detail, None, words)
    if detail is Detail.UNKNOWN_ISSUER:
        # A missing intermediate and an unknown root sound the same.
        both = frozenset((Kind.TLS_ERROR, each) for each in (Detail.UNKNOWN_ISSUER, Detail.INCOMPLETE_CHAIN))
        return Seen(words, both)
    return _ending(Kind.TLS_ERROR, detail, None, words)


# -- beside the estate -------------------------------------------------------------------------------------------------


class Beside(Value, frozen=True):
    """One leg of an exchange: what the estate says, what is seen, and whether they are the same; None where it is not compared."""

    leg: str
    what: str
    says: str
    seen: str
    same: bool | None


def beside(found: Probed, predicted: Visit) -> tuple[tuple[Beside, ...], ...]:
    """Each exchange leg by leg, what is seen beside what the estate says."""
    return tuple(
        tuple(_legs(one, predicted.exchanges[number] if number < len(predicted.exchanges) else None))
        for number, one in enumerate(found.asked)
    )


def _legs(one: Asked, said: Exchange | None) -> list[Beside]:
    if said is not None and str(said.url) != str(one.url):
        said = None
    rows = [_name(each, said) for each in one.named]
    rows += [_connection(each, said) for each in one.connected]
    rows += [_handshake(each, said) for each in one.shown]
    return [*rows, *([_answer(one.url, one.answered, said)] if one.answered is not None else [])]


def _handshake(each: Shown, said: Exchange | None) -> Beside:
    fits = "a certificate that fits"
    chain = f", {len(each.chain)} in the chain" if each.chain else ""
    seen = _words(each.detail, fits) + (f" ({each.version}{chain})" if each.version else "")
    seen += f": {each.words}" if each.words else ""
    if said is None or said.handshake is None:
        return Beside("tls", str(each.address), "nothing of it", seen, None)
    alike = _same_handshake(each.detail, said.handshake.detail)
    return Beside("tls", str(each.address), _words(said.handshake.detail, fits), seen, alike)


def _answer(url: Url, answered: Answered, said: Exchange | None) -> Beside:
    response = said.response if said is not None else None
    seen = f"status {answered.status}" if answered.status is not None else _words(answered.detail, "")
    seen += f" to {answered.location}" if answered.location else ""
    seen += f", from {answered.server}" if answered.server else ""
    if response is None:
        return Beside("http", str(url), "nothing of it", seen, None)
    return Beside("http", str(url), f"status {response.status}", seen, answered.status == response.status)


def _name(each: Named, said: Exchange | None) -> Beside:
    seen = ", ".join(map(str, each.addresses)) if each.addresses else _words(each.detail, "")
    seen += f" ({each.words})" if each.words and not each.addresses else ""
    who = each.server.name + (f" ({each.server.address})" if each.server.address is not None else "")
    if said is None:
        return Beside("name", who, "nothing of it", seen, None)
    resolution = said.resolution
    says = ", ".join(map(str, resolution.addresses)) if resolution.addresses else _words(resolution.detail, "")
    made_up = any(map(is_made_up, resolution.addresses))
    same: bool | None = frozenset(each.addresses) == frozenset(resolution.addresses) and bool(each.addresses) == bool(
        resolution.addresses
    )
    if made_up:
        says, same = "an address of its provider's", None if each.addresses else False
    # What the estate says is what its visitor's resolver answers: others may know another view.
    return Beside("name", who, says, seen, same if each.server.address is None or same else None)


def _connection(each: Connected, said: Exchange | None) -> Beside:
    attempt = next((one for one in said.attempts if one.address == each.address), None) if said is not None else None
    seen = f"{_words(each.detail, 'open')} after {each.seconds:.3g} s"
    says = _words(attempt.detail, "open") if attempt is not None else "nothing of it"
    return Beside(
        "connect",
        f"{each.address} port {each.port}",
        says,
        seen,
        None if attempt is None else attempt.detail == each.detail,
    )


def _same_handshake(seen: Detail | None, said: Detail | None) -> bool:
    alike = {Detail.UNKNOWN_ISSUER, Detail.INCOMPLETE_CHAIN}
    return seen == said or (seen in alike and said in alike)


def _words(detail: Detail | None, well: str) -> str:
    return well if detail is None else detail.replace("-", " ")
