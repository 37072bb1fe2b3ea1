"""What a visitor remembers of earlier visits: permanent redirects, and names that are asked securely only."""

from portolan.estate.url import Url, parse
from portolan.estate.vantage import Vantage
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Resolution

#: Top-level domains that browsers ask securely only, as they come (measured with Chromium, over all that there are; those of single
#: firms aside, under which nobody else has names).
_SECURE_ONLY = frozenset(
    [
        "app",
        "bank",
        "boo",
        "channel",
        "dad",
        "day",
        "dev",
        "eat",
        "esq",
        "fly",
        "foo",
        "ing",
        "insurance",
        "meet",
        "meme",
        "mov",
        "new",
        "page",
        "phd",
        "prof",
        "rsvp",
        "search",
        "zip",
    ]
)
#: Methods whose redirects clients keep (RFC 9111 section 4).
_KEPT = ("GET", "HEAD")


def recalled(vantage: Vantage, url: Url, method: str) -> tuple[Resolution, Url] | None:
    """Where a visitor goes instead of a URL without asking anybody, and the decision; None where it asks.

    Names asked securely only come before any packet (RFC 6797 section 8.3); addresses are never among them.
    """
    port = 443 if url.port == 80 else url.port
    host = url.host.rstrip(".")
    last = host.rpartition(".")[2]
    if last in _SECURE_ONLY and vantage.like == "chromium" and not url.secure:
        known = http_kinds.SecureOnly(vantage.name, last, place=vantage.place.key("like"), subject=vantage)
        return Resolution(url.host, (), None, (known,)), url.but(scheme="https", port=port)
    if vantage.strict and not url.secure and url.literal is None:
        name = next((each for each in vantage.strict if _known(each, host)), None)
        if name is not None:
            place = vantage.place.key("strict")
            step = http_kinds.StrictRemembered(vantage.name, host, name, place=place, subject=vantage)
            return Resolution(url.host, (), None, (step,)), url.but(scheme="https", port=port)
    if vantage.remembers_redirects and method in _KEPT:
        for text, target in vantage.remembers_redirects.items():
            if parse(text) == url:
                place = vantage.place.key("remembers_redirects")
                kept = http_kinds.RedirectRemembered(vantage.name, str(url), target, place=place, subject=vantage)
                return Resolution(url.host, (), None, (kept,)), parse(target)
    return None


def _known(name: str, host: str) -> bool:
    """RFC 6797 section 8.2: the name itself, or one below a name that includes its subdomains."""
    return host == name[1:] or host.endswith(name) if name.startswith(".") else host == name
