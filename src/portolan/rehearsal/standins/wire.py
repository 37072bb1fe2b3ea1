"""Requests and answers over the wire, for the servers that play rented edges and stores; the standard library only.

They run inside the confinement. Nothing else of Portolan's is imported: what an edge or a store does is written down here a second
time, from the same papers, so that a rehearsal can show where the two differ.
"""

import contextlib
import json
import os
import re
import socket
import ssl
import threading
from typing import Any, NamedTuple

MOST_BYTES = 4 << 20
#: The header fields by which stand-ins tell each other who signed, and who passed a request on.
SIGNED, PASSED = "x-stage-signed-by", "x-stage-passed-by"
WORDS = {
    200: "OK",
    204: "No Content",
    301: "Moved Permanently",
    302: "Found",
    303: "See Other",
    307: "Temporary Redirect",
    308: "Permanent Redirect",
    400: "Bad Request",
    403: "Forbidden",
    404: "Not Found",
    405: "Method Not Allowed",
    502: "Bad Gateway",
    504: "Gateway Timeout",
}


class Asked(NamedTuple):
    """A request as it came: the target as written, and header fields in lower case."""

    method: str
    target: str
    headers: dict[str, str]
    body: bytes
    secure: bool
    peer: str
    version: str

    @property
    def path(self) -> str:
        """The path as written."""
        return self.target.partition("?")[0] or "/"

    @property
    def query(self) -> str:
        """The query with its question mark."""
        return self.target[len(self.target.partition("?")[0]) :]

    @property
    def said(self) -> str:
        """The host name as it was sent, without its port."""
        host = self.headers.get("host", "")
        return host if host.endswith("]") else re.sub(r":[0-9]*$", "", host)

    @property
    def host(self) -> str:
        """The host name that counts."""
        return self.said.lower().rstrip(".")

    @property
    def scheme(self) -> str:
        """How it came."""
        return "https" if self.secure else "http"


class Given(NamedTuple):
    """An answer: what is said of it, and the body, whose text names the page."""

    status: int
    body: str = ""
    headers: dict[str, str] = {}


# -- sockets --


def serve(facts: dict[str, Any], answer: Any, tls: ssl.SSLContext | None) -> None:
    """Takes callers at every listener until the stage ends."""
    for port, secure in facts["listens"]:
        for family, address in ((socket.AF_INET, "0.0.0.0"), (socket.AF_INET6, "::")):
            server = socket.socket(family, socket.SOCK_STREAM)
            server.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            if family == socket.AF_INET6:
                server.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
            server.bind((address, port))
            server.listen(64)
            threading.Thread(target=take, args=(server, tls if secure else None, answer), daemon=True).start()


def take(server: socket.socket, tls: ssl.SSLContext | None, answer: Any) -> None:
    """Each caller in a thread of its own."""
    while True:
        caller, peer = server.accept()
        threading.Thread(target=attend, args=(caller, str(peer[0]), tls, answer), daemon=True).start()


def attend(caller: socket.socket, peer: str, tls: ssl.SSLContext | None, answer: Any) -> None:
    """One request, one answer, and the end of the connection."""
    with contextlib.suppress(OSError, ValueError), caller:
        caller.settimeout(10)
        if tls is not None:
            if caller.recv(1, socket.MSG_PEEK) != b"\x16":
                read_request(caller, False, peer)
                send(caller, "GET", Given(400))
                return
            caller = tls.wrap_socket(caller, server_side=True)
        asked = read_request(caller, tls is not None, peer)
        if asked is not None:
            send(caller, asked.method, answer(asked))
        with contextlib.suppress(OSError):
            caller.shutdown(socket.SHUT_WR)
            caller.recv(1)


def read_request(caller: Any, secure: bool, peer: str) -> Asked | None:
    """The request line, the fields and what comes behind; None for what is no request."""
    head = b""
    while b"\r\n\r\n" not in head:
        part = caller.recv(65536)
        if not part or len(head) > 1 << 17:
            return None
        head += part
    head, _, body = head.partition(b"\r\n\r\n")
    first, *lines = head.decode("latin-1").split("\r\n")
    words = first.split(" ")
    if len(words) != 3:
        return None
    headers: dict[str, str] = {}
    for line in lines:
        name, _, value = line.partition(":")
        headers[name.strip().lower()] = value.strip()
    length = int(headers.get("content-length") or 0)
    while len(body) < min(length, MOST_BYTES):
        part = caller.recv(65536)
        if not part:
            break
        body += part
    return Asked(words[0], words[1], headers, body, secure, peer.removeprefix("::ffff:"), words[2])


def send(caller: Any, method: str, given: Given) -> None:
    """An answer over the wire."""
    body = given.body.encode("utf-8")
    lines = [f"HTTP/1.1 {given.status} {WORDS.get(given.status, 'Status')}", f"Content-Length: {len(body)}"]
    lines += [f"{name}: {value}" for name, value in given.headers.items()]
    head = "\r\n".join([*lines, "Connection: close", "", ""]).encode("latin-1", "replace")
    caller.sendall(head + (b"" if method == "HEAD" or given.status in (204, 304) else body))


def wild(text: str) -> "re.Pattern[str]":
    """A pattern with stars and question marks."""
    return re.compile("".join(".*" if c == "*" else "." if c == "?" else re.escape(c) for c in text), re.DOTALL)


def facts_of(words: list[str]) -> dict[str, Any]:
    """The facts of the file that is named; its folder is where all else lies."""
    with open(words[1], encoding="utf-8") as file:
        facts: dict[str, Any] = json.load(file)
    os.chdir(os.path.dirname(os.path.abspath(words[1])))
    return facts


def loaded(which: str) -> ssl.SSLContext:
    """A context for TLS with a certificate of the folder."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(f"{which}.pem", f"{which}.key")
    return context
