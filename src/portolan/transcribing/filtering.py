"""What saved tables and rulesets come to together: a filter, forwards, source NAT, marks; and how a machine states them."""

import re
from collections.abc import Iterable
from ipaddress import ip_interface
from typing import Any

from portolan.source.value import Value
from portolan.transcribing.filter_part import Chains, joined
from portolan.transcribing.iptables import Saved
from portolan.transcribing.nft import Listed
from portolan.transcribing.part import Part, Spot, items
from portolan.transcribing.sources import SourceError
from portolan.transcribing.translation import OWN_BUT_LOOPBACK, OWN_OF


class Filters(Value, frozen=True):
    """A machine's filter, its port forwards and source NAT."""

    filter: Part | None
    forwards: tuple[Part, ...]
    source_nat: tuple[Part, ...]
    masquerade: tuple[tuple[str, Spot], ...]
    #: The families that were given, where the tables are each of one; 0 stands for both.
    families: frozenset[int] = frozenset()
    #: What gives packets marks, and where the largest segment is lowered.
    marks: tuple[Part, ...] = ()
    clamps: Spot | None = None

    @property
    def doubt(self) -> str | None:
        """The family of which nothing says what filters it, in words."""
        lacking = {4, 6} - self.families if self.families and 0 not in self.families else set()
        return (
            f"nothing says what filters IPv{lacking.pop()}: it counts as let pass"
            if lacking and self.filter is not None
            else None
        )

    def _mangled(self, machine: Part) -> None:
        if self.marks:
            machine.say("packet_marks", list(self.marks))
        if self.clamps is not None:
            machine.say("clamp_mss", True, self.clamps)

    def into(self, machine: Part, networks: dict[str, Any]) -> None:
        """States them at a machine; an interface that only they know is on a network of its own."""
        interfaces = machine.facts.setdefault("interfaces", {})
        spot = self.filter.spot if self.filter is not None else machine.spot
        for name in dict.fromkeys(_interfaces_of([self.filter, *self.forwards, *self.source_nat, *self.marks])):
            if name not in interfaces and name != "lo":
                part = Part(spot)
                part.say("network", name)
                interfaces[name] = part
                networks.setdefault(name, {})
        for name, where in self.masquerade:
            if name not in interfaces:
                interfaces[name] = Part(where)
                interfaces[name].say("network", name)
                networks.setdefault(name, {})
        if self.filter is not None:
            machine.say("filter", self.filter)
        self._mangled(machine)
        for each in self.forwards:
            _addressed(each, interfaces)
        if self.forwards:
            machine.say("forwards", list(self.forwards))
        sources: list[Part] = []
        for each in self.source_nat:
            if "(not on)" not in each.facts:
                sources.append(each)
                continue
            barred = each.facts.pop("(not on)")
            for name in interfaces:
                if name != barred:
                    one = Part(each.spot)
                    one.say("on", name)
                    for key, value in each.facts.items():
                        one.say(key, value)
                    sources.append(one)
        if sources:
            machine.say("source_nat", sources)
        if self.masquerade:
            machine.say("masquerade", list(dict.fromkeys(name for name, _ in self.masquerade)), self.masquerade[0][1])


def filters(given: list[tuple[str, str]]) -> Filters:
    """The filter that saved tables and rulesets come to, each a text and its file's name. Raises SourceError."""
    made = _Gathering()
    for text, file in given:
        if Saved.recognises(text):
            made.saved(Saved(text, file, 6 if _is_v6(text, file) else 4))
        elif Listed.recognises(text):
            # The kernel lists what iptables made, too.
            if not any(each.rules or each.default for each in made.families):
                made.listed(Listed(text, file), file)
        elif text.strip():
            raise SourceError(
                f"'{file}' is no filter known here",
                "Save it with iptables-save, ip6tables-save or nft -j list ruleset.",
            )
    return made.filters(Spot(given[0][1], 1) if given else Spot("", 1))


class _Gathering:
    """What several files say together."""

    def __init__(self) -> None:
        self.families: list[Chains] = []
        self._forwards: list[Part] = []
        self._sources: list[Part] = []
        self._masquerade: list[tuple[str, Spot]] = []
        self._behind: list[Part] = []
        self._marks: list[Part] = []
        self._clamps: Spot | None = None

    def saved(self, saved: Saved) -> None:
        """Adds one family's saved tables."""
        self.families.append(saved.chains)
        self._forwards += saved.forwards
        self._sources += saved.source_nat
        self._masquerade += saved.masquerade
        self._marks += [each for each in saved.kept_marks() if all(each.facts != one.facts for one in self._marks)]
        self._clamps = self._clamps or saved.clamps

    def listed(self, listed: Listed, file: str) -> None:
        """Adds a ruleset; tables at one hook are filters one behind the other."""
        self.families += [each for each in listed.families.values() if each.rules or each.default or each.unread]
        for layer in listed.layers[1:]:
            part = joined([each for each in layer.values() if each.rules or each.default or each.unread], Spot(file, 1))
            self._behind += [part] if part is not None else []
        self._forwards += listed.forwards
        self._sources += listed.source_nat
        self._masquerade += listed.masquerade

    def filters(self, spot: Spot) -> Filters:
        """The whole."""
        idle = all(
            not any(each.rules.values())
            and all(verdict == "allow" for verdict, _ in each.default.values())
            and not each.unread
            for each in self.families
        )
        made = None if idle and not self._behind else joined(self.families, spot) or Part(spot)
        if made is not None and self._behind:
            made.say("then", self._behind)
        return Filters(
            made,
            tuple(self._forwards),
            tuple(self._sources),
            tuple(self._masquerade),
            frozenset(each.family for each in self.families),
            tuple(self._marks),
            self._clamps,
        )


def _addressed(forward: Part, interfaces: dict[str, Part]) -> None:
    """The addresses that a forward is for, where its table means the machine's own in words that the estate lacks."""
    said = forward.facts.get("address")
    if said not in (OWN_BUT_LOOPBACK, *OWN_OF.values()):
        return
    own = [
        ip_interface(each).ip
        for name, part in interfaces.items()
        if forward.facts.get("on", name) == name
        for each in items(part.facts.get("address", []))
    ]
    own = [each for each in own if said == OWN_BUT_LOOPBACK or OWN_OF[each.version] == said]
    del forward.facts["address"]
    if own:
        forward.say("address", [str(each) for each in own])
    elif "on" not in forward.facts:
        forward.say("address", "own")


def _interfaces_of(parts: Iterable[Any]) -> Iterable[str]:
    """The interfaces that rules name, but for beginnings of names."""
    for part in parts:
        if isinstance(part, Part):
            for key, value in part.facts.items():
                if key in ("in", "not_in", "out", "not_out", "on", "not_on", "(not on)"):
                    yield from (each for each in items(value) if "*" not in str(each))
                else:
                    yield from _interfaces_of([value])
        elif isinstance(part, dict):
            yield from _interfaces_of(part.values())
        elif isinstance(part, list):
            yield from _interfaces_of(part)


def _is_v6(text: str, file: str) -> bool:
    return (
        "ip6" in file
        or file.endswith(".v6")
        or re.search(r"^#.*ip6tables|\s(?:-s|-d)\s+[0-9a-fA-F]*:|icmp6|ipv6-icmp", text, re.M) is not None
    )
