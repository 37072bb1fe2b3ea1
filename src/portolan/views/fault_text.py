"""The page of one fault, and the list of all codes: as text, as plain data, and as a page of the documentation."""

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from portolan.diagnosis.base import Fault
from portolan.source.difference import difference
from portolan.views.style import Style, paragraph, row
from portolan.views.words import in_words

if TYPE_CHECKING:
    from portolan.observing.fault_page import Example, FaultPage

_FILE = "estate.yaml"


def fault_data(fault: Fault, page: "FaultPage | None" = None) -> dict[str, Any]:
    """A fault as plain data; with its page where one is asked for."""
    data: dict[str, Any] = {
        "code": fault.code,
        "wrong": fault.title,
        "visitor_gets": fault.visitor_gets,
        "mend": fault.help,
    }
    if page is None:
        return data
    example = page.example
    return {
        **data,
        "comes": page.comes,
        "prevent": page.prevent,
        "example": {
            "url": example.url or None,
            "vantage": example.vantage or None,
            "gets": in_words(example.visit.outcome) if example.visit is not None else None,
            "by_hand": [
                {"on": each.on, "command": each.command, "prints": list(each.shown)} for each in example.checks
            ],
            "bad": example.bad,
            "good": example.good or None,
            "files": [{"name": each.name, "holds": each.holds, "text": each.text} for each in example.files],
        },
    }


def _shows(example: "Example") -> str:
    """What is asked of an example, and what comes; where nothing is asked, who finds it."""
    if example.visit is None:
        return "'portolan check' names it"
    return f"{example.url} from {example.vantage} gets {in_words(example.visit.outcome)}"


def fault_page(fault: Fault, page: "FaultPage", style: Style) -> str:
    """What is wrong, how one gets there, what the visitor gets, how it is seen, mended and prevented; and the smallest estate."""
    lines = [style.ink(fault.code, "bold"), "", *paragraph(style, f"{fault.title}.", 2), ""]
    heads = [
        ("how it comes      ", page.comes),
        ("the visitor gets  ", fault.visitor_gets),
        ("to mend it        ", fault.help),
        ("to prevent it     ", page.prevent),
    ]
    for head, text in heads:
        lines += row(style, f"  {style.ink(head, 'leg')}", 2 + len(head), text)
    example = page.example
    if example.checks:
        lines += ["", style.ink("By hand, in the smallest estate that shows it", "bold")]
    for each in example.checks:
        lines += row(style, f"  on {each.on}: ", 7 + len(each.on), each.command)
        lines += row(style, "    ", 4, f"prints {each.words}", ink=("dim",))
    lines += ["", style.ink(f"{_FILE}: {_shows(example)}", "bold")]
    lines += [f"  {style.safe(line)}" for line in example.bad.rstrip("\n").split("\n")]
    if example.good:
        lines += ["", style.ink("what mends it there", "bold")]
        shown = difference(_FILE, example.bad, example.good).rstrip("\n").split("\n")[2:]
        lines += [f"  {style.ink(style.safe(line), *_ink(line))}" for line in shown]
    if example.files:
        lines += ["", style.ink("the files that it names (--format json has their text)", "bold")]
    for beside in example.files:
        lines += row(style, f"  {beside.name}: ", 4 + len(beside.name), beside.holds)
    return "\n".join(lines)


def _ink(line: str) -> tuple[str, ...]:
    return {"+": ("good",), "-": ("bad",), "@": ("dim",)}.get(line[:1], ())


def fault_list(faults: Iterable[Fault], style: Style) -> str:
    """Every code with what is wrong."""
    held = [*faults]
    wide = max(len(each.code) for each in held)
    return "\n".join(
        line
        for each in held
        for line in row(style, f"{style.ink(each.code.ljust(wide), 'bold')}  ", wide + 2, each.title)
    )


def fault_markdown(fault: Fault, page: "FaultPage") -> str:
    """The page as docs/faults/CODE.md has it."""
    parts = [
        f"# {fault.code}",
        f"{fault.title}. [All faults](../faults.md)",
        f"- **How it comes**: {page.comes}",
        f"- **The visitor gets**: {fault.visitor_gets}",
        f"- **To mend it**: {fault.help}",
        f"- **To prevent it**: {page.prevent}",
    ]
    text = "\n\n".join(parts[:2]) + "\n\n" + "\n".join(parts[2:]) + "\n"
    example = page.example
    asks = f"`portolan explain {example.url} --from {example.vantage}` gives" if example.visit is not None else ""
    gives = f"{asks}: {in_words(example.visit.outcome)}." if example.visit is not None else "`portolan check` names it."
    text += f"\n## The smallest estate that shows it\n\n{gives}\n\n```yaml\n{example.bad}```\n"
    text += "\nBy hand:\n\n" if example.checks else ""
    text += "".join(f"- on {each.on}: `{each.command}` prints {each.words}\n" for each in example.checks)
    if example.good:
        text += f"\nWhat mends it there:\n\n```diff\n{difference(_FILE, example.bad, example.good)}```\n"
    if example.files:
        text += f"\nThe files that it names (`portolan fault {fault.code} --format json` has their text):\n\n"
        text += "".join(f"- {each.name}: {each.holds}\n" for each in example.files)
    return text
