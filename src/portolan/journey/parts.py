"""The parts of a page: what a visitor's browser asks for next, and which of it does not come (HTML Living Standard section 4.2.4).

The page itself came, with 200; without its style, scripts or images it looks broken.
"""

from portolan.estate.content import PagePart
from portolan.estate.site import Site
from portolan.estate.store import Bucket
from portolan.estate.url import BadUrlError, join, parse
from portolan.evidence.outcome import Kind
from portolan.journey.visit import Visit, visit
from portolan.journey.world import World
from portolan.source.value import Value

#: So many parts of a page are asked for.
_MOST = 60


class Part(Value, frozen=True):
    """A part that does not come: where the page says it, the address asked for, and what came instead.

    `plain` says that a browser does not ask, since the page is secure and the part's address is not (W3C Mixed Content, section 5).
    """

    page: str
    stated: PagePart
    url: str
    visit: Visit
    plain: bool = False


def lacking(world: World, found: Visit) -> tuple[Part, ...]:
    """The parts of the page that a visit ended at which do not come; of hosts that the estate does not know, nothing is said."""
    response = found.exchanges[-1].innermost.response if found.exchanges else None
    outcome = found.outcome
    if response is None or outcome.kind is not Kind.SERVED or outcome.page is None:
        return ()
    giver = response.site
    stated = giver.page_parts if isinstance(giver, Site | Bucket) else ()
    name = outcome.page.partition("/")[2]
    there = [each for each in stated if each.page.lstrip("/") == name]
    asked = (_asked(world, found, each) for each in there[:_MOST])
    return tuple(each for each in asked if each is not None)


def _asked(world: World, found: Visit, stated: PagePart) -> Part | None:
    """A part, asked for; None where it comes, or nothing is known of it."""
    base = parse(found.outcome.final_url or found.url)
    try:
        url = join(base, stated.reference.strip(), "chromium")
    except BadUrlError:
        return None  # data:, blob: and the like are within the page, or nowhere
    there = visit(world, str(url), found.vantage)
    plain = base.secure and not url.secure
    if there.outcome.kind is Kind.SERVED and not plain:
        return None
    if there.outcome.kind is not Kind.SERVED and there.stop is not None and there.stop.assumed:
        return None
    return Part(found.outcome.page or "", stated, str(url), there, plain)
