"""`portolan schema`: JSON Schemas of the estate's format and of the JSON outputs."""

import argparse

from portolan.cli.options import add_command


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "schema",
        "print a JSON Schema, for editors and programs",
        "portolan schema estate > estate.schema.json",
        "portolan schema survey",
    )
    parser.add_argument(
        "of",
        choices=(
            "estate",
            "follow",
            "explain",
            "check",
            "ladder",
            "renewals",
            "survey",
            "compare",
            "places",
            "exposed",
        ),
        help="what it describes",
    )
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Prints the schema."""
    from portolan.cli.terminal import print_json

    if arguments.of == "estate":
        from portolan.formats.json_schema import estate_schema

        print_json(estate_schema())
    else:
        from portolan.views.schemas import schema_of

        print_json(schema_of(arguments.of))
    return 0
