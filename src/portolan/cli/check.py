"""`portolan check`: loads, cross-checks and lints an estate, and asks every expectation."""

import argparse

from portolan.cli.options import add_command, estate_options, format_option


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "check",
        "load an estate, ask every expectation, and name what is wrong or will go wrong",
        "portolan check --estate observatory/",
    )
    estate_options(parser)
    format_option(parser, "text", "json")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Answers; 0 when no expectation is missed and nothing is an error, else 1."""
    from portolan.cli.question import ready
    from portolan.cli.terminal import print_json, style_of
    from portolan.diagnosis.asking import answers
    from portolan.diagnosis.lint import lint

    question = ready(arguments)
    findings = lint(question.world)
    found = answers(question.world, question.apply)
    if arguments.format == "json":
        from portolan.views.data import check_data

        print_json(check_data(question.loaded.estate, question.world.now, findings, found))
    else:
        from portolan.views.check_text import check_text

        print(check_text(question.loaded.estate, findings, found, style_of(arguments)), end="")
    return 1 if found.groups or any(finding.severity == "error" for finding in findings) else 0
