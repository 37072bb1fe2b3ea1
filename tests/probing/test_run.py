"""What a probe makes of what it is told, and where it stops; the real questions are asked in conformance.probing."""

from ipaddress import ip_address

import pytest

from portolan.estate.url import parse
from portolan.evidence.outcome import Detail, Kind
from portolan.probing.asks import Answered, Connected, Named, Shown
from portolan.probing.plan import StrangerError, hosts_of, planned
from portolan.probing.run import Asks, probed
from tests.conftest import OFFICE, loaded

VISIT = "https://visit.kestrel-ridge.example/"
HERE = ip_address("203.0.113.40")


def asked(url, pages, *, others=False, names=(HERE,), connection=None, handshake=None):
    """A probe whose questions are answered from a table; and the URLs that were asked."""
    estate = loaded(OFFICE).estate
    knows, tried = hosts_of(estate), []

    def page(at, _address):
        tried.append(str(at))
        status, location = pages.get(str(at), (200, None))
        return Answered(status, location, None, None if status else Detail.EMPTY, 0.1)

    asks = Asks(
        lambda server, _host: Named(server, names, None if names else Detail.NO_SUCH_NAME),
        lambda address, port: Connected(address, port, connection, 0.1),
        lambda _url, address: Shown(address, handshake, "TLSv1.3", ("CN=x",), (), None),
        page,
    )
    plan = planned(estate, parse(url), knows, None, others)
    return probed(plan, knows, others, asks), tried


#: What a probe is told, and how it ends.
ENDS = [
    ({}, {"names": ()}, Kind.NAME_ERROR, Detail.NO_SUCH_NAME),
    ({}, {"connection": Detail.TIMED_OUT}, Kind.CONNECT_ERROR, Detail.TIMED_OUT),
    ({}, {"handshake": Detail.EXPIRED}, Kind.TLS_ERROR, Detail.EXPIRED),
    ({}, {"handshake": Detail.UNKNOWN_ISSUER}, Kind.TLS_ERROR, Detail.INCOMPLETE_CHAIN),
    ({VISIT: (200, None)}, {}, Kind.SERVED, None),
    ({VISIT: (404, None)}, {}, Kind.HTTP_ERROR, None),
    ({VISIT: (None, None)}, {}, Kind.PROTOCOL_ERROR, Detail.EMPTY),
    ({VISIT: (302, VISIT)}, {}, Kind.REDIRECT_ERROR, Detail.LOOP),
    ({VISIT: (302, "http://:x/")}, {}, Kind.REDIRECT_ERROR, Detail.BAD_TARGET),
    ({f"{VISIT}{'x' * n}": (302, f"{VISIT}{'x' * (n + 1)}") for n in range(20)}, {}, Kind.REDIRECT_ERROR, Detail.TOO_MANY),
]  # fmt: skip


@pytest.mark.parametrize(("pages", "told", "kind", "detail"), ENDS)
def test_how_it_ends(pages, told, kind, detail):
    """As a visitor would see it; twelve exchanges at most."""
    found, tried = asked(VISIT, pages, **told)
    assert (kind, detail) in found.seen.endings
    assert len(tried) <= 12


def test_who_is_not_named_is_not_asked():
    """Neither at first, nor where a redirect leads; unless that is wished."""
    with pytest.raises(StrangerError):
        asked("https://elsewhere.example/", {})
    pages = {VISIT: (302, "https://elsewhere.example/x")}
    found, tried = asked(VISIT, pages)
    assert tried == [VISIT]
    assert "no line of the estate names it" in found.asked[-1].left
    assert found.seen.status == 302
    _, tried = asked(VISIT, pages, others=True)
    assert tried == [VISIT, "https://elsewhere.example/x"]


def test_where_it_was_sent_on_to_is_part_of_what_is_seen():
    """To a name of the estate, or an address that it states."""
    found, tried = asked(VISIT, {VISIT: (301, "http://203.0.113.40/new")})
    assert tried == [VISIT, "http://203.0.113.40/new"]
    assert found.seen.final == "http://203.0.113.40/new"
    assert found.asked[1].named == ()
