"""Listens and says who answered whom: answerer.py FILE; the file holds a JSON list of (address or "", port, name)."""

import json
import selectors
import socket
import sys
from pathlib import Path


def main() -> None:
    """Answers until the stage ends."""
    waiting = selectors.DefaultSelector()
    for address, port, name in json.loads(Path(sys.argv[1]).read_text()):
        family = socket.AF_INET if address and ":" not in address else socket.AF_INET6
        server = socket.socket(family, socket.SOCK_STREAM)
        server.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        if family == socket.AF_INET6:
            server.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 0)
        server.bind((address or "::", port))
        server.listen(128)
        waiting.register(server, selectors.EVENT_READ, name)
    Path(f"{sys.argv[1]}.ready").write_text("")
    while True:
        for key, _ in waiting.select():
            caller, peer = key.fileobj.accept()  # type: ignore[union-attr]
            with caller:
                caller.sendall(f"{key.data} {peer[0].removeprefix('::ffff:')}".encode())


if __name__ == "__main__":
    main()
