"""The text view of `demo`."""

from portolan.diagnosis.trial import Explanation
from portolan.estate.estate import Estate
from portolan.journey.visit import Visit
from portolan.views.explain_text import explain_text
from portolan.views.observing_text import doubted
from portolan.views.results import Doubted
from portolan.views.style import Style, paragraph, row
from portolan.views.text import follow_text


def list_text(stories: list[dict[str, str]], style: Style) -> str:
    """The stories, a line or two each."""
    width = max(len(story["name"]) for story in stories) + 2
    lines: list[str] = []
    for story in stories:
        lines += row(style, style.ink(story["name"].ljust(width), "bold"), width, story["title"])
    lines += ["", "Tell one: portolan demo STORY"]
    return "\n".join(lines) + "\n"


def seen_text(story: dict[str, str], estate: Estate, result: Doubted, style: Style) -> str:
    """A story in which the estate is right on paper: what is configured, what is seen, what may be wrong, and what to look at."""
    lines = [style.ink(line, "bold") for line in paragraph(style, story["title"])]
    lines += ["", *paragraph(style, " ".join((estate.about or "").split())), ""]
    options = " \\\n      ".join(f"--seen '{each}'" for each in story["seen"].split(";"))
    lines += [style.ink(f"$ portolan explain {story['url']} \\\n      {options}", "leg"), ""]
    return "\n".join(lines) + "\n" + "".join(doubted(result, style)) + "\n" + _closing(story, style)


def _closing(story: dict[str, str], style: Style) -> str:
    closing = (
        f"The estate of this story: portolan demo {story['name']} --copy DIR. Other stories: portolan demo --list."
    )
    return "\n".join(paragraph(style, closing, ink=("dim",))) + "\n"


def story_text(
    story: dict[str, str],
    estate: Estate,
    found: Explanation,
    after: Visit | None,
    style: Style,
    rehearsed: str = "",
) -> str:
    """A story: what is configured, the question, the cause, the remedy, and the question asked again; where a renewal is rehearsed, what it comes to."""
    lines = [style.ink(line, "bold") for line in paragraph(style, story["title"])]
    lines += ["", *paragraph(style, " ".join((estate.about or "").split())), ""]
    question = f"{story['url']} --from {story['vantage']}"
    lines += [style.ink(f"$ portolan explain {question}", "leg"), ""]
    out = "\n".join(lines) + "\n" + explain_text(found, [], style, False, [])
    if after is not None:
        for command, rest in (("explain", "--format patch > mend.json"), ("follow", "--with mend.json")):
            out += "\n" + style.ink(f"$ portolan {command} {question} \\\n      {rest}", "leg")
        out += "\n\n"
        out += follow_text(after, (), found.expectation is not None, [], style, False)
    if rehearsed:
        out += "\n" + style.ink(f"$ portolan check --renewals {story['renewals']}", "leg") + "\n\n" + rehearsed
    return f"{out}\n{_closing(story, style)}"
