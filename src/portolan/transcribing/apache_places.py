"""What is otherwise for some paths of a virtual host of Apache httpd: folders, places, what lies elsewhere, what is passed on."""

import posixpath
import re
from collections.abc import Iterable, Iterator

from portolan.transcribing.apache_behind import opens_sockets, passed_on
from portolan.transcribing.apache_giving import REFUSALS, Giving
from portolan.transcribing.apache_silent import ACCESS, UNKNOWN
from portolan.transcribing.directive import Directive
from portolan.transcribing.part import Part
from portolan.transcribing.web import add, is_pattern, is_text, one_source


class Places:
    """The places of one virtual host, in the program's order. `folders` are those that the main configuration speaks of."""

    def __init__(
        self,
        part: Part,
        inside: list[Directive],
        folders: list[Directive],
        pools: dict[str, Directive],
        usual_port: bool,
    ) -> None:
        self.part, self.inside, self.pools, self.usual_port = part, inside, pools, usual_port
        self.root = str(part.facts.get("folder", ""))
        own = [each for each in inside if each.name == "directory" and each.words]
        self.ruled = [
            each for each in (*folders, *own) if not each.words[0].startswith("~") and "*" not in each.words[0]
        ]
        # A folder's word comes after its parents' (mod_core: from the shortest path on).
        self.ruled.sort(key=lambda each: each.words[0].rstrip("/").count("/"))

    def read(self) -> None:
        """States them at the part."""
        folders = list(self._folders())
        passed = list(self._passed())
        # What is passed on was never mapped to a folder, so that no folder's word is about it.
        behind = [str(each.facts["path"]) for each in passed if "upstream" in each.facts]
        places = [each for each in folders if not any(str(each.facts["path"]).startswith(start) for start in behind)]
        places += self._elsewhere(behind)
        if len(passed) == 1 and not places and passed[0].facts.get("path") == "/" and "upstream" in passed[0].facts:
            self.part.say("upstream", passed[0].facts["upstream"], passed[0].spot)
            passed = []
        # The first that says where an answer comes from counts: what is passed on comes before folders.
        sections = [*self.part.facts.pop(REFUSALS, []), *passed, *places]
        for section in sections:
            one_source(section)
        folder = self.part.facts.get("folder")
        one_source(self.part)
        if sections:
            self.part.say("sections", sections)
            if folder is not None and "answer" not in self.part.facts:
                self.part.facts["folder"] = folder

    def _giving(self, part: Part, inside: Iterable[Directive], where: str, of_folder: bool = False) -> None:
        Giving(part, inside, where, self.usual_port, of_folder).read()

    def _folders(self) -> Iterator[Part]:
        """What folders above the site's own say of the site, and those within it as places of their own."""
        server = list(self.part.facts.get("redirects", ()))
        for each in self.ruled:
            path = each.words[0].rstrip("/") or "/"
            if path != "/" and self.root and (self.root + "/").startswith(path + "/"):
                # A folder's own word replaces what its parents say, where it says it.
                held = self.part.facts.pop("access", None)
                if any(one.name.startswith("rewrite") for one in each.block or ()):
                    # A folder that has rewrite rules of its own does not ask those of its parents (RewriteOptions).
                    self._only(server)
                self._giving(self.part, each.block or (), "", of_folder=True)
                says = any(one.name in ACCESS for one in each.block or ())
                if "access" not in self.part.facts and held is not None and not says:
                    self.part.facts["access"] = held
            elif self.root and path.startswith(self.root + "/"):
                below = path.removeprefix(self.root) + "/"
                if any(below.startswith(start.rstrip("/") + "/") for start in self._aliases()):
                    continue  # no path of the site leads there any more
                section = Part(each.spot)
                section.say("path", path.removeprefix(self.root) + "/")
                self._giving(section, each.block or (), path.removeprefix(self.root))
                yield section
        if self._aliases() or any(each.facts.get("written_as") == "redirect" for each in server):
            # They are asked after the server's redirects, and not of what lies elsewhere; the estate's site has no such place.
            for rule in self._only(server):
                self.part.lose(rule.spot, "RewriteRule in <Directory>, beside redirects or aliases of the server")

    def _only(self, server: list[Part]) -> list[Part]:
        """Takes the rewrite rules of folders away, which it gives; what the server says, and redirects of folders, stay."""
        rules = self.part.facts.pop("redirects", [])
        taken = [each for each in rules if each not in server and each.facts.get("written_as") != "redirect"]
        for each in rules:
            if each not in taken:
                add(self.part, "redirects", each)
        return taken

    def _aliases(self) -> list[str]:
        """The paths of the site that lie in other folders."""
        return [each.words[0] for each in self.inside if each.name == "alias" and len(each.words) == 2]

    def _elsewhere(self, behind: list[str]) -> Iterator[Part]:
        """What lies in other folders, and what is said of paths and of files' names; these are about no path that is passed on."""
        # What is said of folders is merged before what is said of files, and what is said of paths comes last (mod_core).
        for each in sorted(self.inside, key=lambda each: _MERGED.get(each.name, 0)):
            if each.name == "alias" and len(each.words) == 2 and each.words[1].startswith("/"):
                if each.words[0].startswith("/") and is_text(each.words[0]):
                    yield self._alias(each)
                else:
                    self.part.lose(each.spot, each.text)
            elif each.name.startswith("files") and "/" in behind:
                continue
            elif each.name in ("location", "locationmatch", "files", "filesmatch", "directorymatch"):
                place = self._place(each)
                if place is not None:
                    yield place
                if behind and each.name.startswith("files") and ".ht" not in each.text:
                    self.part.lose(each.spot, f"<{each.text}>, where paths are passed on")
            elif each.name == "proxypassmatch" and len(each.words) > 1 and _SCRIPTS.fullmatch(each.words[1]):
                continue  # scripts, which are passed on above
            elif each.name in UNKNOWN and each.words[:1] != ("disabled",):
                self.part.lose(each.spot, each.text)

    def _alias(self, each: Directive) -> Part:
        section, folder = Part(each.spot), posixpath.normpath(each.words[1])
        section.say("path", each.words[0])
        section.say("folder", folder)
        if "fallback" in self.part.facts:
            # It holds for what is missing there, too; the estate knows it of the site's own folder.
            section.lose(self.part.spots["fallback"], f"FallbackResource, behind {each.text}")
        for one in self.ruled:
            if one.words[0] != "/" and (folder + "/").startswith(one.words[0].rstrip("/") + "/"):
                self._giving(section, one.block or (), each.words[0])
                section.facts.pop("reads_rule_files", None)
                if section.facts.get("access") is not None and not section.facts["access"].facts:
                    del section.facts["access"]
        return section

    def _place(self, each: Directive) -> Part | None:
        words = [word for word in each.words if word != "~"]
        if not words:
            return None
        section, text = Part(each.spot), words[0]
        if each.name == "location" and "~" not in each.words and re.match(r"/[^*?\[]*$", text):
            section.say("path", text)
        else:
            pattern = _pattern(each, text)
            if not is_pattern(pattern):
                self.part.lose(each.spot, f"<{each.text}>")
                return None
            section.say("pattern", pattern)
        where = text if "path" in section.facts else ""
        self._giving(section, [one for one in each.block or () if one.name != "proxypass"], where)
        upstream = next((one for one in each.block or () if one.name == "proxypass" and one.words), None)
        if upstream is not None and where:
            made = passed_on(self.part, upstream, upstream.words[0], list(each.block or ()), self.pools)
            if made is not None:
                section.say("upstream", made, upstream.spot)
        return section if len(section.facts) > 1 or section.unread else None

    def _passed(self) -> Iterator[Part]:
        for each in self.inside:
            runs = _SCRIPTS.fullmatch(each.words[1]) if each.name == "proxypassmatch" and len(each.words) > 1 else None
            if runs is not None and is_pattern(each.words[0]):
                scripts = Part(each.spot)
                scripts.say("pattern", each.words[0])
                scripts.say("scripts_at", runs[1])
                yield scripts
            if each.name != "proxypass" or len(each.words) < 2:
                continue
            path, target = each.words[:2]
            section = Part(each.spot)
            if not path.startswith("/") or not is_text(path):
                self.part.lose(each.spot, f"ProxyPass {path}")
                continue
            section.say("path", path)
            if target == "!":
                section.say("not_passed_on", True)
                yield section
                continue
            made = passed_on(self.part, each, target, self.inside, self.pools)
            if made is not None:
                if any(opens_sockets(rule, path, target) for rule in self.inside):
                    made.say("upgrades", True)
                section.say("upstream", made)
                yield section


_MERGED = {"files": 1, "filesmatch": 1, "location": 2, "locationmatch": 2}
#: A program that runs scripts, and the folder in which it finds them.
_SCRIPTS = re.compile(r"fcgi://([\w.-]+:\d+)/\S*")


def _pattern(each: Directive, text: str) -> str:
    """A pattern of paths, for a place or for files' names."""
    if each.name.startswith("location"):
        return text
    if each.name == "directorymatch":
        # It is about folders: what lies in one that fits.
        return f"{text[:-1]}(/|$)" if text.endswith("$") else f"{text}[^/]*/"
    if each.name == "filesmatch" or "~" in each.words:
        start = text[1:] if text.startswith("^") else "[^/]*" + text
        return f"/{start}" + ("" if text.endswith("$") else "[^/]*$")
    return "/" + re.escape(text).replace("\\*", "[^/]*").replace("\\?", "[^/]") + "$"
