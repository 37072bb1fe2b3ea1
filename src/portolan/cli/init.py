"""`portolan init`: a blank estate of a usual shape, for what no reader reaches; each placeholder says where it is usually shown."""

import argparse

from portolan.cli.options import add_command


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "init",
        "start an estate from a blank of a usual shape; alone: list the shapes",
        "portolan init home-server observatory",
        "portolan init",
    )
    parser.add_argument("shape", metavar="SHAPE", nargs="?", default=None, help="the shape (default: list them)")
    parser.add_argument("folder", metavar="DIR", nargs="?", default=None, help="a new folder for the estate")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Lists the shapes, or writes one; 0 when that is done."""
    from importlib.resources import as_file, files

    from portolan.cli.errors import UsageError
    from portolan.cli.writing import new_folder
    from portolan.source.nearest import did_you_mean
    from portolan.source.plain import one_line

    root = files("portolan.transcribing") / "blanks"
    shapes = {
        each.name: each
        for each in sorted(root.iterdir(), key=lambda each: each.name)
        if each.is_dir() and "__" not in each.name
    }
    if arguments.shape is None:
        for name, folder in shapes.items():
            first = (folder / "estate.yaml").read_text("utf-8").partition("\n")[0]
            print(f"{name:<18} {first.lstrip('# ')}")
        print(
            "\nportolan init SHAPE DIR writes one; fill in what stands in <angle brackets>, then: portolan check -e DIR"
        )
        return 0
    if arguments.shape not in shapes:
        raise UsageError(f"no shape is named '{one_line(arguments.shape)}'", did_you_mean(arguments.shape, shapes))
    if arguments.folder is None:
        raise UsageError("no folder is named for the estate", f"Write: portolan init {arguments.shape} DIR")
    with as_file(shapes[arguments.shape]) as source:
        new_folder(source, arguments.folder)
    print(
        f"Fill in what stands in <angle brackets> in {one_line(arguments.folder)}/estate.yaml, then: portolan check -e {one_line(arguments.folder)}"
    )
    return 0
