"""`portolan follow`: one request, leg by leg, to its outcome."""

import argparse
from typing import TYPE_CHECKING

from portolan.cli.options import add_command, estate_options, format_option, question_options

if TYPE_CHECKING:
    from portolan.cli.question import Ready
    from portolan.journey.question import Question


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "follow",
        "follow one request, leg by leg, to its outcome",
        "portolan follow https://visit.kestrel-ridge.example/ --from street",
        "portolan follow https://visit.kestrel-ridge.example/ --ladder",
    )
    question_options(parser)
    parser.add_argument(
        "--ladder",
        action="store_true",
        help="ask from ever farther away: the machine itself, its neighbours, the internet, by address and by name",
    )
    estate_options(parser)
    format_option(parser, "follow")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Answers; 0 when the visitor gets what was expected, else 1."""
    from portolan.cli.asking import asked
    from portolan.cli.question import posed, ready
    from portolan.cli.terminal import put, style_of
    from portolan.journey.expectation import misses
    from portolan.journey.parts import lacking
    from portolan.journey.turns import turns as turns_of
    from portolan.views.results import Followed

    about = ready(arguments)
    question = posed(arguments, about)
    if arguments.ladder:
        return _climb(arguments, about, question)
    expectation = question.expectation
    with asked():
        found = question.answer()
        turns = turns_of(question.world, found, expectation)
        parts = lacking(question.world, found)
    missed = misses(expectation, found)
    findings = []
    if missed or any(len(exchange.attempts) > 1 for exchange in found.exchanges):
        from portolan.diagnosis.base import Case
        from portolan.diagnosis.registry import recognise

        findings = recognise(Case(question.world, found, expectation))
    facts = (found, missed, expectation is not None, findings, turns, parts)
    result = Followed(*facts, arguments.every_step, arguments.zoom)
    put("follow", arguments.format, result, style_of(arguments))
    return 1 if missed or any(each.misses for each in turns) else 0


def _climb(arguments: argparse.Namespace, about: "Ready", question: "Question") -> int:
    """Asks from rung to rung; 0 where every one holds, else 1 with the first that fails explained."""
    from portolan.cli.asking import asked
    from portolan.cli.terminal import put, style_of
    from portolan.diagnosis.ladder import ladder
    from portolan.views.results import Climbed, Explained

    with asked():
        climbed = ladder(question)
    broken, explained = climbed.broken, None
    if broken is not None and arguments.format == "text":
        from portolan.diagnosis.search import explain

        found = explain(broken.world, broken.visit.url, broken.vantage, about.apply)
        explained = Explained(found, broken.findings, arguments.every_step)
    put("ladder", arguments.format, Climbed(climbed, question.world.now, explained), style_of(arguments))
    return 0 if broken is None else 1
