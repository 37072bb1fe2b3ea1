"""Who is let in, as Apache httpd says it: `Require` in its groups (mod_authz_core), and the older `Order`, `Allow`, `Deny`."""

from collections.abc import Iterable
from typing import Any

from portolan.transcribing.directive import Directive
from portolan.transcribing.part import Part
from portolan.transcribing.web import a_range

_LOCAL = ["127.0.0.0/8", "::1"]


def access_of(held: list[Directive], part: Part) -> Part | None:
    """The estate's word for who is let in; None where nothing is said. What it cannot hold is noted at the part."""
    new = [each for each in held if each.name.startswith("require")]
    old = [each for each in held if each.name in ("order", "allow", "deny")]
    if not new and not old:
        return None
    made = Part((new or old)[0].spot)
    if new:
        _required(new, made, part, all_of=False)
    else:
        _ordered(old, made, part)
    if any(each.name == "satisfy" and each.words[:1] in (("any",), ("Any",)) for each in held):
        made.say("either", True)
    return made


class _Sum:
    """What lines beside each other come to."""

    def __init__(self) -> None:
        self.lets: list[str] = []
        self.bars: list[str] = []
        self.password = self.everybody = self.nobody = self.either = False

    def take(self, each: Directive, part: Part) -> None:
        """One more line."""
        words = [word.lower() for word in each.words]
        if words[:2] == ["all", "granted"]:
            self.everybody = True
        elif words[:2] == ["all", "denied"]:
            self.nobody = True
        elif words[:1] == ["local"]:
            self.lets += _LOCAL
        elif words[:1] == ["ip"]:
            self.lets += _ranges(each, each.words[1:], part)
        elif words[:2] == ["not", "ip"]:
            self.bars += _ranges(each, each.words[2:], part)
        elif words[:1] in (["valid-user"], ["user"], ["group"]):
            self.password = True
        else:
            part.lose(each.spot, f"Require {' '.join(each.words[:1])}")

    def join(self, facts: dict[str, Any]) -> None:
        """What a group within comes to."""
        self.lets += facts.get("from", [])
        self.bars += facts.get("not_from", [])
        self.password |= bool(facts.get("password"))
        self.nobody |= bool(facts.get("nobody"))
        self.either |= bool(facts.get("either"))
        self.everybody |= not facts


def _required(held: Iterable[Directive], made: Part, part: Part, all_of: bool) -> None:
    """Several lines beside each other are alternatives, unless a group says that all must hold."""
    found = _Sum()
    for each in held:
        if each.name in ("requireany", "requireall"):
            inner = Part(each.spot)
            _required(each.block or (), inner, part, each.name == "requireall")
            found.join(inner.facts)
        else:
            found.take(each, part)
    if found.everybody and not all_of:
        return
    if found.nobody and not (found.lets or found.password or found.everybody):
        made.say("nobody", True)
    for key, value in (("from", found.lets), ("not_from", found.bars), ("password", found.password)):
        if value:
            made.say(key, value)
    if found.either or (found.password and found.lets and not all_of):
        made.say("either", True)


def _ordered(held: list[Directive], made: Part, part: Part) -> None:
    allowed_last = any(
        each.name == "order" and "".join(each.words).lower().replace(" ", "") == "deny,allow" for each in held
    )
    allow = [word for each in held if each.name == "allow" for word in each.words[1:]]
    deny = [word for each in held if each.name == "deny" for word in each.words[1:]]
    spots = {word: each for each in held for word in each.words[1:]}
    lets = [found for word in allow if word.lower() != "all" for found in _ranges(spots[word], [word], part)]
    bars = [found for word in deny if word.lower() != "all" for found in _ranges(spots[word], [word], part)]
    if any(word.lower() == "all" for word in (deny if allowed_last else [])) or (
        not allowed_last and not any(word.lower() == "all" for word in allow)
    ):
        if lets:
            made.say("from", lets)
        else:
            made.say("nobody", True)
    if bars:
        made.say("not_from", bars)


def _ranges(each: Directive, words: Iterable[str], part: Part) -> list[str]:
    found = []
    for word in words:
        # The first octets alone stand for all that begin so.
        octets = word.rstrip(".").split(".")
        whole = word
        if 0 < len(octets) < 4 and all(octet.isdecimal() for octet in octets):
            whole = ".".join([*octets, *["0"] * (4 - len(octets))]) + f"/{8 * len(octets)}"
        held = a_range(whole)
        if held is None:
            part.lose(each.spot, f"{each.name} {word}")
        else:
            found.append(held)
    return found
