"""Which program a service follows."""

from portolan.estate.service import StatedProgram, WebService
from portolan.programs.apache import APACHE
from portolan.programs.nginx import NGINX
from portolan.programs.protocol import WebProgram
from portolan.programs.stated import StatedWays

_WEB: dict[str, WebProgram] = {"nginx": NGINX, "apache": APACHE}


def web_program(service: WebService) -> WebProgram:
    """A web service's program; nginx where nothing is said."""
    if isinstance(service.program, StatedProgram):
        return StatedWays(service.program)
    return _WEB[service.program or "nginx"]
