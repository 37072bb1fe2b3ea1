"""`portolan follow`: one request, leg by leg, to its outcome."""

import argparse
from typing import TYPE_CHECKING

from portolan.cli.options import (
    add_command,
    as_if_at_option,
    by_hand_option,
    estate_options,
    format_option,
    question_options,
)

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
        "portolan follow https://visit.kestrel-ridge.example/ --from all",
    )
    question_options(parser)
    parser.add_argument(
        "--ladder",
        action="store_true",
        help="ask from ever farther away: the machine itself, its neighbours, the internet, by address and by name",
    )
    parser.add_argument(
        "--rests-on",
        action="store_true",
        help="tell the facts on which a working answer hangs alone: each is taken away in turn",
    )
    by_hand_option(parser)
    as_if_at_option(parser)
    estate_options(parser)
    format_option(parser, "follow")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Answers; 0 when the visitor gets what was expected, else 1."""
    from portolan.cli.asking import asked
    from portolan.cli.question import as_if_at, posed, ready
    from portolan.cli.terminal import put, style_of
    from portolan.journey.expectation import misses
    from portolan.journey.parts import lacking
    from portolan.journey.turns import turns as turns_of
    from portolan.views.results import Followed

    about = ready(arguments)
    if arguments.vantage is not None and ("," in arguments.vantage or arguments.vantage == "all"):
        return _from_several(arguments, about)
    question = as_if_at(posed(arguments, about), arguments.as_if_at)
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
    if arguments.by_hand:
        from portolan.observing.by_hand import by_hand

        result = result.but(by_hand=by_hand(question.world, found))
    if arguments.rests_on:
        from portolan.observing.rests_on import rests_on

        result = result.but(rests_on=rests_on(question, found, about.apply))
    put("follow", arguments.format, result, style_of(arguments))
    return 1 if missed or any(each.misses for each in turns) else 0


def _from_several(arguments: argparse.Namespace, about: "Ready") -> int:
    """Lays the answers of several places side by side; 0 where each is met, else 1. Raises UsageError."""
    from portolan.cli.asking import asked
    from portolan.cli.errors import UsageError
    from portolan.cli.terminal import put, style_of
    from portolan.surveying.several import every_place, several

    alone = {"--ladder": arguments.ladder, "--zoom": arguments.zoom, "--by-hand": arguments.by_hand}
    alone |= {"--rests-on": arguments.rests_on, "--as-if-at": arguments.as_if_at}
    for option, given in alone.items():
        if given:
            raise UsageError(f"{option} is for one place", "Name one with --from.")
    names = [name for name in arguments.vantage.split(",") if name]
    if arguments.vantage == "all" and "all" not in about.world.estate.vantages:
        names = list(every_place(about.world))
    if not names:
        raise UsageError("--from names no place", "Write --from X,Y, or --from all.")
    with asked():
        found = several(about.world, arguments.url, names)
    put("several", arguments.format, found, style_of(arguments))
    return 1 if found.missed else 0


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
