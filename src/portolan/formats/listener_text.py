"""The text of a listener: `443 tls`, `10.20.0.15:80`, `[::]:80 v6-only`."""

import re

from portolan.estate.base import IPAddress, ListenerKey, at_port
from portolan.formats import patterns
from portolan.formats.scalars import SCALARS, UnfitError, address, port
from portolan.source.plain import UNSEEN

_SHAPE = re.compile(
    r"(?:(?:\[(?P<v6>[^\]]*)\]|(?P<v4>[0-9.]+)|(?P<star>\*)):)?(?P<port>[0-9]{1,5})(?P<words>(?: +\S+)*)"
)
_EXPECTED = "a listener such as 80, 443 tls, 10.20.0.15:80 or [::]:80 v6-only"


def listener_parts(text: str) -> tuple[IPAddress | None, int, bool, bool | None]:
    """Address (None: every one), port, whether TLS is spoken, and whether `::` is IPv6 only. Raises UnfitError."""
    match = _SHAPE.fullmatch(text.strip())
    if not match:
        raise UnfitError(_EXPECTED, "An IPv6 address stands in square brackets." if text.count(":") > 1 else "")
    place: IPAddress | None = None
    written = match["v6"] if match["v6"] is not None else match["v4"]
    if written is not None:
        place = address(written)
        if (place.version == 6) != (match["v6"] is not None):
            raise UnfitError(_EXPECTED)
    tls = False
    only_v6: bool | None = None
    for word in match["words"].split():
        if word == "tls":
            tls = True
        elif word in ("v6-only", "dual-stack") and place is not None and place.version == 6 and int(place) == 0:
            only_v6 = word == "v6-only"
        else:
            raise UnfitError("the word tls, or behind [::] v6-only or dual-stack", f"'{word}' is none of them.")
    return place, port(match["port"]), tls, only_v6


def listener_key(text: str) -> ListenerKey:
    """A listener's address and port in one spelling, for referring to it: `*:80`, `10.20.0.15:80`, `[::]:80`."""
    place, number, _, _ = listener_parts(text)
    if place is None:
        return ListenerKey(f"*:{number}")
    return ListenerKey(at_port(place, number))


#: How a listener is written, for the JSON Schema.
WRITTEN = {
    "anyOf": [
        {"type": "integer", "minimum": 1, "maximum": 65535},
        {"type": "string", "pattern": patterns.LISTENER, "not": {"pattern": UNSEEN}},
    ]
}
SCALARS[ListenerKey] = (listener_key, WRITTEN)
