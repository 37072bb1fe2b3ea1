"""What the readers of packet filters share: rules in the estate's words, both families in one filter, and port forwards."""

from typing import Any

from portolan.transcribing.part import Part, Spot

#: The range that stands for a whole family.
WHOLE = {4: "0.0.0.0/0", 6: "::/0"}


class Chains:
    """The chains of one family: rules with where they stand, and what happens to what none takes."""

    def __init__(self, family: int) -> None:
        self.family = family
        #: By the estate's name: inbound, forward, outbound, arriving, and named chains.
        self.rules: dict[str, list[Part]] = {}
        self.default: dict[str, tuple[str, Spot]] = {}
        self.unread: list[tuple[Spot, str]] = []

    def add(self, chain: str, rule: Part) -> None:
        """One more rule of a chain."""
        self.rules.setdefault(chain, []).append(rule)


BASE = ("arriving", "inbound", "forward", "outbound")


def joined(families: list[Chains], spot: Spot) -> Part | None:
    """One filter of what both families say; None where nothing filters."""
    held = [each for each in families if each.rules or each.default or each.unread]
    if not held:
        return None
    made = Part(spot)
    made.say("basics", [])
    for each in held:
        for where, words in each.unread:
            made.lose(where, words)
    # A chain of one family that says just what the other's says is written once.
    for name in BASE:
        chain = _base(name, held)
        if chain is not None:
            made.say(name, chain)
    named: dict[str, Any] = {}
    for each in held:
        for name, rules in each.rules.items():
            if name not in BASE:
                key = _chain_name(name, each, held)
                part = Part(rules[0].spot if rules else spot)
                part.say("rules", [_of_family(rule, each, held) for rule in rules])
                named[key] = part
    if named:
        made.say("chains", named)
    return made


def _chain_name(name: str, family: Chains, held: list[Chains]) -> str:
    twice = sum(name in each.rules for each in held) > 1
    return f"{name}-v6" if twice and family.family == 6 else name


def _base(name: str, held: list[Chains]) -> Part | None:
    about = [each for each in held if each.rules.get(name) or each.default.get(name, ("allow",))[0] != "allow"]
    if not about:
        return None
    said = [each.default[name][1] for each in held if name in each.default]
    spot = said[0] if said else next(rule.spot for each in about for rule in each.rules[name])
    chain = Part(spot)
    defaults = {each.family: each.default.get(name, ("allow", spot)) for each in held}
    known = {4, 6} if not any(each.family == 0 for each in held) else {0}
    verdicts = {defaults[family][0] if family in defaults else "allow" for family in known}
    rules = [
        _of_family(made, each, held)
        for each in held
        for rule in each.rules.get(name, [])
        for made in ([rule] if len(verdicts) == 1 else _ended(rule, defaults[each.family][0]))
    ]
    if len(verdicts) == 1:
        chain.say("default", verdicts.pop())
    else:
        # The families end otherwise: what ends one of them is a rule of its own.
        for family, (verdict, where) in defaults.items():
            if verdict != "allow":
                closing = Part(where)
                closing.say(verdict, "any")
                closing.say("from", WHOLE[family])
                rules.append(closing)
        chain.say("default", "allow")
    if rules:
        chain.say("rules", rules)
    return chain


def _ended(rule: Part, verdict: str) -> list[Part]:
    """A rule of a chain whose default is written as rules: what goes back to the default meets the verdict itself."""
    made = Part(rule.spot)
    made.facts, made.spots = dict(rule.facts), dict(rule.spots)
    if "return" in made.facts:
        made.facts = {verdict: made.facts.pop("return"), **made.facts}
        return [made]
    if "goto" in made.facts:
        after = Part(rule.spot)
        after.facts = {
            verdict: made.facts.get("protocol", "any"),
            **{key: value for key, value in made.facts.items() if key not in ("goto", "protocol")},
        }
        made.facts = {"jump": made.facts.pop("goto"), **made.facts}
        return [made, after]
    return [rule]


def _of_family(rule: Part, family: Chains, held: list[Chains]) -> Part:
    """A rule that is about one family only, where both are not filtered by the same table."""
    for key in ("jump", "goto"):
        if key in rule.facts:
            rule.facts[key] = _chain_name(str(rule.facts[key]), family, held)
    if family.family and not {"from", "to"} & set(rule.facts):
        if "not_from" in rule.facts:
            rule.say("to", WHOLE[family.family])
        else:
            rule.say("from", WHOLE[family.family])
    return rule
