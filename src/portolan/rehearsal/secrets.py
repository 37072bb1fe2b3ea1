"""What a rehearsal keeps to itself: header values by which an edge and its origin know each other are never shown.

Clients and servers repeat what they send and read. Their words pass through here once, as soon as they come back.
"""

import re
from collections.abc import Callable, Iterator
from typing import Any

from portolan.estate.edge import Origin
from portolan.estate.estate import Estate
from portolan.estate.site import Access
from portolan.formats.crosscheck import stated_values

#: What stands in their place.
HIDDEN = "(not shown)"
#: A shorter value is hidden behind its field's name only: by itself it would be found in all sorts of words.
_TELLING = 6


def hiding(estate: Estate) -> Callable[[Any], Any]:
    """What takes every secret out of words, and of lists and mappings of words, however deep."""
    pairs = {(name.lower(), value) for name, value in _secrets(estate) if value}
    if not pairs:
        return lambda words: words
    names = "|".join(sorted(re.escape(name) for name, _ in pairs))
    values = sorted({re.escape(value) for _, value in pairs if len(value) >= _TELLING}, key=len, reverse=True)
    field = re.compile(rf"(?i)\b({names})(\s*:[ \t]*)[^\r\n]*")
    bare = re.compile("|".join(values)) if values else None

    def hidden(words: Any) -> Any:
        if isinstance(words, str):
            told = field.sub(rf"\1\2{HIDDEN}", words)
            return bare.sub(HIDDEN, told) if bare is not None else told
        if isinstance(words, dict):
            return {key: hidden(each) for key, each in words.items()}
        return [hidden(each) for each in words] if isinstance(words, list) else words

    return hidden


def _secrets(estate: Estate) -> Iterator[tuple[str, str]]:
    """Field and value of every header by which somebody is let in, in every version of every object."""
    for value in stated_values(estate):
        if isinstance(value, Access):
            yield from value.headers.items()
        elif isinstance(value, Origin):
            yield from value.sends.items()
