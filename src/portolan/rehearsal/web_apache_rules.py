"""Rewrite rules and files of rules on the stage of Apache httpd."""

import re
from collections.abc import Iterable, Iterator

from portolan.estate.site import Access, Condition, Giving, Redirect, RuleFile, Section, Site, When
from portolan.rehearsal import quoting
from portolan.rehearsal.web_common import (
    Staged,
    header_word,
    host_pattern,
    methods_pattern,
    own_content,
    passwords_of,
    path_pattern,
)
from portolan.rehearsal.web_files import Room as WebRoom


def request_pattern(section: Section) -> str:
    """A section's paths as a regular expression."""
    if section.exact is not None:
        return f"^{re.escape(str(section.exact))}$"
    if section.pattern is not None:
        return str(section.pattern)
    start = re.escape(str(section.path))
    return f"^{start}" if str(section.path).endswith("/") else f"^{start}(/|$)"


def gives(section: Section) -> bool:
    """Whether a section says where an answer comes from."""
    return section.upstream is not None or own_content(section)


def rewrites(site: Site, room: WebRoom) -> Iterator[str]:
    """The rewrite rules of a site and its sections, and its fixed answers. Raises UnstageableError."""
    answered = [section for section in site.sections if section.answer is not None]
    rules = [each for each in (site, *site.sections) if each.redirects]
    if rules or site.answer is not None or answered:
        yield "RewriteEngine on"
    if rules:
        yield r'RewriteCond %{HTTP_HOST} "^(\[.*\]|[^:]*)"' + "\nRewriteRule ^ - [E=H:%1]"
    _only_last(site)
    yield from _redirects(site.redirects, None, room)
    for section in site.sections:
        yield from _redirects(section.redirects, section, room)
        if section.answer is not None:
            yield from _answer(site, section, request_pattern(section))
    if site.answer is not None:
        otherwise = [section for section in site.sections if gives(section)]
        yield from _answer(site, site, "^", otherwise)


def _answer(site: Site, giving: Giving, pattern: str, otherwise: Iterable[Section] = ()) -> Iterator[str]:
    """A fixed answer, for the paths of a pattern that no other section has."""
    status = giving.answer or 0
    if 200 <= status < 300 and status != 204:
        yield f"ErrorDocument {status} {quoting.httpd(f'{site.name}/', site.place)}"
    for each in otherwise:
        yield f"RewriteCond %{{REQUEST_URI}} {_negated(quoting.httpd_condition(request_pattern(each)))}"
    yield f"RewriteCond %{{REQUEST_URI}} {quoting.httpd_condition(pattern)}"
    # Without a flag of its own it is not asked of a folder's document, as no section's answer is.
    yield f"RewriteRule ^ - [R={status},L]"


def _flag(status: int) -> str:
    """The flag of a rule that answers; those of a name of their own are asked for documents of folders, too."""
    return {403: "F", 410: "G"}.get(status, f"R={status}")


def _only_last(site: Site) -> None:
    """Rules of sections stand with the site's here, so that what goes on within the server is the last that is asked."""
    inner = [rule for each in (site, *site.sections) for rule in each.redirects if rule.inner is not None]
    beside = site.answer is not None or any(each.redirects or each.answer is not None for each in site.sections)
    for rule in inner:
        if beside or rule.inner == "on":
            raise quoting.UnstageableError("a rule that goes on within httpd before others", str(rule.to), rule.place)


def _redirects(
    rules: Iterable[Redirect], section: Section | None, room: WebRoom, within: bool = False
) -> Iterator[str]:
    for number, rule in enumerate(rules):
        if rule.written_as == "redirect" and section is None and not within:
            continue
        mark = f"{'w' if within else 's'}{number}"
        if rule.when is not None:
            yield from _groups(rule.when, mark, room)
        if section is not None:
            yield f"RewriteCond %{{REQUEST_URI}} {quoting.httpd_condition(request_pattern(section))}"
        if rule.when is not None:
            yield from _conditions(rule.when, mark, room)
        if rule.answer is not None:
            if rule.answer < 300:
                raise quoting.UnstageableError("a rule of httpd that answers well", str(rule.answer), rule.place)
            yield f"RewriteRule ^ - [{_flag(rule.answer)},L]"
            continue
        values = {
            "scheme": "%{REQUEST_SCHEME}",
            "host": "%{ENV:H}",
            "port": "%{SERVER_PORT}",
            "path": "%{REQUEST_URI}",
            "query": "",
            "rest": "%1",
            **{str(number): f"%{number}" for number in range(1, 10)},
        }
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
        if rule.inner is not None:
            flags = {"again": "L", "here": "END"}[rule.inner] + ("" if within else ",PT") + query
            yield f"RewriteRule ^ {target} [{flags}]"
            continue
        # What stands in the target with its escapes is not to be escaped once more.
        escapes = ",NE" if re.search("[%#]", rule.to) else ""
        yield f"RewriteRule ^ {target} [R={rule.status},L{escapes}{query}]"


def _groups(when: When, mark: str, room: WebRoom) -> Iterator[str]:
    """Notes in the environment which of the further conditions hold."""
    for kind, group in (("A", when.any), ("N", when.none)):
        for each in group:
            yield from _single(each, room)
            yield f"RewriteRule ^ - [E={kind}{mark}:1]"


def _conditions(when: When, mark: str, room: WebRoom) -> Iterator[str]:
    """A redirect's conditions; what the last one of a pattern holds can be used in the target."""
    if when.any:
        yield f"RewriteCond %{{ENV:A{mark}}} =1"
    if when.none:
        yield f"RewriteCond %{{ENV:N{mark}}} !=1"
    yield from _single(when, room)


def _single(when: Condition, room: WebRoom) -> Iterator[str]:
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
    yield from _said(when)
    for sign, wanted in (("-f", when.file), ("-d", when.folder)):
        if wanted is not None:
            whole = quoting.httpd(room.fixed(when.place), when.place)
            yield f'RewriteCond {whole[:-1]}%{{REQUEST_URI}}" {"" if wanted else "!"}{sign}'
    if when.file_at is not None:
        start, _, end = when.file_at.partition("{path}")
        if not re.fullmatch(r"[A-Za-z0-9_./-]*", start + end):
            raise quoting.UnstageableError("a path that is looked at", when.file_at, when.place)
        asked = f"{start}%{{REQUEST_URI}}{end}" if "{path}" in when.file_at else start
        yield f'RewriteCond {quoting.httpd(room.fixed(when.place), when.place)[:-1]}{asked}" -f'
    for sign, path in (("", when.while_file), ("!", when.unless_file)):
        if path is not None:
            yield f"RewriteCond {quoting.httpd(room.at(path), when.place)} {sign}-f"
    if when.path is not None:
        yield f"RewriteCond %{{REQUEST_URI}} {quoting.httpd_condition(path_pattern(when.path), when.place)}"
    if when.pattern is not None:
        yield f"RewriteCond %{{REQUEST_URI}} {quoting.httpd_condition(str(when.pattern), when.place)}"


def _said(when: Condition) -> Iterator[str]:
    """By what is said with the request."""
    if when.query is not None:
        yield f"RewriteCond %{{QUERY_STRING}} {quoting.httpd_condition(str(when.query), when.place)}"
    if when.not_query is not None:
        yield f"RewriteCond %{{QUERY_STRING}} {_negated(quoting.httpd_condition(str(when.not_query), when.place))}"
    for name, value in when.header.items():
        yield f"RewriteCond %{{HTTP:{header_word(name, when.place)}}} {_equal(value, when)}"
    for name, value in when.not_header.items():
        yield f"RewriteCond %{{HTTP:{header_word(name, when.place)}}} {_negated(_equal(value, when))}"
    for name, pattern in when.fits_header.items():
        word = header_word(name, when.place)
        yield f"RewriteCond %{{HTTP:{word}}} {quoting.httpd_condition(str(pattern), when.place)}"
    if when.method:
        yield f'RewriteCond %{{REQUEST_METHOD}} "{methods_pattern(when.method)}"'
    if when.not_method:
        yield f'RewriteCond %{{REQUEST_METHOD}} "!{methods_pattern(when.not_method)}"'


def _equal(value: str, when: Condition) -> str:
    if re.search(r"[\\\"]", value):
        raise quoting.UnstageableError("a header field's value", value, when.place)
    return quoting.httpd(f"={value}", when.place) if value else '=""'


def _negated(quoted: str) -> str:
    return f'"!{quoted[1:]}' if quoted.startswith('"') else f"!{quoted}"


def late(rule: Redirect) -> str:
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


def rule_file(staged: Staged, file: RuleFile, room: WebRoom) -> None:
    """Writes a file of rules into its folder."""
    lines: list[str] = []
    if file.broken:
        lines.append("ThisIsNoDirective on")
    for rule in file.redirects:
        if rule.answer is None and not re.match(r"/|[A-Za-z][A-Za-z0-9+.-]*:", rule.to):
            # It would be put behind the folder's own path, which is another one here.
            raise quoting.UnstageableError("a relative target in a file of rules", str(rule.to), rule.place)
    if file.redirects:
        lines.append("RewriteEngine on")
        lines.append(r'RewriteCond %{HTTP_HOST} "^(\[.*\]|[^:]*)"' + "\nRewriteRule ^ - [E=H:%1]")
        # No definition of the stage's can be used there: what it would write is written plainly.
        lines += [line.replace("${stage_dollar}", "$") for line in _redirects(file.redirects, None, room, within=True)]
    if file.access is not None:
        lines += access_lines(file.access, staged, merged=False)
    if file.index_files is not None:
        words = " ".join(quoting.httpd(each, file.place) for each in file.index_files)
        lines.append(f"DirectoryIndex {words or 'disabled'}")
    if not room.there:
        return
    name = "/".join(filter(None, (file.within.strip("/"), file.file_name)))
    staged.plan.files[f"{room.below}{room.path}/{name}"] = "\n".join(lines) + "\n"


def access_lines(access: Access, staged: Staged, merged: bool) -> Iterator[str]:
    """Who is let in: by address, password and header fields. Raises UnstageableError."""
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
        yield f"AuthType Basic\n  AuthName staged\n  AuthUserFile {passwords_of(access, staged)}"
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
