"""`portolan demo`: a shipped estate's story, from the question to the proven remedy."""

import argparse
from typing import TYPE_CHECKING

from portolan.cli.options import add_command, format_option

if TYPE_CHECKING:
    from collections.abc import Callable
    from pathlib import Path
    from typing import Any

    from portolan.cli.question import Ready

MAIN_STORY = "half-open"


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "demo",
        "run a shipped story from question to proven remedy",
        "portolan demo --list",
        "portolan demo first-light --copy observatory",
    )
    parser.add_argument("story", nargs="?", metavar="STORY", default=None, help=f"the story (default: {MAIN_STORY})")
    parser.add_argument("--list", action="store_true", help="list the stories")
    parser.add_argument(
        "--copy", metavar="DIR", default=None, help="write the story's estate to a new folder, to start from"
    )
    format_option(parser, "stories")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Tells a story; 0 when it came to its end."""
    from portolan.cli.errors import UsageError
    from portolan.cli.terminal import put, style_of
    from portolan.source.nearest import did_you_mean
    from portolan.source.plain import one_line

    stories = story_index()
    if arguments.list:
        from portolan.views.results import Stories

        put("stories", arguments.format, Stories(tuple(stories.values())), style_of(arguments))
        return 0
    name = arguments.story or MAIN_STORY
    if name not in stories:
        raise UsageError(f"no story is named '{one_line(name)}'", did_you_mean(name, stories))
    if arguments.copy is not None:
        return _copy(name, arguments.copy)
    return _tell(stories[name], arguments)


def story_index() -> dict[str, dict[str, str]]:
    """The shipped stories by name: title, URL and vantage of each."""
    import json

    entries = json.loads((_folder() / "index.json").read_text("utf-8"))
    return {entry["name"]: entry for entry in entries}


def _folder() -> "Path":
    from pathlib import Path

    return Path(__file__).resolve().parent.parent / "stories"


def _copy(name: str, target: str) -> int:
    from portolan.cli.writing import new_folder
    from portolan.source.plain import one_line

    new_folder(_folder() / name, target)
    shown = one_line(target)
    print(f"The estate is in {shown}. Try: portolan check -e {shown}")
    return 0


def _tell(story: dict[str, str], arguments: argparse.Namespace) -> int:
    from portolan.cli.disk import DiskFiles
    from portolan.cli.question import Ready
    from portolan.cli.terminal import print_json
    from portolan.formats.estate_file import load
    from portolan.journey.world import World

    loaded = load(DiskFiles(_folder() / story["name"], "."), "estate.yaml")
    assert loaded.estate.at is not None
    about = Ready(loaded, World(loaded.estate, loaded.estate.at))
    data, text = (_as_seen if "seen" in story else _explained)(story, about, arguments)
    if arguments.format == "json":
        print_json({"story": story, **data()})
    else:
        print(text(), end="")
    return 0


#: What makes the story's JSON, and its text.
_Forms = tuple["Callable[[], dict[str, Any]]", "Callable[[], str]"]


def _as_seen(story: dict[str, str], about: "Ready", arguments: argparse.Namespace) -> _Forms:
    """A story in which the estate is right on paper: what is seen, and what may be wrong."""
    from portolan.cli.seen import doubted
    from portolan.cli.terminal import style_of
    from portolan.views.demo_text import seen_text
    from portolan.views.observing_json import doubt_data

    result = doubted(about, story["url"], story["seen"].split(";"), None, [])
    return (
        lambda: {"doubt": doubt_data(result)},
        lambda: seen_text(story, about.loaded.estate, result, style_of(arguments)),
    )


def _explained(story: dict[str, str], about: "Ready", arguments: argparse.Namespace) -> _Forms:
    """A story with a cause and a remedy."""
    from portolan.cli.terminal import style_of
    from portolan.diagnosis.search import explain
    from portolan.formats.estate_file import patched
    from portolan.journey.question import place
    from portolan.journey.visit import visit
    from portolan.views.data import explain_data
    from portolan.views.demo_text import story_text

    world, vantage, _ = place(about.world, story["vantage"])
    found = explain(world, story["url"], vantage, about.apply)
    after = None
    best = found.best
    if best is not None and best.patch:
        mended = patched(about.loaded, best.patch).estate
        changed, again, _ = place(world.changed(mended), story["vantage"])
        after = visit(changed, story["url"], again)

    def text() -> str:
        style, rehearsed = style_of(arguments), ""
        if "renewals" in story:
            from portolan.diagnosis.renewals import renewals
            from portolan.views.renewals import renewals_text

            rehearsed = renewals_text(renewals(world, story["renewals"]), world.now, style)
        return story_text(story, about.loaded.estate, found, after, style, rehearsed)

    return lambda: {"explanation": explain_data(found, [])}, text
