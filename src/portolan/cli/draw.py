"""`portolan draw`: the way of a visit, or the whole estate, as a picture."""

import argparse

from portolan.cli.options import add_command, estate_options, output_option


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "draw",
        "the way of a visit, or the whole estate, as a picture (SVG)",
        "portolan draw https://visit.kestrel-ridge.example/ --from street -o way.svg",
        "portolan draw --estate observatory/ -o estate.svg",
    )
    parser.add_argument(
        "url",
        metavar="URL",
        nargs="?",
        default=None,
        help="the address as a visitor would type it (default: the estate)",
    )
    parser.add_argument(
        "--from", dest="vantage", metavar="VANTAGE", default=None, help="where the visitor asks from, as for 'follow'"
    )
    estate_options(parser)
    output_option(parser)
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Draws; 0 where what is drawn is as expected, else 1."""
    from portolan.cli.asking import asked
    from portolan.cli.errors import UsageError
    from portolan.cli.question import posed, ready
    from portolan.cli.terminal import style_of
    from portolan.cli.writing import can_put_out, put_out
    from portolan.journey.expectation import misses
    from portolan.surveying.picture import picture
    from portolan.views.formats import form_of
    from portolan.views.words import in_words

    can_put_out(arguments.output)
    if arguments.url is None and arguments.vantage is not None:
        raise UsageError("--from is where a URL is asked from, and none is given", "Name it, or leave --from out.")
    about = ready(arguments)
    style = style_of(arguments)
    if arguments.url is None:
        from portolan.surveying.plan import plan

        drawn = plan(about.world)
        put_out(arguments.output, form_of("plan", "svg")(drawn, style))
        return 0 if drawn.met else 1
    question = posed(arguments, about)
    with asked():
        found = question.answer()
    missed = misses(question.expectation, found)
    drawn_way = picture(found, not missed, in_words(found.outcome))
    put_out(arguments.output, form_of("draw", "svg")(drawn_way, style))
    return 1 if missed else 0
