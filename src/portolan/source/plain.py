"""Text from an estate or the network is hostile: it is made harmless here before it reaches a terminal."""

import re
import unicodedata

#: A password in a URL, which nobody is to render as clear text (RFC 3986 section 3.2.1).
_PASSWORD = re.compile(r"(://[^\s/?#:@]*:)[^\s/?#@]*(?=@)")
_HARMLESS = frozenset("\n")
#: Characters that cannot be seen or move what can: controls, formats and separators (categories Cc, Cf, Zl and Zp of Unicode
#: 15.1), and those that are shown as nothing where they are not understood (Default_Ignorable_Code_Point of the same).
#: Beyond the first plane ECMA-262 and Python write code points differently: the character itself is the same in both.
UNSEEN = (
    "[\\u0000-\\u001f\\u007f-\\u009f\\u00ad\\u034f\\u0600-\\u0605\\u061c\\u06dd\\u070f\\u0890-\\u0891\\u08e2\\u115f-\\u1160"
    "\\u17b4-\\u17b5\\u180b-\\u180f\\u200b-\\u200f\\u2028-\\u202e\\u2060-\\u206f\\u3164\\ufe00-\\ufe0f\\ufeff\\uffa0\\ufff0-\\ufffb"
    "\U000110bd\U000110cd\U00013430-\U0001343f\U0001bca0-\U0001bca3\U0001d159\U0001d173-\U0001d17a\U000e0000-\U000e0fff]"
)
_UNSEEN_OR_HALF = re.compile(f"{UNSEEN}|[\ud800-\udfff]")


def plain(text: str) -> str:
    """The text with everything that nobody sees, or that moves what is seen, shown as an escape; line feeds kept.

    What stands for a password in a URL is not shown.
    """
    text = without_passwords(text)
    if text.isascii() and text.isprintable():
        return text
    return "".join(
        char
        if char in _HARMLESS or (unicodedata.category(char)[0] != "C" and not _UNSEEN_OR_HALF.match(char))
        else _escape(char)
        for char in text
    )


def without_passwords(text: str) -> str:
    """The text with three dots in the place of every password that stands in a URL."""
    return _PASSWORD.sub(r"\1...", text) if "@" in text else text


def one_line(text: str, most: int = 120) -> str:
    """Harmless text on one line, shortened."""
    flat = plain(text).replace("\n", "\\n")
    return flat if len(flat) <= most else flat[: most - 3] + "..."


def unseen(text: str, allowed: str = "") -> str | None:
    """The first character of a text that nobody sees: a control, a line feed, a bidi mark, a zero-width letter; None without."""
    if text.isascii() and text.isprintable():
        return None
    return next((found[0] for found in _UNSEEN_OR_HALF.finditer(text) if found[0] not in allowed), None)


def _escape(char: str) -> str:
    code = ord(char)
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"


def document(data: object) -> str:
    """Plain data as JSON in ASCII, so that nothing in it can move a terminal, and without what stands for passwords."""
    import json

    return without_passwords(json.dumps(data, indent=2, ensure_ascii=True)) + "\n"
