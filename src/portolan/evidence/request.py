"""What a program sees of a request."""

import re

from portolan.estate.base import IPAddress
from portolan.estate.client import Saying
from portolan.estate.url import DEFAULT_PORTS, Url
from portolan.source.value import Value

_PORT = re.compile(r"^(?P<name>\[[^\]]*\]|[^:]*)(?::(?P<port>[0-9]*)|$)")


class Request(Value, frozen=True):
    """A request: the URL as the client has it, whether the connection is encrypted, what is said with it, and who asks.

    `said` is the host name as it was sent (None: not at all), `host` the one that counts: without port and final dot, in
    lower case; `port` the one that the client named. `server_name` is what the handshake was for, if it said.
    """

    url: Url
    encrypted: bool
    saying: Saying = Saying()
    source: IPAddress | None = None
    said: str | None = ""
    host: str = ""
    port: int = 0
    server_name: str | None = None

    @property
    def scheme(self) -> str:
        """The scheme that the connection tells."""
        return "https" if self.encrypted else "http"

    @property
    def for_itself(self) -> "Request":
        """The same, as a program asks itself for a page that stands for an error."""
        return self.but(saying=self.saying.but(method="GET", body=0))

    @property
    def shown_host(self) -> str:
        """The host name as it stands in addresses."""
        return self.host


def request_of(url: Url, encrypted: bool, saying: Saying, source: IPAddress | None, server_name: str | None) -> Request:
    """A request for a URL (RFC 9110 section 7.2: the host is the URL's, unless the client says another)."""
    if saying.without_host:
        return Request(url, encrypted, saying, source, None, "", url.port, server_name)
    if saying.host is None:
        return Request(url, encrypted, saying, source, _own(url), url.shown_host.rstrip("."), url.port, server_name)
    match = _PORT.match(saying.host)
    name = (match["name"] if match else saying.host).lower().rstrip(".")
    port = int(match["port"]) if match and match["port"] and len(match["port"]) < 6 else DEFAULT_PORTS[url.scheme]
    return Request(url, encrypted, saying, source, saying.host, name, port, server_name)


def as_asked(request: Request, url: Url) -> Request:
    """The request of whoever asked for another address of the same path: by its scheme and host name."""
    at = request.url.but(scheme=url.scheme, host=url.host, port=url.port, literal=url.literal)
    return request.but(url=at, encrypted=url.secure, said=_own(at), host=at.shown_host.rstrip("."), port=at.port)


def _own(url: Url) -> str:
    return url.shown_host if url.port == DEFAULT_PORTS[url.scheme] else f"{url.shown_host}:{url.port}"
