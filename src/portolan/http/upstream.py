"""A site that passes everything on to one upstream: what its client gets of the inner exchange."""

from portolan.estate.service import Site
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Exchange, Response
from portolan.evidence.outcome import Detail
from portolan.programs.protocol import Passing, WebProgram


def passed_on(site: Site, inner: Exchange, program: WebProgram, own: str, decisions: tuple[Decision, ...]) -> Response:
    """The response that a program makes of what its upstream gave; `own` is its own address, up to the path."""
    passing, got = program.passing, inner.response
    if got is None:
        status = _status(passing, inner)
        stop = http_kinds.UpstreamFails(
            site.name, str(site.upstream), status, place=site.place.key("upstream"), subject=inner.stop
        )
        return Response(status, (*decisions, stop), site, stop=stop)
    if got.protocol is not None:
        garbled = http_kinds.UpstreamGarbled(
            site.name, str(site.upstream), place=site.place.key("upstream"), subject=inner.stop
        )
        if passing.garbled is None:
            return Response(0, (*decisions, garbled), site, protocol=got.protocol, stop=garbled)
        return Response(passing.garbled, (*decisions, garbled), site)
    location = got.location
    if location is not None:
        start = f"{site.upstream}/"
        if passing.turns_redirects and location.startswith(start):
            # Only exactly as written: scheme, name and port (measured).
            location = own + location[len(start) :]
            turned = http_kinds.RedirectTurned(site.name, location, place=site.place.key("upstream"), subject=site)
            decisions = (*decisions, turned)
        else:
            decisions = (*decisions, http_kinds.RedirectPassed(site.name, location, place=got.decisions[-1].place))
    return Response(got.status, decisions, site, got.page, location, stop=got.stop)


def _status(passing: Passing, inner: Exchange) -> int:
    """The status for an upstream that gave no response."""
    if inner.resolution.detail is not None:
        return passing.unknown_name or passing.refused
    if inner.handshake is not None and inner.handshake.detail is not None:
        return passing.tls
    return {
        Detail.REFUSED: passing.refused,
        Detail.RESET: passing.refused,
        Detail.UNREACHABLE: passing.unreachable,
        Detail.TIMED_OUT: passing.timed_out,
        Detail.STALLED: passing.stalled,
        Detail.CUT_OFF: passing.cut_off,
    }[inner.detail or Detail.REFUSED]
