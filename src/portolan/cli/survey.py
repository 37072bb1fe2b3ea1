"""`portolan survey`: every expectation from every vantage, met or missed, with the causes."""

import argparse
import sys
from typing import TYPE_CHECKING

from portolan.cli.options import add_command, estate_options, format_option, output_option, places_option, watch_option

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable, Iterator

    from portolan.diagnosis.trial import Apply
    from portolan.journey.world import World
    from portolan.surveying.answered import Chunk
    from portolan.surveying.baseline import Since
    from portolan.surveying.survey import Asked, Survey


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "survey",
        "ask every expectation from every vantage, and group what is missed by its cause",
        "portolan survey --estate observatory/",
        "portolan survey --from street --only '*.kestrel-ridge.example' --format junit -o survey.xml",
    )
    places_option(parser)
    parser.add_argument(
        "--only", metavar="GLOB", default=None, help="only addresses, or host names, that fit, such as '*.example'"
    )
    parser.add_argument(
        "--baseline",
        metavar="FILE",
        default=None,
        help="an earlier survey as JSON: what is missed by now, mended by now, still missed",
    )
    parser.add_argument(
        "--jobs", metavar="N", type=int, default=None, help="how many processes ask (default: one for each processor)"
    )
    parser.add_argument(
        "--cluster",
        metavar="ADDRESS",
        default=None,
        help="let a cluster ask (dask.distributed): its scheduler's address, or 'local' to start one here",
    )
    estate_options(parser)
    format_option(parser, "survey")
    output_option(parser)
    watch_option(parser)
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Asks; 0 when every expectation is met, 1 when one is missed or could not be asked."""
    if arguments.watch:
        from portolan.cli.watch import again_and_again

        return again_and_again(arguments, run)
    from portolan.cli.terminal import style_of
    from portolan.cli.writing import can_put_out, put_out
    from portolan.views.formats import form_of

    can_put_out(arguments.output)
    earlier = _earlier(arguments.baseline)
    survey = asked_for(arguments)[0]
    if earlier is not None:
        survey = survey.but(since=_since(survey, earlier, arguments.baseline))
    put_out(arguments.output, form_of("survey", arguments.format)(survey, style_of(arguments)))
    return 1 if survey.groups or survey.failed or not survey.questions else 0


def asked_for(arguments: argparse.Namespace) -> "tuple[Survey, World, list[Asked], Apply]":
    """The survey that the arguments ask for, its world and questions, and how changes are applied. Raises UsageError and EstateError."""
    from portolan.cli import jobs
    from portolan.cli.asking import asked as usable
    from portolan.cli.errors import UsageError
    from portolan.cli.question import given_changes, ready
    from portolan.cli.terminal import progress_line
    from portolan.surveying.survey import chunk, collected, questions, standing

    if arguments.jobs is not None and arguments.jobs < 1:
        raise UsageError(f"--jobs: expected a number from 1 on, found '{arguments.jobs}'", "Leave it out for one each.")
    places = tuple(dict.fromkeys(name for each in arguments.vantages for name in each.split(",") if name))
    about = ready(arguments, keep=True)
    with usable():
        world, people = standing(about.world, places)
    asked = questions(world, people, arguments.only)
    show = progress_line(sys.stderr)
    task = jobs.Task(
        about.loaded.files,
        about.loaded.main,
        given_changes(arguments),
        world.now,
        world.booted,
        places,
        arguments.only,
    )
    many = arguments.jobs if arguments.jobs is not None else jobs.cores()
    if arguments.cluster is not None and asked:
        from portolan.cli.cluster import on_cluster

        chunks = on_cluster(task, len(asked), arguments.cluster, many)
    else:
        chunks = jobs.side_by_side(task, len(asked), many, lambda first: chunk(world, asked, first))
    found = collected(world, asked, _told(chunks, lambda done: show("asked", done, len(asked))), about.apply)
    show("", 0, 0)
    return found, world, asked, about.apply


def _told(chunks: "Iterable[Chunk]", tell: "Callable[[int], None]") -> "Iterator[Chunk]":
    """The same chunks; how many questions are done is told with each."""
    done = 0
    for each in chunks:
        done += each.count
        tell(done)
        yield each


def _earlier(name: str | None) -> "dict[tuple[str, str], bool] | None":
    """What an earlier survey says: of each question whether it was met. Raises UsageError."""
    import json

    from portolan.cli.errors import UsageError
    from portolan.cli.question import given_bytes
    from portolan.source.plain import one_line

    if name is None:
        return None
    data = given_bytes(name, "baseline")
    shown, hint = one_line(name), "Make one with 'portolan survey --format json -o FILE'."
    try:
        said = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise UsageError(f"the baseline '{shown}' is no JSON: {one_line(str(error))}", hint) from None
    if not isinstance(said, dict) or not isinstance(said.get("answers"), list):
        raise UsageError(f"the baseline '{shown}' is no survey: it has no list of answers", hint)
    if said.get("portolan") != 1:
        version = one_line(json.dumps(said.get("portolan")), 40)
        raise UsageError(f"the baseline '{shown}' is of version {version}, and this Portolan reads version 1", hint)
    found: dict[tuple[str, str], bool] = {}
    for number, each in enumerate(said["answers"]):
        url, vantage, met = (each.get(one) if isinstance(each, dict) else None for one in ("url", "vantage", "met"))
        if not isinstance(url, str) or not isinstance(vantage, str) or not isinstance(met, bool):
            raise UsageError(
                f"the baseline '{shown}' is no survey: its answer {number + 1} has no url, vantage and met", hint
            )
        found[url, vantage] = found.get((url, vantage), True) and met
    return found


def _since(survey: "Survey", earlier: "dict[tuple[str, str], bool]", name: str) -> "Since":
    from portolan.cli.errors import UsageError
    from portolan.source.plain import one_line
    from portolan.surveying.baseline import OtherEstateError, since

    try:
        return since(survey.answers, earlier)
    except OtherEstateError as error:
        message = f"the baseline '{one_line(name)}' is of another estate: {error}"
        raise UsageError(message, "Name a survey of this estate, or leave --baseline out.") from None
