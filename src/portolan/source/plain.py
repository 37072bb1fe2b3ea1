"""Text from an estate or the network is hostile: it is made harmless here before it reaches a terminal."""

import unicodedata

_HARMLESS = frozenset("\n")
#: Categories whose characters cannot be seen, move what can, or are none: controls, formats, surrogates, separators.
_UNSEEN = frozenset(("Cc", "Cf", "Cs", "Zl", "Zp"))


def plain(text: str) -> str:
    """The text with every control, format and surrogate character shown as an escape, line feeds kept."""
    if text.isascii() and text.isprintable():
        return text
    return "".join(
        char
        if char in _HARMLESS or (unicodedata.category(char)[0] != "C" and char not in "\u2028\u2029")
        else _escape(char)
        for char in text
    )


def one_line(text: str, most: int = 120) -> str:
    """Harmless text on one line, shortened."""
    flat = plain(text).replace("\n", "\\n")
    return flat if len(flat) <= most else flat[: most - 3] + "..."


def unseen(text: str, allowed: str = "") -> str | None:
    """The first character of a text that nobody sees: a control, a line feed, a bidi mark, a zero-width letter; None without."""
    if text.isprintable():
        return None
    return next((char for char in text if char not in allowed and unicodedata.category(char) in _UNSEEN), None)


def _escape(char: str) -> str:
    code = ord(char)
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
