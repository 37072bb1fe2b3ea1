"""Writes the pages that are made from the code: the estate's reference, the faults, the kinds of decisions."""

import sys
from collections.abc import Callable
from pathlib import Path

from portolan.cli.fault import page_of
from portolan.diagnosis import registry  # noqa: F401 - registers the remedies
from portolan.diagnosis.proposal import PROPOSERS
from portolan.diagnosis.registry import BY_CODE, FAULTS
from portolan.evidence.decision import Leg, every_kind
from portolan.evidence.kinds import connect, http, name, tls, zone  # noqa: F401 - defines the kinds
from portolan.formats.reference import reference_page
from portolan.views.fault_text import fault_markdown

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))
from scripts.house_picture import picture

DOCS = Path(__file__).resolve().parent.parent / "docs"


def faults_page() -> str:
    """Every fault: what is wrong, what the visitor gets, how it is mended."""
    lines = [
        "# Faults",
        "",
        "What `explain` names as a cause. The codes are stable; each means one thing for good, and has a page of its own:",
        "how it comes, shows by hand, is mended and prevented, with the smallest estate that shows it (`portolan fault CODE`).",
        "This page is made from the code (`python scripts/make_docs.py`).",
        "",
        "| code | what is wrong | what the visitor gets | what to do | remedies proven here |",
        "|---|---|---|---|---|",
    ]
    for fault in sorted(FAULTS, key=lambda each: each.code):
        proven = "yes" if fault.code in PROPOSERS else "no"
        lines.append(
            f"| [`{fault.code}`](faults/{fault.code}.md) | {fault.title} | {fault.visitor_gets} | {fault.help} | {proven} |"
        )
    return "\n".join(lines) + "\n"


def kinds_page() -> str:
    """Every kind of decision that the engines make, with its words, its facts and its standard."""
    lines = [
        "# Decisions",
        "",
        "Every kind of step that `follow --every-step` and the JSON show, leg by leg. The facts stand in the JSON",
        "by the names in braces. This page is made from the code (`python scripts/make_docs.py`).",
        "",
    ]
    for leg in Leg:
        lines += [f"## {leg}", "", "| kind | words | standard | |", "|---|---|---|---|"]
        # By module: in which order modules were loaded is no matter.
        for kind in sorted(every_kind(), key=lambda each: each.__module__):
            if kind.leg is leg:
                role = ", ".join(
                    filter(None, ("ends the visit" if kind.stops else "", "assumed" if kind.assumed else ""))
                )
                lines.append(f"| `{kind.kind}` | {kind.words} | {kind.standard} | {role} |")
        lines.append("")
    return "\n".join(lines)


PAGES = {
    "estate-reference.md": reference_page,
    "faults.md": faults_page,
    "decisions.md": kinds_page,
    "house.svg": picture,
}


def _fault(code: str) -> Callable[[], str]:
    return lambda: fault_markdown(BY_CODE[code], page_of(code))


PAGES.update({f"faults/{code}.md": _fault(code) for code in sorted(BY_CODE)})


def main() -> int:
    """Writes the pages; with --check, says which are not current."""
    stale = []
    for page, make in PAGES.items():
        path = DOCS / page
        if "--check" in sys.argv:
            if not path.exists() or path.read_text("utf-8") != make():
                stale.append(page)
        else:
            path.parent.mkdir(exist_ok=True)
            path.write_text(make(), "utf-8")
    for each in stale:
        print(f"docs/{each} is not current: run python scripts/make_docs.py")
    return 1 if stale else 0


if __name__ == "__main__":
    sys.exit(main())
