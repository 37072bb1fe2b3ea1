"""What the readers of packet filters share of translation: forwards and new source addresses in the estate's words."""

from typing import Any

from portolan.transcribing.part import Part, Spot, items

#: Stands for the machine's own addresses without loopback's, or those of one family, until those are known.
OWN_BUT_LOOPBACK = "(own)"
OWN_OF = {4: "(own, IPv4)", 6: "(own, IPv6)"}
#: The ports of a rule that names none.
EVERY_PORT = "1-65535"
#: A rule of more ports that all change stays unread.
MOST_WAYS = 100

#: What a rule asks, and the word for it in a forward.
_FORWARD = {
    "in": "on",
    "not_in": "not_on",
    "to": "address",
    "from": "from",
    "not_from": "not_from",
    "to_own": "address",
}
#: What a rule asks, and the word for it beside a new source address.
_SOURCE = {
    "from": "from",
    "not_from": "not_from",
    "to": "towards",
    "not_to": "not_towards",
    "not_out": "(not on)",
}


def forwards(facts: dict[str, Any], spot: Spot, led_to: tuple[int, int] | None, own: str = "own") -> list[Part]:
    """What a rule that changes the destination asks: a forward for each port or range, none where the estate lacks a word.

    ``led_to`` is the first and last port that it leads to, None where each keeps its own; ``own`` what the estate calls the
    machine's own addresses here. The address that the rule leads to is the caller's to add.
    """
    asked = {key: value for key, value in facts.items() if key not in ("protocol", "ports")}
    known = set(asked) <= set(_FORWARD) and asked.get("to_own") is not False and not isinstance(asked.get("in"), list)
    ways = [each for way in _ways(facts) for each in _single(*way, led_to)]
    if not known or len(ways) > MOST_WAYS:
        return []
    made = []
    for protocol, port, to_port in ways:
        part = Part(spot)
        part.say(protocol, port)
        for key, value in asked.items():
            # An address that is asked for says more than that it is one of the machine's own.
            if key != "to_own":
                part.say(_FORWARD[key], value)
            elif "to" not in asked:
                part.say("address", own)
        if to_port is not None:
            part.say("port", to_port)
        made.append(part)
    return made


def _single(protocol: str, port: Any, led_to: tuple[int, int] | None) -> list[tuple[str, Any, int | None]]:
    """A forward's ports as the kernel takes them: what lies within the range that it leads to is kept, all else gets the first.

    The estate's forward of a range keeps the distances, so a range that all goes to one port is one forward for each port.
    """
    first, _, last = str(port).partition("-")
    if led_to is None or (led_to[0] <= int(first) and int(last or first) <= led_to[1]):
        return [(protocol, port, None)]
    each = range(int(first), min(int(last or first), int(first) + MOST_WAYS) + 1)
    return [(protocol, one, None if led_to[0] <= one <= led_to[1] else led_to[0]) for one in each]


def leads(part: Part) -> dict[str, Any]:
    """What a forward says of the packets and where they go, but for the way by which they come."""
    return {
        key: value for key, value in part.facts.items() if key not in ("on", "not_on", "address", "own_connections")
    }


def source(facts: dict[str, Any], spot: Spot) -> Part | None:
    """What a rule that changes the source asks; None where the estate lacks a word, or no interface is named."""
    asked = {key: value for key, value in facts.items() if key not in ("out", "protocol", "ports")}
    on = facts.get("out")
    if not set(asked) <= set(_SOURCE) or not (isinstance(on, str) or isinstance(asked.get("not_out"), str)):
        return None
    part = Part(spot)
    if isinstance(on, str):
        part.say("on", on)
    for key, value in asked.items():
        part.say(_SOURCE[key], value)
    if {"protocol", "ports"} & set(facts):
        ways = _ways(facts)
        for protocol in dict(ways):
            part.say(protocol, [port for each, port in ways if each == protocol])
        return part if ways else None
    return part


def _ways(facts: dict[str, Any]) -> list[tuple[str, Any]]:
    """Each protocol with ports, and each port or range of it; a rule that names none is about all of them."""
    protocol, ports = facts.get("protocol", "any"), facts.get("ports", EVERY_PORT)
    return [(each, port) for each in ("tcp", "udp") if protocol in (each, "any") for port in items(ports)]
