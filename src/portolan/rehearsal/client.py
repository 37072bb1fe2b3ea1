"""What a client driver is: how a real client is asked, and what its words mean in ours."""

from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

from portolan.estate.vantage import Vantage
from portolan.rehearsal.plan import Probe


class Observed(NamedTuple):
    """What a real client got, in Portolan's words. `words` are the client's own.

    `details` lists every detail that the client's words can mean; empty when they say nothing finer than the kind.
    """

    kind: str
    details: tuple[str, ...]
    status: int | None
    page: str | None
    final_url: str | None
    words: str

    @property
    def detail(self) -> str | None:
        """The likeliest detail."""
        return self.details[0] if self.details else None


class Asking(NamedTuple):
    """A visitor's questions: the namespace, the file of trusted roots, what is mounted, files of a clock and of what it sends."""

    space: str
    urls: tuple[str, ...]
    vantage: Vantage
    trust: str
    mounts: list[list[str]]
    clock: str | None = None
    body: str | None = None


class Client(NamedTuple):
    """A client driver. `packages` maps programs to the Debian packages that have them.

    `probes` gives the probes for a visitor's questions; `observed` reads a probe's result, with one Observed a URL.
    """

    name: str
    packages: dict[str, str]
    probes: Callable[[Asking], list[Probe]]
    observed: Callable[[dict[str, Any]], Sequence[Observed]]
