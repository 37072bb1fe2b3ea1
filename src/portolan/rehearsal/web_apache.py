"""Apache httpd's configuration for a web server of the estate."""

import re
from collections.abc import Iterator

from portolan.estate.led import led_by_name
from portolan.estate.service import Listener, Service, WebService
from portolan.estate.site import Giving, Section, Site, Upstream
from portolan.estate.url import Url
from portolan.rehearsal import quoting
from portolan.rehearsal.web_apache_rules import access_lines, gives, late, request_pattern, rewrites, rule_file
from portolan.rehearsal.web_common import (
    UPSTREAM_LIMIT,
    Room,
    Staged,
    bound,
    bound_under,
    cache_fields,
    certificate_of,
    header_word,
    index_files_of,
    key_of,
    member_url,
    page_word,
    server_names,
)
from portolan.rehearsal.web_files import Room as WebRoom

_MODULES = (
    "remoteip",
    "vhost_alias",
    "mpm_event",
    "authn_core",
    "authn_file",
    "authz_core",
    "authz_host",
    "authz_user",
    "auth_basic",
    "allowmethods",
    "dir",
    "autoindex",
    "mime",
    "alias",
    "rewrite",
    "setenvif",
    "env",
    "headers",
    "ssl",
    "socache_shmcb",
    "proxy",
    "proxy_http",
    "proxy_fcgi",
    "slotmem_shm",
    "proxy_balancer",
    "lbmethod_byrequests",
)


def apache(staged: Staged) -> str:
    """The whole configuration."""
    folder, service = staged.folder, staged.service
    lines = [f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so" for name in _MODULES]
    lines += [
        quoting.HTTPD_DOLLAR,
        "ServerName localhost",
        f"ServerRoot {folder}",
        f"PidFile {folder}/pid",
        f"ErrorLog {folder}/log/error.log",
        f"Mutex file:{folder}/tmp",
        "StartServers 1",
        "ThreadsPerChild 16",
        "MaxRequestWorkers 16",
        "ServerLimit 1",
        "KeepAlive Off",
        f"ProxyTimeout {UPSTREAM_LIMIT}",
        f"DefaultRuntimeDir {folder}/tmp",
        "SSLSessionCache none",
        "TypesConfig /dev/null",
        "RewriteEngine on",
        "RewriteRule ^ - [R=404,L]",
        f'DocumentRoot "{folder}/tmp"',
        f"<Directory {folder}>",
        f"  Require all {'granted' if service.grants is None else 'denied'}",
        "  Options -Indexes +FollowSymLinks",
        "  AllowOverride None",
        "</Directory>",
    ]
    lines += [line for room in staged.rooms for line in _grants(staged, room)]
    lines += [
        f"Listen {_listen(listener)}{' https' if listener.tls and listener.port == 443 else ' http'}"
        for listener in service.listens
    ]
    for listener in service.listens:
        held = [room for room in staged.rooms if _bound(room.site, listener)]
        held.sort(key=lambda room: not _default(room.site, listener))
        for room in held:
            lines += _host(staged, room, listener)
    return "\n".join(lines) + "\n"


def _bound(site: Site | WebService, listener: Listener) -> bool:
    return isinstance(site, Service) or bound(site, listener) or bool(bound_under(site, listener))


def _default(site: Site | WebService, listener: Listener) -> bool:
    keys = {key_of(listener.address, listener.port), *(bound_under(site, listener) if isinstance(site, Site) else ())}
    return isinstance(site, Site) and (site.default or bool(keys & set(site.default_on)))


def _grants(staged: Staged, room: Room) -> Iterator[str]:
    for place in (room.base, *room.parts):
        for path in staged.service.grants or ():
            yield f"<Directory {quoting.httpd(place.at(path))}>\n  Require all granted\n</Directory>"


def _listen(listener: Listener) -> str:
    return str(listener.port) if listener.address is None else key_of(listener.address, listener.port)


def _host(staged: Staged, room: Room, listener: Listener) -> Iterator[str]:
    site, folder = room.site, staged.folder
    everywhere = listener.address is None or int(listener.address) == 0
    addresses = ["*" if everywhere else _listen(listener).rpartition(":")[0]]
    if isinstance(site, Site) and not bound(site, listener):
        addresses = [key.rpartition(":")[0] for key in bound_under(site, listener)]
    elif isinstance(site, Site):
        addresses += [key.rpartition(":")[0] for key in bound_under(site, listener)]
    yield f"<VirtualHost {' '.join(f'{each}:{listener.port}' for each in addresses)}>"
    names = [
        part for name in server_names(site) for part in ((name[1:], f"*{name}") if name.startswith(".") else (name,))
    ]
    first = next((name for name in names if name and "*" not in name), None)
    yield f"  ServerName {first or 'nobody.invalid'}"
    for name in names:
        if name and name != first:
            yield f"  ServerAlias {name}"
    if isinstance(site, Site) and site.redirects_to == "own-address" and first is None:
        raise quoting.UnstageableError("a site of httpd without a name of its own", site.name, site.place)
    if isinstance(site, Site) and site.redirects_to == "own-address":
        yield "  UseCanonicalName On"
    yield f"  {_root(room.base)}"
    believed = (site.believes_address if isinstance(site, Site) else None) or staged.service.believes_address
    if believed is not None:
        yield f"  RemoteIPHeader {header_word(believed.header, believed.place)}"
        yield f"  RemoteIPInternalProxy {' '.join(str(each) for each in believed.sources)}"
    if listener.tls:
        yield "  SSLEngine on"
        certificate = certificate_of(staged, site)
        if certificate is not None:
            yield f"  SSLCertificateFile {folder}/{certificate}.pem"
            yield f"  SSLCertificateKeyFile {folder}/{certificate}.key"
        versions = (site.tls_versions if isinstance(site, Site) else ()) or staged.service.tls_versions
        if versions:
            yield f"  SSLProtocol -all {' '.join(f'+TLSv{each}'.removesuffix('.0') for each in versions)}"
        if isinstance(site, Site) and site.client_certificates is not None and certificate is not None:
            asks = "require" if site.client_certificates == "required" else "optional"
            yield f"  SSLVerifyClient {asks}"
            yield f"  SSLCACertificateFile {folder}/{certificate}.pem"
    if isinstance(site, Site):
        yield from (f"  {line}" for line in _site(staged, site, room))
    yield "</VirtualHost>"


def _tries(site: Site, root: str) -> Iterator[str]:
    """What is looked for one after the other: conditions on what lies in the folder, as people write them beside it."""
    yield f"<Directory {quoting.httpd(root)}>"
    yield "RewriteEngine on"
    for each in site.tries:
        start, _, end = each.partition("{path}")
        if not re.fullmatch(r"[A-Za-z0-9_./-]*", start + end):
            raise quoting.UnstageableError("a path that is tried", each, site.place)
        there = f"{start}%{{REQUEST_URI}}{end}" if "{path}" in each else each
        kind = "-d" if each.endswith("/") else "-f"
        yield f'RewriteCond "%{{DOCUMENT_ROOT}}{there}" {kind}'
        given = f"{start}/$1{end}" if "{path}" in each else each
        yield 'RewriteRule "^" - [END]' if each in ("{path}", "{path}/") else f'RewriteRule "^(.*)$" "{given}" [END]'
    if site.fallback is not None:
        yield f'RewriteRule "^" {quoting.httpd("/" + site.fallback.lstrip("/"), site.place)} [END]'
    else:
        yield 'RewriteRule "^" - [R=404,END]'
    yield "</Directory>"


def _site(staged: Staged, site: Site, room: Room) -> Iterator[str]:
    yield from rewrites(site, room.base)
    yield from _error_pages(site)
    if site.largest_body is not None:
        yield f"LimitRequestBody {site.largest_body or 1}"
    for giving in (site, *site.sections):
        if giving.upstream is not None and (giving.tries or site.tries):
            raise quoting.UnstageableError(
                "files beside what httpd passes on", ", ".join(giving.tries or site.tries), giving.place
            )
    ruled = next((each for each in site.rule_files if each.redirects), None)
    if site.tries and ruled is not None and site.reads_rule_files:
        # Rules in a file take the place of those that are written for its folder.
        raise quoting.UnstageableError("files tried beside a file of rules", ruled.file_name, ruled.place)
    if site.tries:
        yield from _tries(site, room.base.fixed(site.place))
    elif site.fallback is not None:
        yield f"FallbackResource {quoting.httpd('/' + site.fallback.lstrip('/'), site.place)}"
    yield from _passed(staged, site, room)
    if not site.follows_links:
        yield f"<Directory {quoting.httpd(room.base.fixed(site.place))}>\n  Options -FollowSymLinks\n</Directory>"
    yield from _whole(staged, site, room)
    for file in site.rule_files:
        rule_file(staged, file, room.base)
    for section in site.sections:
        yield _opening(section)
        yield from (f"  {line}" for line in _facts(staged, section, merged=False))
        yield _closing(section)
    for rule in site.redirects:
        if rule.written_as == "redirect":
            yield late(rule)


def _root(base: WebRoom) -> str:
    """Where the content lies, or how the name leads there."""
    if not led_by_name(base.path):
        return f"DocumentRoot {quoting.httpd(base.root)}"
    words = re.sub(r"\{name\}", "%0", base.root.replace("%", "%%"))
    words = re.sub(r"\{label:(-?[1-9]\+?)\}", r"%\1", words)
    return f"VirtualDocumentRoot {quoting.httpd(words)}"


def _passed(staged: Staged, site: Site, room: Room) -> Iterator[str]:
    """Where what is passed on goes, and content that lies elsewhere: the first listed that fits."""
    passing = any(isinstance(each.upstream, Upstream) for each in (site, *site.sections))
    if passing:
        yield "SSLProxyEngine on"
    for giving in (site, *site.sections):
        if isinstance(giving.upstream, Upstream) and giving.upstream.verifies:
            yield f"<Proxy {quoting.httpd(member_url(giving.upstream.to[0], giving.upstream.place) + '/*')}>"
            yield "  SSLProxyVerify require\n  SSLProxyVerifyDepth 5"
            yield f"  SSLProxyCACertificateFile {staged.trusts[id(giving.upstream)]}"
            yield "</Proxy>"
    number = staged.rooms.index(room)
    for at, section in enumerate(site.sections):
        yield from _section_source(section, room.parts[at], f"{number}s{at}", passing)
    everything = any(section.path == "/" and section.upstream is not None for section in site.sections)
    if isinstance(site.upstream, Upstream) and not everything:
        where = _upstream(site.upstream, f"{number}")
        path = "" if site.upstream.to[0].path else "/"
        yield from _pool(site.upstream, f"{number}")
        yield f"ProxyPass / {where}{path}{_upgraded(site.upstream)}"
        if site.upstream.turns_redirects:
            yield f"ProxyPassReverse / {where}{path}"
        yield from _turned(site.upstream)


def _whole(staged: Staged, site: Site, room: Room) -> Iterator[str]:
    """What is said of the whole site: by address, or by folder where files of rules may say otherwise."""
    # What is said of a folder that is not there holds for nothing.
    inside = "Directory" if site.rule_files and room.base.there else "Location"
    yield f"<{inside} {quoting.httpd(room.base.fixed(site.place) if inside == 'Directory' else '/')}>"
    yield from (f"  {line}" for line in _facts(staged, site, merged=inside == "Location"))
    if inside == "Directory" and site.reads_rule_files:
        yield "  AllowOverride All"
    yield f"</{inside}>"
    for section, part in zip(site.sections, room.parts, strict=True):
        if part is not room.base and site.rule_files:
            yield f"<Directory {quoting.httpd(part.root)}>"
            yield from (f"  {line}" for line in _facts(staged, site, merged=True))
            yield "  FallbackResource disabled"
            yield "</Directory>"
        elif part is not room.base and site.fallback is not None:
            yield f"{_opening(section)}\n  FallbackResource disabled\n{_closing(section)}"


def _closing(section: Section) -> str:
    return "</LocationMatch>" if section.path is None else "</Location>"


def _opening(section: Section) -> str:
    if section.exact is not None:
        return f"<LocationMatch {_pattern('^' + re.escape(str(section.exact)) + '$')}>"
    if section.pattern is not None:
        return f"<LocationMatch {_pattern(str(section.pattern))}>"
    return f"<Location {quoting.httpd(str(section.path), section.place)}>"


def _pattern(pattern: str) -> str:
    """A pattern as directives take it; a dollar sign is only ever the end, or escaped."""
    return quoting.httpd(pattern.replace("\\-", "-"))


def _upgraded(upstream: Upstream) -> str:
    """What lets requests for websockets through."""
    return " upgrade=websocket" if upstream.upgrades else ""


def _section_source(section: Section, room: WebRoom, number: str, passing: bool) -> Iterator[str]:
    """Where a section's content comes from: the first listed that fits has it."""
    if isinstance(section.upstream, Upstream):
        upstream = section.upstream
        yield from _pool(upstream, number)
        where = _upstream(upstream, number)
        if section.exact is not None:
            path = upstream.to[0].path
            yield f"ProxyPassMatch {_pattern('^' + re.escape(str(section.exact)) + '()$')} {where}{'' if path else '/'}$1{_upgraded(upstream)}"
        elif section.pattern is not None:
            yield f"ProxyPassMatch {_pattern(str(section.pattern))} {where}{_upgraded(upstream)}"
        else:
            path = quoting.httpd(str(section.path), section.place)
            yield f"ProxyPass {path} {where}{_upgraded(upstream)}"
            if upstream.turns_redirects:
                # Outside of a section it would turn what comes for other paths, too (measured).
                yield from (f"<Location {path}>", f"ProxyPassReverse {where}", "</Location>")
            yield from _turned(upstream)
        return
    if section.not_passed_on and passing and section.path is not None:
        yield f"ProxyPass {quoting.httpd(str(section.path), section.place)} !"
    elif section.not_passed_on and passing:
        yield f"ProxyPassMatch {_pattern(request_pattern(section))} !"
    if not gives(section):
        return
    if section.path is not None:
        slash = "/" if str(section.path).endswith("/") else ""
        yield f"Alias {quoting.httpd(str(section.path), section.place)} {quoting.httpd(room.root + slash)}"
        return
    whole = str(section.exact) if section.exact is not None else None
    if whole is None:
        raise quoting.UnstageableError("a pattern with a folder of its own", section.shown, section.place)
    yield f"AliasMatch {_pattern('^' + re.escape(whole) + '$')} {quoting.httpd(room.root + whole)}"


def _turned(upstream: Upstream) -> Iterator[str]:
    """Addresses in redirects that stand for a path of the front."""
    for start, turned in upstream.turned.items():
        if not turned.startswith("/"):
            raise quoting.UnstageableError("a redirect that httpd turns to another address", turned, upstream.place)
        yield f"ProxyPassReverse {quoting.httpd(turned, upstream.place)} {quoting.httpd(start, upstream.place)}"


def _upstream(upstream: Upstream, number: str) -> str:
    first: Url = upstream.to[0]
    if len(upstream.members) > 1:
        return f"balancer://pool{number}{first.path}"
    return member_url(first, upstream.place) + first.path


def _pool(upstream: Upstream, number: str) -> Iterator[str]:
    if len(upstream.members) > 1:
        yield f"<Proxy balancer://pool{number}>"
        for place, member in enumerate(upstream.members):
            spare = "" if place < len(upstream.to) else " status=+H"
            yield f"  BalancerMember {member_url(member, upstream.place)}{spare}"
        yield "</Proxy>"


def _facts(staged: Staged, giving: Giving, merged: bool) -> Iterator[str]:
    documents = index_files_of(giving)
    if documents is not None:
        place = giving.place.key("index_files")
        yield f"DirectoryIndex {' '.join(quoting.httpd(each, place) for each in documents) or 'disabled'}"
    elif isinstance(giving, Site):
        yield "DirectoryIndex index.html"
    if giving.listing is not None:
        yield f"Options {'+' if giving.listing else '-'}Indexes"
    if giving.fallback is not None and isinstance(giving, Section):
        yield f"FallbackResource {quoting.httpd('/' + giving.fallback.lstrip('/'), giving.place)}"
    if giving.largest_body is not None and isinstance(giving, Section):
        yield f"LimitRequestBody {giving.largest_body or 1}"
    if isinstance(giving, Section):
        yield from _error_pages(giving)
    for name, value in cache_fields(giving):
        yield f"Header {'add' if name == 'Set-Cookie' else 'set'} {name} {quoting.httpd(value, giving.place)}"
    if giving.scripts_at is not None:
        run_at = staged.scripts[giving.scripts_at]
        handler = f"proxy:unix:{run_at}|fcgi://localhost" if run_at.startswith("/") else f"proxy:fcgi://{run_at}"
        yield f"SetHandler {quoting.httpd(handler, giving.place)}"
    if giving.methods:
        yield f"AllowMethods {' '.join(giving.methods)}"
    if giving.access is not None:
        yield from access_lines(giving.access, staged, merged)
    if isinstance(giving.upstream, Upstream):
        yield from _passing(giving.upstream)


def _error_pages(giving: Giving) -> Iterator[str]:
    for status, page in giving.error_pages.items():
        yield f"ErrorDocument {int(status)} {page_word(page, giving.place.key('error_pages'))}"


def _passing(upstream: Upstream) -> Iterator[str]:
    place = upstream.place
    yield f"ProxyPreserveHost {'Off' if upstream.host == 'own' else 'On'}"
    if upstream.host not in ("own", "kept", "as-sent"):
        yield f"RequestHeader set Host {quoting.httpd(str(upstream.host), place)}"
    for how, headers in (("set", upstream.headers), ("append", upstream.appends)):
        for name, text in headers.items():
            yield f"RequestHeader {how} {header_word(name, place)} {_header_value(text, upstream)}"
    yield f"ProxyErrorOverride {'On' if upstream.replaces_errors else 'Off'}"


def _header_value(text: str, upstream: Upstream) -> str:
    """A header field's value as an expression; only plain words beside the placeholders."""
    if not re.fullmatch(r"(?:[A-Za-z0-9_.:;=/ -]|\{(?:scheme|host|port|client)\})*", text):
        raise quoting.UnstageableError("a header field's value", text, upstream.place)
    values = {
        "{scheme}": "%{REQUEST_SCHEME}",
        "{host}": "%{HTTP_HOST}",
        "{port}": "%{SERVER_PORT}",
        "{client}": "%{REMOTE_ADDR}",
    }
    if "{" not in text:
        return quoting.httpd(text)
    for name, value in values.items():
        text = text.replace(name, value)
    return f'"expr={text}"'
