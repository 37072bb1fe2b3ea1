"""Who is let in, by address and by password; how much may be brought along; which methods are taken."""

from collections.abc import Iterable
from ipaddress import ip_address

import msgspec

from portolan.estate.base import IPAddress
from portolan.estate.service import Service, WebService
from portolan.estate.site import Access, Believed, Site
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import content as content_kinds
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.legs import Response
from portolan.evidence.request import Request
from portolan.http.sections import Effective
from portolan.programs.protocol import WebProgram
from portolan.source.value import Value


class Refusal(Value, frozen=True):
    """A status and the decision that gives it."""

    status: int
    decision: Decision


def path_refused(
    site: Site | WebService, status: int, decisions: Iterable[Decision], request: Request, service: Service
) -> Response:
    """A path that the program does not take."""
    step = http_kinds.PathRefused(service.name, request.url.path, place=service.place, subject=service)
    return Response(status, (*decisions, step), site, stop=step)


def refused(here: Effective, request: Request, program: WebProgram) -> Refusal | None:
    """Why a request is turned away (RFC 9110 sections 15.5.2, 15.5.4), or None.

    Both programs: 403 for an address that is not let in, 401 without the password; where either is enough, the password alone.
    """
    access, site = here.access, here.site
    if access is not None:
        source = request.source
        outside = access.nobody or access.keeps_out(source)
        unknown = access.password and not request.saying.password
        wrong = access.password_file if request.saying.password else None
        if wrong is not None and access.password and not (access.either and not outside):
            facts_of_it = (site.name, wrong)
            unread = content_kinds.PasswordsUnread(
                *facts_of_it, place=access.place.key("password_file"), subject=access
            )
            return Refusal(program.password_file[wrong], unread)
        if _password_is_enough(access):
            outside, unknown = False, outside and unknown
        lacking = [str(name) for name, value in access.headers.items() if request.saying.header(name) != value]
        if lacking:
            facts = (site.name, ", ".join(lacking))
            wanted = content_kinds.HeaderWanted(*facts, place=access.place.key("headers"), subject=access)
            return Refusal(403, wanted)
        if outside:
            return Refusal(403, content_kinds.AccessDenied(site.name, source, place=access.place, subject=access))
        if unknown:
            return Refusal(
                401, content_kinds.PasswordWanted(site.name, place=access.place.key("password"), subject=access)
            )
    return None


def believed_source(
    service: WebService, site: Site, request: Request, program: WebProgram
) -> tuple[IPAddress, Decision] | None:
    """The address that a program takes for the visitor's, where whoever asks is believed to say it (RFC 7239 section 5.2)."""
    believed = site.believes_address or service.believes_address
    if believed is None or request.source is None or not _known(request.source, believed):
        return None
    source = request.source
    for text in reversed([each.strip() for each in request.saying.header(believed.header).split(",")]):
        try:
            said = ip_address(text.strip("[]"))
        except ValueError:
            break
        source = said
        if not (believed.passes_over or program.passes_over_known) or not _known(said, believed):
            break
    if source == request.source:
        return None
    facts = (service.name, request.source, source, str(believed.header))
    return source, http_kinds.AddressBelieved(*facts, place=believed.place, subject=believed)


def _known(source: IPAddress, believed: Believed) -> bool:
    return any(source in each for each in believed.sources)


def method_refused(here: Effective, request: Request, program: WebProgram) -> Refusal | None:
    """Whether a method is not among those that are taken (RFC 9110 section 15.5.6)."""
    method = request.saying.method
    if not here.methods or method in here.methods or (method == "HEAD" and "GET" in here.methods):
        return None
    place = here.methods_from.place.key("methods")
    decision = content_kinds.MethodRefused(here.site.name, method, place=place, subject=here.methods_from)
    return Refusal(program.method_not_allowed, decision)


def too_large(here: Effective, request: Request, program: WebProgram) -> Refusal | None:
    """Whether a request brings more along than is taken (RFC 9110 section 15.5.14)."""
    most = here.largest_body if here.largest_body is not None else program.largest_body
    if most is None or request.saying.body <= most:
        return None
    site: Site = here.site
    decision = http_kinds.BodyTooLarge(
        request.saying.body, site.name, most, place=site.place.key("largest_body"), subject=site
    )
    return Refusal(413, decision)


def unfit(service: WebService, request: Request, program: WebProgram) -> Refusal | None:
    """What a program turns away before it looks for a site: host names that are none, header lines that are too long."""
    said = request.said
    # RFC 9112 section 3.2: HTTP/1.1 needs one; earlier versions do not.
    old = request.saying.version == "1.0"
    if (said is None and not old) or (
        said is not None and not program.takes_host(said) and not (old and not said and program.takes_old_empty)
    ):
        refusal = http_kinds.HostRefused(service.name, said or "", place=service.place, subject=service)
        return Refusal(400, refusal)
    for name, value in request.saying.headers:
        length = len(name) + len(value) + 2
        if length > program.longest_header:
            most = program.longest_header
            long = http_kinds.HeaderTooLong(length, service.name, most, place=service.place, subject=service)
            return Refusal(400, long)
    return None


def by_password(here: Effective) -> Access | None:
    """The rule that lets in whoever knows the password, where that is enough by itself."""
    access = here.access
    if access is None or not _password_is_enough(access):
        return None
    return msgspec.structs.replace(access, nobody=True)


def _password_is_enough(access: Access) -> bool:
    """Whether the password lets in whom the addresses keep out; without a rule on addresses there is nothing to choose."""
    return access.either and access.password and bool(access.nobody or access.sources or access.not_sources)
