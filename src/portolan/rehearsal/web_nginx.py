"""nginx's configuration for a web server of the estate."""

import re
from collections.abc import Generator, Iterable, Iterator

from portolan.estate.service import Listener, Service
from portolan.estate.site import Access, Condition, Giving, Redirect, Section, Site, Upstream
from portolan.estate.url import Url
from portolan.rehearsal import quoting
from portolan.rehearsal.web_common import (
    UPSTREAM_LIMIT,
    Room,
    Staged,
    bound,
    bound_under,
    cache_fields,
    certificate_of,
    header_word,
    host_pattern,
    index_files_of,
    key_of,
    member_url,
    methods_pattern,
    own_content,
    page_word,
    passwords_of,
    path_pattern,
    server_names,
)
from portolan.rehearsal.web_files import Room as WebRoom


def nginx(staged: Staged) -> str:
    """The whole configuration."""
    servers = []
    opened: set[str] = set()
    pools: list[str] = []
    for room in staged.rooms:
        lines = list(_listens(staged, room.site, opened))
        if not lines:
            continue
        lines += _server(staged, room, pools)
        servers.append("  server {\n    " + "\n    ".join(lines) + "\n  }")
    return configuration(staged.folder, "\n".join((*pools, *servers)))


#: As distributions' main files have it; the program by itself leaves the newer one out.
_VERSIONS = "ssl_protocols TLSv1.2 TLSv1.3;"


def configuration(folder: str, servers: str) -> str:
    """nginx's configuration with these servers, and with nothing outside its folder."""
    temporary = "".join(
        f"  {kind}_temp_path {folder}/tmp;\n" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    waits = "".join(f"proxy_{each}_timeout {UPSTREAM_LIMIT}s; " for each in ("connect", "read", "send"))
    return (
        f"daemon off; master_process off; worker_processes 1; pid {folder}/pid; error_log {folder}/log/error.log;\n"
        f"events {{ worker_connections 256; }}\nhttp {{\n  access_log off; server_names_hash_bucket_size 512; {_VERSIONS} {waits}\n"
        f"  {quoting.NGINX_DOLLAR}\n{_ASKED}{temporary}{servers}\n}}\n"
    )


#: The path and the query as they were asked for. Maps leave escapes as they are; a group of a condition would escape them again.
_ASKED = (
    '  map $request_uri $p { default "/"; "~^(?<stage_p>[^?]*)" $stage_p; }\n'
    '  map $args $qa { "" ""; default "&$args"; }\n'
)


def _listens(staged: Staged, site: Site | Service, opened: set[str]) -> Iterator[str]:
    for listener in staged.service.listens:
        texts = []
        if isinstance(site, Service) or bound(site, listener):
            # Socket options may be written once only.
            texts = listen_words(listener, first=str(listener.key) not in opened)
            opened.add(str(listener.key))
        keys = bound_under(site, listener, staged.service.listens) if isinstance(site, Site) else []
        for text, key in (
            *((text, key_of(listener.address, listener.port)) for text in texts),
            *((key, key) for key in keys),
        ):
            default = isinstance(site, Site) and (site.default or key in site.default_on)
            yield f"listen {text}{' ssl' if listener.tls else ''}{' default_server' if default else ''};"


def listen_words(listener: Listener, first: bool) -> list[str]:
    """Where a listener takes requests; what may be said once only is said the first time."""
    if listener.address is None:
        return [f"{listener.port}", f"[::]:{listener.port}"]
    if listener.address.version == 4:
        return [f"{listener.address}:{listener.port}"]
    only = (
        ""
        if not first or listener.only_v6 is None or int(listener.address)
        else f" ipv6only={'on' if listener.only_v6 else 'off'}"
    )
    return [f"[{listener.address}]:{listener.port}{only}"]


def _server(staged: Staged, room: Room, pools: list[str]) -> Iterator[str]:
    site, folder = room.site, staged.folder
    names = [name or quoting.nginx("") for name in server_names(site)]
    if isinstance(site, Site):
        place = site.place.key("name_patterns")
        names += [quoting.nginx_pattern(f"~{_with_names(each)}", place) for each in site.name_patterns]
    yield f"server_name {' '.join(names) or quoting.nginx('')};"
    certificate = certificate_of(staged, site)
    if certificate is not None:
        yield f"ssl_certificate {folder}/{certificate}.pem; ssl_certificate_key {folder}/{certificate}.key;"
    versions = (site.tls_versions if isinstance(site, Site) else ()) or staged.service.tls_versions
    if versions:
        yield f"ssl_protocols {' '.join(f'TLSv{each}'.removesuffix('.0') for each in versions)};"
    groups = {str(number): f"${{{_GROUP}{number}}}" for number in range(1, 10)}
    yield f"root {quoting.nginx_filled(room.base.root, {'name': '${host}', **groups}, site.place)};"
    if not isinstance(site, Site):
        return
    believed = site.believes_address or staged.service.believes_address
    if believed is not None:
        yield "".join(f"set_real_ip_from {each}; " for each in believed.sources)
        yield f"real_ip_header {header_word(believed.header, believed.place)};"
        yield f"real_ip_recursive {'on' if believed.passes_over else 'off'};"
    if site.redirects_to is not None:
        yield f"absolute_redirect {'off' if site.redirects_to == 'path-only' else 'on'};"
        yield f"server_name_in_redirect {'on' if site.redirects_to == 'own-address' else 'off'};"
    if site.redirects_tell_port is False:
        yield "port_in_redirect off;"
    if site.rejects_handshake:
        yield "ssl_reject_handshake on;"
    if site.client_certificates is not None and certificate is not None:
        # Whose it would have to be does not matter: nobody shows one on the stage.
        asks = "on" if site.client_certificates == "required" else "optional"
        yield f"ssl_verify_client {asks}; ssl_client_certificate {folder}/{certificate}.pem;"
    if not site.follows_links:
        yield "disable_symlinks on;"
    every = [*site.redirects, *(rule for section in site.sections for rule in section.redirects)]
    if every:
        yield 'set $rest "";' + "".join(f' set $m{n} "";' for n in range(1, 10))
    yield from _redirects(site.redirects, "s", room.base, site.name)
    yield from _facts(site, staged)
    # A rule that goes on ends what a server says of all its paths, and the places are asked.
    moves = any(rule.inner is not None for rule in site.redirects)
    if site.answer is not None and not site.sections and not site.methods and not moves:
        yield _answer(site)
    elif not any(section.path == "/" for section in site.sections):
        yield "location / {"
        yield from (f"  {line}" for line in _body(staged, site, site, pools, "0"))
        yield "}"
    yield from _behind(staged, site, pools)
    for at, section in enumerate(site.sections):
        yield _location(section)
        yield from (f"  {line}" for line in _section(staged, site, section, room.parts[at], pools, f"s{at}", room.base))
        yield "}"


#: What the groups of a name pattern are called: those without a name are lost with the next pattern that is looked at.
_GROUP = "stage_g"


def _with_names(pattern: str) -> str:
    """A name pattern whose groups have names."""
    found, number, at, in_class = [], 0, 0, False
    while at < len(pattern):
        char = pattern[at]
        if char == "\\":
            char = pattern[at : at + 2]
        elif in_class or char == "[":
            in_class = char != "]"
        elif (opened := re.match(r"\((?!\?)|\(\?P?<(?![=!])[^>]*>", pattern[at:])) is not None:
            number += 1
            char = opened[0]
            found.append(f"(?<{_GROUP}{number}>")
            at += len(char)
            continue
        found.append(char)
        at += len(char)
    return "".join(found)


def _location(section: Section) -> str:
    if section.exact is not None:
        return f"location = {quoting.nginx(str(section.exact), section.place)} {{"
    if section.pattern is not None:
        return f"location ~ {quoting.nginx_pattern(str(section.pattern), section.place)} {{"
    return f"location {'^~ ' if section.first else ''}{quoting.nginx(str(section.path), section.place)} {{"


def _section(
    staged: Staged, site: Site, section: Section, room: WebRoom, pools: list[str], number: str, base: WebRoom
) -> Iterator[str]:
    if own_content(section):
        root = quoting.nginx(room.root)
        slash = "/" if section.path is not None and section.path.endswith("/") else ""
        yield f"alias {root[:-1]}{slash}{root[-1]};" if section.path is not None else f"root {root};"
    yield from _redirects(section.redirects, number, base, site.name)
    yield from _facts(section, staged)
    yield from _body(staged, site, section, pools, number)


def _facts(giving: Giving, staged: Staged) -> Iterator[str]:
    """What may stand at a server as at a location."""
    documents = index_files_of(giving)
    if documents is not None:
        place = giving.place.key("index_files")
        yield f"index {' '.join(quoting.nginx(each, place) for each in documents) or 'no-document-at-all'};"
    if giving.listing is not None:
        yield f"autoindex {'on' if giving.listing else 'off'};"
    if giving.largest_body is not None:
        yield f"client_max_body_size {giving.largest_body or 1};"
    for status, page in giving.error_pages.items():
        given_as = giving.error_pages_as.get(status)
        change = f" ={int(given_as)}" if given_as is not None else ""
        yield f"error_page {int(status)}{change} {page_word(page, giving.place.key('error_pages'))};"
    for name, value in cache_fields(giving):
        yield f"add_header {name} {quoting.nginx(value, giving.place)};"
    if giving.access is not None:
        yield from _access(giving.access, staged)


def _access(access: Access, staged: Staged) -> Iterator[str]:
    ranged = access.nobody or access.sources or access.not_sources
    yield f"satisfy {'any' if access.either and access.password and ranged else 'all'};"
    yield from ranges(access)
    # Each of the two is inherited by itself: what a section says stands for both.
    yield f"auth_basic {'staged' if access.password else 'off'}; auth_basic_user_file {passwords_of(access, staged)};"


def ranges(access: Access) -> Iterator[str]:
    """Who is let in by address."""
    for each in access.not_sources:
        yield f"deny {each};"
    if not access.nobody:
        for each in access.sources:
            yield f"allow {each};"
    yield "deny all;" if access.nobody or access.sources else "allow all;"


def wanted_headers(access: Access) -> Iterator[str]:
    """Who is let in by header fields."""
    for name, value in access.headers.items():
        word = header_word(name, access.place).replace("-", "_")
        yield f"if ($http_{word} != {quoting.nginx(value, access.place)}) {{ return 403; }}"


def _body(staged: Staged, site: Site, giving: Giving, pools: list[str], number: str) -> Iterator[str]:
    """What only a location can have: methods, the fallback, the upstream, a fixed answer."""
    if isinstance(giving, Section) and giving.inner_only:
        yield "internal;"
    access = giving.access or site.access
    if access is not None and not (giving.answer or (giving is not site and site.answer and not own_content(giving))):
        yield from wanted_headers(access)
    methods = giving.methods or site.methods
    if methods:
        yield f"limit_except {' '.join(methods)} {{ deny all; }}"
    gives = giving.upstream is not None or giving.answer is not None or own_content(giving)
    source = giving if gives else site
    at = giving.scripts_at or site.scripts_at
    if at is not None and source.answer is None and source.upstream is None:
        run_at = staged.scripts[at]
        yield f"fastcgi_pass {'unix:' if run_at.startswith('/') else ''}{quoting.nginx(run_at)[1:-1]};"
        yield "fastcgi_param SCRIPT_FILENAME $request_filename; fastcgi_param REQUEST_METHOD $request_method;"
        if giving is not site and giving.fallback is None and not giving.tries:
            # Whoever runs them says what is missing; the site's own fallback stands in the place for all other paths.
            return
    if source.answer is not None:
        yield _answer(source, site.name)
        return
    if isinstance(source.upstream, Upstream) and _tries(site, giving):
        if source.upstream.to[0].path:
            what = "files tried before what nginx passes on with a path"
            raise quoting.UnstageableError(what, str(source.upstream.to[0]), source.upstream.place)
        _no_conditions(site, giving)
        words = " ".join(quoting.nginx_filled(each, {"path": "$uri"}, giving.place) for each in _tries(site, giving))
        yield f"try_files {words} @up{number};"
        return
    if isinstance(source.upstream, Upstream):
        yield from _passing(staged, source.upstream, pools, number)
        return
    fallback = giving.fallback or (site.fallback if source is site else None)
    tries = giving.tries or (site.tries if source is site else ())
    if tries or fallback is not None:
        _no_conditions(site, giving)
    if tries:
        words = " ".join(quoting.nginx_filled(each, {"path": "$uri"}, giving.place) for each in tries)
        last = "=404" if fallback is None else quoting.nginx("/" + fallback.lstrip("/"), giving.place)
        yield f"try_files {words} {last};"
    elif fallback is not None:
        yield f"try_files $uri $uri/ {quoting.nginx('/' + fallback.lstrip('/'), giving.place)};"


def _no_conditions(site: Site, giving: Giving) -> None:
    """Refuses a section's rules with conditions beside what is tried: that does not hold within the last `if` that fitted."""
    if giving is not site and any(rule.when is not None for rule in giving.redirects):
        raise quoting.UnstageableError("files tried beside a section's rule with conditions", site.name, giving.place)


def _tries(site: Site, giving: Giving) -> tuple[str, ...]:
    """What is tried before anything is passed on."""
    upstream = giving.upstream or site.upstream
    return (giving.tries or site.tries) if isinstance(upstream, Upstream) else ()


def _behind(staged: Staged, site: Site, pools: list[str]) -> Iterator[str]:
    """The places that are asked where nothing of what is tried lies there."""
    for number, giving in (("0", site), *((f"s{at}", each) for at, each in enumerate(site.sections))):
        gives = giving.upstream is not None or giving.answer is not None or own_content(giving)
        source = giving if gives or giving is site else site
        if isinstance(source.upstream, Upstream) and _tries(site, giving):
            yield f"location @up{number} {{"
            yield from (f"  {line}" for line in _passing(staged, source.upstream, pools, f"{number}u"))
            yield "}"


def _answer(giving: Giving, name: str = "") -> str:
    status = giving.answer or 0
    site = name or str(getattr(giving, "name", ""))
    body = f" {quoting.nginx(f'{site}/', giving.place)}" if 200 <= status < 300 and status != 204 else ""
    return f"return {status}{body};"


#: A member that failed is asked again with the next question, which is a visit of its own.
_NO_MEMORY = " max_fails=0"


def _passing(staged: Staged, upstream: Upstream, pools: list[str], number: str) -> Iterator[str]:
    place = upstream.place
    first: Url = upstream.to[0]
    where = member_url(first, place)
    if len(upstream.members) > 1:
        if not re.fullmatch(r"[a-z0-9.-]+", upstream.pool):
            raise quoting.UnstageableError("a pool's name", upstream.pool, place)
        members = "".join(
            f"server {member_url(each, place).partition('://')[2]}{_NO_MEMORY}{'' if number < len(upstream.to) else ' backup'}; "
            for number, each in enumerate(upstream.members)
        )
        if not any(each.startswith(f"  upstream {upstream.pool} ") for each in pools):
            pools.append(f"  upstream {upstream.pool} {{ {members}}}")
        where = f"{first.scheme}://{upstream.pool}"
    yield f"proxy_pass {where}{first.path};"
    if upstream.upgrades:
        yield "proxy_http_version 1.1; proxy_set_header Upgrade $http_upgrade; proxy_set_header Connection $http_connection;"
    if upstream.next_on:
        yield f"proxy_next_upstream error timeout {' '.join(f'http_{each}' for each in upstream.next_on)};"
    if upstream.host != "own":
        host = {"kept": "$host", "as-sent": "$http_host"}.get(str(upstream.host)) or quoting.nginx(
            str(upstream.host), place
        )
        yield f"proxy_set_header Host {host};"
    for name, text in upstream.headers.items():
        yield f"proxy_set_header {header_word(name, place)} {_filled(text, place)};"
    for name, text in upstream.appends.items():
        word = header_word(name, place).replace("-", "_")
        yield f'set $a{word}{number} "${{http_{word}}}, "; if ($http_{word} = "") {{ set $a{word}{number} ""; }}'
        yield f'proxy_set_header {name} "${{a{word}{number}}}{_filled(text, place)[1:-1]}";'
    for start, turned in upstream.turned.items():
        yield f"proxy_redirect {quoting.nginx(start, place)} {quoting.nginx(turned, place)};"
    if upstream.turned and upstream.turns_redirects:
        yield "proxy_redirect default;"
    if upstream.turns_redirects is False and not upstream.turned:
        yield "proxy_redirect off;"
    if upstream.verifies:
        yield f"proxy_ssl_verify on; proxy_ssl_verify_depth 5; proxy_ssl_trusted_certificate {staged.trusts[id(upstream)]};"
    if upstream.server_name:
        yield "proxy_ssl_server_name on;"
    if isinstance(upstream.server_name, str):
        yield f"proxy_ssl_name {quoting.nginx(upstream.server_name, place)};"
    if upstream.replaces_errors:
        yield "proxy_intercept_errors on;"


_VALUES = {"scheme": "${scheme}", "host": "${host}", "port": "${server_port}", "client": "${remote_addr}"}


def _filled(text: str, place: object) -> str:
    return quoting.nginx_filled(text, _VALUES, place)  # type: ignore[arg-type]


def _redirects(rules: Iterable[Redirect], mark: str, room: WebRoom, site: str) -> Iterator[str]:
    values = {
        **_VALUES,
        "path": "${p}",
        "query": "${is_args}${args}",
        "rest": "${rest}",
        **{str(n): f"${{m{n}}}" for n in range(1, 10)},
    }
    for number, rule in enumerate(rules):
        name = f"c{mark}{number}"
        needed = ""
        if rule.when is not None:
            needed = yield from _conditions(rule.when, name, room)
        else:
            yield f'set ${name} "";'
        if rule.answer is not None:
            body = (
                f" {quoting.nginx(f'{site}/', rule.place)}" if 200 <= rule.answer < 300 and rule.answer != 204 else ""
            )
            yield f'if (${name} = "{needed}") {{ return {rule.answer}{body}; }}'
            continue
        inner = values | {"path": "${uri}"} if rule.inner is not None else values
        target = quoting.nginx_filled(rule.to, inner, rule.place.key("to"))
        pattern = _kept_by_rewrite(rule)
        if rule.inner is not None:
            yield f'if (${name} = "{needed}") {{ {_inner(rule, pattern, target)} }}'
            continue
        if rule.query == "joined":
            target = f'{target[:-1]}${{{"qa" if "?" in rule.to else "is_args}${args"}}}"'
        elif rule.query == "unless-own" and "?" not in rule.to:
            target = f'{target[:-1]}${{is_args}}${{args}}"'
        if pattern is not None:
            word = "permanent" if rule.status == 301 else "redirect"
            yield f'if (${name} = "{needed}") {{ rewrite {pattern} {_numbered(target)[:-1]}?" {word}; }}'
            continue
        yield f'if (${name} = "{needed}") {{ return {rule.status} {target}; }}'


def _numbered(target: str) -> str:
    """A target for `rewrite`, whose own groups are those of the condition."""
    return re.sub(r"\$\{m(\d)\}", r"$\1", target).replace("${rest}", "$1")


def _inner(rule: Redirect, pattern: str | None, target: str) -> str:
    """A rule that goes on within the server; nginx adds the query by itself, unless the target ends in a question mark."""
    keeps = rule.query == "joined" or (rule.query == "unless-own" and "?" not in rule.to)
    word = {"again": " last", "here": " break", "on": ""}[rule.inner or "on"]
    to = _numbered(target) if pattern is not None else target
    return f'rewrite {pattern or "^"} {to[:-1]}{"" if keeps else "?"}"{word};'


def _kept_by_rewrite(rule: Redirect) -> str | None:
    """The pattern of a rule that hands on what it matched, where `rewrite` can say it: that one escapes what it hands on."""
    when = rule.when
    if when is None or rule.status not in (301, 302) or "{path}" in rule.to or re.search(r"[$\\]", rule.to):
        return None
    if when.pattern is not None and re.search(r"\{[1-9]\}", rule.to) and "{rest}" not in rule.to:
        return quoting.nginx_pattern(str(when.pattern), when.place.key("pattern"))
    if when.path is not None and "{rest}" in rule.to and not re.search(r"\{[1-9]\}", rule.to):
        return quoting.nginx_pattern(path_pattern(when.path), when.place.key("path"))
    return None


def _conditions(when: Condition, name: str, room: WebRoom) -> Generator[str, None, str]:
    """Lines that make a variable of all that holds; what it then is where the whole condition does."""
    needed = ""
    alternatives = [(f"{name}a{number}", each) for number, each in enumerate(getattr(when, "any", ()))]
    exceptions = [(f"{name}n{number}", each) for number, each in enumerate(getattr(when, "none", ()))]
    held = {}
    for other, each in (*alternatives, *exceptions):
        held[other] = yield from _conditions(each, other, room)
    yield f'set ${name} "";'
    for letter, condition, extra in _single(when, room):
        needed += letter
        yield f'if ({condition}) {{ {extra}set ${name} "${{{name}}}{letter}"; }}'
    if alternatives:
        yield f'set ${name}z "";'
        yield from (f'if (${other} = "{held[other]}") {{ set ${name}z "1"; }}' for other, _ in alternatives)
        needed += "z"
        yield f'if (${name}z = "1") {{ set ${name} "${{{name}}}z"; }}'
    for condition in (*_unwanted(when), *(f'${other} = "{held[other]}"' for other, _ in exceptions)):
        yield f'if ({condition}) {{ set ${name} "${{{name}}}x"; }}'
    return needed


def _single(when: Condition, room: WebRoom) -> Iterator[tuple[str, str, str]]:
    """What must hold: a letter, nginx's condition, and what is kept of the match."""
    if when.scheme is not None:
        yield "s", f"$scheme = {when.scheme}", ""
    if when.host:
        yield "h", f"$host ~* {quoting.nginx_pattern(host_pattern(when.host), when.place)}", ""
    if when.port is not None:
        yield "o", f"$server_port = {when.port}", ""
    if when.query is not None:
        yield "q", f"$args ~ {quoting.nginx_pattern(str(when.query), when.place.key('query'))}", ""
    for name, value in when.header.items():
        word = header_word(name, when.place).replace("-", "_")
        yield "v", f"$http_{word} = {quoting.nginx(value, when.place)}", ""
    for name, fits in when.fits_header.items():
        word = header_word(name, when.place).replace("-", "_")
        yield "w", f"$http_{word} ~ {quoting.nginx_pattern(str(fits), when.place)}", ""
    if when.method:
        yield "m", f'$request_method ~ "{methods_pattern(when.method)}"', ""
    for word, sign, wanted in (("file", "f", when.file), ("folder", "d", when.folder)):
        if wanted is not None:
            whole = quoting.nginx(room.fixed(when.place), when.place)
            yield word[1], f'{"" if wanted else "!"}-{sign} {whole[:-1]}${{uri}}"', ""
    if when.file_at is not None:
        whole = quoting.nginx_filled(f"{room.fixed(when.place)}{when.file_at}", {"path": "${uri}"}, when.place)
        yield "i", f"-f {whole}", ""
    for sign, path in (("", when.while_file), ("!", when.unless_file)):
        if path is not None:
            yield "u" if sign else "t", f"{sign}-f {quoting.nginx(room.at(path), when.place)}", ""
    if when.path is not None:
        pattern = quoting.nginx_pattern(path_pattern(when.path), when.place.key("path"))
        yield "p", f"$uri ~ {pattern}", "set $rest $1; "
    if when.pattern is not None:
        import re2  # only for estates that have patterns

        groups = re2.compile(when.pattern).groups
        kept = "".join(f"set $m{number} ${number}; " for number in range(1, min(groups, 9) + 1))
        yield "e", f"$uri ~ {quoting.nginx_pattern(str(when.pattern), when.place.key('pattern'))}", kept


def _unwanted(when: Condition) -> Iterator[str]:
    """What must not hold."""
    if when.not_host:
        yield f"$host ~* {quoting.nginx_pattern(host_pattern(when.not_host), when.place)}"
    if when.not_query is not None:
        yield f"$args ~ {quoting.nginx_pattern(str(when.not_query), when.place.key('not_query'))}"
    if when.not_method:
        yield f'$request_method ~ "{methods_pattern(when.not_method)}"'
    for name, value in when.not_header.items():
        word = header_word(name, when.place).replace("-", "_")
        yield f"$http_{word} = {quoting.nginx(value, when.place)}"
