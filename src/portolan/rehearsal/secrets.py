"""What a rehearsal keeps to itself: header values that an estate states, and what clients make of passwords, are never shown.

Clients and servers repeat what they send and read. Their words pass through here once, as soon as they come back.
"""

import re
from collections.abc import Callable
from typing import Any

from portolan.estate.estate import Estate
from portolan.formats.secrets import HIDDEN, secret_values
from portolan.source.plain import without_passwords

#: A shorter value is hidden behind its field's name only: by itself it would be found in all sorts of words.
_TELLING = 6
#: So is what is rather a name, an address, a scheme or a number: it is told in many places for other reasons.
_TOLD_ANYWAY = re.compile(r"https?|[\w-]*([.:][\w-]*)+|\d+|.*\{\w+\}.*")
#: Fields that hold secrets whatever the estate says (RFC 9110 section 11, RFC 6265).
_ALWAYS = ("authorization", "proxy-authorization", "cookie", "set-cookie")


def hiding(estate: Estate) -> Callable[[Any], Any]:
    """What takes every secret out of words, and of lists and mappings of words, however deep."""
    pairs = {(name.lower(), value) for name, value in secret_values(estate) if value}
    fields = "|".join(sorted(re.escape(name) for name in {*_ALWAYS, *(name for name, _ in pairs)} - {"host"}))
    telling = {value for _, value in pairs if len(value) >= _TELLING and not _TOLD_ANYWAY.fullmatch(value)}
    values = sorted(map(re.escape, telling), key=len, reverse=True)
    field = re.compile(rf"(?i)\b({fields})(\s*:[ \t]*)[^\r\n]*")
    bare = re.compile("|".join(values)) if values else None

    def hidden(words: Any) -> Any:
        if isinstance(words, str):
            told = without_passwords(field.sub(rf"\1\2{HIDDEN}", words))
            return bare.sub(HIDDEN, told) if bare is not None else told
        if isinstance(words, dict):
            return {key: hidden(each) for key, each in words.items()}
        return [hidden(each) for each in words] if isinstance(words, list) else words

    return hidden
