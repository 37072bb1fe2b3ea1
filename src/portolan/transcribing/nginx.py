"""nginx's configuration into a web service of the estate: what it says of who gets what, in nginx's own order.

What the estate has no word for is told at its site or section; what decides nothing of what a visitor gets (logs, buffers,
limits of the machine) is passed over.
"""

import posixpath
import re
from collections.abc import Iterable, Iterator

from portolan.transcribing.nginx_lines import Directive, UnfinishedError, directives
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.sources import Source, SourceError
from portolan.transcribing.web import (
    Gathered,
    a_range,
    add,
    is_header,
    is_method,
    is_name,
    is_pattern,
    is_target,
    is_text,
    is_upstream,
    listener,
    one_source,
)

#: What decides nothing of what a visitor gets: logs, buffers, connections kept, packing, what browsers are told beside the page.
_SILENT = re.compile(
    r"(?:access_log|error_log|log_format|log_not_found|log_subrequest|open_log_file_cache|rewrite_log|uninitialized_variable_warn"
    r"|sendfile\w*|aio|aio_write|directio\w*|tcp_no\w+|keepalive\w*|reset_timedout_connection|send_\w+|lingering_\w+|postpone_output"
    r"|client_(?:body|header)_(?:buffer_size|buffers|timeout|in_file_only|in_single_buffer|temp_path)|large_client_header_buffers"
    r"|client_max_body_size_|connection_pool_size|request_pool_size|output_buffers|read_ahead|max_ranges|etag|if_modified_since"
    r"|types_hash\w*|server_names_hash\w*|variables_hash\w*|map_hash\w*|types|default_type|charset\w*|override_charset"
    r"|gzip\w*|brotli\w*|zstd\w*|gunzip\w*|server_tokens|msie_\w+|chunked_transfer_encoding|open_file_cache\w*"
    r"|ssl_(?:session\w*|prefer_server_ciphers|ciphers|ecdh_curve|dhparam|buffer_size|early_data|stapling\w*|conf_command"
    r"|trusted_certificate|ocsp\w*)|http2\w*|http3\w*|quic\w*|expires|proxy_(?:buffer\w*|busy_buffers\w*|max_temp_file_size|temp_\w+"
    r"|http_version|connect_timeout|send_timeout|socket_keepalive|headers_hash\w*|request_buffering|pass_request_\w+|limit_rate"
    r"|ssl_(?:session\w*|protocols|ciphers)|force_ranges|ignore_client_abort|pass_header|hide_header)"
    r"|fastcgi_(?:param|buffer\w*|busy_buffers\w*|read_timeout|connect_timeout|send_timeout|index|temp\w*|max_temp_file_size"
    r"|split_path_info|intercept_errors|hide_header|pass_header|request_buffering|keep_conn)|uwsgi_(?:param|read_timeout|buffer\w*)"
    r"|scgi_param|merge_slashes|server_name_in_redirect|resolver|resolver_timeout|limit_rate\w*|limit_\w+_(?:status|log_level|dry_run)"
    r"|limit_(?:req|conn)_zone|proxy_cache_path|fastcgi_cache_path|add_trailer|autoindex_\w+|disable_symlinks_|worker_\w+|pid|events"
    r"|load_module|daemon|master_process|timer_resolution|env|pcre_jit|thread_pool|debug_\w+|lock_file|ssl_engine|stub_status"
    r"|subrequest_output_buffer_size|absolute_redirect_|image_filter_buffer|ignore_invalid_headers|underscores_in_headers|zone)"
)  # fmt: skip
#: Header fields in a site's answers that change nothing of the answer that comes.
_TOLD = re.compile(
    r"(?i)(?:strict-transport-security|x-.*|content-security-policy.*|referrer-policy|permissions-policy|feature-policy"
    r"|access-control-.*|cross-origin-.*|expect-ct|alt-svc|server|pragma|expires|vary|report-to|nel|public-key-pins|link|via)"
)
#: Header fields to a program behind that the estate says by themselves, or that tell only who the visitor is.
_WHO = re.compile(
    r"(?i)(?:x-real-ip|x-forwarded-for|x-client-ip|forwarded|x-original-.*|x-request-id|upgrade|connection"
    r"|accept-encoding|sec-websocket-.*|x-nginx-proxy|early-data|range|if-range|proxy|cookie|authorization)"
)
_VALUES = {
    "$scheme": "{scheme}",
    "${scheme}": "{scheme}",
    "$host": "{host}",
    "${host}": "{host}",
    "$http_host": "{host}",
    "$server_port": "{port}",
    "$request_uri": "{path}{query}",
    "${request_uri}": "{path}{query}",
    "$uri": "{path}",
    "$document_uri": "{path}",
    "$is_args$args": "{query}",
    "$is_args$query_string": "{query}",
}
_VARIABLE = re.compile(r"\$is_args\$(?:args|query_string)|\$\{\w+\}|\$\w+")
_SERVER_PARTS = ("server", "types", "upstream", "map", "geo", "include")
_MOST_INCLUDED = 20_000
#: What of a pool decides only which member comes when.
_POOLS = frozenset(
    (
        "keepalive",
        "zone",
        "keepalive_timeout",
        "keepalive_requests",
        "keepalive_time",
        "least_conn",
        "ip_hash",
        "hash",
        "random",
    )
)


class NginxReader:
    """Reads one configuration from its main file on."""

    program = "nginx"
    homes = (
        "/etc/nginx/nginx.conf",
        "/usr/local/nginx/conf/nginx.conf",
        "/usr/local/etc/nginx/nginx.conf",
        "/opt/homebrew/etc/nginx/nginx.conf",
    )

    @staticmethod
    def recognises(text: str) -> bool:
        """Whether a text is of nginx's configuration."""
        return re.search(r"^\s*(?:http|server|events|upstream)\b[^;\n]*\{", text, re.M) is not None

    def __init__(self, source: Source, main: str, host: str | None = None) -> None:
        self.source = source
        self.main = main
        self.prefix = posixpath.dirname(main)
        #: The machine's own name, which `$hostname` stands for.
        self.host = host
        self.files: dict[str, None] = {}
        self.pools: dict[str, Directive] = {}
        self.out = Gathered(Part(Spot(shown(main), 1)), "nginx")
        #: The first name of the server that is read now.
        self.server_name: str | None = None

    def read(self) -> Gathered:
        """The service with its sites. Raises SourceError where the program itself would not load it."""
        top = self._file(self.main, ())
        if top is None:
            raise SourceError(f"there is no {self.main}", "Name the folder that holds nginx.conf, or that file itself.")
        web = [each for each in top if each.name == "http" and each.block is not None]
        for each in top:
            if each.name == "user" and each.words:
                self.out.service.say("runs_as", each.words[0], each.spot)
            elif each.name != "http" and not _SILENT.fullmatch(each.name):
                self.out.service.lose(each.spot, each.text)
        inside = [each for block in web for each in block.block or ()]
        self.pools = {each.words[0]: each for each in inside if each.name == "upstream" and each.words}
        self._http(inside)
        self._apart()
        return self.out

    # -- files --

    def _file(self, path: str, above: tuple[str, ...]) -> list[Directive] | None:
        data = self.source.read(path)
        if data is None:
            return None
        if path in above:
            raise SourceError(f"{shown(path)} includes itself", "The program does not load that either.")
        if len(self.files) > _MOST_INCLUDED:
            raise SourceError(f"more than {_MOST_INCLUDED} files are included")
        self.files[path] = None
        try:
            held = directives(data.decode("utf-8", "replace").removeprefix("\ufeff"), shown(path))
        except UnfinishedError as error:
            raise SourceError(
                f"{error.spot}: {error.why}", "Mend it, or take what the program runs with: nginx -T prints that."
            ) from None
        return list(self._included(held, (*above, path)))

    def _included(self, held: Iterable[Directive], above: tuple[str, ...]) -> Iterator[Directive]:
        for each in held:
            if each.name == "include" and each.words and each.block is None:
                yield from self._include(each, above)
            elif each.block is not None:
                yield each.but(block=tuple(self._included(each.block, above)))
            else:
                yield each

    def _include(self, each: Directive, above: tuple[str, ...]) -> Iterator[Directive]:
        pattern = posixpath.normpath(posixpath.join(self.prefix, each.words[0]))
        if any(letter in pattern for letter in "*?["):
            paths = self.source.matching(pattern)
        else:
            paths = [pattern]
        for path in paths:
            found = self._file(path, above)
            if found is not None:
                yield from found
            elif path.rpartition("/")[2] not in ("mime.types", "fastcgi_params", "fastcgi.conf", "proxy_params"):
                # The program would not load without it: it was not among what was given.
                yield Directive("include", (path,), None, each.spot)

    def _apart(self) -> None:
        """Sites in files that lie where sites lie, and that nothing includes."""
        for path in self.source.paths():
            folder = posixpath.dirname(path)
            if path in self.files or posixpath.basename(folder) not in ("sites-available", "sites-enabled", "conf.d"):
                continue
            if posixpath.dirname(folder) != self.prefix or self._is_copy(path):
                continue
            data = self.source.read(path)
            try:
                held = directives((data or b"").decode("utf-8", "replace"), shown(path))
            except UnfinishedError:
                continue
            for each in held:
                if each.name == "server" and each.block is not None:
                    part = self._server(each, [], ())
                    part.say("included", False)

    def _is_copy(self, path: str) -> bool:
        """Whether a file under another path, such as by a link, was included."""
        data = self.source.read(path)
        return any(self.source.read(each) == data for each in self.files)

    # -- servers --

    def _http(self, inside: list[Directive]) -> None:
        common = [each for each in inside if each.name not in _SERVER_PARTS]
        for each in inside:
            if each.name in ("map", "geo", "split_clients", "upstream", "types", "server"):
                continue
            if each.name == "include":
                self.out.service.lose(each.spot, f"include {each.words[0]}: it was not given")
        said = [each for each in common if _inherited(each)]
        for each in common:
            if not _inherited(each) and not _SILENT.fullmatch(each.name) and each.name != "include":
                self.out.service.lose(each.spot, each.text)
        opened: dict[str, Spot] = {}
        for each in inside:
            if each.name == "server" and each.block is not None:
                self._server(each, said, opened)
        self.out.service.say("listens", list(opened) or ["80"])
        self.out.service.spots["listens"] = next(iter(opened.values()), self.out.service.spot)
        self.out.service.say("sites", self.out.sites)

    def _server(self, server: Directive, said: list[Directive], opened: "dict[str, Spot] | tuple[()]") -> Part:
        part = Part(server.spot)
        inside = _with_above(list(server.block or ()), said)
        names = [each for each in inside if each.name == "server_name"]
        self._names(part, names)
        first = next((str(each) for each in part.facts.get("names", [])), "")
        self.server_name = first if first and "*" not in first and not first.startswith(".") else None
        tls = self._listens(part, inside, opened)
        wanted = next((word for each in names for word in each.words if is_name(word.lower()) and word != "_"), "")
        base = wanted.lower().removeprefix("*").strip(".").removesuffix(".*") or posixpath.basename(server.spot.file)
        name = self.out.site_name(base if tls or base not in self.out.sites else f"{base}-plain")
        self.out.sites[name] = part
        part.say("written_in", "/" + server.spot.file)
        self._giving(part, inside, "", None)
        self._locations(part, inside)
        return part

    def _names(self, part: Part, names: list[Directive]) -> None:
        plain: list[str] = []
        patterns: list[str] = []
        for each in names:
            for word in each.words:
                text = self.host if word == "$hostname" and self.host else word
                if text.startswith("~"):
                    pattern = _pattern(text[1:])
                    if pattern is None:
                        part.lose(each.spot, f"server_name {word}")
                    else:
                        patterns.append("(?i)" + pattern)
                elif text == "_" or (is_name(text.lower()) and "$" not in text):
                    # The underscore is no name: it only says that somebody thought of it.
                    plain += [text.lower()] if text != "_" else []
                else:
                    part.lose(each.spot, f"server_name {word}")
        if not names:
            plain = [""]
        if plain:
            part.say("names", plain, names[0].spot if names else None)
        if patterns:
            part.say("name_patterns", patterns, names[0].spot)

    def _listens(self, part: Part, inside: list[Directive], opened: "dict[str, Spot] | tuple[()]") -> bool:
        """The listeners of a server; whether TLS is spoken on any."""
        stated = [each for each in inside if each.name == "listen" and each.words]
        old_tls = any(each.name == "ssl" and each.words == ("on",) for each in inside)
        listens: dict[str, Spot] = {}
        defaults: list[str] = []
        any_tls = False
        for each in stated or [Directive("listen", ("80",), None, part.spot)]:
            key = listener(each.words[0])
            if key is None:
                part.lose(each.spot, each.text)
                continue
            options = each.words[1:]
            tls = "ssl" in options or old_tls or "quic" in options
            if "quic" in options:
                continue
            any_tls |= tls
            words = (
                key + (" tls" if tls else "") + (" dual-stack" if "ipv6only=off" in options and "[::]" in key else "")
            )
            listens[key] = each.spot
            if "default_server" in options or "default" in options:
                defaults.append(key)
            if "proxy_protocol" in options:
                part.lose(each.spot, each.text)
            if isinstance(opened, dict):
                same = next((other for other in opened if _key(other) == key), None)
                if same is None:
                    opened[words] = each.spot
                elif tls and " tls" not in same:
                    # TLS that one server speaks on a listener is spoken to all.
                    held = {words if other == same else other: spot for other, spot in opened.items()}
                    opened.clear()
                    opened.update(held)
        part.say("listens", list(listens), next(iter(listens.values()), None))
        if defaults:
            part.say("default_on", defaults, next((listens[key] for key in defaults), None))
        return any_tls

    # -- what is given --

    def _giving(self, part: Part, inside: list[Directive], where: str, kind: str | None) -> None:
        """What a server or a location says of what it gives. `kind` is the location's, None for the server itself."""
        access = _Access()
        root: tuple[str, Spot] | None = None
        errors: dict[str, str] = {}
        answered = False
        for each in inside:
            name, words = each.name, each.words
            if name in ("listen", "server_name", "location", "ssl") or _SILENT.fullmatch(name):
                continue
            if name in ("root", "alias") and words:
                root = (words[0], each.spot)
                if "$" in words[0] or not words[0].startswith("/"):
                    part.lose(each.spot, each.text)
                    root = None
                elif name == "alias":
                    root = self._alias(part, each, where, kind)
                elif kind in ("start", "first"):
                    root = (words[0].rstrip("/") + where, each.spot)
            elif name == "index" and words:
                kept = [word for word in words if "$" not in word]
                part.say("index_files", [word.lstrip("/") for word in kept], each.spot)
                if len(kept) < len(words) or any(word.startswith("/") for word in kept):
                    part.lose(each.spot, each.text)
            elif name == "autoindex":
                part.say("listing", words == ("on",), each.spot)
            elif name == "client_max_body_size" and words and (size := _size(words[0])) is not None:
                part.say("largest_body", size or 1 << 50, each.spot)
            elif name == "error_page":
                self._error_page(part, each, errors)
            elif name in ("allow", "deny", "satisfy", "auth_basic", "auth_basic_user_file"):
                access.take(each)
            elif name == "add_header" and words:
                self._header(part, each)
            elif name == "return":
                if not answered:
                    answered = self._return(part, each)
            elif name == "rewrite":
                if not answered:
                    self._rewrite(part, each)
            elif name == "if":
                if not answered:
                    self._if(part, each)
            elif name == "limit_except":
                self._methods(part, each)
            elif name == "try_files":
                self._try_files(part, each, where)
            elif name == "proxy_pass" and words:
                self._upstream(part, each, inside)
            elif name == "ssl_certificate" and words:
                self._certificate(part, each, inside)
            elif name == "disable_symlinks" and kind is None:
                part.say("follows_links", words == ("off",), each.spot)
            elif name == "ssl_protocols":
                if not {"TLSv1.2", "TLSv1.3"} & set(words):
                    part.lose(each.spot, each.text)
            elif name in ("ssl_certificate_key", "proxy_set_header", "proxy_read_timeout", "proxy_redirect") or (
                name.startswith(("proxy_ssl_", "proxy_intercept", "proxy_next_upstream"))
            ):
                if (
                    "proxy_pass" not in {other.name for other in inside}
                    and kind is not None
                    and name == "proxy_redirect"
                ):
                    part.lose(each.spot, each.text)
            else:
                part.lose(each.spot, each.text)
        if root is not None and "upstream" not in part.facts:
            part.say("folder", posixpath.normpath(root[0]), root[1])
        if errors:
            part.facts["error_pages"] = errors
        access.into(part)
        one_source(part)

    def _alias(self, part: Part, each: Directive, where: str, kind: str | None) -> tuple[str, Spot] | None:
        target = each.words[0]
        if kind in ("start", "first"):
            if where.endswith("/") != target.endswith("/"):
                part.lose(each.spot, f"{each.text}: one of the two paths ends in a slash, the other does not")
                return None
            return target, each.spot
        if kind == "exact" and target.endswith(where):
            return target.removesuffix(where) or "/", each.spot
        part.lose(each.spot, each.text)
        return None

    @staticmethod
    def _error_page(part: Part, each: Directive, errors: dict[str, str]) -> None:
        *statuses, page = each.words
        if any(word.startswith("=") for word in statuses) or "$" in page or page.startswith("@") or not is_text(page):
            part.lose(each.spot, each.text)
            return
        for status in statuses:
            if status.isdecimal() and 400 <= int(status) <= 599 and re.match(r"/|https?://", page):
                errors[status] = page
                part.spots["error_pages"] = each.spot
            else:
                part.lose(each.spot, f"error_page {status} {page}")

    @staticmethod
    def _header(part: Part, each: Directive) -> None:
        name, value = each.words[0], each.words[1] if len(each.words) > 1 else ""
        if name.lower() == "cache-control" and "$" not in value and is_text(value):
            part.say("cache_control", value, each.spot)
        elif name.lower() == "set-cookie":
            part.say("sets_cookie", True, each.spot)
        elif not _TOLD.fullmatch(name):
            part.lose(each.spot, f"add_header {name}")

    def _return(self, part: Part, each: Directive) -> bool:
        """A fixed answer; whether it was kept."""
        words = each.words
        if words and not words[0].isdecimal():
            words = ("302", *words)
        if not words:
            part.lose(each.spot, each.text)
            return False
        status = int(words[0])
        if status in (301, 302, 303, 307, 308) and len(words) > 1:
            rule = self._redirect(part, each, words[1], status, None)
            if rule is not None:
                add(part, "redirects", rule)
                return True
            return False
        if 200 <= status <= 599 and not 300 <= status <= 399:
            part.say("answer", status, each.spot)
            return True
        part.lose(each.spot, each.text)
        return False

    def _redirect(
        self, part: Part, each: Directive, target: str, status: int, when: dict[str, object] | None
    ) -> Part | None:
        to = _filled(target, self.server_name)
        if to is None or not is_target(to):
            part.lose(each.spot, each.text)
            return None
        rule = Part(each.spot)
        if when:
            rule.say("when", when)
        rule.say("to", to)
        rule.say("status", status)
        return rule

    def _rewrite(self, part: Part, each: Directive) -> None:
        if len(each.words) < 2:
            part.lose(each.spot, each.text)
            return
        pattern, target, *flags = each.words
        out = re.match(r"https?://|\$scheme", target)
        if not out and flags not in (["permanent"], ["redirect"]):
            part.lose(each.spot, each.text)
            return
        held = _pattern(pattern)
        query = "as-written" if target.endswith("?") or "$request_uri" in target else "joined"
        to = _groups(target.removesuffix("?"))
        if held is None or to is None:
            part.lose(each.spot, each.text)
            return
        rule = self._redirect(part, each, to, 301 if flags == ["permanent"] else 302, {"pattern": held})
        if rule is not None:
            if query != "as-written":
                rule.say("query", query)
            add(part, "redirects", rule)

    def _if(self, part: Part, each: Directive) -> None:
        condition = " ".join(each.words).strip()
        condition = condition.removeprefix("(").removesuffix(")").strip()
        when = _when(condition)
        inside = [one for one in each.block or () if not _SILENT.fullmatch(one.name)]
        if when is None or len(inside) != 1:
            part.lose(each.spot, f"if ({condition})")
            return
        only = inside[0]
        if only.name == "return" and len(only.words) >= 1:
            words = only.words if only.words[0].isdecimal() else ("302", *only.words)
            status = int(words[0])
            if status in (301, 302, 303, 307, 308) and len(words) > 1:
                rule = self._redirect(part, only, words[1], status, when)
                if rule is not None:
                    add(part, "redirects", rule)
                return
        if only.name == "rewrite" and len(only.words) >= 2 and "pattern" not in when:
            held = _pattern(only.words[0])
            flags = list(only.words[2:])
            out = re.match(r"https?://|\$scheme", only.words[1])
            to = _groups(only.words[1].removesuffix("?"))
            if held is not None and to is not None and (out or flags in (["permanent"], ["redirect"])):
                rule = self._redirect(part, only, to, 301 if flags == ["permanent"] else 302, {**when, "pattern": held})
                if rule is not None:
                    if not only.words[1].endswith("?") and "$request_uri" not in only.words[1]:
                        rule.say("query", "joined")
                    add(part, "redirects", rule)
                return
        part.lose(each.spot, f"if ({condition})")

    @staticmethod
    def _methods(part: Part, each: Directive) -> None:
        inside = [(one.name, one.words) for one in each.block or ()]
        if inside == [("deny", ("all",))] and all(map(is_method, each.words)):
            part.say("methods", list(each.words), each.spot)
        else:
            part.lose(each.spot, each.text)

    @staticmethod
    def _try_files(part: Part, each: Directive, where: str) -> None:
        words = list(each.words)
        if words[:2] == ["$uri", "$uri/"] and len(words) == 3:
            last = words[2].partition("?")[0]
            if last == "=404":
                return
            if last.startswith("/") and "$" not in last and not last.endswith(".php"):
                part.say("fallback", last.lstrip("/"), each.spot)
                return
        if words == ["$uri", "=404"] and "." in where:
            # Only files: a folder asked for is not there, and such paths are no folders'.
            return
        part.lose(each.spot, each.text)

    # -- what is behind --

    def _upstream(self, part: Part, each: Directive, inside: list[Directive]) -> None:
        target = each.words[0]
        match = re.fullmatch(r"(https?)://([^/$?]+)((?:/[^$?]*)?)", target)
        if match is None:
            part.lose(each.spot, each.text)
            return
        scheme, name, path = match.groups()
        made = Part(each.spot)
        pool = self.pools.get(name.partition(":")[0]) if name.partition(":")[0] in self.pools else None
        members = list(self._members(pool, scheme, path, part)) if pool is not None else [f"{scheme}://{name}{path}"]
        if not members or not all(map(is_upstream, members)):
            part.lose(each.spot, each.text)
            return
        made.say("to", members if len(members) > 1 else members[0], each.spot)
        if pool is not None:
            made.say("pool", pool.words[0], pool.spot)
        headers: dict[str, str] = {}
        sent_host = False
        for other in inside:
            if other.name == "proxy_set_header" and len(other.words) == 2:
                sent_host |= self._passes(part, made, other, headers)
            elif other.name == "proxy_redirect":
                if other.words == ("off",):
                    made.say("turns_redirects", False, other.spot)
                elif other.words != ("default",):
                    part.lose(other.spot, other.text)
            elif other.name == "proxy_ssl_verify":
                made.say("verifies", other.words == ("on",), other.spot)
            elif other.name == "proxy_ssl_server_name":
                made.say("server_name", other.words == ("on",), other.spot)
            elif other.name == "proxy_intercept_errors":
                made.say("replaces_errors", other.words == ("on",), other.spot)
            elif other.name == "proxy_read_timeout" and (seconds := _seconds(other.words[0])) is not None:
                made.say("answer_within", seconds, other.spot)
            elif other.name in ("proxy_ssl_name", "proxy_ssl_certificate") or (
                other.name == "proxy_next_upstream" and pool is not None and set(other.words) != {"error", "timeout"}
            ):
                part.lose(other.spot, other.text)
        if pool is not None and not sent_host and len(members) == 1:
            # It sends the pool's name.
            if is_name(pool.words[0]):
                made.say("host", pool.words[0], pool.spot)
            else:
                part.lose(pool.spot, f"upstream {pool.words[0]}: its name is sent as the host name")
        if headers:
            made.facts["headers"] = headers
        part.say("upstream", made, each.spot)

    @staticmethod
    def _members(pool: Directive, scheme: str, path: str, part: Part) -> Iterator[str]:
        for each in pool.block or ():
            if each.name == "server" and each.words:
                options = [
                    word
                    for word in each.words[1:]
                    if not word.startswith(("weight=", "max_", "fail_timeout", "resolve"))
                ]
                if "down" in options:
                    continue
                if options or each.words[0].startswith("unix:"):
                    part.lose(each.spot, each.text)
                if not each.words[0].startswith("unix:") and "backup" not in options:
                    yield f"{scheme}://{each.words[0]}{path}"
            elif each.name not in _POOLS:
                part.lose(each.spot, each.text)

    @staticmethod
    def _passes(part: Part, made: Part, each: Directive, headers: dict[str, str]) -> bool:
        """A header field for the program behind; whether it is the host name."""
        name, value = each.words
        if name.lower() == "host":
            if value in ("$host", "$http_host", "$host:$server_port", "${host}"):
                made.say("host", "kept", each.spot)
            elif is_name(value) and value:
                made.say("host", value, each.spot)
            elif value != "$proxy_host":
                part.lose(each.spot, each.text)
            return value != "$proxy_host"
        if _WHO.fullmatch(name):
            return False
        filled = _filled(value, None) if value else ""
        known = filled is not None and not re.search(r"\{(?!scheme\}|host\}|port\})", filled)
        if known and filled and is_header(name) and is_text(filled):
            headers[name] = filled
            made.spots["headers"] = each.spot
        else:
            part.lose(each.spot, f"proxy_set_header {name}")
        return False

    def _certificate(self, part: Part, each: Directive, inside: list[Directive]) -> None:
        path = each.words[0]
        if "certificate" in part.facts or "$" in path or path.startswith(("data:", "engine:")):
            part.lose(each.spot, f"ssl_certificate {path}" if "$" in path or path[:1] == "/" else "ssl_certificate")
            return
        keys = [other.words[0] for other in inside if other.name == "ssl_certificate_key" and other.words]
        full = posixpath.normpath(posixpath.join(self.prefix, path))
        key = posixpath.normpath(posixpath.join(self.prefix, keys[0])) if keys else None
        part.say("certificate", self.out.certificate(full, key, each.spot), each.spot)

    # -- locations --

    def _locations(self, part: Part, inside: list[Directive]) -> None:
        held = [each for each in inside if each.name == "location" and each.block is not None]
        if "answer" in part.facts:
            # What a server answers by itself comes before any location.
            return
        only = (
            len(held) == 1
            and held[0].words == ("/",)
            and not any(one.name == "location" for one in held[0].block or ())
        )
        if only:
            above = [each for each in inside if each.name in ("proxy_set_header", "proxy_redirect", "proxy_read_timeout")
                     or each.name.startswith(("proxy_ssl", "proxy_intercept"))]  # fmt: skip
            self._giving(part, _with_above(list(held[0].block or ()), above), "/", None)
            return
        sections = [section for each in held for section in self._location(part, each, inside)]
        if sections:
            part.say("sections", sections)

    def _location(self, part: Part, each: Directive, above: list[Directive]) -> Iterator[Part]:
        words = each.words
        kind, text = {"=": "exact", "~": "pattern", "~*": "pattern", "^~": "first"}.get(words[0], "start"), words[-1]
        if len(words) == 1:
            # The sign and the path may stand in one word.
            match = re.match(r"(=|~\*|~|\^~)(.+)", text)
            if match:
                kind, text = {"=": "exact", "~": "pattern", "~*": "pattern", "^~": "first"}[match[1]], match[2]
        section = Part(each.spot)
        if text.startswith("@"):
            if any(not _SILENT.fullmatch(one.name) for one in each.block or ()):
                part.lose(each.spot, f"location {text}")
            return
        if kind == "pattern":
            held = _pattern(text)
            if held is None:
                part.lose(each.spot, each.text)
                return
            section.say("pattern", ("(?i)" if "~*" in (words[0], words[0][:2]) else "") + held)
        elif not text.startswith("/") or not is_text(text):
            part.lose(each.spot, each.text)
            return
        elif kind == "exact":
            section.say("exact", text)
        else:
            section.say("path", text)
            if kind == "first":
                section.say("first", True)
        block = list(each.block or ())
        inner = [one for one in block if one.name == "location"]
        passed = [one for one in above if one.name in ("proxy_set_header", "proxy_redirect", "proxy_read_timeout", "root")
                  or one.name.startswith(("proxy_ssl", "proxy_intercept"))]  # fmt: skip
        self._giving(section, _with_above(block, passed, location=True), text, kind)
        if "folder" in section.facts and "fallback" in section.facts:
            # Its file is looked for as any path is, among the sections; the estate knows it of the site's folder only.
            section.lose(section.spots["fallback"], f"try_files ... {section.facts.pop('fallback')}")
        if any(one.name == "internal" for one in block):
            section.unread = [(spot, words) for spot, words in section.unread if words != "internal"]
            section.lose(each.spot, f"location {' '.join(words)}: internal")
        if inner and kind in ("start", "first"):
            for one in inner:
                nested = one.words[-1]
                if len(one.words) == 1 and nested.startswith(text) and not nested.startswith("~"):
                    yield from self._location(
                        part, one.but(block=tuple(_with_above(list(one.block or ()), block))), above
                    )
                else:
                    section.lose(one.spot, one.text)
        elif inner:
            for one in inner:
                section.lose(one.spot, one.text)
        yield section


class _Access:
    """Who is let in, as nginx says it line by line: the first line that fits counts."""

    def __init__(self) -> None:
        self.lines: list[Directive] = []

    def take(self, each: Directive) -> None:
        """One more line."""
        self.lines.append(each)

    def into(self, part: Part) -> None:
        """States it at what the lines are for; what does not come to a list of those let in is not kept."""
        if not self.lines:
            return
        made = Part(self.lines[0].spot)
        allowed: list[str] = []
        denied: list[str] = []
        closed = opened = False
        for each in self.lines:
            word = each.words[0] if each.words else ""
            if each.name == "satisfy":
                made.say("either", word == "any", each.spot)
            elif each.name == "auth_basic":
                made.say("password", word != "off", each.spot)
            elif each.name in ("allow", "deny") and not (closed or opened):
                held = ["0.0.0.0/0", "::/0"] if word == "all" else [a_range(word) or ""]
                if (
                    not held[0]
                    or (each.name == "deny" and word != "all" and allowed)
                    or (each.name == "allow" and denied and word != "all")
                ):
                    part.lose(each.spot, each.text)
                elif each.name == "allow":
                    opened = word == "all"
                    allowed += [] if opened else held
                else:
                    closed = word == "all"
                    denied += [] if closed else held
        if closed and not allowed:
            made.say("nobody", True)
        elif closed:
            made.say("from", allowed)
        if denied and not closed:
            made.say("not_from", denied)
        if made.facts.get("either") is False:
            del made.facts["either"], made.spots["either"]
        part.say("access", made)


def _inherited(each: Directive) -> bool:
    """Whether a server takes it from above where it does not say it itself."""
    return each.name in (
        "root", "index", "autoindex", "client_max_body_size", "error_page", "allow", "deny", "satisfy", "auth_basic",
        "auth_basic_user_file", "add_header", "ssl_certificate", "ssl_certificate_key", "ssl_protocols", "disable_symlinks",
        "proxy_set_header", "proxy_redirect", "proxy_read_timeout", "proxy_intercept_errors",
    ) or each.name.startswith("proxy_ssl_")  # fmt: skip


#: What is inherited only together: one line of its own takes the place of all from above.
_TOGETHER = {"allow": "access", "deny": "access", "auth_basic_user_file": "auth_basic_user_file"}


def _with_above(own: list[Directive], above: list[Directive], location: bool = False) -> list[Directive]:
    """The directives of a block with those that hold from above, which come first."""
    named = {_TOGETHER.get(each.name, each.name) for each in own}
    taken = [each for each in above if _TOGETHER.get(each.name, each.name) not in named]
    if location:
        # Of what is only inherited, the estate's sections have it from their site by themselves.
        passes = any(each.name == "proxy_pass" for each in own)
        taken = [each for each in taken if passes and each.name != "root"]
    return [*taken, *own]


def shown(path: str) -> str:
    """A path of the machine as answers cite it."""
    return path.lstrip("/")


def _key(listener: str) -> str:
    return listener.partition(" ")[0]


def _pattern(text: str) -> str | None:
    """A regular expression in the estate's words; None where it cannot be kept."""
    made = re.sub(r"\(\?<(\w+)>", r"(?P<\1>", text)
    return made if is_pattern(made) else None


def _size(text: str) -> int | None:
    match = re.fullmatch(r"(\d{1,12})([kKmMgG]?)", text)
    return int(match[1]) << {"": 0, "k": 10, "m": 20, "g": 30}[match[2].lower()] if match else None


def _seconds(text: str) -> int | None:
    match = re.fullmatch(r"(\d{1,9})(ms|s|m|h|d)?", text)
    if match is None:
        return None
    return max(1, int(int(match[1]) * {"ms": 0.001, None: 1, "s": 1, "m": 60, "h": 3600, "d": 86400}[match[2]]))


def _filled(text: str, server_name: str | None) -> str | None:
    """A text with nginx's variables as the estate's parts; None where one is not known."""
    lost = False

    def part(match: "re.Match[str]") -> str:
        nonlocal lost
        if match[0] in ("$server_name", "${server_name}") and server_name:
            return server_name
        if match[0] not in _VALUES:
            lost = True
        return _VALUES.get(match[0], "")

    kept = re.sub(r"\{[1-9]\}", lambda match: f"\0{match[0][1]}\0", text)
    if "{" in kept.replace("${", "$") or "}" in re.sub(r"\$\{\w+\}", "", kept):
        return None
    made = _VARIABLE.sub(part, kept)
    return None if lost or "$" in made else re.sub(r"\0(\d)\0", r"{\1}", made)


def _groups(text: str) -> str | None:
    """A rewrite's target with its groups as the estate's."""
    made = re.sub(r"\$(\d)|\$\{(\d)\}", lambda match: f"{{{match[1] or match[2]}}}", text)
    return None if "{0}" in made else made


def _when(condition: str) -> dict[str, object] | None:
    """The estate's words for a condition; None where it has none."""
    match = re.fullmatch(r"(\$\w+)\s*(=|!=|~\*|~|!~\*|!~)\s*(.*)", condition)
    if match is None:
        return None
    variable, sign, value = match.groups()
    value = value.strip().strip("\"'")
    if variable == "$scheme" and sign in ("=", "!=") and value in ("http", "https"):
        return {"scheme": value if sign == "=" else {"http": "https", "https": "http"}[value]}
    if variable == "$https" and sign in ("=", "!=") and value in ("", "on"):
        return {"scheme": "https" if (value == "on") == (sign == "=") else "http"}
    if variable in ("$host", "$http_host"):
        names = [value.lower()] if sign in ("=", "!=") else _names_of(value)
        if names and all(map(is_name, names)):
            return {"host" if sign in ("=", "~", "~*") else "not_host": names}
    if variable == "$server_port" and sign == "=" and value.isdecimal():
        return {"port": int(value)}
    if variable in ("$uri", "$request_uri", "$document_uri") and sign in ("~", "~*", "="):
        held = _pattern(value) if sign != "=" else f"^{re.escape(value)}$"
        if held is not None and (variable != "$request_uri" or "?" not in value.replace("\\?", "?")):
            return {"pattern": ("(?i)" if sign == "~*" else "") + held}
    if variable.startswith("$http_") and sign in ("=", "!=") and is_text(value or "x"):
        name = variable.removeprefix("$http_").replace("_", "-")
        return {"header" if sign == "=" else "not_header": {name: value}} if is_header(name) else None
    return None


def _names_of(pattern: str) -> list[str]:
    """The one name that a simple pattern fits, such as `^www\\.a\\.b$`; none for every other."""
    match = re.fullmatch(r"\^((?:[\w-]|\\?\.)+)\$", pattern)
    return [match[1].replace("\\.", ".").lower()] if match is not None else []
