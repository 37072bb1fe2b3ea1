"""nginx's configuration into a web service of the estate: what it says of who gets what, in nginx's own order.

What the estate has no word for is told at its site or section; what decides nothing of what a visitor gets (logs, buffers,
limits of the machine) is passed over.
"""

import posixpath
import re
from collections.abc import Iterable, Iterator

from portolan.estate.names import is_exact
from portolan.transcribing.directive import Directive, UnfinishedError
from portolan.transcribing.nginx_giving import Around, Giving, rates_of
from portolan.transcribing.nginx_lines import directives
from portolan.transcribing.nginx_silent import SILENT
from portolan.transcribing.nginx_words import pattern
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.sources import Source, SourceError
from portolan.transcribing.web import (
    Gathered,
    is_name,
    is_text,
    listener,
    without_lookahead,
)

_SERVER_PARTS = ("server", "types", "upstream", "map", "geo", "include")
_MOST_INCLUDED = 20_000


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
        self.rates: dict[str, tuple[int, str]] = {}
        #: What stands in the files that were included, once that is asked.
        self.contents: set[bytes] | None = None
        self.out = Gathered(Part(Spot(shown(main), 1)), "nginx")

    def read(self) -> Gathered:
        """The service with its sites. Raises SourceError where the program itself would not load it."""
        top = self._file(self.main, ())
        if top is None:
            raise SourceError(f"there is no {self.main}", "Name the folder that holds nginx.conf, or that file itself.")
        web = [each for each in top if each.name == "http" and each.block is not None]
        for each in top:
            if each.name == "user" and each.words:
                self.out.service.say("runs_as", each.words[0], each.spot)
            elif each.name != "http" and not SILENT.fullmatch(each.name):
                self.out.service.lose(each.spot, each.text)
        inside = [each for block in web for each in block.block or ()]
        self.pools = {each.words[0]: each for each in inside if each.name == "upstream" and each.words}
        self.rates = rates_of([each for each in inside if each.name == "limit_req_zone" and each.words])
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
            elif path.rpartition("/")[2] not in _SHIPPED:
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
        if self.contents is None:
            self.contents = {self.source.read(each) or b"" for each in self.files}
        return (self.source.read(path) or b"") in self.contents

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
            if not _inherited(each) and not SILENT.fullmatch(each.name) and each.name != "include":
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
        tls = self._listens(part, inside, opened)
        wanted = next((word for each in names for word in each.words if is_name(word.lower()) and word != "_"), "")
        base = wanted.lower().removeprefix("*").strip(".").removesuffix(".*") or posixpath.basename(server.spot.file)
        name = self.out.site_name(base if tls or base not in self.out.sites else f"{base}-plain")
        self.out.sites[name] = part
        part.say("written_in", "/" + server.spot.file)
        around = Around(
            self.out,
            self.prefix,
            self.pools,
            first if is_exact(first) else None,
            {
                each.words[0]: each
                for each in inside
                if each.name == "location" and each.words and each.words[0][:1] == "@"
            },
            self.rates,
            next((each.words[0] for each in inside if each.name == "limit_req_status" and each.words), "503"),
        )
        Giving(around, part, inside, "", None).read()
        self._locations(around, part, inside)
        return part

    def _names(self, part: Part, names: list[Directive]) -> None:
        plain: list[str] = []
        patterns: list[str] = []
        for each in names:
            for word in each.words:
                text = self.host if word == "$hostname" and self.host else word
                if text.startswith("~"):
                    made = pattern(text[1:])
                    if made is None:
                        part.lose(each.spot, f"server_name {word}")
                    else:
                        patterns.append("(?i)" + made)
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

    # -- locations --

    def _locations(self, around: Around, part: Part, inside: list[Directive]) -> None:
        held = [each for each in inside if each.name == "location" and each.block is not None]
        if "answer" in part.facts:
            # What a server answers by itself comes before any location.
            return
        open_ = [each for each in held if each.words[:1] not in [(name,) for name in around.named]]
        if (
            len(open_) == 1
            and open_[0].words == ("/",)
            and not any(one.name == "location" for one in open_[0].block or ())
        ):
            above = [each for each in inside if _of_passing(each)]
            Giving(around, part, _with_above(list(open_[0].block or ()), above), "/", None).read()
            for each in held:
                if each is not open_[0]:
                    list(self._location(around, part, each, inside))
            return
        sections = [section for each in held for section in self._location(around, part, each, inside)]
        if sections:
            part.say("sections", sections)

    def _location(self, around: Around, part: Part, each: Directive, above: list[Directive]) -> Iterator[Part]:
        parted = _left_out(each)
        if parted is not None:
            # Of patterns the first counts: what the next one leaves out is as at the site.
            section = Part(each.spot)
            section.say("pattern", parted[0])
            yield section
            each = each.but(words=(*each.words[:-1], parted[1]))
        named = each.words[0] if each.words else ""
        if named in around.named and any(_leads(one, named) for one in _every(above)):
            return  # it is read with what leads there
        opened = _opened(part, each)
        if opened is None:
            return
        section, kind, text = opened
        block = list(each.block or ())
        passed = [one for one in above if one.name == "root" or _of_passing(one)]
        Giving(around, section, _with_above(block, passed, location=True), text, kind).read()
        if "folder" in section.facts and "tries" in section.facts:
            section.lose(section.spots["tries"], f"try_files {' '.join(section.facts.pop('tries'))}")
            section.facts.pop("fallback", None)
        if "folder" in section.facts and "fallback" in section.facts:
            # Its file is looked for as any path is, among the sections; the estate knows it of the site's folder only.
            section.lose(section.spots["fallback"], f"try_files ... {section.facts.pop('fallback')}")
        inner = next((one for one in block if one.name == "internal"), None)
        if inner is not None:
            section.unread = [(spot, words) for spot, words in section.unread if words != "internal"]
            section.say("inner_only", True, inner.spot)
        for one in (one for one in block if one.name == "location"):
            nested = one.words[-1] if one.words else ""
            if kind in ("start", "first") and len(one.words) == 1 and nested.startswith(text):
                whole = one.but(block=tuple(_with_above(list(one.block or ()), block)))
                yield from self._location(around, part, whole, above)
            else:
                section.lose(one.spot, one.text)
        yield section


def _left_out(each: Directive) -> tuple[str, str] | None:
    """What the pattern of a location leaves out by looking ahead, as a pattern of its own, and the location's without it."""
    parted = without_lookahead(each.words[-1]) if each.words[:1] in (("~",), ("~*",)) else None
    if parted is None or pattern(parted[1]) is None:
        return None
    other = pattern(("(?i)" if each.words[0] == "~*" else "") + parted[0])
    return (other, parted[1]) if other is not None else None


def _every(held: Iterable[Directive]) -> Iterator[Directive]:
    for each in held:
        yield each
        yield from _every(each.block or ())


def _leads(each: Directive, named: str) -> bool:
    """Whether a directive leads to a place with a name."""
    return each.name == "try_files" and named in each.words


#: Files that the program's packages bring along, and that say nothing of what a visitor gets.
_SHIPPED = ("mime.types", "fastcgi_params", "fastcgi.conf", "fastcgi-php.conf", "proxy_params")
_SIGNS = {"=": "exact", "~": "pattern", "~*": "pattern", "^~": "first"}


def _opened(part: Part, each: Directive) -> tuple[Part, str, str] | None:
    """A location's section, its kind and its path; None where it is no place for visitors, or has no word in the estate."""
    sign, text = (each.words[0], each.words[-1]) if len(each.words) > 1 else ("", each.words[0] if each.words else "")
    if not sign:
        # The sign and the path may stand in one word.
        match = re.match(r"(=|~\*|~|\^~)(.+)", text)
        sign, text = (match[1], match[2]) if match else ("", text)
    kind, section = _SIGNS.get(sign, "start"), Part(each.spot)
    if text.startswith("@"):
        if any(not SILENT.fullmatch(one.name) for one in each.block or ()):
            part.lose(each.spot, f"location {text}")
        return None
    held = pattern(text) if kind == "pattern" else None
    if held is None and (kind == "pattern" or not text.startswith("/") or not is_text(text)):
        part.lose(each.spot, each.text)
        return None
    if held is not None:
        section.say("pattern", ("(?i)" if sign == "~*" else "") + held)
    else:
        section.say("exact" if kind == "exact" else "path", text)
        if kind == "first":
            section.say("first", True)
    return section, kind, text


_INHERITED = frozenset(
    [
        "root",
        "limit_req",
        "limit_req_status",
        "index",
        "autoindex",
        "client_max_body_size",
        "error_page",
        "allow",
        "deny",
        "satisfy",
        "auth_basic",
        "auth_basic_user_file",
        "add_header",
        "ssl_certificate",
        "ssl_certificate_key",
        "ssl_protocols",
        "ssl_verify_client",
        "absolute_redirect",
        "server_name_in_redirect",
        "port_in_redirect",
        "disable_symlinks",
        "set_real_ip_from",
        "real_ip_header",
        "real_ip_recursive",
        "proxy_set_header",
        "proxy_redirect",
        "proxy_read_timeout",
        "proxy_intercept_errors",
    ]
)


def _inherited(each: Directive) -> bool:
    """Whether a server takes it from above where it does not say it itself."""
    return each.name in _INHERITED or each.name.startswith("proxy_ssl_")


def _of_passing(each: Directive) -> bool:
    """Whether it is about what is passed on."""
    named = ("proxy_set_header", "proxy_redirect", "proxy_read_timeout")
    return each.name in named or each.name.startswith(("proxy_ssl", "proxy_intercept"))


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
