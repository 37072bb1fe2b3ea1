"""Who is let in, as Apache httpd says it: `Require` in its groups (mod_authz_core), and the older `Order`, `Allow`, `Deny`."""

from collections.abc import Iterable

from portolan.transcribing.nginx_lines import Directive
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


def _required(held: Iterable[Directive], made: Part, part: Part, all_of: bool) -> None:
    """Several lines beside each other are alternatives, unless a group says that all must hold."""
    lets: list[str] = []
    bars: list[str] = []
    password = everybody = nobody = False
    for each in held:
        words = [word.lower() for word in each.words]
        if each.name in ("requireany", "requireall"):
            inner = Part(each.spot)
            _required(each.block or (), inner, part, each.name == "requireall")
            lets += inner.facts.get("from", [])
            bars += inner.facts.get("not_from", [])
            password |= bool(inner.facts.get("password"))
            nobody |= bool(inner.facts.get("nobody"))
            if inner.facts.get("either"):
                made.say("either", True, each.spot)
            everybody |= not inner.facts
        elif words[:2] == ["all", "granted"]:
            everybody = True
        elif words[:2] == ["all", "denied"]:
            nobody = True
        elif words[:1] == ["local"]:
            lets += _LOCAL
        elif words[:1] == ["ip"]:
            lets += _ranges(each, each.words[1:], part)
        elif words[:2] == ["not", "ip"]:
            bars += _ranges(each, each.words[2:], part)
        elif words[:1] in (["valid-user"], ["user"], ["group"]):
            password = True
        elif words[:1] == ["method"]:
            part.lose(each.spot, f"Require {' '.join(each.words)}")
        else:
            part.lose(each.spot, f"Require {' '.join(each.words[:1])}")
    if everybody and not all_of:
        return
    if nobody and not (lets or password or everybody):
        made.say("nobody", True)
    if lets:
        made.say("from", lets)
    if bars:
        made.say("not_from", bars)
    if password:
        made.say("password", True)
    if password and lets and not all_of:
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
