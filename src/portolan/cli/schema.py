"""`portolan schema`: JSON Schemas of the estate's format and of the JSON outputs."""

import argparse
import sys

from portolan.cli.options import add_command


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "schema",
        "print a JSON Schema, for editors and programs",
        "portolan schema estate > estate.schema.json",
    )
    parser.add_argument("of", choices=("estate", "follow", "explain", "check"), help="what it describes")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Prints the schema."""
    if arguments.of == "estate":
        from portolan.cli.terminal import print_json
        from portolan.formats.json_schema import estate_schema

        print_json(estate_schema())
    else:
        from importlib.resources import files

        sys.stdout.write((files("portolan.views") / f"{arguments.of}.schema.json").read_text("utf-8"))
    return 0
