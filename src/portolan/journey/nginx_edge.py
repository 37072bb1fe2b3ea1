"""Edges that are nginx with its cache: one server for every name, as nginx would be told."""

import msgspec

from portolan.edge.origin import server_of, typed
from portolan.estate.base import FolderPath, HeaderName, HostName, SiteName, Template
from portolan.estate.edge import EdgePart, EdgeService
from portolan.estate.service import WebService
from portolan.estate.site import Redirect, Section, Site, Upstream, When
from portolan.estate.url import BadUrlError, Url, parse
from portolan.programs.edges import ways_of


def as_web_service(edge: EdgeService) -> WebService:
    """nginx with one server that passes everything on to the origin and holds what it is given."""
    members = [_member(each) for each in edge.parts]
    failing = next((each for each in members if isinstance(each, str)), None)
    nobody = _nobody(edge)
    site = _site(
        edge, nobody is None, *(parse("http://localhost") if isinstance(each, str) else each for each in members)
    )
    # Without a certificate nginx does not start on a listener for TLS: nobody has one by leaving things out.
    usual = not edge.place.has("listens") and edge.certificate is None
    return WebService(
        place=edge.place,
        name=edge.name,
        state=edge.state,
        privileged=edge.privileged,
        listens=tuple(each for each in edge.listens if not (usual and each.tls)),
        failing=edge.failing or failing,
        program="nginx",
        certificate=edge.certificate,
        sites={each.name: each for each in (site, nobody) if each is not None},
        edge=edge,
    )


def _site(edge: EdgeService, alone: bool, member: Url, *members: Url) -> Site:
    """Its server; `alone`: it takes every name."""
    upstream = _upstream(edge, member)
    redirects: tuple[Redirect, ...] = ()
    if edge.plain == "to-secure":
        place = edge.place.key("plain")
        when, target = When(place=place, scheme="http"), Template("https://{host}{path}{query}")
        redirects = (Redirect(place=place, when=when, to=target, status=edge.plain_with),)
    sections: tuple[Section, ...] = ()
    if edge.index_file is not None and not any(part.path == "/" for part in edge.by_path):
        document = f"{member.path.rstrip('/')}/{edge.index_file.lstrip('/')}"
        asking = msgspec.structs.replace(upstream, to=(member.but(path=document),))
        place = edge.place.key("index_file")
        sections = (Section(place=place, exact=FolderPath("/"), upstream=asking),)
    sections += tuple(_section(edge, part, member) for part, member in zip(edge.by_path, members, strict=True))
    return Site(
        place=edge.place,
        name=edge.name,
        names=tuple(map(SiteName, edge.names)),
        default=alone,
        certificate=edge.certificate,
        access=edge.access,
        methods=edge.methods,
        redirects=redirects,
        sections=sections,
        upstream=upstream,
        error_pages=edge.error_pages,
        marks=edge.marks,
    )


def _section(edge: EdgeService, stated: EdgePart, member: Url) -> Section:
    """The location for a part of the edge."""
    here = edge.with_part(stated)
    whole = stated.path.endswith("*")
    return Section(
        place=stated.place,
        path=FolderPath(stated.path[:-1]) if whole else None,
        exact=None if whole else FolderPath(stated.path),
        methods=here.methods,
        upstream=_upstream(here, member),
    )


def _nobody(edge: EdgeService) -> Site | None:
    """The server that takes names which it was not told, where it says what they get; else the only one takes them."""
    rejects = edge.unknown_in_tls == "rejected"
    if not edge.names or not (rejects or edge.place.has("refuses_with")):
        return None
    place = edge.place.key("refuses_with" if edge.place.has("refuses_with") else "unknown_in_tls")
    return Site(
        place=place,
        name=f"{edge.name}, names of nobody",
        default=True,
        certificate=edge.certificate,
        rejects_handshake=rejects,
        sections=(Section(place=place, path=FolderPath("/"), answer=edge.refuses_with),),
    )


def _upstream(edge: EdgeService, member: Url) -> Upstream:
    origin, ways = edge.asks, ways_of(edge)
    headers = {} if ways.scheme_header is None else {HeaderName(ways.scheme_header): "{scheme}"}
    appends = {} if ways.address_header is None else {HeaderName(ways.address_header): "{client}"}
    return Upstream(
        place=origin.place,
        to=(member,),
        host=origin.host or "own",
        verifies=origin.leg == "verified",
        trusts=origin.trusts,
        server_name=ways.says_name if isinstance(ways.says_name, bool) else HostName(ways.says_name),
        headers={**headers, **origin.sends},
        appends=appends,
        upgrades=ways.upgrades,
        replaces_errors=bool(edge.error_pages),
        answer_within=origin.answer_within,
    )


def _member(edge: EdgeService) -> Url | str:
    """The upstream that nginx is told; why its configuration does not load, where it does not."""
    origin = edge.asks
    parts = typed(origin)
    if parts.scheme is not None:
        scheme = "https" if origin.secure else "http"
        return f"its upstream {scheme}://{origin.at} has a scheme in its name"
    try:
        url = server_of(origin, parts.name)
    except BadUrlError as error:
        return f"its upstream {origin.at}: {error}"
    return url.but(path=parts.path + origin.prefix, query="")
