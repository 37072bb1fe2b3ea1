"""nginx's configuration as its own parser reads it: directives with their words, blocks and lines.

Words are split at white space; quotes hold words together where they begin a word; a backslash takes the next character
along, and makes a quote or a backslash of itself (ngx_conf_read_token).
"""

import re

from portolan.transcribing.directive import Directive, UnfinishedError
from portolan.transcribing.part import Spot

_DEEPEST = 60
_SPACE = " \t\r\n"
#: What is nothing but itself, within a word.
_RUN = re.compile(r"[^\s;{}\\$\"']+")


def directives(text: str, file: str) -> tuple[Directive, ...]:
    """The directives of a file. Raises UnfinishedError."""
    return _Lines(text, file).whole()


class _Lines:
    def __init__(self, text: str, file: str) -> None:
        self.text, self.file = text, file
        self.at, self.line = 0, 1

    def whole(self) -> tuple[Directive, ...]:
        """Everything up to the file's end."""
        return self._block(0, Spot(self.file, 1))

    def _block(self, depth: int, begun: Spot) -> tuple[Directive, ...]:
        if depth > _DEEPEST:
            raise UnfinishedError(begun, f"blocks stand more than {_DEEPEST} deep")
        held: list[Directive] = []
        while True:
            words, end, spot = self._words()
            if end == "":
                if words:
                    raise UnfinishedError(spot, f"'{words[0]}' does not end: a ; is missing")
                if depth:
                    raise UnfinishedError(begun, "a block does not end: a } is missing")
                return tuple(held)
            if end == "}":
                if words:
                    raise UnfinishedError(spot, f"'{words[0]}' does not end before the }}: a ; is missing")
                if not depth:
                    raise UnfinishedError(spot, "a } too many")
                return tuple(held)
            if not words:
                raise UnfinishedError(spot, f"a {end} with nothing before it")
            block = None
            if end == "{":
                # What a program's own language stands in is kept as it is.
                block = self._raw(spot) if words[0].endswith("_by_lua_block") else self._block(depth + 1, spot)
            held.append(Directive(words[0], tuple(words[1:]), block, spot))

    def _words(self) -> tuple[list[str], str, Spot]:
        """The words up to the next ; { or }, what ended them, and where they began."""
        words: list[str] = []
        spot = Spot(self.file, self.line)
        text = self.text
        while self.at < len(text):
            letter = text[self.at]
            if letter in _SPACE:
                self._step()
            elif letter == "#":
                self._skip_line()
            elif letter in ";{}":
                if not words:
                    spot = Spot(self.file, self.line)
                self.at += 1
                return words, letter, spot
            else:
                if not words:
                    spot = Spot(self.file, self.line)
                words.append(self._word())
        return words, "", spot

    def _step(self) -> None:
        if self.text[self.at] == "\n":
            self.line += 1
        self.at += 1

    def _skip_line(self) -> None:
        end = self.text.find("\n", self.at)
        self.at = len(self.text) if end < 0 else end

    def _word(self) -> str:
        text, quote = self.text, self.text[self.at]
        begun = Spot(self.file, self.line)
        if quote not in "\"'":
            quote = ""
        else:
            self.at += 1
        made: list[str] = []
        while self.at < len(text):
            run = _RUN.match(text, self.at)
            if run is not None:
                made.append(run[0])
                self.at = run.end()
                continue
            letter = text[self.at]
            if letter == "\\" and self.at + 1 < len(text):
                follower = text[self.at + 1]
                made.append(
                    {"t": "\t", "r": "\r", "n": "\n"}.get(
                        follower, follower if follower in "\"'\\" else "\\" + follower
                    )
                )
                self.at += 1
                self._step()
                continue
            if quote:
                if letter == quote:
                    self.at += 1
                    if self.at < len(text) and text[self.at] not in _SPACE + ";{)":
                        raise UnfinishedError(begun, f"unexpected '{text[self.at]}' behind a quote")
                    return "".join(made)
            elif letter in _SPACE + ";" or (letter == "{" and not (made and made[-1][-1] == "$")):
                return "".join(made)
            elif letter == "{":
                # ${name}: the brace belongs to the variable.
                end = text.find("}", self.at)
                if 0 <= end < self.at + 100 and "\n" not in text[self.at : end]:
                    made.append(text[self.at : end + 1])
                    self.at = end + 1
                    continue
                return "".join(made)
            made.append(letter)
            self._step()
        if quote:
            raise UnfinishedError(begun, "a quote does not end")
        return "".join(made)

    def _raw(self, begun: Spot) -> tuple[Directive, ...]:
        depth = 1
        while self.at < len(self.text):
            letter = self.text[self.at]
            depth += (letter == "{") - (letter == "}")
            self._step()
            if not depth:
                return ()
        raise UnfinishedError(begun, "a block does not end: a } is missing")
