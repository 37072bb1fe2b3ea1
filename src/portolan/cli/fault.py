"""`portolan fault`: one fault's page, or the codes of all."""

import argparse
from typing import TYPE_CHECKING

from portolan.cli.errors import UsageError
from portolan.cli.options import add_command, format_option

if TYPE_CHECKING:
    from portolan.observing.fault_page import FaultPage


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "fault",
        "what a fault is, how it comes, shows, is mended and prevented",
        "portolan fault forward-missing",
        "portolan fault",
    )
    parser.add_argument("code", metavar="CODE", nargs="?", help="the fault's code; left out: all codes")
    format_option(parser, "fault")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Prints the page. Raises UsageError for a code that is none."""
    from portolan.cli.terminal import put, style_of
    from portolan.diagnosis.registry import BY_CODE, OLD_CODES
    from portolan.source.nearest import did_you_mean
    from portolan.source.plain import one_line
    from portolan.views.results import Faults

    code = arguments.code
    if code is None:
        every = tuple(BY_CODE[each] for each in sorted(BY_CODE))
        put("fault", arguments.format, Faults(every, True), style_of(arguments))
        return 0
    if code not in BY_CODE:
        now = OLD_CODES.get(code)
        hint = f"It is called '{now}' now." if now else did_you_mean(code, BY_CODE) or "See 'portolan fault'."
        raise UsageError(f"no fault has the code '{one_line(code)}'", hint)
    put("fault", arguments.format, Faults((BY_CODE[code],), False, page_of(code)), style_of(arguments))
    return 0


def page_of(code: str) -> "FaultPage":
    """A fault's page, from the file that is shipped with its code."""
    from importlib.resources import files

    from portolan.observing.fault_page import fault_page

    return fault_page(f"{code}.yaml", (files("portolan") / "faults" / f"{code}.yaml").read_bytes())
