"""`portolan compare`: two states of an estate, or two places to ask from: what differs for visitors, who gains and loses access."""

import argparse
import os
from typing import TYPE_CHECKING

from portolan.cli.options import add_command, estate_options, format_option, output_option

if TYPE_CHECKING:
    from portolan.formats.estate_file import Loaded
    from portolan.journey.world import World

#: What may be named as worse, beside expectations that are newly missed.
_WORSE = ("opens", "breaks", "weakens")


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "compare",
        "what differs for visitors between two estates, before and after a change, or from two places",
        "portolan compare main: . --fail-on opens",
        "portolan compare --with change.yaml -e observatory/",
        "portolan compare --from street --from desk https://visit.kestrel-ridge.example/",
        about="What differs for visitors between two estates, before and after a change, or from two places; who gains and loses access;\n"
        "which expectations change. Exit status 1 where an expectation is newly missed, or what --fail-on names happens.",
    )
    parser.add_argument(
        "sides",
        metavar="A B|URL",
        nargs="*",
        help="two estates: folders, files, or REVISION:PATH as git has it (without PATH: where the other one lies); "
        "with --from given twice: the address to ask for",
    )
    parser.add_argument(
        "--from",
        dest="vantages",
        metavar="VANTAGE",
        action="append",
        default=[],
        help="given twice: two places to ask from",
    )
    parser.add_argument(
        "--fail-on",
        metavar="WHAT",
        action="append",
        default=[],
        help="what also makes the exit status 1: opens, weakens (breaks always does); several with commas",
    )
    estate_options(parser)
    format_option(parser, "compare")
    output_option(parser)
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Compares; 0 where nothing gets worse, else 1."""
    from portolan.cli.errors import UsageError
    from portolan.cli.terminal import style_of
    from portolan.cli.writing import can_put_out, put_out
    from portolan.source.nearest import did_you_mean
    from portolan.source.plain import one_line
    from portolan.surveying.compared import compared
    from portolan.views.formats import form_of

    can_put_out(arguments.output)
    worse = [word for each in arguments.fail_on for word in each.split(",") if word]
    for word in worse:
        if word not in _WORSE:
            hint = did_you_mean(word, _WORSE)
            raise UsageError(f"--fail-on: '{one_line(word)}' is nothing that can be named", hint)
    if arguments.vantages:
        return _two_places(arguments)
    before, after = _worlds(arguments)
    found = compared(before, after)
    put_out(arguments.output, form_of("compare", arguments.format)(found, style_of(arguments)))
    return 1 if found.worse(worse) else 0


def _worlds(arguments: argparse.Namespace) -> "tuple[World, World]":
    """The two states, at one moment. Raises UsageError and EstateError."""
    from portolan.cli.errors import UsageError
    from portolan.cli.options import named_estate
    from portolan.cli.question import booted_machines, given_changes, load_path, moment, with_changes
    from portolan.cli.streams import complain
    from portolan.journey.world import World

    sides = arguments.sides
    if arguments.changes:
        if sides:
            raise UsageError("--with compares an estate with itself changed, and no second one", "Name it with -e.")
        one = load_path(named_estate(arguments))
        other = with_changes(one, given_changes(arguments), complain)
    else:
        if len(sides) == 1:
            sides = [*sides, named_estate(arguments)]
        if len(sides) != 2:
            raise UsageError(
                "two estates are compared", "Name both, such as 'portolan compare main: .', or a change with --with."
            )
        one, other = _side(sides[0], sides[1]), _side(sides[1], sides[0])
    at = moment(arguments, other)
    if arguments.at is None and other.estate.at is None and one.estate.at is not None:
        at = one.estate.at
    booted = booted_machines(arguments, other)
    return World(one.estate, at, None, booted), World(other.estate, at, None, booted)


def _side(text: str, other: str) -> "Loaded":
    """The estate at a path, or that of a revision."""
    from portolan.cli.question import load_files, load_path, main_file
    from portolan.cli.revision import revision_of

    if text == "-" or os.path.exists(text) or ":" not in text:
        return load_path(text)
    files, main = revision_of(text, other if os.path.exists(other) else ".")
    return load_files(files, main if main is not None else main_file(files.names(), text))


def _two_places(arguments: argparse.Namespace) -> int:
    """One address from two places; 0 where both get the same."""
    from portolan.cli.asking import asked
    from portolan.cli.errors import UsageError
    from portolan.cli.question import ready
    from portolan.cli.terminal import style_of
    from portolan.cli.writing import put_out
    from portolan.journey.question import question
    from portolan.surveying.places import side_by_side
    from portolan.views.formats import form_of

    names = [name for each in arguments.vantages for name in each.split(",") if name]
    if len(names) != 2 or len(arguments.sides) != 1:
        message = "two places are compared for one address"
        raise UsageError(message, "Write --from X --from Y URL; more places at once are asked by 'portolan survey'.")
    about = ready(arguments)
    with asked():
        found = side_by_side(*(question(about.world, arguments.sides[0], name) for name in names))
    put_out(arguments.output, form_of("places", arguments.format)(found, style_of(arguments)))
    return 0 if found.difference is None or not {"outcome", "page"} & set(found.difference.what) else 1
