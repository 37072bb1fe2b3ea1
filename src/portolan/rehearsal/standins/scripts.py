"""Plays a program that runs scripts (FastCGI 1.0): it gives a script's own text, and says what runners say of scripts that they cannot read."""

import contextlib
import os
import re
import socket
import struct
import sys
import threading
from typing import Any

from portolan.rehearsal.standins.wire import facts_of

#: FastCGI 1.0, section 8: the types of records that matter here, and the header of each.
BEGIN, END, PARAMS, STDIN, STDOUT = 1, 3, 4, 5, 6
HEADER = struct.Struct(">BBHHBx")
_BEFORE = re.compile(r"^proxy:(?:fcgi|balancer)://[^/]*")


def records(caller: socket.socket) -> tuple[int, bytes]:
    """The number of a request and its parameters, read to the end of what it brings along."""
    number, held = 1, b""
    while True:
        head = _exactly(caller, HEADER.size)
        _, kind, number, length, padding = HEADER.unpack(head)
        content = _exactly(caller, length)
        _exactly(caller, padding)
        if kind == PARAMS:
            held += content
        if kind == STDIN and not content:
            return number, held


def _exactly(caller: socket.socket, count: int) -> bytes:
    held = b""
    while len(held) < count:
        part = caller.recv(count - len(held))
        if not part:
            raise OSError("it ended early")
        held += part
    return held


def parameters(held: bytes) -> dict[str, str]:
    """Names and values (FastCGI 1.0, section 3.4)."""
    found: dict[str, str] = {}
    at = 0
    while at < len(held):
        lengths = []
        for _ in range(2):
            wide = held[at] >> 7
            lengths.append(int.from_bytes(held[at : at + 4], "big") & 0x7FFFFFFF if wide else held[at])
            at += 4 if wide else 1
        name, value = held[at : at + lengths[0]], held[at + lengths[0] : at + sum(lengths)]
        found[name.decode("latin-1")] = value.decode("utf-8", "surrogateescape")
        at += sum(lengths)
    return found


def said(script: str) -> tuple[int, str]:
    """Status and text for a script."""
    path = _BEFORE.sub("", script)
    try:
        with open(path, encoding="utf-8", errors="replace") as file:
            return 200, file.read()
    except PermissionError:
        return 403, "Access denied."
    except OSError:
        return 404, "File not found."


def attend(caller: socket.socket) -> None:
    """One request, one answer."""
    with contextlib.suppress(OSError, struct.error), caller:
        caller.settimeout(10)
        number, held = records(caller)
        status, text = said(parameters(held).get("SCRIPT_FILENAME", ""))
        body = f"Status: {status}\r\nContent-Type: text/html\r\n\r\n{text}".encode()[:60_000]
        for kind, content in ((STDOUT, body), (STDOUT, b""), (END, bytes(8))):
            caller.sendall(HEADER.pack(1, kind, number, len(content), 0) + content)


def listeners(facts: dict[str, Any]) -> list[socket.socket]:
    """Every socket at which it listens."""
    found = []
    for address, port in facts["listens"]:
        found.append(socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET, socket.SOCK_STREAM))
        found[-1].setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        found[-1].bind((address, port))
    if facts["socket"]:
        found.append(socket.socket(socket.AF_UNIX, socket.SOCK_STREAM))
        found[-1].bind(facts["socket"])
        os.chmod(facts["socket"], 0o666)
    for each in found:
        each.listen(64)
    return found


def take(server: socket.socket) -> None:
    """Each caller in a thread of its own."""
    while True:
        caller, _ = server.accept()
        threading.Thread(target=attend, args=(caller,), daemon=True).start()


def main() -> None:
    """Plays what the facts say, until the stage ends."""
    for server in listeners(facts_of(sys.argv)):
        threading.Thread(target=take, args=(server,), daemon=True).start()
    threading.Event().wait()
