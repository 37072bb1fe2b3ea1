"""Apache httpd's configuration for a web server of the estate."""

import re
from collections.abc import Iterable, Iterator

from portolan.estate.service import Listener, Service, WebService
from portolan.estate.site import Access, Giving, Redirect, RuleFile, Section, Site, Upstream, When
from portolan.estate.url import Url
from portolan.rehearsal import quoting
from portolan.rehearsal.web_common import (
    UPSTREAM_LIMIT,
    Room,
    Staged,
    bound,
    bound_under,
    certificate_of,
    header_word,
    host_pattern,
    index_files_of,
    key_of,
    member_url,
    own_content,
    page_word,
    path_pattern,
    server_names,
)
from portolan.rehearsal.web_files import Room as WebRoom

_MODULES = (
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
    if isinstance(site, Site) and site.redirects_to == "own-address":
        yield "  UseCanonicalName On"
    yield f"  DocumentRoot {quoting.httpd(room.base.root)}"
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
    yield from _rewrites(site)
    yield from _error_pages(site)
    if site.largest_body is not None:
        yield f"LimitRequestBody {site.largest_body or 1}"
    if site.tries:
        yield from _tries(site, room.base.root)
    elif site.fallback is not None:
        yield f"FallbackResource {quoting.httpd('/' + site.fallback.lstrip('/'), site.place)}"
    yield from _passed(staged, site, room)
    if not site.follows_links:
        yield f"<Directory {quoting.httpd(room.base.root)}>\n  Options -FollowSymLinks\n</Directory>"
    yield from _whole(staged, site, room)
    for file in site.rule_files:
        _rule_file(staged, file, room.base)
    for section in site.sections:
        yield _opening(section)
        yield from (f"  {line}" for line in _facts(staged, section, merged=False))
        yield _closing(section)
    for rule in site.redirects:
        if rule.written_as == "redirect":
            yield _late(rule)


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
    everything = any(section.path == "/" and _gives(section) for section in site.sections)
    if isinstance(site.upstream, Upstream) and not everything:
        where = _upstream(site.upstream, f"{number}")
        path = "" if site.upstream.to[0].path else "/"
        yield from _pool(site.upstream, f"{number}")
        yield f"ProxyPass / {where}{path}"
        if site.upstream.turns_redirects:
            yield f"ProxyPassReverse / {where}{path}"


def _whole(staged: Staged, site: Site, room: Room) -> Iterator[str]:
    """What is said of the whole site: by address, or by folder where files of rules may say otherwise."""
    inside = "Directory" if site.rule_files else "Location"
    yield f"<{inside} {quoting.httpd(room.base.root if site.rule_files else '/')}>"
    yield from (f"  {line}" for line in _facts(staged, site, merged=not site.rule_files))
    if site.rule_files and site.reads_rule_files:
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


def _request_pattern(section: Section) -> str:
    """A section's paths as a regular expression."""
    if section.exact is not None:
        return f"^{re.escape(str(section.exact))}$"
    if section.pattern is not None:
        return str(section.pattern)
    start = re.escape(str(section.path))
    return f"^{start}" if str(section.path).endswith("/") else f"^{start}(/|$)"


def _section_source(section: Section, room: WebRoom, number: str, passing: bool) -> Iterator[str]:
    """Where a section's content comes from: the first listed that fits has it."""
    if isinstance(section.upstream, Upstream):
        upstream = section.upstream
        yield from _pool(upstream, number)
        where = _upstream(upstream, number)
        if section.exact is not None:
            path = upstream.to[0].path
            yield f"ProxyPassMatch {_pattern('^' + re.escape(str(section.exact)) + '()$')} {where}{'' if path else '/'}$1"
        elif section.pattern is not None:
            yield f"ProxyPassMatch {_pattern(str(section.pattern))} {where}"
        else:
            path = quoting.httpd(str(section.path), section.place)
            yield f"ProxyPass {path} {where}"
            if upstream.turns_redirects:
                yield f"ProxyPassReverse {path} {where}"
        return
    if section.not_passed_on and passing and section.path is not None:
        yield f"ProxyPass {quoting.httpd(str(section.path), section.place)} !"
    elif section.not_passed_on and passing:
        yield f"ProxyPassMatch {_pattern(_request_pattern(section))} !"
    if not _gives(section):
        return
    if section.path is not None:
        slash = "/" if str(section.path).endswith("/") else ""
        yield f"Alias {quoting.httpd(str(section.path), section.place)} {quoting.httpd(room.root + slash)}"
        return
    whole = str(section.exact) if section.exact is not None else None
    if whole is None:
        raise quoting.UnstageableError("a pattern with a folder of its own", section.shown, section.place)
    yield f"AliasMatch {_pattern('^' + re.escape(whole) + '$')} {quoting.httpd(room.root + whole)}"


def _gives(section: Section) -> bool:
    """Whether a section says where an answer comes from."""
    return section.upstream is not None or own_content(section)


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
    if giving.cache_control is not None:
        yield f"Header set Cache-Control {quoting.httpd(giving.cache_control, giving.place)}"
    if giving.sets_cookie:
        yield 'Header add Set-Cookie "staged=1"'
    if giving.methods:
        yield f"AllowMethods {' '.join(giving.methods)}"
    if giving.access is not None:
        yield from _access(giving.access, staged, merged)
    if isinstance(giving.upstream, Upstream):
        yield from _passing(giving.upstream)


def _error_pages(giving: Giving) -> Iterator[str]:
    for status, page in giving.error_pages.items():
        yield f"ErrorDocument {int(status)} {page_word(page, giving.place.key('error_pages'))}"


def _access(access: Access, staged: Staged, merged: bool) -> Iterator[str]:
    if merged:
        yield "AuthMerging And"
    rules = []
    if access.nobody:
        rules.append("Require all denied")
    elif any(not each.prefixlen for each in access.sources):
        rules.append("Require all granted")
    elif access.sources:
        rules.append(f"Require ip {' '.join(map(str, access.sources))}")
    if access.not_sources and not access.nobody:
        rules.append(f"Require not ip {' '.join(map(str, access.not_sources))}")
        if len(rules) == 1:
            rules.insert(0, "Require all granted")
    for name, value in access.headers.items():
        word = header_word(name, access.place)
        rules.append(f"Require expr {quoting.httpd(f'%{{HTTP:{word}}} == {_literal(value, access)}')}")
    if access.password:
        yield f"AuthType Basic\n  AuthName staged\n  AuthUserFile {staged.folder}/passwords"
    if access.either and access.password and rules:
        yield "<RequireAny>"
        yield from ("  <RequireAll>", *(f"    {each}" for each in rules), "  </RequireAll>", "  Require valid-user")
        yield "</RequireAny>"
    else:
        yield "<RequireAll>"
        yield from (f"  {each}" for each in (*rules, *(["Require valid-user"] if access.password else [])))
        yield "</RequireAll>"


def _literal(text: str, access: Access) -> str:
    """A string of an expression, which must hold nothing that its grammar reads."""
    if not re.fullmatch(r"[A-Za-z0-9 ._:/+=-]*", text):
        raise quoting.UnstageableError("a header field's value", "(not shown)", access.place.key("headers"))
    return f"'{text}'"


def _passing(upstream: Upstream) -> Iterator[str]:
    place = upstream.place
    yield f"ProxyPreserveHost {'Off' if upstream.host == 'own' else 'On'}"
    if upstream.host != "own" and upstream.host != "kept":
        yield f"RequestHeader set Host {quoting.httpd(str(upstream.host), place)}"
    for how, headers in (("set", upstream.headers), ("append", upstream.appends)):
        for name, text in headers.items():
            yield f"RequestHeader {how} {header_word(name, place)} {_header_value(text, upstream)}"
    yield f"ProxyErrorOverride {'On' if upstream.replaces_errors else 'Off'}"


def _header_value(text: str, upstream: Upstream) -> str:
    """A header field's value as an expression; only plain words beside the placeholders."""
    if not re.fullmatch(r"(?:[A-Za-z0-9_.:;=/ -]|\{(?:scheme|host|port)\})*", text):
        raise quoting.UnstageableError("a header field's value", text, upstream.place)
    values = {"{scheme}": "%{REQUEST_SCHEME}", "{host}": "%{HTTP_HOST}", "{port}": "%{SERVER_PORT}"}
    if "{" not in text:
        return quoting.httpd(text)
    for name, value in values.items():
        text = text.replace(name, value)
    return f'"expr={text}"'


# -- rewrite rules -----------------------------------------------------------------------------------------------------


def _rewrites(site: Site) -> Iterator[str]:
    answered = [section for section in site.sections if section.answer is not None]
    rules = [each for each in (site, *site.sections) if each.redirects]
    if rules or site.answer is not None or answered:
        yield "RewriteEngine on"
    if rules:
        yield r'RewriteCond %{HTTP_HOST} "^(\[.*\]|[^:]*)"' + "\nRewriteRule ^ - [E=H:%1]"
    yield from _redirects(site.redirects, None)
    for section in site.sections:
        yield from _redirects(section.redirects, section)
        if section.answer is not None:
            yield from _answer(site, section, _request_pattern(section))
    if site.answer is not None:
        otherwise = [section for section in site.sections if _gives(section)]
        yield from _answer(site, site, "^", otherwise)


def _answer(site: Site, giving: Giving, pattern: str, otherwise: Iterable[Section] = ()) -> Iterator[str]:
    """A fixed answer, for the paths of a pattern that no other section has."""
    status = giving.answer or 0
    if 200 <= status < 300 and status != 204:
        yield f"ErrorDocument {status} {quoting.httpd(f'{site.name}/', site.place)}"
    for each in otherwise:
        yield f"RewriteCond %{{REQUEST_URI}} {_negated(quoting.httpd_condition(_request_pattern(each)))}"
    yield f"RewriteCond %{{REQUEST_URI}} {quoting.httpd_condition(pattern)}"
    yield f"RewriteRule ^ - [R={status},L]"


def _redirects(rules: Iterable[Redirect], section: Section | None, within: bool = False) -> Iterator[str]:
    for rule in rules:
        if rule.written_as == "redirect" and section is None and not within:
            continue
        if section is not None:
            yield f"RewriteCond %{{REQUEST_URI}} {quoting.httpd_condition(_request_pattern(section))}"
        if rule.when is not None:
            yield from _conditions(rule.when)
        # The server adds the query by itself, unless it is told to drop it.
        values = {
            "scheme": "%{REQUEST_SCHEME}",
            "host": "%{ENV:H}",
            "port": "%{SERVER_PORT}",
            "path": "%{REQUEST_URI}",
            "query": "",
            "rest": "%1",
            **{str(number): f"%{number}" for number in range(1, 10)},
        }
        query = {"as-written": "" if "{query}" in rule.to else ",QSD", "joined": ",QSA", "unless-own": ""}[rule.query]
        target = quoting.httpd_filled(rule.to, values, rule.place.key("to"))
        # What stands in the target with its escapes is not to be escaped once more.
        escapes = ",NE" if re.search("[%#]", rule.to) else ""
        yield f"RewriteRule ^ {target} [R={rule.status},L{escapes}{query}]"


def _conditions(when: When) -> Iterator[str]:
    """A redirect's conditions; what the last one of a pattern holds can be used in the target."""
    if when.path is not None and when.path.endswith("*") and when.pattern is not None:
        raise quoting.UnstageableError("a star and a pattern in one condition", str(when.pattern), when.place)
    if when.scheme is not None:
        yield f"RewriteCond %{{REQUEST_SCHEME}} ={when.scheme}"
    if when.host:
        yield f"RewriteCond %{{ENV:H}} {quoting.httpd_condition(host_pattern(when.host), when.place)} [NC]"
    if when.not_host:
        yield f"RewriteCond %{{ENV:H}} {_negated(quoting.httpd_condition(host_pattern(when.not_host), when.place))} [NC]"
    if when.port is not None:
        yield f"RewriteCond %{{SERVER_PORT}} ={when.port}"
    if when.query is not None:
        yield f"RewriteCond %{{QUERY_STRING}} {quoting.httpd_condition(str(when.query), when.place)}"
    if when.not_query is not None:
        yield f"RewriteCond %{{QUERY_STRING}} {_negated(quoting.httpd_condition(str(when.not_query), when.place))}"
    for name, value in when.header.items():
        yield f"RewriteCond %{{HTTP:{header_word(name, when.place)}}} {_equal(value, when)}"
    for name, value in when.not_header.items():
        yield f"RewriteCond %{{HTTP:{header_word(name, when.place)}}} {_negated(_equal(value, when))}"
    if when.path is not None:
        yield f"RewriteCond %{{REQUEST_URI}} {quoting.httpd_condition(path_pattern(when.path), when.place)}"
    if when.pattern is not None:
        yield f"RewriteCond %{{REQUEST_URI}} {quoting.httpd_condition(str(when.pattern), when.place)}"


def _equal(value: str, when: When) -> str:
    if re.search(r"[\\\"]", value):
        raise quoting.UnstageableError("a header field's value", value, when.place)
    return quoting.httpd(f"={value}", when.place) if value else '=""'


def _negated(quoted: str) -> str:
    return f'"!{quoted[1:]}' if quoted.startswith('"') else f"!{quoted}"


def _late(rule: Redirect) -> str:
    """A redirect directive: it knows the path only, and adds the query by itself."""
    when = rule.when
    plain = when is None or (
        not (when.scheme or when.host or when.not_host or when.port or when.header or when.not_header)
        and when.query is None
        and when.not_query is None
    )
    target = str(rule.to)
    if not plain or (rule.query != "unless-own" and not target.endswith("{query}")) or "?" in target:
        raise quoting.UnstageableError("a redirect directive with such a condition or target", target, rule.place)
    pattern = "^.*$"
    if when is not None and when.path is not None:
        pattern = path_pattern(when.path)
    elif when is not None and when.pattern is not None:
        pattern = str(when.pattern)
    values = {"path": "$0", "rest": "$1", "query": "", **{str(number): f"${number}" for number in range(1, 10)}}
    for name in ("{scheme}", "{host}", "{port}"):
        if name in target:
            raise quoting.UnstageableError("a redirect directive with such a target", target, rule.place)
    text = re.sub(r"\{([a-z]+|[1-9])\}", lambda match: values.get(match[1], ""), target)
    if not re.fullmatch(r"[A-Za-z0-9_./:~$=&%+-]+", text):
        raise quoting.UnstageableError("a redirect's target", target, rule.place)
    return f"RedirectMatch {rule.status} {quoting.httpd(pattern)} {text.replace('$', '${stage_dollar}')}"


def _rule_file(staged: Staged, file: RuleFile, room: WebRoom) -> None:
    """Writes a file of rules into its folder."""
    lines: list[str] = []
    if file.broken:
        lines.append("ThisIsNoDirective on")
    for rule in file.redirects:
        if not re.match(r"/|[A-Za-z][A-Za-z0-9+.-]*:", rule.to):
            # It would be put behind the folder's own path, which is another one here.
            raise quoting.UnstageableError("a relative target in a file of rules", str(rule.to), rule.place)
    if file.redirects:
        lines.append("RewriteEngine on")
        lines.append(r'RewriteCond %{HTTP_HOST} "^(\[.*\]|[^:]*)"' + "\nRewriteRule ^ - [E=H:%1]")
        # No definition of the stage's can be used there: what it would write is written plainly.
        lines += [line.replace("${stage_dollar}", "$") for line in _redirects(file.redirects, None, within=True)]
    if file.access is not None:
        lines += _access(file.access, staged, merged=False)
    if file.index_files is not None:
        words = " ".join(quoting.httpd(each, file.place) for each in file.index_files)
        lines.append(f"DirectoryIndex {words or 'disabled'}")
    if not room.there:
        return
    name = "/".join(filter(None, (file.within.strip("/"), file.file_name)))
    staged.plan.files[f"{room.below}{room.path}/{name}"] = "\n".join(lines) + "\n"
