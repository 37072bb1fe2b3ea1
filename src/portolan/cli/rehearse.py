"""`portolan rehearse`: builds the estate from real programs and holds every prediction against them."""

import argparse
from typing import TYPE_CHECKING

from portolan.cli.options import add_command, estate_options, format_option

if TYPE_CHECKING:
    from portolan.estate.vantage import Vantage
    from portolan.journey.world import World


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "rehearse",
        "build the estate from real programs here, and compare what they do with what is predicted",
        "portolan rehearse --estate observatory/",
        "portolan rehearse https://visit.kestrel-ridge.example/ --from street",
        "Builds the estate on this machine in namespaces of its own, from real open-source programs, asks every expectation (or one URL)\n"
        "with a real client from every vantage, and lays predicted and observed side by side.",
    )
    parser.add_argument("url", metavar="URL", nargs="?", default=None, help="ask this URL instead of every expectation")
    parser.add_argument("--from", dest="vantage", metavar="VANTAGE", default=None, help="from this vantage only")
    parser.add_argument(
        "--evidence",
        action="store_true",
        help="show both sides' evidence for every question, not only for disagreements",
    )
    parser.add_argument(
        "--unsaid",
        choices=("either", "nginx", "apache"),
        default="either",
        help="the web server where the estate names none (default: either of the two may agree)",
    )
    parser.add_argument(
        "--client", choices=("curl", "chromium"), default="curl", help="the real client that asks (default: curl)"
    )
    parser.add_argument(
        "--sweep", action="store_true", help="end whatever an earlier rehearsal left behind, and say what it was"
    )
    estate_options(parser)
    format_option(parser, "rehearse")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Rehearses; 0 when all agree, 1 when not, 2 when the estate could not be staged as it says."""
    from portolan.cli.errors import UsageError
    from portolan.rehearsal.run import RehearsalError

    if arguments.sweep:
        return _sweep()
    try:
        return _rehearse(arguments)
    except RehearsalError as error:
        raise UsageError(str(error)) from None


def _rehearse(arguments: argparse.Namespace) -> int:
    import sys

    from portolan.cli.asking import asked
    from portolan.cli.errors import UsageError
    from portolan.cli.question import ready
    from portolan.cli.terminal import progress_line, put, style_of
    from portolan.journey.visit import visit
    from portolan.rehearsal.run import Staging, confinement, lacking, missing_programs, rehearse
    from portolan.views.results import HeldAgainst

    about = ready(arguments)
    missing = missing_programs(arguments.client)
    if missing:
        raise lacking(missing)
    own = confinement()
    world, questions = _questions(arguments, about.world)
    estate = world.stated
    if not questions:
        raise UsageError(
            "the estate expects nothing that could be asked", "Name a URL: portolan rehearse URL --from VANTAGE."
        )
    shown = progress_line(sys.stderr)
    try:
        with asked():
            shown("building", 0, len(estate.routers) + len(estate.hosts))
            predicted = [(url, vantage, visit(world, url, vantage)) for url, vantage in questions]
            staging = Staging(estate, world.now, world.booted)
            found = rehearse(
                staging,
                predicted,
                own,
                arguments.unsaid,
                arguments.evidence or arguments.format == "json",
                arguments.client,
                shown,
            )
    finally:
        shown("", 0, 0)
    put("rehearse", arguments.format, HeldAgainst(found, arguments.evidence), style_of(arguments))
    if found.failed:
        return 2
    # Where nothing was compared, nothing agrees.
    return 1 if found.disagreements or not found.compared else 0


def _questions(arguments: argparse.Namespace, world: "World") -> "tuple[World, list[tuple[str, Vantage]]]":
    """What is asked: the URL that is named, else every expectation, from the place that is named, else from all that are meant."""
    from portolan.cli.asking import asked
    from portolan.journey.expectation import vantages_for
    from portolan.journey.question import place, typed

    chosen = None
    if arguments.vantage:
        with asked():
            world, chosen, _ = place(world, arguments.vantage)
    if arguments.url is not None:
        places = [chosen] if chosen is not None else list(world.stated.vantages.values())
        return world, [(typed(arguments.url, vantage)[0], vantage) for vantage in places]
    return world, [
        (str(expectation.url), vantage)
        for expectation in world.stated.expected
        for vantage in vantages_for(world.stated, expectation)
        if chosen is None or vantage.name == chosen.name
    ]


def _sweep() -> int:
    """Ends stages whose starter is gone. The kernel does that by itself; this looks whether it did."""
    from portolan.cli.leftovers import end_leftovers

    ended = end_leftovers()
    for text in ended:
        print(f"ended {text}")
    print(
        f"{len(ended)} left over from earlier rehearsals" if ended else "nothing was left over from earlier rehearsals"
    )
    return 0
