"""Text from an estate or the network is hostile: it is made harmless here before it reaches a terminal."""

import unicodedata

_HARMLESS = frozenset("\n")


def plain(text: str) -> str:
    """The text with every control, format and surrogate character shown as an escape, line feeds kept."""
    if text.isascii() and text.isprintable():
        return text
    return "".join(
        char if char in _HARMLESS or unicodedata.category(char)[0] != "C" else _escape(char) for char in text
    )


def one_line(text: str, most: int = 120) -> str:
    """Harmless text on one line, shortened."""
    flat = plain(text).replace("\n", "\\n")
    return flat if len(flat) <= most else flat[: most - 3] + "..."


def _escape(char: str) -> str:
    code = ord(char)
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"
