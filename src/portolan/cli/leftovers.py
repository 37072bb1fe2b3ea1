"""Stages of rehearsals whose starter is gone."""

import contextlib
import os
import signal
from pathlib import Path


def end_leftovers() -> list[str]:
    """Ends every stage that no living rehearsal started; what was ended, in words. Only processes of this user."""
    ended = []
    for folder in Path("/proc").iterdir():
        if not folder.name.isdecimal():
            continue
        with contextlib.suppress(OSError, ValueError, IndexError):
            if folder.stat().st_uid != os.getuid():
                continue
            words = (folder / "cmdline").read_bytes().split(b"\0")
            if not words[0].endswith(b"unshare") or not any(word.endswith(b"rehearsal/stage.py") for word in words):
                continue
            parent = int((folder / "stat").read_text("ascii").rpartition(")")[2].split()[1])
            if parent == 1:
                os.kill(int(folder.name), signal.SIGKILL)
                ended.append(f"the stage of process {folder.name}")
    return ended
