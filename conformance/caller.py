"""Connects to many places at once: caller.py FILE; the file holds a JSON list of (address, port), the answer is one too."""

import errno
import json
import selectors
import socket
import sys
import time
from pathlib import Path

#: Seconds; an ICMP error that arrives inside connect() may be noticed only with the next SYN, after one second.
LIMIT = 2.7
_UNREACHABLE = {errno.EHOSTUNREACH, errno.ENETUNREACH, errno.EACCES, errno.ENOPROTOOPT, errno.EINVAL, errno.EPERM}


def said(error: int) -> str:
    """An error as the estate's words have it."""
    if error in (errno.ECONNREFUSED, errno.ECONNRESET):
        return "refused"
    return (
        "unreachable"
        if error in _UNREACHABLE
        else "timed-out"
        if error == errno.ETIMEDOUT
        else errno.errorcode.get(error, str(error))
    )


def called(places: list[list[str | int]]) -> list[list[str]]:
    """What came of every connection: its error, or `open` with what was said there."""
    waiting = selectors.DefaultSelector()
    found: list[list[str]] = [["timed-out", ""] for _ in places]
    held = []
    for number, (address, port) in enumerate(places):
        caller = socket.socket(socket.AF_INET6 if ":" in str(address) else socket.AF_INET, socket.SOCK_STREAM)
        caller.setblocking(False)
        error = caller.connect_ex((address, port))
        held.append(caller)
        if error not in (0, errno.EINPROGRESS):
            found[number] = [said(error), ""]
            continue
        waiting.register(caller, selectors.EVENT_WRITE, number)
    end = time.monotonic() + LIMIT
    while waiting.get_map() and time.monotonic() < end:
        for key, events in waiting.select(max(0.0, end - time.monotonic())):
            caller, number = held[key.data], key.data
            if events & selectors.EVENT_WRITE:
                error = caller.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
                if error:
                    found[number] = [said(error), ""]
                    waiting.unregister(caller)
                else:
                    found[number] = ["open", ""]
                    waiting.modify(caller, selectors.EVENT_READ, number)
                continue
            try:
                words = caller.recv(200).decode()
                found[number] = ["open", words] if words else ["refused", ""]
            except OSError as failed:
                found[number] = [said(failed.errno or 0), ""]
            waiting.unregister(caller)
    # Where nothing was said after all, the connection opened and stalled.
    return [["stalled", ""] if each == ["open", ""] else each for each in found]


if __name__ == "__main__":
    print(json.dumps(called(json.loads(Path(sys.argv[1]).read_text()))))
