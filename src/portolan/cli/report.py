"""`portolan report`: one page for whoever has to be told."""

import argparse

from portolan.cli.options import add_command, estate_options, output_option, places_option


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "report",
        "one self-contained page (HTML) for whoever has to be told: what is missed, why, what mends it, what is open",
        "portolan report --estate observatory/ -o report.html",
        "portolan report --at 2026-06-01T00:00:00Z -o june.html",
    )
    places_option(parser)
    estate_options(parser)
    output_option(parser)
    parser.set_defaults(run=run, only=None, jobs=1, cluster=None)


def run(arguments: argparse.Namespace) -> int:
    """Writes it; 0 when every expectation is met, else 1."""
    from portolan.cli.survey import asked_for
    from portolan.cli.terminal import style_of
    from portolan.cli.writing import can_put_out, put_out
    from portolan.surveying.report import report
    from portolan.views.formats import form_of
    from portolan.views.words import in_words

    can_put_out(arguments.output)
    found, world, asked, apply = asked_for(arguments)
    page = report(world, found, asked, apply, in_words)
    put_out(arguments.output, form_of("report", "html")(page, style_of(arguments)))
    return 1 if found.groups or found.failed else 0
