"""Apache httpd's configuration into a web service of the estate: its listeners, its sites, and who may be served what from where."""

import posixpath
import re
from collections.abc import Iterable

from portolan.transcribing.apache_giving import Giving, denies, on
from portolan.transcribing.apache_lines import Reading, defined_by
from portolan.transcribing.apache_places import Places
from portolan.transcribing.directive import Directive
from portolan.transcribing.part import Part, Spot
from portolan.transcribing.sources import Source, SourceError
from portolan.transcribing.web import (
    Gathered,
    add,
    is_starred,
    listener,
)


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
        for spot, words in self.reading.unknown:
            service.lose(spot, words)
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
        all_denied = any(each.words[0] == "/" and denies(each.block or ()) for each in self.folders)
        if not all_denied:
            return
        speaks = ("require", "allow", "requireany", "requireall")
        granted = [
            each
            for each in self.folders
            if each.words[0].startswith("/")
            and each.words[0] != "/"
            and not denies(each.block or ())
            and any(one.name in speaks for one in each.block or ())
        ]
        paths = [
            path
            for path in (each.words[0].rstrip("/") or "/" for each in granted)
            if path.startswith("/") and "*" not in path
        ]
        self.out.service.say("grants", list(dict.fromkeys(paths)), granted[0].spot if granted else None)

    def _listens(self, top: list[Directive], hosts: list[Directive]) -> None:
        tls = {word.rpartition(":")[2] for each in hosts if on(each.block or (), "sslengine") for word in each.words}
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
                    if is_starred(name):
                        names.append(name)
                        part.spots.setdefault("names", one.spot)
                    else:
                        part.lose(one.spot, f"{one.name} {word}")
        base = (names[0] if names else "") or posixpath.basename(each.spot.file).removesuffix(".conf")
        base = base.removeprefix("*").strip(".").removesuffix(".*")
        secure = on(own, "sslengine")
        name = self.out.site_name(base if secure or base not in self.out.sites else f"{base}-plain")
        self.out.sites[name] = part
        part.say("written_in", "/" + each.spot.file)
        if names:
            part.say("names", list(dict.fromkeys(names)), part.spots["names"])
        self._bound(part, each, included)
        root = _last(inside, "documentroot")
        if root is not None and root.words and root.words[0].startswith("/"):
            part.say("folder", posixpath.normpath(root.words[0]), root.spot)
        elif root is not None:
            part.lose(root.spot, root.text)
        by_name = _last(inside, "virtualdocumentroot")
        if by_name is not None:
            led = _led(by_name.words[0]) if by_name.words else None
            if led is None:
                part.lose(by_name.spot, by_name.text)
            else:
                part.say("folder", led, by_name.spot)
        if secure:
            self._certificate(part, inside)
            self._handshake(part, inside)
        ports = {str(one).rpartition(":")[2] for one in self.bound}
        usual = not ports or bool(ports & {"80", "443"})
        Giving(part, inside, "", usual).read()
        Places(part, inside, self.folders, self.balancers, usual).read()
        self._rule_files(part, str(part.facts.get("folder", "")))
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

    def _handshake(self, part: Part, inside: list[Directive]) -> None:
        """The versions of TLS, and whether clients are asked for certificates."""
        spoken, asks = _last(inside, "sslprotocol"), _last(inside, "sslverifyclient")
        if spoken is not None:
            versions = _versions(spoken.words)
            if not versions:
                part.lose(spoken.spot, f"SSLProtocol {' '.join(spoken.words)}")
            elif len(versions) == 1:
                part.say("tls_versions", versions, spoken.spot)
        if asks is not None:
            asked = {"require": "required", "optional": "asked"}.get(asks.words[0].lower() if asks.words else "")
            if asked is not None:
                part.say("client_certificates", asked, asks.spot)
            elif [each.lower() for each in asks.words] != ["none"]:
                part.lose(asks.spot, f"SSLVerifyClient {' '.join(asks.words)}")

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
                Giving(found, inside, f"/{within}/" if within else "/", True).read()
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
        taken = {self.source.read(each) for each in self.reading.files}
        for path in self.source.paths():
            if path in self.reading.files or posixpath.dirname(path) != posixpath.join(folder, "sites-available"):
                continue
            if self.source.read(path) in taken:
                continue
            try:
                held = self.reading.file(path)
            except SourceError:
                continue
            for each in held:
                if each.name == "virtualhost":
                    self._site(each, [], included=False).say("included", False)


def _versions(words: Iterable[str]) -> list[str]:
    """The versions of today that a list leaves, each word adding to or taking from those before."""
    spoken: set[str] = set()
    for word in words:
        named = word.lstrip("+-").lower()
        held = {"1.2", "1.3"} if named == "all" else {named.removeprefix("tlsv")} & {"1.2", "1.3"}
        spoken = spoken - held if word[:1] == "-" else spoken | held if word[:1] == "+" else held or spoken
    return sorted(spoken)


def _led(path: str) -> str | None:
    """A path that the name asked for leads to; None where it says what the estate has no word for (ports, single letters)."""

    def place(found: re.Match[str]) -> str:
        if found[1] == "%":
            return "%"
        return "{name}" if found[2] == "0" else f"{{label:{found[2]}}}"

    word = re.compile(r"%(?:(%)|(0|-?[1-9]\+?)(?!\.))")
    left = word.sub("", path)
    return posixpath.normpath(word.sub(place, path)) if path.startswith("/") and not set("%{") & set(left) else None


def _last(inside: Iterable[Directive], name: str) -> Directive | None:
    return next((each for each in reversed(list(inside)) if each.name == name), None)
