"""What becomes of content and handshakes that are larger than the packets which arrive."""

from collections.abc import Iterator

from portolan.estate.certificate import Certificate
from portolan.estate.content import Holding
from portolan.estate.machine import Machine
from portolan.estate.site import Site
from portolan.estate.store import Bucket
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import sizes as size_kinds
from portolan.evidence.legs import Connection, Exchange, Fits, Response
from portolan.evidence.outcome import Detail

#: What a server says first in a handshake beside its certificates (RFC 8446 section 4), and how long one is: octets, at least
#: and mostly.
_HELLO = (250, 1400)
_ONE = (400, 1300)


def with_size(response: Response, inner: tuple[Exchange, ...], fits: Fits | None, machine: Machine) -> Response:
    """A response with what is known of its size, as it arrives: one that is too large for the way does not."""
    if response.page is None or not 200 <= response.status < 300:
        return response
    passed = [each.response for each in inner if each.response is not None and each.response.page == response.page]
    large = passed[-1].large if passed else None
    if large is None:
        large = _stated(response, machine)
    response = response.but(large=large) if large is not None else response
    if fits is None or large is False:
        return response
    page = str(response.page)
    if large:
        stop = _stalls(page, fits)
        return response.but(
            status=0, page=None, protocol=Detail.STALLED, stop=stop, decisions=(*response.decisions, stop)
        )
    return response.but(decisions=(*response.decisions, _unsaid(page, fits)))


def _stalls(what: str, fits: Fits) -> Decision:
    """That something is larger than what arrives."""
    return size_kinds.LargeStalls(
        what, fits.stop.text, place=fits.stop.place, subject=fits.stop.subject, beside=(fits.stop,)
    )


def _unsaid(what: str, fits: Fits) -> Decision:
    """That nothing says whether something is."""
    return size_kinds.LargeUnsaid(what, fits.octets, fits.stop.text, place=fits.stop.place, subject=fits.stop.subject)


def _stated(response: Response, machine: Machine) -> bool | None:
    """What the estate says of a page's size: where it lies."""
    said: bool | None = None
    path = (response.page or "").partition("/")[2]
    for holder in _holders(response, machine):
        if holder.large is True:
            return True
        if isinstance(holder.large, tuple):
            if any(path == each or path.endswith(f"/{each}") or each.endswith(f"/{path}") for each in holder.large):
                return True
            said = False
        elif holder.large is False:
            said = False
    return said


def _holders(response: Response, machine: Machine) -> Iterator[Holding | Bucket]:
    if isinstance(response.site, Bucket):
        yield response.site
    elif isinstance(response.site, Site):
        yield response.site
        yield from response.site.sections
        yield from machine.folders.values()


def handshake_stalls(connection: Connection, certificate: Certificate | None) -> tuple[Connection, Decision | None]:
    """The connection as it is where the server's first words in a handshake are larger than what arrives; or what is assumed."""
    fits = connection.fits
    if fits is None or certificate is None:
        return connection, None
    least, most = _first_words(certificate)
    if fits.octets >= most:
        return connection, None
    what = f"what the server says in the handshake, with the certificate {certificate.name},"
    if fits.octets < least or certificate.issuer not in (None, "self"):
        stop = _stalls(what, fits)
        stalled = connection.but(
            detail=Detail.STALLED, arrival=None, stop=stop, decisions=(*connection.decisions, stop)
        )
        return stalled, None
    return connection, _unsaid(what, fits)


def _first_words(certificate: Certificate) -> tuple[int, int]:
    """How many octets they have, at least and at most: by the file where there is one."""
    if certificate.pem:
        size = sum(map(len, certificate.pem))
        return size + _HELLO[0], size + _HELLO[1]
    several = 2 if certificate.sends_chain and certificate.issuer not in (None, "self") else 1
    return _HELLO[0] + several * _ONE[0], _HELLO[1] + several * _ONE[1]
