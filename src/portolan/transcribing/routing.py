"""Routing as `ip` and the kernel's settings print it: further tables, the rules that lead to them, what interfaces are set to."""

import json
import re
from collections.abc import Iterator
from ipaddress import ip_network
from typing import Any

from portolan.transcribing.addresses import Way, ways
from portolan.transcribing.part import Part, Spot

#: Tables that are the machine's own, or the kernel's.
_OWN = frozenset(("main", "local", "default", "254", "255", "253"))
_ENDS = frozenset(("unreachable", "blackhole", "prohibit"))


def route_of(way: Way) -> Part | None:
    """A line of a table as the estate writes it; None where it says no way."""
    part = Part(way.spot)
    part.say("to", way.to)
    if way.kind is not None:
        part.say("type", way.kind)
    elif way.via is not None:
        part.say("via", way.via)
        if way.onlink or way.via.startswith("fe80"):
            part.say("on", way.device)
    elif way.device is not None:
        part.say("on", way.device)
    else:
        return None
    for key, value in (("metric", way.metric or None), ("source", way.source), ("mtu", way.mtu)):
        if value is not None:
            part.say(key, value)
    return part


def tables(texts: list[tuple[str, str]]) -> dict[str, list[Way]]:
    """Further tables of `ip -j route show table all`, by name. Raises SourceError."""
    found: dict[str, list[Way]] = {}
    for text, file in texts:
        try:
            held = json.loads(text)
        except (ValueError, RecursionError):
            continue
        by_name: dict[str, list[Any]] = {}
        for each in held if isinstance(held, list) else ():
            if isinstance(each, dict) and "table" in each and str(each["table"]) not in _OWN:
                by_name.setdefault(str(each["table"]), []).append(each)
        for name, mine in by_name.items():
            found.setdefault(name, []).extend(ways(mine, file))
    return found


def table_name(name: str) -> str:
    """A table's name in the estate: by number alone it is none."""
    return f"table-{name}" if name.isdecimal() else name


def rule_of(row: str, spot: Spot) -> Part | None:
    """A line of `ip rule show` as the estate writes it; None where it says more than can be kept."""
    match = re.fullmatch(r"\d+:\s+(.*)", row.strip())
    if match is None:
        return None
    words = match[1].split()
    part = Part(spot)
    while words:
        word = words.pop(0)
        if word in ("from", "to") and words:
            where = words.pop(0)
            if where != "all":
                try:
                    part.say(word, str(ip_network(where, strict=False)))
                except ValueError:
                    return None
        elif word == "iif" and words:
            part.say("in", words.pop(0))
        elif word == "fwmark" and words and "/" not in words[0]:
            part.say("mark", int(words.pop(0), 0))
        elif word == "lookup" and words:
            part.say("table", table_name(words.pop(0)))
        elif word == "suppress_prefixlength" and words[:1] == ["0"]:
            words.pop(0)
            part.say("without_default", True)
        elif word in _ENDS:
            part.say("type", word)
        elif word == "proto" and words:
            words.pop(0)
        else:
            return None
    return part if "table" in part.facts or "type" in part.facts else None


def usual(row: str) -> bool:
    """Whether a rule is one that every machine has."""
    return not row.strip() or re.search(r"from all lookup (?:local|main|default)\s*$", row) is not None


#: The kernel's settings by the key that they are, with what their numbers mean.
_SETTINGS: dict[str, tuple[str, dict[str, Any]]] = {
    "rp_filter": ("reverse_path", {"1": "strict", "2": "loose", "0": "off"}),
    "proxy_arp": ("proxy_arp", {"1": True}),
    "route_localnet": ("route_localnet", {"1": True}),
}


def settings(text: str) -> Iterator[tuple[str, str, object, int]]:
    """Interfaces' settings of `grep . /proc/sys/net/ipv4/conf/*/...`: interface, key, value, line; `all` is the machine."""
    for number, row in enumerate(text.splitlines(), 1):
        match = re.fullmatch(r"/proc/sys/net/ipv4/conf/([^/]+)/(\w+):(\d+)", row.strip())
        if match is None or match[2] not in _SETTINGS:
            continue
        key, meanings = _SETTINGS[match[2]]
        if match[3] in meanings:
            yield match[1], key, meanings[match[3]], number


def set_interfaces(machine: Part, interfaces: dict[str, Part], answer: tuple[str, str] | None) -> None:
    """States the settings where they are not the usual ones."""
    for name, key, value, number in settings(answer[0]) if answer is not None else ():
        spot = Spot(answer[1] if answer is not None else "", number)
        if name == "all" and key == "reverse_path":
            machine.say(key, value, spot)
        elif name in interfaces and value != "off":
            interfaces[name].say(key, value, spot)


def without_unknown_marks(machine: Part, marks: list[Part]) -> None:
    """Rules by mark hold where what gives the marks was read too; the others are told."""
    rules: list[Part] = machine.facts.get("routing_rules", [])
    known = {each.facts["mark"] for each in marks}
    for rule in [each for each in rules if each.facts.get("mark") not in (None, *known)]:
        rules.remove(rule)
        machine.lose(rule.spot, f"ip rule by mark {rule.facts['mark']}: nothing that was read gives it")
    if not rules:
        machine.facts.pop("routing_rules", None)
        machine.facts.pop("tables", None)
