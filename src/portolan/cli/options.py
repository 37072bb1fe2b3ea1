"""Options that mean the same in every command."""

import argparse
import os
import sys

from portolan.views.formats import FORMATS


def columns() -> int:
    """How wide the terminal is: what COLUMNS says, else what the terminal says, else 80.

    As the library's `shutil` has it, which loads every archive's module first; argparse asks it for each option.
    """
    stated = os.environ.get("COLUMNS", "")
    if stated.isdecimal() and int(stated):
        return int(stated)
    try:
        return os.get_terminal_size(sys.__stdout__.fileno()).columns or 80  # type: ignore[union-attr]
    except (AttributeError, ValueError, OSError):
        return 80


class Help(argparse.RawDescriptionHelpFormatter):
    """Help as wide as the terminal, its descriptions and examples as they are written."""

    def __init__(self, prog: str) -> None:
        super().__init__(prog, width=columns() - 2)


def named_estate(arguments: argparse.Namespace) -> str:
    """The estate that a command is about: the path that was named, else that of the environment, else the current folder."""
    return getattr(arguments, "estate", None) or os.environ.get("PORTOLAN_ESTATE") or "."


def estate_options(parser: argparse.ArgumentParser) -> None:
    """Which estate, changed how, at which moment."""
    parser.add_argument(
        "-e",
        "--estate",
        metavar="PATH",
        default=None,
        help="the estate: a folder with estate.yaml, or a file, or - (default: PORTOLAN_ESTATE, else here)",
    )
    parser.add_argument(
        "--with",
        dest="changes",
        metavar="CHANGE_FILE",
        action="append",
        default=[],
        help="ask as if this change were made: JSON Patch or JSON Merge Patch, in YAML or JSON; or -",
    )
    parser.add_argument(
        "--at", metavar="TIME", default=None, help="ask about this moment, such as 2026-03-14T20:00:00Z"
    )
    boot_option(parser)


def boot_option(parser: argparse.ArgumentParser) -> None:
    """Ask as if machines had just booted."""
    parser.add_argument(
        "--after-reboot",
        dest="booted",
        metavar="HOST",
        nargs="?",
        action="append",
        const="",
        default=None,
        help="ask as if this machine had just booted (without HOST: every machine); stands behind the URL",
    )


def format_option(parser: argparse.ArgumentParser, what: str) -> None:
    """The form of the output: every one that there is for what is shown."""
    forms = tuple(FORMATS[what])
    parser.add_argument(
        "--format", choices=forms, default=forms[0], help=f"the form of the output (default: {forms[0]})"
    )
    parser.add_argument(
        "--color",
        choices=("auto", "always", "never"),
        default="auto",
        help="colour (default: on a terminal, unless NO_COLOR is set)",
    )


def places_option(parser: argparse.ArgumentParser) -> None:
    """From where it is asked; several."""
    parser.add_argument(
        "--from",
        dest="vantages",
        metavar="VANTAGE",
        action="append",
        default=[],
        help="only from here: a vantage, a machine, near:NETWORK or internet; several with commas, or given again",
    )


def watch_option(parser: argparse.ArgumentParser) -> None:
    """Whether it is asked again whenever the estate's files change."""
    parser.add_argument(
        "--watch", action="store_true", help="ask again whenever a file of the estate changes, until it is stopped"
    )


def output_option(parser: argparse.ArgumentParser) -> None:
    """Where the output goes."""
    parser.add_argument(
        "-o", "--output", metavar="FILE", default="-", help="write into this file, whole or not at all (default: -)"
    )


def by_hand_option(parser: argparse.ArgumentParser) -> None:
    """Whether it is told what can be looked at by hand."""
    parser.add_argument(
        "--by-hand",
        action="store_true",
        help="tell, leg by leg, which command shows by hand whether the estate is true, where to run it, and what it prints",
    )


def as_if_at_option(parser: argparse.ArgumentParser) -> None:
    """The new place of a name, before its records move."""
    parser.add_argument(
        "--as-if-at",
        metavar="ADDRESS",
        default=None,
        help="ask under the real name as if it led to this address: the new place, before the records move",
    )


def question_options(parser: argparse.ArgumentParser, left_out: str | None = None) -> None:
    """Which URL from where; `left_out` says what is asked where none is named."""
    about = "the address as a visitor would type it"
    if left_out is None:
        parser.add_argument("url", metavar="URL", help=about)
    else:
        parser.add_argument("url", metavar="URL", nargs="?", default=None, help=f"{about} (default: {left_out})")
    parser.add_argument(
        "--from",
        dest="vantage",
        metavar="VANTAGE",
        default=None,
        help="where the visitor asks from: a vantage, a machine, near:NETWORK or internet (default: the estate's default vantage, its only "
        "one, else internet); 'follow' takes several with commas, or all",
    )
    parser.add_argument(
        "--zoom",
        choices=("name", "connect"),
        default=None,
        help="draw one leg large: how the name is resolved, or the packet's way",
    )
    parser.add_argument("--every-step", action="store_true", help="show every decision, not only the main ones")


def add_command(
    commands: "argparse._SubParsersAction[argparse.ArgumentParser]",
    name: str,
    summary: str,
    *examples: str,
    about: str = "",
) -> argparse.ArgumentParser:
    """A command's parser, with examples in its help."""
    return commands.add_parser(
        name,
        help=summary,
        description=about or summary[0].upper() + summary[1:] + ".",
        epilog="\n".join(f"example: {each}" for each in examples),
        formatter_class=Help,
        allow_abbrev=False,
    )
