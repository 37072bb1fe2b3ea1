"""`portolan follow`: one request, leg by leg, to its outcome."""

import argparse

from portolan.cli.options import add_command, estate_options, format_option, question_options


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "follow",
        "follow one request, leg by leg, to its outcome",
        "portolan follow https://visit.kestrel-ridge.example/ --from street",
    )
    question_options(parser)
    estate_options(parser)
    format_option(parser, "text", "json")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Answers; 0 when the visitor gets what was expected, else 1."""
    from portolan.cli.asking import asked
    from portolan.cli.question import ready, vantage_of
    from portolan.cli.terminal import print_json, style_of
    from portolan.journey.expectation import expectation_for, misses
    from portolan.journey.visit import visit

    question = ready(arguments)
    vantage = vantage_of(arguments, question.loaded)
    with asked():
        found = visit(question.world, arguments.url, vantage)
        expectation = expectation_for(question.loaded.estate, arguments.url, vantage)
    missed = misses(expectation, found)
    findings = []
    if missed or any(len(exchange.attempts) > 1 for exchange in found.exchanges):
        from portolan.diagnosis.base import Case
        from portolan.diagnosis.registry import recognise

        findings = recognise(Case(question.world, found, expectation))
    if arguments.format == "json":
        from portolan.views.data import follow_data

        print_json(follow_data(found, missed, expectation is not None, findings))
    else:
        from portolan.views.text import follow_text

        style, zoomed = style_of(arguments), None
        if arguments.zoom is not None:
            from portolan.views.zoom_text import zoom_text

            zoomed = zoom_text(found, arguments.zoom, style)
        print(
            follow_text(found, missed, expectation is not None, findings, style, arguments.every_step, zoomed), end=""
        )
    return 1 if missed else 0
