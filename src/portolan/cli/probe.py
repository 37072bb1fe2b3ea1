"""`portolan probe`: the real thing asked from this machine, leg by leg, with the estate's answer beside it."""

import argparse
import sys
from typing import TYPE_CHECKING

from portolan.cli.options import add_command, as_if_at_option, estate_options, format_option

if TYPE_CHECKING:
    from portolan.cli.question import Ready
    from portolan.journey.question import Question
    from portolan.observing.observation import Seen
    from portolan.views.results import Doubted


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "probe",
        "ask the real thing from this machine, leg by leg, beside what the estate says",
        "portolan probe https://visit.kestrel-ridge.example/ --from office",
        "portolan probe https://visit.kestrel-ridge.example/ --dry-run",
        about="Asks names, connections, a handshake and a page from this machine: read-only, nothing but what a visitor\n"
        "does, bounded in count and time, and only of hosts that the estate names.",
    )
    parser.add_argument("url", metavar="URL", help="the address as a visitor would type it")
    parser.add_argument(
        "--from",
        dest="vantage",
        metavar="VANTAGE",
        default=None,
        help="where this machine is in the estate: a vantage, a machine, near:NETWORK or internet (default: as for 'follow')",
    )
    parser.add_argument("--dry-run", action="store_true", help="list what would be asked of whom, and ask nothing")
    parser.add_argument("--other-hosts", action="store_true", help="ask hosts, too, that no line of the estate names")
    as_if_at_option(parser)
    estate_options(parser)
    format_option(parser, "probe")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Asks; 0 where all that is seen is what the estate says, else 1. Raises UsageError."""
    from portolan.cli.errors import UsageError
    from portolan.cli.question import as_if_at, posed, ready
    from portolan.cli.terminal import progress_line, put, style_of
    from portolan.estate.url import parse
    from portolan.probing.plan import StrangerError, address_of, hosts_of, planned
    from portolan.probing.run import beside, probed
    from portolan.views.results import Probing

    about = ready(arguments)
    question = as_if_at(posed(arguments, about), arguments.as_if_at)
    others = arguments.other_hosts
    try:
        there = address_of(arguments.as_if_at) if arguments.as_if_at is not None else None
        knows = hosts_of(about.loaded.estate)
        plan = planned(about.loaded.estate, parse(question.url), knows, there, others)
    except StrangerError as error:
        raise UsageError(f"{error}, and it is not asked", "Look at its spelling, or add --other-hosts.") from None
    predicted = question.answer()
    if arguments.dry_run:
        put("probe", arguments.format, Probing(plan, predicted), style_of(arguments))
        return 0
    show = progress_line(sys.stderr)
    found = probed(plan, knows, others, told=lambda url: show(f"asking {url}", 1, 1))
    show("", 0, 0)
    result = Probing(plan, predicted, found, beside(found, predicted), _doubt(about, question, found.seen))
    put("probe", arguments.format, result, style_of(arguments))
    return 1 if result.differs else 0


def _doubt(about: "Ready", question: "Question", seen: "Seen") -> "Doubted":
    """What may be wrong, where the end is another than the estate says."""
    from portolan.observing.next_check import looked_into
    from portolan.observing.suspects import most_tried
    from portolan.views.results import Doubted

    world, told = question.world, {question.vantage: (seen,)}
    return Doubted(*looked_into(world, question.url, told, about.apply, most_tried(world.estate)))
