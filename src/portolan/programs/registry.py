"""Which program a service follows."""

from portolan.estate.service import Resolver, StatedProgram, WebService
from portolan.programs.apache import APACHE
from portolan.programs.named import NAMED
from portolan.programs.nginx import NGINX
from portolan.programs.protocol import ResolverProgram, WebProgram
from portolan.programs.stated import StatedWays
from portolan.programs.unbound import UNBOUND

_WEB: dict[str, WebProgram] = {"nginx": NGINX, "apache": APACHE}

_RESOLVERS: dict[str, ResolverProgram] = {"unbound": UNBOUND, "named": NAMED}


def resolver_program(service: Resolver | None) -> ResolverProgram:
    """A resolver's program; Unbound where nothing is said, and for resolvers that nobody describes."""
    return _RESOLVERS[(service.program if service is not None else None) or "unbound"]


def web_program(service: WebService) -> WebProgram:
    """A web service's program; nginx where nothing is said."""
    if isinstance(service.program, StatedProgram):
        return StatedWays(service.program)
    return _WEB[service.program or "nginx"]
