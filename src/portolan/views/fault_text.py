"""The page of one fault, and the list of all codes."""

from collections.abc import Iterable

from portolan.diagnosis.base import Fault
from portolan.views.style import Style, paragraph, row


def fault_data(fault: Fault) -> dict[str, str]:
    """A fault as plain data."""
    return {"code": fault.code, "wrong": fault.title, "visitor_gets": fault.visitor_gets, "mend": fault.help}


def fault_page(fault: Fault, style: Style) -> str:
    """What is wrong, what the visitor gets, how it is mended."""
    lines = [style.ink(fault.code, "bold"), "", *paragraph(style, f"{fault.title}.", 2), ""]
    for head, text in (("the visitor gets  ", fault.visitor_gets), ("to mend it        ", fault.help)):
        lines += row(style, f"  {style.ink(head, 'leg')}", 2 + len(head), text)
    return "\n".join(lines)


def fault_list(faults: Iterable[Fault], style: Style) -> str:
    """Every code with what is wrong."""
    held = [*faults]
    wide = max(len(each.code) for each in held)
    return "\n".join(
        line
        for each in held
        for line in row(style, f"{style.ink(each.code.ljust(wide), 'bold')}  ", wide + 2, each.title)
    )
