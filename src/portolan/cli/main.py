"""The entry point: one parser, one small module a command, every fault of the program one line and status 3."""

import argparse
import os
import re
import sys
from collections.abc import Sequence
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING

from portolan.cli.errors import UsageError
from portolan.cli.options import Help
from portolan.cli.packages import load_packages
from portolan.cli.streams import complain, give_up_output
from portolan.source.nearest import nearest
from portolan.source.plain import one_line, plain
from portolan.source.problem import EstateError
from portolan.version import VERSION

if TYPE_CHECKING:
    from _typeshed import SupportsWrite

#: Each is a module of this room, which adds its part and its handler.
COMMANDS = (
    "demo",
    "init",
    "check",
    "follow",
    "explain",
    "probe",
    "survey",
    "compare",
    "exposed",
    "draw",
    "report",
    "rehearse",
    "transcribe",
    "fault",
    "schema",
    "completion",
)


class _Parser(argparse.ArgumentParser):
    def _print_message(self, message: str, file: "SupportsWrite[str] | None" = None) -> None:
        """Help and version are answers too: that they cannot be written is told, where the library would pass over it."""
        if message:
            (file or sys.stderr).write(message)

    def error(self, message: str) -> None:  # type: ignore[override]
        if "required: URL" in message and "--after-reboot" in sys.argv:
            raise UsageError(message, "Put --after-reboot behind the URL, or write --after-reboot=HOST.")
        given = message.removeprefix("unrecognized arguments: ")
        if given != message and os.path.exists(given):
            raise UsageError(message, f"An estate is named with '-e {one_line(given)}'.")
        raise UsageError(message, self._near(message, given) or f"See '{self.prog} --help'.")

    def _near(self, message: str, given: str) -> str:
        """What was probably meant by a mistyped option or choice, and the estate that stands where a URL is asked for."""
        chosen = _CHOICE.match(message)
        if chosen is not None:
            held = [re.sub(r"^'|'$", "", each.strip()) for each in chosen[2].split(",")]
            near = nearest(chosen[1], held)
            return f"Did you mean '{near}'?" if near is not None else ""
        if given == message or not given.startswith("-"):
            return ""
        option = given.split()[0].partition("=")[0]
        known = [
            name for parser in (self, *_below(self)) for action in parser._actions for name in action.option_strings
        ]
        near = nearest(option, known)
        return f"Did you mean {near}?" if near is not None else ""


_CHOICE = re.compile(r"argument [^:]+: invalid choice: '(.*?)' \(choose from (.*)\)$")


def _below(parser: argparse.ArgumentParser) -> list[argparse.ArgumentParser]:
    """The parsers of its commands."""
    held = [action.choices for action in parser._actions if isinstance(action, argparse._SubParsersAction)]
    return [each for choices in held for each in choices.values()]


@cache
def parser(command: str | None = None) -> argparse.ArgumentParser:
    """The whole command line, or that of one command: only its module is loaded."""
    top = _Parser(
        prog="portolan",
        description="Works out what a visitor to a published website gets, shows why, and proves a remedy.",
        epilog="example: portolan demo\n"
        "example: portolan follow https://visit.kestrel-ridge.example/ --from street\n\n"
        "exit status: 0 the visitor gets what was expected; 1 not so; 2 the command or the\n"
        "input is wrong; 3 a fault of Portolan itself",
        formatter_class=Help,
        allow_abbrev=False,
    )
    top.add_argument("--version", action="version", version=f"portolan {VERSION}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", parser_class=_Parser)
    for name in COMMANDS if command is None else (command,):
        import_module(f"portolan.cli.{name}").register(commands)
    return top


def _carried_out(argv: Sequence[str] | None) -> int:
    """Runs a command; help and version end by argparse's own exception."""
    try:
        given = sys.argv[1:] if argv is None else list(argv)
        arguments = parser(given[0] if given and given[0] in COMMANDS else None).parse_args(given)
        if arguments.command is None:
            raise UsageError("no command is given", "Try 'portolan demo', or 'portolan --help'.")
        load_packages()
        status: int = arguments.run(arguments)
    except SystemExit as ended:
        status = ended.code if isinstance(ended.code, int) else 0
    sys.stdout.flush()
    return status


def main(argv: Sequence[str] | None = None) -> int:
    """Runs a command and returns its exit status."""
    try:
        return _carried_out(argv)
    except EstateError as error:
        return refused(error)
    except UsageError as error:
        complain(told(error))
        return 2
    except BrokenPipeError:
        # Whoever read the output has enough.
        give_up_output()
        return 0
    except OSError as error:
        give_up_output()
        about = f" '{one_line(str(error.filename))}'" if error.filename is not None else " the answer"
        what = "use" if error.filename is not None else "write"
        complain(
            f"portolan: cannot {what}{about}: {one_line(error.strerror or str(error))}. Look at the disk, the rights and where the output goes."
        )
        return 2
    except MemoryError:
        complain("portolan: there is not enough memory for this input. Split it, or ask on a larger machine.")
        return 2
    except KeyboardInterrupt:
        complain("portolan: stopped")
        return 130
    except Exception as error:
        if os.environ.get("PORTOLAN_TRACE"):
            raise
        kind = type(error).__name__
        complain(
            f"portolan: a fault of Portolan itself ({kind}: {one_line(str(error), 200)}). "
            "Set PORTOLAN_TRACE=1 to see where, and report it."
        )
        return 3


def told(error: UsageError) -> str:
    """A wrong command line in one line, with the next thing to do."""
    end = "" if error.message.endswith(".") else "."
    return f"portolan: {one_line(error.message, 2000)}{end} {plain(error.hint)}".rstrip()


#: So many problems are shown; the rest is counted.
_MOST_SHOWN = 100


def refused(error: EstateError) -> int:
    """Tells what is wrong with the input, each problem with its line."""
    from portolan.formats.secrets import shown_problem

    shown = error.problems[:_MOST_SHOWN]
    for problem in shown:
        complain(shown_problem(problem, error.line_of))
    count = len(error.problems) + error.more
    more = count - len(shown)
    if more:
        complain(f"and {more} more")
    complain(f"portolan: {count} problem{'s' if count != 1 else ''} in the input; nothing was answered")
    return 2


if __name__ == "__main__":
    sys.exit(main())
