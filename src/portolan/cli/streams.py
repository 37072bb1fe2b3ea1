"""Standard streams: what to do when they cannot take what is written."""

import contextlib
import os
import sys


def mend_streams() -> None:
    """Lets every character be written in some form, and gives streams that were closed an end that takes all."""
    for name, mode, number in (("stdin", "r", 0), ("stdout", "w", 1), ("stderr", "w", 2)):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(number, mode, encoding="utf-8", errors="backslashreplace", closefd=False))  # noqa: SIM115
        elif mode == "w":
            stream.reconfigure(errors="backslashreplace")


def give_up_output() -> None:
    """Lets the rest of the output go nowhere, so that nothing more fails when the program ends."""
    with contextlib.suppress(OSError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)


def complain(text: str) -> None:
    """Writes a line to standard error, if that is possible at all."""
    with contextlib.suppress(OSError, ValueError):
        print(text, file=sys.stderr, flush=True)
