"""`portolan transcribe`: reads what real machines say into an estate; each kind of source is a command of its own below it."""

import argparse
from typing import TYPE_CHECKING, Any

from portolan.cli.options import Help, add_command

if TYPE_CHECKING:
    from portolan.transcribing.assembling import Transcript
    from portolan.transcribing.certificates import Found
    from portolan.transcribing.transfer import Key


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "transcribe",
        "read real configuration into an estate",
        "portolan transcribe machine -o observatory",
        "portolan transcribe web /etc/nginx -o observatory",
    )
    kinds = parser.add_subparsers(dest="kind", metavar="KIND", required=True)
    for name, summary, example, options, action in (
        ("machine", _MACHINE, "portolan transcribe machine -o observatory", _machine_options, _run_machine),
        ("web", _WEB, "portolan transcribe web /etc/nginx -o observatory", _source_options, _run_web),
        (
            "filter",
            _FILTER,
            "portolan transcribe filter rules.v4 rules.v6 -o observatory",
            _source_options,
            _run_filter,
        ),
        (
            "records",
            _RECORDS,
            "portolan transcribe records visit.kestrel-ridge.example -o observatory",
            _name_options,
            _run_records,
        ),
        (
            "certificates",
            _CERTIFICATES,
            "portolan transcribe certificates visit.pem -o observatory",
            _shown_options,
            _run_certificates,
        ),
        (
            "zone",
            _ZONE,
            "portolan transcribe zone kestrel-ridge.example --server 192.0.2.53 -o ridge.zone",
            _zone_options,
            _run_zone,
        ),
        ("script", _SCRIPT, "portolan transcribe script > gather.sh", None, _run_script),
    ):
        kind = _kind(kinds, name, summary, example)
        if options is not None:
            options(kind)
        kind.set_defaults(run=action)


_MACHINE = "a whole machine: this one, by a fixed list of commands that only read, or another, from the archive that the script makes there"
_WEB = "a web server's configuration (nginx, Apache httpd): its folder, a tar archive, its main file, or what nginx -T prints"
_FILTER = "a packet filter with its port forwards: what iptables-save, ip6tables-save or nft -j list ruleset print"
_RECORDS = "the records that visits to names meet, asked of the zone's own servers: addresses, aliases, delegation, HTTPS, CAA, DS"
_CERTIFICATES = (
    "certificates from files (PEM, DER, PKCS#12), folders, or a server that shows them; keys are compared, never copied"
)
_ZONE = "a zone, by zone transfer from the name server that holds it"
_SCRIPT = "print a shell script that gathers on another machine what 'transcribe machine' reads; it only reads there"


def _source_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("sources", metavar="SOURCE", nargs="+", help="a file, a folder or an archive")
    _output(parser)


def _machine_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "sources",
        metavar="SOURCE",
        nargs="*",
        help="the archive of another machine, or its folder (default: this machine)",
    )
    parser.add_argument("--dry-run", action="store_true", help="only list what would be run and read here")
    _output(parser)


def _name_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("sources", metavar="NAME", nargs="+", help="a host name")
    parser.add_argument(
        "--server", metavar="ADDRESS", default=None, help="ask this server instead of those that the zone names"
    )
    parser.add_argument("--port", metavar="PORT", type=int, default=53, help="its port (default: 53)")
    _output(parser, machine=False)


def _shown_options(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("sources", metavar="SOURCE", nargs="*", help="a file or a folder")
    parser.add_argument(
        "--server",
        metavar="HOST[:PORT]",
        action="append",
        default=[],
        help="ask this server for what it shows (default port: 443)",
    )
    parser.add_argument(
        "--password-file", metavar="FILE", default=None, help="a file with the password of PKCS#12 files"
    )
    _output(parser, machine=False)


def _kind(
    kinds: "argparse._SubParsersAction[argparse.ArgumentParser]", name: str, summary: str, example: str
) -> argparse.ArgumentParser:
    return kinds.add_parser(
        name,
        help=summary,
        description=summary[0].upper() + summary[1:] + ".",
        epilog="example: " + example,
        formatter_class=Help,
        allow_abbrev=False,
    )


def _output(parser: argparse.ArgumentParser, machine: bool = True) -> None:
    """Where the estate goes, and under which name the machine stands in it."""
    where = parser.add_mutually_exclusive_group()
    where.add_argument(
        "-o",
        "--output",
        metavar="DIR",
        default=None,
        help="a new folder for the estate (default: only tell what was read)",
    )
    where.add_argument(
        "--into", metavar="ESTATE", default=None, help="an estate to add the machine to, in files of its own"
    )
    where.add_argument(
        "--differs",
        metavar="ESTATE",
        default=None,
        help="write nothing; tell where an estate and the source differ, status 1",
    )
    if machine:
        parser.add_argument(
            "--name", metavar="NAME", default="server", help="the machine's name there (default: server)"
        )
    parser.add_argument(
        "--color", choices=("auto", "always", "never"), default="auto", help="colour (default: on a terminal)"
    )


def _run_web(arguments: argparse.Namespace) -> int:
    """Reads web servers in; 0 when the estate is written or agrees."""
    from portolan.cli.transcribed import told, wanted_name
    from portolan.transcribing.assembling import add_web, transcript
    from portolan.transcribing.part import Part, Spot
    from portolan.transcribing.registry import read_web

    name = wanted_name(arguments.name)

    def read() -> "Transcript":
        machine: Part | None = None
        certificates: dict[str, Part] = {}
        copies: dict[str, bytes] = {}
        for path in arguments.sources:
            gathered, source = read_web(path)
            machine = machine or Part(Spot(gathered.service.spot.file, 1))
            found, held = add_web(machine, gathered, source, name)
            certificates.update(found)
            copies.update(held)
        assert machine is not None
        return transcript(name, machine, certificates, copies, {})

    return told(arguments, name, read)


def _run_machine(arguments: argparse.Namespace) -> int:
    """Reads a machine in; 0 when the estate is written or agrees."""
    from portolan.cli.errors import UsageError
    from portolan.cli.transcribed import told, wanted_name
    from portolan.transcribing.collecting import Here, plan
    from portolan.transcribing.machine import machine
    from portolan.transcribing.registry import opened

    if arguments.dry_run:
        print("\n".join(plan()))
        return 0
    if len(arguments.sources) > 1:
        raise UsageError("one machine at a time", "Read the second one with --into and another --name.")
    name = wanted_name(arguments.name)
    return told(
        arguments, name, lambda: machine(opened(arguments.sources[0])[0] if arguments.sources else Here(), name)
    )


def _run_filter(arguments: argparse.Namespace) -> int:
    """Reads a packet filter in; 0 when the estate is written or agrees."""
    from portolan.cli.transcribed import told, wanted_name
    from portolan.transcribing.assembling import line, transcript
    from portolan.transcribing.filtering import filters
    from portolan.transcribing.part import Part, Spot
    from portolan.transcribing.registry import text_of

    name = wanted_name(arguments.name)

    def read() -> "Transcript":
        given = [(text_of(path), path) for path in arguments.sources]
        machine = Part(Spot(arguments.sources[0], 1))
        networks: dict[str, Any] = {}
        machine.say("interfaces", {"line": line(machine.spot)})
        found = filters(given)
        if found.filter is not None and found.filter.facts.get("forward") is not None:
            # Only of a machine that passes packets on people write rules about that.
            machine.say("passes_on", True)
        found.into(machine, networks)
        told = ("nothing says which network each interface is on: 'line' stands for one on the internet",)
        return transcript(
            name, machine, {}, {}, networks, (*told, *((found.doubt,) if found.doubt is not None else ()))
        )

    return told(arguments, name, read)


def _run_certificates(arguments: argparse.Namespace) -> int:
    """Reads certificates in; 0 when they are written or agree."""
    from portolan.cli.errors import UsageError
    from portolan.cli.transcribed import told
    from portolan.transcribing.assembling import Transcript
    from portolan.transcribing.certificates import documents, from_server
    from portolan.transcribing.registry import text_of

    if not arguments.sources and not arguments.server:
        raise UsageError("no certificate is named", "Name a file or a folder, or a server with --server.")

    def read() -> "Transcript":
        password = None
        if arguments.password_file is not None:
            password = text_of(arguments.password_file).rstrip("\n").encode()
        found = [each for path in arguments.sources for each in _unlocked(path, password)]
        found += [from_server(server) for server in arguments.server]
        document, copies = documents(found)
        guesses = tuple(
            f"the key in {each.spot.file} is not the certificate's" for each in found if each.key_fits is False
        )
        return Transcript({"certificates.yaml": document}, copies, (), guesses)

    return told(arguments, "certificates", read)


def _unlocked(path: str, password: bytes | None) -> "list[Found]":
    """The certificates of a file; on a terminal the password of a locked one is asked for."""
    import sys
    from getpass import getpass

    from portolan.transcribing.certificates import from_path
    from portolan.transcribing.sources import SourceError

    try:
        return from_path(path, password)
    except SourceError as error:
        if password is not None or "password" not in error.message or not sys.stdin.isatty():
            raise
    return from_path(path, getpass("Password of the file: ").encode())


def _run_records(arguments: argparse.Namespace) -> int:
    """Reads records in; 0 when they are written or agree."""
    from ipaddress import ip_address

    from portolan.cli.errors import UsageError
    from portolan.cli.transcribed import told
    from portolan.formats.scalars import UnfitError, host_name
    from portolan.source.plain import one_line
    from portolan.transcribing.assembling import Transcript
    from portolan.transcribing.records import document, gleaned

    try:
        names = [str(host_name(each)) for each in arguments.sources]
    except UnfitError as unfit:
        raise UsageError(f"expected {unfit.expected}", unfit.hint) from None
    try:
        server = str(ip_address(arguments.server)) if arguments.server is not None else None
    except ValueError:
        raise UsageError(f"--server: expected an address, found '{one_line(arguments.server)}'") from None
    if not 0 < arguments.port < 65536:
        raise UsageError(f"--port: expected 1 to 65535, found {arguments.port}")

    def read() -> "Transcript":
        zones, lost = gleaned(names, server, arguments.port)
        return Transcript({"records.yaml": document(zones)}, {}, (), tuple(f"not asked: {each}" for each in lost))

    return told(arguments, "records", read)


def _run_script(_arguments: argparse.Namespace) -> int:
    """Prints the script."""
    from portolan.transcribing.collecting import script

    print(script(), end="")
    return 0


def _zone_options(parser: argparse.ArgumentParser) -> None:
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


def _run_zone(arguments: argparse.Namespace) -> int:
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
