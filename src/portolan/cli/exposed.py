"""`portolan exposed`: who gets through to what."""

import argparse

from portolan.cli.options import add_command, estate_options, format_option, output_option


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "exposed",
        "who gets through to what: every open port, from which addresses, and by which rule",
        "portolan exposed --estate observatory/",
        "portolan exposed orion --port 22",
    )
    parser.add_argument(
        "target", metavar="MACHINE|ADDRESS", nargs="?", default=None, help="only to this one (default: to everything)"
    )
    parser.add_argument("--port", metavar="P", type=int, default=None, help="only at this port, as it is asked")
    estate_options(parser)
    format_option(parser, "exposed")
    output_option(parser)
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Answers; 0 whatever is open."""
    from portolan.cli.errors import UsageError
    from portolan.cli.question import ready
    from portolan.cli.terminal import style_of
    from portolan.cli.writing import can_put_out, put_out
    from portolan.source.nearest import did_you_mean
    from portolan.source.plain import one_line
    from portolan.surveying.exposed import UnknownTargetError, exposed
    from portolan.views.formats import form_of

    if arguments.port is not None and not 0 < arguments.port < 65536:
        raise UsageError(f"--port: expected a port from 1 to 65535, found '{arguments.port}'")
    can_put_out(arguments.output)
    about = ready(arguments)
    try:
        found = exposed(about.world, arguments.target, arguments.port)
    except UnknownTargetError as error:
        hint = did_you_mean(arguments.target, error.known) or f"Machines are {', '.join(error.known[:12])}."
        raise UsageError(f"no machine has the name or the address '{one_line(arguments.target)}'", hint) from None
    put_out(arguments.output, form_of("exposed", arguments.format)(found, style_of(arguments)))
    return 0
