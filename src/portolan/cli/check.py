"""`portolan check`: loads, cross-checks and lints an estate."""

import argparse

from portolan.cli.options import add_command, estate_options, format_option


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(commands, "check", "load an estate and name everything that is wrong or will go wrong",
                         "portolan check --estate observatory/")  # fmt: skip
    estate_options(parser)
    format_option(parser, "text", "json")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Answers; 0 without an error, 1 when something is wrong."""
    from portolan.cli.question import ready
    from portolan.cli.terminal import print_json, style_of
    from portolan.faults.lint import lint

    question = ready(arguments)
    findings = lint(question.world)
    if arguments.format == "json":
        from portolan.views.data import check_data

        print_json(check_data(question.loaded.estate, question.world.now, findings))
    else:
        from portolan.views.check_text import check_text

        print(check_text(question.loaded.estate, findings, style_of(arguments)), end="")
    return 1 if any(finding.severity == "error" for finding in findings) else 0
