"""`portolan transcribe`: reads real configuration in. So far: a zone, by zone transfer from the server that holds it."""

import argparse
from typing import TYPE_CHECKING

from portolan.cli.options import add_command

if TYPE_CHECKING:
    from portolan.transcribing.transfer import Key


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "transcribe",
        "read a zone in from the name server that holds it",
        "portolan transcribe zone kestrel-ridge.example --server 192.0.2.53 -o zones/kestrel-ridge.example.zone",
    )
    parser.add_argument("what", choices=("zone",), help="what to read in")
    parser.add_argument("name", metavar="NAME", help="the zone's name")
    parser.add_argument("--server", metavar="ADDRESS", required=True, help="the name server's address")
    parser.add_argument("--port", metavar="PORT", type=int, default=53, help="its TCP port (default: 53)")
    parser.add_argument(
        "--key", metavar="FILE", default=None, help="a file with a transaction key: NAME ALGORITHM SECRET"
    )
    parser.add_argument(
        "-o",
        "--output",
        metavar="FILE",
        default="-",
        help="where the master file goes (default: standard output); a file that exists is left alone",
    )
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Gathers; 0 when the zone is written, 1 when the server did not hand it over."""
    import sys
    from ipaddress import ip_address

    from portolan.cli.errors import UsageError
    from portolan.formats.scalars import UnfitError, host_name
    from portolan.source.plain import one_line, plain
    from portolan.transcribing.transfer import TransferError, transferred

    try:
        name = host_name(arguments.name)
    except UnfitError as unfit:
        raise UsageError(f"expected {unfit.expected}, found '{one_line(arguments.name)}'") from None
    try:
        server = str(ip_address(arguments.server))
    except ValueError:
        raise UsageError(f"--server: expected an address, found '{one_line(arguments.server)}'") from None
    if not 0 < arguments.port < 65536:
        raise UsageError(f"--port: expected 1 to 65535, found {arguments.port}")
    key = _key(arguments.key) if arguments.key is not None else None
    if arguments.output != "-":
        _refuse_existing(arguments.output)
    try:
        text, records = transferred(name, server, arguments.port, key)
    except TransferError as error:
        print(f"portolan: {plain(error.message)}. {plain(error.hint)}", file=sys.stderr)
        return 1
    if arguments.output == "-":
        print(plain(text), end="")
    else:
        from portolan.cli.writing import new_file

        new_file(arguments.output, text)
        print(
            f"{records} records of {name} are in {one_line(arguments.output)}. In the estate: zones: {{{name}: {{file: {one_line(arguments.output)}}}}}"
        )
    return 0


def _key(path: str) -> "Key":
    from portolan.cli.errors import UsageError
    from portolan.source.plain import one_line
    from portolan.transcribing.transfer import key_from

    try:
        with open(path, encoding="ascii") as file:
            return key_from(file.read(4096))
    except OSError as error:
        raise UsageError(
            f"cannot read the key '{one_line(path)}': {error.strerror or error}", "Check the path."
        ) from None
    except ValueError as error:
        raise UsageError(
            f"the key '{one_line(path)}' cannot be used: {error}", "Write one line: NAME ALGORITHM SECRET."
        ) from None


def _refuse_existing(path: str) -> None:
    import os

    from portolan.cli.errors import UsageError
    from portolan.source.plain import one_line

    if os.path.lexists(path):
        raise UsageError(f"'{one_line(path)}' exists", "Name another file, or move that one away.")
