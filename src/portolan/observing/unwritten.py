"""Beliefs that nobody wrote: what may stand between the estate and what is seen, although no line of it speaks of that."""

from collections.abc import Iterator

from portolan.diagnosis.proposal import append, put
from portolan.estate.estate import Estate
from portolan.estate.guesses import machines
from portolan.estate.places import INTERNET
from portolan.estate.site import Site
from portolan.estate.slips import Known
from portolan.estate.url import Url
from portolan.estate.vantage import Vantage
from portolan.evidence.outcome import Detail, Kind
from portolan.observing.observation import Seen, kind_of
from portolan.observing.ways import Way
from portolan.source.value import Value

#: What nobody wrote is rarer than that what was written is wrong; a provider's block is the commonest of it.
_BLOCKED, _LEFT_OVER, _SENT_ON, _MOST_LED = 1.3, 2.7, 1.6, 8


class Unwritten(Value, frozen=True):
    """Something of which the estate has no word, that gives what is seen: what it would be, and how to find out."""

    text: str
    find_out: str


def _answers(site: Site, url: Url, seen: tuple[Seen, ...]) -> Iterator[Way]:
    """The site that answers has another answer: an error whatever is asked, or it sends on."""
    for each in seen:
        if each.status is not None and kind_of(each.status) is Kind.HTTP_ERROR and not site.place.has("answer"):
            yield Way(
                site.place,
                put(site.place, "answer", each.status),
                f"it answers {each.status} whatever is asked",
                _SENT_ON,
            )
        if each.final:
            patch = append(site.place, "redirects", {"to": each.final}, 0)
            yield Way(site.place, patch, f"it sends on to {each.final}", _BLOCKED)
    other = {"http": "https", "https": "http"}[url.scheme]
    for to, words in (
        (str(url), "it sends on to itself"),
        (f"{other}://{{host}}{{path}}{{query}}", f"it sends on to {other}"),
        (f"{url.scheme}://nowhere.invalid/", "it sends on to a name that nobody has"),
    ):
        yield Way(site.place, append(site.place, "redirects", {"to": to}, 0), words, _SENT_ON)


def unsaid(
    estate: Estate, url: Url, vantage: Vantage, about: Known, site: Site | None, seen: tuple[Seen, ...]
) -> Iterator[Way]:
    """What nobody wrote and the estate could say: a port that the provider blocks, a line left in a hosts file."""
    for machine in machines(estate):
        for interface in machine.interfaces.values():
            network = estate.networks.get(interface.network)
            outside = network is not None and network.kind == "internet"
            if outside and not interface.place.has("provider_blocks"):
                patch = put(interface.place, "provider_blocks", [url.port])
                text = f"its provider lets nobody in at port {url.port}"
                yield Way(interface.place, patch, text, _BLOCKED)
    if site is not None:
        yield from _answers(site, url, seen)
    for certificate in estate.certificates.values():
        if certificate.issuer is None and not certificate.pem and not certificate.place.has("issuer"):
            yield Way(certificate.place, put(certificate.place, "issuer", "self"), "it is signed by itself", _BLOCKED)
    if url.literal is not None or not vantage.written or vantage.host is not None or vantage.name == INTERNET:
        return
    where = vantage.hosts_file
    for address in [*about.addresses][:_MOST_LED]:
        line = f"{address} {url.host.rstrip('.')}"
        patch = (
            append(where.place, "lines", line, 0)
            if where is not None and where.place.path
            else put(vantage.place, "hosts_file", {"lines": [line]})
        )
        yield Way(vantage.place, patch, f"a line in its hosts file leads the name to {address}", _LEFT_OVER)


def unknown(seen: list[Seen], url: Url, address: str | None, far: bool) -> list[Unwritten]:
    """What no line could say, that gives each of what is seen; `far` where the visitor asks over the internet."""
    found: list[Unwritten] = []
    kinds = {kind for each in seen for kind, _ in each.endings}
    details = {detail for each in seen for _, detail in each.endings}
    any_page = any(each.status is not None or Kind.SERVED in {kind for kind, _ in each.endings} for each in seen)
    where = f"{address}" if address is not None else f"the address of {url.host}"
    if Kind.CONNECT_ERROR in kinds:
        silent = Detail.TIMED_OUT in details
        found.append(
            Unwritten(
                f"a box in between that nobody described ({'a second router of the line, ' if far else ''}a firewall) "
                f"{'drops' if silent else 'refuses'} port {url.port}",
                f"ask {where} port {url.port} from one network nearer, and one nearer still, until it answers",
            )
        )
        found.append(
            Unwritten(
                "the visitor's machine has a second way out (another card, a tunnel) that the answer does not find back by",
                f"on the visitor's machine: ip route get {where}",
            )
        )
    led = bool(kinds & {Kind.NAME_ERROR, Kind.TLS_ERROR, Kind.CONNECT_ERROR}) or any_page
    if led and url.literal is None:
        found.append(
            Unwritten(
                f"the resolver still holds an older answer for {url.host}, or is not the one that is described",
                f"on the visitor's machine: getent ahosts {url.host}",
            )
        )
    if any_page or Kind.TLS_ERROR in kinds or Kind.PROTOCOL_ERROR in kinds or Kind.REDIRECT_ERROR in kinds:
        found.append(
            Unwritten(
                f"a stranger answers at {where}: the address is somebody else's by now, or a box in between answers in its place",
                f"compare the certificate and the Server field of the answer: curl -sv -o /dev/null {url}",
            )
        )
    if any(each.other or each.slow for each in seen) or any_page:
        found.append(
            Unwritten(
                "the visitor's browser, or a proxy on its way, keeps an older answer",
                "ask once with curl, or in a private window",
            )
        )
    return found
