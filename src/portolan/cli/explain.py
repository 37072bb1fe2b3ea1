"""`portolan explain`: the cause, what waits behind it, and remedies, each proven."""

import argparse
from typing import TYPE_CHECKING

from portolan.cli.options import add_command, estate_options, format_option, question_options
from portolan.cli.streams import complain
from portolan.source.plain import one_line

if TYPE_CHECKING:
    from portolan.diagnosis.trial import Explanation


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "explain",
        "why a visitor does not get what was expected, and what mends it",
        "portolan explain https://visit.kestrel-ridge.example/ --from street",
    )
    question_options(parser)
    parser.add_argument(
        "--thorough",
        action="store_true",
        help="try every change that might have been meant, however long it takes, and not only the likeliest",
    )
    estate_options(parser)
    format_option(parser, "text", "json", "patch")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Answers; 0 when nothing is to be mended, else 1."""
    from portolan.cli.asking import asked
    from portolan.cli.question import ready, vantage_of
    from portolan.cli.terminal import print_json, style_of
    from portolan.diagnosis.base import Case
    from portolan.diagnosis.registry import recognise
    from portolan.diagnosis.search import explain
    from portolan.diagnosis.smallest import EVERY, MOST_TRIED
    from portolan.formats.estate_file import patched

    question = ready(arguments)
    vantage = vantage_of(arguments, question.loaded)
    with asked():
        most = EVERY if arguments.thorough else MOST_TRIED
        found = explain(
            question.world, arguments.url, vantage, lambda patch: patched(question.loaded, patch).estate, most
        )
    findings = recognise(Case(question.world, found.visit, found.expectation))
    if arguments.format == "patch":
        print_json(found.best.patch if found.best is not None else [])
        if found.missed and (found.best is None or not found.best.patch):
            complain(f"portolan: {_why_empty(found)}")
    elif arguments.format == "json":
        from portolan.views.data import explain_data

        print_json(explain_data(found, findings))
    else:
        from portolan.views.explain_text import explain_text
        from portolan.views.zoom_text import zoom_text

        style = style_of(arguments)
        zoomed = zoom_text(found.visit, arguments.zoom, style) if arguments.zoom is not None else []
        print(explain_text(found, findings, style, arguments.every_step, zoomed), end="")
    return 1 if found.missed else 0


def _why_empty(found: "Explanation") -> str:
    """Why no change is handed out."""
    if found.best is not None:
        return f"the patch is empty: {one_line(found.best.text, 300)}"
    unsafe = next((each.text for each in found.remedies if each.safety == "weakens"), None) or next(
        iter(found.withheld), None
    )
    if unsafe is not None:
        return f"the patch is empty: what was found weakens or is withheld ({one_line(unsafe, 300)})"
    return "the patch is empty: no change to this estate was found that meets the expectation"
