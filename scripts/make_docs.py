"""Writes the pages that are made from the code: the estate's reference, the faults, the laws of the rooms."""

import sys
from pathlib import Path

from portolan.diagnosis import registry  # noqa: F401 - registers the remedies
from portolan.diagnosis.proposal import PROPOSERS
from portolan.diagnosis.registry import FAULTS
from portolan.dns import law as names_law
from portolan.evidence.decision import Law
from portolan.formats.reference import reference_page
from portolan.http import law as web_law
from portolan.journey import visit
from portolan.net import law as wire_law
from portolan.tls import law as tls_law

DOCS = Path(__file__).resolve().parent.parent / "docs"


def faults_page() -> str:
    """Every fault: what is wrong, what the visitor gets, how it is mended."""
    lines = ["# Faults", "", "What `explain` names as a cause. The codes are stable; each means one thing for good.",
             "This page is made from the code (`python scripts/make_docs.py`).", "",
             "| code | what is wrong | what the visitor gets | what to do | remedies proven here |", "|---|---|---|---|---|"]  # fmt: skip
    for fault in sorted(FAULTS, key=lambda each: each.code):
        proven = "yes" if fault.code in PROPOSERS else "no"
        lines.append(f"| `{fault.code}` | {fault.title} | {fault.visitor_gets} | {fault.help} | {proven} |")
    return "\n".join(lines) + "\n"


def laws_page() -> str:
    """Every kind of decision that the engines make, with its words and its standard."""
    lines = ["# Decisions", "", "Every kind of step that `follow --every-step` and the JSON show, room by room, from the tables",
             "that the engines themselves decide by. This page is made from the code (`python scripts/make_docs.py`).",
             ""]  # fmt: skip
    for title, module in (("Names", names_law), ("The way of a packet", wire_law), ("The secure leg", tls_law),
                          ("The answer", web_law), ("The journey", visit)):  # fmt: skip
        lines += [f"## {title}", "", "| kind | words | standard | |", "|---|---|---|---|"]
        for value in vars(module).values():
            if isinstance(value, Law):
                role = "ends the visit" if value.stops else ""
                role = ", ".join(filter(None, (role, "assumed" if value.assumed else "")))
                lines.append(f"| `{value.kind}` | {value.wording} | {value.standard} | {role} |")
        lines.append("")
    return "\n".join(lines)


PAGES = {"estate-reference.md": reference_page, "faults.md": faults_page, "decisions.md": laws_page}


def main() -> int:
    """Writes the pages; with --check, says which are not current."""
    stale = []
    for name, make in PAGES.items():
        path = DOCS / name
        if "--check" in sys.argv:
            if not path.exists() or path.read_text("utf-8") != make():
                stale.append(name)
        else:
            path.write_text(make(), "utf-8")
    for name in stale:
        print(f"docs/{name} is not current: run python scripts/make_docs.py")
    return 1 if stale else 0


if __name__ == "__main__":
    sys.exit(main())
