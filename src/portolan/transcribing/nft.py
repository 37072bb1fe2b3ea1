"""What `nft -j list ruleset` prints into a filter, port forwards and source NAT of the estate (libnftables-json(5)).

A table of the family inet is for both; counters, comments and logs are left out without a word.
"""

from collections.abc import Iterator
from typing import Any

from yaml.nodes import MappingNode, SequenceNode

from portolan.formats.yaml_nodes import compose, plain_data
from portolan.source.problem import EstateError
from portolan.transcribing.filter_part import WHOLE, Chains
from portolan.transcribing.part import Part, Spot, items
from portolan.transcribing.sources import SourceError
from portolan.transcribing.translation import OWN_OF, forwards, leads, source
from portolan.transcribing.web import a_range

_HOOKS = {"input": "inbound", "forward": "forward", "output": "outbound", "prerouting": "arriving"}
_FAMILIES = {"inet": 0, "ip": 4, "ip6": 6}
_SILENT = frozenset(("counter", "log", "comment", "meta set", "mangle", "notrack", "quota name"))
_PROTOCOLS = {
    "tcp": "tcp",
    "udp": "udp",
    "icmp": "icmp",
    "icmpv6": "icmp",
    "ipv6-icmp": "icmp",
    6: "tcp",
    17: "udp",
    1: "icmp",
    58: "icmp",
}
_ANSWERS = {
    **{
        each: each
        for each in ("port-unreachable", "host-unreachable", "net-unreachable", "admin-prohibited", "policy-fail")
    },
    **{each: each for each in ("host-prohibited", "net-prohibited")},
    "no-route": "net-unreachable",
    "prot-unreachable": "protocol-unreachable",
    "addr-unreachable": "host-unreachable",
}
_TYPED = {"icmp": 4, "icmpv6": 6}
_PORTS = frozenset(("ports", "not_ports", "source_ports", "not_source_ports"))
_ICMP = frozenset(
    ("echo-request", "echo-reply", "destination-unreachable", "packet-too-big", "time-exceeded", "parameter-problem")
)
_NEIGHBOURS = {
    "nd-router-solicit": "router-solicitation",
    "nd-router-advert": "router-advertisement",
    "nd-neighbor-solicit": "neighbour-solicitation",
    "nd-neighbor-advert": "neighbour-advertisement",
}


class Listed:
    """A whole ruleset."""

    def __init__(self, text: str, file: str) -> None:
        #: One set of families for each filter: tables whose chains stand at one hook are asked one after the other.
        self.layers: list[dict[int, Chains]] = []
        self._layer_of: dict[tuple[str, str], int] = {}
        self.forwards: list[Part] = []
        self.source_nat: list[Part] = []
        self.masquerade: list[tuple[str, Spot]] = []
        self.sets: dict[str, Part] = {}
        self._bases: dict[tuple[str, str, str], tuple[str, str]] = {}
        self._closed: set[tuple[str, str, str]] = set()
        self._elements: dict[str, tuple[str, list[Any]]] = {}
        try:
            root = compose(file + ".json", text.encode())
        except EstateError as error:
            raise SourceError(f"{file}: {error.problems[0].message}", "Save it anew: nft -j list ruleset.") from None
        held = (
            next((value for key, value in root.value if key.value == "nftables"), None)
            if isinstance(root, MappingNode)
            else None
        )
        if not isinstance(held, SequenceNode):
            raise SourceError(f"{file} is no ruleset", "Save it with: nft -j list ruleset.")
        told = [(plain_data(node), Spot(file, node.start_mark.line + 1)) for node in held.value]
        self._layered([item for item, _ in told])
        for item, spot in told:
            self._declared(item, spot)
        for item, spot in told:
            self._rule(item, spot)

    @staticmethod
    def recognises(text: str) -> bool:
        """Whether a text is such a ruleset."""
        return text.lstrip()[:1] == "{" and '"nftables"' in text[:2000]

    @property
    def families(self) -> dict[int, Chains]:
        """The families of the first filter."""
        return self.layers[0]

    def _chains(self, key: tuple[str, str, str]) -> Chains:
        return self.layers[self._layer_of.get(key[:2], 0)][_FAMILIES[key[0]]]

    def _layered(self, items: list[Any]) -> None:
        """Which table is of which filter: those whose chains stand at one hook for one IP version are of several, by priority."""
        hooks: dict[tuple[str, str], dict[str, int]] = {}
        for each in items:
            chain = each.get("chain") if isinstance(each, dict) else None
            if not isinstance(chain, dict) or chain.get("type") != "filter" or chain.get("hook") not in _HOOKS:
                continue
            if str(chain.get("family")) not in _FAMILIES:
                continue
            name = _HOOKS[str(chain["hook"])]
            if name == "arriving" and str(chain.get("policy", "accept")) == "accept":
                continue
            prio = chain.get("prio")
            table = (str(chain.get("family")), str(chain.get("table")))
            hooks.setdefault(table, {})[name] = prio if isinstance(prio, int) else 0
        taken: list[set[tuple[str, int]]] = []
        for table, held in sorted(hooks.items(), key=lambda each: min(each[1].values())):
            versions = (4, 6) if _FAMILIES[table[0]] == 0 else (_FAMILIES[table[0]],)
            spots = {(name, version) for name in held for version in versions}
            # Behind every filter that it meets, so that the order stays.
            at = next((place + 1 for place in reversed(range(len(taken))) if taken[place] & spots), 0)
            while len(taken) <= at:
                taken.append(set())
            taken[at] |= spots
            self._layer_of[table] = at
        self.layers = [{0: Chains(0), 4: Chains(4), 6: Chains(6)} for _ in taken or [set()]]

    def _declared(self, item: Any, spot: Spot) -> None:
        if not isinstance(item, dict):
            return
        chain, named = item.get("chain"), item.get("set") or item.get("map")
        if isinstance(chain, dict):
            key = (str(chain.get("family")), str(chain.get("table")), str(chain.get("name")))
            family = _FAMILIES.get(key[0])
            if family is None:
                return
            kind, hook = chain.get("type"), str(chain.get("hook", ""))
            if kind == "filter" and hook in _HOOKS:
                name = _HOOKS[hook]
                chains = self._chains(key)
                taken = [
                    other
                    for other, based in self._bases.items()
                    if based == ("filter", name)
                    and self._layer_of.get(other[:2], 0) == self._layer_of.get(key[:2], 0)
                    and (family == 0 or _FAMILIES[other[0]] in (family, 0))
                ]
                if name == "arriving" and str(chain.get("policy", "accept")) == "accept":
                    self._bases[key] = ("filter", name)
                    return
                if taken:
                    chains.unread.append((spot, f"chain {key[2]}: another chain of the hook {hook}"))
                    self._bases[key] = ("lost", name)
                    return
                self._bases[key] = ("filter", name)
                chains.default[name] = ("drop" if chain.get("policy") == "drop" else "allow", spot)
                chains.rules.setdefault(name, [])
            elif kind == "nat":
                self._bases[key] = ("nat", hook)
            elif hook:
                self._bases[key] = ("lost", hook)
            else:
                self._chains(key).rules.setdefault(key[2], [])
        elif isinstance(named, dict) and isinstance(named.get("elem", []), list):
            self._elements[str(named.get("name"))] = (str(named.get("type")), named.get("elem", []))

    def _rule(self, item: Any, spot: Spot) -> None:
        rule = item.get("rule") if isinstance(item, dict) else None
        if not isinstance(rule, dict) or str(rule.get("family")) not in _FAMILIES:
            return
        key = (str(rule.get("family")), str(rule.get("table")), str(rule.get("chain")))
        kind, where = self._bases.get(key, ("filter", key[2]))
        chains = self._chains(key)
        if kind == "lost" or key in self._closed:
            return
        for facts, does in self._expanded(rule.get("expr", []), spot, chains):
            if kind == "nat":
                self._nat(where, dict(facts), does, spot, chains)
                if not facts and {"accept", "return"} & set(does):
                    # Nothing of the chain gets behind it.
                    self._closed.add(key)
            else:
                # A port of whichever protocol is one of TCP's and one of UDP's.
                anyhow = "protocol" not in facts and bool(_PORTS & set(facts))
                for protocol in ("tcp", "udp") if anyhow else ("",):
                    made = self._made({**facts, **({"protocol": protocol} if protocol else {})}, does, spot, chains)
                    if made is not None:
                        chains.add(where, made)

    def _expanded(
        self, exprs: list[Any], spot: Spot, chains: Chains
    ) -> Iterator[tuple[dict[str, Any], dict[str, Any]]]:
        """What a rule asks and does; a map to verdicts is one rule for each of its elements."""
        facts: dict[str, Any] = {}
        for each in exprs:
            if not isinstance(each, dict):
                continue
            word, value = next(iter(each.items()))
            if word in _SILENT or (
                word == "xt" and isinstance(value, dict) and value.get("name") in ("comment", "LOG")
            ):
                continue
            if word == "match" and isinstance(value, dict):
                said = self._asked(value)
                if said is None or any(key in facts and facts[key] != what for key, what in said.items()):
                    chains.unread.append((spot, f"a match on {_about(value)}"))
                    return
                facts.update(said)
            elif word == "vmap" and isinstance(value, dict):
                data = value.get("data")
                pairs = (
                    data.get("set")
                    if isinstance(data, dict)
                    else self._elements.get(str(data).lstrip("@"), ("", None))[1]
                )
                if not isinstance(pairs, list):
                    chains.unread.append((spot, "a map of verdicts"))
                    return
                for pair in pairs:
                    said = (
                        self._asked({"op": "==", "left": value.get("key"), "right": pair[0]})
                        if isinstance(pair, list) and len(pair) == 2
                        else None
                    )
                    if said is None:
                        chains.unread.append((spot, f"a map of verdicts on {_about({'left': value.get('key')})}"))
                        return
                    yield {**facts, **said}, pair[1] if isinstance(pair[1], dict) else {}
                return
            elif word in (
                "accept",
                "drop",
                "reject",
                "return",
                "jump",
                "goto",
                "dnat",
                "snat",
                "masquerade",
                "redirect",
            ):
                yield facts, each
                return
            else:
                chains.unread.append((spot, f"{word} in a rule"))
                return

    def _made(self, facts: dict[str, Any], does: dict[str, Any], spot: Spot, chains: Chains) -> Part | None:
        word, value = next(iter(does.items()), ("", None))
        part = Part(spot)
        protocol = facts.pop("protocol", "any")
        if word in ("accept", "drop", "reject", "return"):
            part.say({"accept": "allow"}.get(word, word), protocol)
            if word == "reject" and isinstance(value, dict):
                answer = (
                    "tcp-reset"
                    if value.get("type") == "tcp reset"
                    else _ANSWERS.get(str(value.get("expr", "port-unreachable")))
                )
                if answer is None:
                    chains.unread.append((spot, f"reject with {value.get('expr')}"))
                elif answer != "port-unreachable":
                    part.say("answer", answer)
        elif word in ("jump", "goto") and isinstance(value, dict):
            target = str(value.get("target"))
            part.say(word, target)
            if protocol != "any":
                part.say("protocol", protocol)
            chains.rules.setdefault(target, [])
        else:
            chains.unread.append((spot, f"{word} in a filter"))
            return None
        family = facts.pop("family", None)
        if word == "reject" and isinstance(value, dict) and value.get("type") in _TYPED:
            # nft leaves the family out where the kind of the answer says it.
            family = _TYPED[str(value["type"])]
        for key, what in facts.items():
            part.say(key, what)
        if family is not None and not {"from", "to"} & set(facts):
            part.say("to" if "not_from" in facts else "from", WHOLE[family])
        return part

    # -- what a rule asks --

    def _asked(self, match: dict[str, Any]) -> dict[str, Any] | None:
        left, op, right = match.get("left"), match.get("op", "=="), match.get("right")
        no = "not_" if op == "!=" else ""
        if op not in ("==", "in", "!=", "=") or not isinstance(left, dict):
            return None
        word, about = next(iter(left.items()))
        values = self._values(right)
        if values is None or not isinstance(about, dict):
            return None
        if word == "payload":
            return self._payload(str(about.get("protocol")), str(about.get("field")), values, no)
        if word == "meta":
            key = str(about.get("key"))
            if key in ("iifname", "iif", "oifname", "oif") and all(isinstance(each, str) for each in values):
                return {no + ("in" if key.startswith("i") else "out"): _one(values)}
            if key in ("l4proto", "protocol") and len(values) == 1 and not no and values[0] in _PROTOCOLS:
                return {"protocol": _PROTOCOLS[values[0]]}
            if key == "nfproto" and len(values) == 1 and values[0] in ("ipv4", "ipv6"):
                return {"family": 4 if (values[0] == "ipv4") != bool(no) else 6}
            return None
        if word == "ct" and about.get("key") == "state":
            return {no + "state": _one([str(each) for each in values])}
        if word == "ct" and about.get("key") == "status" and values == ["dnat"]:
            return {"forwarded": not no}
        if word == "fib" and about.get("result") == "type" and values == ["local"]:
            flags = about.get("flags")
            return {("to_own" if "daddr" in items(flags) else "from_own"): not no}
        return None

    @staticmethod
    def _payload(protocol: str, field: str, values: list[Any], no: str) -> dict[str, Any] | None:
        if field in ("saddr", "daddr") and protocol in ("ip", "ip6"):
            held = [str(each) if "-" in str(each) else a_range(str(each)) for each in values]
            if any(each is None for each in held):
                return None
            found: dict[str, Any] = {no + ("from" if field == "saddr" else "to"): _one(held)}
            if no:
                found["family"] = 4 if protocol == "ip" else 6
            return found
        if field in ("dport", "sport") and protocol in ("tcp", "udp", "th"):
            ports = {no + ("ports" if field == "dport" else "source_ports"): _one(values)}
            return ports if protocol == "th" else {"protocol": protocol, **ports}
        if protocol in ("icmp", "icmpv6") and field == "type" and not no:
            kinds = [_NEIGHBOURS.get(str(each), str(each)) for each in values]
            known = _ICMP | set(_NEIGHBOURS.values())
            if all(each in known for each in kinds):
                return {"protocol": "icmp", "icmp_types": kinds, "family": 4 if protocol == "icmp" else 6}
            return None
        if (
            (protocol, field) in (("ip", "protocol"), ("ip6", "nexthdr"))
            and len(values) == 1
            and values[0] in _PROTOCOLS
            and not no
        ):
            return {"protocol": _PROTOCOLS[values[0]], "family": 4 if protocol == "ip" else 6}
        return None

    def _values(self, right: Any) -> list[Any] | None:
        if isinstance(right, str) and right.startswith("@"):
            held = self._elements.get(right[1:])
            return None if held is None else self._values({"set": held[1]})
        if isinstance(right, dict):
            word, value = next(iter(right.items()))
            if word == "prefix" and isinstance(value, dict):
                return [f"{value.get('addr')}/{value.get('len')}"]
            if word == "range" and isinstance(value, list) and len(value) == 2:
                return [f"{value[0]}-{value[1]}"]
            if word == "elem" and isinstance(value, dict):
                return self._values(value.get("val"))
            if word == "set":
                found: list[Any] = []
                for each in items(value):
                    inner = self._values(each)
                    if inner is None:
                        return None
                    found += inner
                return found
            return None
        return items(right)

    # -- translation --

    def _nat(self, hook: str, facts: dict[str, Any], does: dict[str, Any], spot: Spot, chains: Chains) -> None:
        word, value = next(iter(does.items()), ("", None))
        value = value if isinstance(value, dict) else {}
        asked = {key: what for key, what in facts.items() if key != "family"}
        if word in ("dnat", "redirect") and hook in ("prerouting", "output"):
            made = self._forward(asked, word, value, spot)
            family = facts.get("family") or chains.family
            for part in made if word == "redirect" and family and "to" not in asked else ():
                part.say("address", OWN_OF[family])
            if not made:
                chains.unread.append((spot, f"{word} with words that the estate lacks"))
            elif hook != "output":
                self.forwards.extend(made)
            for part in made if hook == "output" else ():
                same = next((each for each in self.forwards if leads(each) == leads(part)), None)
                if same is not None:
                    same.say("own_connections", True, spot)
                else:
                    chains.unread.append((spot, f"{word} of the machine's own connections only"))
        elif word in ("masquerade", "snat") and hook == "postrouting":
            if word == "masquerade" and set(asked) == {"out"} and isinstance(asked["out"], str):
                self.masquerade.append((asked["out"], spot))
                return
            sent = source(asked, spot)
            if sent is None or (word == "snat" and not isinstance(value.get("addr"), str)):
                chains.unread.append((spot, f"{word} with words that the estate lacks"))
                return
            if word == "snat":
                sent.say("to", str(value.get("addr")))
            self.source_nat.append(sent)
        elif asked or word not in ("accept", "return"):
            # What goes back or passes before a translation is spared it.
            chains.unread.append((spot, f"{word} in a table of translation"))

    @staticmethod
    def _forward(facts: dict[str, Any], word: str, value: dict[str, Any], spot: Spot) -> list[Part]:
        host, port = value.get("addr"), value.get("port")
        ranged = port.get("range") if isinstance(port, dict) else [port, port]
        led_to = (ranged[0], ranged[1]) if isinstance(ranged, list) and isinstance(ranged[0], int) else None
        if (port is not None and led_to is None) or (not isinstance(host, str) if word == "dnat" else led_to is None):
            return []
        made = forwards(facts, spot, led_to)
        for part in made if word == "dnat" else ():
            part.say("to", host)
        return made


def _one(values: list[Any]) -> Any:
    return values[0] if len(values) == 1 else list(values)


def _about(match: dict[str, Any]) -> str:
    left = match.get("left")
    if not isinstance(left, dict):
        return "something"
    word, about = next(iter(left.items()))
    return f"{word} {' '.join(str(each) for each in about.values())}" if isinstance(about, dict) else str(word)
