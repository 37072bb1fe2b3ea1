"""`--watch`: the same question again whenever a file of the estate changes."""

import argparse
import os
import sys
import time
from collections.abc import Callable, Iterator

from portolan.cli.errors import UsageError
from portolan.cli.options import named_estate
from portolan.cli.streams import complain
from portolan.source.problem import EstateError

#: Changes that come so close together, in milliseconds, are one: editors write a file in several steps.
_TOGETHER = 200


def again_and_again(arguments: argparse.Namespace, run: Callable[[argparse.Namespace], int]) -> int:
    """Answers now and after each change; what is wrong with the input meanwhile is told, and waited out. Ends when it is stopped."""
    given = named_estate(arguments)
    if given == "-" or "-" in arguments.changes:
        raise UsageError("standard input is read once, and cannot be watched", "Name a folder or a file.")
    paths = [_watched(path) for path in (given, *arguments.changes)]
    arguments.watch = False
    for number, changed in enumerate(_changes(paths)):
        if number:
            sys.stdout.write(f"\n-- {time.strftime('%H:%M:%S')}: {changed} changed\n\n")
        _answered(arguments, run)
        sys.stdout.flush()
    return 0


def _watched(path: str) -> str:
    """What is watched for a path: a folder itself, and the folder of a file, since editors put new files in the place of old ones."""
    if not os.path.exists(path):
        raise UsageError(f"there is nothing at '{path}' to watch", "Name a folder or a file with -e PATH.")
    return path if os.path.isdir(path) else os.path.dirname(path) or "."


def _answered(arguments: argparse.Namespace, run: Callable[[argparse.Namespace], int]) -> None:
    from portolan.cli.main import refused, told

    arguments.given = None  # changes are read again, too
    try:
        run(arguments)
    except EstateError as error:
        refused(error)
    except UsageError as error:
        complain(told(error))


def _changes(paths: list[str]) -> Iterator[str]:
    """Something at once, then the name of a file whenever one changes."""
    from watchfiles import watch

    yield ""
    for batch in watch(*dict.fromkeys(paths), debounce=_TOGETHER, step=50, raise_interrupt=False):
        yield os.path.basename(sorted(path for _, path in batch)[0])
