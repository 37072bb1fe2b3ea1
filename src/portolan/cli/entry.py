"""The first thing that runs: makes sure that a signal or a closed stream never ends in a traceback."""

import os
import sys

# The library's `signal` imports half a dozen modules first, and a signal may come meanwhile; this is what it wraps.
from _signal import SIG_IGN, SIGINT, signal  # type: ignore[import-not-found]
from gc import set_threshold


def _stopped(_signal: int, _frame: object) -> None:
    """Ends at once: nothing is half written (writing commands finish or undo their step first)."""
    try:
        os.write(2, b"portolan: stopped\n")
    finally:
        os._exit(130)


def _open_streams() -> bool:
    """Gives closed standard streams a place, lest a file that is opened later gets their number; whether output was open."""
    closed = []
    for number in (0, 1, 2):
        try:
            os.fstat(number)
        except OSError:
            closed.append(number)
            os.open(os.devnull, os.O_RDWR)  # takes the lowest free number, which is this one
    return 1 not in closed


def main() -> int:
    """Runs the command line of this process, and ends it with its exit status."""
    signal(SIGINT, _stopped)
    # A run is short, and what it makes it mostly keeps: looking for cycles in between costs more than it frees.
    set_threshold(100_000, 50, 50)
    writable = _open_streams()
    from portolan.cli.main import main as command_line
    from portolan.cli.streams import mend_streams

    mend_streams()
    if not writable:
        os.write(
            2, b"portolan: standard output is closed: nobody would read the answer. Send it to a file or a terminal.\n"
        )
        return 2
    try:
        status = command_line()
    finally:
        # All is said. The interpreter takes handlers away when it ends, and a signal would then kill it with another status.
        signal(SIGINT, SIG_IGN)
    # What was said is flushed; to take down what was made, value by value, would only cost time.
    if sys.stderr is not None and not sys.stderr.closed:
        sys.stderr.flush()
    os._exit(status)
