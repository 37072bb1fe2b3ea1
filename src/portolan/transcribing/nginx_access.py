"""Who is let in, as nginx says it line by line."""

from portolan.transcribing.directive import Directive
from portolan.transcribing.part import Part
from portolan.transcribing.web import a_range


class Access:
    """Who is let in, as nginx says it line by line: the first line that fits counts."""

    def __init__(self) -> None:
        self.lines: list[Directive] = []

    def take(self, each: Directive) -> None:
        """One more line."""
        self.lines.append(each)

    def into(self, part: Part) -> None:
        """States it at what the lines are for; what does not come to a list of those let in is not kept."""
        if not self.lines:
            return
        made = Part(self.lines[0].spot)
        allowed: list[str] = []
        denied: list[str] = []
        closed = opened = False
        for each in self.lines:
            word = each.words[0] if each.words else ""
            if each.name == "satisfy":
                made.say("either", word == "any", each.spot)
            elif each.name == "auth_basic":
                made.say("password", word != "off", each.spot)
            elif each.name in ("allow", "deny") and not (closed or opened):
                held = ["0.0.0.0/0", "::/0"] if word == "all" else [a_range(word) or ""]
                if (
                    not held[0]
                    or (each.name == "deny" and word != "all" and allowed)
                    or (each.name == "allow" and denied and word != "all")
                ):
                    part.lose(each.spot, each.text)
                elif each.name == "allow":
                    opened = word == "all"
                    allowed += [] if opened else held
                else:
                    closed = word == "all"
                    denied += [] if closed else held
        if closed and not allowed:
            made.say("nobody", True)
        elif closed:
            made.say("from", allowed)
        if denied and not closed:
            made.say("not_from", denied)
        if made.facts.get("either") is False:
            del made.facts["either"], made.spots["either"]
        part.say("access", made)
