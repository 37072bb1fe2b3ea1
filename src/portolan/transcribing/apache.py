"""Apache httpd's configuration into a web service of the estate: its listeners, its sites, and who may be served what from where."""

import posixpath
import re
from collections.abc import Iterable, Iterator

from portolan.transcribing.apache_access import access_of
from portolan.transcribing.apache_lines import Reading, defined_by
from portolan.transcribing.apache_rules import Rewrites, aliased, matched
from portolan.transcribing.nginx_lines import Directive
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.sources import Source, SourceError
from portolan.transcribing.web import (
    Gathered,
    add,
    is_header,
    is_method,
    is_name,
    is_pattern,
    is_text,
    is_upstream,
    listener,
    one_source,
)

#: What decides nothing of what a visitor gets.
_SILENT = re.compile(
    r"(?:\w*log\w*|pidfile|mutex|defaultruntimedir|timeout|keepalive\w*|maxkeepaliverequests|hostnamelookups|user|group|accessfilename"
    r"|servertokens|serversignature|traceenable|serveradmin|servername|usecanonical\w*|startservers|m(?:in|ax)\w*|thread\w*|serverlimit"
    r"|asyncrequestworkerfactor|listenbacklog|coredumpdirectory|types\w*|add(?:type|encoding|charset|language|icon\w*|defaultcharset"
    r"|outputfilter\w*|inputfilter|description|handler|alt\w*)|defaulttype|index(?:options|ignore|style\w*|head\w*|order\w*)|default(?:icon|language)|headername|readmename"
    r"|forcelanguagepriority|languagepriority|browsermatch\w*|setenv\w*|unsetenv|passenv|requestreadtimeout|deflate\w*|brotli\w*|filter\w*"
    r"|setoutputfilter|extendedstatus|seerequesttail|proxystatus|expires\w*|enablesendfile|enablemmap|contentdigest|fileetag|protocols\w*"
    r"|h2\w*|ssl(?:random\w*|session\w*|passphrase\w*|cipher\w*|honor\w*|protocol|options|insecure\w*|usestapling|stapling\w*|compression"
    r"|opensslconfcmd|strictsnivhostcheck|cryptodevice)|namevirtualhost|remoteip\w*|security\w*|removehandler|removetype|limitrequest(?:line|fields\w*)"
    r"|proxy(?:requests|via|badheader|iobuffersize|receivebuffersize|addheaders|maxforwards|set|domain)|rewriteengine|rewritemap_|loadfile|directoryslash_"
    r"|authn\w*|authtype|authname|authuserfile|authgroupfile|authbasic\w*|authdigest\w*|authz\w*|script(?:sock|log\w*)|cgid\w*|php_\w+|suexec\w*"
    r"|sethandler_|lockfile|gracefulshutdowntimeout|receivebuffersize|sendbuffersize|acceptfilter|serverpath|define|errorlog\w*|cachelock\w*|mime\w*)"
)  # fmt: skip
_TOLD = re.compile(
    r"(?i)(?:strict-transport-security|x-.*|content-security-policy.*|referrer-policy|permissions-policy|feature-policy"
    r"|access-control-.*|cross-origin-.*|expect-ct|alt-svc|server|pragma|expires|vary|report-to|nel|link|via|etag|last-modified)"
)
_WHO = re.compile(
    r"(?i)(?:x-real-ip|x-forwarded-for|x-client-ip|forwarded|proxy|x-request-id|upgrade|connection|accept-encoding)"
)
_STATUSES = {"permanent": 301, "temp": 302, "seeother": 303}


class ApacheReader:
    """Reads one configuration from its main file on."""

    program = "apache"
    homes = ("/etc/apache2/apache2.conf", "/etc/httpd/conf/httpd.conf", "/usr/local/apache2/conf/httpd.conf")

    @staticmethod
    def recognises(text: str) -> bool:
        """Whether a text is of Apache httpd's configuration."""
        return (
            re.search(
                r"(?im)^\s*(?:<VirtualHost|ServerRoot|Listen|LoadModule|IncludeOptional|DocumentRoot|<Directory)\b",
                text,
            )
            is not None
        )

    def __init__(self, source: Source, main: str, host: str | None = None) -> None:
        self.source = source
        self.main = main
        self.host = host
        folder = posixpath.dirname(main)
        envvars = source.read(posixpath.join(folder, "envvars")) or b""
        root = posixpath.dirname(folder) if posixpath.basename(folder) == "conf" else folder
        self.reading = Reading(source, root, defined_by(envvars.decode("utf-8", "replace")))
        self.out = Gathered(Part(Spot(main.lstrip("/"), 1)), "apache")
        self.balancers: dict[str, Directive] = {}
        self.folders: list[Directive] = []
        #: The listeners of the site that is read now.
        self.bound: list[str] = []

    def read(self) -> Gathered:
        """The service with its sites. Raises SourceError where the program itself would not load it."""
        if self.source.read(self.main) is None:
            raise SourceError(
                f"there is no {self.main}", "Name the folder that holds the main file, or that file itself."
            )
        top = self.reading.file(self.main)
        service = self.out.service
        for each in top:
            if each.name == "user" and each.words and "$" not in each.words[0]:
                service.say("runs_as", each.words[0], each.spot)
            elif each.name == "include":
                service.lose(each.spot, f"include {each.words[0]}: it was not given")
        self.folders = [each for each in top if each.name == "directory" and each.words]
        self.balancers = {each.words[0].rstrip("/"): each for each in top if each.name == "proxy" and each.words}
        self._grants()
        hosts = [each for each in top if each.name == "virtualhost"]
        for each in hosts:
            self.balancers.update(
                {one.words[0].rstrip("/"): one for one in each.block or () if one.name == "proxy" and one.words}
            )
        above = [each for each in top if each.name not in ("virtualhost", "listen", "include", "directory", "proxy")]
        self._listens(top, hosts)
        for each in hosts:
            self._site(each, above)
        taken = {str(key) for site in self.out.sites.values() for key in site.facts.get("listens", [])}
        alone = [key for key in (each.partition(" ")[0] for each in self.listens) if key not in taken]
        if not hosts or alone:
            # What no virtual host takes falls to the main server; without a folder of its own it has the one that is built in.
            main = self._site(Directive("virtualhost", (), tuple(above), service.spot), [])
            main.facts.pop("names", None)
            if "upstream" not in main.facts and "answer" not in main.facts:
                main.facts.setdefault("folder", posixpath.join(self.reading.root, "htdocs"))
            if alone and hosts:
                main.say("listens", alone)
        service.say("sites", self.out.sites)
        self._apart()
        return self.out

    def _grants(self) -> None:
        """The folders that may be served: what is granted where all is denied otherwise."""
        all_denied = any(each.words[0] == "/" and _denies(each.block or ()) for each in self.folders)
        if not all_denied:
            return
        granted = [each for each in self.folders if each.words[0] != "/" and not each.words[0].startswith("~")
                   and not _denies(each.block or ()) and any(one.name in ("require", "allow", "requireany", "requireall") for one in each.block or ())]  # fmt: skip
        paths = [
            path
            for path in (each.words[0].rstrip("/") or "/" for each in granted)
            if path.startswith("/") and "*" not in path
        ]
        self.out.service.say("grants", list(dict.fromkeys(paths)), granted[0].spot if granted else None)

    def _listens(self, top: list[Directive], hosts: list[Directive]) -> None:
        tls = {word.rpartition(":")[2] for each in hosts if _on(each.block or (), "sslengine") for word in each.words}
        listens: dict[str, Spot] = {}
        for each in top:
            if each.name == "listen" and each.words:
                key = listener(each.words[0], everywhere=True)
                if key is None:
                    self.out.service.lose(each.spot, f"Listen {' '.join(each.words)}")
                    continue
                port = key.rpartition(":")[2]
                listens[key + (" tls" if port in tls else "")] = each.spot
        self.out.service.say("listens", list(listens) or ["80"], next(iter(listens.values()), None))
        self.listens = listens

    # -- sites --

    def _site(self, each: Directive, above: list[Directive], included: bool = True) -> Part:
        part = Part(each.spot)
        inside = [*above, *(each.block or ())]
        own = list(each.block or ())
        names: list[str] = []
        for one in own:
            if one.name in ("servername", "serveralias"):
                for word in one.words:
                    name = re.sub(r"^https?://|:\d+$", "", word).lower()
                    if is_name(name):
                        names.append(name)
                        part.spots.setdefault("names", one.spot)
                    else:
                        part.lose(one.spot, f"{one.name} {word}")
        base = next((name for name in names), "") or posixpath.basename(each.spot.file).removesuffix(".conf")
        base = base.removeprefix("*").strip(".").removesuffix(".*")
        secure = _on(own, "sslengine")
        name = self.out.site_name(base if secure or base not in self.out.sites else f"{base}-plain")
        self.out.sites[name] = part
        part.say("written_in", "/" + each.spot.file)
        if names:
            part.say("names", list(dict.fromkeys(names)), part.spots["names"])
        self._bound(part, each, included)
        root = _last(inside, "documentroot")
        if root is not None and root.words and root.words[0].startswith("/"):
            part.say("folder", posixpath.normpath(root.words[0]), root.spot)
        if secure:
            self._certificate(part, inside)
        self._giving(part, inside, "")
        self._folders(part, inside)
        return part

    def _bound(self, part: Part, each: Directive, included: bool) -> None:
        """The listeners that a virtual host takes requests from."""
        bound: list[str] = []
        for word in each.words:
            host, _, port = word.rpartition(":") if re.search(r":(?:\d+|\*)$", word) else (word, "", "*")
            held = [key.partition(" ")[0] for key in self.listens]
            for key in held:
                address, _, number = key.rpartition(":")
                if port not in ("*", number or key):
                    continue
                if host in ("*", "_default_", "") or address in ("", host, f"[{host}]"):
                    bound.append(key if host in ("*", "_default_", "") or address else f"{host}:{key}")
            if included and not any(port in ("*", key.rpartition(":")[2] or key) for key in held):
                part.lose(each.spot, f"VirtualHost {word}: nothing listens there")
        self.bound = bound
        if bound:
            part.say("listens", list(dict.fromkeys(bound)))

    def _certificate(self, part: Part, inside: list[Directive]) -> None:
        file, key = _last(inside, "sslcertificatefile"), _last(inside, "sslcertificatekeyfile")
        if file is None or not file.words:
            return
        path = posixpath.normpath(posixpath.join(self.reading.root, file.words[0]))
        named = (
            posixpath.normpath(posixpath.join(self.reading.root, key.words[0]))
            if key is not None and key.words
            else None
        )
        part.say("certificate", self.out.certificate(path, named, file.spot), file.spot)

    # -- what is given --

    def _giving(self, part: Part, inside: Iterable[Directive], where: str) -> None:
        """What a virtual host, or a part of one, says of what it gives."""
        inside = list(inside)
        ports = {str(each).rpartition(":")[2] for each in self.bound}
        rewrites = Rewrites(part, where, not ports or bool(ports & {"80", "443"}))
        access = access_of([each for each in inside if each.name in _ACCESS], part)
        if access is not None and (access.facts or where):
            part.say("access", access)
        elif access is not None:
            part.facts.pop("access", None)
        engine = _on(inside, "rewriteengine")
        for each in inside:
            name, words = each.name, each.words
            if name in _ACCESS or name in (
                "documentroot",
                "serveralias",
                "sslengine",
                "sslcertificatefile",
                "sslcertificatekeyfile",
            ):
                continue
            if name == "directoryindex":
                part.say(
                    "index_files",
                    [] if words == ("disabled",) else [word for word in words if is_text(word)],
                    each.spot,
                )
            elif name == "options":
                _options(part, each, where)
            elif name == "allowoverride":
                if not where:
                    part.say(
                        "reads_rule_files",
                        words != ("None",) and [word.lower() for word in words] != ["none"],
                        each.spot,
                    )
            elif name == "errordocument" and len(words) >= 2:
                _error_page(part, each)
            elif name == "fallbackresource" and words:
                if words[0] != "disabled":
                    part.say("fallback", words[0].lstrip("/"), each.spot)
            elif name == "limitrequestbody" and words and words[0].isdecimal():
                part.say("largest_body", int(words[0]) or 1 << 50, each.spot)
            elif name in ("redirect", "redirectpermanent", "redirecttemp", "redirectmatch"):
                self._redirect(part, each, where)
            elif name in ("rewriterule", "rewritecond"):
                if engine:
                    rewrites.take(each)
            elif name == "header":
                _header(part, each)
            elif name in ("limitexcept", "limit"):
                _methods(part, each)
            elif (
                name == "sethandler"
                and words
                and words[0].lower() in ("server-status", "server-info", "balancer-manager")
            ):
                part.say("answer", 200, each.spot)
            elif name == "rewritebase" and words == ("/",):
                continue
            elif name == "if":
                part.lose(each.spot, "<If>")
            elif name in _ELSEWHERE or _SILENT.fullmatch(name):
                continue
            else:
                part.lose(each.spot, f"{name} {' '.join(words)}".strip())

    @staticmethod
    def _redirect(part: Part, each: Directive, where: str) -> None:
        words = list(each.words)
        status = {"redirectpermanent": 301, "redirecttemp": 302}.get(each.name, 302)
        if (
            each.name in ("redirect", "redirectmatch")
            and words
            and (words[0] in _STATUSES or words[0] == "gone" or words[0].isdecimal())
        ):
            status = 410 if words[0] == "gone" else _STATUSES.get(words[0]) or int(words[0])
            words = words[1:]
        if where and len(words) == 1:
            words = [where, *words]
        if (
            each.name == "redirect"
            and len(words) == 1
            and words[0].startswith("/")
            and 400 <= status <= 599
            and not where
        ):
            ApacheReader._refusal(part, words[0], status, each.spot)
            return
        made = (matched if each.name == "redirectmatch" else aliased)(words, status, each.spot)
        if made is None:
            part.lose(each.spot, f"{each.name} {' '.join(each.words)}")
            return
        for rule in made:
            add(part, "redirects", rule)

    @staticmethod
    def _refusal(part: Part, path: str, status: int, spot: Spot) -> None:
        """A status for a path and all below it: what is there no more, or never was."""
        if path == "/":
            part.say("answer", status, spot)
            return
        section = Part(spot)
        section.say("path", path)
        section.say("answer", status)
        add(part, "(refusals)", section)

    # -- folders, places, what is behind --

    def _folders(self, part: Part, inside: list[Directive]) -> None:
        """What is otherwise for some paths: places, folders, what lies elsewhere, what is passed on; in the program's order."""
        root = str(part.facts.get("folder", ""))
        ruled = [each for each in [*self.folders, *(one for one in inside if one.name == "directory" and one.words)]
                 if not each.words[0].startswith("~") and "*" not in each.words[0]]  # fmt: skip
        ruled.sort(key=lambda each: each.words[0].rstrip("/").count("/"))
        sections: list[Part] = []
        for each in ruled:
            path = each.words[0].rstrip("/") or "/"
            if path != "/" and root and (root + "/").startswith(path + "/"):
                # A folder's own word replaces what its parents say, where it says it.
                held = part.facts.pop("access", None)
                self._giving(part, each.block or (), "")
                if "access" not in part.facts and held is not None and not _allows(each.block or ()):
                    part.facts["access"] = held
            elif root and path.startswith(root + "/"):
                section = Part(each.spot)
                section.say("path", path.removeprefix(root) + "/")
                self._giving(section, each.block or (), path.removeprefix(root))
                sections.append(section)
        passed = list(self._passed(part, inside, root))
        # What is passed on was never mapped to a folder, so that no folder's word is about it.
        behind = [str(each.facts["path"]) for each in passed if "upstream" in each.facts]
        sections = [each for each in sections if not any(str(each.facts["path"]).startswith(start) for start in behind)]
        for each in inside:
            if each.name == "alias" and len(each.words) == 2 and each.words[1].startswith("/"):
                section = Part(each.spot)
                section.say("path", each.words[0])
                section.say("folder", posixpath.normpath(each.words[1]))
                for one in ruled:
                    if (posixpath.normpath(each.words[1]) + "/").startswith(
                        one.words[0].rstrip("/") + "/"
                    ) and one.words[0] != "/":
                        self._giving(section, one.block or (), each.words[0])
                        section.facts.pop("reads_rule_files", None)
                        if section.facts.get("access") is not None and not section.facts["access"].facts:
                            del section.facts["access"]
                sections.append(section)
            elif each.name in ("location", "locationmatch", "files", "filesmatch") and each.words:
                place = self._place(part, each)
                if place is not None:
                    sections.append(place)
            elif each.name in (
                "aliasmatch",
                "scriptalias",
                "scriptaliasmatch",
                "directorymatch",
                "wsgiscriptalias",
                "userdir",
                "proxymatch",
            ) and not (each.name == "userdir" and each.words[:1] == ("disabled",)):
                part.lose(each.spot, f"{each.name} {' '.join(each.words)}")
        if passed and not sections and len(passed) == 1 and passed[0].facts.get("path") == "/":
            part.say("upstream", passed[0].facts["upstream"], passed[0].spot)
            passed = []
        # The first that says where an answer comes from counts: what is passed on comes before folders.
        sections = [*part.facts.pop("(refusals)", []), *passed, *sections]
        for section in sections:
            one_source(section)
        if sections:
            part.say("sections", sections)
        root_kept = part.facts.get("folder")
        one_source(part)
        if root_kept is not None and "answer" not in part.facts and sections:
            part.facts["folder"] = root_kept
        self._rule_files(part, root)

    def _place(self, part: Part, each: Directive) -> Part | None:
        section = Part(each.spot)
        words = [word for word in each.words if word != "~"]
        if not words:
            return None
        text = words[0]
        if (
            each.name == "location"
            and "~" not in each.words
            and not re.search(r"[*?\[]", text)
            and text.startswith("/")
        ):
            section.say("path", text)
        else:
            if each.name.startswith("location"):
                pattern = text
            elif each.name == "filesmatch" or "~" in each.words:
                pattern = (
                    "/"
                    + (text[1:] if text.startswith("^") else "[^/]*" + text)
                    + ("" if text.endswith("$") else "[^/]*$")
                )
            else:
                pattern = "/" + re.sub(r"\\\*", "[^/]*", re.escape(text)).replace("\\?", "[^/]") + "$"
            if not is_pattern(pattern):
                part.lose(each.spot, f"<{each.name} {' '.join(each.words)}>")
                return None
            section.say("pattern", pattern)
        self._giving(
            section,
            [one for one in each.block or () if one.name != "proxypass"],
            text if "path" in section.facts else "",
        )
        upstream = next((one for one in each.block or () if one.name == "proxypass" and one.words), None)
        if upstream is not None and "path" in section.facts:
            made = self._behind(part, upstream, upstream.words[0], list(each.block or ()))
            if made is not None:
                section.say("upstream", made, upstream.spot)
        inner = [one for one in each.block or () if one.name in ("proxypassreverse", "proxypreservehost")]
        if len(section.facts) == 1 and not section.unread and not inner:
            return None
        return section

    def _passed(self, part: Part, inside: list[Directive], root: str) -> Iterator[Part]:
        for each in inside:
            if each.name == "proxypassmatch" and each.words:
                part.lose(each.spot, f"ProxyPassMatch {' '.join(each.words)}")
            if each.name != "proxypass" or len(each.words) < 2:
                continue
            path, target = each.words[:2]
            section = Part(each.spot)
            if not path.startswith("/") or not is_text(path):
                part.lose(each.spot, f"ProxyPass {path}")
                continue
            section.say("path", path)
            if target == "!":
                section.say("folder", posixpath.normpath(f"{root or '/var/empty'}/{path}"))
                yield section
                continue
            made = self._behind(part, each, target, inside)
            if made is not None:
                section.say("upstream", made)
                yield section

    def _behind(self, part: Part, each: Directive, target: str, inside: list[Directive]) -> Part | None:
        made = Part(each.spot)
        match = re.fullmatch(r"balancer://([^/]+)(/.*)?", target)
        members = [target]
        if match is not None:
            pool = self.balancers.get(f"balancer://{match[1]}")
            members = [one.words[0].rstrip("/") + (match[2] or "") for one in (pool.block or () if pool is not None else ())
                       if one.name == "balancermember" and one.words and not {"status=+H", "status=+D"} & set(one.words)]  # fmt: skip
            made.say("pool", match[1] if is_name(match[1]) else "pool")
        options = [
            word
            for word in each.words[2:]
            if not word.startswith(
                (
                    "timeout",
                    "connectiontimeout",
                    "retry",
                    "keepalive",
                    "nocanon",
                    "upgrade=",
                    "stickysession",
                    "max",
                    "min",
                    "ttl",
                    "disablereuse",
                )
            )
        ]
        if not members or not all(map(is_upstream, members)) or options:
            part.lose(each.spot, f"ProxyPass {' '.join(each.words)}")
            if not members or not all(map(is_upstream, members)):
                return None
        made.say("to", members if len(members) > 1 else members[0])
        headers: dict[str, str] = {}
        wait = next((word.partition("=")[2] for word in each.words[2:] if word.startswith("timeout=")), None)
        for one in inside:
            if one.name == "proxypreservehost" and [word.lower() for word in one.words] == ["on"]:
                made.say("host", "kept", one.spot)
            elif one.name == "proxypassreverse" and one.words and one.words[-1].rstrip("/") == target.rstrip("/"):
                made.say("turns_redirects", True, one.spot)
            elif one.name == "proxyerroroverride" and [word.lower() for word in one.words[:1]] == ["on"]:
                made.say("replaces_errors", True, one.spot)
            elif one.name == "proxytimeout" and one.words and one.words[0].isdecimal():
                made.say("answer_within", int(one.words[0]), one.spot)
            elif one.name == "sslproxyverify":
                made.say("verifies", [word.lower() for word in one.words] == ["require"], one.spot)
            elif one.name == "requestheader" and len(one.words) >= 2:
                _passes(part, made, one, headers)
        if wait and wait.isdecimal():
            made.say("answer_within", int(wait))
        if headers:
            made.facts["headers"] = headers
        return made

    # -- files beside --

    def _rule_files(self, part: Part, root: str) -> None:
        """The files of rules within a site's folder, where they were given too."""
        if not root or not part.facts.get("reads_rule_files"):
            return
        for path in self.source.paths():
            if not path.startswith(root + "/") or posixpath.basename(path) != ".htaccess":
                continue
            within = posixpath.dirname(path).removeprefix(root).strip("/")
            spot = Spot(path.lstrip("/"), 1)
            rule = Part(spot)
            if within:
                rule.say("in", within)
            try:
                held = Reading(self.source, self.reading.root, dict(self.reading.defined))
                held.modules = self.reading.modules
                inside = held.file(path)
            except SourceError as error:
                rule.say("broken", error.message)
            else:
                found = Part(spot)
                self._giving(found, inside, f"/{within}/" if within else "/")
                for key in ("redirects", "access", "index_files"):
                    if key in found.facts:
                        rule.say(key, found.facts[key], found.spots.get(key))
                for key in found.facts:
                    if key not in ("redirects", "access", "index_files", "listing", "follows_links"):
                        part.lose(found.spots.get(key, spot), f"{key} in a file of rules")
                part.unread += found.unread
            add(part, "rule_files", rule)

    def _apart(self) -> None:
        """Sites in files that lie where sites lie, and that nothing includes."""
        folder = posixpath.dirname(self.main)
        for path in self.source.paths():
            if path in self.reading.files or posixpath.dirname(path) != posixpath.join(folder, "sites-available"):
                continue
            data = self.source.read(path)
            if any(self.source.read(each) == data for each in self.reading.files):
                continue
            try:
                held = self.reading.file(path)
            except SourceError:
                continue
            for each in held:
                if each.name == "virtualhost":
                    self._site(each, [], included=False).say("included", False)


#: Who is let in; worked out together.
_ACCESS = frozenset(("require", "requireall", "requireany", "requirenone", "satisfy", "order", "allow", "deny"))
#: What is looked at where it decides.
_ELSEWHERE = frozenset(
    ("alias", "aliasmatch", "scriptalias", "scriptaliasmatch", "proxypass", "proxypassmatch", "proxypassreverse", "proxypreservehost", "proxymatch",
     "proxyerroroverride", "proxytimeout", "sslproxyverify", "sslproxyengine", "sslproxycheckpeername", "sslproxycheckpeercn", "sslproxycheckpeerexpire",
     "requestheader", "location", "locationmatch", "files", "filesmatch", "directory", "directorymatch", "proxy", "sslcertificatechainfile",
     "userdir", "wsgiscriptalias", "sslcacertificatefile", "proxypassreversecookiedomain", "proxypassreversecookiepath", "listen", "include")
)  # fmt: skip


def _on(inside: Iterable[Directive], name: str) -> bool:
    held = [each for each in inside if each.name == name and each.words]
    return bool(held) and held[-1].words[0].lower() == "on"


def _last(inside: Iterable[Directive], name: str) -> Directive | None:
    return next((each for each in reversed(list(inside)) if each.name == name), None)


def _denies(block: Iterable[Directive]) -> bool:
    return any((each.name == "require" and tuple(map(str.lower, each.words)) == ("all", "denied"))
               or (each.name == "deny" and tuple(map(str.lower, each.words)) == ("from", "all")) for each in block)  # fmt: skip


def _allows(block: Iterable[Directive]) -> bool:
    return any(each.name in _ACCESS for each in block)


def _options(part: Part, each: Directive, where: str) -> None:
    words = [word.lower() for word in each.words]
    whole = not any(word.startswith(("+", "-")) for word in words)
    for key, names in (
        ("listing", ("indexes", "all")),
        ("follows_links", ("followsymlinks", "symlinksifownermatch", "all")),
    ):
        on = any(word.removeprefix("+") in names for word in words if not word.startswith("-"))
        off = any(word == f"-{name}" for word in words for name in names)
        if key == "follows_links" and where:
            continue  # the estate has it of whole sites
        if on or off or whole:
            part.say(key, on and not off, each.spot)


def _error_page(part: Part, each: Directive) -> None:
    status, page = each.words[0], " ".join(each.words[1:])
    if not re.match(r"/|https?://", page):
        return  # a text in place of the program's own: the status is the same
    if not is_text(page) or re.search(r"[ \"'\\]", page) or not (status.isdecimal() and 400 <= int(status) <= 599):
        part.lose(each.spot, f"ErrorDocument {status}")
        return
    part.facts.setdefault("error_pages", {})[status] = page
    part.spots["error_pages"] = each.spot


def _header(part: Part, each: Directive) -> None:
    words = [word for word in each.words if word.lower() not in ("always", "onsuccess")]
    if len(words) < 2:
        return
    action, name = words[0].lower(), words[1].rstrip(":")
    if (
        name.lower() == "cache-control"
        and action in ("set", "append", "merge", "add")
        and len(words) == 3
        and is_text(words[2])
    ):
        part.say("cache_control", words[2], each.spot)
    elif name.lower() == "set-cookie" and action in ("set", "add", "append"):
        part.say("sets_cookie", True, each.spot)
    elif not _TOLD.fullmatch(name) and action not in ("unset", "edit", "echo", "edit*"):
        part.lose(each.spot, f"Header {name}")


def _methods(part: Part, each: Directive) -> None:
    if each.name == "limitexcept" and _denies(each.block or ()) and all(map(is_method, each.words)):
        part.say("methods", [word for word in each.words if word != "HEAD" or "GET" not in each.words], each.spot)
    else:
        part.lose(each.spot, f"<{each.name} {' '.join(each.words)}>")


def _passes(part: Part, made: Part, each: Directive, headers: dict[str, str]) -> None:
    action, name, *rest = each.words
    if _WHO.fullmatch(name) or action.lower() in ("unset", "edit"):
        return
    value = rest[0] if rest else ""
    value = {
        "%{REQUEST_SCHEME}e": "{scheme}",
        "expr=%{REQUEST_SCHEME}": "{scheme}",
        "%{REQUEST_SCHEME}s": "{scheme}",
    }.get(value, value)
    if (
        action.lower() == "set"
        and is_header(name)
        and is_text(value)
        and not re.search(r"%\{|^expr=", value)
        and len(rest) == 1
    ):
        headers[name] = value
        made.spots["headers"] = each.spot
    else:
        part.lose(each.spot, f"RequestHeader {name}")
