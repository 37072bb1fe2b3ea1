"""`portolan explain`: the cause, what waits behind it, and remedies, each proven."""

import argparse
from contextlib import suppress
from typing import TYPE_CHECKING

from portolan.cli.errors import UsageError
from portolan.cli.options import add_command, by_hand_option, estate_options, format_option, question_options
from portolan.cli.streams import complain
from portolan.source.plain import one_line

if TYPE_CHECKING:
    from portolan.cli.question import Ready
    from portolan.diagnosis.trial import Explanation


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "explain",
        "why a visitor does not get what was expected, and what mends it",
        "portolan explain https://visit.kestrel-ridge.example/ --from street",
        "portolan explain --estate observatory/",
        "portolan explain https://visit.kestrel-ridge.example/ --seen office=200 --seen street=time-out",
    )
    question_options(parser, "all that misses an expectation, a cause at a time")
    parser.add_argument(
        "--thorough",
        action="store_true",
        help="try every change that might have been meant, however long it takes, and not only the likeliest",
    )
    parser.add_argument(
        "--seen",
        metavar="WHAT",
        action="append",
        default=[],
        help="what is seen of the real thing: a status, time-out, refused, 'no such name', certificate, 'wrong page', a code of curl or "
        "a browser; or PLACE=WHAT, and several: the beliefs that would give exactly that, and what to look at next",
    )
    parser.add_argument(
        "--checked",
        metavar="OBJECT=right|wrong",
        action="append",
        default=[],
        help="with --seen: this was looked at, and is as it is written, or not; OBJECT is a dotted path, or file:line",
    )
    by_hand_option(parser)
    parser.add_argument(
        "--write",
        metavar="N",
        type=int,
        default=None,
        help="write the remedy of this number into the estate's own files: shown first, comments and layout kept, with an undo record",
    )
    parser.add_argument(
        "--letter",
        metavar="N",
        type=int,
        default=None,
        help="write, to whoever runs it, the message that asks for the remedy of this number, ready to send",
    )
    parser.add_argument("--yes", action="store_true", help="with --write: write without asking")
    estate_options(parser)
    format_option(parser, "explain")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Answers; 0 when nothing is to be mended, else 1."""
    from portolan.cli.asking import asked
    from portolan.cli.question import posed, ready
    from portolan.cli.terminal import put, style_of
    from portolan.diagnosis.base import Case
    from portolan.diagnosis.registry import recognise
    from portolan.diagnosis.search import explain
    from portolan.diagnosis.smallest import EVERY, MOST_TRIED
    from portolan.journey.turns import missed_turns
    from portolan.views.results import Explained

    about = ready(arguments)
    if arguments.seen or arguments.checked:
        from portolan.cli.seen import explained_as_seen

        return explained_as_seen(arguments, about)
    if (arguments.write is not None or arguments.letter is not None) and arguments.url is None:
        raise UsageError("--write and --letter are about the remedies of one address", "Name its URL.")
    if arguments.yes and arguments.write is None:
        raise UsageError("--yes goes with --write", "Say which remedy: --write N.")
    if arguments.url is None:
        return _all_missed(arguments, about)
    question = posed(arguments, about)
    with asked():
        most = EVERY if arguments.thorough else MOST_TRIED
        found = explain(question.world, question.url, question.vantage, about.apply, most)
        turns = missed_turns(question.world, found.visit, found.expectation) if not found.missed else ()
        if turns:
            # The name leads there now and then: what goes wrong at that address is explained.
            complain(f"note: {turns[0].words}; else as expected")
            found = explain(question.world, question.url, turns[0].visit.vantage, about.apply, most)
    if arguments.letter is not None:
        return _letter(arguments, about, found)
    if arguments.write is not None:
        from portolan.cli.write import written

        return written(arguments, about, found)
    findings = recognise(Case(question.world, found.visit, found.expectation))
    result = Explained(found, findings, arguments.every_step, arguments.zoom, others=_others(about, found))
    if arguments.by_hand:
        from portolan.observing.by_hand import by_hand

        result = result.but(by_hand=by_hand(question.world, found.visit))
    put("explain", arguments.format, result, style_of(arguments))
    if arguments.format == "patch" and found.missed and (found.best is None or not found.best.patch):
        complain(f"portolan: {_why_empty(found)}")
    return 1 if found.missed else 0


def _others(about: "Ready", found: "Explanation") -> dict[int, tuple[str, ...]]:
    """By the number of a remedy: who else must do it."""
    from portolan.diagnosis.others import must_be_asked

    asked = {number: must_be_asked(about.world.stated, each) for number, each in enumerate(found.remedies, 1)}
    return {number: who for number, who in asked.items() if who}


def _letter(arguments: argparse.Namespace, about: "Ready", found: "Explanation") -> int:
    """Writes the message that asks for a remedy. Raises UsageError."""
    from portolan.cli.terminal import put, style_of
    from portolan.cli.write import numbered
    from portolan.observing.letter import letter
    from portolan.source.problem import EstateError

    if arguments.format == "patch":
        raise UsageError("a letter is no patch", "Leave --format patch out.")
    held = f"There are {len(found.remedies)}." if found.remedies else "There is nothing to ask for."
    remedy = numbered(found, arguments.letter, held)
    changed = None
    # What mends a later cause may rest on what mends an earlier one: then nothing is said of how it is when it is done.
    with suppress(EstateError):
        changed = about.apply(remedy.patch) if remedy.patch else None
    put("letter", arguments.format, letter(about.world, found, remedy, changed), style_of(arguments))
    return 0


#: So many causes are explained at once.
_MOST_CAUSES = 8


def _all_missed(arguments: argparse.Namespace, about: "Ready") -> int:
    """Explains what misses an expectation, worst first, one question a cause; 1 where something does."""
    from portolan.cli.terminal import put, style_of
    from portolan.diagnosis.asking import answers
    from portolan.diagnosis.base import Case
    from portolan.diagnosis.registry import recognise
    from portolan.diagnosis.search import explain
    from portolan.diagnosis.smallest import EVERY, MOST_TRIED
    from portolan.views.results import AllExplained, Explained

    if arguments.vantage is not None or arguments.zoom is not None or arguments.format == "patch" or arguments.by_hand:
        raise UsageError("no URL is named", "Name one, or leave --from, --zoom, --by-hand and --format patch out.")
    found = answers(about.world, about.apply)
    groups = sorted(found.groups, key=lambda each: -len(each.missed))
    most = EVERY if arguments.thorough else MOST_TRIED
    explained = []
    for first in (group.missed[0] for group in groups[:_MOST_CAUSES]):
        one = explain(about.world, first.expectation.url, first.vantage, about.apply, most)
        findings = recognise(Case(about.world, one.visit, one.expectation))
        explained.append(Explained(one, findings, arguments.every_step, others=_others(about, one)))
    result = AllExplained(about.world.now, found, tuple(explained))
    put("explain all", arguments.format, result, style_of(arguments))
    return 1 if groups else 0


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
