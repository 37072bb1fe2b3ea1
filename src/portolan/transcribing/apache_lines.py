"""Apache httpd's configuration as the program itself reads it: lines, sections, includes, conditions, macros and definitions.

A line that ends in a backslash goes on; words are split at white space, quotes hold them together. Conditions are asked while
reading, in the order of the files (mod_core, mod_macro).
"""

import posixpath
import re
from collections.abc import Iterator

from portolan.transcribing.directive import Directive, UnfinishedError
from portolan.transcribing.part import Spot
from portolan.transcribing.sources import Source, SourceError

_WORD = re.compile(r'"((?:[^"\\]|\\.)*)"|\'((?:[^\'\\]|\\.)*)\'|(\S+)')
_DEFINE = re.compile(rb"(?im)^[ \t]*Define[ \t]+(\S+)")
_VARIABLE = re.compile(r"\$\{([^}]+)\}")
_DEEPEST = 60
_MOST_LINES = 2_000_000
#: Modules that Debian and most others build in.
_BUILT_IN = frozenset(
    [
        "core",
        "so",
        "http",
        "log_config",
        "logio",
        "version",
        "unixd",
        "watchdog",
        "core.c",
        "http_core.c",
        "mod_core.c",
        "mod_so.c",
        "mod_log_config.c",
        "mod_logio.c",
        "mod_version.c",
        "mod_unixd.c",
        "mod_watchdog.c",
    ]
)


class Reading:
    """One reading of a configuration: what is defined and loaded by now."""

    def __init__(self, source: Source, root: str, defined: dict[str, str]) -> None:
        self.source = source
        self.root = root
        self.stated = root
        self.defined = defined
        self.modules = set(_BUILT_IN)
        self.macros: dict[str, tuple[tuple[str, ...], list[tuple[str, Spot]]]] = {}
        self.files: dict[str, None] = {}
        self.count = 0
        #: What only the environment decides.
        self.unknown: list[tuple[Spot, str]] = []
        self._defines: set[bytes] | None = None

    def file(self, path: str, above: tuple[str, ...] = ()) -> list[Directive]:
        """The directives of a file, its includes in their places. Raises SourceError."""
        if path in above or len(above) > _DEEPEST:
            raise SourceError(f"{path.lstrip('/')} includes itself", "The program does not load that either.")
        data = self.source.read(path) or b""
        self.files[path] = None
        rows = list(lines(data.decode("utf-8", "replace").removeprefix("\ufeff"), path.lstrip("/")))
        try:
            return self._block(iter(rows), None, (*above, path))
        except UnfinishedError as error:
            raise SourceError(
                f"{error.spot}: {error.why}", "Mend it; the program's own test of it says the same."
            ) from None

    def _block(
        self, rows: "Iterator[tuple[str, Spot]]", opened: tuple[str, Spot] | None, above: tuple[str, ...]
    ) -> list[Directive]:
        held: list[Directive] = []
        for text, spot in rows:
            self.count += 1
            if self.count > _MOST_LINES:
                raise SourceError(f"more than {_MOST_LINES} lines")
            if text.startswith("</"):
                name = text[2:].rstrip(">").strip().lower()
                if opened is None or name != opened[0]:
                    raise UnfinishedError(spot, f"</{name}> closes nothing that is open")
                return held
            if text.startswith("<"):
                held += self._section(text, spot, rows, above)
            else:
                held += self._line(text, spot, above)
        if opened is not None:
            raise UnfinishedError(opened[1], f"<{opened[0]}> is not closed")
        return held

    def _section(
        self, text: str, spot: Spot, rows: "Iterator[tuple[str, Spot]]", above: tuple[str, ...]
    ) -> list[Directive]:
        match = re.fullmatch(r"<\s*(\S+?)(?:\s+(.*?))?\s*>", text, re.S)
        if match is None:
            raise UnfinishedError(spot, f"'{text[:60]}' is not closed by >")
        name, rest = match[1].lower(), match[2] or ""
        if name == "macro":
            words = self._split(rest)
            self.macros[words[0].lower() if words else ""] = (tuple(words[1:]), list(_until(rows, "macro", spot)))
            return []
        words = self._split(self._filled(rest))
        if name in ("ifmodule", "ifdefine", "ifversion", "iffile", "ifdirective", "ifsection"):
            if name == "ifdefine" and words and not self._told(words[-1].removeprefix("!")):
                self.unknown.append(
                    (spot, f"<IfDefine {words[-1]}>: only the program's start says whether it is defined")
                )
            if self._holds(name, words):
                return self._block(rows, (name, spot), above)
            list(_until(rows, name, spot))
            return []
        return [Directive(name, tuple(words), tuple(self._block(rows, (name, spot), above)), spot)]

    def _told(self, name: str) -> bool:
        """Whether any file defines a name, now or under another condition."""
        if self._defines is None:
            texts = (self.source.read(path) or b"" for path in self.source.paths())
            self._defines = {each for text in texts for each in _DEFINE.findall(text)}
        return name in self.defined or name.encode() in self._defines

    def _holds(self, name: str, words: list[str]) -> bool:
        word = words[-1] if words else ""
        negated, word = word.startswith("!"), word.removeprefix("!")
        if name == "ifmodule":
            holds = word in self.modules
        elif name == "ifdefine":
            holds = word in self.defined
        elif name == "iffile":
            holds = self.source.read(posixpath.join(self.root, word)) is not None
        else:
            # What stands in such a block is nearly always for the versions that run today.
            holds = not (words and words[0].startswith("<"))
        return holds != negated

    def _line(self, text: str, spot: Spot, above: tuple[str, ...]) -> list[Directive]:
        head, _, rest = text.partition(" ") if " " in text else text.partition("\t")
        name = head.lower()
        words = self._split(self._filled(rest))
        if name == "define" and words:
            self.defined[words[0]] = words[1] if len(words) > 1 else ""
        elif name == "undefine" and words:
            self.defined.pop(words[0], None)
        elif name == "loadmodule" and len(words) == 2:
            base = posixpath.basename(words[1]).removesuffix(".so")
            self.modules |= {words[0], f"{base}.c", words[0].removesuffix("_module")}
        elif name == "serverroot" and words:
            # What was given may lie elsewhere now than where the program ran.
            self.stated = words[0].rstrip("/")
            self.root = self.stated if self.source.is_folder(self.stated) else self.root
        elif name in ("include", "includeoptional") and words:
            return self._included(words[0], name == "include", spot, above)
        elif name == "use" and words:
            return self._used(words, spot, above)
        else:
            return [Directive(name, tuple(words), None, spot)]
        return []

    def _included(self, pattern: str, needed: bool, spot: Spot, above: tuple[str, ...]) -> list[Directive]:
        whole = posixpath.normpath(posixpath.join(self.root, pattern))
        if (whole + "/").startswith(self.stated + "/"):
            whole = self.root + whole.removeprefix(self.stated)
        paths = self.source.matching(whole) if re.search(r"[*?\[]", whole) else [whole]
        held: list[Directive] = []
        for path in paths:
            if self.source.is_folder(path):
                inside = [each for each in self.source.paths() if each.startswith(path + "/")]
            else:
                inside = [path] if self.source.read(path) is not None else []
            for each in inside:
                held += self.file(each, above)
            if not inside and needed:
                held.append(Directive("include", (path,), None, spot))
        return held

    def _used(self, words: list[str], spot: Spot, above: tuple[str, ...]) -> list[Directive]:
        found = self.macros.get(words[0].lower())
        if found is None or len(above) > _DEEPEST:
            raise UnfinishedError(spot, f"no macro is named {words[0]}")
        names, rows = found
        if len(names) != len(words) - 1:
            raise UnfinishedError(spot, f"the macro {words[0]} takes {len(names)} words")
        values = sorted(zip(names, words[1:], strict=True), key=lambda each: -len(each[0]))
        filled = []
        for text, where in rows:
            for name, value in values:
                text = text.replace(name, value)
            filled.append((text, where))
        return self._block(iter(filled), None, (*above, f"macro {words[0]}"))

    def _filled(self, text: str) -> str:
        return _VARIABLE.sub(lambda match: self.defined.get(match[1], match[0]), text)

    @staticmethod
    def _split(text: str) -> list[str]:
        held = (next(each for each in match.groups() if each is not None) for match in _WORD.finditer(text))
        return [re.sub(r"\\([\"'])", r"\1", word) for word in held]


def lines(text: str, file: str) -> "Iterator[tuple[str, Spot]]":
    """The lines that say something, joined where they go on, each with where it begins."""
    held, began = "", 0
    for number, row in enumerate(text.split("\n"), 1):
        row = row.rstrip("\r")
        began = began or number
        if row.endswith("\\"):
            held += row[:-1]
            continue
        whole, spot = (held + row).strip(), Spot(file, began)
        held, began = "", 0
        if whole and not whole.startswith("#"):
            yield whole, spot
    if held.strip() and not held.strip().startswith("#"):
        yield held.strip(), Spot(file, began)


def _until(rows: "Iterator[tuple[str, Spot]]", name: str, opened: Spot) -> "Iterator[tuple[str, Spot]]":
    """What stands up to the end of a section that is not read now."""
    depth = 1
    for text, spot in rows:
        low = text.lower()
        if re.match(rf"</\s*{name}\b", low):
            depth -= 1
            if not depth:
                return
        elif re.match(rf"<\s*{name}\b", low):
            depth += 1
        yield text, spot
    raise UnfinishedError(opened, f"<{name}> is not closed")


def defined_by(text: str) -> dict[str, str]:
    """What a shell's file of plain exports sets, such as Debian's envvars; what only a shell works out is left out."""
    found: dict[str, str] = {}
    for match in re.finditer(r"^\s*(?:export\s+)?(\w+)=(\S*)\s*$", text, re.M):
        value = re.sub(r"\$(\w+)|\$\{(\w+)\}", lambda each: found.get(each[1] or each[2], ""), match[2].strip("\"'"))
        if "$" not in value and "`" not in value:
            found[match[1]] = value
    return found
