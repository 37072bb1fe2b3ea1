"""The entry point: one parser, one small module a command, every fault of the program one line and status 3."""

import argparse
import os
import sys
from collections.abc import Sequence

from portolan.cli import check, completion, demo, explain, follow, gather, rehearse, schema
from portolan.cli.errors import UsageError
from portolan.source.plain import plain
from portolan.source.problem import EstateError
from portolan.version import VERSION

COMMANDS = (demo, check, follow, explain, rehearse, gather, schema, completion)


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> None:  # type: ignore[override]
        if "required: URL" in message and "--after-reboot" in sys.argv:
            raise UsageError(message, "Put --after-reboot behind the URL, or write --after-reboot=HOST.")
        raise UsageError(message, f"See '{self.prog} --help'.")


def parser() -> argparse.ArgumentParser:
    """The whole command line; a command's own module adds its part and its handler."""
    top = _Parser(
        prog="portolan",
        description="Works out what a visitor to a published website gets, shows why, and proves a remedy.",
        epilog="example: portolan demo\n"
        "example: portolan follow https://visit.kestrel-ridge.example/ --from street\n\n"
        "exit status: 0 the visitor gets what was promised; 1 not so; 2 the command or the\n"
        "input is wrong; 3 a fault of Portolan itself",
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    top.add_argument("--version", action="version", version=f"portolan {VERSION}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", parser_class=_Parser)
    for module in COMMANDS:
        module.register(commands)
    return top


def main(argv: Sequence[str] | None = None) -> int:
    """Runs a command and returns its exit status."""
    try:
        arguments = parser().parse_args(argv)
        if arguments.command is None:
            raise UsageError("no command is given", "Try 'portolan demo', or 'portolan --help'.")
        status: int = arguments.run(arguments)
        sys.stdout.flush()
        return status
    except EstateError as error:
        shown = error.problems[:50]
        for problem in shown:
            print(plain(str(problem)), file=sys.stderr)
        more = len(error.problems) - len(shown)
        count = len(error.problems)
        print(f"portolan: {count} problem{'s' if count != 1 else ''} in the input"
              f"{f', {more} not shown' if more else ''}; nothing was answered", file=sys.stderr)  # fmt: skip
        return 2
    except UsageError as error:
        print(f"portolan: {plain(error.message)}{'.' if not error.message.endswith('.') else ''} {plain(error.hint)}".rstrip(),
              file=sys.stderr)  # fmt: skip
        return 2
    except BrokenPipeError:
        # Whoever read the output has enough.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return 0
    except KeyboardInterrupt:
        print("portolan: stopped", file=sys.stderr)
        return 130
    except Exception as error:
        if os.environ.get("PORTOLAN_TRACE"):
            raise
        kind = type(error).__name__
        print(f"portolan: a fault of Portolan itself ({kind}: {plain(str(error))[:200]}). "
              "Set PORTOLAN_TRACE=1 to see where, and report it.", file=sys.stderr)  # fmt: skip
        return 3


if __name__ == "__main__":
    sys.exit(main())
