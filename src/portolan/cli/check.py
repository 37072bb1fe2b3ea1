"""`portolan check`: loads, cross-checks and lints an estate, and asks every expectation."""

import argparse
from typing import TYPE_CHECKING

from portolan.cli.options import add_command, estate_options, format_option, watch_option

if TYPE_CHECKING:
    from portolan.journey.world import World


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "check",
        "load an estate, ask every expectation, and name what is wrong or will go wrong",
        "portolan check --estate observatory/",
        "portolan check --renewals",
    )
    parser.add_argument(
        "--renewals",
        nargs="?",
        const="",
        metavar="NAME",
        help="rehearse the next renewals instead: would an authority be convinced; of one certificate or name",
    )
    estate_options(parser)
    format_option(parser, "check")
    watch_option(parser)
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Answers; 0 when no expectation is missed and nothing is an error, else 1."""
    if arguments.watch:
        from portolan.cli.watch import again_and_again

        return again_and_again(arguments, run)
    from portolan.cli.question import ready
    from portolan.cli.terminal import put, style_of
    from portolan.diagnosis.asking import answers
    from portolan.diagnosis.lint import lint
    from portolan.views.results import Checked

    question = ready(arguments)
    if arguments.renewals is not None:
        return _renewals(arguments, question.world)
    findings = lint(question.world)
    found = answers(question.world, question.apply)
    result = Checked(question.loaded.estate, question.world.now, findings, found)
    put("check", arguments.format, result, style_of(arguments))
    return 1 if found.groups or any(finding.severity == "error" for finding in findings) else 0


def _renewals(arguments: argparse.Namespace, world: "World") -> int:
    """Rehearses the next renewals; 0 where each can be had, else 1."""
    from portolan.cli.errors import UsageError
    from portolan.cli.terminal import put, style_of
    from portolan.diagnosis.renewals import renewals
    from portolan.source.nearest import did_you_mean
    from portolan.source.plain import one_line
    from portolan.views.results import Renewed

    found = renewals(world, arguments.renewals.lower() or None)
    if arguments.renewals and not found:
        every = renewals(world)
        known = [each.certificate.name for each in every]
        known += [one.name for each in every for one in each.challenges]
        hint = (
            did_you_mean(arguments.renewals, known) or f"Renewed are {', '.join(dict.fromkeys(known)) or 'none here'}."
        )
        raise UsageError(f"no certificate is renewed for '{one_line(arguments.renewals)}'", hint)
    put("renewals", arguments.format, Renewed(found, world.now), style_of(arguments))
    return 1 if any(each.blocked for each in found) else 0
