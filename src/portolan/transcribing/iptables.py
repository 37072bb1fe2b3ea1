"""What iptables-save and ip6tables-save print into a filter, port forwards and source NAT of the estate, in its order.

Counters, comments and logs say nothing of what passes; they are left out without a word.
"""

import re
import shlex
from collections.abc import Iterator
from typing import Any

from portolan.transcribing.filter_part import Chains
from portolan.transcribing.iptables_words import (
    ALONE,
    ANSWERS,
    ASKED,
    ICMP,
    ICMP6,
    PLAIN_MODULES,
    PROTOCOLS,
    SILENT,
    WITH_VALUE,
)
from portolan.transcribing.part import Part, Spot, items
from portolan.transcribing.translation import OWN_BUT_LOOPBACK, OWN_OF, forwards, leads, source
from portolan.transcribing.web import a_range

_HOOKS = {"INPUT": "inbound", "FORWARD": "forward", "OUTPUT": "outbound"}


class _Line:
    """One rule: its words, split into what it asks and what it does."""

    def __init__(self, words: list[str], spot: Spot) -> None:
        self.spot = spot
        self.asks: list[tuple[str, bool, str]] = []
        self.modules: list[str] = []
        self.does: tuple[str, str] | None = None
        self.options: dict[str, str] = {}
        self.odd: list[str] = []
        self._take(words)

    @property
    def asks_nothing(self) -> bool:
        """Whether every packet meets it."""
        return not self.asks and not self.odd and not set(self.modules) - PLAIN_MODULES

    def _take(self, words: list[str]) -> None:
        at, negated = 0, False
        while at < len(words):
            word = words[at]
            value = words[at + 1] if at + 1 < len(words) else ""
            if word == "!":
                negated = True
                at += 1
                continue
            if word in ("-m", "--match"):
                self.modules.append(value)
            elif word in ("-j", "--jump", "-g", "--goto"):
                self.does = ("goto" if word in ("-g", "--goto") else "jump", value)
            elif word in WITH_VALUE:
                self.options[word] = value
            elif word in ALONE:
                at += 1
                continue
            elif word in ASKED:
                if word == "--match-set":
                    self.odd.append(f"{word} {value}")
                    at += 1
                self.asks.append((ASKED[word], negated, value))
            elif self.does is not None and word.startswith("--"):
                self.options[word] = value
            else:
                self.odd.append(word)
                negated = False
                at += 1
                continue
            negated = False
            at += 2


class Saved:
    """One family's tables as they were saved."""

    def __init__(self, text: str, file: str, family: int) -> None:
        self.family = family
        self.chains = Chains(family)
        self.forwards: list[Part] = []
        self.source_nat: list[Part] = []
        self.masquerade: list[tuple[str, Spot]] = []
        self.marks: list[Part] = []
        self.clamps: Spot | None = None
        self._saves_marks = False
        self._lost_marks: list[tuple[Spot, str]] = []
        self._nat: dict[str, list[_Line]] = {}
        self._raw: list[_Line] = []
        self._read(text, file)
        self._forwards()
        self._sources()

    @staticmethod
    def recognises(text: str) -> bool:
        """Whether a text is of such tables."""
        return re.search(r"^\*(?:filter|nat|mangle|raw)\s*$", text, re.M) is not None

    def _read(self, text: str, file: str) -> None:
        table = ""
        for number, row in enumerate(text.splitlines(), 1):
            line, spot = row.strip(), Spot(file, number)
            if not line or line.startswith("#") or line == "COMMIT":
                continue
            if line.startswith("*"):
                table = line[1:]
            elif line.startswith(":"):
                name, policy = [*line[1:].split(), "-"][:2]
                if table == "filter" and name in _HOOKS:
                    self.chains.default[_HOOKS[name]] = ("drop" if policy == "DROP" else "allow", spot)
                elif table == "filter":
                    self.chains.rules.setdefault(name, [])
                elif policy == "DROP":
                    self.chains.unread.append((spot, f"{table}: {line[1:]}"))
                elif table == "nat":
                    self._nat.setdefault(name, [])
            elif re.match(r"(?:\[\d+:\d+\]\s+)?-A\s", line):
                self._rule(table, line, spot)

    def _rule(self, table: str, line: str, spot: Spot) -> None:
        try:
            text = re.sub(r"^\[\d+:\d+\]\s+", "", line)
            words = shlex.split(text) if '"' in text or "\\" in text else text.split()
        except ValueError:
            self.chains.unread.append((spot, f"{table}: a quote does not end"))
            return
        chain, made = words[1], _Line(words[2:], spot)
        if table == "filter":
            rule = self._made(made)
            if rule is not None:
                self.chains.add(_HOOKS.get(chain, chain), rule)
                if rule.facts.get("forwarded") is False and not {"state", "not_state"} & set(rule.facts):
                    # What belongs to no connection was not sent on either, as iptables has it.
                    stray = Part(made.spot)
                    stray.facts = {**rule.facts, "state": "invalid"}
                    del stray.facts["forwarded"]
                    self.chains.add(_HOOKS.get(chain, chain), stray)
        elif table == "nat":
            self._nat.setdefault(chain, []).append(made)
        elif table == "mangle" and made.does is not None and self._mangled(chain, made):
            return
        elif table == "mangle" and made.does is not None and made.does[1] in ("MARK", "CONNMARK"):
            self._lost_marks.append((spot, f"{table}: {' '.join(words[1:])}"))
        elif made.does is not None and made.does[1] in SILENT:
            return
        elif table == "raw" and chain == "PREROUTING" and made.does is not None and made.does[1] in ("DROP", "ACCEPT"):
            rule = self._made(made)
            if rule is not None:
                self.chains.add("arriving", rule)
        elif made.does is not None:
            self.chains.unread.append((spot, f"{table}: {' '.join(words[1:])}"))

    def _mangled(self, chain: str, made: _Line) -> bool:
        """Whether a rule of the mangle table was kept: marks, and the largest segment lowered to what fits."""
        assert made.does is not None
        target = made.does[1]
        if (
            target == "TCPMSS"
            and "--clamp-mss-to-pmtu" in {*made.odd, *made.options}
            and chain in ("FORWARD", "POSTROUTING")
        ):
            self.clamps = self.clamps or made.spot
            return True
        if target == "CONNMARK" and {"--restore-mark", "--save-mark"} & {*made.odd, *made.options}:
            self._saves_marks = True
            return not made.asks
        number = next((made.options[key] for key in ("--set-mark", "--set-xmark") if key in made.options), None)
        facts = None if made.odd or set(made.modules) - PLAIN_MODULES else self._facts(made)
        if (
            target not in ("MARK", "CONNMARK")
            or number is None
            or facts is None
            or chain not in ("PREROUTING", "OUTPUT")
        ):
            return False
        mark, _, mask = number.partition("/")
        protocol, state = facts.pop("protocol", "any"), facts.pop("state", "new")
        ports = facts.pop("ports", "1-65535")
        if (
            mask not in ("", "0xffffffff")
            or not set(facts) <= {"in", "from", "to"}
            or state != "new"
            or not int(mark, 0)
        ):
            return False
        part = Part(made.spot)
        part.say("mark", int(mark, 0))
        if chain == "OUTPUT":
            part.say("own", True)
        for key, value in facts.items():
            part.say(key, value)
        if protocol in ("tcp", "udp"):
            part.say(protocol, ports)
        elif protocol != "any":
            return False
        if target == "MARK":
            part.say("keep", False)
        # The last rule that matches counts there, the first here.
        self.marks.insert(0, part)
        return True

    def kept_marks(self) -> list[Part]:
        """The marks; connections keep those that are saved. What could not be kept is told where others count."""
        if self.marks:
            self.chains.unread += self._lost_marks
        for part in self.marks:
            if self._saves_marks:
                part.facts.pop("keep", None)
        return self.marks

    def _lost(self, made: _Line, what: str) -> None:
        self.chains.unread.append((made.spot, what))

    def _made(self, made: _Line) -> Part | None:
        """A rule of the filter; None where it does nothing, or the estate has no word for it."""
        if made.does is None or made.does[1] in SILENT:
            return None
        odd = [each for each in made.modules if each not in PLAIN_MODULES] + made.odd
        facts = None if odd else self._facts(made)
        kind, target = made.does
        if facts is None:
            self._lost(made, f"{target} with {', '.join(odd) or 'words that the estate lacks'}")
            return None
        rule = Part(made.spot)
        protocol = facts.pop("protocol", "any")
        if target in ("ACCEPT", "DROP", "REJECT", "RETURN"):
            rule.say({"ACCEPT": "allow", "DROP": "drop", "REJECT": "reject", "RETURN": "return"}[target], protocol)
            if target == "REJECT":
                answer = ANSWERS.get(made.options.get("--reject-with", "port-unreach"))
                if answer is None:
                    self._lost(made, f"REJECT {made.options.get('--reject-with', '')}")
                elif answer != "port-unreachable":
                    rule.say("answer", answer)
        elif kind == "goto" or target in self.chains.rules or target.isprintable():
            rule.say("goto" if kind == "goto" else "jump", target)
            if protocol != "any":
                rule.say("protocol", protocol)
            self.chains.rules.setdefault(target, [])
        for key, value in facts.items():
            rule.say(key, value)
        return rule

    def _facts(self, made: _Line) -> dict[str, Any] | None:
        """What a rule asks, in the estate's words."""
        facts: dict[str, Any] = {}
        for key, negated, value in made.asks:
            said = self._fact(key, negated, value)
            if said is None:
                return None
            for name, what in said.items():
                if name in facts and facts[name] != what:
                    return None
                facts[name] = what
        if {"ports", "source_ports", "not_ports", "not_source_ports"} & set(facts) and facts.get("protocol") not in (
            "tcp",
            "udp",
        ):
            return None
        return facts

    def _fact(self, key: str, negated: bool, value: str) -> dict[str, Any] | None:
        no = "not_" if negated else ""
        if key in ("from", "to"):
            held = [value] if "-" in value else [a_range(each) for each in value.split(",")]
            if any(each is None for each in held):
                return None
            if not negated and held == [("0.0.0.0/0", "::/0")[self.family == 6]]:
                return {}
            return {no + key: held[0] if len(held) == 1 else held}
        if key in ("in", "out"):
            return {no + key: value.removesuffix("+") + "*" if value.endswith("+") else value}
        if key == "protocol":
            return None if negated or value not in PROTOCOLS else {"protocol": PROTOCOLS[value]}
        if key in ("ports", "source_ports"):
            ports = [_port(each) for each in value.split(",")]
            return None if any(each is None for each in ports) else {no + key: ports[0] if len(ports) == 1 else ports}
        if key == "state":
            states = [each.lower() for each in value.split(",")]
            if not set(states) <= {"new", "established", "related", "invalid", "untracked"}:
                # What was sent on by a forward.
                return {"forwarded": not negated} if states == ["dnat"] else None
            return {no + "state": states[0] if len(states) == 1 else states}
        if key == "icmp":
            kind = (ICMP6 if self.family == 6 else ICMP).get(value.partition("/")[0])
            return (
                {"icmp_types": [kind]}
                if kind is not None and not negated and "/" not in value
                else {}
                if value == "any"
                else None
            )
        if key in ("to_own", "from_own"):
            return {key: not negated} if value == "LOCAL" else None
        return None

    # -- translation --

    def _flat(self, chain: str, depth: int = 0) -> Iterator[tuple[_Line, ...]]:
        """The rules of a chain of the nat table, each behind the jumps that lead to it."""
        if depth > 8:
            return
        for each in self._nat.get(chain, []):
            if each.does is not None and each.does[1] in ("RETURN", "ACCEPT") and each.asks_nothing:
                # Nothing gets behind it; what is accepted inside a chain is done with for those outside as well.
                if each.does[1] == "ACCEPT" and depth:
                    yield (each,)
                return
            if each.does is not None and each.does[1] in self._nat and each.does[0] == "jump":
                for inner in self._flat(each.does[1], depth + 1):
                    yield (each, *inner)
            else:
                yield (each,)

    def _forwards(self) -> None:
        for chain in ("PREROUTING", "OUTPUT"):
            barred: list[str] = []
            for way in self._flat(chain):
                last = way[-1]
                if (
                    last.does is not None
                    and last.does[1] == "RETURN"
                    and [(key, no) for key, no, _ in last.asks] == [("in", False)]
                ):
                    # What arrives there goes back before any forward behind this line.
                    barred.append(last.asks[0][2])
                    continue
                if last.does is None or last.does[1] in ("RETURN", "ACCEPT", *SILENT):
                    if last.does is not None and last.does[1] in ("RETURN", "ACCEPT"):
                        self._lost(last, f"nat: {last.does[1]} before forwards")
                    continue
                if last.does[1] not in ("DNAT", "REDIRECT"):
                    self._lost(last, f"nat: {last.does[1]}")
                    continue
                for part in self._forward(way):
                    self._kept(part, chain, barred, last)

    def _kept(self, part: Part, chain: str, barred: list[str], last: _Line) -> None:
        """Keeps a forward; what the machine's own connections meet as well is one with what arrives from outside."""
        if barred and "on" not in part.facts:
            held = part.facts.get("not_on", [])
            part.say("not_on", list(dict.fromkeys([*items(held), *barred])))
        if chain != "OUTPUT":
            self.forwards.append(part)
            return
        same = next((each for each in reversed(self.forwards) if leads(each) == leads(part)), None)
        if same is None:
            self._lost(last, "nat: a forward of the machine's own connections only")
            return
        same.say("own_connections", True, last.spot)
        if part.facts.get("address") == OWN_BUT_LOOPBACK:
            same.say("address", OWN_BUT_LOOPBACK)

    def _forward(self, way: tuple[_Line, ...]) -> list[Part]:
        last = way[-1]
        facts = self._along(way)
        if facts is None:
            self._lost(last, f"nat: {last.does[1] if last.does else ''} with words that the estate lacks")
            return []
        but_loopback = "to_own" in facts and facts.get("not_to") == "127.0.0.0/8"
        if but_loopback:
            del facts["not_to"]
        led = last.does[1] if last.does else ""
        host, ports, up_to = _led(last.options)
        if host is None:
            self._lost(last, f"nat: {led} to {' '.join(last.options.values())}")
            return []
        made = forwards(facts, last.spot, ports, OWN_BUT_LOOPBACK if but_loopback else "own")
        if not made:
            self._lost(last, "nat: a forward with words that the estate lacks")
        for part in made:
            if led == "DNAT":
                part.say("to", host)
                if up_to:
                    part.say("up_to", up_to)
            elif "to" not in facts:
                part.say("address", OWN_OF[self.family])
        return made

    def _along(self, way: tuple[_Line, ...]) -> dict[str, Any] | None:
        """What all lines of a way ask together; None where one of them asks what the estate has no word for."""
        facts: dict[str, Any] = {}
        for line in way:
            odd = [each for each in line.modules if each not in PLAIN_MODULES] + line.odd
            said = None if odd else self._facts(line)
            if said is None:
                return None
            if any(facts.get(key, value) != value for key, value in said.items()):
                return None
            facts.update(said)
        return facts

    def _sources(self) -> None:
        for way in self._flat("POSTROUTING"):
            last = way[-1]
            if last.does is None or last.does[1] in SILENT:
                continue
            if last.does[1] not in ("MASQUERADE", "SNAT"):
                self._lost(last, f"nat: {last.does[1]}")
                continue
            facts = self._along(way)
            if last.does[1] == "MASQUERADE" and facts is not None and set(facts) == {"out"}:
                self.masquerade.append((facts["out"], last.spot))
                continue
            part = None if facts is None else source(facts, last.spot)
            if part is None:
                self._lost(last, f"nat: {last.does[1]} with words that the estate lacks")
                continue
            if last.does[1] == "SNAT":
                first, _, final = last.options.get("--to-source", "").partition("-")
                part.say("to", first)
                if final:
                    part.say("up_to", final)
            self.source_nat.append(part)


def _port(text: str) -> str | int | None:
    first, sign, last = text.partition(":")
    if not sign:
        return int(text) if text.isdecimal() else None
    first, last = first or "0", last or "65535"
    if not (first.isdecimal() and last.isdecimal()):
        return None
    return f"{first}-{last}" if first != last else int(first)


def _led(options: dict[str, str]) -> tuple[str | None, tuple[int, int] | None, str]:
    """Where a rule leads to; without an address, to the machine itself."""
    if "--to-destination" in options:
        return _target(options["--to-destination"])
    return _target(f"0.0.0.0:{options['--to-ports']}" if "--to-ports" in options else "0.0.0.0")


def _target(text: str) -> tuple[str | None, tuple[int, int] | None, str]:
    """The address, first and last port, and last address of `10.0.0.2-10.0.0.4:80-90`."""
    match = re.fullmatch(
        r"(?:\[([0-9a-fA-F:]+)\]|([0-9.]+)|([0-9a-fA-F:]+))(?:-(?:\[([0-9a-fA-F:]+)\]|([0-9.]+)))?(?::(\d+)(?:-(\d+))?)?",
        text,
    )
    if match is None:
        return None, None, ""
    ports = (int(match[6]), int(match[7] or match[6])) if match[6] else None
    return match[1] or match[2] or match[3], ports, match[4] or match[5] or ""
